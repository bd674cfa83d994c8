//! Redirects from files, of which there may be millions: exact paths, each to one target, without conditions.
//!
//! A file is kept as it is written, once. Of each line only its place is remembered, and lines are found by a table of
//! hashes. Whoever needs one has it made into a [`Rule`]. Where a path is there twice, the first line counts.
//!
//! ```
//! use exedra_answering::rules::moved::Moved;
//! use std::sync::Arc;
//! let mut moved = Moved::default();
//! moved.add(Arc::new("/old,/new,301\n/fog,/weather\n".to_owned()), 0, vec![0, 14]);
//! let line = moved.line(moved.first_of("/old").unwrap()).unwrap();
//! assert_eq!((&*line.new, line.status.as_u16()), ("/new", 301));
//! assert_eq!(moved.line(1).unwrap().status, 308, "unless it says otherwise");
//! assert_eq!((moved.len(), moved.first_of("/tides")), (2, None));
//! ```

use super::{Answering, Effects, Pattern, Rule, Template, csv_line};
use foldhash::fast::FixedState;
use hashbrown::HashTable;
use hashbrown::hash_table::Entry;
use http::StatusCode;
use std::borrow::Cow;
use std::hash::BuildHasher;
use std::ops::Range;
use std::sync::Arc;

/// Redirects of some files.
#[derive(Debug, Clone, Default)]
pub struct Moved {
    files: Vec<File>,
    /// Where each line begins within its file.
    lines: Vec<u32>,
    by_path: HashTable<u32>,
    /// Lines whose path another before them has: how many, and the first of them with those before.
    again: (usize, Vec<(u32, u32)>),
}

#[derive(Debug, Clone)]
struct File {
    text: Arc<String>,
    /// Where it begins among all texts of a configuration.
    begins: usize,
    /// The number of its first line.
    first: usize,
}

/// How many lines that come to nothing are remembered.
const MOST_AGAIN: usize = 20;

/// What one line says.
#[derive(Debug, PartialEq, Eq)]
pub struct Line<'t> {
    /// The old path.
    pub old: Cow<'t, str>,
    /// The new one, or an address.
    pub new: Cow<'t, str>,
    /// By which status.
    pub status: StatusCode,
    /// Where it is written.
    pub place: Range<usize>,
}

impl Moved {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.lines.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.lines.is_empty()
    }

    /// Adds the lines of a file, by where they begin in it. They have been understood.
    pub fn add(&mut self, text: Arc<String>, begins: usize, lines: Vec<u32>) {
        let first = self.lines.len();
        self.files.push(File { text, begins, first });
        self.lines.extend(lines);
        let mut by_path = std::mem::take(&mut self.by_path);
        let hash_of = |number: &u32| self.path(*number as usize).map_or(0, |path| hash(&path));
        by_path.reserve(self.lines.len() - first, hash_of);
        let mut again = Vec::new();
        for number in first..self.lines.len() {
            let Some(path) = self.path(number) else { continue };
            let is_it = |other: &u32| self.path(*other as usize).is_some_and(|known| known == path);
            match by_path.entry(hash(&path), is_it, hash_of) {
                Entry::Occupied(before) => again.push((number as u32, *before.get())),
                Entry::Vacant(free) => _ = free.insert(number as u32),
            }
        }
        self.by_path = by_path;
        self.again.0 += again.len();
        again.truncate(MOST_AGAIN.saturating_sub(self.again.1.len()));
        self.again.1.extend(again);
    }

    /// The number of the line that is about a path as rules see it.
    pub fn first_of(&self, path: &str) -> Option<usize> {
        let is_it = |number: &u32| self.path(*number as usize).is_some_and(|known| *known == *path);
        self.by_path.find(hash(path), is_it).map(|number| *number as usize)
    }

    /// Lines whose path another before them has: how many, and some of them with those before.
    pub fn again(&self) -> (usize, &[(u32, u32)]) {
        (self.again.0, &self.again.1)
    }

    /// What a line says.
    pub fn line(&self, number: usize) -> Option<Line<'_>> {
        let (file, at) = self.place_of(number)?;
        let (mut fields, end) = csv_line::record(&file.text, at)?;
        let status = fields.get(2).filter(|field| !field.is_empty());
        let status = status.and_then(|status| status.parse().ok()).unwrap_or(StatusCode::PERMANENT_REDIRECT);
        let place = file.begins + at..file.begins + end;
        let new = fields.get_mut(1).map(std::mem::take)?;
        Some(Line { old: fields.into_iter().next()?, new, status, place })
    }

    /// A line as a rule.
    pub fn rule(&self, number: usize) -> Option<Rule> {
        let line = self.line(number)?;
        let target = Template::literal(&line.new);
        let answer = Some(Answering::Redirect { target, status: line.status, drops_query: false });
        Some(Rule {
            name: format!("moved {}", line.old).into(),
            path_place: line.place.clone(),
            target_place: line.place.clone(),
            place: line.place,
            path: Pattern::literal(&line.old).ok(),
            when: Vec::new(),
            effects: Effects { answer, ..Effects::default() },
        })
    }

    /// The path that a line is about, as rules see paths.
    pub fn path(&self, number: usize) -> Option<Cow<'_, str>> {
        let (file, at) = self.place_of(number)?;
        let (fields, _) = csv_line::record(&file.text, at)?;
        let old = fields.into_iter().next()?;
        // Most are written as rules see them.
        if is_plain(&old) {
            return Some(old);
        }
        Some(Pattern::literal(&old).ok()?.exact()?.to_owned().into())
    }

    fn place_of(&self, number: usize) -> Option<(&File, usize)> {
        let file = self.files.iter().rev().find(|file| file.first <= number)?;
        Some((file, *self.lines.get(number)? as usize))
    }
}

/// Whether a path is certainly its own form as rules see it.
pub fn is_plain(path: &str) -> bool {
    let is_plain =
        |octet: u8| octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'_' | b'/' | b'.' | b'~');
    path.starts_with('/') && path.bytes().all(is_plain) && !path.contains("//") && !path.contains("/.")
}

fn hash(path: &str) -> u64 {
    // The hash is of what an administrator has written, not of what strangers ask for.
    FixedState::default().hash_one(path)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::Seen;
    use proptest::prelude::*;

    fn moved(text: &str) -> Moved {
        let mut moved = Moved::default();
        let mut lines = Vec::new();
        let mut at = 0;
        while let Some((fields, end)) = csv_line::record(text, at) {
            if fields.len() > 1 {
                lines.push(at as u32);
            }
            at = csv_line::next(text, end);
        }
        moved.add(Arc::new(text.to_owned()), 100, lines);
        moved
    }

    #[test]
    fn lines_are_found_by_their_path_and_the_first_counts() {
        let moved =
            moved("/a,/b\r\n\"/c, d\",\"/say \"\"d\"\"\",307\n# no line\n/a,/z\n/%61,/y\n/caf%c3%a9,/e,301");
        let line = |path: &str| moved.line(moved.first_of(Seen::new(path).text()).unwrap()).unwrap();
        assert_eq!((line("/a").new, line("/a").place), ("/b".into(), 100..105));
        assert_eq!(
            (line("/c, d").new, line("/c, d").status),
            ("/say \"d\"".into(), StatusCode::TEMPORARY_REDIRECT)
        );
        assert_eq!(line("/caf%C3%A9").status, StatusCode::MOVED_PERMANENTLY);
        assert_eq!(moved.first_of("/b"), None);
        assert_eq!(moved.again(), (2, &[(2, 0), (3, 0)][..]));
        assert_eq!(&*moved.rule(0).unwrap().name, "moved /a");
    }

    proptest! {
        #[test]
        fn what_is_plain_is_its_own_form(path in "/[ -~é]{0,12}") {
            if is_plain(&path) {
                let pattern = Pattern::literal(&path).unwrap();
                prop_assert_eq!(pattern.exact(), Some(path.as_str()));
            }
        }
    }
}
