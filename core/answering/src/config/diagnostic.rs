//! Mistakes in a configuration: as facts first, drawn second.
//!
//! ```
//! use exedra_answering::config::diagnostic::{Diagnostic, draw};
//! use exedra_answering::config::Sources;
//! let sources = Sources::one("exedra.toml", "lisstener = 1\n");
//! let mistake = Diagnostic::error(0..9, "there is no setting `lisstener`", "not known").remedy("did you mean `listener`?");
//! assert!(mistake.is_error() && !mistake.clone().of_folder().is_error());
//! let drawn = draw(&[mistake], &sources, false);
//! assert!(drawn.contains("exedra.toml:1") && drawn.contains("did you mean `listener`?"));
//! ```

use super::sources::Sources;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use exedra_common::text::clean_value;
use std::collections::HashMap;
use std::ops::Range;

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Worth knowing; nothing stops.
    Remark,
    /// The configuration cannot come into force.
    Error,
}

/// One mistake, or something worth knowing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnostic {
    /// How bad it is.
    pub severity: Severity,
    /// Where: octets of the text.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
    /// Why, said beside the place.
    pub reason: String,
    /// What to write instead, where that is known.
    pub remedy: Option<String>,
    /// How many more there are like it, which are not listed.
    pub also: usize,
}

impl Diagnostic {
    /// An error at a place.
    pub fn error(span: Range<usize>, message: impl Into<String>, reason: impl Into<String>) -> Self {
        Diagnostic {
            severity: Severity::Error,
            span,
            message: message.into(),
            reason: reason.into(),
            remedy: None,
            also: 0,
        }
    }

    /// A remark on a place.
    pub fn remark(span: Range<usize>, message: impl Into<String>, reason: impl Into<String>) -> Self {
        Diagnostic { severity: Severity::Remark, ..Diagnostic::error(span, message, reason) }
    }

    /// The same, not to keep a configuration from coming into force: what a folder says of itself counts already, and takes
    /// no site down.
    #[must_use]
    pub fn of_folder(self) -> Self {
        Diagnostic { severity: Severity::Remark, ..self }
    }

    /// Whether it keeps a configuration from coming into force.
    pub fn is_error(&self) -> bool {
        self.severity == Severity::Error
    }

    /// What it is about, the names in it left out.
    pub fn kind(&self) -> String {
        let parts = self.message.split('`').enumerate();
        let message: Vec<&str> = parts.map(|(nth, part)| if nth % 2 == 0 { part } else { "…" }).collect();
        clean_value(&message.join("`")).into_owned()
    }

    /// The same, with what to do about it.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
}

/// How many diagnostics of a kind are drawn.
const MOST_OF_A_KIND: usize = 5;

/// Draws diagnostics over the texts they are about, with colours for a terminal where asked for.
pub fn draw(diagnostics: &[Diagnostic], sources: &Sources, colour: bool) -> String {
    let renderer = if colour { Renderer::styled() } else { Renderer::plain() };
    let mut drawn = String::new();
    let mut times: HashMap<String, (usize, usize)> = HashMap::new();
    for diagnostic in diagnostics {
        // What is the same but for its names is drawn a few times, and then counted: nobody reads it thousands of times.
        let (drawn_before, more) = times.entry(diagnostic.kind()).or_default();
        *more += diagnostic.also;
        if *drawn_before == MOST_OF_A_KIND {
            *more += 1;
            continue;
        }
        *drawn_before += 1;
        let level = match diagnostic.severity {
            Severity::Error => Level::ERROR,
            Severity::Remark => Level::WARNING.with_name("remark"),
        };
        let Some((file, span)) = sources.find(&diagnostic.span) else { continue };
        // Names on the disk and in the configuration may come from anybody.
        let (message, reason) = (clean_value(&diagnostic.message), clean_value(&diagnostic.reason));
        let remedy = diagnostic.remedy.as_deref().map(clean_value);
        // Of a large file only the line itself is looked at.
        let span = one_line(&file.text, span);
        let begin = memchr::memrchr(b'\n', &file.text.as_bytes()[..span.start]).map_or(0, |end| end + 1);
        let end = memchr::memchr(b'\n', &file.text.as_bytes()[span.end..])
            .map_or(file.text.len(), |at| span.end + at);
        let line = 1 + memchr::memchr_iter(b'\n', &file.text.as_bytes()[..begin]).count();
        let annotation = AnnotationKind::Primary.span(span.start - begin..span.end - begin).label(&*reason);
        let snippet = Snippet::source(&file.text[begin..end]).line_start(line).path(&file.name).fold(true);
        let mut group = level.primary_title(&*message).element(snippet.annotation(annotation));
        if let Some(remedy) = &remedy {
            group = group.element(Level::HELP.with_name("instead").message(&**remedy));
        }
        drawn.push_str(&renderer.render(&[group]));
        drawn.push_str("\n\n");
    }
    let mut more: Vec<(&String, usize)> = times.iter().map(|(kind, (_, more))| (kind, *more)).collect();
    more.retain(|(_, count)| *count > 0);
    more.sort_unstable();
    for (kind, count) in more {
        drawn.push_str(&format!("{count} more like this: {kind}\n\n"));
    }
    drawn
}

/// What goes over several lines is shown by its first.
fn one_line(text: &str, span: Range<usize>) -> Range<usize> {
    let end = text[span.start..span.end].find('\n').map_or(span.end, |line| span.start + line);
    span.start..end
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_the_same_thousands_of_times_is_drawn_a_few_times_and_counted() {
        let text = "/a.html,/b.html\n".repeat(20_000);
        let found: Vec<Diagnostic> = (0..20_000)
            .map(|line| {
                let place = line * 16..line * 16 + 7;
                Diagnostic::remark(place, format!("`moved {line}` leads to nothing"), "404")
                    .remedy("correct it")
            })
            .chain([Diagnostic::error(0..1, "another\u{1b}[2J", "it is wrong")])
            .collect();
        let drawn = draw(&found, &Sources::one("moved.csv", &text), false);
        assert_eq!(drawn.matches("instead").count(), MOST_OF_A_KIND);
        assert!(
            drawn.contains("19995 more like this: `…` leads to nothing") && drawn.contains("another\\x1b[2J"),
            "{drawn}"
        );
    }
}
