//! What a report can be made of: the one list of its sections, by the questions that they answer.

use crate::Failure;
use exedra_core::survey::{Part, Parts};

/// A section of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Section {
    /// Its name, also that of its list in other forms.
    pub name: &'static str,
    /// The question that it belongs to.
    pub question: &'static str,
    /// What must be counted for it.
    parts: &'static [Part],
}

/// Every section, in the order in which they are shown.
pub const SECTIONS: &[Section] = &[
    section("days", "traffic", &[Part::Visitors, Part::Visits]),
    section("months", "traffic", &[Part::Visitors]),
    section("weekdays", "traffic", &[]),
    section("hours", "traffic", &[]),
    section("visits", "traffic", &[Part::Visits]),
    section("paths", "traffic", &[Part::Paths]),
    section("kinds", "traffic", &[Part::Paths]),
    section("first_pages", "traffic", &[Part::Visits]),
    section("last_pages", "traffic", &[Part::Visits]),
    section("movers", "traffic", &[Part::Paths]),
    section("clients", "people", &[Part::Clients]),
    section("users", "people", &[Part::Users]),
    section("countries", "people", &[Part::Clients]),
    section("crawlers", "people", &[Part::Agents]),
    section("browsers", "people", &[Part::Agents]),
    section("systems", "people", &[Part::Agents]),
    section("devices", "people", &[Part::Agents]),
    section("agents", "people", &[Part::Agents]),
    section("linking_sites", "people", &[Part::Referrers]),
    section("linking_pages", "people", &[Part::Referrers]),
    section("search_phrases", "people", &[Part::Referrers]),
    section("sites", "traffic", &[]),
    section("servers", "traffic", &[]),
    section("statuses", "trouble", &[]),
    section("missing", "trouble", &[Part::Missing, Part::Paths, Part::Referrers]),
    section("slow", "trouble", &[Part::Durations, Part::Paths]),
    section("slow_minutes", "trouble", &[Part::Durations]),
    section("extensions", "transfer", &[Part::Paths]),
    section("encodings", "transfer", &[Part::Encodings]),
    section("embedding_sites", "transfer", &[Part::Referrers]),
];

/// Sections that are shown only when they are asked for by name: others say the same more shortly.
const ON_REQUEST: [&str; 8] =
    ["agents", "linking_pages", "devices", "last_pages", "extensions", "months", "weekdays", "slow_minutes"];

const fn section(name: &'static str, question: &'static str, parts: &'static [Part]) -> Section {
    Section { name, question, parts }
}

/// Which sections are shown.
#[derive(Debug, Default)]
pub struct Shown {
    names: Vec<&'static str>,
    /// Whether somebody asked for them in particular.
    is_chosen: bool,
    /// Whether lists beside larger ones are shown only in part: where nobody asked for anything in particular.
    pub shortens: bool,
}

impl Shown {
    /// Understands names of sections and questions; none at all means whatever is usual.
    pub fn understand(asked: &[String]) -> Result<Self, Failure> {
        if asked.is_empty() {
            let usual = SECTIONS.iter().map(|section| section.name).filter(|name| !ON_REQUEST.contains(name));
            return Ok(Shown { names: usual.collect(), is_chosen: false, shortens: true });
        }
        let mut shown = Vec::new();
        for name in asked {
            let found = SECTIONS.iter().filter(|section| section.name == name || section.question == name);
            let before = shown.len();
            shown.extend(found.map(|section| section.name));
            if shown.len() == before {
                let names = || SECTIONS.iter().flat_map(|section| [section.question, section.name]);
                let near = exedra_core::config::nearest(name, names());
                let near = near.map_or(String::new(), |near| format!(": did you mean `{near}`?"));
                let mut all: Vec<&str> = names().collect();
                all.sort_unstable();
                all.dedup();
                return Err(Failure(format!(
                    "a report has no section `{name}`{near} There is {}",
                    all.join(", ")
                )));
            }
        }
        Ok(Shown { names: shown, is_chosen: true, shortens: false })
    }

    /// What must be counted to show them: everything, where nobody asked for anything in particular. Visitors stand at the
    /// head of every report.
    pub fn parts(&self) -> Parts {
        if !self.is_chosen {
            return Parts::everything();
        }
        let shown = SECTIONS.iter().filter(|section| self.has(section.name));
        shown.flat_map(|section| section.parts.iter().copied()).chain([Part::Visitors]).collect()
    }

    /// Whether a section is shown.
    pub fn has(&self, name: &str) -> bool {
        self.names.contains(&name)
    }

    /// The sections, in the order in which they were asked for.
    pub fn names(&self) -> &[&'static str] {
        &self.names
    }
}
