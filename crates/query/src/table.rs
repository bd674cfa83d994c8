//! The table `requests`: it reads the columns that a statement names, of those requests that its conditions keep.
//!
//! One partition for each thread. A partition reads when the engine asks it for a batch and not before, so that nothing runs ahead
//! of whoever is slow, and whoever stops asking has stopped the reading.

use crate::arrow_batches::ArrowBatches;
use crate::conditions::{Pushed, narrow};
use crate::schema::{Field, fields, schema};
use crate::source::{Progress, Reading, RequestReader, RequestSource, SourceError, TextsAre};
use crate::width::RowsAtOnce;
use arrow::array::RecordBatch;
use arrow::datatypes::SchemaRef;
use datafusion::catalog::{Session, TableProvider};
use datafusion::common::tree_node::TreeNodeRecursion;
use datafusion::error::{DataFusionError, Result};
use datafusion::execution::{SendableRecordBatchStream, TaskContext};
use datafusion::logical_expr::{Expr, TableProviderFilterPushDown, TableType};
use datafusion::physical_expr::{EquivalenceProperties, PhysicalExpr};
use datafusion::physical_plan::execution_plan::{
    Boundedness, ChildrenPropertiesMode, EmissionType, ReplaceChildrenOptions,
};
use datafusion::physical_plan::stream::RecordBatchStreamAdapter;
use datafusion::physical_plan::{DisplayAs, DisplayFormatType, ExecutionPlan, Partitioning, PlanProperties};
use exedra_common::columns::Derive;
use exedra_common::scope::{RowFilter, Scope};
use exedra_common::{Column, Dictionaries, Projection, RequestBatch, TextColumn};
use exedra_reading::survey::{Calendar, VisitorKey};
use jiff::tz::TimeZone;
use std::fmt::{self, Debug};
use std::sync::{Arc, Mutex, PoisonError};

/// The table, over a source.
#[derive(Debug, Clone)]
pub struct RequestsTable {
    source: Arc<dyn RequestSource>,
    /// Which requests there are for whoever asks.
    scope: Scope,
    derive: Arc<dyn Derive>,
    zone: TimeZone,
    schema: SchemaRef,
    key: VisitorKey,
    threads: usize,
    masked: bool,
    progress: Arc<Progress>,
}

impl RequestsTable {
    /// The requests of a source that are in a scope; `derive` works out what follows from texts, and days are those of a zone.
    /// `key` makes visitors numbers.
    pub fn new(
        source: Arc<dyn RequestSource>,
        (scope, zone): (Scope, TimeZone),
        derive: Arc<dyn Derive>,
        key: VisitorKey,
    ) -> Self {
        let schema = schema(zone.iana_name().unwrap_or("UTC"));
        let progress = Arc::default();
        RequestsTable { source, scope, derive, zone, schema, key, threads: 1, masked: false, progress }
    }

    /// The same, read by so many threads.
    #[must_use]
    pub fn on_threads(self, threads: usize) -> Self {
        RequestsTable { threads: threads.max(1), ..self }
    }

    /// The same with clients as their networks and without users.
    #[must_use]
    pub fn masked(self, masked: bool) -> Self {
        RequestsTable { masked, ..self }
    }

    /// How many threads read it.
    pub fn threads(&self) -> usize {
        self.threads
    }

    /// Whose days and hours its times are told in.
    pub fn zone(&self) -> &TimeZone {
        &self.zone
    }

    /// Where its requests come from.
    pub(crate) fn source(&self) -> &dyn RequestSource {
        &*self.source
    }

    /// What works out derived columns.
    pub(crate) fn derive(&self) -> &dyn Derive {
        &*self.derive
    }

    /// The requests that there are for whoever asks.
    pub(crate) fn row_filter(&self) -> RowFilter {
        RowFilter::new(self.scope.clone(), Arc::clone(&self.derive))
    }

    /// How far readings of it have come.
    pub fn progress(&self) -> Arc<Progress> {
        Arc::clone(&self.progress)
    }
}

#[async_trait::async_trait]
impl TableProvider for RequestsTable {
    fn schema(&self) -> SchemaRef {
        Arc::clone(&self.schema)
    }

    fn table_type(&self) -> TableType {
        TableType::Base
    }

    fn supports_filters_pushdown(&self, filters: &[&Expr]) -> Result<Vec<TableProviderFilterPushDown>> {
        let how = |filter: &&Expr| {
            let mut scope = Scope::default();
            let pushed = narrow(&mut scope, filter);
            // Who a client is that is shown as its network, nobody finds out by asking for it.
            if self.masked && scope.columns().any(is_masked) {
                return TableProviderFilterPushDown::Unsupported;
            }
            match pushed {
                Pushed::Exactly => TableProviderFilterPushDown::Exact,
                Pushed::Roughly => TableProviderFilterPushDown::Inexact,
                Pushed::Not => TableProviderFilterPushDown::Unsupported,
            }
        };
        Ok(filters.iter().map(how).collect())
    }

    async fn scan(
        &self,
        _session: &dyn Session,
        projection: Option<&Vec<usize>>,
        filters: &[Expr],
        _limit: Option<usize>,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        let all: Vec<Field> = fields().collect();
        let (wanted, schema) = match projection {
            Some(places) => {
                (places.iter().map(|place| all[*place]).collect(), Arc::new(self.schema.project(places)?))
            }
            None => (all, Arc::clone(&self.schema)),
        };
        let mut scope = self.scope.clone();
        for filter in filters {
            narrow(&mut scope, filter);
        }
        let properties = PlanProperties::new(
            EquivalenceProperties::new(schema),
            Partitioning::UnknownPartitioning(self.threads),
            EmissionType::Incremental,
            Boundedness::Bounded,
        );
        Ok(Arc::new(RequestsScan {
            table: self.clone(),
            filter: RowFilter::new(scope, Arc::clone(&self.derive)),
            fields: wanted,
            properties: Arc::new(properties),
            readers: Mutex::default(),
        }))
    }
}

/// A reading of the table.
struct RequestsScan {
    table: RequestsTable,
    filter: RowFilter,
    fields: Vec<Field>,
    properties: Arc<PlanProperties>,
    /// Those that nobody has begun with yet.
    readers: Mutex<Vec<Option<Box<dyn RequestReader>>>>,
}

impl RequestsScan {
    /// The reader of a partition. Where all have been taken, another reading begins. A source may have fewer than there are partitions.
    fn reader(&self, partition: usize) -> Result<Option<Box<dyn RequestReader>>, SourceError> {
        let mut readers = self.readers.lock().unwrap_or_else(PoisonError::into_inner);
        if readers.get(partition).is_none_or(Option::is_none) && readers.iter().all(Option::is_none) {
            let wanted = self.fields.iter().map(|field| field.projection());
            let projection = wanted.fold(Projection::time(), Projection::with);
            let reading = Reading {
                projection,
                wants_times: self.fields.iter().any(|field| field.is_made_from_times()),
                filter: self.filter.clone(),
                threads: self.table.threads,
            };
            *readers = self.table.source.begin(reading)?.into_iter().map(Some).collect();
            readers.resize_with(self.table.threads, || None);
        }
        Ok(readers.get_mut(partition).and_then(Option::take))
    }
}

impl Debug for RequestsScan {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("RequestsScan").field("fields", &self.fields).field("filter", &self.filter).finish()
    }
}

impl DisplayAs for RequestsScan {
    fn fmt_as(&self, _: DisplayFormatType, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<String> = self.fields.iter().map(|field| field.name()).collect();
        write!(out, "requests: {}", names.join(", "))
    }
}

impl ExecutionPlan for RequestsScan {
    fn name(&self) -> &'static str {
        "RequestsScan"
    }

    fn properties(&self) -> &Arc<PlanProperties> {
        &self.properties
    }

    fn children(&self) -> Vec<&Arc<dyn ExecutionPlan>> {
        Vec::new()
    }

    fn apply_expressions(
        &self,
        _: &mut dyn FnMut(&Arc<dyn PhysicalExpr>) -> Result<TreeNodeRecursion>,
    ) -> Result<TreeNodeRecursion> {
        Ok(TreeNodeRecursion::Continue)
    }

    fn replace_children(
        self: Arc<Self>,
        _: Vec<Arc<dyn ExecutionPlan>>,
        _: ReplaceChildrenOptions,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        Ok(self)
    }

    fn with_new_children(
        self: Arc<Self>,
        children: Vec<Arc<dyn ExecutionPlan>>,
    ) -> Result<Arc<dyn ExecutionPlan>> {
        self.replace_children(children, ReplaceChildrenOptions::new(ChildrenPropertiesMode::Recompute))
    }

    fn execute(&self, partition: usize, context: Arc<TaskContext>) -> Result<SendableRecordBatchStream> {
        let table = &self.table;
        let schema = self.schema();
        let mut reader = self.reader(partition).map_err(failed)?;
        let (derive, keys) = (Arc::clone(&table.derive), (table.key, Calendar::new(table.zone.clone())));
        let arrow = ArrowBatches::new(Arc::clone(&schema), self.fields.clone(), derive, keys);
        let mut arrow = arrow.masked(table.masked);
        let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
        let progress = Arc::clone(&table.progress);
        let at_once =
            context.session_config().get_extension::<RowsAtOnce>().map_or(usize::MAX, |rows| rows.0);
        let mut next = move || -> Result<Option<RecordBatch>> {
            while let Some(reading) = &mut reader {
                batch.clear();
                if texts.are_full() {
                    texts = Dictionaries::default();
                    arrow.forget();
                }
                match reading.read(&mut batch, &mut texts).map_err(failed)? {
                    Some(TextsAre::Known) => {}
                    Some(TextsAre::New) => arrow.forget(),
                    None => reader = None,
                }
                progress.add(batch.rows() as u64);
                if !batch.is_empty() {
                    return Ok(Some(arrow.make(&mut batch, &texts)?));
                }
            }
            Ok(None)
        };
        let batches = std::iter::from_fn(move || next().transpose());
        // A statement that makes much of each request is given few at once.
        let batches =
            batches.flat_map(move |batch| -> Box<dyn Iterator<Item = Result<RecordBatch>> + Send> {
                match batch {
                    Ok(batch) if batch.num_rows() > at_once => {
                        let rows = batch.num_rows();
                        let piece = move |from| Ok(batch.slice(from, at_once.min(rows - from)));
                        Box::new((0..rows).step_by(at_once).map(piece))
                    }
                    other => Box::new(std::iter::once(other)),
                }
            });
        Ok(Box::pin(RecordBatchStreamAdapter::new(schema, futures_util::stream::iter(batches))))
    }
}

fn is_masked(column: Column) -> bool {
    matches!(column.base(), Column::Text(TextColumn::Client | TextColumn::User))
}

fn failed(error: SourceError) -> DataFusionError {
    DataFusionError::External(Box::new(error))
}
