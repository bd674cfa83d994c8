//! Texts of a plan's rows from codes to letters and back.
//!
//! Codes are quick where rows come from one place, and a burden where rows of many places are put together: each batch has a dictionary
//! of its own, and the engine looks at all of each. There texts are spelled out before, and coded afterwards.

use crate::schema::text;
use arrow::array::{RecordBatch, UInt32Array};
use arrow::compute::{cast, take};
use arrow::datatypes::{DataType, Schema, SchemaRef};
use datafusion::common::tree_node::TreeNodeRecursion;
use datafusion::common::{DataFusionError, Result};
use datafusion::execution::{SendableRecordBatchStream, TaskContext};
use datafusion::physical_expr::{EquivalenceProperties, LexOrdering, PhysicalExpr};
use datafusion::physical_plan::execution_plan::{ChildrenPropertiesMode, ReplaceChildrenOptions};
use datafusion::physical_plan::stream::RecordBatchStreamAdapter;
use datafusion::physical_plan::{
    DisplayAs, DisplayFormatType, ExecutionPlan, ExecutionPlanProperties, PlanProperties,
};
use futures_util::{StreamExt, TryStreamExt};
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// A schema with its coded texts as they are.
pub(crate) fn spelled_out(schema: &Schema) -> SchemaRef {
    let fields = schema.fields().iter().map(|field| match *field.data_type() == text() {
        true => Arc::new(field.as_ref().clone().with_data_type(DataType::Utf8)),
        false => Arc::clone(field),
    });
    Arc::new(Schema::new_with_metadata(fields.collect::<Vec<_>>(), schema.metadata().clone()))
}

/// The rows of another step in their order, with their texts coded or spelled out, a few rows at a time.
#[derive(Debug)]
pub(crate) struct Recoded {
    rows: Arc<dyn ExecutionPlan>,
    order: Option<LexOrdering>,
    properties: Arc<PlanProperties>,
}

impl Recoded {
    /// The rows of a step as a schema has them, which are in some order by its columns.
    pub(crate) fn new(rows: Arc<dyn ExecutionPlan>, schema: SchemaRef, order: Option<LexOrdering>) -> Self {
        let properties = PlanProperties::new(
            EquivalenceProperties::new_with_orderings(schema, order.clone()),
            rows.output_partitioning().clone(),
            rows.pipeline_behavior(),
            rows.boundedness(),
        );
        Recoded { rows, order, properties: Arc::new(properties) }
    }
}

impl DisplayAs for Recoded {
    fn fmt_as(&self, _: DisplayFormatType, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "texts coded otherwise")
    }
}

impl ExecutionPlan for Recoded {
    fn name(&self) -> &'static str {
        "Recoded"
    }

    fn properties(&self) -> &Arc<PlanProperties> {
        &self.properties
    }

    fn children(&self) -> Vec<&Arc<dyn ExecutionPlan>> {
        vec![&self.rows]
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
            Some(rows) => Arc::new(Recoded::new(rows, self.schema(), self.order.clone())),
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
        let (schema, at_once) = (self.schema(), context.session_config().batch_size());
        let wanted = Arc::clone(&schema);
        let batches = self.rows.execute(partition, context)?.map(move |batch| {
            let (batch, schema) = (batch?, Arc::clone(&wanted));
            let pieces = (0..batch.num_rows())
                .step_by(at_once)
                .map(move |from| recoded(&batch, from..batch.num_rows().min(from + at_once), &schema));
            Ok::<_, DataFusionError>(futures_util::stream::iter(pieces))
        });
        Ok(Box::pin(RecordBatchStreamAdapter::new(schema, batches.try_flatten())))
    }
}

/// Some rows of a batch, in memory of their own and with columns as a schema has them.
fn recoded(batch: &RecordBatch, rows: Range<usize>, schema: &SchemaRef) -> Result<RecordBatch> {
    let rows = UInt32Array::from_iter_values(rows.start as u32..rows.end as u32);
    let columns = batch.columns().iter().zip(schema.fields());
    let columns = columns.map(|(column, field)| cast(&take(column, &rows, None)?, field.data_type()));
    Ok(RecordBatch::try_new(Arc::clone(schema), columns.collect::<Result<_, _>>()?)?)
}
