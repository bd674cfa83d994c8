//! What is bounded: how logs are written and kept, and what a client may take.

use super::*;
use exedra_common::columns::Unit;
use exedra_reading::logs::layout::Hints;
use exedra_reading::logs::template;

/// How long past generations are kept where nothing is said.
pub(super) const NINETY_DAYS: Option<Duration> = Some(Duration::from_secs(90 * units::DAY));

impl Reading<'_> {
    /// How an access log is written, unless said otherwise as another one.
    pub(super) fn log(&mut self, log: &Section<'_>, base: &Log) -> Option<Log> {
        let layout = match log.text("layout") {
            Some(written) => self.layout(&written),
            None => Some(base.layout.clone()),
        };
        let masks_clients = log.text("clients").map_or(base.masks_clients, |text| {
            if !["whole", "masked"].contains(&text.value.as_str()) {
                let message = format!("clients cannot be written `{}`", text.value);
                self.error(&text.span, message, "not known", "write \"whole\" or \"masked\"");
            }
            text.value == "masked"
        });
        let keeping = self.keeping(log, base.keeping);
        let write = log.flag("write").map_or(base.write, |flag| flag.value);
        Some(Log { write, layout: layout?, masks_clients, keeping })
    }

    /// How the generations of a log follow each other, unless said otherwise as those of another one.
    pub(super) fn keeping(&mut self, section: &Section<'_>, base: Keeping) -> Keeping {
        let mut keeping = base;
        if let Some(text) = section.text("rotate") {
            let days = units::seconds(&text.value).filter(|time| time.as_secs() % units::DAY == 0);
            match (text.value.as_str(), days, units::size(&text.value)) {
                ("never", ..) => keeping.rotate = Rotate::Never,
                (_, Some(time), _) if !time.is_zero() => {
                    keeping.rotate = Rotate::Days(time.as_secs() / units::DAY);
                }
                (_, _, Some(size)) if size >= 1000 => keeping.rotate = Rotate::Size(size),
                _ => {
                    let message = format!("a log cannot rotate by `{}`", text.value);
                    let remedy = "write it like \"1 day\", \"50 MB\" or \"never\"";
                    self.error(&text.span, message, "whole days, or a size of at least 1 kB", remedy);
                }
            }
        }
        if let Some(text) = section.text("keep") {
            match (text.value.as_str(), units::seconds(&text.value)) {
                ("forever", _) => keeping.keep = None,
                (_, Some(time)) => keeping.keep = Some(time),
                _ => {
                    let message = format!("`{}` is not a length of time", text.value);
                    self.error(
                        &text.span,
                        message,
                        "a number and its unit",
                        "write it like \"90 days\", or \"forever\"",
                    );
                }
            }
        }
        keeping
    }

    /// A layout of one's own, by its name.
    pub(super) fn named_layout(&mut self, section: &Section<'_>) {
        let Some(name) = section.text("name") else { return };
        let keys = self.keys(section);
        let template = match section.text("template") {
            Some(template) => template,
            // Lines whose values have names need no template.
            None if !keys.is_empty() => Located { value: "{json}".to_owned(), span: name.span.clone() },
            None => {
                let message = format!("the layout `{}` does not say how its lines are written", name.value);
                let remedy = "write template = '{time} {client} …', or keys = { … } for lines of JSON";
                return self.error(&name.span, message, "neither template nor keys", remedy);
            }
        };
        let is_taken = self.layouts.iter().any(|layout| layout.name == name.value);
        if is_taken || exedra_reading::logs::layout::is_named(&name.value) || name.value.contains(['{', '\n'])
        {
            let message = format!("a layout cannot be called `{}`", name.value);
            let reason = "names are plain words, and this one may be taken";
            self.error(&name.span, message, reason, "give it a name of its own");
        }
        let durations = section.text("durations").and_then(|written| {
            let unit = Unit::of_time(&written.value);
            if unit.is_none() {
                let message = format!("`{}` is not a unit of time", written.value);
                let remedy = "write seconds, milliseconds, microseconds or nanoseconds";
                self.error(&written.span, message, "not known", remedy);
            }
            unit
        });
        let within = section.text("within").map(|key| key.value);
        match Layout::called(&name.value, &template.value) {
            Ok(layout) => {
                self.layouts.push(layout.with(Hints { keys, within, durations, ..Hints::default() }))
            }
            Err(error) => {
                self.error(
                    &template.span,
                    "this layout cannot be read",
                    error.to_string(),
                    "places are {field}",
                );
            }
        }
    }

    /// What keys of one's own mean.
    fn keys(&mut self, section: &Section<'_>) -> Vec<(String, String)> {
        let mut keys = Vec::new();
        for (key, value) in section.section("keys", &mut self.diagnostics).pairs() {
            let written = value.text().map(|text| text.value).unwrap_or_default();
            match template::place(&written) {
                Ok(_) => keys.push((key.value, written)),
                Err(error) => {
                    let message = format!("`{}` cannot be read as `{written}`", key.value);
                    let remedy = "write a field as in a template, such as \"client\" or \"duration:ms\"";
                    self.error(&value.span, message, error.to_string(), remedy);
                }
            }
        }
        keys
    }

    fn layout(&mut self, written: &Located<String>) -> Option<Layout> {
        let own = self.layouts.iter().find(|layout| layout.name == written.value);
        match own.map_or_else(|| Layout::understand(&written.value), |own| Ok(own.clone())) {
            Ok(layout) if layout.is_for_reading_only() => {
                let message = format!("logs can be read by `{}`, but not written", written.value);
                let reason = "it does not say when, or where in the line each field stands";
                self.error(&written.span, message, reason, "choose another layout for logs of ours");
                None
            }
            Ok(layout) => Some(layout),
            Err(_) if !written.value.contains('{') => {
                let own: Vec<String> = self.layouts.iter().map(|layout| layout.name.clone()).collect();
                let names = exedra_reading::logs::layout::NAMED.iter().map(|(name, _)| *name);
                let names = names.chain(own.iter().map(String::as_str));
                let remedy = match nearest(&written.value, names.clone()) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("there is {}, or write a template", names.collect::<Vec<_>>().join(", ")),
                };
                self.error(
                    &written.span,
                    format!("there is no layout `{}`", written.value),
                    "not known",
                    remedy,
                );
                None
            }
            Err(error) => {
                self.error(
                    &written.span,
                    "this layout cannot be read",
                    error.to_string(),
                    "places are {field}",
                );
                None
            }
        }
    }

    pub(super) fn limits(&mut self, section: &Section<'_>) -> Limits {
        let mut limits = Limits::default();
        for (key, time) in [
            ("head_time", &mut limits.head_time),
            ("idle_time", &mut limits.idle_time),
            ("body_time", &mut limits.body_time),
        ] {
            let Some(text) = section.text(key) else { continue };
            match units::seconds(&text.value).filter(|time| !time.is_zero()) {
                Some(written) => *time = written,
                None => {
                    let message = format!("`{}` is no time that a client could have", text.value);
                    let remedy = "write it like \"20 seconds\" or \"2 minutes\"";
                    self.error(&text.span, message, "a number above zero and its unit", remedy);
                }
            }
        }
        if let Some(text) = section.text("head_size") {
            match units::size(&text.value).filter(|size| (8 << 10..=16 << 20).contains(size)) {
                Some(size) => limits.head_size = size,
                None => {
                    let message = format!("the head of a request cannot be bounded by `{}`", text.value);
                    self.error(&text.span, message, "from 8 KiB to 16 MiB", "write it like \"64 KiB\"");
                }
            }
        }
        for (key, most) in [("connections", &mut limits.connections), ("requests", &mut limits.requests)] {
            match section.number(key) {
                Some(number) if number.value == 0 => {
                    let message = format!("no client could be answered with `{key} = 0`");
                    self.error(&number.span, message, "at least 1", "leave it out for the ordinary limit");
                }
                Some(number) => *most = number.value,
                None => {}
            }
        }
        limits
    }
}
