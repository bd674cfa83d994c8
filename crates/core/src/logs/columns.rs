//! The one list of columns that a request has once it has been written down.
//!
//! Batches, records, filters and the client's help all come from [`Column::ALL`].

/// A column of a request batch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Column {
    /// When the request came in: milliseconds since 1970 UTC.
    Time,
    /// Response status.
    Status,
    /// Body bytes sent.
    Bytes,
    /// Body bytes before compression.
    FullBytes,
    /// How long the answer took, in microseconds.
    Duration,
    /// A column of text.
    Text(TextColumn),
}

/// A column of text, coded by a dictionary.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[repr(u8)]
pub enum TextColumn {
    /// Address of the client.
    Client,
    /// Signed-in name.
    User,
    /// Request method.
    Method,
    /// `http` or `https`.
    Scheme,
    /// Host asked for.
    Host,
    /// Path without query, never decoded.
    Path,
    /// Query without its question mark.
    Query,
    /// Protocol and version.
    Protocol,
    /// The page that linked here.
    Referrer,
    /// What the client calls itself.
    Agent,
    /// Content coding of the answer.
    Encoding,
    /// The rule that answered.
    Rule,
}

impl TextColumn {
    /// All of them, in the order in which records keep them.
    pub const ALL: [TextColumn; 12] = [
        TextColumn::Client,
        TextColumn::User,
        TextColumn::Method,
        TextColumn::Scheme,
        TextColumn::Host,
        TextColumn::Path,
        TextColumn::Query,
        TextColumn::Protocol,
        TextColumn::Referrer,
        TextColumn::Agent,
        TextColumn::Encoding,
        TextColumn::Rule,
    ];

    /// The place in arrays that hold one thing for each text column.
    pub fn index(self) -> usize {
        self as usize
    }
}

impl Column {
    /// All of them, in the order in which people are shown them.
    pub const ALL: [Column; 17] = [
        Column::Time,
        Column::Text(TextColumn::Client),
        Column::Text(TextColumn::User),
        Column::Text(TextColumn::Method),
        Column::Text(TextColumn::Scheme),
        Column::Text(TextColumn::Host),
        Column::Text(TextColumn::Path),
        Column::Text(TextColumn::Query),
        Column::Text(TextColumn::Protocol),
        Column::Status,
        Column::Bytes,
        Column::FullBytes,
        Column::Duration,
        Column::Text(TextColumn::Referrer),
        Column::Text(TextColumn::Agent),
        Column::Text(TextColumn::Encoding),
        Column::Text(TextColumn::Rule),
    ];

    /// The name people use for it.
    pub fn name(self) -> &'static str {
        match self {
            Column::Time => "time",
            Column::Status => "status",
            Column::Bytes => "bytes",
            Column::FullBytes => "full_bytes",
            Column::Duration => "duration_us",
            Column::Text(text) => match text {
                TextColumn::Client => "client",
                TextColumn::User => "user",
                TextColumn::Method => "method",
                TextColumn::Scheme => "scheme",
                TextColumn::Host => "host",
                TextColumn::Path => "path",
                TextColumn::Query => "query",
                TextColumn::Protocol => "protocol",
                TextColumn::Referrer => "referrer",
                TextColumn::Agent => "agent",
                TextColumn::Encoding => "encoding",
                TextColumn::Rule => "rule",
            },
        }
    }

    /// The column of that name.
    pub fn named(name: &str) -> Option<Column> {
        Column::ALL.into_iter().find(|column| column.name() == name)
    }

    /// The text column behind it, if it is one.
    pub fn as_text(self) -> Option<TextColumn> {
        match self {
            Column::Text(text) => Some(text),
            _ => None,
        }
    }

    fn bit(self) -> u32 {
        1 << match self {
            Column::Time => 0,
            Column::Status => 1,
            Column::Bytes => 2,
            Column::FullBytes => 3,
            Column::Duration => 4,
            Column::Text(text) => 5 + text.index(),
        }
    }
}

/// Which columns somebody wants: the others are not even cut out of the line. The time always is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Projection(u32);

impl Projection {
    /// Every column.
    pub fn everything() -> Self {
        Column::ALL.into_iter().collect()
    }

    /// Nothing but the time.
    pub fn time() -> Self {
        Projection(Column::Time.bit())
    }

    /// What either wants.
    pub fn with(self, other: Projection) -> Self {
        Projection(self.0 | other.0)
    }

    /// Whether a column is wanted.
    pub fn has(self, column: Column) -> bool {
        self.0 & column.bit() != 0
    }

    /// Whether a text column is wanted.
    pub fn has_text(self, column: TextColumn) -> bool {
        self.has(Column::Text(column))
    }
}

impl FromIterator<Column> for Projection {
    fn from_iter<I: IntoIterator<Item = Column>>(columns: I) -> Self {
        Projection(columns.into_iter().fold(Column::Time.bit(), |bits, column| bits | column.bit()))
    }
}
