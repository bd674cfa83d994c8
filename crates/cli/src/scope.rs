//! Which requests a command is about: period and filters, as the console's address has them too.

use crate::failure::Failure;
use clap::Args;
use exedra_answering::config::Config;
use exedra_common::scope::{Scope, ScopeWords};
use exedra_reading::classify::Countries;
use jiff::tz::TimeZone;
use std::path::PathBuf;
use std::sync::Arc;

/// Which requests are meant.
#[derive(Args, Clone)]
pub struct ScopeOptions {
    /// Whose days and hours, as in Atlantic/Faroe; the configuration's, or UTC
    #[arg(long, value_name = "ZONE")]
    pub time_zone: Option<String>,
    /// First instant or day that counts, as in 2026-09-14 or 2026-09-14T08:30
    #[arg(long, value_name = "TIME", alias = "since")]
    pub from: Option<String>,
    /// First instant or day that no longer counts
    #[arg(long, value_name = "TIME")]
    pub until: Option<String>,
    /// A stretch up to now, as in "7 days" or 1h
    #[arg(long, value_name = "LENGTH", conflicts_with = "from")]
    pub last: Option<String>,
    /// One day, as in 2026-09-14, today or yesterday
    #[arg(long, value_name = "DAY", conflicts_with_all = ["from", "until", "last"])]
    pub day: Option<String>,
    /// The week (Monday to Sunday) of a day, or as in 2026-W38
    #[arg(long, value_name = "WEEK", conflicts_with_all = ["from", "until", "last", "day"])]
    pub week: Option<String>,
    /// One month, as in 2026-09
    #[arg(long, value_name = "MONTH", conflicts_with_all = ["from", "until", "last", "day", "week"])]
    pub month: Option<String>,
    /// Only these hours of the week, as in "Mon 8", "Mon-Fri 8-17" or 22-5; may be repeated
    #[arg(long, value_name = "HOURS")]
    pub hours: Vec<String>,
    /// Only this site; may be repeated
    #[arg(long, value_name = "NAME")]
    pub site: Vec<String>,
    /// Only what this machine wrote; may be repeated
    #[arg(long, value_name = "NAME")]
    pub server: Vec<String>,
    /// Count only these requests, as in status=404,410, 'status>=500', 'duration>5 s' or 'path=/notices/*'
    #[arg(long, value_name = "FILTER")]
    pub only: Vec<String>,
    /// Leave these requests out
    #[arg(long, value_name = "FILTER")]
    pub without: Vec<String>,
    /// Count people only
    #[arg(long, conflicts_with = "crawlers")]
    pub people: bool,
    /// The file that knows countries of addresses (MMDB), instead of the configuration's
    #[arg(long, value_name = "FILE")]
    pub countries: Option<PathBuf>,
    /// Count bots and crawlers only
    #[arg(long)]
    pub crawlers: bool,
}

impl ScopeOptions {
    /// Whether nothing is left out.
    pub fn is_everything(&self) -> bool {
        let texts = [&self.from, &self.until, &self.last, &self.day, &self.week, &self.month];
        let lists = [&self.site, &self.server, &self.hours, &self.only, &self.without];
        texts.iter().all(|text| text.is_none())
            && lists.iter().all(|list| list.is_empty())
            && !self.people
            && !self.crawlers
    }

    /// Whose days and hours.
    pub fn zone(&self, config: Option<&Config>) -> Result<TimeZone, Failure> {
        match (&self.time_zone, config) {
            (Some(name), _) => TimeZone::get(name).map_err(|_| {
                Failure(format!("there is no time zone `{name}`: write a name as in Atlantic/Faroe"))
            }),
            (None, Some(config)) => Ok(config.service.time_zone.clone()),
            (None, None) => Ok(TimeZone::UTC),
        }
    }

    /// What knows countries of addresses, where anything does.
    pub fn countries(&self, config: Option<&Config>) -> Result<Option<Arc<Countries>>, Failure> {
        let configured = || config.and_then(|config| Some(&config.service.countries.as_ref()?.value));
        let Some(path) = self.countries.as_ref().or_else(configured) else {
            let asked = self.only.iter().chain(&self.without).find(|filter| filter.starts_with("country="));
            return match asked {
                Some(filter) => Err(Failure(format!(
                    "nothing here knows countries of addresses, as `{filter}` needs: name a file in the MMDB format with --countries"
                ))),
                None => Ok(None),
            };
        };
        let opened = exedra_service::access::countries::open(path);
        let words = |error| Failure(format!("the countries in {} cannot be read: {error}", path.display()));
        opened.map(Arc::new).map(Some).map_err(words)
    }

    /// The same as parameters of a call of the API.
    pub fn query(&self) -> Result<Vec<(&'static str, String)>, Failure> {
        if self.countries.is_some() {
            return Err(Failure("--countries is about logs: the service has a file of its own".to_owned()));
        }
        let texts = [
            ("day", &self.day),
            ("week", &self.week),
            ("month", &self.month),
            ("last", &self.last),
            ("from", &self.from),
            ("until", &self.until),
            ("time_zone", &self.time_zone),
        ];
        let lists = [
            ("site", &self.site),
            ("server", &self.server),
            ("hours", &self.hours),
            ("only", &self.only),
            ("without", &self.without),
        ];
        let texts = texts.into_iter().filter_map(|(name, text)| Some((name, text.clone()?)));
        let lists = lists
            .into_iter()
            .flat_map(|(name, values)| values.iter().map(move |value| (name, value.clone())));
        let flags = [("people", self.people), ("crawlers", self.crawlers)];
        let flags =
            flags.into_iter().filter(|(_, is_set)| *is_set).map(|(name, _)| (name, "true".to_owned()));
        Ok(texts.chain(lists).chain(flags).collect())
    }

    /// The scope.
    pub fn scope(&self, zone: &TimeZone) -> Result<Scope, Failure> {
        let named = |column: &'static str, values: &[String]| {
            values.iter().map(|value| format!("{column}={value}")).collect::<Vec<_>>()
        };
        let words = ScopeWords {
            day: self.day.clone(),
            week: self.week.clone(),
            month: self.month.clone(),
            hours: self.hours.clone(),
            last: self.last.clone(),
            from: self.from.clone(),
            until: self.until.clone(),
            only: [self.only.clone(), named("site", &self.site), named("server", &self.server)].concat(),
            without: self.without.clone(),
            people: self.people,
            crawlers: self.crawlers,
        };
        Ok(words.understand(jiff::Timestamp::now().as_millisecond(), zone)?)
    }
}
