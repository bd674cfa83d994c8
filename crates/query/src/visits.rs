//! `visit_of()` told row by row.
//!
//! The engine would gather all requests of a client and agent, and before that all there are, to tell each its visit. But whoever sees
//! them in order needs only the last one. So where a plan asks for visits alone, this step takes the place of the engine's: of any number
//! of requests, it keeps none.

use crate::each_batch::{EachBatch, Make, Work};
use crate::functions::{VISIT_OF, Visits};
use crate::schema::text;
use arrow::array::{Array, ArrayRef, AsArray, Int64Array, RecordBatch};
use arrow::compute::cast;
use arrow::datatypes::{SchemaRef, TimestampMillisecondType, UInt32Type};
use datafusion::common::config::ConfigOptions;
use datafusion::common::plan_err;
use datafusion::common::tree_node::{Transformed, TransformedResult, TreeNode};
use datafusion::common::utils::take_function_args;
use datafusion::error::Result;
use datafusion::execution::TaskContext;
use datafusion::physical_expr::PhysicalExpr;
use datafusion::physical_expr::window::StandardWindowExpr;
use datafusion::physical_optimizer::PhysicalOptimizerRule;
use datafusion::physical_plan::ExecutionPlan;
use datafusion::physical_plan::windows::WindowAggExec;
use std::sync::Arc;

/// Puts our step where a plan asks for visits alone.
#[derive(Debug)]
pub struct VisitsRowByRow;

impl PhysicalOptimizerRule for VisitsRowByRow {
    fn optimize(&self, plan: Arc<dyn ExecutionPlan>, _: &ConfigOptions) -> Result<Arc<dyn ExecutionPlan>> {
        plan.transform_up(|plan| match plan.downcast_ref::<WindowAggExec>().and_then(visits) {
            Some(visits) => Ok(Transformed::yes(Arc::new(visits))),
            None => Ok(Transformed::no(plan)),
        })
        .data()
    }

    fn name(&self) -> &'static str {
        "visits_row_by_row"
    }

    fn schema_check(&self) -> bool {
        true
    }
}

/// What takes the place of a window, if it tells visits and nothing else.
fn visits(window: &WindowAggExec) -> Option<EachBatch<VisitsOfRows>> {
    let [only] = window.window_expr() else { return None };
    let function = only.as_any().downcast_ref::<StandardWindowExpr>()?.get_standard_func_expr();
    (function.name() == VISIT_OF).then(|| {
        let work = VisitsOfRows { given: function.expressions() };
        EachBatch::new(Arc::clone(window.input()), Arc::clone(window.properties()), work)
    })
}

/// The visit of each row is put beside it; requests of one client and agent stand together in order of time.
#[derive(Debug)]
struct VisitsOfRows {
    /// Time, client and agent.
    given: Vec<Arc<dyn PhysicalExpr>>,
}

impl Work for VisitsOfRows {
    const NAME: &'static str = "VisitsOfRows";

    fn begin(&self, schema: SchemaRef, _: usize, _: &TaskContext) -> Make {
        let given = self.given.clone();
        let (mut visits, mut known) = (Visits::default(), [Known::default(), Known::default()]);
        Box::new(move |batch| {
            let given = given.iter().map(|one| one.evaluate(&batch)?.into_array(batch.num_rows()));
            let given: Vec<ArrayRef> = given.collect::<Result<_>>()?;
            let mut columns = batch.columns().to_vec();
            columns.push(Arc::new(of_each(&given, &mut visits, &mut known)?));
            Ok(RecordBatch::try_new(Arc::clone(&schema), columns)?)
        })
    }
}

/// The texts of the last rows, keyed by their codes.
#[derive(Debug, Default)]
struct Known {
    texts: Option<ArrayRef>,
    keyed: Vec<Option<u64>>,
}

/// The visit of each of some rows.
fn of_each(given: &[ArrayRef], visits: &mut Visits, known: &mut [Known; 2]) -> Result<Int64Array> {
    let [times, client, agent] = take_function_args(VISIT_OF, given)?;
    let Some(times) = times.as_primitive_opt::<TimestampMillisecondType>() else {
        return plan_err!("visit_of() needs the column time");
    };
    let coded = [cast(client, &text())?, cast(agent, &text())?];
    let coded = coded.each_ref().map(|texts| texts.as_dictionary::<UInt32Type>());
    for (known, coded) in known.iter_mut().zip(coded) {
        if known.texts.as_ref().is_none_or(|texts| !Arc::ptr_eq(texts, coded.values())) {
            known.texts = Some(Arc::clone(coded.values()));
            known.keyed.clear();
            known.keyed.resize(coded.values().len(), None);
        }
    }
    let mut visit = |row: usize| {
        let mut who = [0; 2];
        for ((who, known), coded) in who.iter_mut().zip(known.iter_mut()).zip(coded) {
            let Some(code) = coded.key(row) else { continue };
            let texts = coded.values().as_string::<i32>();
            let text = texts.is_valid(code).then(|| texts.value(code));
            *who = *known.keyed[code].get_or_insert_with(|| visits.text(text));
        }
        visits.next(who, times.is_valid(row).then(|| times.value(row)))
    };
    Ok((0..times.len()).map(&mut visit).collect())
}
