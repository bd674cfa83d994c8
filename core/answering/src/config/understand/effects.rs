//! How effects of rules and folders are read.

use super::rules::Kinship;
use super::*;
use crate::rules::effects::{Changes, CompressChange};
use crate::rules::template::Piece;
use crate::rules::{Answering, Cors, Effects, Lifetime, Limit, Template};
use http::{HeaderName, StatusCode};

/// The status of a redirect, if it is one (RFC 9110 §15.4).
pub(super) fn redirect_status(status: u64) -> Option<StatusCode> {
    let known = [301, 302, 303, 307, 308].into_iter().find(|known| u64::from(*known) == status)?;
    StatusCode::from_u16(known).ok()
}

/// Why nobody can be sent to a target, and what to write instead.
pub(super) fn target_mistake(target: &Template) -> Option<(&'static str, String)> {
    let text = target.text();
    if text.starts_with("//") {
        let remedy = format!("write \"/{}\", or the scheme as well", text.trim_start_matches('/'));
        return Some(("two slashes lead to another host, named by what follows", remedy));
    }
    if text.starts_with('/') {
        return None;
    }
    let host = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    match (host, target.pieces().first()) {
        (Some(host), _) if host.is_empty() || host.starts_with('/') => {
            Some(("it names no host", "write it like \"https://harbour.example/tides/\"".to_owned()))
        }
        (Some(host), _) if names_its_own_host(host) => None,
        (Some(_), _) => Some((
            "what a client wrote would choose the host, and so could send visitors anywhere",
            "write the host out, or {host} for the one that was asked".to_owned(),
        )),
        (None, Some(Piece::Capture(_) | Piece::Fact(_))) => Some((
            "what a client wrote would be the whole address, and so could send visitors anywhere",
            format!("write \"/{}\"", text.trim_start_matches("{path}").trim_start_matches('/')),
        )),
        (None, _) => Some(("paths begin with one slash, everywhere", format!("write \"/{text}\""))),
    }
}

/// Whether the host of a target is written out, or the one that was asked.
fn names_its_own_host(rest: &str) -> bool {
    let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let host =
        host.strip_prefix("{host}").map_or(host, |after| if after.is_empty() { "host" } else { after });
    // `{host}` at the end of a name that is written out is one below it; nothing else may have a place.
    !host.contains('{')
        || host.strip_suffix("{path}").is_some_and(|host| host.is_empty() || !host.contains('{'))
}

impl Reading<'_> {
    /// What a rule does, or what a folder says of everything in it.
    pub(super) fn effects(&mut self, section: &Section<'_>, names: &[Box<str>], kinship: Kinship) -> Effects {
        let mut effects = Effects::default();
        self.answering(section, names, &mut effects);
        if let Some(text) = section.text("serve")
            && let Some(template) = self.template(&text, names)
        {
            if !text.value.starts_with('/') || text.value.starts_with("//") {
                let message = format!("the path `{}` does not begin at the site's root", text.value);
                let remedy = format!("write \"/{}\"", text.value.trim_start_matches('/'));
                self.error(&text.span, message, "paths begin with one slash, everywhere", remedy);
            }
            if let Some((_, query)) = text.value.split_once('?') {
                let message = "what is served has no query";
                self.error(
                    &text.span,
                    message,
                    format!("`?{query}` would be part of a file's name"),
                    "leave it out",
                );
            }
            effects.serve = Some(template);
        }
        if let Some(name) = section.text("login") {
            effects.login = self.realm_named(&name);
        }
        effects.headers = section.any("headers").map(|item| self.headers(&item, names)).unwrap_or_default();
        effects.changes = self.changes(section, kinship);
        effects
    }

    fn changes(&mut self, section: &Section<'_>, kinship: Kinship) -> Changes {
        let limit = section.section("limit", &mut self.diagnostics);
        if limit.is_there() && kinship == Kinship::Folder {
            let message = "a folder's own file sets no limits";
            let remedy = "put the rule into the site's rules";
            self.error(&limit.span, message, "they belong to the service", remedy);
        }
        Changes {
            cache: section.text("cache").and_then(|text| self.lifetime(&text)),
            compress: self.changed_compression(section),
            listing: section.flag("listing").map(|flag| flag.value),
            limits: limit.is_there().then(|| self.limit(&limit)).flatten().into_iter().collect(),
            log: section.flag("log").map(|flag| flag.value),
            cors: self.cors(section),
        }
    }

    fn answering(&mut self, section: &Section<'_>, names: &[Box<str>], effects: &mut Effects) {
        let mut all = Vec::new();
        if let Some(target) = section.text("redirect") {
            all.push(("redirect", target.span.clone()));
            effects.answer = self.redirect(section, &target, names);
        } else {
            for key in ["status", "query"] {
                if let Some(place) = section.place(key) {
                    let message = format!("`{key}` belongs to a redirect");
                    let remedy = "add redirect = \"/…\", or write refuse = 403 for another answer";
                    self.error(&place, message, "this rule has no redirect", remedy);
                }
            }
        }
        if let Some(status) = section.number("refuse") {
            all.push(("refuse", status.span.clone()));
            let known = u16::try_from(status.value).ok().filter(|status| (400..600).contains(status));
            match known.and_then(|status| StatusCode::from_u16(status).ok()) {
                Some(status) => effects.answer = Some(Answering::Refuse(status)),
                None => {
                    let message = format!("{} refuses nothing", status.value);
                    self.error(&status.span, message, "400 to 599", "write refuse = 403");
                }
            }
        }
        if let Some(flag) = section.flag("gone").filter(|flag| flag.value) {
            all.push(("gone", flag.span));
            effects.answer = Some(Answering::Gone);
        }
        if let Some(serve) = section.place("serve") {
            all.push(("serve", serve));
        }
        if let [(first, _), .., (last, place)] = all.as_slice() {
            let message = format!("a rule cannot both `{first}` and `{last}`");
            self.error(place, message, "only one of them could happen", "make two rules, or keep one");
        }
    }

    fn redirect(
        &mut self,
        section: &Section<'_>,
        target: &Located<String>,
        names: &[Box<str>],
    ) -> Option<Answering> {
        let template = self.template(target, names)?;
        if let Some((reason, remedy)) = target_mistake(&template) {
            let message = format!("invalid redirect target `{}`", target.value);
            self.error(&target.span, message, reason, remedy);
        }
        let status = match section.number("status") {
            None => StatusCode::TEMPORARY_REDIRECT,
            Some(number) => match redirect_status(number.value) {
                Some(status) => status,
                None => {
                    let message = format!("{} is not a redirect status", number.value);
                    let reason = "301 and 308 are for good, 302, 303 and 307 for now";
                    self.error(&number.span, message, reason, "write status = 308 or 307");
                    return None;
                }
            },
        };
        let drops_query = section.text("query").is_some_and(|text| {
            if !["keep", "drop"].contains(&text.value.as_str()) {
                let message = format!("a query cannot be `{}`", text.value);
                let remedy = "write query = \"drop\"; to change it, write it into the target: \"/new?day={parameter:d}\"";
                self.error(&text.span, message, "it is kept or dropped", remedy);
            }
            text.value == "drop"
        });
        Some(Answering::Redirect { target: template, status, drops_query })
    }

    fn lifetime(&mut self, text: &Located<String>) -> Option<Lifetime> {
        match text.value.as_str() {
            "never" => Some(Lifetime::Never),
            "ask" => Some(Lifetime::Asking),
            written => match units::seconds(written) {
                Some(time) => Some(Lifetime::For(time)),
                None => {
                    let message = format!("`{written}` is not a cache lifetime");
                    let remedy = "write it like \"1 year\", or \"never\", or \"ask\" for asking each time";
                    self.error(&text.span, message, "a number and its unit", remedy);
                    None
                }
            },
        }
    }

    fn changed_compression(&mut self, section: &Section<'_>) -> Option<CompressChange> {
        let place = section.place("compress")?;
        match section.flag("compress") {
            Some(flag) if !flag.value => {
                return Some(CompressChange { codecs: Some(Vec::new()), ..Default::default() });
            }
            Some(_) => {
                let remedy =
                    "write compress = false, or what is to be different, as in { at_least = \"1 kB\" }";
                self.error(
                    &place,
                    "answers are compressed as the site says anyway",
                    "nothing would change",
                    remedy,
                );
                return None;
            }
            None => {}
        }
        let changed = section.section("compress", &mut self.diagnostics);
        if let Some(effort) = changed.place("effort") {
            let remedy = "put it into [site.compress]";
            self.error(&effort, "`effort` is the same for a whole site", "kept encodings are shared", remedy);
        }
        Some(self.compress_change(&changed))
    }

    fn limit(&mut self, section: &Section<'_>) -> Option<Limit> {
        let mut limit = Limit { id: self.limits, at_once: 10, ..Limit::default() };
        self.limits += 1;
        let mut wrong = |text: &Located<String>, remedy: &str| {
            let message = format!("`{}` is not a limit", text.value);
            self.error(&text.span, message, "an amount in a length of time", remedy);
        };
        if let Some(text) = section.text("requests") {
            limit.requests = units::rate(&text.value);
            if limit.requests.is_none() {
                wrong(&text, "write it like \"5 a second\" or \"100 a minute\"");
            }
        }
        if let Some(text) = section.text("speed") {
            limit.speed = units::speed(&text.value);
            if limit.speed.is_none() {
                wrong(&text, "write it like \"1 MB a second\"");
            }
        }
        let mut number = |key: &str| {
            let number = section.number(key)?;
            match u32::try_from(number.value).ok().filter(|number| *number > 0) {
                Some(number) => Some(number),
                None => {
                    let message = format!("no client could be answered with `{key} = {}`", number.value);
                    self.error(&number.span, message, "at least 1", "write refuse = 403 to refuse all");
                    None
                }
            }
        };
        limit.at_once = number("at_once").unwrap_or(limit.at_once);
        limit.connections = number("connections");
        let is_bounded = ["requests", "speed", "connections"].iter().any(|key| section.place(key).is_some());
        if !is_bounded {
            let remedy = "say how many `requests`, at what `speed`, or on how many `connections`";
            self.error(&section.span, "this limits nothing", "no bound is named", remedy);
            return None;
        }
        Some(limit)
    }

    fn cors(&mut self, section: &Section<'_>) -> Option<Cors> {
        let place = section.place("cors")?;
        let texts = |texts: Option<Vec<Located<String>>>| -> Vec<String> {
            texts.unwrap_or_default().into_iter().map(|text| text.value).collect()
        };
        let cors = match section.texts("cors") {
            Some(origins) => Cors { origins: texts(Some(origins)), ..Cors::default() },
            None => {
                let section = section.section("cors", &mut self.diagnostics);
                Cors {
                    origins: texts(section.texts("origins")),
                    fields: texts(section.texts("fields")),
                    exposed: texts(section.texts("exposed")),
                    with_credentials: section.flag("with_credentials").is_some_and(|flag| flag.value),
                    keep: section.text("keep").and_then(|text| self.time(&text)),
                }
            }
        };
        for origin in &cors.origins {
            let bare = origin.strip_prefix("https://").or_else(|| origin.strip_prefix("http://"));
            if origin != "*" && bare.is_none_or(|host| host.is_empty() || host.contains('/')) {
                let message = format!("`{origin}` is not an origin");
                let remedy = "write it like \"https://partner.example\", or \"*\" for anybody";
                self.error(&place, message, "scheme and host, without a path (RFC 6454)", remedy);
            }
        }
        if cors.origins.is_empty() {
            self.error(
                &place,
                "nobody's pages may read this",
                "no origin is named",
                "name some, or leave `cors` out",
            );
        }
        if cors.with_credentials && cors.origins.iter().any(|origin| origin == "*") {
            let reason = "any web page could read responses meant for the signed-in visitor";
            self.error(
                &place,
                "anybody's pages would read with the visitor's password",
                reason,
                "name the origins",
            );
        }
        for name in cors.fields.iter().chain(&cors.exposed) {
            if name.parse::<HeaderName>().is_err() {
                let message = format!("`{name}` is not a header name");
                self.error(&place, message, "RFC 9110 §5.1", "write it like \"X-Token\"");
            }
        }
        Some(cors)
    }
}
