//! Where requests come from: the columns that all lines of one source share.
//!
//! They stand in no line, so they are known before one is read: a source that a scope does not want is not even opened.

/// What is known of a source.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Origin {
    /// The site whose log it is.
    pub site: Option<String>,
    /// The machine that wrote it.
    pub server: Option<String>,
    /// The source itself, by its name.
    pub source: Option<String>,
}

/// A column that all lines of one source share.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum OriginColumn {
    /// Which site.
    Site,
    /// Which machine wrote it.
    Server,
    /// Which source it was read from.
    Source,
}

impl OriginColumn {
    /// All of them, in the order in which people are shown them.
    pub const ALL: [OriginColumn; 3] = [OriginColumn::Site, OriginColumn::Server, OriginColumn::Source];

    /// The name people use for it.
    pub fn name(self) -> &'static str {
        match self {
            OriginColumn::Site => "site",
            OriginColumn::Server => "server",
            OriginColumn::Source => "source",
        }
    }

    /// What it is for a source.
    pub fn of(self, origin: &Origin) -> Option<&str> {
        match self {
            OriginColumn::Site => origin.site.as_deref(),
            OriginColumn::Server => origin.server.as_deref(),
            OriginColumn::Source => origin.source.as_deref(),
        }
    }
}
