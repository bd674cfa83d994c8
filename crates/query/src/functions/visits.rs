//! `visit_of()`: which visit a request belongs to, as reports count visits.
//!
//! Requests of one client and agent, no two neighbours of which are more than half an hour apart, are one visit. In a statement it
//! stands alone; the engine is handed it with the window that it needs: the requests of each client and agent in order of time.

use super::{Function, Kind};
use arrow::array::{Array, ArrayRef, AsArray, Int64Array};
use arrow::compute::cast;
use arrow::datatypes::{DataType, Field, FieldRef, TimestampMillisecondType};
use datafusion::common::{plan_err, utils::take_function_args};
use datafusion::error::Result;
use datafusion::logical_expr::function::{PartitionEvaluatorArgs, WindowUDFFieldArgs};
use datafusion::logical_expr::{PartitionEvaluator, Signature, Volatility, WindowUDFImpl};
use exedra_reading::survey::VisitorKey;
use exedra_reading::survey::visits::LONGEST_GAP;
use std::hash::{BuildHasher, RandomState};
use std::sync::Arc;

/// The name of the function.
pub const VISIT_OF: &str = "visit_of";

/// What people are told of it.
pub const VISIT: Function = Function {
    name: VISIT_OF,
    usage: "visit_of()",
    meaning: "Which visit a request belongs to: the same number for requests of one client and agent with no gap over half an hour.",
    example: "select count(distinct visit) as visits from (select visit_of() as visit from requests where is_person())",
    kind: Kind::Window,
    is_own: true,
};

/// The function, given time, client and agent.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct VisitOf(Signature);

impl Default for VisitOf {
    fn default() -> Self {
        VisitOf(Signature::any(3, Volatility::Immutable))
    }
}

impl WindowUDFImpl for VisitOf {
    fn name(&self) -> &'static str {
        VISIT_OF
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn partition_evaluator(&self, _: PartitionEvaluatorArgs) -> Result<Box<dyn PartitionEvaluator>> {
        // One key for the whole process: partitions of one statement are told apart by it.
        static KEY: std::sync::LazyLock<VisitorKey> = std::sync::LazyLock::new(|| {
            let seeds = RandomState::new();
            VisitorKey([seeds.hash_one(1), seeds.hash_one(2)])
        });
        Ok(Box::new(VisitsOfOne(*KEY)))
    }

    fn field(&self, given: WindowUDFFieldArgs) -> Result<FieldRef> {
        Ok(Arc::new(Field::new(given.name(), DataType::Int64, true)))
    }
}

/// The visits of one client and agent.
#[derive(Debug)]
struct VisitsOfOne(VisitorKey);

impl PartitionEvaluator for VisitsOfOne {
    fn evaluate_all(&mut self, values: &[ArrayRef], rows: usize) -> Result<ArrayRef> {
        let [times, client, agent] = take_function_args(VISIT_OF, values)?;
        let Some(times) = times.as_primitive_opt::<TimestampMillisecondType>() else {
            return plan_err!("visit_of() needs the column time");
        };
        let hash = |array: &ArrayRef| -> Result<u64> {
            let first = cast(&array.slice(0, array.len().min(1)), &DataType::Utf8)?;
            let first = first.as_string::<i32>();
            Ok(if first.is_empty() || first.is_null(0) { 0 } else { self.0.of_text(first.value(0)) })
        };
        let pair = self.0.of_pair(hash(client)?, hash(agent)?);
        // A visit is told from others of the same client by its first instant, in two halves.
        let visit = |first: i64| {
            let (second, rest) = (first.div_euclid(1 << 20), first.rem_euclid(1 << 20));
            (self.0.of_visitor(self.0.of_visitor(pair, second as i32), rest as i32) >> 1) as i64
        };
        let (mut last, mut now): (Option<i64>, Option<i64>) = (None, None);
        let of_row = |row: usize| {
            let time = times.is_valid(row).then(|| times.value(row))?;
            if last.is_none_or(|last| time - last > LONGEST_GAP) {
                now = Some(visit(time));
            }
            last = Some(time);
            now
        };
        let all: Int64Array = (0..rows).map(of_row).collect();
        Ok(Arc::new(all))
    }
}
