//! The step of a plan that counts one thread's rows, group by group.
//!
//! It hands on what it has counted at the end, and before that whenever it may have no more memory: whoever puts the threads'
//! figures together takes each group as often as it comes.

use super::groups::Groups;
use crate::recoded::spelled_out;
use arrow::array::{Array, ArrayRef, AsArray, BooleanArray, RecordBatch};
use arrow::datatypes::{Schema, SchemaRef};
use datafusion::common::Result;
use datafusion::common::tree_node::TreeNodeRecursion;
use datafusion::execution::memory_pool::{MemoryConsumer, MemoryReservation};
use datafusion::execution::{SendableRecordBatchStream, TaskContext};
use datafusion::logical_expr::{EmitTo, GroupsAccumulator};
use datafusion::physical_expr::{EquivalenceProperties, PhysicalExpr};
use datafusion::physical_plan::aggregates::{AggregateExec, aggregate_expressions};
use datafusion::physical_plan::execution_plan::ReplaceChildrenOptions;
use datafusion::physical_plan::stream::RecordBatchStreamAdapter;
use datafusion::physical_plan::{DisplayAs, DisplayFormatType, ExecutionPlan, PlanProperties};
use futures_util::{StreamExt, TryStreamExt};
use std::collections::VecDeque;
use std::fmt;
use std::sync::Arc;

/// Counts what the engine's step would have counted, whose place it takes.
#[derive(Debug)]
pub(super) struct PartialGroups {
    engines: AggregateExec,
    properties: Arc<PlanProperties>,
}

impl PartialGroups {
    /// In place of this step, which must count raw rows.
    pub(super) fn new(engines: AggregateExec) -> Self {
        let properties = Arc::clone(engines.properties());
        PartialGroups { engines, properties }
    }

    /// The same, handing on texts as they are.
    pub(super) fn spelled_out(&self) -> Self {
        let properties = PlanProperties::new(
            EquivalenceProperties::new(spelled_out(&self.engines.schema())),
            self.properties.output_partitioning().clone(),
            self.properties.emission_type,
            self.properties.boundedness,
        );
        PartialGroups { engines: self.engines.clone(), properties: Arc::new(properties) }
    }
}

impl DisplayAs for PartialGroups {
    fn fmt_as(&self, form: DisplayFormatType, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "by codes: ")?;
        self.engines.fmt_as(form, out)
    }
}

impl ExecutionPlan for PartialGroups {
    fn name(&self) -> &'static str {
        "PartialGroups"
    }

    fn properties(&self) -> &Arc<PlanProperties> {
        &self.properties
    }

    fn children(&self) -> Vec<&Arc<dyn ExecutionPlan>> {
        self.engines.children()
    }

    fn apply_expressions(
        &self,
        each: &mut dyn FnMut(&Arc<dyn PhysicalExpr>) -> Result<TreeNodeRecursion>,
    ) -> Result<TreeNodeRecursion> {
        self.engines.apply_expressions(each)
    }

    fn replace_children(
        self: Arc<Self>,
        children: Vec<Arc<dyn ExecutionPlan>>,
        options: ReplaceChildrenOptions,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        let replaced = Arc::new(self.engines.clone()).replace_children(children, options)?;
        let is_spelled = self.schema() != self.engines.schema();
        Ok(match replaced.downcast_ref::<AggregateExec>().cloned().map(PartialGroups::new) {
            Some(ours) if is_spelled => Arc::new(ours.spelled_out()),
            Some(ours) => Arc::new(ours),
            None => replaced,
        })
    }

    fn with_new_children(
        self: Arc<Self>,
        children: Vec<Arc<dyn ExecutionPlan>>,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        use datafusion::physical_plan::execution_plan::ChildrenPropertiesMode;
        self.replace_children(children, ReplaceChildrenOptions::new(ChildrenPropertiesMode::Recompute))
    }

    fn execute(&self, partition: usize, context: Arc<TaskContext>) -> Result<SendableRecordBatchStream> {
        let schema = self.schema();
        let counting = Counting::begin(&self.engines, Arc::clone(&schema), partition, &context)?;
        let batches = futures_util::stream::try_unfold(counting, |mut counting| async move {
            Ok(counting.next().await?.map(|batch| (batch, counting)))
        });
        Ok(Box::pin(RecordBatchStreamAdapter::new(schema, batches.into_stream())))
    }
}

/// How many rows are counted at once: batches have as many as make good segments, and of those the groups and all that is counted would
/// no longer be near when they are needed next.
const AT_ONCE: usize = 16 << 10;

/// One thread at work.
struct Counting {
    /// `None` once it has ended.
    rows: Option<SendableRecordBatchStream>,
    schema: SchemaRef,
    by: Vec<Arc<dyn PhysicalExpr>>,
    counts: Vec<Count>,
    groups: Groups,
    /// The group of each row at hand.
    of_rows: Vec<usize>,
    memory: MemoryReservation,
    /// How many groups are handed on at once.
    at_once: usize,
    ready: VecDeque<RecordBatch>,
}

/// What is counted for each group.
struct Count {
    figures: Box<dyn GroupsAccumulator>,
    of: Vec<Arc<dyn PhysicalExpr>>,
    only: Option<Arc<dyn PhysicalExpr>>,
}

impl Counting {
    fn begin(
        step: &AggregateExec,
        schema: SchemaRef,
        partition: usize,
        context: &Arc<TaskContext>,
    ) -> Result<Self> {
        let by = step.group_expr();
        let keys = Schema::new(schema.fields()[..by.num_group_exprs()].to_vec());
        let arguments = aggregate_expressions(step.aggr_expr(), step.mode(), by.num_group_exprs())?;
        let counts =
            step.aggr_expr().iter().zip(arguments).zip(step.filter_expr()).map(|((count, of), only)| {
                Ok(Count { figures: count.create_groups_accumulator()?, of, only: only.clone() })
            });
        let memory = MemoryConsumer::new(format!("groups of thread {partition}")).with_can_spill(true);
        Ok(Counting {
            counts: counts.collect::<Result<_>>()?,
            rows: Some(step.input().execute(partition, Arc::clone(context))?),
            schema,
            by: by.input_exprs(),
            groups: Groups::new(&keys)?,
            of_rows: Vec::new(),
            memory: memory.register(context.memory_pool()),
            at_once: context.session_config().batch_size(),
            ready: VecDeque::new(),
        })
    }

    async fn next(&mut self) -> Result<Option<RecordBatch>> {
        loop {
            if let Some(batch) = self.ready.pop_front() {
                return Ok(Some(batch));
            }
            let Some(rows) = &mut self.rows else { return Ok(None) };
            match rows.next().await.transpose()? {
                Some(batch) => {
                    self.add(&batch)?;
                    if self.memory.try_resize(self.octets()).is_err() {
                        self.hand_on()?;
                    }
                }
                None => {
                    self.rows = None;
                    self.hand_on()?;
                }
            }
        }
    }

    fn octets(&self) -> usize {
        let figures: usize = self.counts.iter().map(|count| count.figures.size()).sum();
        self.groups.octets() + figures + 8 * self.of_rows.capacity()
    }

    fn add(&mut self, batch: &RecordBatch) -> Result<()> {
        let rows = batch.num_rows();
        let all = |of: &[Arc<dyn PhysicalExpr>]| -> Result<Vec<ArrayRef>> {
            of.iter().map(|of| of.evaluate(batch)?.into_array(rows)).collect()
        };
        let keys = all(&self.by)?;
        let counted = self.counts.iter().map(|count| Ok((all(&count.of)?, all(count.only.as_slice())?)));
        let counted = counted.collect::<Result<Vec<_>>>()?;
        for from in (0..rows).step_by(AT_ONCE) {
            let some = |of: &[ArrayRef]| -> Vec<ArrayRef> {
                of.iter().map(|of| of.slice(from, AT_ONCE.min(rows - from))).collect()
            };
            self.groups.of_rows(&some(&keys), &mut self.of_rows)?;
            for (count, (of, only)) in self.counts.iter_mut().zip(&counted) {
                let only = some(only);
                let only: Option<&BooleanArray> = only.first().map(|only| only.as_boolean());
                count.figures.update_batch(&some(of), &self.of_rows, only, self.groups.len())?;
            }
        }
        Ok(())
    }

    /// Makes batches of all that was counted, and begins afresh.
    fn hand_on(&mut self) -> Result<()> {
        let groups = self.groups.len();
        let mut figures = Vec::new();
        for count in &mut self.counts {
            figures.extend(count.figures.state(EmitTo::All)?);
        }
        for from in (0..groups).step_by(self.at_once) {
            let until = groups.min(from + self.at_once);
            let mut columns = self.groups.keys(from..until)?;
            columns.extend(figures.iter().map(|figures| figures.slice(from, until - from)));
            self.ready.push_back(RecordBatch::try_new(Arc::clone(&self.schema), columns)?);
        }
        self.groups.clear();
        self.of_rows = Vec::new();
        self.memory.try_resize(0)
    }
}
