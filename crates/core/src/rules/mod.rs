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
//! - [`effects`]: what happens
//! - [`index`]: which rules can fit a path
//!
//! Running them is [`crate::answer`]'s business.

pub mod cover;
pub mod effects;
pub mod index;
pub mod pattern;
pub mod seen;
pub mod template;
pub mod when;

pub use effects::{Answering, Cors, Effects, Lifetime, Limit};
pub use pattern::{Captures, Pattern};
pub use seen::Seen;
pub use template::{Template, Values};
pub use when::{Condition, Holds};

use crate::facts::{FactName, RecordedFacts};
use index::Index;
use std::ops::Range;

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
    /// A condition on a fact that is not known does not hold; `unsure` is told.
    pub fn fits(
        &self,
        facts: &RecordedFacts<'_>,
        so_far: SoFar<'_>,
        path: &Seen<'_>,
        unsure: &mut bool,
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
                    *unsure = true;
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

/// Rules in their order, with their index.
#[derive(Debug, Clone, Default)]
pub struct RuleSet {
    rules: Vec<Rule>,
    index: Index,
}

impl RuleSet {
    /// Makes rules ready to be run.
    pub fn new(rules: Vec<Rule>) -> Self {
        let index = Index::new(&rules);
        RuleSet { rules, index }
    }

    /// All of them.
    pub fn all(&self) -> &[Rule] {
        &self.rules
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }

    /// Numbers of the rules whose path fits, or may fit, from the `first` on, in order.
    pub fn candidates(&self, path: &Seen<'_>, first: usize) -> index::Candidates {
        self.index.candidates(path.text(), first)
    }
}
