//! Rules: their paths and conditions. What they do is read in [`effects`].

use super::*;
use crate::config::document::Item;
use crate::facts::{FACTS, Fact};
use crate::rules::pattern::PatternError;
use crate::rules::when::{Asks, Entry, Test};
use crate::rules::{Condition, Pattern, Rule, Template};

/// Where rules stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kinship {
    /// In a site.
    Site,
    /// In a folder's own file.
    Folder,
}

impl Reading<'_> {
    /// The rules of a site or a folder.
    pub(super) fn rules(&mut self, section: &Section<'_>, kinship: Kinship) -> Vec<Rule> {
        let sections = section.sections("rules", &mut self.diagnostics);
        let number = |(nth, section): (usize, &Section<'_>)| self.rule(section, nth + 1, kinship);
        sections.iter().enumerate().filter_map(number).collect()
    }

    fn rule(&mut self, section: &Section<'_>, number: usize, kinship: Kinship) -> Option<Rule> {
        let mistakes = self.diagnostics.len();
        let name = section.text("name").map_or_else(|| format!("rule {number}"), |name| name.value);
        let path = section.any("path").and_then(|path| self.pattern(&path));
        let names: Vec<Box<str>> = match &path {
            Some(path) => path.names().to_vec(),
            // What a path that is wrong seems to capture, so that one mistake does not look like two.
            None => section.text("path").map(|text| names_in(&text.value)).unwrap_or_default(),
        };
        let when = section.any("when").map(|when| self.when(&when)).unwrap_or_default();
        let effects = self.effects(section, &names, kinship);
        if effects.is_empty() && self.diagnostics.len() == mistakes {
            let remedy = "say what happens: redirect, serve, refuse, gone, login, headers, cache, …";
            self.error(&first_line(section), "this rule does nothing", "conditions, and no effect", remedy);
        }
        (self.diagnostics.len() == mistakes).then(|| Rule {
            name: name.into(),
            place: section.span.clone(),
            path_place: section.place("path").unwrap_or_else(|| section.span.clone()),
            target_place: section
                .place("redirect")
                .or_else(|| section.place("serve"))
                .unwrap_or_else(|| section.span.clone()),
            path,
            when,
            effects,
        })
    }

    fn pattern(&mut self, item: &Item<'_>) -> Option<Pattern> {
        if let Some(text) = item.text() {
            return match Pattern::understand(&text.value) {
                Ok(pattern) => Some(pattern),
                Err((error, part)) => {
                    let message = format!("`{}` is not a path", text.value);
                    let remedy = match error {
                        PatternError::NoSlash => format!("write \"/{}\"", text.value),
                        PatternError::TwoSlashes => {
                            format!("write \"/{}\"", text.value.trim_start_matches('/'))
                        }
                        PatternError::Star | PatternError::Colon => {
                            format!("write \"{}\"", Pattern::meant_by(&text.value))
                        }
                        _ => "write it like \"/mariners/{year}/{rest*}\"".to_owned(),
                    };
                    self.error(&part_of(&text, part), message, error.to_string(), remedy);
                    None
                }
            };
        }
        let pairs = item.pairs().unwrap_or_default();
        let regex = pairs.iter().find(|(key, _)| key.value == "regex").and_then(|(_, value)| value.text());
        match (regex, pairs.len()) {
            (Some(text), 1) => match Pattern::regex(&text.value) {
                Ok(pattern) => Some(pattern),
                Err(error) => {
                    let (message, remedy) = match error {
                        PatternError::NoPath => {
                            let rest = text.value.trim_start_matches('^');
                            (
                                "this regular expression fits no path",
                                format!("write '/{rest}'; where only the end matters, '.*{rest}'"),
                            )
                        }
                        _ => (
                            "this regular expression cannot be read",
                            "it must fit the whole path".to_owned(),
                        ),
                    };
                    self.error(&text.span, message, error.to_string(), remedy);
                    None
                }
            },
            _ => {
                let remedy = "write path = \"/a/{rest*}\", or path = { regex = \"/a/[0-9]+\" }";
                self.error(&item.span, "a path is a text or a regex", "this is neither", remedy);
                None
            }
        }
    }

    fn when(&mut self, item: &Item<'_>) -> Vec<Condition> {
        let mut conditions = Vec::new();
        for (key, value) in item.pairs().unwrap_or_default() {
            let family = FACTS.iter().any(|fact| fact.kind == "family" && fact.name == key.value);
            match (family, value.pairs(), FactName::plain(&key.value)) {
                (true, Some(pairs), _) => {
                    for (argument, value) in pairs {
                        match FactName::of_family(&key.value, &argument.value) {
                            Some(fact) => conditions.extend(self.condition(fact, argument.span, &value)),
                            None => {
                                let message = format!("`{}` is not a header name", argument.value);
                                self.error(
                                    &argument.span,
                                    message,
                                    "RFC 9110 §5.1",
                                    "write it like Accept-Language",
                                );
                            }
                        }
                    }
                }
                (true, None, _) => {
                    let message = format!("`{}` is a family of facts", key.value);
                    let remedy = format!("write it like {}", example(&key.value));
                    self.error(&value.span, message, "which one of them?", remedy);
                }
                (false, _, Some(fact)) => conditions.extend(self.condition(fact, key.span, &value)),
                (false, _, None) => {
                    let remedy = match nearest(&key.value, FACTS.iter().map(|fact| fact.name)) {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => "`exedra facts` lists them".to_owned(),
                    };
                    let message = format!("there is no fact `{}`", key.value);
                    self.error(&key.span, message, "not known", remedy);
                }
            }
        }
        conditions
    }

    fn condition(&mut self, fact: FactName, key: Range<usize>, value: &Item<'_>) -> Option<Condition> {
        let place = key.start..value.span.end;
        if let Some(flag) = value.flag() {
            return Some(Condition {
                text: format!("{fact} = {flag}").into(),
                fact,
                asks: Asks::Presence(flag),
                place,
            });
        }
        let items = value.list().unwrap_or_else(|| vec![value.clone()]);
        let mut entries = Vec::new();
        let mut words = Vec::new();
        for item in &items {
            let number = item.whole().map(|number| number.to_string());
            let regex = item.pairs().filter(|pairs| pairs.len() == 1);
            if let Some((_, regex)) =
                regex.and_then(|pairs| pairs.into_iter().find(|(key, _)| key.value == "regex"))
            {
                entries.push(self.regex_entry(&regex)?);
                words.push(format!("regex {}", regex.text()?.value));
                continue;
            }
            let Some(text) = item.text().map(|text| text.value).or(number) else {
                let message = format!("`{fact}` cannot be {}", item.in_words());
                self.error(
                    &item.span,
                    message,
                    "a text, a list of texts, true or false",
                    example(&fact.to_string()),
                );
                return None;
            };
            match Entry::understand(&fact, &text) {
                Ok(entry) => entries.push(entry),
                Err(instead) => {
                    let message = format!("`{fact}` can never be `{}`", text.trim_start_matches('!'));
                    self.error(&item.span, message, "no request has it", format!("write {instead}"));
                    return None;
                }
            }
            words.push(text);
        }
        if entries.is_empty() {
            self.error(&value.span, "an empty list never matches", "an empty list", "name at least one");
            return None;
        }
        Some(Condition {
            text: format!("{fact} = {}", words.join(", ")).into(),
            fact,
            asks: Asks::Among(entries),
            place,
        })
    }

    fn regex_entry(&mut self, item: &Item<'_>) -> Option<Entry> {
        let text = item.text()?;
        let regex = regex::RegexBuilder::new(&format!("^(?:{})$", text.value)).size_limit(1 << 20).build();
        match regex {
            Ok(regex) => Some(Entry { negated: false, test: Test::Regex(Box::new(regex)) }),
            Err(error) => {
                let words = error.to_string();
                let reason = words.lines().last().unwrap_or_default().to_owned();
                self.error(
                    &text.span,
                    "this regular expression cannot be read",
                    reason,
                    "it must fit the whole value",
                );
                None
            }
        }
    }

    pub(super) fn template(&mut self, text: &Located<String>, names: &[Box<str>]) -> Option<Template> {
        match Template::understand(&text.value, names) {
            Ok(template) => Some(template),
            Err((error, part)) => {
                let words = error.to_string();
                let (reason, remedy) = words.split_once(": ").unwrap_or((&words, ""));
                let remedy = match remedy.is_empty() {
                    true => "`exedra facts` lists facts; captures are named in `path`".to_owned(),
                    false => remedy.to_owned(),
                };
                let message = format!("`{}` cannot be filled in", text.value);
                self.error(&part_of(text, part), message, reason, remedy);
                None
            }
        }
    }
}

/// All that stands in braces.
fn names_in(text: &str) -> Vec<Box<str>> {
    let opened = text.split('{').skip(1).filter_map(|rest| rest.split('}').next());
    opened.map(|name| name.trim_end_matches('*').into()).collect()
}

/// A part of a text, as a place. In a text with escapes it is the whole.
fn part_of(text: &Located<String>, part: Range<usize>) -> Range<usize> {
    let plain = text.span.len() == text.value.len() + 2;
    if plain { text.span.start + 1 + part.start..text.span.start + 1 + part.end } else { text.span.clone() }
}

fn first_line(section: &Section<'_>) -> Range<usize> {
    section.span.clone()
}

fn example(fact: &str) -> String {
    let name = fact.split(':').next().unwrap_or_default();
    let known: Option<&Fact> = FACTS.iter().find(|known| known.name == name);
    known.map_or(String::new(), |fact| format!("write it like {}", fact.example))
}
