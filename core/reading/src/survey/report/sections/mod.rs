//! What a report can be made of: each section is a definition that gives one table.
//!
//! A new section is one entry in the file of its question; every form of output and the console then show it.
//!
//! ```
//! use exedra_reading::survey::report::{Question, Shown};
//! use exedra_reading::survey::report::sections::named;
//! let section = named("paths").unwrap();
//! let shown = Shown::understand(&["paths"]).unwrap();
//! assert!(shown.has(section) && shown.of(Question::Trouble).next().is_none());
//! assert!(Shown::understand(&["pathz"]).unwrap_err().to_string().contains("paths"));
//! ```

mod people;
mod traffic;
mod transfer;
mod trouble;

use super::section::Section;
use crate::survey::plan::{Part, Parts};
use exedra_common::text::nearest;
use thiserror::Error;

/// A question that sections answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Question {
    /// How much, when, what?
    Traffic,
    /// Who comes, from where, with what?
    People,
    /// What fails, for whom?
    Trouble,
    /// What does it cost?
    Transfer,
}

impl Question {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Question; 4] =
        [Question::Traffic, Question::People, Question::Trouble, Question::Transfer];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Question::Traffic => "traffic",
            Question::People => "people",
            Question::Trouble => "trouble",
            Question::Transfer => "transfer",
        }
    }

    /// Its title for people.
    pub fn title(self) -> &'static str {
        match self {
            Question::Traffic => "Traffic",
            Question::People => "People",
            Question::Trouble => "Trouble",
            Question::Transfer => "Transfer",
        }
    }

    /// The sections that answer it, in the order in which they are shown.
    pub fn sections(self) -> &'static [Section] {
        match self {
            Question::Traffic => traffic::SECTIONS,
            Question::People => people::SECTIONS,
            Question::Trouble => trouble::SECTIONS,
            Question::Transfer => transfer::SECTIONS,
        }
    }
}

/// Every section.
pub fn all() -> impl Iterator<Item = &'static Section> {
    Question::ALL.into_iter().flat_map(|question| question.sections().iter())
}

/// The section of a name.
pub fn named(name: &str) -> Option<&'static Section> {
    all().find(|section| section.name == name)
}

/// Which sections are shown.
#[derive(Debug, Clone, Default)]
pub struct Shown {
    /// Names of sections; none at all means whatever is usual.
    asked: Vec<&'static str>,
    /// Questions of which sections were asked for; what they have beside those is made and not shown.
    questions: Vec<Question>,
    /// Sections that were asked for by their own names.
    named: Vec<&'static str>,
    /// Whether whatever can be made is made, shown or not.
    makes_all: bool,
}

/// A name that no section and no question has.
#[derive(Debug, Clone, Error, PartialEq, Eq)]
#[error("a report has no section `{name}`{} There is {}", nearest.map_or(".".to_owned(), |near| format!(": did you mean `{near}`?")), known.join(", "))]
pub struct UnknownSection {
    name: String,
    nearest: Option<&'static str>,
    known: Vec<&'static str>,
}

impl Shown {
    /// Understands names of sections and questions; none at all means whatever is usual. A question stands for those of its
    /// sections that need not be asked for by name.
    pub fn understand<S: AsRef<str>>(asked: &[S]) -> Result<Self, UnknownSection> {
        let mut shown = Shown::default();
        for name in asked.iter().map(AsRef::as_ref) {
            let of_question = Question::ALL.into_iter().find(|question| question.name() == name);
            match (of_question, named(name)) {
                (Some(question), _) => {
                    let usual = question.sections().iter().filter(|section| !section.on_request);
                    shown.asked.extend(usual.map(|section| section.name));
                    shown.questions.push(question);
                }
                (None, Some(section)) => {
                    shown.asked.push(section.name);
                    shown.named.push(section.name);
                }
                (None, None) => return Err(UnknownSection::new(name)),
            }
        }
        Ok(shown)
    }

    /// Whatever is usual is shown, and everything there is can be had.
    pub fn everything() -> Self {
        Shown { makes_all: true, ..Shown::default() }
    }

    /// Whether somebody asked for sections in particular.
    pub fn is_chosen(&self) -> bool {
        !self.asked.is_empty()
    }

    /// Whether tables are made that are not shown.
    pub fn makes_all(&self) -> bool {
        self.makes_all
    }

    /// The names that were asked for, in their order.
    pub fn names(&self) -> &[&'static str] {
        &self.asked
    }

    /// Whether a section is shown.
    pub fn has(&self, section: &Section) -> bool {
        match self.asked.is_empty() {
            true => !section.on_request,
            false => self.asked.contains(&section.name),
        }
    }

    /// How many rows a section must have to be shown: whoever names it wants to see any.
    pub fn least_rows(&self, section: &Section) -> usize {
        if self.named.contains(&section.name) { 1 } else { section.least_rows }
    }

    /// The sections of a question that are shown.
    pub fn of(&self, question: Question) -> impl Iterator<Item = &'static Section> {
        question.sections().iter().filter(|section| self.has(section))
    }

    /// Whether a section is asked for, to be shown or beside what is.
    fn wants(&self, question: Question, section: &Section) -> bool {
        self.makes_all || self.questions.contains(&question) || self.has(section)
    }

    fn those(&self, also: &'static [&'static str]) -> impl Iterator<Item = &'static Section> {
        Question::ALL.into_iter().flat_map(move |question| {
            let sections = question.sections().iter();
            sections.filter(move |section| self.wants(question, section) || also.contains(&section.name))
        })
    }

    /// The sections that are made: those that are shown, others of the same questions, and what stands at the head of every
    /// report.
    pub fn made(&self) -> impl Iterator<Item = &'static Section> {
        self.those(&crate::survey::report::HEAD)
    }

    /// What must be counted for what is asked for: whatever is usual, where that is nothing in particular. The head of a report does
    /// with what has been counted, and with visitors.
    pub fn parts(&self) -> Parts {
        if !self.is_chosen() {
            return Parts::usual();
        }
        self.those(&[]).flat_map(|section| section.parts.iter().copied()).chain([Part::Visitors]).collect()
    }
}

impl UnknownSection {
    fn new(name: &str) -> Self {
        let names =
            || Question::ALL.iter().map(|question| question.name()).chain(all().map(|section| section.name));
        let mut known: Vec<&str> = names().collect();
        known.sort_unstable();
        UnknownSection { name: name.to_owned(), nearest: nearest(name, names()), known }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_question_shows_what_is_usual_of_it_and_has_the_rest() {
        let (week, sites) = (named("week").unwrap(), named("sites").unwrap());
        let traffic = Shown::understand(&["traffic"]).unwrap();
        assert!(!traffic.has(week) && traffic.made().any(|made| made.name == "week"));
        assert!(traffic.has(sites) && traffic.least_rows(sites) == sites.least_rows && sites.least_rows > 1);
        assert!(!traffic.made().any(|made| made.name == "clients"));

        let by_name = Shown::understand(&["week", "sites"]).unwrap();
        assert!(by_name.has(week) && by_name.least_rows(sites) == 1);
        assert!(!by_name.made().any(|made| made.name == "paths"));
        assert!(Shown::understand(&["trafic"]).unwrap_err().to_string().contains("did you mean `traffic`?"));
    }
}
