//! Windows over many rows, within memory.
//!
//! Where a window looks ahead, `sum(bytes) over ()` say, the engine keeps all rows of it, and does not count them. So before each such
//! window stands a step that lets rows pass and counts them against the memory that a question may take: past that, it says so.

use crate::each_batch::{EachBatch, Make, Work};
use arrow::array::{Array, ArrayRef, AsArray, RecordBatch};
use arrow::datatypes::{DataType, SchemaRef, UInt32Type};
use datafusion::common::config::ConfigOptions;
use datafusion::common::tree_node::{Transformed, TransformedResult, TreeNode};
use datafusion::error::Result;
use datafusion::execution::TaskContext;
use datafusion::execution::memory_pool::MemoryConsumer;
use datafusion::physical_optimizer::PhysicalOptimizerRule;
use datafusion::physical_plan::ExecutionPlan;
use datafusion::physical_plan::execution_plan::{ChildrenPropertiesMode, ReplaceChildrenOptions};
use datafusion::physical_plan::windows::WindowAggExec;
use std::sync::Arc;

/// Has rows counted before windows that keep them.
#[derive(Debug)]
pub struct WindowsWithinMemory;

impl PhysicalOptimizerRule for WindowsWithinMemory {
    fn optimize(&self, plan: Arc<dyn ExecutionPlan>, _: &ConfigOptions) -> Result<Arc<dyn ExecutionPlan>> {
        plan.transform_up(|plan| match plan.downcast_ref::<WindowAggExec>() {
            Some(window) => {
                let rows = window.input();
                let counted = EachBatch::new(Arc::clone(rows), Arc::clone(rows.properties()), Counted);
                let options = ReplaceChildrenOptions::new(ChildrenPropertiesMode::Recompute);
                Ok(Transformed::yes(plan.replace_children(vec![Arc::new(counted)], options)?))
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

/// Rows are counted against the memory of the question until whoever reads them is done.
#[derive(Debug)]
struct Counted;

impl Work for Counted {
    const NAME: &'static str = "Counted";

    fn begin(&self, _: SchemaRef, partition: usize, context: &TaskContext) -> Make {
        let reservation = MemoryConsumer::new(format!("window[{partition}]")).register(context.memory_pool());
        let mut last = Vec::new();
        Box::new(move |batch| {
            // They are kept, and put together in one piece once all are there.
            reservation.try_grow(2 * octets(&batch, &mut last))?;
            Ok(batch)
        })
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
