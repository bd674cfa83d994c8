//! `[service]`: what belongs to no site.

use super::super::document::Section;
use super::super::*;
use super::Reading;
use exedra_common::text::nearest;
use exedra_common::units;

/// For how long a published change is watched unless something else is said, and at most.
const WATCH_CHANGES: Duration = Duration::from_secs(600);
const LONGEST_WATCH: Duration = Duration::from_secs(86_400);

impl Reading<'_> {
    pub(super) fn service(&mut self, section: &Section<'_>) -> Service {
        let console = section.text("console").and_then(|text| self.address(text));
        let loopback = Located { value: SocketAddr::from(([127, 0, 0, 1], 7300)), span: 0..0 };
        let state = self.folder(section.text("state"), "state");
        let logs = match section.text("logs") {
            None => Located { value: state.value.join("logs"), span: 0..0 },
            folder => self.folder(folder, "logs"),
        };
        let time_zone = section.text("time_zone").map_or(TimeZone::UTC, |name| {
            TimeZone::get(&name.value).unwrap_or_else(|_| {
                let names = jiff::tz::db().available().map(|name| name.to_string()).collect::<Vec<_>>();
                let near = nearest(&name.value, names.iter().map(String::as_str));
                let remedy = near.map_or("write a name as in \"Atlantic/Faroe\"".to_owned(), |near| {
                    format!("did you mean `{near}`?")
                });
                self.error(
                    &name.span,
                    format!("there is no time zone `{}`", name.value),
                    "not known",
                    remedy,
                );
                TimeZone::UTC
            })
        });
        let forwarders = section.texts("forwarders").unwrap_or_default();
        let forwarders = forwarders.into_iter().filter_map(|text| self.network(&text)).collect();
        let forwarded_by =
            section.text("forwarded_by").map_or(ForwardedBy::default(), |name| self.forwarded_by(&name));
        let records = section.flag("records").is_none_or(|flag| flag.value);
        let retention = section.text("retention").filter(|text| text.value != "forever").and_then(|text| {
            let span = units::calendar(&text.value);
            if span.is_none() {
                let remedy = "write it as in \"13 months\", \"400 days\" or \"forever\"";
                self.error(
                    &text.span,
                    format!("`{}` is not a length in days, weeks, months or years", text.value),
                    "not understood",
                    remedy,
                );
            }
            span
        });
        let (allowance, at_allowance) = (self.allowance(section), self.at_allowance(section));
        let watch_changes = section.text("watch_changes").and_then(|text| self.time(&text));
        let watch_changes = watch_changes.unwrap_or(WATCH_CHANGES).min(LONGEST_WATCH);
        let take_back = section.flag("take_back").is_some_and(|flag| flag.value);
        let countries = section.text("countries").map(|path| self.folder(Some(path), ""));
        let user = section.text("user");
        let console = console.unwrap_or(loopback);
        let in_the_open = section.flag("console_in_the_open").is_some_and(|flag| flag.value);
        let is_local = console.value.ip().to_canonical().is_loopback();
        let said = section.flag("console_https");
        let console_https = is_https(console.value, said.as_ref().map(|flag| flag.value), in_the_open);
        if !is_local && !console_https && !in_the_open {
            let message = format!("the console on {} can be reached from other machines", console.value);
            let reason = "without HTTPS its sessions are readable by anyone on the network";
            let remedy = "leave out `console_https`, so that it has HTTPS; or, where the network is your own, console_in_the_open = true";
            let place = said.map_or(console.span.clone(), |flag| flag.span);
            self.error(&place, message, reason, remedy);
        }
        let console_hosts = section.texts("console_hosts").unwrap_or_default();
        let console_hosts =
            console_hosts.into_iter().filter_map(|host| self.host(host)).map(|host| host.value).collect();
        Service {
            console,
            console_https,
            console_hosts,
            state,
            logs,
            records,
            retention,
            watch_changes,
            take_back,
            allowance,
            at_allowance,
            time_zone,
            forwarders,
            forwarded_by,
            countries,
            user,
        }
    }

    fn forwarded_by(&mut self, name: &Located<String>) -> ForwardedBy {
        let known = [("Forwarded", ForwardedBy::Forwarded), ("X-Forwarded-For", ForwardedBy::XForwardedFor)];
        match known.into_iter().find(|(known, _)| known.eq_ignore_ascii_case(&name.value)) {
            Some((_, field)) => field,
            None => {
                let message = format!("no proxy is asked for `{}`", name.value);
                let remedy = "write \"Forwarded\" or \"X-Forwarded-For\"";
                self.error(&name.span, message, "only two fields say for whom a proxy asks", remedy);
                ForwardedBy::default()
            }
        }
    }
}

/// Whether the console answers by HTTPS: where anybody else can reach it, unless something else is said.
pub(super) fn is_https(console: SocketAddr, said: Option<bool>, in_the_open: bool) -> bool {
    said.unwrap_or(!console.ip().to_canonical().is_loopback() && !in_the_open)
}
