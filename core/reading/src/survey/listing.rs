//! Rows of batches into which visitors have to do with which texts.
//!
//! Texts are hashed once for each code of a thread's dictionaries.

use super::plan::{Part, SurveyPlan};
use super::visitors::VisitorKey;
use super::visitors_of_entries::{Listed, ListedVisitors};
use exedra_common::batch::NO_TEXT;
use exedra_common::{Dictionaries, NumberColumn, RequestBatch, TextColumn};

/// The lists of whole texts, with what they are counted for and where the texts stand.
const LISTS: [(Part, Listed, TextColumn); 9] = [
    (Part::Paths, Listed::Paths, TextColumn::Path),
    (Part::Clients, Listed::Clients, TextColumn::Client),
    (Part::Users, Listed::Users, TextColumn::User),
    (Part::Agents, Listed::Agents, TextColumn::Agent),
    (Part::Referrers, Listed::Referrers, TextColumn::Referrer),
    (Part::Hosts, Listed::Hosts, TextColumn::Host),
    (Part::Methods, Listed::Methods, TextColumn::Method),
    (Part::Protocols, Listed::Protocols, TextColumn::Protocol),
    (Part::Queries, Listed::Queries, TextColumn::Query),
];

/// The keyed hashes of texts, by column and code.
#[derive(Debug, Default)]
pub struct Listing([Vec<u64>; TextColumn::ALL.len()]);

/// Some rows of a batch, with their visitors, and the place of their source.
pub struct Rows<'b> {
    pub batch: &'b RequestBatch,
    pub rows: &'b [u32],
    pub visitors: &'b [u64],
    pub source: usize,
}

impl Listing {
    /// Looks at texts that are new.
    pub fn learn(&mut self, key: VisitorKey, dictionaries: &Dictionaries) {
        for (_, _, column) in LISTS {
            let (hashes, texts) = (&mut self.0[column.index()], dictionaries.of(column));
            let new = hashes.len()..texts.len();
            hashes.extend(new.map(|code| key.of_text(texts.text(code as u32))));
        }
    }

    /// Takes in some rows; `is_page` says of the code of a path whether people read what is there.
    pub fn add(
        &self,
        plan: &SurveyPlan,
        Rows { batch, rows, visitors, source }: Rows<'_>,
        is_page: impl Fn(u32) -> bool,
        listed: &mut ListedVisitors,
    ) {
        let source = Listed::Sources.hash(source as u64);
        let lists: Vec<_> = LISTS.into_iter().filter(|(part, ..)| plan.parts.has(*part)).collect();
        let (has_missing, has_referrers) = (plan.parts.has(Part::Missing), plan.parts.has(Part::Referrers));
        for (row, &visitor) in rows.iter().map(|&row| row as usize).zip(visitors) {
            if !listed.takes(visitor) {
                continue;
            }
            listed.add(source, visitor);
            for (_, list, column) in &lists {
                if let Some(text) = self.hash(batch, *column, row) {
                    listed.add(list.hash(text), visitor);
                }
            }
            if has_missing
                && status_of(batch, row) == 404
                && let Some(path) = self.hash(batch, TextColumn::Path, row)
            {
                listed.add(Listed::Missing.hash(path), visitor);
            }
            if has_referrers
                && let Some(path) = code(batch, TextColumn::Path, row)
                && let Some(referrer) = self.hash(batch, TextColumn::Referrer, row)
            {
                let list = if is_page(path) { Listed::Linking } else { Listed::Embedding };
                listed.add(list.hash(referrer), visitor);
            }
        }
    }

    fn hash(&self, batch: &RequestBatch, column: TextColumn, row: usize) -> Option<u64> {
        let code = code(batch, column, row)?;
        self.0[column.index()].get(code as usize).copied()
    }
}

fn code(batch: &RequestBatch, column: TextColumn, row: usize) -> Option<u32> {
    batch.codes(column).get(row).copied().filter(|code| *code != NO_TEXT)
}

/// The status of a row; 0 where it has none.
pub(super) fn status_of(batch: &RequestBatch, row: usize) -> u16 {
    batch.number(NumberColumn::Status, row).map_or(0, |status| status.min(999) as u16)
}
