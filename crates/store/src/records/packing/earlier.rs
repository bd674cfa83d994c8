//! The forms of columns that earlier versions have written: variable-length integers (LEB128) one after the other. In 1 a status was
//! written as it is, 0 where there was none; in 2 every number is one more, and 0 is nothing.

use super::Rows;
use exedra_common::batch::{NO_NUMBER, NO_TEXT};
use exedra_common::{Column, Dictionaries, NumberColumn, RequestBatch, TextColumn};

/// Appends the wanted rows of a column. `None` when it is damaged, or of no version that there was.
pub fn unpack(
    version: u8,
    column: Column,
    mut plain: &[u8],
    rows: Rows<'_>,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Option<()> {
    let has_plain_status = match version {
        1 => true,
        2 => false,
        _ => return None,
    };
    match column {
        Column::Time => {
            let mut last = 0i64;
            take_rows(rows, &mut batch.time, || {
                last = last.checked_add(take_signed(&mut plain)?)?;
                Some(last)
            })?;
        }
        Column::Number(column) => {
            let is_plain = has_plain_status && column == NumberColumn::Status;
            take_rows(rows, batch.numbers_mut(column), || {
                let number = take(&mut plain)?;
                Some(if is_plain && number != 0 {
                    number
                } else {
                    number.checked_sub(1).unwrap_or(NO_NUMBER)
                })
            })?;
        }
        Column::Text(column) => take_texts(column, &mut plain, rows, batch, texts)?,
        Column::Derived(_) => {}
    }
    plain.is_empty().then_some(())
}

/// Reads all values, and appends those of the wanted rows.
fn take_rows<T>(rows: Rows<'_>, out: &mut Vec<T>, mut next: impl FnMut() -> Option<T>) -> Option<()> {
    let mut wanted = rows.wanted.map(|wanted| wanted.iter().copied().peekable());
    for row in 0..rows.all {
        let value = next()?;
        let is_wanted = match &mut wanted {
            None => true,
            Some(wanted) => wanted.next_if_eq(&(row as u32)).is_some(),
        };
        if is_wanted {
            out.push(value);
        }
    }
    Some(())
}

fn take_texts(
    column: TextColumn,
    plain: &mut &[u8],
    rows: Rows<'_>,
    batch: &mut RequestBatch,
    texts: &mut Dictionaries,
) -> Option<()> {
    let dictionary = texts.of_mut(column);
    let distinct = usize::try_from(take(plain)?).ok().filter(|&distinct| distinct <= rows.all)?;
    let mut codes = vec![NO_TEXT];
    for _ in 0..distinct {
        let length = usize::try_from(take(plain)?).ok()?;
        let (text, rest) = plain.split_at_checked(length)?;
        *plain = rest;
        codes.push(dictionary.code(std::str::from_utf8(text).ok()?));
    }
    take_rows(rows, batch.codes_mut(column), || codes.get(usize::try_from(take(plain)?).ok()?).copied())
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

fn take_signed(plain: &mut &[u8]) -> Option<i64> {
    let number = take(plain)?;
    Some((number >> 1) as i64 ^ -((number & 1) as i64))
}
