//! Error logs of other servers: lines that say what failed, for whom, and why.
//!
//! No two servers write them alike, but all say the same: a time, how bad it is, and a sentence; in it, behind names or in quotation
//! marks, the client, what was asked for, which file was looked for, and which page linked there. So they are recognised by their
//! parts, like any line. Lines without a time of their own belong to the event before them.
//!
//! - [`event`]: one line understood; [`named`]: values behind their names
//! - [`same`]: events that are the same but for when and for whom
//! - [`filter`]: which are wanted
//!
//! ```
//! use exedra_reading::errors::event::Event;
//! let line = "2026-11-14 05:12:40 [error] <812> #7 nothing at \"/srv/www/fog.html\" (not found); client: 192.0.2.1; \
//!             host: \"harbour.example\"; request: \"GET /fog.html HTTP/1.1\"";
//! let event = Event::of_line(line.as_bytes(), None).unwrap();
//! assert_eq!((event.level.as_str(), event.client.as_deref()), ("error", Some("192.0.2.1")));
//! assert_eq!((event.path.as_deref(), event.looked_for.as_deref()), (Some("/fog.html"), Some("/srv/www/fog.html")));
//! assert_eq!(event.cause, "nothing at … (not found)");
//! ```

pub mod event;
pub mod filter;
mod named;
pub mod same;

use event::Event;

/// How many lines are looked at to see whether a log is one of errors.
pub const LOOKED_AT: usize = 200;

/// How much of a log are events.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Likeness {
    /// Too little to be an error log.
    None,
    /// Most lines say when and how bad, but few that anything went wrong: it may be a log of requests whose lines have a level too.
    Events,
    /// Most lines say when and how bad, and most of them that something went wrong.
    Errors,
}

/// Whether most lines of a log say when and how bad, as those of error logs do.
pub fn likeness(lines: &[&[u8]]) -> Likeness {
    let begins = lines.iter().filter(|line| !line.is_empty() && !event::goes_on(line));
    let (mut all, mut events, mut bad) = (0, 0, 0);
    let mut fields = event::Fields::default();
    for line in begins.take(LOOKED_AT) {
        if fields.directive(line) {
            continue;
        }
        all += 1;
        let event = match fields.says_reason() {
            true => fields.event(line),
            false => Event::of_line(line, Some(0)),
        };
        events += usize::from(event.is_some());
        bad += usize::from(event.is_some_and(|event| event.level != "notice"));
    }
    match events {
        0 => Likeness::None,
        events if events * 10 < all * 6 => Likeness::None,
        events if bad * 2 < events => Likeness::Events,
        _ => Likeness::Errors,
    }
}
