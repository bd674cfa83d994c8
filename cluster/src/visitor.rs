//! The column `visitor`, which no file has: it is worked out from client, agent and day.
//!
//! On one machine each reading has a key of its own. Here workers must agree, so that the key is known to all, and so is the
//! number of a visitor; the addresses that it hides stand beside it in the files.

use arrow::array::{Array, AsArray, Int64Array};
use arrow::compute::cast;
use arrow::datatypes::{DataType, TimestampMillisecondType};
use datafusion::common::{Result, exec_err};
use datafusion::logical_expr::{ColumnarValue, ScalarFunctionArgs, ScalarUDFImpl, Signature, Volatility};
use exedra_reading::survey::{Calendar, VisitorKey};
use jiff::tz::TimeZone;
use std::sync::Arc;

/// The name of the function; a statement names the column instead.
pub const NAME: &str = "visitor_of";

/// Given client, agent and time.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct VisitorOf(Signature);

impl Default for VisitorOf {
    fn default() -> Self {
        VisitorOf(Signature::any(3, Volatility::Immutable))
    }
}

impl ScalarUDFImpl for VisitorOf {
    fn name(&self) -> &str {
        NAME
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(DataType::Int64)
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let [client, agent, time] = &given.args[..] else { return exec_err!("a visitor has three parts") };
        let texts = |of: &ColumnarValue| cast(&of.to_array(given.number_rows)?, &DataType::Utf8);
        let (clients, agents) = (texts(client)?, texts(agent)?);
        let (clients, agents) = (clients.as_string::<i32>(), agents.as_string::<i32>());
        let times = time.to_array(given.number_rows)?;
        let zone = match times.data_type() {
            DataType::Timestamp(_, Some(zone)) => TimeZone::get(zone).unwrap_or(TimeZone::UTC),
            _ => TimeZone::UTC,
        };
        let (key, mut calendar) = (VisitorKey([0, 0]), Calendar::new(zone));
        let times = times.as_primitive::<TimestampMillisecondType>();
        let visitor = |row: usize| {
            // Whoever did not say who they are is nobody in particular.
            let client = clients.is_valid(row).then(|| key.of_text(clients.value(row)))?;
            let agent = if agents.is_valid(row) { key.of_text(agents.value(row)) } else { 0 };
            let day = if times.is_valid(row) { calendar.quarter(times.value(row)).day } else { i32::MIN };
            Some((key.of_visitor(key.of_pair(client, agent), day) >> 1) as i64)
        };
        let visitors: Int64Array = (0..given.number_rows).map(visitor).collect();
        Ok(ColumnarValue::Array(Arc::new(visitors)))
    }
}
