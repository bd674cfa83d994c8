//! The named layouts.

use super::template::{self, Piece, TemplateError};

/// Layouts that go by a name, the richest first.
pub const NAMED: &[(&str, &str)] = &[
    (
        "full",
        r#"{client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes} "{referrer}" "{agent}" {scheme} {host} {duration:microseconds} {encoding} {full_bytes} "{rule}" {time:milliseconds}"#,
    ),
    (
        "combined",
        r#"{client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes} "{referrer}" "{agent}""#,
    ),
    ("common", r#"{client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes}"#),
];

/// How one line of a log is written.
#[derive(Debug, Clone)]
pub struct Layout {
    /// Its name, or the template itself where it has none.
    pub name: String,
    /// Its pieces, in order.
    pub pieces: Vec<Piece>,
}

impl Layout {
    /// The layout of that name, or the template that the text is.
    pub fn understand(text: &str) -> Result<Layout, TemplateError> {
        let template = NAMED.iter().find(|(name, _)| *name == text).map_or(text, |(_, template)| template);
        Ok(Layout { name: text.to_owned(), pieces: template::parse(template)? })
    }

    /// The layout that the service writes unless told otherwise.
    pub fn full() -> Layout {
        Layout::understand("full").unwrap_or_else(|_| Layout::bare())
    }

    /// A layout without any place: for files whose lines are not made by layouts.
    pub fn bare() -> Layout {
        Layout { name: String::new(), pieces: Vec::new() }
    }

    /// What a file in this layout begins with.
    pub fn heading(&self) -> Vec<u8> {
        Vec::new()
    }

    /// All named layouts, the richest first.
    pub fn all_named() -> Vec<Layout> {
        NAMED.iter().filter_map(|(name, _)| Layout::understand(name).ok()).collect()
    }
}
