//! What a report can be made of: the one list of its sections, by the questions that they answer.

use crate::Failure;

/// A section of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Section {
    /// Its name, also that of its list in other forms.
    pub name: &'static str,
    /// The question that it belongs to.
    pub question: &'static str,
}

/// Every section, in the order in which they are shown.
pub const SECTIONS: &[Section] = &[
    section("days", "traffic"),
    section("hours", "traffic"),
    section("visits", "traffic"),
    section("paths", "traffic"),
    section("kinds", "traffic"),
    section("first_pages", "traffic"),
    section("last_pages", "traffic"),
    section("clients", "people"),
    section("crawlers", "people"),
    section("browsers", "people"),
    section("systems", "people"),
    section("devices", "people"),
    section("agents", "people"),
    section("referring_sites", "people"),
    section("referring_pages", "people"),
    section("search_phrases", "people"),
    section("statuses", "trouble"),
    section("missing", "trouble"),
    section("extensions", "transfer"),
    section("embedding_sites", "transfer"),
];

/// Sections that are shown only when they are asked for by name: others say the same more shortly.
const ON_REQUEST: [&str; 5] = ["agents", "referring_pages", "devices", "last_pages", "extensions"];

const fn section(name: &'static str, question: &'static str) -> Section {
    Section { name, question }
}

/// Which sections are shown.
#[derive(Debug, Default)]
pub struct Shown {
    names: Vec<&'static str>,
    /// Whether lists beside larger ones are shown only in part: where nobody asked for anything in particular.
    pub shortens: bool,
}

impl Shown {
    /// Understands names of sections and questions; none at all means whatever is usual.
    pub fn understand(asked: &[String]) -> Result<Self, Failure> {
        if asked.is_empty() {
            let usual = SECTIONS.iter().map(|section| section.name).filter(|name| !ON_REQUEST.contains(name));
            return Ok(Shown { names: usual.collect(), shortens: true });
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
        Ok(Shown { names: shown, shortens: false })
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
