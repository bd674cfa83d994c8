//! A step of a plan that does something with the rows of another, batch by batch, in their order.
//!
//! What the engine wants to know of every step stands here once; what is done with a batch is a [`Work`].

use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use datafusion::common::tree_node::TreeNodeRecursion;
use datafusion::error::Result;
use datafusion::execution::{SendableRecordBatchStream, TaskContext};
use datafusion::physical_expr::PhysicalExpr;
use datafusion::physical_plan::execution_plan::{ChildrenPropertiesMode, ReplaceChildrenOptions};
use datafusion::physical_plan::stream::RecordBatchStreamAdapter;
use datafusion::physical_plan::{DisplayAs, DisplayFormatType, ExecutionPlan, PlanProperties};
use futures_util::StreamExt;
use std::fmt::{self, Debug};
use std::sync::Arc;

/// What makes a batch of a batch.
pub(crate) type Make = Box<dyn FnMut(RecordBatch) -> Result<RecordBatch> + Send>;

/// What is done with batches.
pub(crate) trait Work: Debug + Send + Sync + 'static {
    /// What the step is called.
    const NAME: &'static str;

    /// Begins with a partition, of which batches of a schema are to be made.
    fn begin(&self, schema: SchemaRef, partition: usize, context: &TaskContext) -> Make;
}

/// The step.
#[derive(Debug)]
pub(crate) struct EachBatch<W> {
    rows: Arc<dyn ExecutionPlan>,
    properties: Arc<PlanProperties>,
    work: Arc<W>,
}

impl<W> EachBatch<W> {
    /// Work on the rows of a step, which makes rows with these properties.
    pub(crate) fn new(rows: Arc<dyn ExecutionPlan>, properties: Arc<PlanProperties>, work: W) -> Self {
        EachBatch { rows, properties, work: Arc::new(work) }
    }
}

impl<W: Work> DisplayAs for EachBatch<W> {
    fn fmt_as(&self, _: DisplayFormatType, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{:?}", self.work)
    }
}

impl<W: Work> ExecutionPlan for EachBatch<W> {
    fn name(&self) -> &'static str {
        W::NAME
    }

    fn properties(&self) -> &Arc<PlanProperties> {
        &self.properties
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
        let (properties, work) = (Arc::clone(&self.properties), Arc::clone(&self.work));
        Ok(match children.into_iter().next() {
            Some(rows) => Arc::new(EachBatch { rows, properties, work }),
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
        let schema = self.schema();
        let mut make = self.work.begin(Arc::clone(&schema), partition, &context);
        let batches = self.rows.execute(partition, context)?.map(move |batch| make(batch?));
        Ok(Box::pin(RecordBatchStreamAdapter::new(schema, batches)))
    }
}
