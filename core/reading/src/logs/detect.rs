//! Finding the layouts of a log: every named one is tried on its first lines, and for those that none reads one is made.
//!
//! ```
//! use exedra_reading::logs::{Layout, detect::understand, search::Given};
//! let lines: [&[u8]; 3] = [
//!     br#"192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] "GET / HTTP/1.1" 200 512"#,
//!     br#"192.0.2.1 - - [14/Nov/2026:05:12:41 +0000] "GET / HTTP/1.1" 200 512 0.004"#,
//!     br#"192.0.2.1 - - [14/Nov/2026:05:12:42 +0000] "GET / HTTP/1.1" 200 512 0.003"#,
//! ];
//! let understood = understand(&Layout::all_named(), &lines, &Given::default()).unwrap();
//! assert!(understood.layouts[0].template.ends_with("{bytes} {duration:seconds}"), "it reads more than the other");
//! assert_eq!(understood.layouts[1].name, "common");
//! ```

use super::cutter::Cutter;
use super::fit::best_fit;
use super::layout::Layout;
use super::search::{Found, Given, durations, named, search};
use exedra_common::columns::{NumberColumn, TextColumn, Unit};

/// How many lines must be alike to be of another layout than the others.
const FEWEST: usize = 2;
/// How many layouts are made for one log at most.
const MOST_MADE: usize = 4;

/// The layouts of a log.
#[derive(Debug, Clone)]
pub struct Understood {
    /// In the order in which they are tried on a line: the one that reads the most first.
    pub layouts: Vec<Layout>,
    /// Those that were made for it.
    pub found: Vec<Found>,
    /// What durations were taken to count, where they do not say it, and why.
    pub durations: Option<(Unit, String)>,
}

/// The layouts of a log that begins with these lines; `None` where nothing reads any.
pub fn understand(tried: &[Layout], lines: &[&[u8]], given: &Given) -> Option<Understood> {
    let known = |layout: &Layout| {
        let hints = &layout.hints;
        let (near, durations) = (hints.near.or(given.near), given.durations.or(hints.durations));
        layout.clone().with(super::layout::Hints { near, durations, ..hints.clone() })
    };
    let mut layouts: Vec<Layout> = tried.iter().map(known).collect();
    layouts.retain(|layout| !names_are_sentences(layout, lines));
    let best = best_fit(&layouts, lines);
    let mut fields = 0;
    if let Some(fit) = &best {
        let layout = layouts.remove(fit.layout);
        layouts.insert(0, layout);
        fields = fit.fields;
    }
    let mut found: Vec<Found> = Vec::new();
    let mut unread = unread_by(&layouts, lines);
    // A broken line or two are no layout of their own.
    while unread.len() * 50 > lines.len() && found.len() < MOST_MADE {
        let Ok(new) = search(&unread, given) else { break };
        // Where a layout fits, lines that it does not read are broken unless there are many that are broken alike; and they do
        // not lose their times.
        if best.is_some() && (!new.layout.has_time() || new.lines * 10 < lines.len() || new.lines < FEWEST) {
            break;
        }
        let left = unread_by(std::slice::from_ref(&new.layout), &unread);
        if left.len() == unread.len() {
            break;
        }
        unread = left;
        found.push(new);
    }
    for (nth, new) in found.iter().enumerate() {
        let leads = nth == 0 && new.fields > fields;
        layouts.insert(if leads { 0 } else { layouts.len() }, new.layout.clone());
    }
    // Whoever asked for one layout has said what its keys are.
    if tried.len() > 1 {
        let is_read = best.is_some() || !found.is_empty();
        if let Some(new) = named::search(layouts.first().filter(|_| is_read), lines, given) {
            found.retain(|found| Some(&found.layout) != layouts.first());
            layouts.insert(0, new.layout.clone());
            found.insert(0, new);
        }
    }
    if best.is_none() && found.is_empty() {
        return None;
    }
    let durations = match given.durations {
        Some(_) => None,
        None => open_durations(&layouts[0], lines),
    };
    if let Some((unit, _)) = &durations {
        layouts.iter_mut().for_each(|layout| layout.hints.durations = Some(*unit));
    }
    Some(Understood { layouts, found, durations })
}

/// Whether a layout finds names of users with spaces in them on more than a fifth of its lines: then it is a field that it does not
/// know, beside the name.
fn names_are_sentences(layout: &Layout, lines: &[&[u8]]) -> bool {
    let mut cutter = Cutter::new(layout);
    let (mut read, mut sentences) = (0, 0);
    for line in lines.iter().filter(|line| !line.starts_with(b"#")) {
        if let Ok(cut) = cutter.run(line) {
            read += 1;
            sentences +=
                usize::from(cut.text(line, TextColumn::User).is_some_and(|user| user.contains(&b' ')));
        }
    }
    sentences * 5 > read
}

/// The lines that none of some layouts reads.
fn unread_by<'l>(layouts: &[Layout], lines: &[&'l [u8]]) -> Vec<&'l [u8]> {
    let mut cutters: Vec<Cutter> = layouts.iter().map(Cutter::new).collect();
    let mut unread = Vec::new();
    for line in lines {
        if line.starts_with(b"#") {
            cutters.iter_mut().for_each(|cutter| cutter.directive(line));
            continue;
        }
        let mut cutters = cutters.iter_mut().filter(|cutter| cutter.applies());
        let is_read =
            cutters.any(|cutter| cutter.is_heading(line) || cutter.run(&cutter.unwrapped(line)).is_ok());
        if !is_read && !line.is_empty() {
            unread.push(*line);
        }
    }
    unread
}

/// What the durations of a layout count that do not say it, seen from how large they are.
fn open_durations(layout: &Layout, lines: &[&[u8]]) -> Option<(Unit, String)> {
    let reading = |unit| {
        let mut hints = layout.hints.clone();
        hints.durations = Some(unit);
        Cutter::new(&layout.clone().with(hints))
    };
    // Where a unit is known, it makes no difference which is supposed.
    let (mut seconds, mut milliseconds) = (reading(Unit::Seconds), reading(Unit::Milliseconds));
    let mut open = Vec::new();
    for line in lines {
        if line.starts_with(b"#") {
            seconds.directive(line);
            milliseconds.directive(line);
            continue;
        }
        let duration = |cutter: &mut Cutter| {
            let line = cutter.unwrapped(line);
            cutter.run(&line).ok().and_then(|cut| cut.number(NumberColumn::Duration))
        };
        let (one, other) = (duration(&mut seconds), duration(&mut milliseconds));
        if let (Some(microseconds), true) = (one, one != other || one == Some(0)) {
            let (whole, rest) = (microseconds / 1_000_000, microseconds % 1_000_000);
            let fraction = format!("{rest:06}");
            open.push(if rest == 0 {
                whole.to_string()
            } else {
                format!("{whole}.{}", fraction.trim_end_matches('0'))
            });
        }
    }
    let is_open = open.iter().any(|text| text != "0");
    durations::unit(&open).filter(|_| is_open)
}
