//! The form of what a command says.

use clap::ValueEnum;

/// The form of what a command says.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Form {
    /// For people
    Text,
    /// For programs
    Json,
}
