//! `exedra facts`: the one list of facts.

use crate::failure::Failure;
use exedra_answering::facts::FACTS;

/// Prints the list.
pub fn run() -> Result<(), Failure> {
    for fact in FACTS {
        crate::out::line!("{:<14} {:<8} {:<46} {}", fact.name, fact.kind, fact.example, fact.about);
    }
    Ok(())
}
