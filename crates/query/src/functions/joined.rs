//! Texts made of texts, within bounds.
//!
//! A statement of a few letters can ask for more text than any machine holds: one that is repeated a million times, or joined to
//! itself and that to itself again. The engine does not count what is on its way through an expression, so whatever makes longer
//! texts of shorter ones says here how much it will be, before it is made.

use super::per_text::is_text;
use arrow::array::{Array, ArrayRef, AsArray, StringArray, StringBuilder};
use arrow::compute::{cast, concat};
use arrow::datatypes::{DataType, FieldRef, Int64Type};
use datafusion::common::exec_err;
use datafusion::error::Result;
use datafusion::logical_expr::{
    ColumnarValue, ReturnFieldArgs, ScalarFunctionArgs, ScalarUDF, ScalarUDFImpl, Signature, Volatility,
};
use std::ops::Range;
use std::sync::Arc;

/// The name under which the engine knows what `||` is.
pub const JOINED: &str = "joined";

/// How many octets of text one step of a statement may make of the rows at hand.
const MOST: u64 = 64 << 20;

/// What `||` does: texts one after the other; nothing where one of them is nothing.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Joined(Signature);

impl Default for Joined {
    fn default() -> Self {
        Joined(Signature::user_defined(Volatility::Immutable))
    }
}

impl ScalarUDFImpl for Joined {
    fn name(&self) -> &'static str {
        JOINED
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        Ok(given.iter().map(|_| DataType::Utf8).collect())
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(DataType::Utf8)
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let arrays = ColumnarValue::values_to_arrays(&given.args)?;
        let texts: Vec<&StringArray> = arrays.iter().map(|array| array.as_string::<i32>()).collect();
        let octets: usize = texts.iter().map(|texts| texts.value_data().len()).sum();
        check("||", octets as u64)?;
        let rows = texts.first().map_or(0, |texts| texts.len());
        let mut out = StringBuilder::with_capacity(rows, octets);
        for row in 0..rows {
            if texts.iter().any(|texts| texts.is_null(row)) {
                out.append_null();
                continue;
            }
            let all: String = texts.iter().map(|texts| texts.value(row)).collect();
            out.append_value(all);
        }
        Ok(ColumnarValue::Array(Arc::new(out.finish())))
    }
}

/// Those of the engine's functions that make longer texts of shorter ones, held to the bound.
pub fn bounded(all: &[Arc<ScalarUDF>]) -> Vec<Arc<ScalarUDF>> {
    let estimates: [(&str, Estimate); 8] = [
        ("concat", |given| sum(given)),
        ("concat_ws", |given| sum(given).saturating_mul(2)),
        ("repeat", |given| nth(given, 0).saturating_mul(nth(given, 1))),
        // Letters have up to four octets.
        ("lpad", |given| nth(given, 1).saturating_mul(4)),
        ("rpad", |given| nth(given, 1).saturating_mul(4)),
        ("replace", |given| {
            let times = nth(given, 0) / nth(given, 1).max(1) + 1;
            times.saturating_mul(nth(given, 2)).saturating_add(nth(given, 0))
        }),
        ("regexp_replace", |given| {
            // A pattern may fit before each letter, and what stands for it may name what fitted as often as it has letters.
            let (length, by) = (nth(given, 0) + 1, nth(given, 2) + 1);
            length.saturating_mul(by).saturating_mul(2)
        }),
        // What stands for two letters has some forty.
        ("to_char", |given| nth(given, 1).saturating_mul(20)),
    ];
    let bound = |function: &Arc<ScalarUDF>| {
        let (_, estimate) = estimates.iter().find(|(name, _)| *name == function.name())?;
        let bounded = Bounded { inner: Arc::clone(function), estimate: *estimate };
        Some(Arc::new(ScalarUDF::from(bounded)))
    };
    all.iter().filter_map(bound).collect()
}

/// The most octets that are made of one row, by the lengths of the texts and the values of the numbers that are given.
type Estimate = fn(&[u64]) -> u64;

fn sum(given: &[u64]) -> u64 {
    given.iter().fold(0, |sum, one| sum.saturating_add(*one))
}

fn nth(given: &[u64], place: usize) -> u64 {
    given.get(place).copied().unwrap_or(0)
}

/// A function of the engine that is asked how much it will make.
///
/// What it can make at most is often far more than what it makes. So rows are handed to it in pieces that stay within the bound whatever
/// it makes of them, and what it has made is counted.
#[derive(Debug)]
struct Bounded {
    inner: Arc<ScalarUDF>,
    estimate: Estimate,
}

impl PartialEq for Bounded {
    fn eq(&self, other: &Self) -> bool {
        self.inner == other.inner
    }
}

impl Eq for Bounded {}

impl std::hash::Hash for Bounded {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.inner.hash(state);
    }
}

impl ScalarUDFImpl for Bounded {
    fn name(&self) -> &str {
        self.inner.name()
    }

    fn aliases(&self) -> &[String] {
        self.inner.aliases()
    }

    fn signature(&self) -> &Signature {
        self.inner.signature()
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        self.inner.coerce_types(given)
    }

    fn return_type(&self, given: &[DataType]) -> Result<DataType> {
        self.inner.return_type(given)
    }

    fn return_field_from_args(&self, given: ReturnFieldArgs<'_>) -> Result<FieldRef> {
        self.inner.return_field_from_args(given)
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let are_same = given.args.iter().all(|one| matches!(one, ColumnarValue::Scalar(_)));
        let rows = if are_same { 1 } else { given.number_rows };
        let pieces = self.pieces(&given.args, rows)?;
        if let [_] = pieces[..] {
            return self.inner.invoke_with_args(given);
        }
        let (mut made, mut octets): (Vec<ArrayRef>, u64) = (Vec::new(), 0);
        for piece in pieces {
            let of_piece = given.args.iter().map(|one| match one {
                ColumnarValue::Array(array) => ColumnarValue::Array(array.slice(piece.start, piece.len())),
                ColumnarValue::Scalar(value) => ColumnarValue::Scalar(value.clone()),
            });
            let of_piece =
                ScalarFunctionArgs { args: of_piece.collect(), number_rows: piece.len(), ..given.clone() };
            let part = self.inner.invoke_with_args(of_piece)?.into_array(piece.len())?;
            octets = octets.saturating_add(sizes(&part)?.into_iter().sum());
            check(self.name(), octets)?;
            made.push(part);
        }
        let made: Vec<&dyn Array> = made.iter().map(|part| &**part).collect();
        Ok(ColumnarValue::Array(concat(&made)?))
    }
}

impl Bounded {
    /// The rows in pieces of which no more than the bound can be made.
    fn pieces(&self, given: &[ColumnarValue], rows: usize) -> Result<Vec<Range<usize>>> {
        let given: Vec<Vec<u64>> = given
            .iter()
            .map(|one| match one {
                ColumnarValue::Array(array) => sizes(array),
                ColumnarValue::Scalar(value) => sizes(&value.to_array()?),
            })
            .collect::<Result<_>>()?;
        let (mut pieces, mut begin, mut made) = (Vec::new(), 0, 0_u64);
        let mut of_row = vec![0; given.len()];
        for row in 0..rows {
            for (of_row, sizes) in of_row.iter_mut().zip(&given) {
                // A value for all rows stands there once.
                *of_row = *sizes.get(row).or(sizes.first()).unwrap_or(&0);
            }
            let makes = (self.estimate)(&of_row);
            check(self.name(), makes)?;
            made += makes;
            if made > MOST {
                pieces.push(begin..row);
                (begin, made) = (row, makes);
            }
        }
        pieces.push(begin..rows);
        Ok(pieces)
    }
}

fn check(name: &str, octets: u64) -> Result<()> {
    match octets > MOST {
        true => exec_err!("{name} would make more than {} MB of text at once", MOST >> 20),
        false => Ok(()),
    }
}

/// The octets of each text of an array, or what each of its numbers is, where that is more than nothing.
fn sizes(array: &ArrayRef) -> Result<Vec<u64>> {
    if is_text(array.data_type()) {
        let texts = cast(array, &DataType::Utf8)?;
        let texts = texts.as_string::<i32>().iter();
        return Ok(texts.map(|text| text.map_or(0, |text| text.len() as u64)).collect());
    }
    match cast(array, &DataType::Int64) {
        Ok(numbers) => {
            let numbers = numbers.as_primitive::<Int64Type>().iter();
            Ok(numbers.map(|number| u64::try_from(number.unwrap_or(0)).unwrap_or(0)).collect())
        }
        // Times and the like are of one length.
        Err(_) => Ok(vec![0; array.len()]),
    }
}
