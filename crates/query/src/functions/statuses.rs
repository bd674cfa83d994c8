//! Statuses as people speak of them (RFC 9110 §15).

use super::{Function, Kind};
use crate::schema::text;
use arrow::array::{ArrayRef, AsArray, DictionaryArray, PrimitiveArray, StringArray};
use arrow::datatypes::{DataType, Int64Type, UInt32Type};
use datafusion::common::plan_err;
use datafusion::error::Result;
use datafusion::logical_expr::{ColumnarValue, ScalarFunctionArgs, ScalarUDFImpl, Signature, Volatility};
use exedra_reading::classify::statuses::reason;
use std::collections::HashMap;
use std::sync::Arc;

/// What people are told of it.
pub const CLASS: Function = Function {
    name: "status_class",
    usage: "status_class(status)",
    meaning: "The class of a status: '2xx', '4xx' …",
    example: "select status_class(status) as class, count(*) as requests from requests group by class order by class",
    kind: Kind::Row,
    is_own: true,
};

/// What people are told of it.
pub const WORDS: Function = Function {
    name: "status_words",
    usage: "status_words(status)",
    meaning: "What a status says in words: 'Not Found' of 404.",
    example: "select status, status_words(status) as words, count(*) as requests from requests group by status order by status",
    kind: Kind::Row,
    is_own: true,
};

/// The class of a status.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Class(Signature);

impl Default for Class {
    fn default() -> Self {
        Class(Signature::exact(vec![DataType::Int64], Volatility::Immutable))
    }
}

impl ScalarUDFImpl for Class {
    fn name(&self) -> &'static str {
        CLASS.name
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(text())
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        named(&given, |status| (100..1000).contains(&status).then(|| format!("{}xx", status / 100)))
    }
}

/// What a status says in words.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Words(Signature);

impl Default for Words {
    fn default() -> Self {
        Words(Signature::exact(vec![DataType::Int64], Volatility::Immutable))
    }
}

impl ScalarUDFImpl for Words {
    fn name(&self) -> &'static str {
        WORDS.name
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(text())
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        named(&given, |status| reason(u16::try_from(status).ok()?).map(str::to_owned))
    }
}

/// A name for each number, made once for each distinct one.
fn named(given: &ScalarFunctionArgs, name: impl Fn(i64) -> Option<String>) -> Result<ColumnarValue> {
    let [status] = &given.args[..] else { return plan_err!("one status is wanted") };
    let statuses = status.to_array(given.number_rows)?;
    let (mut names, mut known): (Vec<String>, HashMap<i64, Option<u32>>) = Default::default();
    let keys: PrimitiveArray<UInt32Type> = statuses
        .as_primitive::<Int64Type>()
        .iter()
        .map(|status| {
            let status = status?;
            *known.entry(status).or_insert_with(|| {
                let name = name(status)?;
                // Several statuses have one class.
                let place = names.iter().position(|known| *known == name).unwrap_or(names.len());
                if place == names.len() {
                    names.push(name);
                }
                Some(place as u32)
            })
        })
        .collect();
    let names: ArrayRef = Arc::new(StringArray::from(names));
    Ok(ColumnarValue::Array(Arc::new(DictionaryArray::try_new(keys, names)?)))
}
