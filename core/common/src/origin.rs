//! Where requests come from: what all lines of one source share.
//!
//! It stands in no line, so it is known before one is read: a source that a scope does not want is not even opened.
//!
//! ```
//! use exedra_common::{Origin, TextColumn};
//! let pier = Origin { server: Some("pier".to_owned()), ..Origin::default() };
//! assert_eq!((pier.value(TextColumn::Server), pier.value(TextColumn::Site)), (Some("pier"), None));
//! assert!(Origin::columns().eq([TextColumn::Site, TextColumn::Server, TextColumn::Source]));
//! ```

use crate::columns::TextColumn;

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

impl Origin {
    /// What a column is for all lines of the source; `None` for those that stand in lines.
    pub fn value(&self, column: TextColumn) -> Option<&str> {
        match column {
            TextColumn::Site => self.site.as_deref(),
            TextColumn::Server => self.server.as_deref(),
            TextColumn::Source => self.source.as_deref(),
            _ => None,
        }
    }

    /// The columns that sources have for all of their lines.
    pub fn columns() -> impl Iterator<Item = TextColumn> {
        let of_source = |column: &TextColumn| crate::Column::Text(*column).declaration().of_source;
        TextColumn::ALL.iter().copied().filter(of_source)
    }
}
