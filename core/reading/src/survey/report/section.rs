//! What a section of a report is: a name, and how its table is made of a survey.

use super::context::Context;
use crate::classify::agents::Agent;
use crate::survey::counted::Survey;
use crate::survey::plan::Part;
use crate::survey::ranking::Ranking;
use crate::survey::visitors_of_entries::Listed;
use exedra_common::TextColumn;
use exedra_common::tables::{Table, TableColumn};
use std::borrow::Cow;

/// A section of a report.
pub struct Section {
    /// Its name, also that of its table.
    pub name: &'static str,
    /// Its title for people.
    pub title: &'static str,
    /// What must be counted for it.
    pub parts: &'static [Part],
    /// Whether it is shown only when it is asked for by name: others say the same more shortly.
    pub on_request: bool,
    /// Whether it stands alone beside another period: its rows are dates, or are of both periods already.
    pub alone: bool,
    /// How many rows it must have to be worth showing where nobody asked for it.
    pub least_rows: usize,
    /// Whether it leads its question, so that it is shown in full length where others are shortened.
    pub leads: bool,
    /// How its table is made.
    pub made: Made,
}

/// How the table of a section is made.
pub enum Made {
    /// Whole texts, ranked.
    Texts {
        /// The column of the texts.
        column: TextColumn,
        /// The list by which their visitors are known.
        listed: Listed,
        /// Where they were counted.
        of: Counted,
    },
    /// What follows from texts, ranked.
    Follows(Follows),
    /// Some other way.
    By(fn(&Context<'_>) -> Table),
}

/// How a list of values is made of texts that were counted.
pub struct Follows {
    /// The column of the values.
    pub column: fn() -> TableColumn,
    /// The list by which visitors of the texts are known.
    pub listed: Listed,
    /// Where the texts were counted.
    pub of: Counted,
    /// What follows from a text.
    pub value: From,
    /// Texts by which visitors are known, and what follows from them, where these are others.
    pub visitors: Option<(Counted, OfText)>,
    /// Counts of values that do not belong to them.
    pub taken_out: Option<Counted>,
    /// What values are called, where they are codes: the name and title of the column, and the name of each.
    pub called: Option<(&'static str, &'static str, NameOf)>,
}

/// What follows from a text, if anything does.
pub type OfText = fn(&Context<'_>, &str) -> Option<Value>;

/// The name of a code, if it has one.
pub type NameOf = fn(&str) -> Option<&'static str>;

/// Where texts were counted.
pub type Counted = fn(&Survey) -> &Ranking;

/// What a value follows from.
#[derive(Clone, Copy)]
pub enum From {
    /// A text. An empty value is one that nobody knows.
    Text(OfText),
    /// What an agent says.
    Agent {
        /// What of it.
        said: fn(&Agent) -> Option<Value>,
        /// Whether agents that are too rare to be looked at are a value of their own.
        names_rare: bool,
    },
}

impl Follows {
    pub(super) const fn new(column: fn() -> TableColumn, listed: Listed, of: Counted, value: OfText) -> Self {
        Follows {
            column,
            listed,
            of,
            value: From::Text(value),
            visitors: None,
            taken_out: None,
            called: None,
        }
    }

    /// The same, whose visitors are known by other texts.
    pub(super) const fn with_visitors(
        mut self,
        texts: Counted,
        value: fn(&Context<'_>, &str) -> Option<Value>,
    ) -> Self {
        self.visitors = Some((texts, value));
        self
    }

    /// The same without what was counted elsewhere by the same values.
    pub(super) const fn without(mut self, counted: Counted) -> Self {
        self.taken_out = Some(counted);
        self
    }

    /// The same with the name of each value beside it.
    pub(super) const fn called(mut self, name: &'static str, title: &'static str, of: NameOf) -> Self {
        self.called = Some((name, title, of));
        self
    }

    pub(super) const fn of_agents(
        column: fn() -> TableColumn,
        said: fn(&Agent) -> Option<Value>,
        names_rare: bool,
    ) -> Self {
        let value = From::Agent { said, names_rare };
        Follows {
            column,
            listed: Listed::Agents,
            of: |survey| &survey.agents,
            value,
            visitors: None,
            taken_out: None,
            called: None,
        }
    }
}

/// What follows from a text.
pub type Value = Cow<'static, str>;

impl Section {
    pub(super) const fn new(
        name: &'static str,
        title: &'static str,
        parts: &'static [Part],
        made: Made,
    ) -> Self {
        Section { name, title, parts, on_request: false, alone: false, least_rows: 1, leads: false, made }
    }

    pub(super) const fn on_request(mut self) -> Self {
        self.on_request = true;
        self
    }

    pub(super) const fn alone(mut self) -> Self {
        self.alone = true;
        self
    }

    /// The same, shown only where there are several rows: one alone says nothing.
    pub(super) const fn of_several(mut self) -> Self {
        self.least_rows = 2;
        self
    }

    pub(super) const fn leads(mut self) -> Self {
        self.leads = true;
        self
    }

    /// Whether it is a list of what follows from texts.
    pub fn follows(&self) -> bool {
        matches!(self.made, Made::Follows(_))
    }
}
