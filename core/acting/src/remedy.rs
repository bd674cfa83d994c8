//! What to do about a finding, as changes of the configuration's text: comments, order and style stay as they were.
//!
//! ```
//! use exedra_acting::remedy::{Edit, applied, difference};
//! let text = "[[site]]\nname = \"harbour\" # ours\nhosts = [\"harbour.example\"]\n";
//! let settings = [("path", "\"/old/{rest*}\""), ("redirect", "\"/new/{rest}\"")];
//! let settings = settings.map(|(key, value)| (key.to_owned(), value.to_owned())).to_vec();
//! let edit = Edit::Rule { site: "harbour".to_owned(), settings, is_first: false };
//! let changed = applied(text, &edit).unwrap();
//! let lines = difference(text, &changed, 1);
//! let added: Vec<&str> = lines.iter().filter(|line| line.sign == '+').map(|line| &*line.text).collect();
//! assert_eq!(added, ["", "[[site.rules]]", "path = \"/old/{rest*}\"", "redirect = \"/new/{rest}\""]);
//! ```

use crate::edit::{EditError, align, parsed, put_rule, site_table};
use serde::{Deserialize, Serialize};
use similar::{ChangeTag, TextDiff};
use toml_edit::{Array, Item, Table, TableLike, Value, value};
use utoipa::ToSchema;

/// What to do, in words and as edits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Remedy {
    /// What it does, as somebody would say it.
    pub words: String,
    /// The edits, in order.
    pub edits: Vec<Edit>,
}

/// One change of a configuration's text. Values are written as in TOML.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Edit {
    /// A rule of a site.
    Rule {
        /// The site.
        site: String,
        /// Its settings and their values, in order.
        #[schema(value_type = Vec<Vec<String>>)]
        settings: Vec<(String, String)>,
        /// Whether it goes before all others, and not after them.
        is_first: bool,
    },
    /// A setting of a site.
    Setting {
        /// The site.
        site: String,
        /// The key.
        key: String,
        /// Its value.
        value: String,
    },
    /// Entries added to a list, which is written out where it was not.
    Entries {
        /// The site; without one, the defaults of all sites.
        site: Option<String>,
        /// The section that the list is in, as in `compress`.
        section: String,
        /// The key.
        key: String,
        /// The entries.
        add: Vec<String>,
        /// What the list is where nobody has written it.
        otherwise: Vec<String>,
    },
}

/// A value of TOML that is a text.
pub fn text(words: &str) -> String {
    Value::from(words).to_string()
}

impl Edit {
    /// A rule of a site with some settings, in order, before all others or after them. Values are written as in TOML.
    pub fn rule<const N: usize>(site: &str, settings: [(&str, String); N], is_first: bool) -> Self {
        let settings = settings.into_iter().map(|(key, value)| (key.to_owned(), value)).collect();
        Edit::Rule { site: site.to_owned(), settings, is_first }
    }
}

/// A text with an edit applied.
///
/// # Errors
/// [`EditError`]: it is no TOML, the site is not in it, or what is to be changed is written in a form that is not changed here.
pub fn applied(text: &str, edit: &Edit) -> Result<String, EditError> {
    match edit {
        Edit::Rule { site, settings, is_first } => {
            Ok(put_rule(text, site, *is_first, |is_aligned| rule(settings, is_aligned))?.text)
        }
        Edit::Setting { site, key, value } => {
            let mut document = parsed(text)?;
            let table = site_table(&mut document, site)?;
            set(table, key, understood(value));
            Ok(document.to_string())
        }
        Edit::Entries { site, section, key, add, otherwise } => {
            let mut document = parsed(text)?;
            let table = match site {
                Some(site) => site_table(&mut document, site)?,
                None => defaults(&mut document)?,
            };
            let section = table.entry(section).or_insert_with(|| Item::Table(Table::new()));
            let section = section.as_table_like_mut().ok_or_else(|| EditError::Inline(key.clone()))?;
            add_entries(section, key, add, otherwise)?;
            Ok(document.to_string())
        }
    }
}

fn defaults(document: &mut toml_edit::DocumentMut) -> Result<&mut Table, EditError> {
    let defaults = document.entry("defaults").or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    defaults.as_table_mut().ok_or_else(|| EditError::Inline("defaults".to_owned()))
}

/// A value of TOML, or else the text that it is not.
fn understood(written: &str) -> Value {
    written.parse().unwrap_or_else(|_| Value::from(written))
}

fn rule(settings: &[(String, String)], is_aligned: bool) -> Table {
    let mut table = Table::new();
    table.decor_mut().set_prefix("\n");
    for (key, written) in settings {
        table.insert(key, value(understood(written)));
    }
    if is_aligned {
        align(&mut table);
    }
    table
}

/// Sets a key of a table, in front of its sections, with the equals sign where the others have theirs.
fn set(table: &mut Table, key: &str, new: Value) {
    if let Some(item) = table.get_mut(key) {
        // A comment behind the value stays.
        let decor = item.as_value().map(|value| value.decor().clone());
        *item = value(new);
        if let (Some(decor), Some(value)) = (decor, item.as_value_mut()) {
            *value.decor_mut() = decor;
        }
        return;
    }
    let widths = table.iter().filter(|(_, item)| item.is_value()).filter_map(|(name, _)| {
        let suffix = table.key(name)?.leaf_decor().suffix()?.as_str()?;
        Some(name.len() + suffix.len())
    });
    let width = widths.max().unwrap_or(0);
    table.insert(key, value(new));
    if let Some(mut written) = table.key_mut(key).filter(|_| width > key.len() + 1) {
        written.leaf_decor_mut().set_suffix(" ".repeat(width - key.len()));
    }
}

fn add_entries(
    section: &mut dyn TableLike,
    key: &str,
    add: &[String],
    otherwise: &[String],
) -> Result<(), EditError> {
    let is_there = section.contains_key(key);
    if !is_there {
        section.insert(key, value(otherwise.iter().collect::<Array>()));
    }
    let list =
        section.get_mut(key).and_then(Item::as_array_mut).ok_or_else(|| EditError::Inline(key.to_owned()))?;
    for entry in add {
        if !list.iter().any(|known| known.as_str() == Some(entry)) {
            list.push(entry);
        }
    }
    Ok(())
}

/// One line of a difference.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DifferenceLine {
    /// `+` where it is new, `-` where it is no longer there, a space where it stays, `~` where lines that stay are left out.
    pub sign: char,
    /// The number of the line, counted from 1: of the new text, or of the old one where it is no longer there.
    pub line: usize,
    /// What is written in it.
    pub text: String,
}

/// The difference between two texts, with so many lines around it that stay.
pub fn difference(before: &str, after: &str, around: usize) -> Vec<DifferenceLine> {
    let lines = TextDiff::from_lines(before, after);
    let mut all = Vec::new();
    for (nth, group) in lines.grouped_ops(around).iter().enumerate() {
        if nth > 0 {
            all.push(DifferenceLine { sign: '~', line: 0, text: String::new() });
        }
        for change in group.iter().flat_map(|operation| lines.iter_changes(operation)) {
            let (sign, line) = match change.tag() {
                ChangeTag::Delete => ('-', change.old_index()),
                ChangeTag::Insert => ('+', change.new_index()),
                ChangeTag::Equal => (' ', change.new_index()),
            };
            let text = change.value().trim_end_matches(['\n', '\r']).to_owned();
            all.push(DifferenceLine { sign, line: line.unwrap_or(0) + 1, text });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const TOWN: &str = "[defaults.compress]\ncodecs   = [\"br\"]\n\n# the harbour\n[[site]]\nname      = \"harbour\"\nhosts     = [\"harbour.example\"] # ours\nfolder    = \"harbour\"\nallowance = \"8 GB\"\n\n[site.compress]\ntypes = [\"text/*\"]\n\n[[site]]\nname = \"lamp\"\nhosts = [\"lamp.example\"]\n";

    fn entries(site: Option<&str>) -> Edit {
        Edit::Entries {
            site: site.map(str::to_owned),
            section: "compress".to_owned(),
            key: "types".to_owned(),
            add: vec!["image/bmp".to_owned()],
            otherwise: vec!["text/*".to_owned(), "image/svg+xml".to_owned()],
        }
    }

    #[rstest]
    #[case::set(
        Edit::Setting { site: "harbour".into(), key: "at_allowance".into(), value: text("refuse downloads") },
        &["+at_allowance = \"refuse downloads\""]
    )]
    #[case::changed(
        Edit::Setting { site: "harbour".into(), key: "hosts".into(), value: "[\"a.example\"]".into() },
        &["-hosts     = [\"harbour.example\"] # ours", "+hosts     = [\"a.example\"] # ours"]
    )]
    #[case::added_to_a_list(
        entries(Some("harbour")),
        &["-types = [\"text/*\"]", "+types = [\"text/*\", \"image/bmp\"]"]
    )]
    #[case::a_list_that_nobody_wrote(
        entries(None),
        &["+types = [\"text/*\", \"image/svg+xml\", \"image/bmp\"]"]
    )]
    fn nothing_else_changes(#[case] edit: Edit, #[case] lines: &[&str]) {
        let changed = applied(TOWN, &edit).unwrap();
        let told = difference(TOWN, &changed, 0);
        let told: Vec<String> = told.iter().map(|line| format!("{}{}", line.sign, line.text)).collect();
        assert_eq!(told, lines, "{changed}");
        assert_eq!(applied(&changed, &edit).unwrap(), changed, "a second time it changes nothing");
    }

    #[test]
    fn what_is_not_there_cannot_be_changed() {
        let edit = Edit::Setting { site: "fog".into(), key: "listing".into(), value: "true".into() };
        assert!(matches!(applied(TOWN, &edit), Err(EditError::NoSite(_))));
        assert!(matches!(applied("[[site]\n", &edit), Err(EditError::Mistaken(_))));
        assert!(matches!(applied("defaults = 5\n", &entries(None)), Err(EditError::Inline(_))));
    }
}
