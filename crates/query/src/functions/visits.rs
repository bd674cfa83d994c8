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
        Ok(Box::new(VisitsOfOne(Visits::default())))
    }

    fn field(&self, given: WindowUDFFieldArgs) -> Result<FieldRef> {
        Ok(Arc::new(Field::new(given.name(), DataType::Int64, true)))
    }
}

/// Which visit each request belongs to, told one after the other: those of one client and agent stand together, in order of time.
/// Nothing is kept of those that were.
#[derive(Debug)]
pub struct Visits {
    key: VisitorKey,
    /// Of whom the last request was, and when.
    last: Option<(u64, i64)>,
    visit: Option<i64>,
}

/// Before the first request. All within this process have one key, so that partitions of one statement are told apart by it.
impl Default for Visits {
    fn default() -> Self {
        static KEY: std::sync::LazyLock<VisitorKey> = std::sync::LazyLock::new(|| {
            let seeds = RandomState::new();
            VisitorKey([seeds.hash_one(1), seeds.hash_one(2)])
        });
        Visits { key: *KEY, last: None, visit: None }
    }
}

impl Visits {
    /// A client or an agent, keyed.
    pub fn text(&self, text: Option<&str>) -> u64 {
        text.map_or(0, |text| self.key.of_text(text))
    }

    /// The visit of the next request: of a client and an agent, at a time in milliseconds since 1970 UTC. Without a time it is of none.
    pub fn next(&mut self, [client, agent]: [u64; 2], time: Option<i64>) -> Option<i64> {
        let time = time?;
        let who = self.key.of_pair(client, agent);
        let goes_on = |(last, at)| last == who && time.saturating_sub(at) <= LONGEST_GAP;
        if !self.last.is_some_and(goes_on) {
            // A visit is told from others of the same client by its first instant, in two halves.
            let (second, rest) = (time.div_euclid(1 << 20), time.rem_euclid(1 << 20));
            let visit = self.key.of_visitor(self.key.of_visitor(who, second as i32), rest as i32);
            self.visit = Some((visit >> 1) as i64);
        }
        self.last = Some((who, time));
        self.visit
    }
}

/// The visits of one client and agent, all of whose requests are there.
#[derive(Debug)]
struct VisitsOfOne(Visits);

impl PartitionEvaluator for VisitsOfOne {
    fn evaluate_all(&mut self, values: &[ArrayRef], rows: usize) -> Result<ArrayRef> {
        let [times, client, agent] = take_function_args(VISIT_OF, values)?;
        let Some(times) = times.as_primitive_opt::<TimestampMillisecondType>() else {
            return plan_err!("visit_of() needs the column time");
        };
        let who = |texts: &ArrayRef| -> Result<u64> {
            let first = cast(&texts.slice(0, texts.len().min(1)), &DataType::Utf8)?;
            Ok(self.0.text(first.as_string::<i32>().iter().next().flatten()))
        };
        let who = [who(client)?, who(agent)?];
        let all = (0..rows).map(|row| self.0.next(who, times.is_valid(row).then(|| times.value(row))));
        Ok(Arc::new(all.collect::<Int64Array>()))
    }
}
