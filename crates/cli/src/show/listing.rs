//! Lists of what the service knows: a line each, for people, or JSON for programs.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::STRONG;
use crate::service::Service;
use clap::Args;
use unicode_width::UnicodeWidthStr;

/// What lists take.
#[derive(Args)]
pub struct Listing {
    #[command(flatten)]
    pub service: Service,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    pub form: Form,
}

/// A list for people, each column as wide as its longest value, or for programs.
pub fn listed<T: serde::Serialize, const N: usize>(
    form: Form,
    all: &[T],
    none: &str,
    columns: [&str; N],
    row: impl Fn(&T) -> [String; N],
) -> Result<(), Failure> {
    if form == Form::Json {
        return Ok(crate::out::json(&all)?);
    }
    if all.is_empty() {
        crate::out::note!("{none}");
        return Ok(());
    }
    let rows: Vec<[String; N]> = all.iter().map(row).collect();
    let width = |place: usize| {
        let values = rows.iter().map(|row| row[place].width());
        values.chain([columns[place].width()]).max().unwrap_or_default()
    };
    let line = |values: [&str; N]| {
        let padded = values.iter().enumerate().map(|(place, value)| {
            format!("{value}{}", " ".repeat(width(place).saturating_sub(value.width())))
        });
        padded.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    crate::out::line!("{STRONG}{}{STRONG:#}", line(columns));
    for row in &rows {
        crate::out::line!("{}", line(row.each_ref().map(String::as_str)));
    }
    Ok(())
}

/// A time of the API (RFC 3339) to the minute.
pub fn minute(time: &str) -> String {
    time.get(..16).unwrap_or(time).replace('T', " ")
}
