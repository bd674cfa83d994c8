//! Many redirects from a file: lines of old path, new path and, where it is not 308, status, separated by commas
//! (RFC 4180). They are rules like any other, with exact paths, and come after those that are written out.

use super::effects::{redirect_status, target_mistake};
use super::*;
use crate::rules::moved::is_plain;
use crate::rules::{Moved, Pattern, Template, csv_line};
use std::borrow::Cow;
use std::sync::Arc;

/// How many mistakes of a file are told.
const MOST_MISTAKES: usize = 100;

impl Reading<'_> {
    pub(super) fn redirects(&mut self, file: &Located<String>) -> Moved {
        let mut moved = Moved::default();
        let path = self.base.join(&file.value);
        let text = match self.companions.read(&path) {
            Ok(text) => text,
            Err(reason) => {
                let message = format!("the redirects in {} cannot be read", path.display());
                self.error(&file.span, message, reason, "make the file, or correct `redirects`");
                return moved;
            }
        };
        if u32::try_from(text.len()).is_err() {
            let message = format!("the redirects in {} are too many", path.display());
            self.error(&file.span, message, "a file has at most 4 GB", "say them with patterns");
            return moved;
        }
        let begins = self.read.add(&path.display().to_string(), Arc::clone(&text));
        let (mut lines, mut at, mut is_first, mut mistakes) = (Vec::new(), 0, true, 0);
        while at < text.len() && mistakes < MOST_MISTAKES {
            let found = csv_line::record(&text, at);
            let line = at..found.as_ref().map_or_else(|| csv_line::next(&text, at), |(_, end)| *end);
            let is_left_out = text[line.clone()].trim().is_empty() || text[line.clone()].starts_with('#');
            let place = begins + line.start..begins + line.end;
            let is_heading =
                |fields: &[Cow<'_, str>]| !fields.first().is_some_and(|old| old.starts_with('/'));
            match found {
                _ if is_left_out => {}
                Some((fields, _)) if std::mem::take(&mut is_first) && is_heading(&fields) => {}
                Some((fields, _)) => match self.is_moved(&fields, &place) {
                    true => lines.push(at as u32),
                    false => mistakes += 1,
                },
                None => {
                    let reason = "a quotation mark is not closed";
                    self.error(&place, "this line cannot be read", reason, "old path, new path, status");
                    return moved;
                }
            }
            at = csv_line::next(&text, line.end);
        }
        moved.add(text, begins, lines);
        moved
    }

    /// Whether a line moves something. Otherwise it is said why not.
    fn is_moved(&mut self, fields: &[Cow<'_, str>], place: &Range<usize>) -> bool {
        let field = |nth: usize| fields.get(nth).map(|text| &**text).filter(|text| !text.is_empty());
        let (Some(old), Some(new)) = (field(0), field(1)) else {
            let reason = format!("{} of at least two fields", fields.len());
            self.error(place, "this line has no redirect", reason, "write it like /old.html,/new.html,308");
            return false;
        };
        if !is_plain(old)
            && let Err(error) = Pattern::literal(old)
        {
            self.error(place, format!("`{old}` is not a path"), error.to_string(), "write it like /old.html");
            return false;
        }
        if !is_plain(new)
            && let Some((reason, remedy)) = target_mistake(&Template::literal(new))
        {
            self.error(place, format!("invalid redirect target `{new}`"), reason, remedy);
            return false;
        }
        if let Some(status) = field(2)
            && redirect_status(status.parse().unwrap_or(0)).is_none()
        {
            let reason = "301 and 308 are for good, 302, 303 and 307 for now";
            self.error(place, "not a redirect status", reason, "write 308 or 307");
            return false;
        }
        true
    }
}
