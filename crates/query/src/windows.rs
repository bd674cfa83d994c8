//! Windows over many rows, within memory.
//!
//! Where a window looks ahead, `sum(bytes) over ()` say, the engine keeps all rows of it, and does not count them. So before each such
//! window stands a step that lets rows pass and counts them against the memory that a question may take: past that, it says so.

use arrow::array::{Array, ArrayRef, AsArray, RecordBatch};
use arrow::datatypes::{DataType, UInt32Type};
use datafusion::common::config::ConfigOptions;
use datafusion::common::tree_node::{Transformed, TransformedResult, TreeNode, TreeNodeRecursion};
use datafusion::error::Result;
use datafusion::execution::memory_pool::MemoryConsumer;
use datafusion::execution::{SendableRecordBatchStream, TaskContext};
use datafusion::physical_expr::PhysicalExpr;
use datafusion::physical_optimizer::PhysicalOptimizerRule;
use datafusion::physical_plan::execution_plan::{ChildrenPropertiesMode, ReplaceChildrenOptions};
use datafusion::physical_plan::stream::RecordBatchStreamAdapter;
use datafusion::physical_plan::windows::WindowAggExec;
use datafusion::physical_plan::{DisplayAs, DisplayFormatType, ExecutionPlan, PlanProperties};
use futures_util::StreamExt;
use std::fmt;
use std::sync::Arc;

/// Has rows counted before windows that keep them.
#[derive(Debug)]
pub struct WindowsWithinMemory;

impl PhysicalOptimizerRule for WindowsWithinMemory {
    fn optimize(&self, plan: Arc<dyn ExecutionPlan>, _: &ConfigOptions) -> Result<Arc<dyn ExecutionPlan>> {
        plan.transform_up(|plan| match plan.downcast_ref::<WindowAggExec>() {
            Some(window) => {
                let counted: Arc<dyn ExecutionPlan> = Arc::new(Counted::new(Arc::clone(window.input())));
                let options = ReplaceChildrenOptions::new(ChildrenPropertiesMode::Recompute);
                Ok(Transformed::yes(plan.replace_children(vec![counted], options)?))
            }
            None => Ok(Transformed::no(plan)),
        })
        .data()
    }

    fn name(&self) -> &'static str {
        "windows_within_memory"
    }

    fn schema_check(&self) -> bool {
        true
    }
}

/// The rows of another step as they are, counted against the memory of the question until whoever reads them is done.
#[derive(Debug)]
struct Counted {
    rows: Arc<dyn ExecutionPlan>,
}

impl Counted {
    fn new(rows: Arc<dyn ExecutionPlan>) -> Self {
        Counted { rows }
    }
}

impl DisplayAs for Counted {
    fn fmt_as(&self, _: DisplayFormatType, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "rows counted against memory")
    }
}

impl ExecutionPlan for Counted {
    fn name(&self) -> &'static str {
        "Counted"
    }

    fn properties(&self) -> &Arc<PlanProperties> {
        self.rows.properties()
    }

    fn children(&self) -> Vec<&Arc<dyn ExecutionPlan>> {
        vec![&self.rows]
    }

    fn maintains_input_order(&self) -> Vec<bool> {
        vec![true]
    }

    fn apply_expressions(
        &self,
        _: &mut dyn FnMut(&Arc<dyn PhysicalExpr>) -> Result<TreeNodeRecursion>,
    ) -> Result<TreeNodeRecursion> {
        Ok(TreeNodeRecursion::Continue)
    }

    fn replace_children(
        self: Arc<Self>,
        children: Vec<Arc<dyn ExecutionPlan>>,
        _: ReplaceChildrenOptions,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        Ok(match children.into_iter().next() {
            Some(rows) => Arc::new(Counted::new(rows)),
            None => self,
        })
    }

    fn with_new_children(
        self: Arc<Self>,
        children: Vec<Arc<dyn ExecutionPlan>>,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        self.replace_children(children, ReplaceChildrenOptions::new(ChildrenPropertiesMode::Recompute))
    }

    fn execute(&self, partition: usize, context: Arc<TaskContext>) -> Result<SendableRecordBatchStream> {
        let reservation = MemoryConsumer::new(format!("window[{partition}]")).register(context.memory_pool());
        let (schema, mut last) = (self.schema(), Vec::new());
        let batches = self.rows.execute(partition, context)?.map(move |batch| {
            let batch = batch?;
            // They are kept, and put together in one piece once all are there.
            reservation.try_grow(2 * octets(&batch, &mut last))?;
            Ok(batch)
        });
        Ok(Box::pin(RecordBatchStreamAdapter::new(schema, batches)))
    }
}

/// What keeping a batch takes. Of texts that it shares with the last one, it takes its codes only.
fn octets(batch: &RecordBatch, last: &mut Vec<ArrayRef>) -> usize {
    let mut now = Vec::with_capacity(batch.num_columns());
    let mut sum = 0;
    for (nth, column) in batch.columns().iter().enumerate() {
        sum += match column.data_type() {
            DataType::Dictionary(key, _) if **key == DataType::UInt32 => {
                let texts = column.as_dictionary::<UInt32Type>().values();
                now.push(Arc::clone(texts));
                let is_known = last.get(nth).is_some_and(|last| Arc::ptr_eq(last, texts));
                let of_texts = if is_known { 0 } else { texts.get_array_memory_size() };
                of_texts + column.len() * size_of::<u32>()
            }
            _ => {
                now.push(Arc::clone(column));
                column.to_data().get_slice_memory_size().unwrap_or_else(|_| column.get_array_memory_size())
            }
        };
    }
    *last = now;
    sum
}
