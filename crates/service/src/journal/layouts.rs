//! How each generation was written: `NAME.layouts` beside the files, a line for every change.
//!
//! `000001 full` says that generation 1 and those after it were written in the layout `full`, up to the next line. Whoever
//! reads the logs years later can tell by it, the service itself first.

use super::generations::generations;
use exedra_core::logs::Layout;
use exedra_core::logs::layout::is_named;
use std::fmt::Write;
use std::io;
use std::path::{Path, PathBuf};

/// What was written how.
pub struct Layouts {
    folder: PathBuf,
    journal: String,
    /// From which generation on each layout holds, in order.
    changes: Vec<(u64, Layout)>,
}

impl Layouts {
    /// Reads what is known; nothing, where nobody wrote it down. Lines that cannot be understood are passed over.
    pub fn open(folder: &Path, journal: &str) -> io::Result<Self> {
        let mut layouts =
            Layouts { folder: folder.to_owned(), journal: journal.to_owned(), changes: Vec::new() };
        let text = match std::fs::read_to_string(layouts.path()) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
            read => read?,
        };
        for line in text.lines() {
            let Some((number, layout)) = line.split_once(' ') else { continue };
            if let (Ok(number), Ok(layout)) = (number.parse(), Layout::understand(layout)) {
                layouts.changes.push((number, layout));
            }
        }
        layouts.changes.sort_by_key(|(number, _)| *number);
        Ok(layouts)
    }

    /// The generation at which the layout changed last.
    pub fn last(&self) -> u64 {
        self.changes.last().map_or(0, |(number, _)| *number)
    }

    /// How a generation was written.
    pub fn of(&self, generation: u64) -> Option<Layout> {
        let after = self.changes.partition_point(|(number, _)| *number <= generation);
        after.checked_sub(1).map(|nth| self.changes[nth].1.clone())
    }

    /// Writes down that a generation, later than all that were written down, is in a layout.
    pub fn begin(&mut self, generation: u64, layout: &Layout) -> io::Result<()> {
        if layout.pieces.is_empty() || self.of(generation).is_some_and(|known| known == *layout) {
            return Ok(());
        }
        let mut changes = self.changes.clone();
        changes.retain(|(number, _)| *number < generation);
        changes.push((generation, layout.clone()));
        // What no file was written in any longer is forgotten.
        let oldest =
            generations(&self.folder, &self.journal)?.first().map_or(generation, |first| first.number);
        let needed = changes.partition_point(|(number, _)| *number <= oldest).saturating_sub(1);
        changes.drain(..needed);
        let mut text = String::new();
        for (number, layout) in &changes {
            let layout = if is_named(&layout.name) { &layout.name } else { &layout.template };
            // Texts take whatever is written to them.
            let _ = writeln!(text, "{number:06} {layout}");
        }
        let fresh = self.path().with_extension("layouts.new");
        std::fs::write(&fresh, text)?;
        std::fs::rename(fresh, self.path())?;
        self.changes = changes;
        Ok(())
    }

    fn path(&self) -> PathBuf {
        self.folder.join(format!("{}.layouts", self.journal))
    }
}

#[cfg(test)]
mod tests {
    use super::super::generations::file_name;
    use super::*;

    #[test]
    fn each_generation_has_its_layout_also_after_a_restart_and_old_news_are_forgotten() {
        let folder = tempfile::tempdir().unwrap();
        let own = Layout::understand("{time} {client} {status}").unwrap();
        let mut layouts = Layouts::open(folder.path(), "a").unwrap();
        assert!(layouts.of(1).is_none());
        for (number, layout) in [(1, &Layout::full()), (2, &Layout::full()), (3, &own), (7, &Layout::full())]
        {
            std::fs::write(folder.path().join(file_name("a", number)), "x\n").unwrap();
            layouts.begin(number, layout).unwrap();
        }
        let text = std::fs::read_to_string(folder.path().join("a.layouts")).unwrap();
        assert_eq!(text, "000001 full\n000003 {time} {client} {status}\n000007 full\n");
        let mut layouts = Layouts::open(folder.path(), "a").unwrap();
        let names = [1, 2, 3, 6, 7, 99].map(|number| layouts.of(number).unwrap().name);
        let [full, mine] = ["full", "{time} {client} {status}"];
        assert_eq!(names, [full, full, mine, mine, full, full]);

        for number in [1, 2] {
            std::fs::remove_file(folder.path().join(file_name("a", number))).unwrap();
        }
        layouts.begin(8, &own).unwrap();
        let text = std::fs::read_to_string(folder.path().join("a.layouts")).unwrap();
        assert_eq!(text, "000003 {time} {client} {status}\n000007 full\n000008 {time} {client} {status}\n");
    }
}
