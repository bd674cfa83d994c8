//! `/metrics`: figures of the service in the OpenMetrics text format (version 1.0), for programs that watch it.
//!
//! Whoever asks from this machine need not be known; elsewhere a token is sent. What came through a proxy came from elsewhere.

use super::caller::{Caller, Console};
use super::calls;
use super::failure::{Failure, problem};
use super::peer::Peer;
use super::sign_in;
use axum::extract::{Request, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use exedra_api::{LogStatus, Status};
use exedra_common::grant::Grant;
use exedra_store::{Holder, IssuedSecret, Purpose};
use std::fmt::Write;
use std::sync::Arc;

/// The media type (OpenMetrics 1.0, §Protocol Negotiation).
const MEDIA_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// Figures of the service.
pub async fn metrics(State(console): State<Arc<Console>>, request: Request) -> Result<Response, Failure> {
    let headers = request.headers();
    let is_proxied =
        ["forwarded", "x-forwarded-for", "x-real-ip", "via"].iter().any(|name| headers.contains_key(*name));
    let peer = request.extensions().get::<Peer>().map(|peer| peer.0);
    let is_here = peer.is_some_and(|peer| peer.to_canonical().is_loopback()) && !is_proxied;
    let caller = match sign_in::known(&console, headers).await? {
        Some(caller) => caller,
        None if is_here => somebody_here(&console),
        None => {
            let detail = "Send a token that `exedra token add` makes, or ask from the machine itself.";
            return Ok(problem(StatusCode::UNAUTHORIZED, "Not known", detail));
        }
    };
    let started = console.started.as_second();
    let sees_all = caller.sees_all();
    let axum::Json(status) = calls::status(caller).await?;
    let text = written(&status, started, sees_all);
    Ok(([(header::CONTENT_TYPE, MEDIA_TYPE)], text).into_response())
}

/// Whoever asks from this machine: it may see all figures, and change nothing.
fn somebody_here(console: &Arc<Console>) -> Caller {
    let grant = Grant { role: exedra_common::grant::Role::Viewer, sites: None };
    let known = IssuedSecret {
        id: String::new(),
        made_for: Holder::token("this machine's metrics", "", grant),
        made: 0,
        expires: 0,
        used: 0,
    };
    Caller::new(Arc::clone(console), known, Purpose::Token)
}

/// A figure that each site's log has.
struct Figure {
    name: &'static str,
    kind: &'static str,
    unit: &'static str,
    help: &'static str,
    of: fn(&LogStatus) -> u64,
}

const OF_LOGS: [Figure; 5] = [
    Figure {
        name: "exedra_recorded_requests",
        kind: "gauge",
        unit: "",
        help: "requests of a site that are in the records",
        of: |log| log.recorded,
    },
    Figure {
        name: "exedra_log_unread_lines",
        kind: "gauge",
        unit: "",
        help: "lines of a site's log that could not be read",
        of: |log| log.unread,
    },
    Figure {
        name: "exedra_log_lag_bytes",
        kind: "gauge",
        unit: "bytes",
        help: "octets of a site's log that are not in the records yet",
        of: |log| log.lag,
    },
    Figure {
        name: "exedra_log_lost_lines",
        kind: "counter",
        unit: "",
        help: "lines of a site's log that could not be written since the start",
        of: |log| log.lost,
    },
    Figure {
        name: "exedra_log_failing",
        kind: "gauge",
        unit: "",
        help: "whether lines of a site's log cannot be written at the moment",
        of: |log| u64::from(log.trouble.is_some()),
    },
];

fn written(status: &Status, started: i64, sees_all: bool) -> String {
    let mut out = String::new();
    family(&mut out, "exedra", "info", "", "the program");
    let _ = writeln!(out, "exedra_info{{version=\"{}\"}} 1", escaped(&status.version));
    gauge(&mut out, "exedra_start_time_seconds", "seconds", "when it started", started as u64);
    counter(&mut out, "exedra_requests", "", "requests answered since the start", status.answered);
    counter(&mut out, "exedra_sent_bytes", "bytes", "body bytes sent since the start", status.sent);
    gauge(&mut out, "exedra_connections", "", "connections that are open", status.connections);
    gauge(&mut out, "exedra_connections_limit", "", "connections that may be open", status.most_connections);
    gauge(&mut out, "exedra_open_files", "", "files that are open to be sent", status.files);
    gauge(&mut out, "exedra_open_files_limit", "", "files that may be open to be sent", status.most_files);
    if sees_all {
        let troubles = status.troubles.len() as u64;
        gauge(&mut out, "exedra_troubles", "", "things that are wrong: `exedra status` names them", troubles);
    }
    let sites = status.sites.iter().filter_map(|site| Some((site.name.as_str(), site.log.as_ref()?)));
    let logs: Vec<(&str, &LogStatus)> = sites.chain(status.no_site.as_ref().map(|log| ("", log))).collect();
    for Figure { name, kind, unit, help, of } in OF_LOGS {
        family(&mut out, name, kind, unit, help);
        let end = if kind == "counter" { "_total" } else { "" };
        for (site, log) in &logs {
            let _ = writeln!(out, "{name}{end}{{site=\"{}\"}} {}", escaped(site), of(log));
        }
    }
    out.push_str("# EOF\n");
    out
}

fn family(out: &mut String, name: &str, kind: &str, unit: &str, help: &str) {
    let _ = writeln!(out, "# TYPE {name} {kind}");
    if !unit.is_empty() {
        let _ = writeln!(out, "# UNIT {name} {unit}");
    }
    let _ = writeln!(out, "# HELP {name} {help}");
}

fn counter(out: &mut String, name: &str, unit: &str, help: &str, value: u64) {
    family(out, name, "counter", unit, help);
    let _ = writeln!(out, "{name}_total {value}");
}

fn gauge(out: &mut String, name: &str, unit: &str, help: &str, value: u64) {
    family(out, name, "gauge", unit, help);
    let _ = writeln!(out, "{name} {value}");
}

/// The value of a label.
fn escaped(value: &str) -> String {
    value.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
