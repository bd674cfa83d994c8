//! Where the requests come from that the live view shows: logs as they grow, or the running service. One thread reads; what it has
//! read waits in a queue with a bound, so that a view that cannot keep up makes the reading wait, and not memory grow.

use crate::allowance::shortest;
use crate::failure::Failure;
use crate::service::{Service, encoded};
use crate::sources::Asked;
use crate::sources::bookmark::Begun;
use crate::sources::growing::{EVERY, Growing};
use exedra_api::allowances::Allowances;
use exedra_api::{Errors, Requests};
use exedra_common::batch::{NO_NUMBER, NO_TEXT, NO_TIME};
use exedra_common::tables::{Cell, Table};
use exedra_common::{Column, Dictionaries, Origin, Projection, RequestBatch};
use std::collections::HashMap;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::time::Duration;

/// How much of the end of each log is read first, in octets.
const BEFORE: u64 = 16 << 20;
/// How many messages wait.
const WAITING: usize = 8;
/// How many requests the service is first asked for, and of which stretch.
const LATEST: usize = 10_000;
const STRETCH: &str = "1 hour";
/// How often it is asked why requests failed, and each how manieth time how much of the month's allowance is used.
const ASKED: Duration = Duration::from_secs(10);
const EACH: u64 = 6;
/// How many causes are asked for.
const CAUSES: usize = 1_000;
/// How long it is waited before the service is asked again.
const PAUSE: Duration = Duration::from_secs(1);

/// What has come in.
pub enum Message {
    /// Requests, with the dictionaries of their texts.
    Requests(Vec<RequestBatch>, Box<Dictionaries>),
    /// Everything that was there at the beginning has come.
    Begun,
    /// What there is to say: a log with lines that cannot be read, a service that does not answer.
    Remark(String),
    /// All is well again.
    Well,
    /// How much of the month's allowance is used.
    Allowance(Option<String>),
    /// Why requests failed lately, by path: where the service says so.
    Causes(HashMap<String, String>),
}

/// Reads logs on as they grow.
pub fn of_logs(asked: Asked, projection: Projection) -> Result<Receiver<Message>, Failure> {
    let mut logs: Vec<(Growing, Origin)> = Vec::new();
    for Begun { file, .. } in &asked.files {
        let Some(path) = &file.path else { continue };
        let growing = Growing::near_its_end(path.clone(), BEFORE);
        logs.extend(growing.map(|growing| (growing, file.origin())));
    }
    if logs.is_empty() {
        let words = "there is nothing to watch: standard input and compressed logs have an end; `exedra report` reads them";
        return Err(Failure(words.to_owned()));
    }
    let (sender, receiver) = sync_channel(WAITING);
    std::thread::spawn(move || {
        let mut is_beginning = true;
        loop {
            let mut is_quiet = true;
            for (growing, origin) in &mut logs {
                let (mut batches, mut texts) = (Vec::new(), Dictionaries::default());
                is_quiet &= !growing.read_batches(&asked, projection, &mut texts, |mut batch, texts| {
                    // What all lines of a log share stands in none of them.
                    for column in Origin::columns() {
                        let Some(value) = origin.value(column) else { continue };
                        let code = texts.of_mut(column).code(value);
                        let (rows, codes) = (batch.rows(), batch.codes_mut(column));
                        codes.clear();
                        codes.resize(rows, code);
                    }
                    batches.push(batch);
                });
                let remark = growing.remark().map(Message::Remark);
                let requests = (!batches.is_empty()).then_some(Message::Requests(batches, Box::new(texts)));
                for message in requests.into_iter().chain(remark) {
                    // Whoever watched has gone.
                    if sender.send(message).is_err() {
                        return;
                    }
                }
            }
            if is_quiet {
                if std::mem::take(&mut is_beginning) && sender.send(Message::Begun).is_err() {
                    return;
                }
                std::thread::sleep(EVERY);
            }
        }
    });
    Ok(receiver)
}

/// Listens to the running service.
pub fn of_service(
    service: Service,
    mut query: Vec<(&'static str, String)>,
    projection: Projection,
) -> Result<Receiver<Message>, Failure> {
    let of_sites = query.clone();
    let columns = Column::kept().filter(|column| projection.has(*column));
    query.extend(columns.map(|column| ("columns", column.name().to_owned())));
    let mut first = query.clone();
    first.extend([("last", STRETCH.to_owned()), ("top", LATEST.to_string())]);
    // Whatever is wrong with the question or the service is said before a terminal is drawn on.
    let known: Requests = service.get(&format!("requests?{}", encoded(&first)))?;
    let (sender, receiver) = sync_channel(WAITING);
    let (asked, told) = (service.clone(), sender.clone());
    std::thread::spawn(move || {
        let mut errors = of_sites;
        errors.extend([("last", STRETCH.to_owned()), ("top", CAUSES.to_string())]);
        let errors = format!("errors?{}", encoded(&errors));
        for nth in 0_u64.. {
            // Where it cannot be asked, whoever listens says so.
            if nth % EACH == 0 {
                let words = asked.get::<Allowances>("allowances").ok().as_ref().and_then(shortest);
                if told.send(Message::Allowance(words)).is_err() {
                    return;
                }
            }
            if let Ok(errors) = asked.get::<Errors>(&errors)
                && told.send(Message::Causes(causes(&errors.table))).is_err()
            {
                return;
            }
            std::thread::sleep(ASKED);
        }
    });
    std::thread::spawn(move || {
        let mut last = known.last_event.clone();
        if send(&sender, &known.table).and_then(|()| Ok(sender.send(Message::Begun)?)).is_err() {
            return;
        }
        drop(known);
        let call = format!("events?{}", encoded(&query));
        loop {
            let begins_at = last.clone();
            let mut has_gone = false;
            let mut is_first = true;
            let listened = service.listen(&call, Some(&begins_at), |event| {
                last = event.id.clone().unwrap_or_else(|| std::mem::take(&mut last));
                let sent = match event.name.as_str() {
                    "requests" => send(&sender, &serde_json::from_str(&event.data)?),
                    _ if std::mem::take(&mut is_first) => Ok(sender.send(Message::Well)?),
                    _ => Ok(()),
                };
                has_gone = sent.is_err();
                sent
            });
            let remark = match listened {
                Err(failure) if !has_gone => sender.send(Message::Remark(failure.0)),
                _ => Ok(()),
            };
            if has_gone || remark.is_err() {
                return;
            }
            std::thread::sleep(PAUSE);
        }
    });
    Ok(receiver)
}

/// The cause of each path's failures: of the one that was most frequent, which comes first.
fn causes(table: &Table) -> HashMap<String, String> {
    let (path, cause) = (table.place("path"), table.place("cause"));
    let text = |row: &Vec<Cell>, place: Option<usize>| Some(row[place?].as_text()?.to_owned());
    let mut all = HashMap::new();
    for row in &table.rows {
        if let (Some(path), Some(cause)) = (text(row, path), text(row, cause)) {
            all.entry(path).or_insert(cause);
        }
    }
    all
}

/// Hands on requests that the service gave as a table.
fn send(sender: &SyncSender<Message>, table: &Table) -> Result<(), Failure> {
    if table.rest.rows > 0 && table.name == "requests" && table.rows.len() < LATEST {
        let more = exedra_common::figures::grouped(table.rest.rows);
        sender.send(Message::Remark(format!("{more} requests of one second were too many to be told of")))?;
    }
    if table.rows.is_empty() {
        return Ok(());
    }
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    for (place, column) in table.columns.iter().enumerate() {
        let cells = table.rows.iter().map(|row| row.get(place).unwrap_or(&Cell::Nothing));
        match column.filter.as_deref().and_then(Column::named) {
            Some(Column::Time) => {
                let time = |cell: &Cell| cell.as_u64().and_then(|time| i64::try_from(time).ok());
                batch.time = cells.map(|cell| time(cell).unwrap_or(NO_TIME)).collect();
            }
            Some(Column::Number(column)) => {
                let numbers = cells.map(|cell| cell.as_u64().unwrap_or(NO_NUMBER));
                *batch.numbers_mut(column) = numbers.collect();
            }
            Some(Column::Text(column)) => {
                let dictionary = texts.of_mut(column);
                let codes = cells.map(|cell| cell.as_text().map_or(NO_TEXT, |text| dictionary.code(text)));
                *batch.codes_mut(column) = codes.collect();
            }
            Some(Column::Derived(_)) | None => {}
        }
    }
    Ok(sender.send(Message::Requests(vec![batch], Box::new(texts)))?)
}
