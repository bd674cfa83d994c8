//! Batches of requests as the engine's: columns change hands, and no value is looked at that need not be.
//!
//! Codes and numbers are in the right shape already. Dictionaries are copied in one piece where they are small beside the rows, and
//! else only the texts that the rows have. What follows from a text is worked out once for each distinct one.

use crate::schema::Field;
use arrow::array::{
    ArrayRef, DictionaryArray, Float64Array, Int64Array, PrimitiveArray, RecordBatch, RecordBatchOptions,
    StringArray, TimestampMillisecondArray, new_null_array,
};
use arrow::buffer::{Buffer, NullBuffer, OffsetBuffer, ScalarBuffer};
use arrow::datatypes::{SchemaRef, UInt32Type};
use arrow::error::ArrowError;
use exedra_common::batch::{NO_NUMBER, NO_TEXT, NO_TIME};
use exedra_common::columns::{Derive, Kind};
use exedra_common::{Column, Dictionaries, Dictionary, NumberColumn, RequestBatch, TextColumn};
use exedra_reading::logs::mask::network;
use exedra_reading::survey::{Calendar, VisitorKey};
use std::borrow::Cow;
use std::sync::Arc;

/// Makes batches for the engine, of the columns that a statement needs.
#[derive(Debug)]
pub struct ArrowBatches {
    schema: SchemaRef,
    fields: Vec<Field>,
    derive: Arc<dyn Derive>,
    masked: bool,
    key: VisitorKey,
    calendar: Calendar,
    /// For each field what is known of its texts.
    known: Vec<Known>,
    /// Hashes of clients and agents, by their codes.
    hashes: [Vec<Option<u64>>; 2],
}

/// What is known of the texts of one field.
#[derive(Debug, Default)]
struct Known {
    /// All texts so far, as the engine has them.
    values: Option<Arc<StringArray>>,
    /// Of a derived column: the code of what follows, by the code of the text it follows from.
    follows: Vec<u32>,
    /// The texts that follow.
    derived: Dictionary,
    /// For a copy of some texts: the new code of each, in the round that it was given in.
    places: Vec<(u32, u32)>,
    round: u32,
}

/// Nobody has asked yet what follows.
const OPEN: u32 = NO_TEXT - 1;
/// Dictionaries of fewer texts are always copied whole.
const SMALL: usize = 1024;

impl ArrowBatches {
    /// Makes batches of these fields, which are those of a schema. Visitors change with the days of a calendar.
    pub fn new(
        schema: SchemaRef,
        fields: Vec<Field>,
        derive: Arc<dyn Derive>,
        (key, calendar): (VisitorKey, Calendar),
    ) -> Self {
        let known = fields.iter().map(|_| Known::default()).collect();
        let hashes = Default::default();
        ArrowBatches { schema, fields, derive, masked: false, key, calendar, known, hashes }
    }

    /// The same with clients as their networks and without users.
    #[must_use]
    pub fn masked(self, masked: bool) -> Self {
        ArrowBatches { masked, ..self }
    }

    /// Forgets what was learnt of texts: new dictionaries are coming.
    pub fn forget(&mut self) {
        self.known.iter_mut().for_each(|known| *known = Known::default());
        self.hashes.iter_mut().for_each(Vec::clear);
    }

    /// A batch of requests as one of the engine's. What was in it is taken out.
    ///
    /// # Errors
    /// When the engine finds the columns unlike its schema.
    pub fn make(
        &mut self,
        batch: &mut RequestBatch,
        texts: &Dictionaries,
    ) -> Result<RecordBatch, ArrowError> {
        let rows = batch.rows();
        let ArrowBatches { schema, fields, derive, masked, key, calendar, known, hashes } = self;
        let visitors =
            fields.contains(&Field::Visitor).then(|| visitors(batch, texts, *key, calendar, hashes));
        let mut columns: Vec<ArrayRef> = Vec::with_capacity(fields.len());
        for (nth, (field, known)) in fields.iter().zip(known).enumerate() {
            let zone = schema.field(nth).data_type();
            columns.push(match field {
                Field::Visitor => match &visitors {
                    Some(visitors) => Arc::new(visitors.clone()),
                    None => Arc::new(Int64Array::new_null(rows)),
                },
                Field::Of(Column::Time) => {
                    Arc::new(times(taken(&mut batch.time)).with_data_type(zone.clone()))
                }
                Field::Of(Column::Number(column)) => numbers(*column, batch, rows),
                Field::Of(Column::Text(TextColumn::User)) if *masked => new_null_array(zone, rows),
                Field::Of(Column::Text(column @ TextColumn::Client)) if *masked => {
                    let codes = codes_of(batch, *column, rows, &fields[nth + 1..]);
                    let masked = |text: &str| network(text).map(Cow::Owned);
                    Arc::new(known.following(codes, texts.of(*column), masked)?)
                }
                Field::Of(Column::Text(column)) => {
                    let codes = codes_of(batch, *column, rows, &fields[nth + 1..]);
                    Arc::new(known.coded(codes, texts.of(*column))?)
                }
                Field::Of(Column::Derived(column)) => {
                    let codes = codes_of(batch, column.base(), rows, &fields[nth + 1..]);
                    let follows = |text| derive.derive(*column, text);
                    Arc::new(known.following(codes, texts.of(column.base()), follows)?)
                }
            });
        }
        batch.clear();
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        RecordBatch::try_new_with_options(Arc::clone(schema), columns, &options)
    }
}

/// What a column holds, which begins anew with as much memory.
fn taken<T>(column: &mut Vec<T>) -> Vec<T> {
    let room = Vec::with_capacity(column.len());
    std::mem::replace(column, room)
}

fn times(time: Vec<i64>) -> TimestampMillisecondArray {
    let nulls = time.contains(&NO_TIME).then(|| time.iter().map(|time| *time != NO_TIME).collect());
    TimestampMillisecondArray::new(time.into(), nulls)
}

fn numbers(column: NumberColumn, batch: &mut RequestBatch, rows: usize) -> ArrayRef {
    let is_duration = Column::from(column).declaration().kind == Kind::Duration;
    if batch.numbers(column).len() != rows {
        return match is_duration {
            true => Arc::new(Float64Array::new_null(rows)),
            false => Arc::new(Int64Array::new_null(rows)),
        };
    }
    let mut numbers = taken(batch.numbers_mut(column));
    // Whatever is no number for the engine has the highest bit, and hardly any column has one of these.
    let has_others = numbers.iter().fold(0, |all, number| all | number) > i64::MAX as u64;
    let nulls: Option<NullBuffer> =
        has_others.then(|| numbers.iter().map(|number| *number != NO_NUMBER).collect());
    if is_duration {
        // Batches count microseconds.
        let values: Vec<f64> = numbers.into_iter().map(|number| number as f64 / 1000.0).collect();
        return Arc::new(Float64Array::new(values.into(), nulls));
    }
    if has_others {
        numbers.iter_mut().for_each(|number| *number = (*number).min(i64::MAX as u64));
    }
    Arc::new(Int64Array::new(ScalarBuffer::new(Buffer::from_vec(numbers), 0, rows), nulls))
}

/// The codes of a column; nothing where it was not read. Where later fields need them too, they are copied.
fn codes_of(batch: &mut RequestBatch, column: TextColumn, rows: usize, later: &[Field]) -> Vec<u32> {
    let needs_them = |field: &Field| matches!(field, Field::Of(of) if of.base() == Column::Text(column));
    match batch.codes(column) {
        codes if codes.len() != rows => vec![NO_TEXT; rows],
        codes if later.iter().any(needs_them) => codes.to_vec(),
        _ => taken(batch.codes_mut(column)),
    }
}

fn keyed(mut codes: Vec<u32>, values: Arc<StringArray>) -> Result<DictionaryArray<UInt32Type>, ArrowError> {
    let nulls: Option<NullBuffer> =
        codes.contains(&NO_TEXT).then(|| codes.iter().map(|code| *code != NO_TEXT).collect());
    if nulls.is_some() {
        // Where there is nothing, no key is looked at, but some are moved about: each must be one that there may be.
        codes.iter_mut().filter(|code| **code == NO_TEXT).for_each(|code| *code = 0);
    }
    DictionaryArray::try_new(PrimitiveArray::new(codes.into(), nulls), values)
}

/// The texts of a dictionary, in the order of their codes.
fn all_texts(dictionary: &Dictionary) -> StringArray {
    let (letters, starts) = dictionary.in_one_piece();
    let starts: Vec<i32> = match starts {
        [] => vec![0],
        // There are fewer octets than a dictionary may hold, which is far less than this type.
        starts => starts.iter().map(|start| *start as i32).collect(),
    };
    let offsets = OffsetBuffer::new(ScalarBuffer::from(starts));
    StringArray::new(offsets, Buffer::from_vec(letters.as_bytes().to_vec()), None)
}

impl Known {
    /// Codes with the texts behind them.
    fn coded(
        &mut self,
        mut codes: Vec<u32>,
        dictionary: &Dictionary,
    ) -> Result<DictionaryArray<UInt32Type>, ArrowError> {
        use arrow::array::Array;
        if let Some(values) = self.values.as_ref().filter(|values| values.len() == dictionary.len()) {
            return keyed(codes, Arc::clone(values));
        }
        if dictionary.len() <= codes.len().max(SMALL) {
            let values = Arc::new(all_texts(dictionary));
            self.values = Some(Arc::clone(&values));
            return keyed(codes, values);
        }
        // Most of a large dictionary is of no use to a few rows: they take along what they need.
        self.round += 1;
        self.places.resize(dictionary.len(), (0, 0));
        let mut texts: Vec<&str> = Vec::new();
        for code in codes.iter_mut().filter(|code| **code != NO_TEXT) {
            let (round, place) = &mut self.places[*code as usize];
            if *round != self.round {
                (*round, *place) = (self.round, texts.len() as u32);
                texts.push(dictionary.text(*code));
            }
            *code = *place;
        }
        keyed(codes, Arc::new(StringArray::from_iter_values(texts)))
    }

    /// Codes of what follows from texts, with the texts that follow.
    fn following<'t>(
        &mut self,
        mut codes: Vec<u32>,
        dictionary: &'t Dictionary,
        follows: impl Fn(&'t str) -> Option<Cow<'t, str>>,
    ) -> Result<DictionaryArray<UInt32Type>, ArrowError> {
        self.follows.resize(dictionary.len(), OPEN);
        for code in codes.iter_mut().filter(|code| **code != NO_TEXT) {
            let known = &mut self.follows[*code as usize];
            if *known == OPEN {
                let text = follows(dictionary.text(*code));
                *known = text.map_or(NO_TEXT, |text| self.derived.code(&text));
            }
            *code = *known;
        }
        let derived = std::mem::take(&mut self.derived);
        let array = self.coded(codes, &derived);
        self.derived = derived;
        array
    }
}

/// The visitor of each row: keyed, so that nobody can find out who it was.
fn visitors(
    batch: &RequestBatch,
    texts: &Dictionaries,
    key: VisitorKey,
    calendar: &mut Calendar,
    hashes: &mut [Vec<Option<u64>>; 2],
) -> Int64Array {
    let columns = [TextColumn::Client, TextColumn::Agent];
    for (hashes, column) in hashes.iter_mut().zip(columns) {
        hashes.resize(texts.of(column).len(), None);
    }
    let mut hash = |which: usize, row: usize| {
        let code = batch.code(columns[which], row);
        code.map_or(0, |code| {
            let text = || key.of_text(texts.of(columns[which]).text(code));
            *hashes[which][code as usize].get_or_insert_with(text)
        })
    };
    let visitor = |row: usize| {
        // Whoever did not say who they are is nobody in particular.
        batch.code(TextColumn::Client, row)?;
        let time = batch.time[row];
        let day = if time == NO_TIME { i32::MIN } else { calendar.quarter(time).day };
        let visitor = key.of_visitor(key.of_pair(hash(0, row), hash(1, row)), day);
        Some((visitor >> 1) as i64)
    };
    (0..batch.rows()).map(visitor).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::{fields, schema};
    use arrow::array::{Array, AsArray};
    use arrow::compute::cast;
    use arrow::datatypes::DataType;
    use exedra_common::DerivedColumn;
    use exedra_reading::classify::Classifier;
    use proptest::prelude::*;

    proptest! {
        /// A law: whatever texts a batch has, the engine sees the same, whether dictionaries are copied whole or in part.
        #[test]
        fn texts_arrive_as_they_are(batches in proptest::collection::vec(
            proptest::collection::vec(proptest::option::of("[a-d]{0,3}"), 0..60), 1..5), large in any::<bool>())
        {
            let schema = schema("UTC");
            let all: Vec<Field> = fields().collect();
            let keys = (VisitorKey([1, 2]), Calendar::new(jiff::tz::TimeZone::UTC));
            let mut arrow = ArrowBatches::new(Arc::clone(&schema), all, Arc::new(Classifier::default()), keys);
            let mut texts = Dictionaries::default();
            if large {
                (0..2 * SMALL).for_each(|nth| { texts.of_mut(TextColumn::Path).code(&format!("/{nth}")); });
            }
            for paths in batches {
                let mut batch = RequestBatch::default();
                for path in &paths {
                    batch.time.push(if path.is_some() { 0 } else { NO_TIME });
                    let code = path.as_deref().map_or(NO_TEXT, |path| texts.of_mut(TextColumn::Path).code(path));
                    batch.codes_mut(TextColumn::Path).push(code);
                }
                let made = arrow.make(&mut batch, &texts).unwrap();
                let of = |name: &str| cast(made.column_by_name(name).unwrap(), &DataType::Utf8).unwrap();
                let found: Vec<Option<String>> = of("path").as_string::<i32>().iter().map(|text| text.map(str::to_owned)).collect();
                prop_assert_eq!(&found, &paths);
                let kinds = of("kind");
                for (kind, path) in kinds.as_string::<i32>().iter().zip(&paths) {
                    let classifier = Classifier::default();
                    let expected = path.as_deref().and_then(|path| classifier.derive(DerivedColumn::Kind, path));
                    prop_assert_eq!(kind, expected.as_deref());
                }
                prop_assert_eq!(made.column_by_name("time").unwrap().null_count(), paths.iter().filter(|path| path.is_none()).count());
            }
        }
    }
}
