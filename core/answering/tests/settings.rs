//! The list of settings, held against what understands configurations: whatever the list gives as an example is taken, and what
//! is of another kind, or misspelt, is named with the example or the word that was meant.

use exedra_answering::config::settings::{Kind, Setting, all};
use exedra_answering::config::{Config, Diagnostic, FolderSettings, SiteId, understand};
use std::ops::Range;
use std::path::Path;

const LISTENER: &str = "[[listener]]\naddress = \"127.0.0.1:7380\"\n";
const SECURE: &str = "[[listener]]\naddress = \"127.0.0.1:7343\"\nhttps = true\n";
const REALM: &str = "[[realm]]\nname = \"staff\"\nusers = \"staff.toml\"\nwithout_https = true\n";
const SITE: &str =
    "[[site]]\nname = \"harbour\"\nhosts = [\"harbour.lindry.example\"]\nfolder = \"harbour\"\n";

/// What stands before and after a line of a section, so that nothing else is missing.
fn around(section: &str) -> (String, String) {
    let (before, after) = match section {
        "" => (String::new(), String::new()),
        "service" | "limits" | "errors" | "defaults" => {
            (format!("[{section}]\n"), format!("{LISTENER}{SECURE}{REALM}{SITE}"))
        }
        "listener" => {
            ("[service]\nforwarders = [\"10.0.0.0/8\"]\n[[listener]]\n".to_owned(), SITE.to_owned())
        }
        "certificate" => (
            format!(
                "{SECURE}{SITE}[authority]\ndirectory = \"https://authority.example/directory\"\ncontact = \"a@lindry.example\"\n[[certificate]]\n"
            ),
            String::new(),
        ),
        "authority" => ("[authority]\n".to_owned(), format!("{LISTENER}{SITE}")),
        "realm" => ("[[realm]]\n".to_owned(), format!("{LISTENER}{SITE}")),
        "layout" => ("[[layout]]\n".to_owned(), format!("{LISTENER}{SITE}")),
        "report" => (
            "[[report]]\n".to_owned(),
            format!("{LISTENER}{SITE}[[recipient]]\nname = \"office\"\ncommand = [\"true\"]\n"),
        ),
        "alert" => (
            "[[alert]]\n".to_owned(),
            format!("{LISTENER}{SITE}[[recipient]]\nname = \"office\"\ncommand = [\"true\"]\n"),
        ),
        "recipient" => (
            "[mail]\nserver = \"smtp.lindry.example\"\nfrom = \"exedra@lindry.example\"\n[[recipient]]\n"
                .to_owned(),
            format!("{LISTENER}{SITE}"),
        ),
        "mail" => ("[mail]\n".to_owned(), format!("{LISTENER}{SITE}")),
        "when" => ("[[alert]]\nname = \"tides\"\n[alert.when]\n".to_owned(), format!("{LISTENER}{SITE}")),
        "site" => (format!("{LISTENER}{SECURE}[[site]]\n"), String::new()),
        "compress" | "log" | "error_pages" | "media_types" => {
            (format!("{LISTENER}{SITE}[site.{section}]\n"), String::new())
        }
        "rules" => (format!("{LISTENER}{REALM}{SITE}[[site.rules]]\n"), String::new()),
        "limit" | "cors" => (
            format!("{LISTENER}{SITE}[[site.rules]]\npath = \"/a\"\n[site.rules.{section}]\n"),
            String::new(),
        ),
        other => panic!("nobody knows where `{other}` stands"),
    };
    (before, after)
}

/// Settings that only make sense beside others of their section.
fn beside(setting: &Setting) -> &'static str {
    match (setting.section, setting.key) {
        ("rules", "path" | "when" | "name") => "gone = true\n",
        ("rules", "status" | "query") => "redirect = \"/new\"\n",
        ("rules", "redirect" | "serve") => "path = \"/mariners/{year}/{rest*}\"\n",
        ("recipient", "name") => "command = [\"true\"]\n",
        (_, "at_allowance") => "allowance = \"200 GB\"\n",
        ("layout", "name") => "template = '{time} {client}'\n",
        ("limit", "at_once") => "requests = \"5 a second\"\n",
        ("cors", key) if key != "origins" => "origins = [\"https://partner.example\"]\n",
        ("listener", key) if key != "address" => "address = \"127.0.0.1:7380\"\n",
        ("authority", "contact" | "trusted" | "state") => {
            "directory = \"https://authority.example/directory\"\n"
        }
        _ => "",
    }
}

/// Understands a line of a section. Gives what is wrong with the line itself.
fn mistakes_in(setting: &Setting, line: &str) -> Vec<Diagnostic> {
    let within = |found: Vec<Diagnostic>, place: Range<usize>| {
        let inside = |one: &Diagnostic| one.span.start >= place.start && one.span.start < place.end;
        found.into_iter().filter(inside).collect()
    };
    if setting.section == ".exedra.toml" {
        let config = config(&format!("{LISTENER}{REALM}{SITE}"));
        let found = FolderSettings::understand(line, &config, SiteId(0)).err().unwrap_or_default();
        return within(found, 0..line.len());
    }
    let (before, after) = around(setting.section);
    let before = format!("{before}{}", beside(setting));
    let text = format!("{before}{line}\n{after}");
    let found = understand(&text, Path::new("")).err().unwrap_or_default();
    within(found, before.len()..before.len() + line.len())
}

fn config(text: &str) -> Config {
    understand(text, Path::new("")).unwrap()
}

/// Whether the example is a header, after which its section's own settings follow.
fn is_header(setting: &Setting) -> bool {
    setting.example.starts_with('[')
}

#[test]
fn every_example_is_understood_where_it_belongs() {
    let mut tried = 0;
    for setting in all().filter(|setting| !is_header(setting)) {
        let found = mistakes_in(setting, setting.example);
        assert!(found.is_empty(), "{}: {}: {found:#?}", setting.section, setting.example);
        tried += 1;
    }
    assert!(tried > 80, "{tried}");
}

#[test]
fn what_is_of_another_kind_is_answered_with_the_example() {
    for setting in all() {
        // No setting takes a date.
        let line = format!("{} = 1979-05-27", setting.key);
        let found = mistakes_in(setting, &line);
        let remedy = format!("write it like {}", setting.example);
        let kind = found.iter().find(|one| one.remedy.as_deref() == Some(&remedy));
        let kind = kind.unwrap_or_else(|| panic!("{}.{}: {found:#?}", setting.section, setting.key));
        assert!(kind.message.contains(setting.kind.in_words()), "{}", kind.message);
        assert_eq!(kind.reason, "this is a date");
    }
}

#[test]
fn what_is_misspelt_is_not_passed_over() {
    let free = ["error_pages", "media_types", "headers", "effort"];
    for setting in all().filter(|setting| !free.contains(&setting.section)) {
        let misspelt = format!("{}{}", setting.key, setting.key.chars().last().unwrap());
        let found = mistakes_in(setting, &format!("{misspelt} = 1979-05-27"));
        let said =
            found.iter().find(|one| one.message.contains(&format!("there is no setting `{misspelt}`")));
        let said = said.unwrap_or_else(|| panic!("{}.{misspelt}: {found:#?}", setting.section));
        assert_eq!(said.remedy, Some(format!("did you mean `{}`?", setting.key)), "{}", setting.section);
    }
}

#[test]
fn what_is_required_is_named_when_it_is_missing() {
    for setting in all().filter(|setting| setting.required) {
        let text = match setting.section {
            "site" => format!("{LISTENER}[[site]]\n"),
            section => format!("{LISTENER}{SITE}[[{section}]]\n"),
        };
        let text = match setting.section {
            "authority" | "mail" => format!("{LISTENER}{SITE}[{}]\n", setting.section),
            _ => text,
        };
        let found = understand(&text, Path::new("")).unwrap_err();
        let said = found.iter().find(|one| one.reason.starts_with(&format!("`{}` is missing", setting.key)));
        let said = said.unwrap_or_else(|| panic!("{}.{}: {found:#?}", setting.section, setting.key));
        assert_eq!(said.remedy, Some(format!("add {}", setting.example)));
    }
}

#[test]
fn keys_are_unique_in_their_sections_and_examples_name_them() {
    let mut known: Vec<(&str, &str)> = Vec::new();
    for setting in all() {
        assert!(
            !known.contains(&(setting.section, setting.key)),
            "{}.{} twice",
            setting.section,
            setting.key
        );
        known.push((setting.section, setting.key));
        let name = setting.example.trim_start_matches('[').split(['=', ']', ' ']).next().unwrap();
        assert!(name == setting.key || name.ends_with(&format!(".{}", setting.key)), "{}", setting.example);
        let is_section = matches!(setting.kind, Kind::Section | Kind::Sections);
        assert!(!is_header(setting) || is_section || setting.example.contains('.'), "{}", setting.example);
    }
}
