//! TOML with the place of every value, asked for by the kinds that the list of settings names.
//!
//! A [`Section`] hands out its values one by one. Whatever is of the wrong kind, missing though required, or
//! not in the list at all becomes a diagnostic here, so that the understanding of a configuration only has
//! to look at meanings.

use super::diagnostic::Diagnostic;
use super::settings::{Kind, of_section};
use super::{Located, nearest};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A section of the file.
#[derive(Debug)]
pub struct Section<'t> {
    name: &'static str,
    table: Option<&'t DeTable<'t>>,
    /// Where it begins, for what is missing from it.
    pub span: Range<usize>,
}

impl<'t> Section<'t> {
    /// The top of a document, its own keys already held against the list.
    pub fn top(document: &'t Spanned<DeTable<'t>>, diagnostics: &mut Vec<Diagnostic>) -> Self {
        let section = Section { name: "", table: Some(document.get_ref()), span: 0..0 };
        section.hold_against_list(diagnostics);
        section
    }

    fn of(name: &'static str, value: &'t Spanned<DeValue<'t>>, diagnostics: &mut Vec<Diagnostic>) -> Self {
        let section = Section { name, table: value.get_ref().as_table(), span: value.span() };
        section.hold_against_list(diagnostics);
        section
    }

    fn absent(name: &'static str) -> Self {
        Section { name, table: None, span: 0..0 }
    }

    /// A section inside this one; an empty one where there is none.
    pub fn section(&self, key: &'static str, diagnostics: &mut Vec<Diagnostic>) -> Section<'t> {
        match self.value(key) {
            Some(value) if value.get_ref().is_table() => Section::of(key, value, diagnostics),
            _ => Section::absent(key),
        }
    }

    /// All sections of a name in double brackets.
    pub fn sections(&self, key: &'static str, diagnostics: &mut Vec<Diagnostic>) -> Vec<Section<'t>> {
        let values = self.value(key).and_then(|value| value.get_ref().as_array());
        values
            .into_iter()
            .flat_map(|array| array.iter())
            .map(|value| Section::of(key, value, diagnostics))
            .collect()
    }

    /// A text.
    pub fn text(&self, key: &str) -> Option<Located<String>> {
        located(self.value(key)?)
    }

    /// A list of texts.
    pub fn texts(&self, key: &str) -> Option<Vec<Located<String>>> {
        self.value(key)?.get_ref().as_array()?.iter().map(located).collect()
    }

    /// A flag.
    pub fn flag(&self, key: &str) -> Option<Located<bool>> {
        let value = self.value(key)?;
        Some(Located { value: value.get_ref().as_bool()?, span: value.span() })
    }

    /// A number.
    pub fn number(&self, key: &str) -> Option<Located<u64>> {
        let value = self.value(key)?;
        Some(Located { value: whole(value.get_ref())?, span: value.span() })
    }

    /// Keys and texts of a section whose keys are not from the list.
    pub fn pairs(&self) -> Vec<(Located<String>, &'t Spanned<DeValue<'t>>)> {
        let entries = self.table.into_iter().flat_map(|table| table.iter());
        entries
            .map(|(key, value)| (Located { value: key.get_ref().to_string(), span: key.span() }, value))
            .collect()
    }

    fn value(&self, key: &str) -> Option<&'t Spanned<DeValue<'t>>> {
        self.table?.iter().find(|(name, _)| name.get_ref() == key).map(|(_, value)| value)
    }

    fn hold_against_list(&self, diagnostics: &mut Vec<Diagnostic>) {
        let Some(table) = self.table else { return };
        let place = match self.name {
            "" => "at the top of the file".to_owned(),
            name => format!("in `{name}`"),
        };
        if of_section(self.name).next().is_none() {
            return;
        }
        for (key, value) in table.iter() {
            let name: &str = key.get_ref();
            let Some(setting) = of_section(self.name).find(|setting| setting.key == name) else {
                let known: Vec<&str> = of_section(self.name).map(|setting| setting.key).collect();
                let remedy = match nearest(name, known.iter().copied()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("there is: {}", known.join(", ")),
                };
                let message = format!("there is no setting `{name}` {place}");
                diagnostics.push(Diagnostic::error(key.span(), message, "not known").remedy(remedy));
                continue;
            };
            if !is_of_kind(value.get_ref(), setting.kind) {
                let message = format!("`{name}` {place} takes {}", setting.kind.in_words());
                let reason = format!("this is {}", in_words(value.get_ref()));
                let remedy = format!("write it like {}", setting.example);
                diagnostics.push(Diagnostic::error(value.span(), message, reason).remedy(remedy));
            }
        }
        for setting in of_section(self.name).filter(|setting| setting.required) {
            if self.value(setting.key).is_none() {
                let message = format!("this `{}` has no `{}`", self.name, setting.key);
                let header = self.span.start
                    ..self.span.start.saturating_add(1).max(self.span.end.min(self.span.start + 80));
                let reason = format!("`{}` is missing: {}", setting.key, setting.about);
                diagnostics.push(
                    Diagnostic::error(header, message, reason).remedy(format!("add {}", setting.example)),
                );
            }
        }
    }
}

/// A text with its place.
pub fn located(value: &Spanned<DeValue<'_>>) -> Option<Located<String>> {
    Some(Located { value: value.get_ref().as_str()?.to_owned(), span: value.span() })
}

/// A whole number that is not below zero.
pub fn whole(value: &DeValue<'_>) -> Option<u64> {
    let number = value.as_integer()?;
    u64::from_str_radix(number.as_str(), number.radix()).ok()
}

fn is_of_kind(value: &DeValue<'_>, kind: Kind) -> bool {
    let all = |is: fn(&DeValue<'_>) -> bool| {
        value.as_array().is_some_and(|array| array.iter().all(|value| is(value.get_ref())))
    };
    match kind {
        Kind::Text => value.is_str(),
        Kind::Texts => all(|value| value.is_str()),
        Kind::Flag => value.is_bool(),
        Kind::Number => whole(value).is_some(),
        Kind::TextOrSection => value.is_str() || value.is_table(),
        Kind::Section => value.is_table(),
        Kind::Sections => all(|value| value.is_table()),
    }
}

/// What a value is, as a person would say it.
pub fn in_words(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) | DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a section",
    }
}
