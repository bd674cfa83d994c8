//! One value of a table.
//!
//! ```
//! use exedra_common::tables::Cell;
//! let mut sum = Cell::Nothing;
//! for more in [Cell::from(2), Cell::Nothing, Cell::from(3)] {
//!     sum.add(&more);
//! }
//! assert_eq!((sum.as_u64(), Cell::from("fog").as_text()), (Some(5), Some("fog")));
//! ```

use serde::{Deserialize, Serialize};
use utoipa::openapi::schema::{ObjectBuilder, SchemaType, Type};
use utoipa::openapi::{RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

/// One value.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Cell {
    /// None, or none that is known.
    #[default]
    Nothing,
    /// A whole number.
    Number(u64),
    /// A number with a fraction, or less than nothing.
    Decimal(f64),
    /// A text.
    Text(String),
}

/// One of three plain types: neither is told from another by more than that.
impl PartialSchema for Cell {
    fn schema() -> RefOr<Schema> {
        let types = SchemaType::from_iter([Type::Null, Type::Number, Type::String]);
        ObjectBuilder::new().schema_type(types).description(Some("One value of a table.")).into()
    }
}

impl ToSchema for Cell {}

impl Cell {
    /// The number, whichever it is.
    pub fn as_f64(&self) -> Option<f64> {
        match self {
            Cell::Number(number) => Some(*number as f64),
            Cell::Decimal(number) => Some(*number),
            Cell::Nothing | Cell::Text(_) => None,
        }
    }

    /// The whole number, where it is one.
    pub fn as_u64(&self) -> Option<u64> {
        match self {
            Cell::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// The text, where it is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Cell::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Makes a number more by another.
    pub fn add(&mut self, other: &Cell) {
        *self = match (&*self, other) {
            (Cell::Number(one), Cell::Number(other)) => Cell::Number(one.saturating_add(*other)),
            (Cell::Nothing, other) => other.clone(),
            (one, other) => match (one.as_f64(), other.as_f64()) {
                (Some(one), Some(other)) => Cell::Decimal(one + other),
                _ => return,
            },
        }
    }
}

impl From<u64> for Cell {
    fn from(number: u64) -> Self {
        Cell::Number(number)
    }
}

impl From<f64> for Cell {
    fn from(number: f64) -> Self {
        Cell::Decimal(number)
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Self {
        Cell::Text(text.to_owned())
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Self {
        Cell::Text(text)
    }
}

impl<T: Into<Cell>> From<Option<T>> for Cell {
    fn from(value: Option<T>) -> Self {
        value.map_or(Cell::Nothing, Into::into)
    }
}
