//! Mistakes in a configuration: as facts first, drawn second.

use super::sources::Sources;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
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
        }
    }

    /// A remark on a place.
    pub fn remark(span: Range<usize>, message: impl Into<String>, reason: impl Into<String>) -> Self {
        Diagnostic { severity: Severity::Remark, ..Diagnostic::error(span, message, reason) }
    }

    /// Whether it keeps a configuration from coming into force.
    pub fn is_error(&self) -> bool {
        self.severity == Severity::Error
    }

    /// The same, with what to do about it.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }
}

/// Draws diagnostics over the texts they are about, with colours for a terminal where asked for.
pub fn draw(diagnostics: &[Diagnostic], sources: &Sources, colour: bool) -> String {
    let renderer = if colour { Renderer::styled() } else { Renderer::plain() };
    let mut drawn = String::new();
    for diagnostic in diagnostics {
        let level = match diagnostic.severity {
            Severity::Error => Level::ERROR,
            Severity::Remark => Level::WARNING.with_name("remark"),
        };
        let Some((file, span)) = sources.find(&diagnostic.span) else { continue };
        let annotation = AnnotationKind::Primary.span(one_line(&file.text, span)).label(&*diagnostic.reason);
        let mut group = level
            .primary_title(&*diagnostic.message)
            .element(Snippet::source(&file.text).path(&file.name).fold(true).annotation(annotation));
        if let Some(remedy) = &diagnostic.remedy {
            group = group.element(Level::HELP.with_name("instead").message(&**remedy));
        }
        drawn.push_str(&renderer.render(&[group]));
        drawn.push_str("\n\n");
    }
    drawn
}

/// What goes over several lines is shown by its first.
fn one_line(text: &str, span: Range<usize>) -> Range<usize> {
    let end = text[span.start..span.end].find('\n').map_or(span.end, |line| span.start + line);
    span.start..end
}
