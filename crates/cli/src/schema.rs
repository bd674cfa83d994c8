//! `exedra schema`: what a report as JSON looks like, for programs that read one (JSON Schema, draft 2020-12).

use crate::failure::Failure;
use crate::sources::Source;
use exedra_reading::survey::Report;
use exedra_reading::survey::report::VERSION;
use serde_json::{Map, Value, json};
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::Schema;
use utoipa::{PartialSchema, ToSchema};

/// Prints it.
pub fn run() -> Result<(), Failure> {
    Ok(crate::out::octets(&text()?, true)?)
}

/// The schema as text.
fn text() -> Result<String, Failure> {
    let mut parts: Vec<(String, RefOr<Schema>)> = Vec::new();
    Report::schemas(&mut parts);
    parts.push((Source::name().into_owned(), Source::schema()));
    let mut definitions = Map::new();
    for (name, part) in parts {
        definitions.insert(name, local(serde_json::to_value(part)?));
    }
    let mut whole = local(serde_json::to_value(Report::schema())?);
    if let Some(report) = whole.as_object_mut() {
        report.insert("$schema".to_owned(), json!("https://json-schema.org/draft/2020-12/schema"));
        report.insert("title".to_owned(), json!(format!("A report of Exedra, version {VERSION}")));
        report.insert("$defs".to_owned(), Value::Object(definitions));
    }
    whole["properties"]["version"]["const"] = json!(VERSION);
    whole["properties"]["sources"] = json!({
        "type": "array", "items": { "$ref": "#/$defs/Source" }, "description": "What was read, in order.",
    });
    Ok(serde_json::to_string_pretty(&sorted(whole))? + "\n")
}

/// The same with names in the order of letters, whatever else is built beside this and keeps another.
fn sorted(value: Value) -> Value {
    match value {
        Value::Object(fields) => {
            let mut fields: Vec<(String, Value)> = fields.into_iter().collect();
            fields.sort_by(|one, other| one.0.cmp(&other.0));
            Value::Object(fields.into_iter().map(|(name, field)| (name, sorted(field))).collect())
        }
        Value::Array(items) => Value::Array(items.into_iter().map(sorted).collect()),
        other => other,
    }
}

/// The same with references within the document.
fn local(mut value: Value) -> Value {
    match &mut value {
        Value::Object(fields) => {
            for (name, field) in fields.iter_mut() {
                match field {
                    Value::String(text) if name == "$ref" => {
                        *text = text.replace("#/components/schemas/", "#/$defs/");
                    }
                    other => *other = local(other.take()),
                }
            }
        }
        Value::Array(items) => items.iter_mut().for_each(|item| *item = local(item.take())),
        _ => {}
    }
    value
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `cargo xtask types` writes it anew.
    #[test]
    fn the_published_schema_is_the_one_that_is_printed() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/report.schema.json");
        let now = text().ok().unwrap();
        if std::env::var_os("EXEDRA_WRITE_DESCRIPTION").is_some() {
            std::fs::write(path, &now).unwrap();
        }
        assert!(std::fs::read_to_string(path).unwrap() == now, "run `cargo xtask types`");
    }
}
