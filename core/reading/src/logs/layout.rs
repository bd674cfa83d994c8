//! The named layouts.
//!
//! ```
//! use exedra_reading::logs::Layout;
//! let quay = Layout::called("quay", "{client} {time:rfc3339} {path} {status}").unwrap();
//! assert_eq!(quay.name, "quay");
//! assert!(Layout::understand("{clientt}").unwrap_err().to_string().contains("did you mean `client`?"));
//! assert!(Layout::all_named().iter().any(Layout::is_json));
//! ```

use super::template::{self, Field, Piece, TemplateError};
use exedra_common::columns::Unit;

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
    (
        "json",
        r#"{{"time":"{time:rfc3339}","client":"{client}","user":"{user}","method":"{method}","scheme":"{scheme}","host":"{host}","path":"{path}","query":"{query}","protocol":"{protocol}","status":{status},"bytes":{bytes},"full_bytes":{full_bytes},"duration_us":{duration:microseconds},"referrer":"{referrer}","agent":"{agent}","encoding":"{encoding}","rule":"{rule}"}}"#,
    ),
    (
        "extended",
        r#"{time:%Y-%m-%d %H:%M:%S%.3f} {client} {user} {method} {path} {query} {protocol} {status} {bytes} {duration:seconds} "{referrer}" "{agent}" {scheme} {host} {encoding} {full_bytes} "{rule}""#,
    ),
    (
        "combined with host",
        r#"{host} {client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes} "{referrer}" "{agent}""#,
    ),
    ("common", r#"{client} {skip} {user} [{time}] "{method} {target} {protocol}" {status} {bytes}"#),
    ("pairs", "{pairs}"),
];

/// What a file in the layout `extended` begins with: its places under the names of the W3C draft, and under
/// `x-` names where that has none.
pub(super) const EXTENDED_HEADING: &str = "#Version: 1.0\n#Fields: date time c-ip x-user cs-method cs-uri-stem cs-uri-query \
     x-protocol sc-status bytes time-taken cs(Referer) cs(User-Agent) x-scheme cs(Host) sc(Content-Encoding) \
     x-full-bytes x-rule\n";

/// Whether a layout goes by that name.
pub fn is_named(name: &str) -> bool {
    NAMED.iter().any(|(named, _)| *named == name)
}

/// How one line of a log is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// Its name, or the template itself where it has none.
    pub name: String,
    /// The template.
    pub template: String,
    /// Its pieces, in order.
    pub pieces: Vec<Piece>,
    /// What a template cannot say.
    pub hints: Hints,
}

/// What else is known of the lines of a log.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Hints {
    /// An instant that is not long before any of its requests, for times that do not say their year or their day: when the
    /// file was last written to (milliseconds since 1970 UTC).
    pub near: Option<i64>,
    /// What durations count whose names do not say it.
    pub durations: Option<Unit>,
    /// The line that names the columns, where there is one: it is no request.
    pub heading: Option<String>,
    /// The key of a JSON object in which the line itself stands as a text.
    pub within: Option<String>,
    /// What keys of one's own mean: the key, and a place as in a template (`client`, `time:rfc3339`).
    pub keys: Vec<(String, String)>,
}

impl Layout {
    /// The layout of that name, or the template that the text is.
    pub fn understand(text: &str) -> Result<Layout, TemplateError> {
        let template = NAMED.iter().find(|(name, _)| *name == text).map_or(text, |(_, template)| template);
        let pieces = template::parse(template)?;
        Ok(Layout { name: text.to_owned(), template: template.to_owned(), pieces, hints: Hints::default() })
    }

    /// A layout of one's own that goes by a name.
    pub fn called(name: &str, template: &str) -> Result<Layout, TemplateError> {
        Ok(Layout {
            name: name.to_owned(),
            template: template.to_owned(),
            pieces: template::parse(template)?,
            hints: Hints::default(),
        })
    }

    /// The layout that the service writes unless told otherwise.
    pub fn full() -> Layout {
        Layout::understand("full").unwrap_or_else(|_| Layout::bare())
    }

    /// A layout without any place: for files whose lines are not made by layouts.
    pub fn bare() -> Layout {
        Layout { name: String::new(), template: String::new(), pieces: Vec::new(), hints: Hints::default() }
    }

    /// The same, with what else is known.
    pub fn with(self, hints: Hints) -> Layout {
        Layout { hints, ..self }
    }

    /// Whether its lines say when.
    pub fn has_time(&self) -> bool {
        let is_named = |piece: &Piece| matches!(piece, Piece::Place(Field::Json | Field::Pairs));
        template::has_time_somewhere(&self.pieces) || self.pieces.iter().any(is_named)
    }

    /// Whether its lines cannot be written: they name their values, stand in an object of somebody else's, or do not say when.
    pub fn is_for_reading_only(&self) -> bool {
        let is_named = |piece: &Piece| matches!(piece, Piece::Place(Field::Json | Field::Pairs));
        self.hints.within.is_some()
            || self.pieces.iter().any(is_named)
            || !template::has_time_somewhere(&self.pieces)
    }

    /// Whether its lines are objects of JSON, so that texts in them must be strings of it.
    pub fn is_json(&self) -> bool {
        self.name == "json"
    }

    /// Whether it is the W3C Extended Log File Format, in which a quotation mark within a text would end it.
    pub fn is_extended(&self) -> bool {
        self.name == "extended"
    }

    /// What a file in this layout begins with.
    pub fn heading(&self) -> Vec<u8> {
        if self.is_extended() { EXTENDED_HEADING.as_bytes().to_vec() } else { Vec::new() }
    }

    /// All named layouts, the richest first.
    pub fn all_named() -> Vec<Layout> {
        NAMED.iter().filter_map(|(name, _)| Layout::understand(name).ok()).collect()
    }
}
