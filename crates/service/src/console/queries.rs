//! The calls about statements: asked of the records, checked, kept.
//!
//! A statement is asked of what the [`Caller`] hands out, so that it finds nothing that whoever asks may not see. It is carried out on
//! threads of its own that step back behind those that serve, two at a time, within bounds of memory, disk and time.

use super::blocking::{Work, blocking, working};
use super::caller::Caller;
use super::failure::{Failure, Named, Sent};
use super::query::{NothingMore, Parameters as FromAddress, ProgressQuery, QueryForm, ScopeQuery, Scoped};
use super::reading::About;
use crate::system::background::step_back;
use crate::system::whole::make_private_folder;
use axum::Json;
use axum::body::{Body, Bytes};
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse, Response};
use exedra_api::Problem;
use exedra_api::queries::{
    Mistake, NamedQuery, QueryAnswer, QueryFunction, QueryProgress, QueryQuestion, TextRange,
};
use exedra_common::tables::chart::charts;
use exedra_common::tables::{Table, TableWire};
use exedra_query::export::{FileOf, Form};
use exedra_query::parameters::Parameters;
use exedra_query::source::Progress;
use exedra_query::{Answer, Diagnostic, Engine, Limits, QueryError, RequestsTable, Statement, description};
use exedra_query::{functions, library};
use exedra_store::{Keeping, KeptQuery};
use jiff::Timestamp;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::{Semaphore, mpsc};

/// How many rows are given where nobody said a number, and how many at most in one piece.
const USUAL_ROWS: u64 = 1_000;
const MOST_ROWS: u64 = 100_000;
/// Memory of a question, and its room on disk, in octets.
const MEMORY: usize = 96 << 20;
const DISK: u64 = 4 << 30;
/// How long one may take.
const MOST_TIME: Duration = Duration::from_secs(60);
/// How many threads carry one out.
const THREADS: usize = 2;
/// How many are carried out at a time: the others wait for their turn.
static TURNS: Semaphore = Semaphore::const_new(2);
/// The same of those whose rows are downloaded: they last as long as whoever reads them, whom nobody else should wait for.
static DOWNLOADS: Semaphore = Semaphore::const_new(2);

/// Questions that are being answered, by the names that their askers gave them.
#[derive(Default)]
pub(super) struct RunningQueries(Mutex<HashMap<String, (Arc<Progress>, u64)>>);

/// One of them, for as long as it is.
struct Running<'r> {
    all: &'r RunningQueries,
    id: String,
}

impl RunningQueries {
    fn begin(&self, id: String, progress: Arc<Progress>, of: u64) -> Running<'_> {
        if !id.is_empty() {
            self.0.lock().insert(id.clone(), (progress, of));
        }
        Running { all: self, id }
    }
}

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.all.0.lock().remove(&self.id);
    }
}

/// A name that nobody else's question has.
fn own_id(caller: &Caller, id: &str) -> String {
    if id.is_empty() { String::new() } else { format!("{}\n{id:.64}", caller.name()) }
}

/// What a question is asked of.
struct Asked {
    statement: Statement,
    engine: Engine,
    progress: Arc<Progress>,
    /// How many requests there are to read.
    of: u64,
    zone: String,
}

/// Readies a question: the statement first, which costs nothing.
fn ask(caller: &Caller, about: &About, question: &QueryQuestion) -> Result<Asked, Failure> {
    let mut parameters = Parameters::new(about.now);
    for (name, value) in &question.parameters {
        parameters.set(&format!("{name}={value}")).map_err(Failure::Wrong)?;
    }
    let statement = Statement::understand(&question.statement, &parameters);
    let statement = statement.map_err(|wrong| Failure::Mistake(mistake(&wrong, &question.statement)))?;
    let (table, of) = table(caller, about)?;
    let table = table.masked(question.mask);
    let progress = table.progress();
    Ok(Asked { statement, engine: engine(caller, table)?, progress, of, zone: about.zone_name() })
}

/// The requests that whoever asks may see, as a table.
fn table(caller: &Caller, about: &About) -> Result<(RequestsTable, u64), Failure> {
    let recorded = caller.recorded(&about.scope);
    let of = recorded.requests();
    let scope = (about.scope.clone(), about.zone.clone());
    let table = RequestsTable::new(Arc::new(recorded), scope, about.classifier(), caller.survey_key()?);
    Ok((table.on_threads(THREADS), of))
}

fn engine(caller: &Caller, table: RequestsTable) -> Result<Engine, Failure> {
    // Where nothing can be written, small questions are answered all the same.
    let folder = Some(caller.console().overflow.clone()).filter(|folder| make_private_folder(folder).is_ok());
    let limits = Limits { memory: MEMORY, disk: DISK, folder, time: Some(MOST_TIME) };
    Engine::new(table, limits, step_back).map_err(|error| Failure::Conflict(error.to_string()))
}

fn failed(error: QueryError, statement: &str) -> Failure {
    match error {
        QueryError::Wrong(wrong) => Failure::Mistake(mistake(&wrong, statement)),
        QueryError::TooMuch(words) => Failure::TooMuch(words),
        QueryError::Source(words) => Failure::Conflict(words),
        QueryError::Stopped => Failure::Left,
    }
}

/// A mistake as browsers count letters.
fn mistake(wrong: &Diagnostic, statement: &str) -> Mistake {
    let letters = |octet: usize| {
        let before = statement.get(..octet).unwrap_or(statement);
        before.encode_utf16().count() as u64
    };
    let at = wrong.at.as_ref().map(|at| TextRange { from: letters(at.start), until: letters(at.end) });
    Mistake { what: wrong.what.clone(), instead: wrong.instead.clone(), at }
}

/// Answers a statement over the records of a scope.
#[utoipa::path(post, path = "/query", params(ScopeQuery), request_body = QueryQuestion,
    responses((status = 200, body = QueryAnswer), (status = 409, body = Problem, description = "the records cannot be read")))]
pub async fn query(
    caller: Caller,
    Scoped(about, _): Scoped<NothingMore>,
    Sent(question): Sent<QueryQuestion>,
) -> Result<Json<QueryAnswer>, Failure> {
    let about = About::understand(&caller, about)?;
    let _turn = TURNS.acquire().await.map_err(|_| Failure::Internal)?;
    working(move |work| {
        let began = Instant::now();
        let asked = ask(&caller, &about, &question)?;
        let id = own_id(&caller, &question.id);
        let _running = caller.console().running.begin(id, Arc::clone(&asked.progress), asked.of);
        let goes_on = || work.goes_on().is_ok();
        let most = question.most.unwrap_or(USUAL_ROWS).min(MOST_ROWS);
        let answered = asked
            .engine
            .ask(&asked.statement, &goes_on)
            .and_then(|answer| answer.into_table(usize::try_from(most).unwrap_or(usize::MAX), &goes_on));
        let (table, has_more) = answered.map_err(|error| failed(error, &question.statement))?;
        let (charts, took) = (charts(&table), began.elapsed().as_millis() as u64);
        Ok(QueryAnswer {
            table,
            has_more,
            charts,
            read: asked.progress.requests(),
            took,
            time_zone: asked.zone,
        })
    })
    .await
}

/// How far a question has come that was given a name.
#[utoipa::path(get, path = "/query/progress", params(ProgressQuery),
    responses((status = 200, body = QueryProgress), (status = 404, body = Problem, description = "no such question is being answered")))]
pub async fn query_progress(
    caller: Caller,
    FromAddress(query): FromAddress<ProgressQuery>,
) -> Result<Json<QueryProgress>, Failure> {
    let running = caller.console().running.0.lock();
    let found = running.get(&own_id(&caller, &query.id));
    let (progress, of) =
        found.ok_or_else(|| Failure::Missing("no such question is being answered".to_owned()))?;
    Ok(Json(QueryProgress { read: progress.requests().min(*of), of: *of }))
}

/// What is wrong with a statement; nothing where it can be asked. Nothing is read.
#[utoipa::path(post, path = "/query/check", request_body = QueryQuestion, responses((status = 200, body = Vec<Mistake>)))]
pub async fn check_query(
    caller: Caller,
    Sent(question): Sent<QueryQuestion>,
) -> Result<Json<Vec<Mistake>>, Failure> {
    let about = About::everything(&caller)?;
    working(move |_| {
        let asked = match ask(&caller, &about, &question) {
            Ok(asked) => asked,
            Err(Failure::Mistake(mistake)) => return Ok(vec![mistake]),
            Err(other) => return Err(other),
        };
        match asked.engine.check(&asked.statement) {
            Ok(()) => Ok(Vec::new()),
            Err(QueryError::Wrong(wrong)) => Ok(vec![mistake(&wrong, &question.statement)]),
            Err(other) => Err(failed(other, &question.statement)),
        }
    })
    .await
}

/// All rows of an answer as a file: `csv`, `ndjson` or `parquet`.
#[utoipa::path(post, path = "/query/file/{form}", params(("form" = inline(QueryForm), Path), ScopeQuery), request_body = QueryQuestion,
    responses((status = 200, description = "the rows, in the form that was asked for",
            content((String = "text/csv"), (String = "application/x-ndjson"), (Vec<u8> = "application/vnd.apache.parquet"))),
        (status = 409, body = Problem, description = "the records cannot be read")))]
pub async fn query_file(
    caller: Caller,
    Named(form): Named<QueryForm>,
    Scoped(about, _): Scoped<NothingMore>,
    Sent(question): Sent<QueryQuestion>,
) -> Result<Response, Failure> {
    let about = About::understand(&caller, about)?;
    // What is wrong is said before anything is sent.
    let turn = DOWNLOADS.acquire().await.map_err(|_| Failure::Internal)?;
    let (sender, receiver) = mpsc::channel::<Result<Bytes, std::io::Error>>(4);
    let (began, begins) = tokio::sync::oneshot::channel();
    tokio::task::spawn_blocking(move || {
        let _turn = turn;
        let asked = match ask(&caller, &about, &question) {
            Ok(asked) => asked,
            Err(failure) => return drop(began.send(Err(failure))),
        };
        let goes_on = || !sender.is_closed();
        let answer = match asked.engine.ask(&asked.statement, &goes_on) {
            Ok(answer) => answer,
            Err(error) => return drop(began.send(Err(failed(error, &question.statement)))),
        };
        if began.send(Ok(())).is_err() {
            return;
        }
        if let Err(error) = send_rows(form.into(), answer, &sender) {
            // Whoever reads sees that it broke off, and not an end.
            let _ = sender.blocking_send(Err(std::io::Error::other(error.to_string())));
        }
    });
    begins.await.map_err(|_| Failure::Internal)??;
    let pieces = futures_util::stream::unfold(receiver, |mut receiver| async {
        let piece = receiver.recv().await?;
        Some((piece, receiver))
    });
    let mut response = Body::from_stream(pieces).into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(form.media_type()));
    let disposition = format!("attachment; filename=\"query.{}\"", Form::from(form).name());
    headers.insert(
        header::CONTENT_DISPOSITION,
        HeaderValue::from_str(&disposition).map_err(|_| Failure::Internal)?,
    );
    Ok(response)
}

fn send_rows(
    form: Form,
    mut answer: Answer<'_>,
    sender: &mpsc::Sender<Result<Bytes, std::io::Error>>,
) -> Result<(), QueryError> {
    let goes_on = || !sender.is_closed();
    let send = |octets: Vec<u8>| match octets.is_empty() {
        true => Ok(()),
        false => sender.blocking_send(Ok(octets.into())).map_err(|_| QueryError::Stopped),
    };
    let mut file = FileOf::begin(form, &answer.schema())?;
    while let Some(batch) = answer.few(&goes_on)? {
        file.write(&batch)?;
        send(file.take())?;
    }
    send(file.finish()?)
}

impl From<QueryForm> for Form {
    fn from(form: QueryForm) -> Self {
        match form {
            QueryForm::Csv => Form::Csv,
            QueryForm::Ndjson => Form::Ndjson,
            QueryForm::Parquet => Form::Parquet,
        }
    }
}

/// The columns of the table, with what they mean, how full they are in the records of a scope, and what stands in them most often.
#[utoipa::path(get, path = "/query/columns", params(ScopeQuery), responses((status = 200, body = TableWire)))]
pub async fn query_columns(
    caller: Caller,
    Scoped(about, _): Scoped<NothingMore>,
) -> Result<Json<Table>, Failure> {
    let about = About::understand(&caller, about)?;
    let _turn = TURNS.acquire().await.map_err(|_| Failure::Internal)?;
    working(move |work: &Work| {
        let (table, _) = table(&caller, &about)?;
        let described = description::describe(&table, &|| work.goes_on().is_ok());
        described.map_err(|error| Failure::Conflict(error.to_string()))
    })
    .await
}

/// The functions of statements: first those that are made for logs.
#[utoipa::path(get, path = "/query/functions", responses((status = 200, body = Vec<QueryFunction>)))]
pub async fn query_functions(_: Caller) -> Json<Vec<QueryFunction>> {
    let told = functions::all().map(|function| QueryFunction {
        name: function.name.to_owned(),
        usage: function.usage.to_owned(),
        meaning: function.meaning.to_owned(),
        example: function.example.to_owned(),
    });
    Json(told.collect())
}

/// Statements with names: those that somebody kept, then those that came with the program.
#[utoipa::path(get, path = "/queries", responses((status = 200, body = Vec<NamedQuery>)))]
pub async fn queries(caller: Caller) -> Result<Json<Vec<NamedQuery>>, Failure> {
    blocking(move || {
        let kept = caller.console().queries.all()?;
        let kept = kept.into_iter().map(|kept| NamedQuery {
            name: kept.name,
            question: kept.question,
            statement: kept.statement,
            parameters: kept.parameters,
            owner: Some(kept.owner),
        });
        let shipped = library::LIBRARY.iter().map(|shipped| NamedQuery {
            name: shipped.name.to_owned(),
            question: shipped.question.to_owned(),
            statement: shipped.statement.to_owned(),
            parameters: shipped
                .parameters
                .iter()
                .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
                .collect(),
            owner: None,
        });
        Ok(kept.chain(shipped).collect())
    })
    .await
}

/// Keeps a statement under a name, for everybody who may ask. One's own is replaced.
#[utoipa::path(post, path = "/queries", request_body = NamedQuery,
    responses((status = 200, body = NamedQuery), (status = 409, body = Problem, description = "somebody else has this name")))]
pub async fn keep_query(caller: Caller, Sent(query): Sent<NamedQuery>) -> Result<Json<NamedQuery>, Failure> {
    blocking(move || {
        let is_plain = |letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit() || letter == '-';
        let name = query.name.as_str();
        if name.is_empty() || name.len() > 60 || !name.chars().all(is_plain) {
            let words =
                format!("`{name}` is no name of a query: small letters, digits and dashes, 60 at most");
            return Err(Failure::Wrong(words));
        }
        if library::named(name).is_some() {
            return Err(Failure::Conflict(format!("`{name}` came with the program: choose another name")));
        }
        if query.statement.len() > exedra_query::statement::LONGEST || query.question.len() > 1_000 {
            return Err(Failure::Wrong("the statement or its question is too long".to_owned()));
        }
        let mut parameters = Parameters::new(0);
        Statement::names(&query.statement).iter().for_each(|name| parameters.set_usual(name, "1"));
        Statement::understand(&query.statement, &parameters)
            .map_err(|wrong| Failure::Mistake(mistake(&wrong, &query.statement)))?;
        let owner = caller.name();
        let kept = KeptQuery {
            name: query.name.clone(),
            question: query.question.clone(),
            statement: query.statement.clone(),
            parameters: query.parameters.clone(),
            owner: owner.clone(),
            changed: Timestamp::now().as_second(),
        };
        match caller.console().queries.keep(&kept)? {
            Keeping::Kept => Ok(NamedQuery { owner: Some(owner), ..query }),
            Keeping::OfSomebodyElse(owner) => {
                Err(Failure::Conflict(format!("`{}` was kept by {owner}: choose another name", query.name)))
            }
            Keeping::TooMany => Err(Failure::Conflict("there are too many: remove some".to_owned())),
        }
    })
    .await
}

/// Forgets a statement: one's own, or any where somebody may change everything.
#[utoipa::path(delete, path = "/queries/{name}", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem, description = "there is none"), (status = 409, body = Problem, description = "it is somebody else's")))]
pub async fn forget_query(
    caller: Caller,
    Named(name): Named<String>,
) -> Result<axum::http::StatusCode, Failure> {
    let forgotten = blocking(move || {
        let queries = &caller.console().queries;
        let known = queries.all()?.into_iter().find(|kept| kept.name == name);
        let known = known.ok_or_else(|| Failure::Missing(format!("nobody has kept a query `{name}`")))?;
        if known.owner != caller.name() && !caller.may(exedra_common::grant::Role::Operator) {
            return Err(Failure::Conflict(format!("`{name}` is {}'s", known.owner)));
        }
        Ok(queries.forget(&name)?)
    });
    forgotten.await.map(|_| axum::http::StatusCode::NO_CONTENT)
}
