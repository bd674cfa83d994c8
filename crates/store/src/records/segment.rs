//! A segment: requests of one site that are kept together, and from which logs they were read.

use super::packing;
use crate::database::StoreError;
use crate::schema::{segment_columns, segments};
use diesel::prelude::*;
use exedra_common::{Column, Dictionaries, RequestBatch};
use std::sync::Arc;

/// A log that requests were read from. Another log of the same name begins otherwise.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Origin {
    /// Its file name.
    pub name: Arc<str>,
    /// A hash of its first line.
    pub begins: Option<u64>,
}

/// A segment, by what is known without reading it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Segment {
    /// Its number.
    pub id: i32,
    /// The site its requests went to.
    pub site: Arc<str>,
    /// How many there are.
    pub requests: usize,
    /// The first of them, in milliseconds since 1970 UTC.
    pub first: i64,
    /// The last of them, in milliseconds since 1970 UTC.
    pub last: i64,
    /// How many were read from which log; empty where that is not known.
    pub origins: Vec<(Origin, usize)>,
    /// Names of its columns, between commas; empty where that is not known.
    pub columns: Arc<str>,
    /// Octets of the lines they were read from: about what they take in memory.
    pub octets: usize,
}

impl Segment {
    /// Whether a column was written with it, so that it is damaged where that lacks.
    pub fn has(&self, column: Column) -> bool {
        self.columns.split(',').any(|name| name == column.declaration().stored)
    }

    /// Whether requests of a log are in it.
    pub fn is_from(&self, origin: &Origin) -> bool {
        self.origins.iter().any(|(one, _)| one == origin)
    }
}

/// A row of the table of segments.
pub type Row = (i32, String, i32, i64, i64, bool, String, String, i64);

impl From<Row> for Segment {
    fn from((id, site, requests, first, last, _, origins, columns, octets): Row) -> Self {
        let (requests, octets) = (requests.max(0) as usize, octets.max(0) as usize);
        let origins = understand(&origins).unwrap_or_default();
        let (site, columns) = (site.into(), columns.into());
        Segment { id, site, requests, first, last, origins, columns, octets }
    }
}

fn understand(origins: &str) -> Option<Vec<(Origin, usize)>> {
    let parts: Vec<(Arc<str>, Option<u64>, usize)> = serde_json::from_str(origins).ok()?;
    Some(parts.into_iter().map(|(name, begins, count)| (Origin { name, begins }, count)).collect())
}

fn written(origins: &[(Origin, usize)]) -> String {
    let parts: Vec<_> = origins.iter().map(|(origin, count)| (&*origin.name, origin.begins, count)).collect();
    serde_json::to_string(&parts).unwrap_or_default()
}

/// A segment that is ready to be written.
pub struct Packed {
    segment: Segment,
    columns: Vec<(Column, Vec<u8>)>,
}

impl Packed {
    /// Packs requests of a site.
    pub fn new(
        site: Arc<str>,
        batch: &RequestBatch,
        texts: &Dictionaries,
        origins: Vec<(Origin, usize)>,
        octets: usize,
    ) -> Result<Self, StoreError> {
        let first = batch.time.iter().copied().min().unwrap_or_default();
        let last = batch.time.iter().copied().max().unwrap_or_default();
        let names = Column::kept().map(|column| column.declaration().stored).collect::<Vec<_>>().join(",");
        let packed = |column| Ok((column, packing::pack(column, batch, texts).map_err(StoreError::Packing)?));
        let columns = Column::kept().map(packed).collect::<Result<_, StoreError>>()?;
        Ok(Packed {
            segment: Segment {
                id: 0,
                site,
                requests: batch.rows(),
                first,
                last,
                origins,
                columns: names.into(),
                octets,
            },
            columns,
        })
    }

    /// What it will be, but for its number.
    pub fn segment(&self) -> &Segment {
        &self.segment
    }

    /// Writes it, under the next number.
    pub fn insert(&self, writer: &mut SqliteConnection) -> Result<Arc<Segment>, StoreError> {
        let segment = &self.segment;
        let id: i32 = diesel::insert_into(segments::table)
            .values(values(segment))
            .returning(segments::id)
            .get_result(writer)?;
        for (column, octets) in &self.columns {
            insert_column(id, column.declaration().stored, octets, writer)?;
        }
        Ok(Arc::new(Segment { id, ..segment.clone() }))
    }
}

/// Writes a segment under the number that it has, with columns that are packed already.
pub fn insert_again(
    segment: &Segment,
    columns: &[(String, Vec<u8>)],
    writer: &mut SqliteConnection,
) -> Result<(), StoreError> {
    diesel::insert_into(segments::table)
        .values((segments::id.eq(segment.id), values(segment)))
        .execute(writer)?;
    columns.iter().try_for_each(|(name, octets)| insert_column(segment.id, name, octets, writer))
}

#[diesel::dsl::auto_type(no_type_alias)]
fn values(segment: &Segment) -> _ {
    let site: String = segment.site.to_string();
    let requests: i32 = segment.requests as i32;
    let first: i64 = segment.first;
    let last: i64 = segment.last;
    let origins: String = written(&segment.origins);
    let columns: String = segment.columns.to_string();
    let octets: i64 = segment.octets as i64;
    (
        segments::site.eq(site),
        segments::requests.eq(requests),
        segments::first_time.eq(first),
        segments::last_time.eq(last),
        segments::retired.eq(false),
        segments::origins.eq(origins),
        segments::column_names.eq(columns),
        segments::octets.eq(octets),
    )
}

fn insert_column(
    segment: i32,
    name: &str,
    packed: &[u8],
    writer: &mut SqliteConnection,
) -> Result<(), StoreError> {
    let row = (
        segment_columns::segment.eq(segment),
        segment_columns::name.eq(name),
        segment_columns::packed.eq(packed),
    );
    diesel::insert_into(segment_columns::table).values(row).execute(writer)?;
    Ok(())
}
