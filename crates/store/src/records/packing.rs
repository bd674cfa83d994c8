//! A column into octets and back.
//!
//! Numbers are written as variable-length integers (LEB128), times as differences, texts as the distinct
//! ones followed by their places; then the whole is compressed with Zstandard, with a checksum of what went in. The first
//! octet, before compression, is the version of this form: 2, in which every column of numbers is written alike. In 1 a
//! status was written as it is, 0 where there was none. A column that a segment does not have is nothing for each request.

use exedra_common::batch::{NO_NUMBER, NO_TEXT};
use exedra_common::{Column, Dictionaries, NumberColumn, RequestBatch, TextColumn};
use std::io;

const VERSION: u8 = 2;
/// The version before, which is still read.
const WITH_PLAIN_STATUS: u8 = 1;
/// How hard Zstandard tries: about where more work stops paying on such columns.
const EFFORT: i32 = 3;
/// No column of a segment unpacks to more than this many octets.
const MOST_OCTETS: usize = 1 << 30;

/// Packs one column of a batch.
pub fn pack(column: Column, batch: &RequestBatch, texts: &Dictionaries) -> io::Result<Vec<u8>> {
    let mut plain = vec![VERSION];
    match column {
        Column::Time => {
            let mut last = 0;
            for &time in &batch.time {
                put_signed(time - last, &mut plain);
                last = time;
            }
        }
        Column::Number(column) => put_numbers(batch.numbers(column), &mut plain),
        Column::Text(column) => put_texts(column, batch, texts, &mut plain),
        // It is worked out, and kept nowhere.
        Column::Derived(_) => {}
    }
    let mut compressor = zstd::bulk::Compressor::new(EFFORT)?;
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

/// Appends a packed column to that of a batch. `None` when it is damaged.
pub fn unpack(
    column: Column,
    packed: &[u8],
    requests: usize,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Option<()> {
    let plain = zstd::bulk::decompress(packed, unpacked_size(packed)?).ok()?;
    let (version, mut plain) = plain.split_first()?;
    if !matches!(*version, VERSION | WITH_PLAIN_STATUS) {
        return None;
    }
    match column {
        Column::Time => {
            let mut last = 0i64;
            for _ in 0..requests {
                last = last.checked_add(take_signed(&mut plain)?)?;
                batch.time.push(last);
            }
        }
        Column::Number(NumberColumn::Status) if *version == WITH_PLAIN_STATUS => {
            for _ in 0..requests {
                let status = take(&mut plain)?;
                batch.numbers_mut(NumberColumn::Status).push(if status == 0 { NO_NUMBER } else { status });
            }
        }
        Column::Number(column) => take_numbers(&mut plain, requests, batch.numbers_mut(column))?,
        Column::Text(column) => take_texts(column, &mut plain, requests, batch, texts)?,
        Column::Derived(_) => {}
    }
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
    put(distinct.len() as u64, out);
    for &code in &distinct {
        let text = dictionary.text(code);
        put(text.len() as u64, out);
        out.extend_from_slice(text.as_bytes());
    }
    for &code in codes {
        put(if code == NO_TEXT { 0 } else { places[code as usize] }, out);
    }
}

fn take_texts(
    column: TextColumn,
    plain: &mut &[u8],
    requests: usize,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Option<()> {
    let dictionary = texts.of_mut(column);
    let distinct = usize::try_from(take(plain)?).ok().filter(|&distinct| distinct <= requests)?;
    let mut codes = vec![NO_TEXT];
    for _ in 0..distinct {
        let length = usize::try_from(take(plain)?).ok()?;
        let (text, rest) = plain.split_at_checked(length)?;
        *plain = rest;
        codes.push(dictionary.code(std::str::from_utf8(text).ok()?));
    }
    for _ in 0..requests {
        batch.codes_mut(column).push(*codes.get(usize::try_from(take(plain)?).ok()?)?);
    }
    Some(())
}

fn put_numbers(numbers: &[u64], out: &mut Vec<u8>) {
    // Nothing is 0, so that every number moves up by one.
    numbers.iter().for_each(|&number| put(if number == NO_NUMBER { 0 } else { number + 1 }, out));
}

fn take_numbers(plain: &mut &[u8], requests: usize, out: &mut Vec<u64>) -> Option<()> {
    for _ in 0..requests {
        out.push(take(plain)?.checked_sub(1).unwrap_or(NO_NUMBER));
    }
    Some(())
}

fn put(mut number: u64, out: &mut Vec<u8>) {
    while number >= 0x80 {
        out.push(number as u8 | 0x80);
        number >>= 7;
    }
    out.push(number as u8);
}

fn take(plain: &mut &[u8]) -> Option<u64> {
    let mut number = 0;
    for shift in (0..64).step_by(7) {
        let (&octet, rest) = plain.split_first()?;
        *plain = rest;
        number |= u64::from(octet & 0x7f) << shift;
        if octet < 0x80 {
            return Some(number);
        }
    }
    None
}

fn put_signed(number: i64, out: &mut Vec<u8>) {
    put((number << 1 ^ number >> 63) as u64, out);
}

fn take_signed(plain: &mut &[u8]) -> Option<i64> {
    let number = take(plain)?;
    Some((number >> 1) as i64 ^ -((number & 1) as i64))
}
