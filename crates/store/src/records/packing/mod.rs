//! A column into octets and back.
//!
//! Numbers are written plane by plane ([`planes`]): the lowest octet of each, then the next of each. So rows are read without looking at
//! those between, and what compresses well stands together. Times are written as differences; texts as the distinct ones, followed by
//! their places. Then the whole is compressed with Zstandard, with a checksum of what went in. The first octet, before compression, is
//! the version of this form, 3; 1 and 2 are still read ([`earlier`]). A column that a segment does not have is nothing for each request.

mod earlier;
mod planes;

use exedra_common::batch::{NO_NUMBER, NO_TEXT};
use exedra_common::{Column, Dictionaries, Dictionary, RequestBatch, TextColumn};
use planes::Planes;
use std::cell::{Cell, RefCell};
use std::io;
use zstd::bulk::Decompressor;

const VERSION: u8 = 3;
/// How hard Zstandard tries: about where more work stops paying on such columns. At 9 texts take 4 % less room and are there 2 % sooner,
/// and an import takes nearly twice as long.
const EFFORT: i32 = 3;
/// The shortest repeat that Zstandard looks for, in octets. Of shorter ones there are many in codes and numbers, all by chance: they take
/// as much room as they save, and a fifth of the time of unpacking.
const SHORTEST_REPEAT: u32 = 7;
/// How many octets of room a thread keeps for the next column.
const MOST_ROOM: usize = 8 << 20;
/// No column of a segment unpacks to more than this many octets.
const MOST_OCTETS: usize = 1 << 30;

/// Packs one column of a batch.
pub fn pack(column: Column, batch: &RequestBatch, texts: &Dictionaries) -> io::Result<Vec<u8>> {
    let mut plain = vec![VERSION];
    match column {
        Column::Time => {
            // The first by itself: differences between the others are small.
            let first = batch.time.first().copied().unwrap_or_default();
            plain.extend_from_slice(&first.to_le_bytes());
            let before = [first].into_iter().chain(batch.time.iter().copied());
            let differences = batch.time.iter().zip(before).map(|(time, before)| time.wrapping_sub(before));
            planes::put(
                differences.map(|difference| (difference << 1 ^ difference >> 63) as u64),
                &mut plain,
            );
        }
        // Nothing is 0, so that every number moves up by one.
        Column::Number(column) => {
            planes::put(batch.numbers(column).iter().map(|number| number.wrapping_add(1)), &mut plain);
        }
        Column::Text(column) => put_texts(column, batch, texts, &mut plain),
        // It is worked out, and kept nowhere.
        Column::Derived(_) => {}
    }
    let mut compressor = zstd::bulk::Compressor::new(EFFORT)?;
    compressor.set_parameter(zstd::zstd_safe::CParameter::MinMatch(SHORTEST_REPEAT))?;
    // What a disk has altered must not pass for requests.
    compressor.set_parameter(zstd::zstd_safe::CParameter::ChecksumFlag(true))?;
    compressor.compress(&plain)
}

/// Appends nothing for each of some requests: a segment of a time when there was no such column has none. `None` for the
/// one that each has.
pub fn append_nothing(column: Column, requests: usize, batch: &mut RequestBatch) -> Option<()> {
    match column {
        Column::Time => return None,
        Column::Number(column) => append(batch.numbers_mut(column), NO_NUMBER, requests),
        Column::Text(column) => append(batch.codes_mut(column), NO_TEXT, requests),
        Column::Derived(_) => {}
    }
    Some(())
}

fn append<T: Clone>(values: &mut Vec<T>, nothing: T, requests: usize) {
    values.resize(values.len() + requests, nothing);
}

/// Which of a segment's requests are wanted.
#[derive(Debug, Clone, Copy)]
pub struct Rows<'r> {
    /// How many it has.
    pub all: usize,
    /// Those that are wanted, in order; all of them where there is nothing.
    pub wanted: Option<&'r [u32]>,
}

impl Rows<'_> {
    /// All of so many.
    pub fn all(all: usize) -> Self {
        Rows { all, wanted: None }
    }

    /// How many are wanted.
    pub fn count(&self) -> usize {
        self.wanted.map_or(self.all, <[u32]>::len)
    }
}

thread_local! {
    /// To make one ready takes about as long as to decompress a small column.
    static DECOMPRESSOR: RefCell<Option<Decompressor<'static>>> = const { RefCell::new(None) };
    /// Room for the next column that nobody keeps: large pieces of memory that come and go cost as much as what is done with them.
    static ROOM: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

/// A packed column without its compression: what [`unpack`] and [`unpack_alone`] take.
pub struct Decompressed {
    plain: Vec<u8>,
    /// Whether its room is there for the next.
    is_for_now: bool,
}

impl Decompressed {
    /// One to be kept. `None` when it is damaged.
    pub fn new(packed: &[u8]) -> Option<Self> {
        Decompressed::within(Vec::new(), packed, false)
    }

    /// One that is soon dropped on this thread, and has its room from the one before.
    pub fn for_now(packed: &[u8]) -> Option<Self> {
        Decompressed::within(ROOM.take(), packed, true)
    }

    fn within(mut plain: Vec<u8>, packed: &[u8], is_for_now: bool) -> Option<Self> {
        let size = unpacked_size(packed)?;
        plain.clear();
        plain.reserve_exact(size);
        DECOMPRESSOR.with_borrow_mut(|kept| {
            let decompressor = match kept {
                Some(decompressor) => decompressor,
                None => kept.insert(Decompressor::new().ok()?),
            };
            decompressor.decompress_to_buffer(packed, &mut plain).ok()?;
            (plain.len() == size).then_some(Decompressed { plain, is_for_now })
        })
    }

    /// How many octets it has.
    pub fn octets(&self) -> usize {
        self.plain.len()
    }
}

impl Drop for Decompressed {
    fn drop(&mut self) {
        if self.is_for_now && self.plain.capacity() <= MOST_ROOM {
            // Where the thread ends, so does its room.
            let _ = ROOM.try_with(|room| room.set(std::mem::take(&mut self.plain)));
        }
    }
}

/// Appends the wanted rows of a decompressed column to that of a batch. `None` when it is damaged.
pub fn unpack(
    column: Column,
    plain: &Decompressed,
    rows: Rows<'_>,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Option<()> {
    let (version, mut plain) = plain.plain.split_first()?;
    if *version != VERSION {
        return earlier::unpack(*version, column, plain, rows, batch, texts);
    }
    match column {
        Column::Time => {
            let (first, rest) = plain.split_first_chunk()?;
            plain = rest;
            let planes = Planes::take(&mut plain, rows.all)?;
            let mut times = planes.all(|number| (number >> 1) as i64 ^ -((number & 1) as i64));
            let mut last = i64::from_le_bytes(*first);
            for time in &mut times {
                last = last.wrapping_add(*time);
                *time = last;
            }
            match rows.wanted {
                None => batch.time.append(&mut times),
                Some(wanted) => batch.time.extend(wanted.iter().map(|row| times[*row as usize])),
            }
        }
        Column::Number(column) => {
            let planes = Planes::take(&mut plain, rows.all)?;
            let out = batch.numbers_mut(column);
            match rows.wanted {
                None => planes.append_to(out, |number| number.wrapping_sub(1)),
                Some(wanted) => {
                    out.extend(wanted.iter().map(|row| planes.at(*row as usize).wrapping_sub(1)));
                }
            }
        }
        Column::Text(column) => {
            let packed = PackedTexts::take(&mut plain, rows.all)?;
            packed.append(rows, batch.codes_mut(column), texts.of_mut(column));
        }
        Column::Derived(_) => {}
    }
    plain.is_empty().then_some(())
}

/// Unpacks the wanted rows of a decompressed column whose texts nobody looks up: all of them into a dictionary of its own, whose codes
/// are their places. `None` when it is damaged.
pub fn unpack_alone(
    column: Column,
    plain: &Decompressed,
    rows: Rows<'_>,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Option<()> {
    let Column::Text(text_column) = column else {
        return unpack(column, plain, rows, batch, texts);
    };
    let (version, mut plain) = plain.plain.split_first()?;
    if *version != VERSION {
        return earlier::unpack(*version, column, plain, rows, batch, texts);
    }
    let packed = PackedTexts::take(&mut plain, rows.all)?;
    let codes = batch.codes_mut(text_column);
    let code = |place: u64| (place as u32).wrapping_sub(1);
    match rows.wanted {
        None => packed.places.append_to(codes, code),
        Some(wanted) => codes.extend(wanted.iter().map(|row| code(packed.places.at(*row as usize)))),
    }
    *texts.of_mut(text_column) = Dictionary::of_distinct(packed.letters, &packed.lengths);
    plain.is_empty().then_some(())
}

fn unpacked_size(packed: &[u8]) -> Option<usize> {
    let size = zstd::zstd_safe::get_frame_content_size(packed).ok()??;
    usize::try_from(size).ok().filter(|&size| size <= MOST_OCTETS)
}

fn put_texts(column: TextColumn, batch: &RequestBatch, texts: &Dictionaries, out: &mut Vec<u8>) {
    let dictionary = texts.of(column);
    let codes = batch.codes(column);
    let mut places = vec![0u64; dictionary.len()];
    let mut distinct: Vec<u32> = Vec::new();
    for &code in codes.iter().filter(|&&code| code != NO_TEXT) {
        let place = &mut places[code as usize];
        if *place == 0 {
            distinct.push(code);
            *place = distinct.len() as u64;
        }
    }
    out.extend_from_slice(&(distinct.len() as u32).to_le_bytes());
    planes::put(distinct.iter().map(|code| dictionary.text(*code).len() as u64), out);
    distinct.iter().for_each(|code| out.extend_from_slice(dictionary.text(*code).as_bytes()));
    planes::put(codes.iter().map(|&code| if code == NO_TEXT { 0 } else { places[code as usize] }), out);
}

/// The distinct texts of a column, and the place of each row's among them: from 1 on, and 0 for nothing.
struct PackedTexts<'p> {
    lengths: Vec<u32>,
    letters: &'p str,
    places: Planes<'p>,
}

impl<'p> PackedTexts<'p> {
    fn take(plain: &mut &'p [u8], requests: usize) -> Option<Self> {
        let (distinct, rest) = plain.split_first_chunk::<4>()?;
        *plain = rest;
        let distinct = u32::from_le_bytes(*distinct) as usize;
        let lengths = Planes::take(plain, distinct)?.all(|length| length.min(u32::MAX.into()) as u32);
        let octets = lengths.iter().map(|length| u64::from(*length)).sum::<u64>();
        let (letters, rest) = plain.split_at_checked(usize::try_from(octets).ok()?)?;
        *plain = rest;
        let letters = std::str::from_utf8(letters).ok()?;
        let mut end = 0;
        let is_whole = lengths.iter().all(|length| {
            end += *length as usize;
            letters.is_char_boundary(end)
        });
        let places = Planes::take(plain, requests)?;
        (is_whole && places.greatest() <= distinct as u64).then_some(PackedTexts { lengths, letters, places })
    }

    /// Appends the codes of the wanted rows. Texts that no wanted row has are not learnt.
    fn append(&self, rows: Rows<'_>, out: &mut Vec<u32>, dictionary: &mut Dictionary) {
        let mut end = 0;
        let ends = self.lengths.iter().map(|length| {
            end += *length as usize;
            end
        });
        let starts: Vec<usize> = [0].into_iter().chain(ends).collect();
        let text = |nth: u32| &self.letters.as_bytes()[starts[nth as usize]..starts[nth as usize + 1]];
        let distinct = self.lengths.len();
        let places: Vec<u32> = match rows.wanted {
            None => self.places.all(|place| place as u32),
            Some(wanted) => wanted.iter().map(|row| self.places.at(*row as usize) as u32).collect(),
        };
        dictionary.codes_of_some(distinct, places.into_iter(), text, NO_TEXT, out);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::NumberColumn;
    use proptest::prelude::*;

    type Row = (i64, Option<u64>, Option<String>);

    fn batch(rows: &[Row]) -> (RequestBatch, Dictionaries) {
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        for (time, bytes, path) in rows {
            batch.time.push(*time);
            batch.numbers_mut(NumberColumn::Bytes).push(bytes.unwrap_or(NO_NUMBER));
            let code = path.as_ref().map(|path| texts.of_mut(TextColumn::Path).code(path));
            batch.codes_mut(TextColumn::Path).push(code.unwrap_or(NO_TEXT));
        }
        (batch, texts)
    }

    fn rows(batch: &RequestBatch, texts: &Dictionaries) -> Vec<Row> {
        let text = |row| batch.code(TextColumn::Path, row).map(|code| texts.of(TextColumn::Path).text(code));
        let row =
            |row| (batch.time[row], batch.number(NumberColumn::Bytes, row), text(row).map(str::to_owned));
        (0..batch.rows()).map(row).collect()
    }

    const COLUMNS: [Column; 3] =
        [Column::Time, Column::Number(NumberColumn::Bytes), Column::Text(TextColumn::Path)];

    proptest! {
        #[test]
        fn what_is_packed_comes_back_row_by_row(
            all in proptest::collection::vec((any::<i64>(), proptest::option::of(0..u64::MAX - 1), proptest::option::of(".{0,6}")), 0..300),
            wanted in proptest::collection::vec(any::<bool>(), 300),
        ) {
            let (packed, texts) = batch(&all);
            let some: Vec<u32> = (0..all.len() as u32).filter(|row| wanted[*row as usize]).collect();
            let (mut whole, mut part): (RequestBatch, RequestBatch) = Default::default();
            let (mut of_whole, mut of_part): (Dictionaries, Dictionaries) = Default::default();
            let (mut alone, mut part_alone): (RequestBatch, RequestBatch) = Default::default();
            let (mut of_alone, mut of_part_alone): (Dictionaries, Dictionaries) = Default::default();
            for column in COLUMNS {
                let packed = pack(column, &packed, &texts).unwrap();
                let plain = Decompressed::new(&packed).unwrap();
                prop_assert_eq!(&Decompressed::for_now(&packed).unwrap().plain, &plain.plain);
                unpack(column, &plain, Rows::all(all.len()), &mut whole, &mut of_whole).unwrap();
                let of_some = Rows { all: all.len(), wanted: Some(&some) };
                unpack(column, &plain, of_some, &mut part, &mut of_part).unwrap();
                unpack_alone(column, &plain, Rows::all(all.len()), &mut alone, &mut of_alone).unwrap();
                unpack_alone(column, &plain, of_some, &mut part_alone, &mut of_part_alone).unwrap();
                prop_assert!(Decompressed::new(&packed[..packed.len() - 1]).is_none());
                let cut = plain.plain[..plain.plain.len() - 1].to_vec();
                let cut = Decompressed { plain: cut, is_for_now: false };
                prop_assert_eq!(unpack(column, &cut, Rows::all(all.len()), &mut whole.clone(), &mut of_whole.clone()), None);
            }
            let expected: Vec<Row> = some.iter().map(|row| all[*row as usize].clone()).collect();
            prop_assert_eq!(rows(&whole, &of_whole), all.clone());
            prop_assert_eq!(rows(&part, &of_part), expected.clone());
            prop_assert_eq!(rows(&part_alone, &of_part_alone), expected);
            prop_assert_eq!(rows(&alone, &of_alone), all);
        }
    }
}
