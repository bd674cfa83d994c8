//! Statements carried out within limits: memory, room on disk, time.
//!
//! The engine has threads of its own, so that a heavy question takes none from whoever serves, and whoever asks waits without being
//! asynchronous. What does not fit into its memory goes into temporary files and comes back, and past that it says so.
//!
//! ```
//! # use exedra_query::{Engine, Limits, QueryError, RequestReader, RequestSource, RequestsTable, Reading, SourceError, Statement};
//! # use exedra_query::TextsAre;
//! # use exedra_common::{Dictionaries, NumberColumn, RequestBatch};
//! # use std::sync::Arc;
//! # #[derive(Debug)] struct Three;
//! # struct Once(bool);
//! # impl RequestSource for Three {
//! #     fn begin(&self, _: Reading) -> Result<Vec<Box<dyn RequestReader>>, SourceError> { Ok(vec![Box::new(Once(false))]) }
//! # }
//! # impl RequestReader for Once {
//! #     fn read(&mut self, batch: &mut RequestBatch, _: &mut Dictionaries) -> Result<Option<TextsAre>, SourceError> {
//! #         if std::mem::replace(&mut self.0, true) { return Ok(None) }
//! #         batch.time = vec![1, 2, 3];
//! #         *batch.numbers_mut(NumberColumn::Status) = vec![200, 404, 404];
//! #         Ok(Some(TextsAre::Known))
//! #     }
//! # }
//! # let source = Arc::new(Three);
//! use exedra_reading::{classify::Classifier, survey::VisitorKey};
//! let scope = (Default::default(), jiff::tz::TimeZone::UTC);
//! let table = RequestsTable::new(source, scope, Arc::new(Classifier::default()), VisitorKey([1, 2]));
//! let engine = Engine::new(table, Limits::default(), || {})?;
//! let statement = "select status, count(*) as n from requests group by status order by n desc";
//! let statement = Statement::understand(statement, &Default::default())?;
//! let mut answer = engine.ask(&statement, &|| true)?;
//! let rows = answer.rows(&|| true)?.unwrap();
//! assert_eq!(rows[0], [404.into(), 2.into()]);
//! assert!(answer.rows(&|| true)?.is_none());
//! # Ok::<(), QueryError>(())
//! ```

use crate::answer::Answer;
use crate::diagnostic::{Diagnostic, QueryError};
use crate::functions::for_engine;
use crate::grouping::GroupByCodes;
use crate::schema::TABLE;
use crate::sorting::SortSpelledOut;
use crate::statement::Statement;
use crate::table::RequestsTable;
use crate::threads::{QueryThreads, TimeLeft};
use crate::visits::VisitsRowByRow;
use crate::width::{self, RowsAtOnce};
use crate::windows::WindowsWithinMemory;
use crate::wording::understood;
use datafusion::error::{DataFusionError, Result as EngineResult};
use datafusion::execution::memory_pool::FairSpillPool;
use datafusion::execution::runtime_env::RuntimeEnvBuilder;
use datafusion::execution::{SessionState, SessionStateBuilder, SessionStateDefaults};
use datafusion::logical_expr::LogicalPlan;
use datafusion::physical_plan::execute_stream;
use datafusion::prelude::{SessionConfig, SessionContext};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// How much a question may take.
#[derive(Debug, Clone)]
pub struct Limits {
    /// Memory for what it puts together, in octets.
    pub memory: usize,
    /// Room on disk for what does not fit into that, in octets.
    pub disk: u64,
    /// Where that room is; where the system keeps such files unless said otherwise.
    pub folder: Option<PathBuf>,
    /// How long it may take.
    pub time: Option<Duration>,
}

impl Default for Limits {
    fn default() -> Self {
        Limits { memory: 256 << 20, disk: 10 << 30, folder: None, time: None }
    }
}

/// Carries out statements over one table.
pub struct Engine {
    threads: QueryThreads,
    session: SessionContext,
    time: Option<Duration>,
}

impl Engine {
    /// An engine over a table, with as many threads as read it; each runs `begin_thread` first.
    pub fn new(
        table: RequestsTable,
        limits: Limits,
        begin_thread: impl Fn() + Send + Sync + 'static,
    ) -> Result<Self, QueryError> {
        let threads = QueryThreads::start(table.threads(), begin_thread)?;
        let session = session(table, &limits).map_err(|error| understood(&error, ""))?;
        Ok(Engine { threads, session, time: limits.time })
    }

    /// Begins to answer a statement, for as long as `goes_on` says that somebody waits.
    ///
    /// # Errors
    /// When it is wrong: columns, functions and types are looked at before anything is read.
    pub fn ask(&self, statement: &Statement, goes_on: &dyn Fn() -> bool) -> Result<Answer<'_>, QueryError> {
        let mut time = TimeLeft::of(self.time);
        let stream = async {
            let mut state = self.session.state();
            let (plan, width) = planned(&state, statement).await?;
            if let Some(rows) = RowsAtOnce::of(width) {
                let config = state.config_mut();
                let few = config.batch_size().min(rows.0);
                *config = config.clone().with_extension(Arc::new(rows)).with_batch_size(few);
            }
            let plan = state.query_planner().create_physical_plan(&plan, &state).await;
            let stream = plan.and_then(|plan| execute_stream(plan, state.task_ctx()));
            stream.map_err(|error| understood(&error, &statement.written))
        };
        let stream = self.threads.wait(&mut time, goes_on, stream)??;
        Ok(Answer::new(&self.threads, stream, time, statement.written.clone()))
    }

    /// Looks at a statement without reading anything.
    ///
    /// # Errors
    /// When it is wrong.
    pub fn check(&self, statement: &Statement) -> Result<(), QueryError> {
        let state = self.session.state();
        self.threads.wait(&mut TimeLeft::default(), &|| true, planned(&state, statement))?.map(|_| ())
    }
}

/// A statement as the engine will carry it out, and how much it makes of one request.
async fn planned(state: &SessionState, statement: &Statement) -> Result<(LogicalPlan, u64), QueryError> {
    let wrong = |error: DataFusionError| understood(&error, &statement.written);
    let plan = state.statement_to_plan(statement.parsed()).await.map_err(wrong)?;
    // What is too much once it is written out must be found before the engine writes it out, and what it works out may be longer than
    // what it is made of.
    width::check(width::of_plan(&plan).map_err(wrong)?)?;
    let plan = state.optimize(&plan).map_err(wrong)?;
    let width = width::check(width::of_plan(&plan).map_err(wrong)?)?;
    Ok((plan, width))
}

/// What every engine of ours knows, whether it is in this process or divided among machines: the functions, how statements are read,
/// and the zone whose days and hours they mean.
///
/// # Errors
/// When a function that is offered is not there.
pub fn session_builder(config: SessionConfig, zone: &str) -> EngineResult<SessionStateBuilder> {
    let mut config = config.with_information_schema(false);
    let options = config.options_mut();
    options.sql_parser.collect_spans = true;
    options.sql_parser.map_string_types_to_utf8view = false;
    options.execution.time_zone = Some(zone.to_owned());
    let functions = for_engine()?;
    Ok(SessionStateBuilder::new()
        .with_config(config)
        .with_expr_planners(SessionStateDefaults::default_expr_planners())
        .with_scalar_functions(functions.row)
        .with_aggregate_functions(functions.group)
        .with_window_functions(functions.window))
}

fn session(table: RequestsTable, limits: &Limits) -> EngineResult<SessionContext> {
    let mut config =
        SessionConfig::new().with_target_partitions(table.threads()).with_round_robin_repartition(false);
    let options = config.options_mut();
    // What is sorted in pieces is put together in memory that is set apart for that: keys of all columns take more than the rows.
    options.execution.sort_spill_reservation_bytes = limits.memory / (3 * table.threads());
    let mut runtime = RuntimeEnvBuilder::new()
        .with_memory_pool(Arc::new(FairSpillPool::new(limits.memory)))
        .with_max_temp_directory_size(limits.disk);
    if let Some(folder) = &limits.folder {
        runtime = runtime.with_temp_file_path(folder.clone());
    }
    let state = session_builder(config, table.zone().iana_name().unwrap_or("UTC"))?
        .with_runtime_env(runtime.build_arc()?)
        .with_physical_optimizer_rule(Arc::new(GroupByCodes))
        .with_physical_optimizer_rule(Arc::new(SortSpelledOut))
        .with_physical_optimizer_rule(Arc::new(VisitsRowByRow))
        .with_physical_optimizer_rule(Arc::new(WindowsWithinMemory))
        .build();
    let session = SessionContext::new_with_state(state);
    session.register_table(TABLE, Arc::new(table))?;
    Ok(session)
}

impl From<DataFusionError> for QueryError {
    fn from(error: DataFusionError) -> Self {
        understood(&error, "")
    }
}

impl From<QueryError> for Diagnostic {
    fn from(error: QueryError) -> Self {
        match error {
            QueryError::Wrong(wrong) => *wrong,
            other => Diagnostic::new(other.to_string()),
        }
    }
}
