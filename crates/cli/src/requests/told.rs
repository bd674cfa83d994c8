//! Requests that come to the records while somebody looks: the running service tells of them as they come in.
//!
//! The service says by which event what it gave ends. So listening goes on exactly behind it, and behind the last event after a
//! connection was lost.

use crate::failure::Failure;
use crate::service::{Service, encoded};
use exedra_api::Requests;
use exedra_common::figures::several;
use exedra_common::tables::{Cell, Table};
use exedra_reading::requests::USUAL;
use std::time::{Duration, Instant};

/// How long a service that went away is waited for: it may be started anew.
const PATIENCE: Duration = Duration::from_secs(60);
/// How often it is asked meanwhile.
const EVERY: Duration = Duration::from_millis(500);

/// Hands on what comes in behind `known`, which was given for the same `query`, until the service stays away.
pub fn follow(
    service: &Service,
    mut query: Vec<(&str, String)>,
    known: &Requests,
    mut put: impl FnMut(&Table, &[Cell]) -> Result<(), Failure>,
) -> Result<(), Failure> {
    query.retain(|(name, _)| *name != "by");
    if !query.iter().any(|(name, _)| *name == "columns") {
        query.extend(USUAL.map(|column| ("columns", column.to_owned())));
    }
    let call = format!("events?{}", encoded(&query));
    let mut last = known.last_event.clone();
    let (mut lost, mut is_said) = (Instant::now(), false);
    loop {
        let begins_at = last.clone();
        let mut printing = Ok(());
        let listened = service.listen(&call, Some(&begins_at), |event| {
            lost = Instant::now();
            last = event.id.clone().unwrap_or_else(|| std::mem::take(&mut last));
            if event.name == "requests" {
                printing = show(&serde_json::from_str(&event.data)?, &mut put);
            }
            printing.is_ok().then_some(()).ok_or_else(|| Failure(String::new()))
        });
        printing?;
        match listened {
            Err(failure) if lost.elapsed() > PATIENCE => return Err(failure),
            Err(failure) if !is_said => {
                crate::out::note!("{}; trying again for a minute", failure.0);
                is_said = true;
            }
            Err(_) => {}
            Ok(()) => is_said = false,
        }
        std::thread::sleep(EVERY);
    }
}

fn show(table: &Table, put: &mut impl FnMut(&Table, &[Cell]) -> Result<(), Failure>) -> Result<(), Failure> {
    for sentence in &table.unknown {
        crate::out::note!("{sentence}");
    }
    if table.rest.rows > 0 {
        let many = several(table.rest.rows, "request", "requests");
        crate::out::note!("{many} more came in the same second, and are not shown: narrow the scope.");
    }
    table.rows.iter().try_for_each(|row| put(table, row))
}
