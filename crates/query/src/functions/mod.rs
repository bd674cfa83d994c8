//! The one list of functions: what the job needs beside SQL, and those of the engine that can do no harm.
//!
//! Documentation, completion, `exedra functions` and what the engine knows are made from it. A function of ours is a file here and a
//! line in [`own`]; one of the engine's is a line in [`list`].
//!
//! - [`list`]: those of the engine that are offered, each with what it does and an example
//! - [`every`]: stretches of time; [`addresses`]: networks; [`urls`]: parts of addresses; [`statuses`]: classes of statuses
//! - [`visits`]: which visit a request belongs to; [`joined`]: texts made of texts, within bounds
//! - [`per_text`]: what is worked out once for each distinct text
//!
//! ```
//! use exedra_query::functions::all;
//! let every = all().find(|function| function.name == "every").unwrap();
//! assert_eq!(every.usage, "every(time, length)");
//! assert!(every.example.contains("every(time, '5 minutes')"));
//! ```

mod addresses;
mod every;
mod joined;
mod list;
mod per_text;
mod statuses;
mod urls;
mod visits;

pub use addresses::{IN_NETWORK, network_of};
pub use joined::JOINED;
pub use visits::{VISIT_OF, Visits};

use datafusion::error::Result;
use datafusion::execution::SessionStateDefaults;
use datafusion::logical_expr::{AggregateUDF, ScalarUDF, WindowUDF};
use std::sync::Arc;

/// A function as people are told of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Function {
    /// Its name.
    pub name: &'static str,
    /// How it is written.
    pub usage: &'static str,
    /// What it gives, in one sentence.
    pub meaning: &'static str,
    /// A statement with it, which can be run.
    pub example: &'static str,
    /// What it is given.
    pub kind: Kind,
    /// Whether SQL as such does not know it.
    pub is_own: bool,
}

/// What a function is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// Values of one row.
    Row,
    /// Those of a group of rows.
    Group,
    /// Those of the rows around it: written with `over (…)`.
    Window,
}

impl Kind {
    /// Its name for people.
    pub fn name(self) -> &'static str {
        match self {
            Kind::Row => "row",
            Kind::Group => "group",
            Kind::Window => "window",
        }
    }
}

/// Written in a statement, and replaced before the engine sees it: whether a request is of a person and not of a program.
pub const IS_PERSON: &str = "is_person";

const OWN: &[Function] = &[
    every::EVERY,
    every::WEEKDAY,
    addresses::NETWORK,
    addresses::WITHIN,
    statuses::CLASS,
    statuses::WORDS,
    urls::HOST,
    urls::PATH,
    urls::PARAMETER,
    urls::DECODED,
    Function {
        name: IS_PERSON,
        usage: "is_person()",
        meaning: "Whether a person asked, and not a bot or crawler: the same as crawler is null.",
        example: "select count(*) as requests from requests where is_person()",
        kind: Kind::Row,
        is_own: true,
    },
    visits::VISIT,
];

/// All functions that statements may have: first those that are made for logs.
pub fn all() -> impl Iterator<Item = &'static Function> {
    OWN.iter().chain(list::OF_THE_ENGINE)
}

/// All functions as an engine is told of them.
pub struct EngineFunctions {
    /// Of values of one row.
    pub row: Vec<Arc<ScalarUDF>>,
    /// Of a group of rows.
    pub group: Vec<Arc<AggregateUDF>>,
    /// Of the rows around one.
    pub window: Vec<Arc<WindowUDF>>,
}

/// All of them, as an engine takes them.
///
/// # Errors
/// When one of the engine's that is offered within bounds is not there.
pub fn for_engine() -> Result<EngineFunctions> {
    let is_listed = |name: &str, kind: Kind| {
        list::OF_THE_ENGINE.iter().any(|function| function.name == name && function.kind == kind)
    };
    // The engine writes some of them itself where it makes a statement simpler.
    let is_needed = |name: &str| list::NEEDED.contains(&name);
    let mut row = SessionStateDefaults::default_scalar_functions();
    row.retain(|function| is_listed(function.name(), Kind::Row) || is_needed(function.name()));
    let own: [ScalarUDF; 11] = [
        every::Every::default().into(),
        every::Weekday::default().into(),
        addresses::Network::default().into(),
        addresses::InNetwork::default().into(),
        statuses::Class::default().into(),
        statuses::Words::default().into(),
        urls::Part::host().into(),
        urls::Part::path().into(),
        urls::Parameter::default().into(),
        urls::Part::decoded().into(),
        joined::Joined::default().into(),
    ];
    row.extend(own.into_iter().map(Arc::new));
    row.retain(|function| function.name() != every::DATE_TRUNC);
    row.push(Arc::new(every::DateTrunc::default().into()));
    row.extend(joined::bounded(&SessionStateDefaults::default_scalar_functions()));
    let mut group = SessionStateDefaults::default_aggregate_functions();
    group.retain(|function| is_listed(function.name(), Kind::Group));
    let mut window = SessionStateDefaults::default_window_functions();
    window.retain(|function| is_listed(function.name(), Kind::Window));
    window.push(Arc::new(visits::VisitOf::default().into()));
    Ok(EngineFunctions { row, group, window })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn what_is_listed_is_there_and_what_is_there_is_listed() {
        let there = for_engine().unwrap();
        let names = there.row.iter().map(|one| one.name().to_owned());
        let names = names.chain(there.group.iter().map(|one| one.name().to_owned()));
        let there: BTreeSet<String> =
            names.chain(there.window.iter().map(|one| one.name().to_owned())).collect();
        let listed: BTreeSet<String> = all().map(|function| function.name.to_owned()).collect();
        let missing: Vec<&String> = listed.difference(&there).filter(|name| *name != IS_PERSON).collect();
        assert_eq!(missing, Vec::<&String>::new(), "listed, and not there");
        let hidden: Vec<&String> = there
            .difference(&listed)
            .filter(|name| *name != JOINED && !list::NEEDED.contains(&name.as_str()))
            .collect();
        assert_eq!(hidden, Vec::<&String>::new(), "there, and not listed");
    }
}
