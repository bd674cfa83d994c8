//! Which group a row is of, told by codes.
//!
//! Each value becomes a number: of a text its place among all distinct texts so far, of everything else its own bits. A row's
//! numbers together are its group. Groups by a single small number are places in a list; the others are looked up.

use arrow::array::{
    Array, ArrayData, ArrayRef, AsArray, BooleanArray, DictionaryArray, PrimitiveArray, StringArray,
    make_array,
};
use arrow::buffer::{Buffer, NullBuffer, ScalarBuffer};
use arrow::datatypes::{DataType, Schema, UInt32Type};
use datafusion::common::{DataFusionError, Result};
use exedra_common::Dictionary;
use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher;
use std::ops::Range;
use std::sync::Arc;

/// How many columns may make a group.
const MOST_COLUMNS: usize = 8;
/// No group yet, or no place yet.
const OPEN: u32 = u32::MAX;
/// Numbers below this have their group in a list.
const MOST_IN_LIST: u64 = 1 << 20;

/// The groups so far.
#[derive(Debug)]
pub(super) struct Groups {
    columns: Vec<KeyColumn>,
    /// The numbers of each group: which of its values are missing, then one number a column.
    keys: Vec<u64>,
    /// Groups by their numbers.
    table: HashTable<u32>,
    hasher: RandomState,
    /// By a single column: the group of each small number, of whoever has none first.
    by_number: Vec<u32>,
    count: usize,
    /// The numbers of the rows at hand, column after column.
    numbers: Vec<u64>,
}

/// What is known of one column of the keys.
#[derive(Debug)]
struct KeyColumn {
    kind: Kind,
    data_type: DataType,
}

#[derive(Debug)]
enum Kind {
    /// Coded texts, or texts as they are.
    Texts(Texts),
    /// Numbers and instants of so many octets.
    Bits(usize),
    Truth,
}

/// The distinct texts of a column, whatever batch they come in.
#[derive(Debug, Default)]
struct Texts {
    distinct: Dictionary,
    /// The dictionary of the last batch, and the place of each of its texts.
    last: Option<ArrayRef>,
    places: Vec<u32>,
}

impl Groups {
    /// Whether groups of such keys can be told.
    pub(super) fn can_tell(schema: &Schema) -> bool {
        let kinds = schema.fields().iter().all(|field| KeyColumn::new(field.data_type()).is_some());
        kinds && (1..=MOST_COLUMNS).contains(&schema.fields().len())
    }

    /// No groups yet, of such keys.
    ///
    /// # Errors
    /// Where they cannot be told.
    pub(super) fn new(schema: &Schema) -> Result<Self> {
        let columns = schema.fields().iter().map(|field| KeyColumn::new(field.data_type()));
        let columns = columns.collect::<Option<Vec<_>>>().ok_or_else(|| {
            DataFusionError::Internal(format!("groups of {schema} cannot be told by codes"))
        })?;
        Ok(Groups {
            columns,
            keys: Vec::new(),
            table: HashTable::new(),
            hasher: RandomState::default(),
            by_number: Vec::new(),
            count: 0,
            numbers: Vec::new(),
        })
    }

    /// How many there are.
    pub(super) fn len(&self) -> usize {
        self.count
    }

    /// How many octets they take.
    pub(super) fn octets(&self) -> usize {
        let texts = self.columns.iter().map(|column| match &column.kind {
            // A text, where it begins, and its place of a table that is half empty.
            Kind::Texts(texts) => {
                texts.distinct.bytes() + 24 * texts.distinct.len() + 4 * texts.places.capacity()
            }
            _ => 0,
        });
        texts.sum::<usize>()
            + 8 * (self.keys.capacity() + self.numbers.capacity())
            + 5 * self.table.capacity()
            + 4 * self.by_number.capacity()
    }

    /// The group of each row of some keys.
    ///
    /// # Errors
    /// When keys are not those that were said.
    pub(super) fn of_rows(&mut self, keys: &[ArrayRef], groups: &mut Vec<usize>) -> Result<()> {
        groups.clear();
        let Some(rows) = keys.first().map(|keys| keys.len()) else { return Ok(()) };
        if let Some(numbers) = self.plain_numbers(keys) {
            // One whole number in each row: it need not be put beside others first.
            groups.extend(numbers.iter().map(|number| self.of_one(0, *number)));
            return Ok(());
        }
        let width = self.columns.len() + 1;
        self.numbers.clear();
        self.numbers.resize(rows * width, 0);
        for (nth, (column, keys)) in self.columns.iter_mut().zip(keys).enumerate() {
            column.numbers(keys, nth, width, &mut self.numbers)?;
        }
        let numbers = std::mem::take(&mut self.numbers);
        match width {
            2 => groups
                .extend(numbers.as_chunks().0.iter().map(|[missing, number]| self.of_one(*missing, *number))),
            _ => {
                let mut before: Option<(&[u64], usize)> = None;
                groups.extend(numbers.chunks_exact(width).map(|numbers| {
                    // Neighbours are often of one group: requests of one hour, of one client.
                    let group = match before {
                        Some((same, group)) if same == numbers => group,
                        _ => self.of_numbers(numbers),
                    };
                    before = Some((numbers, group));
                    group
                }));
            }
        }
        self.numbers = numbers;
        Ok(())
    }

    /// The numbers of the only column, where it has one of eight octets in each row.
    fn plain_numbers(&self, keys: &[ArrayRef]) -> Option<ScalarBuffer<u64>> {
        let ([KeyColumn { kind: Kind::Bits(8), data_type }], [keys]) = (&self.columns[..], keys) else {
            return None;
        };
        if keys.data_type() != data_type || keys.null_count() > 0 {
            return None;
        }
        let data = keys.to_data();
        Some(ScalarBuffer::new(data.buffers().first()?.clone(), data.offset(), data.len()))
    }

    /// The group of a number alone.
    fn of_one(&mut self, missing: u64, number: u64) -> usize {
        let place = if missing == 0 { number.saturating_add(1) } else { 0 };
        if place >= MOST_IN_LIST {
            return self.of_numbers(&[missing, number]);
        }
        let place = place as usize;
        if place >= self.by_number.len() {
            self.by_number.resize(place + 1, OPEN);
        }
        if self.by_number[place] == OPEN {
            self.by_number[place] = self.count as u32;
            self.count += 1;
            self.keys.extend([missing, number]);
        }
        self.by_number[place] as usize
    }

    /// The group of these numbers.
    fn of_numbers(&mut self, numbers: &[u64]) -> usize {
        let Groups { keys, table, hasher, count, .. } = self;
        let hash = hasher.hash_one(numbers);
        let of =
            |keys: &Vec<u64>, group: u32| keys[group as usize * numbers.len()..][..numbers.len()] == *numbers;
        if let Some(group) = table.find(hash, |group| of(keys, *group)) {
            return *group as usize;
        }
        keys.extend_from_slice(numbers);
        let hash_of =
            |group: &u32| hasher.hash_one(&keys[*group as usize * numbers.len()..][..numbers.len()]);
        table.insert_unique(hash, *count as u32, hash_of);
        *count += 1;
        *count - 1
    }

    /// The keys of some groups, in their order.
    ///
    /// # Errors
    /// When the engine finds them unlike their type.
    pub(super) fn keys(&self, groups: Range<usize>) -> Result<Vec<ArrayRef>> {
        let width = self.columns.len() + 1;
        let rows = &self.keys[groups.start * width..groups.end * width];
        let key = |(nth, column): (usize, &KeyColumn)| {
            let is_there = rows.chunks_exact(width).map(|row| row[0] & 1 << nth == 0);
            column.array(rows.chunks_exact(width).map(|row| row[nth + 1]), is_there.collect())
        };
        self.columns.iter().enumerate().map(key).collect()
    }

    /// Forgets all of them.
    pub(super) fn clear(&mut self) {
        for column in &mut self.columns {
            if let Kind::Texts(texts) = &mut column.kind {
                *texts = Texts::default();
            }
        }
        (self.keys, self.numbers, self.by_number) = Default::default();
        self.table = HashTable::new();
        self.count = 0;
    }
}

impl KeyColumn {
    fn new(data_type: &DataType) -> Option<Self> {
        let kind = match data_type {
            DataType::Dictionary(code, text) if **code == DataType::UInt32 && **text == DataType::Utf8 => {
                Kind::Texts(Texts::default())
            }
            DataType::Utf8 => Kind::Texts(Texts::default()),
            DataType::Boolean => Kind::Truth,
            // Fractions are equal in ways of their own.
            kind if kind.is_floating() => return None,
            kind => Kind::Bits(kind.primitive_width().filter(|width| matches!(width, 4 | 8))?),
        };
        Some(KeyColumn { kind, data_type: data_type.clone() })
    }

    /// Puts the number of each row where it belongs: rows are so many numbers wide, of which the first has a bit for each missing one.
    fn numbers(&mut self, keys: &ArrayRef, nth: usize, width: usize, numbers: &mut [u64]) -> Result<()> {
        if let Kind::Texts(texts) = &mut self.kind {
            let mut rows = numbers.chunks_exact_mut(width);
            return texts.each_place(keys, |place| {
                let Some(row) = rows.next() else { return };
                match place {
                    Some(place) => row[nth + 1] = u64::from(place),
                    None => row[0] |= 1 << nth,
                }
            });
        }
        let rows = numbers.chunks_exact_mut(width);
        match self.kind {
            Kind::Texts(_) => {}
            Kind::Truth => {
                let values = keys.as_boolean_opt().ok_or_else(|| unlike(keys))?;
                rows.zip(values.values()).for_each(|(row, value)| row[nth + 1] = u64::from(value));
            }
            Kind::Bits(octets) => {
                let data = keys.to_data();
                let buffer = data.buffers().first().filter(|_| *keys.data_type() == self.data_type);
                let buffer = buffer.ok_or_else(|| unlike(keys))?;
                let (from, until) = (data.offset(), data.offset() + data.len());
                match octets {
                    8 => rows
                        .zip(&buffer.typed_data::<u64>()[from..until])
                        .for_each(|(row, value)| row[nth + 1] = *value),
                    _ => rows
                        .zip(&buffer.typed_data::<u32>()[from..until])
                        .for_each(|(row, value)| row[nth + 1] = u64::from(*value)),
                }
            }
        }
        if let Some(nulls) = keys.logical_nulls() {
            let rows = numbers.chunks_exact_mut(width);
            for (row, _) in rows.zip(&nulls).filter(|(_, is_there)| !is_there) {
                row[nth + 1] = 0;
                row[0] |= 1 << nth;
            }
        }
        Ok(())
    }

    /// The values behind numbers.
    fn array(&self, numbers: impl Iterator<Item = u64>, is_there: NullBuffer) -> Result<ArrayRef> {
        let rows = is_there.len();
        let nulls = Some(is_there).filter(|nulls| nulls.null_count() > 0);
        let texts = match &self.kind {
            Kind::Texts(texts) => texts,
            Kind::Truth => {
                return Ok(Arc::new(BooleanArray::new(numbers.map(|number| number != 0).collect(), nulls)));
            }
            Kind::Bits(octets) => {
                let buffer = match octets {
                    8 => Buffer::from_vec(numbers.collect::<Vec<u64>>()),
                    _ => Buffer::from_vec(numbers.map(|number| number as u32).collect::<Vec<u32>>()),
                };
                let data =
                    ArrayData::builder(self.data_type.clone()).len(rows).add_buffer(buffer).nulls(nulls);
                return Ok(make_array(data.build()?));
            }
        };
        let is_there = |row: usize| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
        let text = |(row, place): (usize, u64)| is_there(row).then(|| texts.distinct.text(place as u32));
        if self.data_type == DataType::Utf8 {
            return Ok(Arc::new(numbers.enumerate().map(text).collect::<StringArray>()));
        }
        // Only the texts of these groups go along: whoever looks at a dictionary looks at all of it.
        let (mut codes, mut values) = (Vec::with_capacity(rows), Vec::new());
        let mut known: hashbrown::HashMap<u64, u32, RandomState> = Default::default();
        for (row, place) in numbers.enumerate() {
            if !is_there(row) {
                codes.push(0);
                continue;
            }
            codes.push(*known.entry(place).or_insert_with(|| {
                values.push(texts.distinct.text(place as u32));
                values.len() as u32 - 1
            }));
        }
        let values = Arc::new(StringArray::from_iter_values(values));
        Ok(Arc::new(DictionaryArray::<UInt32Type>::try_new(
            PrimitiveArray::new(codes.into(), nulls),
            values,
        )?))
    }
}

impl Texts {
    /// Says the place of each row's text among all; `None` where there is none.
    fn each_place(&mut self, keys: &ArrayRef, mut each: impl FnMut(Option<u32>)) -> Result<()> {
        if let Some(texts) = keys.as_string_opt::<i32>() {
            texts.iter().for_each(|text| each(text.map(|text| self.distinct.code(text))));
            return Ok(());
        }
        let coded = keys.as_dictionary_opt::<UInt32Type>().ok_or_else(|| unlike(keys))?;
        let values = coded.values();
        let texts = values.as_string_opt::<i32>().ok_or_else(|| unlike(keys))?;
        if self.last.as_ref().is_none_or(|last| !Arc::ptr_eq(last, values)) {
            self.last = Some(Arc::clone(values));
            self.places.clear();
            self.places.resize(texts.len(), OPEN);
        }
        // Texts that have not been asked for yet are looked up together, so that the waits for memory overlap.
        let is_text = |code: &u32| !texts.is_null(*code as usize);
        let mut asked: Vec<u32> = Vec::new();
        for code in coded.keys().iter().flatten().filter(is_text) {
            let place = &mut self.places[code as usize];
            if *place == OPEN {
                *place = 0;
                asked.push(code);
            }
        }
        let octets: Vec<Option<&[u8]>> =
            asked.iter().map(|code| Some(texts.value(*code as usize).as_bytes())).collect();
        let mut places = Vec::with_capacity(asked.len());
        self.distinct.codes(&octets, OPEN, String::from_utf8_lossy, &mut places);
        asked.iter().zip(places).for_each(|(code, place)| self.places[*code as usize] = place);
        for code in coded.keys() {
            each(code.filter(is_text).map(|code| self.places[code as usize]));
        }
        Ok(())
    }
}

fn unlike(keys: &ArrayRef) -> DataFusionError {
    DataFusionError::Internal(format!("keys of groups are {}", keys.data_type()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::array::{Int64Array, TimestampMillisecondArray};
    use arrow::compute::cast;
    use arrow::datatypes::{Field, TimeUnit};
    use proptest::prelude::*;
    use std::collections::HashMap;

    type Row = (Option<String>, Option<i64>, Option<bool>);

    /// Columns of some rows, texts coded.
    fn arrays(rows: &[Row], columns: &[usize]) -> Vec<ArrayRef> {
        let texts: StringArray = rows.iter().map(|row| row.0.as_deref()).collect();
        let all: [ArrayRef; 4] = [
            cast(&texts, &crate::schema::text()).unwrap(),
            Arc::new(rows.iter().map(|row| row.1).collect::<TimestampMillisecondArray>()),
            Arc::new(rows.iter().map(|row| row.2).collect::<BooleanArray>()),
            Arc::new(texts),
        ];
        columns.iter().map(|nth| Arc::clone(&all[*nth])).collect()
    }

    fn shown(array: &ArrayRef, row: usize) -> Option<String> {
        let texts = cast(array, &DataType::Utf8).unwrap();
        let texts = texts.as_string::<i32>();
        (!texts.is_null(row)).then(|| texts.value(row).to_owned())
    }

    proptest! {
        /// A law: rows are of one group just when all their values are the same, and the group is called by them.
        #[test]
        fn groups_are_those_of_equal_values(
            batches in proptest::collection::vec(proptest::collection::vec(
                (proptest::option::of("[ab]{0,2}"), proptest::option::of(-1i64..2), proptest::option::of(any::<bool>())), 0..30), 1..4),
            columns in proptest::sample::subsequence(vec![0usize, 1, 2, 3], 1..=4),
            sliced in any::<bool>(),
        ) {
            let kinds = [crate::schema::text(), DataType::Timestamp(TimeUnit::Millisecond, None), DataType::Boolean, DataType::Utf8];
            let fields = columns.iter().map(|nth| Field::new(nth.to_string(), kinds[*nth].clone(), true));
            let schema = Schema::new(fields.collect::<Vec<_>>());
            prop_assert!(Groups::can_tell(&schema));
            let mut groups = Groups::new(&schema).unwrap();
            let mut expected: HashMap<Vec<Option<String>>, usize> = HashMap::new();
            let (mut found, mut keys_of) = (Vec::new(), Vec::new());
            for rows in &batches {
                let mut keys = arrays(rows, &columns);
                if sliced && rows.len() > 2 {
                    keys = keys.iter().map(|keys| keys.slice(1, rows.len() - 2)).collect();
                }
                groups.of_rows(&keys, &mut found).unwrap();
                prop_assert_eq!(found.len(), keys[0].len());
                for (row, group) in found.iter().enumerate() {
                    let values: Vec<_> = keys.iter().map(|keys| shown(keys, row)).collect();
                    let next = expected.len();
                    prop_assert_eq!(*expected.entry(values.clone()).or_insert(next), *group);
                    if *group == keys_of.len() {
                        keys_of.push(values);
                    }
                }
            }
            prop_assert_eq!(groups.len(), expected.len());
            let half = groups.len() / 2;
            for range in [0..half, half..groups.len()] {
                let keys = groups.keys(range.clone()).unwrap();
                for (array, field) in keys.iter().zip(schema.fields()) {
                    prop_assert_eq!(array.data_type(), field.data_type());
                }
                for (nth, group) in range.enumerate() {
                    let values: Vec<_> = keys.iter().map(|keys| shown(keys, nth)).collect();
                    prop_assert_eq!(&values, &keys_of[group]);
                }
            }
            groups.clear();
            prop_assert_eq!(groups.len(), 0);
        }
    }

    #[test]
    fn fractions_are_left_to_the_engine() {
        let schema = Schema::new(vec![Field::new("duration_ms", DataType::Float64, true)]);
        assert!(!Groups::can_tell(&schema));
        let whole = Schema::new(vec![Field::new("bytes", DataType::Int64, true)]);
        let mut groups = Groups::new(&whole).unwrap();
        let keys: ArrayRef = Arc::new(Int64Array::from(vec![5, 5, 7]));
        let mut found = Vec::new();
        groups.of_rows(&[keys], &mut found).unwrap();
        assert_eq!(found, [0, 0, 1]);
    }
}
