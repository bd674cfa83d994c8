//! Which calls there are, who may make them, and how they are described.
//!
//! A call stands in a list by who may make it. That whoever asks is known and has the role, that a change is written down, and what any
//! call may be answered follow from the list.

use super::caller::Console;
use super::{
    accounts, alerts, allowances, assets, calls, configuration, description, erasing, events, findings,
    health, hosts, imports, messages, metrics, publications, queries, reading, recording, rehearsals, report,
    schedules, sign_in, sites, trials,
};
use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::{HeaderValue, header};
use axum::middleware::{self, Next};
use axum::response::Response;
use axum::routing::get;
use exedra_common::grant::Role;
use std::sync::Arc;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// Calls that stand below `/api/v1` with their description, from which the console's types are made: a call that is in none of the
/// lists below neither answers nor is described, and the list says who may make it.
type Calls = OpenApiRouter<Arc<Console>>;

/// What anybody may call.
fn for_anybody() -> Calls {
    OpenApiRouter::new().routes(routes!(sign_in::sign_in_by_name)).routes(routes!(health::health))
}

/// What shows something of the sites that somebody may see.
fn for_viewers() -> Calls {
    OpenApiRouter::new()
        .routes(routes!(accounts::me))
        .routes(routes!(calls::status))
        .routes(routes!(events::events))
        .routes(routes!(calls::now))
        .routes(routes!(reading::survey))
        .routes(routes!(reading::series))
        .routes(routes!(reading::requests))
        .routes(routes!(reading::trail))
        .routes(routes!(reading::preludes))
        .routes(routes!(reading::sources))
        .routes(routes!(reading::errors))
        .routes(routes!(reading::columns))
        .routes(routes!(queries::query))
        .routes(routes!(queries::query_progress))
        .routes(routes!(queries::check_query))
        .routes(routes!(queries::query_file))
        .routes(routes!(queries::query_columns))
        .routes(routes!(queries::query_functions))
        .routes(routes!(queries::queries))
        .routes(routes!(alerts::alerts))
        .routes(routes!(alerts::try_alert))
        .routes(routes!(alerts::alert_history))
        .routes(routes!(schedules::scheduled_reports))
        .routes(routes!(schedules::report_runs))
        .routes(routes!(schedules::report_file))
        .routes(routes!(allowances::allowances))
        .routes(routes!(findings::findings))
        .routes(routes!(report::report))
        .routes(routes!(sites::sites))
        .routes(routes!(sites::explain))
        .routes(routes!(trials::make_trial))
        .routes(routes!(trials::trial))
}

/// What anybody who is signed in may change of their own.
fn of_ones_own() -> Calls {
    OpenApiRouter::new()
        .routes(routes!(accounts::change_password))
        .routes(routes!(sign_in::sign_out))
        .routes(routes!(queries::keep_query))
        .routes(routes!(queries::forget_query))
}

/// What changes something, or is about everything.
fn for_operators() -> Calls {
    OpenApiRouter::new()
        .routes(routes!(health::jobs))
        .routes(routes!(sites::check))
        .routes(routes!(sites::exposures))
        .routes(routes!(sites::weighing))
        .routes(routes!(sites::reload))
        .routes(routes!(sites::revisions))
        .routes(routes!(configuration::configuration, configuration::publish))
        .routes(routes!(configuration::revision_files))
        .routes(routes!(configuration::settings))
        .routes(routes!(sites::restore))
        .routes(routes!(accounts::accounts, accounts::add_account))
        .routes(routes!(accounts::change_account, accounts::remove_account))
        .routes(routes!(accounts::sessions))
        .routes(routes!(accounts::end_session))
        .routes(routes!(accounts::tokens, accounts::add_token))
        .routes(routes!(accounts::end_token))
        .routes(routes!(accounts::changes))
        .routes(routes!(imports::imports, imports::begin))
        .routes(routes!(imports::import, imports::take_out))
        .routes(routes!(erasing::erase_client))
        .routes(routes!(alerts::silence_alert, alerts::end_silence))
        .routes(routes!(alerts::acknowledge_alert))
        .routes(routes!(schedules::run_report))
        .routes(routes!(findings::set_aside, findings::bring_back))
        .routes(routes!(publications::publications))
        .routes(routes!(publications::effect))
        .routes(routes!(messages::recipients))
        .routes(routes!(messages::try_recipient))
        .routes(routes!(messages::messages))
        .routes(routes!(messages::retry_message))
}

/// What operators ask that changes nothing, though it is sent.
fn tried_out() -> Calls {
    OpenApiRouter::new()
        .routes(routes!(configuration::check_draft))
        .routes(routes!(configuration::write_rule))
        .routes(routes!(configuration::write_alert))
        .routes(routes!(rehearsals::rehearse))
        .routes(routes!(findings::write_remedies))
        .routes(routes!(alerts::try_new_alert))
}

/// What operators send piece by piece: that it began is written down, and not each piece.
fn in_bulk() -> Calls {
    OpenApiRouter::new().routes(routes!(imports::take_in)).layer(DefaultBodyLimit::max(imports::MOST_OCTETS))
}

/// What the description of the API says of itself.
#[derive(OpenApi)]
#[openapi(info(title = "Exedra", description = "The API of the console"))]
struct Description;

/// Whoever asks is looked at before the calls of a list; what they change is written down.
fn guarded(mut calls: Calls, role: Role, is_recorded: bool, console: Option<&Arc<Console>>) -> Calls {
    description::complete(calls.get_openapi_mut(), Some(role));
    let Some(console) = console else { return calls };
    if is_recorded {
        calls = calls.route_layer(middleware::from_fn_with_state(Arc::clone(console), recording::recorded));
    }
    if role == Role::Operator {
        calls = calls.route_layer(middleware::from_fn(sign_in::only_operators));
    }
    calls.route_layer(middleware::from_fn_with_state(Arc::clone(console), sign_in::only_known))
}

/// All calls below `/api/v1`, and their description as JSON. Without a console nobody is looked at: that is for describing them.
fn described(console: Option<&Arc<Console>>) -> (Router<Arc<Console>>, String) {
    let mut anybody = for_anybody();
    description::complete(anybody.get_openapi_mut(), None);
    let calls = anybody
        .merge(guarded(for_viewers(), Role::Viewer, false, console))
        .merge(guarded(of_ones_own(), Role::Viewer, true, console))
        .merge(guarded(for_operators(), Role::Operator, true, console))
        .merge(guarded(tried_out(), Role::Operator, false, console))
        .merge(guarded(in_bulk(), Role::Operator, false, console))
        .fallback(calls::unknown);
    let mut whole = Description::openapi();
    description::share(&mut whole);
    let all = OpenApiRouter::with_openapi(whole).nest("/api/v1", calls);
    let (router, description) = all.split_for_parts();
    (router, description.to_pretty_json().unwrap_or_default() + "\n")
}

pub fn router(console: Arc<Console>) -> Router {
    let (calls, description) = described(Some(&console));
    let description = move || async { ([(header::CONTENT_TYPE, "application/json")], description) };
    calls
        .route("/api/v1/openapi.json", get(description))
        .route("/sign-in", get(sign_in::sign_in))
        .route("/metrics", get(metrics::metrics))
        .fallback(assets::asset)
        .layer(middleware::from_fn_with_state(Arc::clone(&console), hosts::only_our_hosts))
        .layer(middleware::from_fn(guard))
        .with_state(console)
}

/// What every answer says: nothing from elsewhere, in no one's frame, no address passed on.
async fn guard(request: Request, next: Next) -> Response {
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
                  frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The console's types are made from this file: `cargo xtask types` writes both anew.
    #[test]
    fn the_description_is_the_one_the_console_was_made_from() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json");
        let now = described(None).1;
        if std::env::var_os("EXEDRA_WRITE_DESCRIPTION").is_some() {
            std::fs::write(path, &now).unwrap();
        }
        assert!(std::fs::read_to_string(path).unwrap() == now, "run `cargo xtask types`");
    }
}
