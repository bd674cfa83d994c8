//! TOML with the place of every value, asked for by the kinds that the list of settings names.
//!
//! A [`Section`] hands out its values one by one. Whatever is of the wrong kind, missing though required, or
//! not in the list at all becomes a diagnostic here, so that the understanding of a configuration only has
//! to look at meanings.
//!
//! ```
//! use exedra_answering::config::document::Section;
//! use toml::de::DeTable;
//! let text = "[limits]\nconections = 3\n";
//! let document = DeTable::parse(text).unwrap();
//! let mut mistakes = Vec::new();
//! let limits = Section::top(&document, 0, &mut mistakes).section("limits", &mut mistakes);
//! assert_eq!(limits.number("connections").map(|number| number.value), None);
//! assert_eq!(mistakes[0].remedy.as_deref(), Some("did you mean `connections`?"));
//! assert_eq!(&text[mistakes[0].span.clone()], "conections");
//! ```

use super::Located;
use super::diagnostic::Diagnostic;
use super::settings::{Kind, of_section};
use exedra_common::text::nearest;
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
    /// Where the file begins among all.
    begins: usize,
}

impl<'t> Section<'t> {
    /// The top of a document, its own keys already held against the list.
    pub fn top(document: &'t Spanned<DeTable<'t>>, begins: usize, diagnostics: &mut Vec<Diagnostic>) -> Self {
        Section::top_of("", document, begins, diagnostics)
    }

    /// The same, of a file that is a section by itself.
    pub fn top_of(
        name: &'static str,
        document: &'t Spanned<DeTable<'t>>,
        begins: usize,
        diagnostics: &mut Vec<Diagnostic>,
    ) -> Self {
        let section = Section { name, table: Some(document.get_ref()), span: begins..begins, begins };
        section.hold_against_list(diagnostics);
        section
    }

    fn of(
        &self,
        name: &'static str,
        value: &'t Spanned<DeValue<'t>>,
        diagnostics: &mut Vec<Diagnostic>,
    ) -> Self {
        let span = self.placed(value.span());
        let section = Section { name, table: value.get_ref().as_table(), span, begins: self.begins };
        section.hold_against_list(diagnostics);
        section
    }

    fn absent(&self, name: &'static str) -> Self {
        Section { name, table: None, span: 0..0, begins: self.begins }
    }

    /// Whether it is there at all.
    pub fn is_there(&self) -> bool {
        self.table.is_some()
    }

    /// A place of this file as a place among all files.
    fn placed(&self, span: Range<usize>) -> Range<usize> {
        span.start + self.begins..span.end + self.begins
    }

    /// Where a value is written, if it is.
    pub fn place(&self, key: &str) -> Option<Range<usize>> {
        self.value(key).map(|value| self.placed(value.span()))
    }

    /// A value of whatever kind.
    pub fn any(&self, key: &str) -> Option<Item<'t>> {
        self.value(key).map(|value| self.item(value))
    }

    fn item(&self, value: &'t Spanned<DeValue<'t>>) -> Item<'t> {
        Item { value: value.get_ref(), span: self.placed(value.span()), begins: self.begins }
    }

    /// A section inside this one; an empty one where there is none.
    pub fn section(&self, key: &'static str, diagnostics: &mut Vec<Diagnostic>) -> Section<'t> {
        match self.value(key) {
            Some(value) if value.get_ref().is_table() => self.of(key, value, diagnostics),
            _ => self.absent(key),
        }
    }

    /// All sections of a name in double brackets.
    pub fn sections(&self, key: &'static str, diagnostics: &mut Vec<Diagnostic>) -> Vec<Section<'t>> {
        let values = self.value(key).and_then(|value| value.get_ref().as_array());
        values
            .into_iter()
            .flat_map(|array| array.iter())
            .map(|value| self.of(key, value, diagnostics))
            .collect()
    }

    /// A text.
    pub fn text(&self, key: &str) -> Option<Located<String>> {
        self.any(key)?.text()
    }

    /// A list of texts.
    pub fn texts(&self, key: &str) -> Option<Vec<Located<String>>> {
        let array = self.value(key)?.get_ref().as_array()?;
        array.iter().map(|value| self.item(value).text()).collect()
    }

    /// A flag.
    pub fn flag(&self, key: &str) -> Option<Located<bool>> {
        let value = self.value(key)?;
        Some(Located { value: value.get_ref().as_bool()?, span: self.placed(value.span()) })
    }

    /// A number.
    pub fn number(&self, key: &str) -> Option<Located<u64>> {
        let value = self.value(key)?;
        Some(Located { value: whole(value.get_ref())?, span: self.placed(value.span()) })
    }

    /// Keys and texts of a section whose keys are not from the list.
    pub fn pairs(&self) -> Vec<(Located<String>, Item<'t>)> {
        self.table.map(|table| pairs(table, self.begins)).unwrap_or_default()
    }

    /// A value that the list of settings knows in this section; nothing else can be asked for.
    fn value(&self, key: &str) -> Option<&'t Spanned<DeValue<'t>>> {
        let (_, value) = self.table?.iter().find(|(name, _)| name.get_ref() == key)?;
        of_section(self.name).any(|setting| setting.key == key).then_some(value)
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
                let span = self.placed(key.span());
                diagnostics.push(Diagnostic::error(span, message, "not known").remedy(remedy));
                continue;
            };
            if !is_of_kind(value.get_ref(), setting.kind) {
                let message = format!("`{name}` {place} takes {}", setting.kind.in_words());
                let reason = format!("this is {}", in_words(value.get_ref()));
                let remedy = format!("write it like {}", setting.example);
                let span = self.placed(value.span());
                diagnostics.push(Diagnostic::error(span, message, reason).remedy(remedy));
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

/// A value of whatever kind, with its place.
#[derive(Debug, Clone)]
pub struct Item<'t> {
    value: &'t DeValue<'t>,
    /// Where it is written.
    pub span: Range<usize>,
    begins: usize,
}

impl<'t> Item<'t> {
    /// A text.
    pub fn text(&self) -> Option<Located<String>> {
        Some(Located { value: self.value.as_str()?.to_owned(), span: self.span.clone() })
    }

    /// A flag.
    pub fn flag(&self) -> Option<bool> {
        self.value.as_bool()
    }

    /// A whole number.
    pub fn whole(&self) -> Option<u64> {
        whole(self.value)
    }

    /// The items of a list.
    pub fn list(&self) -> Option<Vec<Item<'t>>> {
        let item = |value: &'t Spanned<DeValue<'t>>| Item {
            value: value.get_ref(),
            span: value.span().start + self.begins..value.span().end + self.begins,
            begins: self.begins,
        };
        Some(self.value.as_array()?.iter().map(item).collect())
    }

    /// Keys and values of a section.
    pub fn pairs(&self) -> Option<Vec<(Located<String>, Item<'t>)>> {
        self.value.as_table().map(|table| pairs(table, self.begins))
    }

    /// What it is, as a person would say it.
    pub fn in_words(&self) -> &'static str {
        in_words(self.value)
    }
}

fn pairs<'t>(table: &'t DeTable<'t>, begins: usize) -> Vec<(Located<String>, Item<'t>)> {
    let placed = |span: Range<usize>| span.start + begins..span.end + begins;
    let pair = |(key, value): (&'t Spanned<std::borrow::Cow<'t, str>>, &'t Spanned<DeValue<'t>>)| {
        let name = Located { value: key.get_ref().to_string(), span: placed(key.span()) };
        (name, Item { value: value.get_ref(), span: placed(value.span()), begins })
    };
    let mut all: Vec<_> = table.iter().map(pair).collect();
    all.sort_by_key(|(key, _)| key.span.start);
    all
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
        Kind::TextOrNumber => value.is_str() || whole(value).is_some(),
        Kind::TextOrTexts => value.is_str() || all(|value| value.is_str()),
        Kind::FlagOrSection => value.is_bool() || value.is_table(),
        Kind::TextsOrSection => value.is_table() || all(|value| value.is_str()),
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
