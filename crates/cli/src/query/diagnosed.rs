//! What is wrong with a statement, drawn at its place.

use crate::failure::Failure;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use exedra_common::text::clean_value;
use exedra_query::Diagnostic;

/// A statement's mistake as the failure of a command.
pub fn failure(wrong: &Diagnostic, statement: &str) -> Failure {
    let what = clean_value(&wrong.what);
    let instead = wrong.instead.as_deref().map(clean_value);
    let mut group = match &wrong.at {
        Some(at) => {
            let at = at.start.min(statement.len())..at.end.clamp(at.start, statement.len());
            let annotation = AnnotationKind::Primary.span(at);
            Level::ERROR
                .primary_title(&*what)
                .element(Snippet::source(statement).fold(true).annotation(annotation))
        }
        None => annotate_snippets::Group::with_title(Level::ERROR.primary_title(&*what)),
    };
    if let Some(instead) = &instead {
        group = group.element(Level::HELP.with_name("instead").message(&**instead));
    }
    Failure(Renderer::plain().render(&[group]))
}
