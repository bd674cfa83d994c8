//! Rules: conditions on a request, and what then happens.
//!
//! A rule is a path pattern and conditions, all of which must hold, and effects. Rules run in order. What they
//! mean is said by [`Rule::fits`], asked of one rule after the other; [`index`] finds the few of many rules
//! whose path can fit at all, and a property test holds the two equal.
//!
//! - [`seen`]: the path as rules see it
//! - [`pattern`]: paths that a rule is about
//! - [`when`]: conditions on facts
//! - [`template`]: texts with places for facts and captures
//! - [`effects`]: what happens; [`Allowed`]: how much a client may still take of what is limited
//! - [`index`]: which rules can fit a path; [`moved`]: many redirects from files, [`csv_line`] by line
//!
//! Running them is [`crate::answer`]'s business.
//!
//! ```
//! use exedra_answering::config::understand;
//! use exedra_answering::facts::{Facts, Known, RecordedFacts};
//! use exedra_answering::rules::{Misfit, Seen, SoFar};
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n\
//!             [[site.rules]]\npath = \"/notices/{year}\"\nwhen = { method = \"GET\" }\nredirect = \"/{year}\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! let rule = &config.sites[0].rules.written()[0];
//! let facts = RecordedFacts::new(Facts { method: Known::Is("POST"), ..Facts::UNKNOWN });
//! let (seen, so_far) = (Seen::new("/notices/2026"), SoFar { user: None, path: "/notices/2026" });
//! assert_eq!(rule.fits(&facts, so_far, &seen).unwrap_err(), Misfit::Condition(0));
//! assert_eq!(rule.fits(&facts, so_far, &Seen::new("/tides")).unwrap_err(), Misfit::Path);
//! ```

mod allowed;
pub mod cover;
pub mod csv_line;
pub mod effects;
pub mod index;
pub mod moved;
pub mod pattern;
pub mod seen;
pub mod template;
pub mod when;

pub use allowed::Allowed;
pub use effects::{Answering, Cors, Effects, Lifetime, Limit};
pub use moved::Moved;
pub use pattern::{Captures, Pattern};
pub use seen::Seen;
pub use template::{Template, Values};
pub use when::{Condition, Holds};

use crate::facts::{FactName, RecordedFacts};
use index::Index;
use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;

/// A rule.
#[derive(Debug, Clone)]
pub struct Rule {
    /// What it is called; where it has no name, which of the rules it is.
    pub name: Box<str>,
    /// Where it is written.
    pub place: Range<usize>,
    /// Where its path is written, or it where it names none.
    pub path_place: Range<usize>,
    /// Where it is written what it sends to or puts in place, or it where it does neither.
    pub target_place: Range<usize>,
    /// The paths it is about; all of them, where it names none.
    pub path: Option<Pattern>,
    /// What must hold besides.
    pub when: Vec<Condition>,
    /// What happens.
    pub effects: Effects,
}

/// What a decision under way has come to, which conditions see instead of what was asked for.
#[derive(Debug, Clone, Copy)]
pub struct SoFar<'s> {
    /// Who has signed in.
    pub user: Option<&'s str>,
    /// The whole path as rules see it, which an earlier rule may have changed.
    pub path: &'s str,
}

/// Why a rule does not fit a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Misfit {
    /// Its pattern is not one of the path.
    Path,
    /// This condition does not hold: which of them.
    Condition(usize),
}

impl Rule {
    /// Whether the rule fits, and what its pattern captures of a path: that of the folder the rule stands in.
    ///
    /// A condition on a fact that is not known does not hold; the facts remember that it was asked for.
    pub fn fits(
        &self,
        facts: &RecordedFacts<'_>,
        so_far: SoFar<'_>,
        path: &Seen<'_>,
    ) -> Result<Captures, Misfit> {
        let captures = match &self.path {
            Some(pattern) => pattern.capture(path).ok_or(Misfit::Path)?,
            None => Captures::default(),
        };
        for (nth, condition) in self.when.iter().enumerate() {
            match condition.holds(facts, so_far) {
                Holds::Yes => {}
                Holds::No => return Err(Misfit::Condition(nth)),
                Holds::Unknown => {
                    facts.record_lack(&condition.fact);
                    return Err(Misfit::Condition(nth));
                }
            }
        }
        Ok(captures)
    }

    /// All facts that its conditions and templates ask for.
    pub fn asks_for(&self) -> impl Iterator<Item = &FactName> {
        let conditions = self.when.iter().map(|condition| &condition.fact);
        conditions.chain(self.effects.templates().flat_map(Template::facts))
    }
}

/// Rules in their order, with their index: those that are written out, and then those of files of redirects.
#[derive(Debug, Clone, Default)]
pub struct RuleSet {
    rules: Vec<Rule>,
    moved: Arc<Moved>,
    index: Index,
}

impl RuleSet {
    /// Makes rules ready to be run.
    pub fn new(rules: Vec<Rule>) -> Self {
        Self::with_moved(rules, Moved::default())
    }

    /// The same, with redirects from files behind them.
    pub fn with_moved(rules: Vec<Rule>, moved: Moved) -> Self {
        let index = Index::new(&rules);
        RuleSet { rules, moved: Arc::new(moved), index }
    }

    /// Those that are written out: the first ones.
    pub fn written(&self) -> &[Rule] {
        &self.rules
    }

    /// Those from files of redirects. Their numbers go on where those of the others end.
    pub fn moved(&self) -> &Moved {
        &self.moved
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.rules.len() + self.moved.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty() && self.moved.is_empty()
    }

    /// One of them, by its number.
    pub fn get(&self, number: usize) -> Option<Cow<'_, Rule>> {
        match self.rules.get(number) {
            Some(rule) => Some(Cow::Borrowed(rule)),
            None => self.moved.rule(number - self.rules.len()).map(Cow::Owned),
        }
    }

    /// All of them. Those from files are made for it: there may be very many.
    pub fn iter(&self) -> impl Iterator<Item = Cow<'_, Rule>> {
        (0..self.len()).filter_map(|number| self.get(number))
    }

    /// Numbers of the rules whose path fits, or may fit, from the `first` on, in order.
    pub fn candidates(&self, path: &Seen<'_>, first: usize) -> index::Candidates {
        let mut found = self.index.candidates(path.text(), first);
        found.extend(self.moved_to_ask(path, first));
        found
    }

    /// Numbers of all rules that are to be asked about a path where it is of interest why others do not fit: those from
    /// files are about one path each, and say nothing to others.
    pub fn to_explain(&self, path: &Seen<'_>, first: usize) -> index::Candidates {
        let written = first as u32..self.rules.len() as u32;
        written.chain(self.moved_to_ask(path, first)).collect()
    }

    fn moved_to_ask(&self, path: &Seen<'_>, first: usize) -> Option<u32> {
        if self.moved.is_empty() {
            return None;
        }
        let number = self.rules.len() + self.moved.first_of(path.text())?;
        (number >= first).then_some(number as u32)
    }
}
