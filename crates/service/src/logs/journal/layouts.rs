//! How each generation was written: `NAME.layouts` beside the files, a line for every change.
//!
//! `000001 full` and, behind a tab, a template say that generation 1 and those after it were written by that template, up to
//! the next line. Whoever reads the logs years later can tell by it, the service itself first: a name may mean another
//! template by then, in the configuration or in this program.

use super::generations::generations;
use exedra_reading::logs::Layout;
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
            if let (Ok(number), Some(layout)) = (number.parse(), understood(layout)) {
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
            let name = if layout.name == layout.template { "" } else { &layout.name };
            // Texts take whatever is written to them.
            let _ = writeln!(text, "{number:06} {name}\t{}", layout.template);
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

/// A layout as it was written down: its name, where it has one, a tab, and its template. Before, there was either alone.
fn understood(written: &str) -> Option<Layout> {
    match written.split_once('\t').filter(|(name, _)| !name.contains('{')) {
        Some(("", template)) => Layout::understand(template).ok(),
        Some((name, template)) => Layout::called(name, template).ok(),
        None => Layout::understand(written).ok(),
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
        let full = format!("full\t{}", Layout::full().template);
        let mine = "\t{time} {client} {status}";
        assert_eq!(text, format!("000001 {full}\n000003 {mine}\n000007 {full}\n"));
        let mut layouts = Layouts::open(folder.path(), "a").unwrap();
        let names = [1, 2, 3, 6, 7, 99].map(|number| layouts.of(number).unwrap().name);
        let [by_name, bare] = ["full", "{time} {client} {status}"];
        assert_eq!(names, [by_name, by_name, bare, bare, by_name, by_name]);

        for number in [1, 2] {
            std::fs::remove_file(folder.path().join(file_name("a", number))).unwrap();
        }
        layouts.begin(8, &own).unwrap();
        let text = std::fs::read_to_string(folder.path().join("a.layouts")).unwrap();
        assert_eq!(text, format!("000003 {mine}\n000007 {full}\n000008 {mine}\n"));
    }

    #[test]
    fn a_generation_is_read_by_what_it_was_written_by_whatever_the_name_means_now() {
        let folder = tempfile::tempdir().unwrap();
        let lines = "000001 common\n000002 {time}\t{status}\n000003 quay\t{time}\t{client}\n000004 full\t{time} {client}\n";
        std::fs::write(folder.path().join("a.layouts"), lines).unwrap();
        let mut layouts = Layouts::open(folder.path(), "a").unwrap();
        let of = |layouts: &Layouts, number| {
            let layout = layouts.of(number).unwrap();
            (layout.name, layout.template)
        };
        assert_eq!(of(&layouts, 1), ("common".to_owned(), Layout::understand("common").unwrap().template));
        assert_eq!(of(&layouts, 2).1, "{time}\t{status}");
        assert_eq!(of(&layouts, 3), ("quay".to_owned(), "{time}\t{client}".to_owned()));
        assert_eq!(of(&layouts, 4), ("full".to_owned(), "{time} {client}".to_owned()));
        // What is called `full` now is another layout, so another generation begins with it.
        let full = Layout::full();
        std::fs::write(folder.path().join(file_name("a", 4)), "x\n").unwrap();
        layouts.begin(5, &full).unwrap();
        assert_eq!(of(&layouts, 4).1, "{time} {client}");
        assert_eq!(of(&layouts, 5), ("full".to_owned(), full.template));
    }
}
