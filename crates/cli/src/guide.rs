//! What holds the guide (`docs/guide/`) to the program: its lists are made of the program's, its commands are understood.

use crate::{Arguments, Command};
use clap::Parser;
use exedra_answering::facts::FACTS;
use exedra_common::columns::Column;
use exedra_common::filters::example;
use exedra_reading::logs::template;
use exedra_reading::survey::report::sections::Question;
use std::fmt::Write;
use std::path::{Path, PathBuf};

const GUIDE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide");

/// A table in Markdown.
fn table<const N: usize>(heading: [&str; N], rows: impl Iterator<Item = [String; N]>) -> String {
    let line =
        |cells: [String; N]| format!("| {} |\n", cells.map(|cell| cell.replace('|', "\\|")).join(" | "));
    let mut text = line(heading.map(str::to_owned)) + &format!("|{}\n", "---|".repeat(N));
    text.extend(rows.map(line));
    text
}

fn code(text: &str) -> String {
    if text.is_empty() { String::new() } else { format!("`{text}`") }
}

/// All lists that the guide points to.
fn lists() -> String {
    let mut text = "# Lists\n\nMade from the program's own by `cargo xtask types`; `exedra columns` and `exedra facts` print them too.\n"
        .to_owned();
    let mut chapter = |title: &str, about: &str, table: String| {
        _ = write!(text, "\n## {title}\n\n{about}\n\n{table}");
    };
    let rows = Column::all().map(|column| {
        let declared = column.declaration();
        let names = |names: &[&str]| names.iter().map(|name| code(name)).collect::<Vec<_>>().join(" ");
        let json = declared.json.iter().map(|(unit, keys)| match unit.is_none() {
            true => names(keys),
            false => format!("{} ({})", names(keys), unit.name()),
        });
        let values = if declared.values.is_empty() {
            String::new()
        } else {
            format!(" One of {}.", names(declared.values))
        };
        [
            code(column.name()),
            declared.kind.name().to_owned(),
            format!("{}{values}", column.meaning()),
            code(&example(column)),
            json.filter(|names| !names.is_empty()).collect::<Vec<_>>().join("; "),
            names(declared.w3c),
        ]
    });
    chapter(
        "Columns",
        "What a logged request has. Keys of JSON are compared without capitals and punctuation; where a key says its unit, that is the one beside it.",
        table(["column", "kind", "what it is", "a filter", "JSON keys", "W3C identifiers"], rows),
    );
    let rows = template::fields().map(|(name, meaning)| {
        [code(&format!("{{{name}}}")), meaning.to_owned(), code(&crate::fields::example(name))]
    });
    chapter(
        "Fields of layouts",
        "What may stand in braces in a `template`. `{time}` takes `rfc3339`, `seconds`, `milliseconds`, `microseconds`, `nanoseconds` (since 1970), or a form as in \
         strftime; `{duration}` takes `nanoseconds`, `microseconds`, `milliseconds` or `seconds`, or `ns`, `us`, `ms`, `s`.",
        table(["field", "what it is", "an example"], rows),
    );
    let rows = Question::ALL.into_iter().flat_map(|question| {
        let rows = question.sections().iter().map(move |section| {
            let shown = if section.on_request { "when named" } else { "" };
            [code(question.name()), code(section.name), section.title.to_owned(), shown.to_owned()]
        });
        rows.collect::<Vec<_>>()
    });
    chapter(
        "Sections of reports",
        "What `--show` takes, one or several with commas: a question, which stands for those of its sections that are not shown only when named, or sections.",
        table(["question", "section", "title", "shown"], rows),
    );
    let rows = FACTS
        .iter()
        .map(|fact| [code(fact.name), fact.kind.to_string(), fact.about.to_owned(), code(fact.example)]);
    chapter(
        "Facts",
        "What rules may ask of a request in `when`. A `!` before a value means not; a list is one of them; `false` means that there is none.",
        table(["fact", "kind", "what it is", "an example"], rows),
    );
    text
}

/// `cargo xtask types` writes it anew.
#[test]
fn the_published_lists_are_the_programs() {
    let path = Path::new(GUIDE).join("lists.md");
    if std::env::var_os("EXEDRA_WRITE_DESCRIPTION").is_some() {
        std::fs::write(&path, lists()).unwrap();
    }
    assert!(std::fs::read_to_string(path).unwrap() == lists(), "run `cargo xtask types`");
}

/// The pages of the guide with their text.
fn pages() -> Vec<(PathBuf, String)> {
    let files = std::fs::read_dir(GUIDE).unwrap().map(|file| file.unwrap().path());
    let pages: Vec<_> = files.map(|path| (path.clone(), std::fs::read_to_string(path).unwrap())).collect();
    assert!(pages.len() > 10, "there is a page for each job");
    pages
}

/// The words of a line as a shell would part them: quotation marks and remarks are all that the guide uses.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut quote = None;
    for letter in line.chars() {
        match (quote, letter) {
            (Some(open), _) if letter == open => quote = None,
            (Some(_), _) => word.get_or_insert_default().push(letter),
            (None, '\'' | '"') => {
                quote = Some(letter);
                word.get_or_insert_default();
            }
            (None, '#') if word.is_none() => break,
            (None, ' ') => words.extend(word.take()),
            (None, _) => word.get_or_insert_default().push(letter),
        }
    }
    words.extend(word);
    words
}

#[test]
fn every_command_in_the_guide_is_understood() {
    let mut understood = 0;
    for (page, text) in pages() {
        let commands = text.lines().filter_map(|line| match line.split_once("  exedra ") {
            Some((_, command)) => Some(format!("exedra {command}")),
            None => line.starts_with("exedra ").then(|| line.to_owned()),
        });
        for command in commands {
            let parsed = Arguments::try_parse_from(words(&command));
            let parsed = parsed.unwrap_or_else(|error| panic!("{}: {command}\n{error}", page.display()));
            assert!(!matches!(parsed.command, None | Some(Command::Other(_))), "{command}");
            understood += 1;
        }
    }
    assert!(understood > 50, "{understood} commands");
}

#[test]
fn every_link_in_the_guide_leads_somewhere() {
    for (page, text) in pages() {
        for link in text.split("](").skip(1).filter_map(|rest| rest.split(')').next()) {
            let (file, heading) = link.split_once('#').unwrap_or((link, ""));
            let file = if file.is_empty() { page.clone() } else { Path::new(GUIDE).join(file) };
            let text = std::fs::read_to_string(&file)
                .unwrap_or_else(|error| panic!("{}: {link}: {error}", page.display()));
            let anchors = text.lines().filter_map(|line| line.strip_prefix('#'));
            let anchor = |line: &str| line.trim_start_matches('#').trim().to_lowercase().replace(' ', "-");
            assert!(
                heading.is_empty() || anchors.map(anchor).any(|name| name == heading),
                "{}: {link}",
                page.display()
            );
        }
    }
}
