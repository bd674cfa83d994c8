//! A configuration changed in its text: comments, order and style stay as they were.
//!
//! ```
//! use exedra_acting::edit::{Effect, NewRule, add_rule};
//! let text = "[[site]]\nname = \"harbour\" # ours\nhosts = [\"harbour.example\"]\n\n[[site]]\nname = \"lamp\"\n";
//! let rule = NewRule { name: "", path: "/old/{*}", does: Effect::Gone };
//! let written = add_rule(text, "harbour", &rule, false).unwrap();
//! assert!(written.text.starts_with("[[site]]\nname = \"harbour\" # ours\nhosts = [\"harbour.example\"]\n\n[[site.rules]]\npath = \"/old/{*}\"\ngone = true\n"));
//! assert_eq!(written.line, 5);
//! ```

use thiserror::Error;
use toml_edit::{ArrayOfTables, DocumentMut, InlineTable, Item, Table, Value, value};

/// A rule that is to be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewRule<'r> {
    /// What it is called; may be empty.
    pub name: &'r str,
    /// The paths it is about.
    pub path: &'r str,
    /// What it does.
    pub does: Effect<'r>,
}

/// What a rule does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect<'r> {
    /// Sends to another address, with a status.
    Redirect(&'r str, u16),
    /// Adds a header field to answers: its name and its value.
    Header(&'r str, &'r str),
    /// Answers 403.
    Refuse,
    /// Answers 410.
    Gone,
    /// Asks for a name and a password of a realm.
    Login(&'r str),
}

/// A text with something written into it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Written {
    /// All of it.
    pub text: String,
    /// The line where what is new begins, counted from 1.
    pub line: usize,
}

/// Why a text could not be changed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum EditError {
    /// It is no TOML.
    #[error("the file has mistakes, and is not changed until they are corrected: {0}")]
    Mistaken(String),
    /// There is no such site in it.
    #[error("there is no [[site]] called `{0}` in this file")]
    NoSite(String),
    /// It is written in a form that is not changed here.
    #[error(
        "`{0}` is written in one line: write it in double brackets, as [[site.rules]] or [[alert]], for more to be added here"
    )]
    Inline(String),
}

/// An alert that is to be written: texts as they stand in a configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewAlert<'a> {
    /// What it is called.
    pub name: &'a str,
    /// Filters: which requests it is about.
    pub scope: &'a [String],
    /// The figure, as in `share`.
    pub figure: &'a str,
    /// The filter that requests fit which the figure is of, or `all`.
    pub of: &'a str,
    /// `over` or `under`.
    pub bound: &'a str,
    /// The bound itself, as in `2 %` or `5`.
    pub value: &'a str,
    /// Of which stretch the requests are, as in `5 minutes`.
    pub of_last: &'a str,
    /// With fewer requests it does not hold.
    pub requests: u64,
    /// How long it must hold; at once where that is empty.
    pub holds: &'a str,
    /// Who is told.
    pub tell: &'a [String],
}

/// Writes an alert behind the others, or at the end of the file.
///
/// # Errors
/// [`EditError`], and the text is not changed.
pub fn add_alert(text: &str, alert: &NewAlert<'_>) -> Result<Written, EditError> {
    let mut document = parsed(text)?;
    let alerts = document.entry("alert").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    let Item::ArrayOfTables(alerts) = alerts else { return Err(EditError::Inline("alert".to_owned())) };
    let is_aligned = alerts.iter().last().is_some_and(is_aligned);
    let mut table = Table::new();
    table.decor_mut().set_prefix("\n");
    table.insert("name", value(alert.name));
    let list = |texts: &[String]| value(texts.iter().collect::<toml_edit::Array>());
    if !alert.scope.is_empty() {
        table.insert("scope", list(alert.scope));
    }
    let mut when = InlineTable::new();
    when.insert(alert.figure, Value::from(alert.of));
    let bound = alert.value.parse::<i64>().map_or_else(|_| Value::from(alert.value), Value::from);
    when.insert(alert.bound, bound);
    when.insert("of_last", Value::from(alert.of_last));
    if let Some(requests) = i64::try_from(alert.requests).ok().filter(|requests| *requests > 0) {
        when.insert("requests", Value::from(requests));
    }
    table.insert("when", value(when));
    if !alert.holds.is_empty() {
        table.insert("holds", value(alert.holds));
    }
    if !alert.tell.is_empty() {
        table.insert("tell", list(alert.tell));
    }
    if is_aligned {
        align(&mut table);
    }
    alerts.push(table);
    let changed = document.to_string();
    let heading = changed.lines().collect::<Vec<_>>();
    let heading = heading.iter().rposition(|line| line.trim_start().starts_with("[[alert]]"));
    Ok(Written { line: heading.unwrap_or(0) + 1, text: changed })
}

/// Writes a rule into a site's rules, before or after the others.
///
/// # Errors
/// [`EditError`], and the text is not changed.
pub fn add_rule(text: &str, site: &str, rule: &NewRule<'_>, is_first: bool) -> Result<Written, EditError> {
    put_rule(text, site, is_first, |is_aligned| written(rule, is_aligned))
}

/// Puts a rule into a site's rules, before or after the others. `new` makes it, with its equals signs below each other or not.
pub(crate) fn put_rule(
    text: &str,
    site: &str,
    is_first: bool,
    new: impl FnOnce(bool) -> Table,
) -> Result<Written, EditError> {
    let mut document = parsed(text)?;
    let table = site_table(&mut document, site)?;
    let is_aligned = is_aligned(table);
    let rules = table.entry("rules").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    let Item::ArrayOfTables(rules) = rules else { return Err(EditError::Inline(site.to_owned())) };
    let new = new(is_aligned);
    if is_first {
        let others: Vec<Table> = rules.iter().cloned().collect();
        rules.clear();
        rules.push(new);
        others.into_iter().for_each(|rule| rules.push(rule));
    } else {
        rules.push(new);
    }
    let changed = document.to_string();
    let same = text.lines().zip(changed.lines()).take_while(|(before, after)| before == after).count();
    let lines: Vec<&str> = changed.lines().collect();
    let behind = lines[same.min(lines.len())..].iter().take_while(|line| line.trim().is_empty()).count();
    let first = same + behind;
    // Its own first lines may be the same as those that stood there before.
    let heading =
        lines.iter().take(first + 1).rposition(|line| line.trim_start().starts_with("[[site.rules]]"));
    Ok(Written { line: heading.unwrap_or(first) + 1, text: changed })
}

/// A text understood as TOML.
pub(crate) fn parsed(text: &str) -> Result<DocumentMut, EditError> {
    text.parse().map_err(|error: toml_edit::TomlError| EditError::Mistaken(error.message().to_owned()))
}

/// The table of a site.
pub(crate) fn site_table<'d>(document: &'d mut DocumentMut, site: &str) -> Result<&'d mut Table, EditError> {
    let sites = document.get_mut("site").and_then(Item::as_array_of_tables_mut);
    let found = sites.and_then(|sites| {
        sites.iter_mut().find(|table| table.get("name").and_then(Item::as_str) == Some(site))
    });
    found.ok_or_else(|| EditError::NoSite(site.to_owned()))
}

fn written(rule: &NewRule<'_>, is_aligned: bool) -> Table {
    let mut table = Table::new();
    table.decor_mut().set_prefix("\n");
    if !rule.name.is_empty() {
        table.insert("name", value(rule.name));
    }
    table.insert("path", value(rule.path));
    match rule.does {
        Effect::Redirect(to, status) => {
            table.insert("redirect", value(to));
            table.insert("status", value(i64::from(status)));
        }
        Effect::Header(name, content) => {
            let mut headers = InlineTable::new();
            headers.insert(name, Value::from(content));
            table.insert("headers", value(headers));
        }
        Effect::Refuse => _ = table.insert("refuse", value(403)),
        Effect::Gone => _ = table.insert("gone", value(true)),
        Effect::Login(realm) => _ = table.insert("login", value(realm)),
    }
    if is_aligned {
        align(&mut table);
    }
    table
}

/// Has the equals signs of a table stand below each other.
pub(crate) fn align(table: &mut Table) {
    let longest = table.iter().map(|(key, _)| key.len()).max().unwrap_or(0);
    for (mut key, _) in table.iter_mut() {
        let padding = " ".repeat(longest - key.get().len() + 1);
        key.leaf_decor_mut().set_suffix(padding);
    }
}

/// Whether the equals signs of a table stand below each other where its keys are of different lengths.
pub(crate) fn is_aligned(table: &Table) -> bool {
    table.iter().any(|(name, _)| {
        let suffix =
            table.key(name).and_then(|key| key.leaf_decor().suffix()).and_then(|suffix| suffix.as_str());
        suffix.is_some_and(|suffix| suffix.len() > 1)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const TOWN: &str = "# Port Lindry\n[service]\nstate = \"state\"\n\n[[site]]\nname      = \"harbour\"\nhosts     = [\"harbour.example\"]\nfolder    = \"harbour\"\n\
                        [site.error_pages]\n404 = \"/lost.html\" # ours\n\n[[site.rules]]\npath = \"/backups/{*}\"\nrefuse = 403\n\n\
                        # the museum\n[[site]]\nname = \"lamp\"\nhosts = [\"lamp.example\"]\n";

    /// What was added, and that nothing else has changed.
    fn added(site: &str, rule: &NewRule<'_>, is_first: bool) -> String {
        let written = add_rule(TOWN, site, rule, is_first).unwrap();
        let begins =
            TOWN.bytes().zip(written.text.bytes()).take_while(|(before, after)| before == after).count();
        let length = written.text.len() - TOWN.len();
        let matching = (0..=begins).rev().find(|at| TOWN[*at..] == written.text[at + length..]);
        let at = matching.expect("only something was added");
        let block = &written.text[at..at + length];
        let heading = written.text.lines().nth(written.line - 1).unwrap();
        assert_eq!(heading, "[[site.rules]]", "{}", written.text);
        block.trim().to_owned()
    }

    #[rstest]
    #[case(
        Effect::Redirect("/notices/{rest}", 308),
        "[[site.rules]]\nname     = \"moved\"\npath     = \"/mariners/{rest*}\"\nredirect = \"/notices/{rest}\"\nstatus   = 308"
    )]
    #[case(
        Effect::Header("X-Frame-Options", "DENY \"all\""),
        "[[site.rules]]\nname    = \"moved\"\npath    = \"/mariners/{rest*}\"\nheaders = { X-Frame-Options = 'DENY \"all\"' }"
    )]
    #[case(
        Effect::Refuse,
        "[[site.rules]]\nname   = \"moved\"\npath   = \"/mariners/{rest*}\"\nrefuse = 403"
    )]
    #[case(
        Effect::Login("staff"),
        "[[site.rules]]\nname  = \"moved\"\npath  = \"/mariners/{rest*}\"\nlogin = \"staff\""
    )]
    fn rules_are_written_in_the_style_of_the_file(#[case] does: Effect<'_>, #[case] block: &str) {
        let rule = NewRule { name: "moved", path: "/mariners/{rest*}", does };
        assert_eq!(added("harbour", &rule, false), block);
    }

    #[test]
    fn the_first_stands_before_the_others_and_behind_the_pages() {
        let rule = NewRule { name: "", path: "/a", does: Effect::Gone };
        added("harbour", &rule, true);
        let text = add_rule(TOWN, "harbour", &rule, true).unwrap().text;
        let at = |words: &str| text.find(words).unwrap();
        assert!(at("404 =") < at("\"/a\"") && at("\"/a\"") < at("/backups/{*}"), "{text}");
        let text = add_rule(TOWN, "harbour", &rule, false).unwrap().text;
        let at = |words: &str| text.find(words).unwrap();
        assert!(at("/backups/{*}") < at("\"/a\"") && at("\"/a\"") < at("# the museum"), "{text}");
        assert!(added("lamp", &rule, false).starts_with("[[site.rules]]\npath = \"/a\""));
    }

    /// Whatever can be written is understood as a configuration, and does what was meant.
    #[rstest]
    #[case(Effect::Redirect("/notices/{rest}", 308), "redirect")]
    #[case(Effect::Header("X-Content-Type-Options", "nosniff"), "headers")]
    #[case(Effect::Refuse, "refuse")]
    #[case(Effect::Gone, "gone")]
    #[case(Effect::Login("staff"), "login")]
    fn every_rule_that_is_written_is_understood(#[case] does: Effect<'_>, #[case] name: &str) {
        let text = format!(
            "{TOWN}folder = \"lamp\"\n\n[[listener]]\naddress = \"127.0.0.1:0\"\n\n[[realm]]\nname = \"staff\"\nusers = \"staff.toml\"\n"
        );
        let rule = NewRule { name: "new", path: "/mariners/{rest*}", does };
        let written = add_rule(&text, "lamp", &rule, false).unwrap().text;
        let config = exedra_answering::config::understand(&written, std::path::Path::new("")).unwrap();
        let site = config.sites.iter().find(|site| site.name.value == "lamp").unwrap();
        let rules = site.rules.written();
        assert_eq!(rules.len(), 1);
        let effects = rules[0].effects.in_words(|_| "staff".to_owned());
        assert!(effects.iter().any(|effect| effect.name == name), "{name}");
    }

    #[test]
    fn what_cannot_be_changed_says_why() {
        let rule = NewRule { name: "", path: "/a", does: Effect::Gone };
        let wrong = |text: &str| add_rule(text, "lamp", &rule, false).unwrap_err().to_string();
        assert!(wrong("[[site]]\nname = \"harbour\"").contains("no [[site]] called `lamp`"));
        assert!(
            wrong("[[site]]\nname = \"lamp\"\nrules = [{ path = \"/b\", gone = true }]")
                .contains("[[site.rules]]")
        );
        assert!(wrong("[[site]\n").contains("has mistakes"));
    }

    #[test]
    fn an_alert_is_written_behind_the_others_in_their_style() {
        let (scope, tell) = (["site=harbour".to_owned()], ["office".to_owned()]);
        let alert = NewAlert {
            name: "tides fail",
            scope: &scope,
            figure: "share",
            of: "status=5xx",
            bound: "over",
            value: "2 %",
            of_last: "5 minutes",
            requests: 50,
            holds: "",
            tell: &tell,
        };
        let block = "[[alert]]\nname = \"tides fail\"\nscope = [\"site=harbour\"]\nwhen = { share = \"status=5xx\", over = \"2 %\", of_last = \"5 minutes\", requests = 50 }\ntell = [\"office\"]\n";
        let first = add_alert(TOWN, &alert).unwrap();
        assert_eq!(first.text, format!("{TOWN}\n{block}"));
        assert_eq!(first.text.lines().nth(first.line - 1), Some("[[alert]]"));
        let others =
            TOWN.replace("\n# the museum", "\n[[alert]]\nname  = \"a\" # one\nwhen  = {}\n\n# the museum");
        let number = NewAlert {
            figure: "number",
            of: "all",
            value: "5",
            holds: "2 minutes",
            tell: &[],
            scope: &[],
            requests: 0,
            ..alert
        };
        let second = add_alert(&others, &number).unwrap();
        let aligned = "when  = {}\n\n[[alert]]\nname  = \"tides fail\"\nwhen  = { number = \"all\", over = 5, of_last = \"5 minutes\" }\nholds = \"2 minutes\"\n\n# the museum";
        assert!(second.text.contains(aligned), "{}", second.text);
        assert!(matches!(add_alert("alert = 5\n", &number), Err(EditError::Inline(_))));
    }
}
