//! The calls about published changes: what they were for, how they went, and what became of them.

use super::blocking::{blocking, working};
use super::caller::Caller;
use super::counting::for_a_call;
use super::failure::{Failure, Named};
use crate::jobs::publications::effect_of;
use axum::Json;
use exedra_acting::rehearsal::RehearsalOutcome;
use exedra_api::Problem;
use exedra_api::publications::{Publication as PublicationWire, PublicationEffect};
use exedra_common::tables::Table;
use exedra_store::{Publication, PublicationState};
use jiff::Timestamp;

/// How many are listed.
const LISTED: usize = 50;

/// Changes that were published by the API, the latest first.
#[utoipa::path(get, path = "/publications", responses((status = 200, body = Vec<PublicationWire>)))]
pub async fn publications(caller: Caller) -> Result<Json<Vec<PublicationWire>>, Failure> {
    blocking(move || {
        let in_force = caller.console().changes.newest()?.map_or(0, |newest| newest.number);
        let all = caller.console().acting.publications(LISTED)?;
        Ok(all.iter().map(|publication| on_wire(publication, in_force)).collect())
    })
    .await
}

/// What became of a published change: for exactly what it touched, before and after, against what its rehearsal promised.
#[utoipa::path(get, path = "/publications/{revision}/effect", params(("revision" = i32, Path)),
    responses((status = 200, body = PublicationEffect), (status = 404, body = Problem)))]
pub async fn effect(caller: Caller, Named(revision): Named<i32>) -> Result<Json<PublicationEffect>, Failure> {
    working(move |work| {
        let console = caller.console();
        let publication = console.acting.publication(revision)?.ok_or_else(|| {
            Failure::Missing(format!(
                "revision {revision} was not published by the console or `exedra publish`"
            ))
        })?;
        let in_force = console.changes.newest()?.map_or(0, |newest| newest.number);
        let promised = outcome(&publication);
        let table = match &promised {
            Some(promised) => {
                let goes_on = || work.goes_on();
                let now = Timestamp::now().as_millisecond();
                let until = ended(&caller, revision)?.unwrap_or(now);
                caller.effect(|records| {
                    effect_of(promised, publication.made, until, records, &for_a_call(&goes_on))
                })?
            }
            None => Table::new("effect", "What became of it", []),
        };
        Ok(PublicationEffect { publication: on_wire(&publication, in_force), promised, table })
    })
    .await
}

/// When another configuration came into force after a revision, in milliseconds since 1970 UTC.
fn ended(caller: &Caller, revision: i32) -> Result<Option<i64>, Failure> {
    let next = caller.console().changes.revision(revision.saturating_add(1))?;
    Ok(next.map(|next| next.made * 1000))
}

/// What its rehearsal promised, where it was rehearsed.
fn outcome(publication: &Publication) -> Option<RehearsalOutcome> {
    publication.rehearsal.as_ref().and_then(|written| serde_json::from_str(written).ok())
}

/// Keeps a change that was published, with what its rehearsal promised.
pub(super) fn published(
    caller: &Caller,
    (revision, before): (i32, i32),
    reason: &str,
    rehearsal: &str,
) -> Result<(), Failure> {
    let rehearsal = caller.console().known_rehearsals.get(rehearsal);
    let publication = Publication {
        revision,
        made: Timestamp::now().as_millisecond(),
        made_by: caller.name(),
        reason: reason.trim().to_owned(),
        before,
        rehearsal,
        state: PublicationState::Watched,
        said: String::new(),
    };
    Ok(caller.console().acting.publish(&publication)?)
}

fn on_wire(publication: &Publication, in_force: i32) -> PublicationWire {
    let promised = outcome(publication);
    PublicationWire {
        revision: publication.revision,
        made: moment(publication.made),
        made_by: publication.made_by.clone(),
        reason: publication.reason.clone(),
        before: publication.before,
        state: match promised {
            None if publication.state == PublicationState::Watched => "not watched".to_owned(),
            _ => publication.state.name().to_owned(),
        },
        said: publication.said.clone(),
        in_force: publication.revision == in_force,
        promised: promised.map(|promised| promised.about()),
    }
}

/// An instant to the second (RFC 3339), by its milliseconds since 1970 UTC.
fn moment(time: i64) -> String {
    Timestamp::from_second(time.div_euclid(1000)).unwrap_or_default().to_string()
}
