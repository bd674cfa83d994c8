//! What is worked out of texts: once for each distinct one.
//!
//! Columns of texts come as codes into a dictionary, and of a million rows a few thousand texts are distinct. What is given back has
//! a dictionary too, in which no text stands twice.

use crate::schema::text;
use arrow::array::{Array, ArrayRef, AsArray, DictionaryArray, PrimitiveArray, StringArray};
use arrow::compute::cast;
use arrow::datatypes::{DataType, UInt32Type};
use datafusion::common::{ScalarValue, exec_err};
use datafusion::error::Result;
use datafusion::logical_expr::ColumnarValue;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

/// What follows from each text of a value; a text, or nothing.
pub fn texts_of_texts(
    value: &ColumnarValue,
    follows: impl Fn(&str) -> Option<Cow<'_, str>>,
) -> Result<ColumnarValue> {
    match value {
        ColumnarValue::Scalar(value) => {
            let text = scalar_text(value).and_then(follows).map(Cow::into_owned);
            Ok(ColumnarValue::Scalar(ScalarValue::Dictionary(
                Box::new(DataType::UInt32),
                Box::new(ScalarValue::Utf8(text)),
            )))
        }
        ColumnarValue::Array(array) => {
            let coded = coded(array)?;
            let values = coded.values().as_string::<i32>();
            let (mut texts, mut places): (Vec<Cow<'_, str>>, HashMap<Cow<'_, str>, u32>) = Default::default();
            let follows: Vec<Option<u32>> = values
                .iter()
                .map(|value| {
                    let text = follows(value?)?;
                    let next = texts.len() as u32;
                    Some(*places.entry(text).or_insert_with_key(|text| {
                        texts.push(text.clone());
                        next
                    }))
                })
                .collect();
            let keys: PrimitiveArray<UInt32Type> =
                coded.keys().iter().map(|key| follows[key? as usize]).collect();
            let texts = Arc::new(StringArray::from_iter_values(texts));
            Ok(ColumnarValue::Array(Arc::new(DictionaryArray::try_new(keys, texts)?)))
        }
    }
}

/// Whether something holds of each text of a value; nothing where there is no text.
pub fn truths_of_texts(value: &ColumnarValue, holds: impl Fn(&str) -> bool) -> Result<ColumnarValue> {
    match value {
        ColumnarValue::Scalar(value) => {
            Ok(ColumnarValue::Scalar(ScalarValue::Boolean(scalar_text(value).map(holds))))
        }
        ColumnarValue::Array(array) => {
            let coded = coded(array)?;
            let holds: Vec<Option<bool>> =
                coded.values().as_string::<i32>().iter().map(|text| text.map(&holds)).collect();
            let all: arrow::array::BooleanArray =
                coded.keys().iter().map(|key| holds[key? as usize]).collect();
            Ok(ColumnarValue::Array(Arc::new(all)))
        }
    }
}

/// Texts as codes into a dictionary, whatever they were.
fn coded(array: &ArrayRef) -> Result<DictionaryArray<UInt32Type>> {
    let array = if *array.data_type() == text() { Arc::clone(array) } else { cast(array, &text())? };
    Ok(array.as_dictionary::<UInt32Type>().clone())
}

/// The text of a value.
pub fn scalar_text(value: &ScalarValue) -> Option<&str> {
    match value {
        ScalarValue::Dictionary(_, value) => scalar_text(value),
        value => value.try_as_str().flatten(),
    }
}

/// The text that an argument is for all rows.
pub fn constant<'a>(value: &'a ColumnarValue, function: &str, what: &str) -> Result<&'a str> {
    match value {
        ColumnarValue::Scalar(value) if scalar_text(value).is_some() => {
            Ok(scalar_text(value).unwrap_or_default())
        }
        _ => exec_err!("{function}: {what} is written out, the same for all rows"),
    }
}

/// The types that arguments are brought to: texts to codes where `None` stands, others to what stands there.
pub fn coerced(function: &str, given: &[DataType], wanted: &[Option<DataType>]) -> Result<Vec<DataType>> {
    let each = given.iter().zip(wanted).map(|(given, wanted)| match wanted {
        Some(wanted) => Ok(wanted.clone()),
        None if is_text(given) || *given == DataType::Null => Ok(text()),
        None => datafusion::common::plan_err!("{function}: a text is wanted, not {given}"),
    });
    each.collect()
}

/// Whether values of a type are texts.
pub fn is_text(given: &DataType) -> bool {
    match given {
        DataType::Dictionary(_, value) => is_text(value),
        given => given.is_string(),
    }
}
