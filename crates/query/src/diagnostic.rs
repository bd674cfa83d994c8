//! What is wrong with a statement, as data: what, where, and what instead.

use std::ops::Range;
use thiserror::Error;

/// Something wrong with a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnostic {
    /// What is wrong, in one sentence without its full stop.
    pub what: String,
    /// Where, in octets of the statement; nowhere where all of it is meant.
    pub at: Option<Range<usize>>,
    /// What to write instead, or what there is.
    pub instead: Option<String>,
}

impl Diagnostic {
    /// Something that is wrong with all of a statement.
    pub fn new(what: impl Into<String>) -> Self {
        Diagnostic { what: what.into(), at: None, instead: None }
    }

    /// The same at a place.
    #[must_use]
    pub fn at(self, at: Range<usize>) -> Self {
        Diagnostic { at: Some(at), ..self }
    }

    /// The same with what to do about it.
    #[must_use]
    pub fn instead(self, instead: impl Into<String>) -> Self {
        Diagnostic { instead: Some(instead.into()), ..self }
    }

    /// Line and column of its place in a statement, both counted from 1, the column in letters.
    pub fn place(&self, statement: &str) -> Option<(usize, usize)> {
        let before = statement.get(..self.at.as_ref()?.start)?;
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().map_or(0, |line| line.chars().count()) + 1;
        Some((line, column))
    }
}

/// What, and what instead, in one sentence.
impl std::fmt::Display for Diagnostic {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.instead {
            Some(instead) => write!(out, "{}: {instead}", self.what),
            None => write!(out, "{}", self.what),
        }
    }
}

/// Why there is no answer, or no more of it.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum QueryError {
    /// The statement is wrong, or more than reading.
    #[error("{0}")]
    Wrong(Box<Diagnostic>),
    /// What is read failed.
    #[error("{0}")]
    Source(String),
    /// It needs more than it may have, in a sentence that says what to do.
    #[error("{0}")]
    TooMuch(String),
    /// Whoever asked no longer wants it.
    #[error("stopped")]
    Stopped,
}

impl From<Diagnostic> for QueryError {
    fn from(wrong: Diagnostic) -> Self {
        QueryError::Wrong(Box::new(wrong))
    }
}
