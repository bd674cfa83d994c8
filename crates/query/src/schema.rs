//! The list of columns as the schema of the table `requests`.
//!
//! Texts stay codes into dictionaries, times are instants of a zone, lengths of time are fractions of milliseconds: their names say
//! so. Behind the list comes `visitor`, which follows from several columns.
//!
//! ```
//! use exedra_query::schema::{self, Field};
//! let names: Vec<String> = schema::fields().map(Field::name).collect();
//! assert_eq!(&names[..3], ["time", "site", "server"]);
//! assert!(names.contains(&"duration_ms".to_owned()));
//! assert_eq!(names.last().unwrap(), "visitor");
//! ```

use arrow::datatypes::{DataType, Field as ArrowField, Schema, SchemaRef, TimeUnit};
use exedra_common::columns::{Kind, Unit};
use exedra_common::{Column, Projection, TextColumn};
use std::sync::Arc;

/// The name of the only table.
pub const TABLE: &str = "requests";

/// A column of the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Field {
    /// One of the list of columns.
    Of(Column),
    /// Whoever asked: one client and agent within one day.
    Visitor,
}

/// All columns of the table, in its order.
pub fn fields() -> impl Iterator<Item = Field> {
    Column::all().map(Field::Of).chain([Field::Visitor])
}

impl Field {
    /// Its name in statements.
    pub fn name(self) -> String {
        match self {
            Field::Of(column) if column.declaration().kind == Kind::Duration => {
                format!("{}_ms", column.name())
            }
            Field::Of(column) => column.name().to_owned(),
            Field::Visitor => "visitor".to_owned(),
        }
    }

    /// The column of this name.
    pub fn named(name: &str) -> Option<Field> {
        fields().find(|field| field.name() == name)
    }

    /// What it means, in one sentence.
    pub fn meaning(self) -> &'static str {
        match self {
            Field::Of(column) => column.meaning(),
            Field::Visitor => {
                "One client and agent within one day: the same number for the same visitor, and another number in every reading."
            }
        }
    }

    /// What people are told its values are.
    pub fn type_name(self) -> &'static str {
        match self {
            Field::Of(column) => match column.declaration().kind {
                Kind::Time => "timestamp",
                Kind::Date => "date",
                Kind::Text => "text",
                Kind::Integer | Kind::Size => "integer",
                Kind::Duration => "float",
            },
            Field::Visitor => "integer",
        }
    }

    /// What its values count.
    pub fn unit(self) -> Unit {
        match self {
            Field::Of(column) => match column.declaration().kind {
                Kind::Duration => Unit::Milliseconds,
                _ => column.declaration().unit,
            },
            Field::Visitor => Unit::None,
        }
    }

    /// The columns of logs that it is made from.
    pub fn projection(self) -> Projection {
        match self {
            Field::Of(column) => [column].into_iter().collect(),
            Field::Visitor => [TextColumn::Client, TextColumn::Agent].into_iter().collect(),
        }
    }

    /// Whether it is made from when requests came in.
    pub fn is_made_from_times(self) -> bool {
        match self {
            Field::Of(column) => column.base() == Column::Time,
            // Another day, another visitor.
            Field::Visitor => true,
        }
    }

    fn data_type(self, zone: &str) -> DataType {
        let Field::Of(column) = self else { return DataType::Int64 };
        match column.declaration().kind {
            Kind::Time => DataType::Timestamp(TimeUnit::Millisecond, Some(zone.into())),
            Kind::Date => DataType::Date32,
            Kind::Text => text(),
            Kind::Integer | Kind::Size => DataType::Int64,
            Kind::Duration => DataType::Float64,
        }
    }
}

/// The type of texts: codes into a dictionary.
pub fn text() -> DataType {
    DataType::Dictionary(Box::new(DataType::UInt32), Box::new(DataType::Utf8))
}

/// The schema of the table. Days and hours of its times are those of a zone, by its IANA name.
pub fn schema(zone: &str) -> SchemaRef {
    let fields = fields().map(|field| ArrowField::new(field.name(), field.data_type(zone), true));
    Arc::new(Schema::new(fields.collect::<Vec<_>>()))
}
