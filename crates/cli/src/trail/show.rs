//! A trail as a page for the terminal.

use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE};
use crate::show::fit::shorten;
use exedra_common::figures::{bytes, duration, grouped, several, share};
use exedra_reading::trail::{ClientTrail, Step, TrailVisit};
use jiff::Timestamp;
use jiff::tz::TimeZone;

/// The page.
pub fn page(
    ClientTrail { client, country, trail, .. }: &ClientTrail,
    zone: &TimeZone,
    width: usize,
) -> String {
    let mut lines = Vec::new();
    let country = country.as_ref().map_or(String::new(), |country| format!("  {QUIET}{country}{QUIET:#}"));
    lines.push(format!("{STRONG}{}{STRONG:#}{country}", shorten(client, width - 4)));
    let Some((first, last)) = trail.span() else {
        lines.push("There are no requests of this client in this period.".to_owned());
        return lines.join("\n") + "\n";
    };
    let zone_name = zone.iana_name().unwrap_or("UTC");
    lines.push(format!(
        "{QUIET}{} to {}, times of {zone_name}{QUIET:#}",
        moment(first, zone),
        moment(last, zone)
    ));
    lines.push(String::new());
    let visits = trail.visits.len() as u64 + trail.earlier_visits;
    let figures = [
        (grouped(trail.requests), if trail.requests == 1 { "request" } else { "requests" }),
        (grouped(visits), if visits == 1 { "visit" } else { "visits" }),
        (bytes(trail.bytes), "sent"),
        (share(trail.errors, trail.requests), "answered 4xx or 5xx"),
    ];
    let figures = figures.map(|(figure, what)| format!("{STRONG}{figure}{STRONG:#} {what}"));
    lines.push(figures.join("     "));
    lines.push(String::new());
    for agent in trail.agents.iter().take(3) {
        let name = agent.name.as_deref().map_or(String::new(), |name| format!("{name}: "));
        let said = if agent.agent.is_empty() { "names no agent" } else { &agent.agent };
        let room = width.saturating_sub(15);
        lines.push(format!(
            "  {:>10}  {QUIET}{}{QUIET:#}",
            grouped(agent.requests),
            shorten(&format!("{name}{said}"), room)
        ));
    }
    if trail.agents.len() > 3 {
        let others = trail.agents.iter().skip(3).map(|agent| agent.requests).sum();
        let many = trail.agents.len() - 3;
        lines.push(format!("  {:>10}  {QUIET}as {many} other agents{QUIET:#}", grouped(others)));
    }
    if !trail.repeats.is_empty() {
        lines.push(String::new());
        lines.push(format!("{STRONG}Again and again{STRONG:#}"));
        for repeat in &trail.repeats {
            let pace =
                repeat.per_minute.map_or(", all at once".to_owned(), |pace| format!(", {}", rate(pace)));
            let part = share(repeat.requests, trail.requests);
            let words = format!("{:>7}  {}", part, shorten(&repeat.request, width.saturating_sub(50)));
            lines.push(format!("  {:>10}  {words}{ATTENTION}{pace}{ATTENTION:#}", grouped(repeat.requests)));
        }
    }
    if trail.earlier_visits > 0 {
        lines.push(String::new());
        let earlier = several(trail.earlier_visits, "earlier visit is", "earlier visits are");
        lines.push(format!("{QUIET}{earlier} not shown: --visits shows more{QUIET:#}"));
    }
    for visit in &trail.visits {
        visit_lines(visit, zone, width, &mut lines);
    }
    if trail.unkept > 0 {
        let unkept = several(trail.unkept, "request", "requests");
        lines.push(String::new());
        lines.push(format!(
            "{QUIET}{unkept} more came than can be kept, and stand in no visit: narrow the period{QUIET:#}"
        ));
    }
    lines.join("\n") + "\n"
}

fn visit_lines(visit: &TrailVisit, zone: &TimeZone, width: usize, lines: &mut Vec<String>) {
    lines.push(String::new());
    let mut about =
        vec![several(visit.requests, "request", "requests"), several(visit.pages, "page", "pages")];
    about.push(bytes(visit.bytes));
    if visit.last > visit.first {
        about.push(format!("took {}", duration((visit.last - visit.first) as f64 / 1000.0)));
    }
    if let Some(pace) = visit.per_minute.filter(|_| visit.requests > 2) {
        about.push(rate(pace));
    }
    lines.push(format!(
        "{STRONG}{}{STRONG:#}  {QUIET}{}{QUIET:#}",
        moment(visit.first, zone),
        about.join(", ")
    ));
    let mut day = date(visit.first, zone);
    for step in &visit.steps {
        let begun = std::mem::replace(&mut day, date(step.time, zone));
        if begun != day {
            lines.push(format!("  {QUIET}{day}{QUIET:#}"));
        }
        step_lines(step, zone, width, lines);
    }
    if visit.further_steps > 0 {
        let steps = several(visit.further_steps, "more step", "more steps");
        lines.push(format!("  {QUIET}{steps}: --steps shows further{QUIET:#}"));
    }
}

fn step_lines(step: &Step, zone: &TimeZone, width: usize, lines: &mut Vec<String>) {
    let stamp = Timestamp::from_millisecond(step.time).unwrap_or_default();
    let time = stamp.to_zoned(zone.clone()).strftime("%H:%M:%S");
    let after = step.after_s.map_or(String::new(), |after| format!("+{}", pace(after)));
    let status = match step.status {
        0 => "  –".to_owned(),
        status @ 400.. => format!("{TROUBLE}{status}{TROUBLE:#}"),
        status => status.to_string(),
    };
    let mut note = String::new();
    if step.count > 1 {
        let pace = step.per_minute.map_or(" at once".to_owned(), |pace| format!(", {}", rate(pace)));
        note = format!("  {} times{pace}", grouped(step.count));
    }
    let method = if step.method == "GET" { String::new() } else { format!("{} ", step.method) };
    let room = width.saturating_sub(39 + note.len());
    let target = shorten(&format!("{method}{}", step.target), room);
    lines.push(format!(
        "  {time}  {QUIET}{after:>12}{QUIET:#}  {status}  {:>8}  {target}{ATTENTION}{note}{ATTENTION:#}",
        bytes(step.bytes)
    ));
    if let Some(referrer) = &step.referrer {
        let from = shorten(referrer, width.saturating_sub(45));
        if step.after_s.is_none() {
            lines.push(format!("  {:>37}  {QUIET}from {from}{QUIET:#}", ""));
        }
    }
}

/// The day of an instant.
fn date(time: i64, zone: &TimeZone) -> String {
    let stamp = Timestamp::from_millisecond(time).unwrap_or_default();
    stamp.to_zoned(zone.clone()).strftime("%a %-d %b %Y").to_string()
}

fn moment(time: i64, zone: &TimeZone) -> String {
    let stamp = Timestamp::from_millisecond(time).unwrap_or_default();
    stamp.to_zoned(zone.clone()).strftime("%a %-d %b %Y %H:%M:%S").to_string()
}

/// How many of something in a time in which there are some.
fn rate(per_minute: f64) -> String {
    match per_minute {
        300.0.. => format!("{:.0} a second", per_minute / 60.0),
        1.0.. => format!("{per_minute:.0} a minute"),
        0.1.. => format!("{:.0} an hour", per_minute * 60.0),
        _ => format!("{:.0} a day", per_minute * 1440.0),
    }
}

/// A short length of time: tenths of seconds count below ten.
fn pace(seconds: f64) -> String {
    if seconds < 9.95 { format!("{seconds:.1} s") } else { duration(seconds) }
}
