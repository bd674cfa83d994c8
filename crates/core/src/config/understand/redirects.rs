//! Many redirects from a file: lines of old path, new path and, where it is not 308, status, separated by commas
//! (RFC 4180). They are rules like any other, with exact paths.

use super::rules::{redirect_status, target_mistake};
use super::*;
use crate::rules::{Answering, Effects, Pattern, Rule, Template};

impl Reading<'_> {
    pub(super) fn redirects(&mut self, file: &Located<String>, rules: &mut Vec<Rule>) {
        let path = self.base.join(&file.value);
        let text = match self.companions.read(&path) {
            Ok(text) => text,
            Err(reason) => {
                let message = format!("the redirects in {} cannot be read", path.display());
                self.error(&file.span, message, reason, "make the file, or correct `redirects`");
                return;
            }
        };
        let begins = self.read.add(&path.display().to_string(), &text);
        let mut reader = csv::ReaderBuilder::new()
            .has_headers(false)
            .flexible(true)
            .comment(Some(b'#'))
            .from_reader(text.as_bytes());
        let mut record = csv::StringRecord::new();
        let mut begin = 0;
        let mut is_first = true;
        loop {
            let more = reader.read_record(&mut record);
            let end = usize::try_from(reader.position().byte()).unwrap_or(text.len()).min(text.len());
            let line = text[begin..end].trim_end();
            let place = begins + begin..begins + begin + line.len();
            begin = end;
            match more {
                Ok(false) => return,
                Ok(true) => {
                    let heading =
                        std::mem::take(&mut is_first) && !record.get(0).unwrap_or_default().starts_with('/');
                    if !heading && let Some(rule) = self.moved(&record, place) {
                        rules.push(rule);
                    }
                }
                Err(error) => {
                    self.error(
                        &place,
                        "this line cannot be read",
                        error.to_string(),
                        "old path, new path, status",
                    );
                    return;
                }
            }
        }
    }

    fn moved(&mut self, record: &csv::StringRecord, place: Range<usize>) -> Option<Rule> {
        let field = |nth: usize| record.get(nth).map(str::trim).filter(|text| !text.is_empty());
        let (Some(old), Some(new)) = (field(0), field(1)) else {
            let reason = format!("{} of at least two fields", record.len());
            self.error(&place, "this line moves nothing", reason, "write it like /old.html,/new.html,308");
            return None;
        };
        let path = match Pattern::literal(old) {
            Ok(path) => path,
            Err(error) => {
                self.error(
                    &place,
                    format!("`{old}` is no path"),
                    error.to_string(),
                    "write it like /old.html",
                );
                return None;
            }
        };
        let target = Template::literal(new);
        if let Some((reason, remedy)) = target_mistake(&target) {
            self.error(&place, format!("nobody can be sent to `{new}`"), reason, remedy);
            return None;
        }
        let status = match field(2) {
            None => http::StatusCode::PERMANENT_REDIRECT,
            Some(text) => self.redirect_status(text.parse().unwrap_or(0), &place)?,
        };
        let answer = Some(Answering::Redirect { target, status, drops_query: false });
        let effects = Effects { answer, ..Effects::default() };
        let (path_place, target_place) = (place.clone(), place.clone());
        let name = format!("moved {old}").into();
        Some(Rule { name, place, path_place, target_place, path: Some(path), when: Vec::new(), effects })
    }

    fn redirect_status(&mut self, status: u64, place: &Range<usize>) -> Option<http::StatusCode> {
        let found = redirect_status(status);
        if found.is_none() {
            let reason = "301 and 308 are for good, 302, 303 and 307 for now";
            self.error(place, "this status sends nobody anywhere", reason, "write 308 or 307");
        }
        found
    }
}
