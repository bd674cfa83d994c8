//! How far a long reading has come: bytes, rate and time left on a terminal, and nothing elsewhere.

use crate::sources::bookmark::{ALL, Begun};
use indicatif::{ProgressBar, ProgressStyle};
use std::time::Duration;

/// Readings shorter than this are over before anybody has read how far they are.
const SHORT: u64 = 64 << 20;

/// How far a reading has come.
pub struct Progress(Option<ProgressBar>);

impl Progress {
    /// Of files that are about to be read.
    pub fn of(files: &[Begun]) -> Self {
        let sizes = files.iter().filter(|begun| begun.read != ALL).map(|begun| {
            let size =
                begun.file.path.as_ref().and_then(|path| path.metadata().ok()).map_or(0, |found| found.len());
            size.saturating_sub(begun.read)
        });
        let total: u64 = sizes.sum();
        if total < SHORT || !crate::out::is_watched() {
            return Progress(None);
        }
        let bar = ProgressBar::new(total);
        // A template that is wrong is shown as it is: nothing is lost by it.
        if let Ok(style) = ProgressStyle::with_template(
            "reading {bar:30} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left",
        ) {
            bar.set_style(style);
        }
        bar.enable_steady_tick(Duration::from_millis(250));
        Progress(Some(bar))
    }

    /// So many octets more have been read. Of compressed files there are more than their size.
    pub fn read(&self, octets: u64) {
        if let Some(bar) = &self.0 {
            bar.inc(octets);
            if bar.length().is_some_and(|length| bar.position() > length) {
                bar.set_length(bar.position());
            }
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Some(bar) = &self.0 {
            bar.finish_and_clear();
        }
    }
}
