//! What an answer lets whoever drives it know: whether it stands still because of its client, or because of us.
//!
//! Notes are of the thread on which an answer is driven, and of the answer that is driven.

use std::cell::Cell;

/// What became of the answer while it was driven.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Progress {
    /// Nobody asked it for anything: its client holds it back.
    HeldBack,
    /// It was asked, and waits for the disk, or for its pace.
    Waits,
    /// It gave something.
    Moved,
}

thread_local! {
    static PROGRESS: Cell<Progress> = const { Cell::new(Progress::HeldBack) };
}

/// Writes down what became of the answer that is driven.
pub fn note(progress: Progress) {
    PROGRESS.set(progress);
}

/// What was written down last.
pub fn noted() -> Progress {
    PROGRESS.get()
}
