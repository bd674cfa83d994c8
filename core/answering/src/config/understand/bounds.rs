//! What is bounded: how logs are written and kept, and what a client may take.

use super::*;

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
        let (Some(name), Some(template)) = (section.text("name"), section.text("template")) else { return };
        let is_taken = self.layouts.iter().any(|layout| layout.name == name.value);
        if is_taken || exedra_reading::logs::layout::is_named(&name.value) || name.value.contains(['{', '\n'])
        {
            let message = format!("a layout cannot be called `{}`", name.value);
            let reason = "names are plain words, and this one may be taken";
            self.error(&name.span, message, reason, "give it a name of its own");
        }
        match Layout::called(&name.value, &template.value) {
            Ok(layout) => self.layouts.push(layout),
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

    fn layout(&mut self, written: &Located<String>) -> Option<Layout> {
        if let Some(own) = self.layouts.iter().find(|layout| layout.name == written.value) {
            return Some(own.clone());
        }
        match Layout::understand(&written.value) {
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
