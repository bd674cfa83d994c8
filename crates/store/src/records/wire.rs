//! Requests on the wire to the records: a batch with its texts as octets, each column packed as in a segment.
//!
//! The form: how many requests (u32, as all numbers little-endian); then for each column the length of its name (u16), its name,
//! the length of what is packed (u32), and that.

use super::packing::{self, Decompressed, Rows};
use crate::database::StoreError;
use exedra_common::{BATCH_ROWS, Column, Dictionaries, RequestBatch};

/// The most requests of one batch: what a client has gathered, and those of one block of short lines more.
pub const MOST_REQUESTS: usize = 4 * BATCH_ROWS;

/// Packs a batch.
pub fn pack(batch: &RequestBatch, texts: &Dictionaries) -> Result<Vec<u8>, StoreError> {
    let mut out = (batch.rows() as u32).to_le_bytes().to_vec();
    for column in Column::kept() {
        let packed = packing::pack(column, batch, texts).map_err(StoreError::Packing)?;
        let name = column.declaration().stored;
        out.extend_from_slice(&(name.len() as u16).to_le_bytes());
        out.extend_from_slice(name.as_bytes());
        out.extend_from_slice(&(packed.len() as u32).to_le_bytes());
        out.extend_from_slice(&packed);
    }
    Ok(out)
}

/// What was packed. `None` where that is none, or damaged. Columns that it lacks are nothing for each request, and those that
/// there are not are left out.
pub fn unpack(parcel: &[u8]) -> Option<(RequestBatch, Dictionaries)> {
    let (requests, mut rest) = number(parcel, 4)?;
    let requests = Some(requests).filter(|requests| (1..=MOST_REQUESTS).contains(requests))?;
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let mut found = Vec::new();
    while !rest.is_empty() {
        let (length, after) = number(rest, 2)?;
        let (name, after) = after.split_at_checked(length)?;
        let (length, after) = number(after, 4)?;
        let (packed, after) = after.split_at_checked(length)?;
        rest = after;
        let Some(column) = Column::kept().find(|column| column.declaration().stored.as_bytes() == name)
        else {
            continue;
        };
        if found.contains(&column) {
            return None;
        }
        found.push(column);
        packing::unpack(column, &Decompressed::new(packed)?, Rows::all(requests), &mut batch, &mut texts)?;
    }
    for column in Column::kept().filter(|column| !found.contains(column)) {
        packing::append_nothing(column, requests, &mut batch)?;
    }
    (batch.rows() == requests).then_some((batch, texts))
}

/// A number of so many octets, and what follows it.
fn number(octets: &[u8], length: usize) -> Option<(usize, &[u8])> {
    let (number, rest) = octets.split_at_checked(length)?;
    Some((number.iter().rev().fold(0, |number, octet| number << 8 | usize::from(*octet)), rest))
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::Projection;
    use exedra_reading::logs::{Layout, LineReader};
    use proptest::prelude::*;

    fn some(count: usize) -> (RequestBatch, Dictionaries) {
        let line = |nth: usize| {
            format!(
                "192.0.2.{} - - [14/Nov/2026:05:12:{:02} +0000] \"GET /p{nth} HTTP/1.1\" 200 {nth}\n",
                nth % 9,
                nth % 60
            )
        };
        let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
        let (mut batch, mut texts) = Default::default();
        reader.read_block(
            (0..count).map(line).collect::<String>().as_bytes(),
            0,
            &mut 0,
            &mut batch,
            &mut texts,
        );
        (batch, texts)
    }

    proptest! {
        #[test]
        fn what_arrives_is_what_was_sent_or_nothing(count in 1usize..200, at in 0usize..4000, octet: u8) {
            let (batch, texts) = some(count);
            let mut parcel = pack(&batch, &texts).unwrap();
            let (arrived, read) = unpack(&parcel).unwrap();
            prop_assert_eq!(arrived.rows(), count);
            let path = |batch: &RequestBatch, texts: &Dictionaries, row: usize| {
                batch.code(exedra_common::TextColumn::Path, row).map(|code| texts.of(exedra_common::TextColumn::Path).text(code).to_owned())
            };
            for row in 0..count {
                prop_assert_eq!(path(&arrived, &read, row), path(&batch, &texts, row));
                prop_assert_eq!(arrived.time[row], batch.time[row]);
            }
            let at = at % parcel.len();
            parcel[at] = octet;
            // Whatever it is now, nobody comes to harm.
            let _ = unpack(&parcel);
            prop_assert!(unpack(&parcel[..at]).is_none_or(|(batch, _)| batch.rows() == count));
        }
    }
}
