//! Texts made of texts, within bounds.
//!
//! A statement of a few letters can ask for more text than any machine holds: one that is repeated a million times, or joined to
//! itself and that to itself again. The engine does not count what is on its way through an expression, so whatever makes longer
//! texts of shorter ones says here how much it will be, before it is made.

use super::per_text::is_text;
use arrow::array::{Array, ArrayRef, AsArray, StringArray, StringBuilder};
use arrow::compute::cast;
use arrow::datatypes::{DataType, FieldRef, Int64Type};
use datafusion::common::{exec_err, plan_err};
use datafusion::error::Result;
use datafusion::logical_expr::{
    ColumnarValue, ReturnFieldArgs, ScalarFunctionArgs, ScalarUDF, ScalarUDFImpl, Signature, Volatility,
};
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
    let estimates: [(&str, Estimate); 6] = [
        ("concat", |given| Ok(given.iter().map(octets).sum())),
        ("concat_ws", |given| Ok(given.iter().map(octets).sum::<u64>() * 2)),
        ("repeat", |given| times(given, 1)),
        ("lpad", |given| padded(given)),
        ("rpad", |given| padded(given)),
        ("replace", |given| replaced(given)),
    ];
    let bound = |function: &Arc<ScalarUDF>| {
        let (_, estimate) = estimates.iter().find(|(name, _)| *name == function.name())?;
        let bounded = Bounded { inner: Arc::clone(function), estimate: *estimate };
        Some(Arc::new(ScalarUDF::from(bounded)))
    };
    all.iter().filter_map(bound).collect()
}

/// How many octets will be made of some texts.
type Estimate = fn(&[ArrayRef]) -> Result<u64>;

/// A function of the engine that is asked how much it will make.
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
        let arrays = ColumnarValue::values_to_arrays(&given.args)?;
        check(self.name(), (self.estimate)(&arrays)?)?;
        self.inner.invoke_with_args(given)
    }
}

fn check(name: &str, octets: u64) -> Result<()> {
    match octets > MOST {
        true => exec_err!("{name} would make more than {} MB of text at once", MOST >> 20),
        false => Ok(()),
    }
}

/// The octets of the texts of an array.
fn octets(array: &ArrayRef) -> u64 {
    lengths(array).map_or(0, |lengths| lengths.into_iter().sum())
}

/// The octets of each text of an array.
fn lengths(array: &ArrayRef) -> Result<Vec<u64>> {
    if !is_text(array.data_type()) {
        return Ok(vec![32; array.len()]);
    }
    let texts = cast(array, &DataType::Utf8)?;
    Ok(texts.as_string::<i32>().iter().map(|text| text.map_or(0, |text| text.len() as u64)).collect())
}

fn numbers(array: &ArrayRef) -> Result<Vec<u64>> {
    let numbers = cast(array, &DataType::Int64)?;
    Ok(numbers.as_primitive::<Int64Type>().iter().map(|number| number.unwrap_or(0).max(0) as u64).collect())
}

/// Texts as often as a number says.
fn times(given: &[ArrayRef], place: usize) -> Result<u64> {
    let [text, ..] = given else { return plan_err!("a text is wanted") };
    let Some(times) = given.get(place) else { return plan_err!("a number is wanted") };
    let all = lengths(text)?.into_iter().zip(numbers(times)?);
    Ok(all.fold(0, |sum: u64, (length, times)| sum.saturating_add(length.saturating_mul(times))))
}

/// Texts of at least a length, in letters of up to four octets.
fn padded(given: &[ArrayRef]) -> Result<u64> {
    let Some(length) = given.get(1) else { return plan_err!("a length is wanted") };
    let all = numbers(length)?.into_iter();
    Ok(all.fold(0, |sum: u64, length| sum.saturating_add(length.saturating_mul(4))))
}

/// Texts in which each of some letters becomes others.
fn replaced(given: &[ArrayRef]) -> Result<u64> {
    let [text, from, to] = given else { return plan_err!("replace takes three texts") };
    let all = lengths(text)?.into_iter().zip(lengths(from)?).zip(lengths(to)?);
    Ok(all.fold(0, |sum: u64, ((length, from), to)| {
        let most = (length / from.max(1) + 1).saturating_mul(to).saturating_add(length);
        sum.saturating_add(most)
    }))
}
