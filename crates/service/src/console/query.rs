//! What a call asks for, from its address: the same words as the client's options.
//!
//! `?site=harbour&last=7+days&only=status%3D404&step=hour&top=20`
//!
//! The fields of [`ScopeQuery`], [`SurveyQuery`] and the others are the parameters: what is read, what the API's description lists and
//! what a wrong guess is answered with all follow from them.

use super::failure::Failure;
use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use exedra_answering::config::Config;
use exedra_common::scope::{Scope, ScopeWords, period};
use exedra_common::text::nearest;
use exedra_reading::survey::plan::USUAL_SLOW;
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{Measure, ReportOptions, Step};
use jiff::tz::TimeZone;
use serde::de::{DeserializeOwned, Error};
use serde::{Deserialize, Deserializer};
use utoipa::IntoParams;
use utoipa::openapi::path::Parameter;
use utoipa::openapi::{RefOr, Schema};

/// Which sites are asked about.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct SitesQuery {
    /// name of a site; may be repeated
    pub site: Vec<String>,
}

/// Which requests are meant.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ScopeQuery {
    /// name of a site; may be repeated
    pub site: Vec<String>,
    /// one day: `2026-09-14`, `today` or `yesterday`
    pub day: Option<String>,
    /// the week of a day, or as in `2026-W38`
    pub week: Option<String>,
    /// one month, as in `2026-09`
    pub month: Option<String>,
    /// first instant or day that counts
    pub from: Option<String>,
    /// first instant or day that no longer counts
    pub until: Option<String>,
    /// a stretch up to now, as in `7 days` or `1h`
    pub last: Option<String>,
    /// hours of the week, as in `Mon 8` or `Mon-Fri 8-17`; may be repeated
    pub hours: Vec<String>,
    /// a filter of what is counted, as in `status>=500`; may be repeated
    pub only: Vec<String>,
    /// a filter of what is left out; may be repeated
    pub without: Vec<String>,
    /// only people
    #[serde(deserialize_with = "flag")]
    pub people: bool,
    /// only bots and crawlers
    #[serde(deserialize_with = "flag")]
    pub crawlers: bool,
    /// name of a machine that wrote a log; may be repeated
    pub server: Vec<String>,
    /// whose days and hours, as in `Atlantic/Faroe`; the configuration's unless said
    pub time_zone: Option<String>,
}

/// Which findings are told.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct FindingsQuery {
    /// what a finding must weigh to be told: people it touches, or as many times 10 MB; 10 unless said
    pub least: Option<f64>,
}

/// What is counted of them, and how much of it is shown.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct SurveyQuery {
    /// a section, or all of a question; may be repeated; everything unless said
    pub show: Vec<String>,
    /// minute, hour or day
    #[serde(deserialize_with = "step")]
    #[param(value_type = Option<String>)]
    pub step: Option<Step>,
    /// length of the lists
    #[serde(deserialize_with = "length")]
    pub top: Option<usize>,
    /// how many referrers stand under each missing page
    #[serde(deserialize_with = "length")]
    pub referrers: Option<usize>,
    /// what lists are ranked by: requests, visitors, bytes or time
    #[serde(deserialize_with = "measure")]
    #[param(value_type = Option<String>)]
    pub by: Option<Measure>,
    /// another period beside this one: `previous`, or as in `2026-W38`
    pub against: Option<String>,
    /// a request that takes longer is slow, as in `500 ms`; `1s` unless said
    #[serde(deserialize_with = "slow")]
    #[param(value_type = Option<String>)]
    pub slow: Option<u64>,
    /// addresses are cut to their networks, and names of users left out
    #[serde(deserialize_with = "flag")]
    pub mask: bool,
}

/// How a series is cut.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct SeriesQuery {
    /// minute, hour or day; day unless said
    #[serde(deserialize_with = "step")]
    #[param(value_type = Option<String>)]
    pub step: Option<Step>,
}

/// Which single requests are given, and what of each.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct RequestsQuery {
    /// a column that is given of each; may be repeated
    pub columns: Vec<String>,
    /// the order: `time`, the newest last; or a column of figures, the greatest first
    pub by: Option<String>,
    /// how many at most: 200 unless said
    #[serde(deserialize_with = "length")]
    pub top: Option<usize>,
    /// how many of the first in that order are left out: those of the pages before
    #[serde(deserialize_with = "length")]
    pub skip: Option<usize>,
    /// addresses are cut to their networks, and names of users left out
    #[serde(deserialize_with = "flag")]
    pub mask: bool,
}

/// What listeners are told of requests that come in.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct EventsQuery {
    /// a column that is given of each; may be repeated: all of them where there is none, and of fewer requests at a time
    pub columns: Vec<String>,
    /// addresses are cut to their networks, and names of users left out
    #[serde(deserialize_with = "flag")]
    pub mask: bool,
}

/// Whose trail is given, and how much of it.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct TrailQuery {
    /// the client: an address, or a network as in `192.0.2.0/24`
    #[param(required = true)]
    pub client: String,
    /// how many visits, the last ones: 100 unless said
    #[serde(deserialize_with = "length")]
    pub visits: Option<usize>,
    /// how many steps of each, the first ones: 100 unless said
    #[serde(deserialize_with = "length")]
    pub steps: Option<usize>,
}

/// Which bursts are told of.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct PreludesQuery {
    /// of what: `5xx`, `4xx`, a status as `404`, `slow`, `all`, or a stretch as in `2026-09-14T10:00..2026-09-14T10:20`; `5xx`
    /// unless said
    pub of: Option<String>,
    /// how many bursts at most: 3 unless said
    #[serde(deserialize_with = "length")]
    pub top: Option<usize>,
    /// a request that takes longer is slow, as in `500 ms`; `1s` unless said
    #[serde(deserialize_with = "slow")]
    #[param(value_type = Option<String>)]
    pub slow: Option<u64>,
    /// no client is named
    #[serde(deserialize_with = "flag")]
    pub mask: bool,
}

/// Which errors are given.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ErrorsQuery {
    /// how many different ones at most: 200 unless said
    #[serde(deserialize_with = "length")]
    pub top: Option<usize>,
}

/// In which form a report is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ReportForm {
    /// one file for a browser
    Html,
    /// everything, for programs
    Json,
    /// one section, for spreadsheets
    Csv,
}

/// A call that says nothing but which requests are meant.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct NothingMore {}

/// Which question is asked about.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ProgressQuery {
    /// the name that was given to the question
    pub id: String,
}

/// In which form the rows of an answer are given.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum QueryForm {
    /// comma-separated values
    Csv,
    /// one JSON object on each line
    Ndjson,
    /// Parquet
    Parquet,
}

impl QueryForm {
    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            QueryForm::Csv => "text/csv; charset=utf-8",
            QueryForm::Ndjson => "application/x-ndjson",
            QueryForm::Parquet => "application/vnd.apache.parquet",
        }
    }
}

/// Which changes are given.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct BeforeNumber {
    /// only those before the one of this number
    pub before: Option<i32>,
}

/// Which part of the alerts' history is given.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct HistoryQuery {
    /// only that of this alert
    pub alert: Option<String>,
    /// only what comes before the line of this number
    pub before: Option<i32>,
}

/// How much is weighed.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct WeighingQuery {
    /// how much of the files is encoded, as in `4 MB`: 1 MiB where it is not said
    #[serde(deserialize_with = "size")]
    #[param(value_type = Option<String>)]
    pub sample: Option<u64>,
}

/// On what an alert is tried.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct TrialQuery {
    /// a stretch up to now, as in `30 days`, which it is where it is not said
    #[serde(deserialize_with = "slow")]
    #[param(value_type = Option<String>)]
    pub last: Option<u64>,
}

/// Which imports are listed.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ImportsQuery {
    /// only those listed behind the one of this `id`
    pub behind: Option<String>,
}

/// Which stretch of a log is sent.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RangeQuery {
    /// its first octet, from the beginning of the log before compression
    pub from: u64,
    /// the first octet behind it
    pub until: u64,
    /// lines of it that could not be read
    #[serde(default)]
    pub unread: u64,
}

/// What a call asks for, understood.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// Which requests.
    pub scope: Scope,
    /// Buckets of the timeline.
    pub step: Option<Step>,
    /// Lengths of lists.
    pub options: ReportOptions,
    /// What they are ranked by.
    pub by: Measure,
    /// The same requests of another period.
    pub against: Option<Scope>,
    /// What takes longer is slow, in microseconds.
    pub slow: u64,
    /// Whose days and hours, where not the configuration's.
    pub zone: Option<TimeZone>,
    /// Whether addresses are cut to their networks.
    pub mask: bool,
}

/// The most buckets a timeline may have: the hours of a year and some.
const MOST_BUCKETS: i64 = 10_000;
/// The longest list.
const LONGEST: usize = 10_000;

/// The parameters of a call. A parameter that there is not is an error.
#[derive(Debug)]
pub struct Parameters<T>(pub T);

impl<S: Sync, T: DeserializeOwned + IntoParams> FromRequestParts<S> for Parameters<T> {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        let query = parts.uri.query().unwrap_or_default();
        known(query, T::into_params(|| None))?;
        Ok(Parameters(read(query)?))
    }
}

/// The parameters of a call about some requests: which, and what of them.
#[derive(Debug)]
pub struct Scoped<T>(pub ScopeQuery, pub T);

impl<S: Sync, T: DeserializeOwned + IntoParams> FromRequestParts<S> for Scoped<T> {
    type Rejection = Failure;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Failure> {
        scoped(parts.uri.query().unwrap_or_default())
    }
}

fn scoped<T: DeserializeOwned + IntoParams>(query: &str) -> Result<Scoped<T>, Failure> {
    known(query, ScopeQuery::into_params(|| None).into_iter().chain(T::into_params(|| None)).collect())?;
    Ok(Scoped(read(query)?, read(query)?))
}

/// Whether all parameters of a query are known, and given once where they are no lists.
fn known(query: &str, known: Vec<Parameter>) -> Result<(), Failure> {
    let mut given: Vec<&str> = Vec::new();
    for (name, _) in form_urlencoded::parse(query.as_bytes()) {
        let Some(parameter) = known.iter().find(|known| known.name == name) else {
            let names = || known.iter().map(|known| known.name.as_str());
            let near = match nearest(&name, names()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("there is: {}", names().collect::<Vec<_>>().join(", ")),
            };
            return Err(Failure::Wrong(format!("there is no parameter `{name}`: {near}")));
        };
        let is_list = matches!(&parameter.schema, Some(RefOr::T(Schema::Array(_))));
        if !is_list && given.contains(&parameter.name.as_str()) {
            return Err(Failure::Wrong(format!("the parameter `{name}` is given more than once")));
        }
        given.push(&parameter.name);
    }
    Ok(())
}

/// Reads a query into the parameters that the fields of `T` are.
fn read<T: DeserializeOwned>(query: &str) -> Result<T, Failure> {
    serde_html_form::from_str(query).map_err(|error| Failure::Wrong(error.to_string()))
}

/// Understands which requests a call means that came at `now` (milliseconds since 1970 UTC), of sites that were chosen; and whose days
/// and hours.
pub fn scope(
    query: ScopeQuery,
    sites: Vec<String>,
    config: &Config,
    now: i64,
) -> Result<(Scope, TimeZone), Failure> {
    let zone = match &query.time_zone {
        Some(name) => TimeZone::get(name).map_err(|_| {
            Failure::Wrong(format!("there is no time zone `{name}`: write a name as in Atlantic/Faroe"))
        })?,
        None => config.service.time_zone.clone(),
    };
    let servers = query.server.iter().map(|server| format!("server={server}"));
    let words = ScopeWords {
        from: query.from,
        until: query.until,
        last: query.last,
        day: query.day,
        week: query.week,
        month: query.month,
        hours: query.hours,
        people: query.people,
        crawlers: query.crawlers,
        only: query.only.into_iter().chain(servers).collect(),
        without: query.without,
    };
    let scope = words.understand(now, &zone).map_err(|error| Failure::Wrong(error.to_string()))?;
    Ok((Scope { sites, ..scope }, zone))
}

/// Understands what is asked for of some requests; links from `own_hosts` are their own.
pub fn asked(
    query: SurveyQuery,
    (scope, zone): (Scope, TimeZone),
    own_hosts: Vec<String>,
    now: i64,
) -> Result<Asked, Failure> {
    let mut options = ReportOptions { top: 100, referrers: 8, own_hosts, ..ReportOptions::default() };
    options.top = query.top.unwrap_or(options.top);
    options.referrers = query.referrers.unwrap_or(options.referrers);
    if !query.show.is_empty() {
        options.shown = Shown::understand(&query.show).map_err(|error| Failure::Wrong(error.to_string()))?;
    }
    let against = match &query.against {
        Some(period) => {
            let (from, until) = period::other(period, (scope.from, scope.until), now, &zone)
                .map_err(|error| Failure::Wrong(error.to_string()))?;
            Some(Scope { from: Some(from), until: Some(until), ..scope.clone() })
        }
        None => None,
    };
    few_buckets(&scope, query.step, now)?;
    Ok(Asked {
        scope,
        step: query.step,
        options,
        by: query.by.unwrap_or_default(),
        against,
        slow: query.slow.unwrap_or(USUAL_SLOW),
        zone: Some(zone),
        mask: query.mask,
    })
}

/// Whether a timeline of a scope does not become too long.
pub fn few_buckets(scope: &Scope, step: Option<Step>, now: i64) -> Result<(), Failure> {
    if let Some(step) = step {
        let length = scope.until.unwrap_or(now) - scope.from.unwrap_or(0);
        if length / step.milliseconds() > MOST_BUCKETS {
            return Err(Failure::Wrong(
                "the period is too long for this step: choose a longer one".to_owned(),
            ));
        }
    }
    Ok(())
}

/// An amount of octets.
fn size<'de, D: Deserializer<'de>>(from: D) -> Result<Option<u64>, D::Error> {
    let text = String::deserialize(from)?;
    let octets = exedra_common::units::size(&text)
        .ok_or_else(|| D::Error::custom(format!("`{text}` is not an amount: write one as in `4 MB`")))?;
    Ok(Some(octets))
}

/// A length of time, in microseconds.
fn slow<'de, D: Deserializer<'de>>(from: D) -> Result<Option<u64>, D::Error> {
    let text = String::deserialize(from)?;
    let length = exedra_common::units::duration(&text).ok_or_else(|| {
        D::Error::custom(format!("`{text}` is not a length of time: write one as in `500 ms` or `2s`"))
    })?;
    Ok(Some(u64::try_from(length.as_micros()).unwrap_or(u64::MAX - 1)))
}

/// A flag is set by its name alone, or by `true`.
fn flag<'de, D: Deserializer<'de>>(from: D) -> Result<bool, D::Error> {
    match String::deserialize(from)?.as_str() {
        "" | "true" => Ok(true),
        "false" => Ok(false),
        other => Err(D::Error::custom(format!("`{other}` is neither true nor false"))),
    }
}

/// The step of a timeline; days are what there is without one.
fn step<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Step>, D::Error> {
    match String::deserialize(from)?.as_str() {
        "minute" => Ok(Some(Step::Minute)),
        "hour" => Ok(Some(Step::Hour)),
        "day" => Ok(None),
        other => Err(D::Error::custom(format!("`{other}` is not a step: write minute, hour or day"))),
    }
}

fn measure<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Measure>, D::Error> {
    match String::deserialize(from)?.as_str() {
        "requests" => Ok(Some(Measure::Requests)),
        "visitors" => Ok(Some(Measure::Visitors)),
        "bytes" => Ok(Some(Measure::Bytes)),
        "time" => Ok(Some(Measure::Time)),
        other => {
            Err(D::Error::custom(format!("`{other}` is no measure: write requests, visitors, bytes or time")))
        }
    }
}

fn length<'de, D: Deserializer<'de>>(from: D) -> Result<Option<usize>, D::Error> {
    let text = String::deserialize(from)?;
    let wrong = || D::Error::custom(format!("`{text}` is not a length of a list: 0 to {LONGEST}"));
    text.parse().ok().filter(|length| *length <= LONGEST).map(Some).ok_or_else(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::path::Path;

    fn config() -> Config {
        let text = "[service]\ntime_zone = \"Atlantic/Faroe\"\n[[listener]]\naddress = \"127.0.0.1:0\"\n\
                    [[site]]\nname = \"harbour\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n";
        exedra_answering::config::understand(text, Path::new("")).unwrap()
    }

    fn understood(query: &str) -> Result<Asked, Failure> {
        let Scoped(about, query) = scoped::<SurveyQuery>(query)?;
        let sites = about.site.clone();
        asked(query, scope(about, sites, &config(), NOW)?, Vec::new(), NOW)
    }

    const NOW: i64 = 1_794_000_000_000;

    #[test]
    fn the_words_of_the_clients_options() {
        let query = "site=harbour&from=2026-11-01&until=2026-11-02T12:00:00Z&only=status%3D404&only=status=5xx&without=path=/a/*&step=hour&top=7";
        let asked = understood(query).unwrap();
        assert_eq!(asked.scope.sites, ["harbour"]);
        assert_eq!((asked.scope.from, asked.scope.until), (Some(1_793_491_200_000), Some(1_793_620_800_000)));
        assert_eq!(asked.scope.filters.to_string(), "status=404,5xx !path=/a/*");
        assert_eq!((asked.step, asked.options.top), (Some(Step::Hour), 7));
    }

    /// A flag that is switched off is as if it were not there.
    #[rstest]
    #[case("people", "people=true")]
    #[case("people=", "people")]
    #[case("people=false&crawlers=false", "")]
    fn flags_are_set_by_their_names(#[case] query: &str, #[case] same: &str) {
        assert_eq!(understood(query).unwrap().scope, understood(same).unwrap().scope);
        assert_ne!(understood("people").unwrap().scope, understood("").unwrap().scope);
    }

    #[rstest]
    #[case("form=2026-11-01", "there is no parameter `form`: did you mean `from`?")]
    #[case("from=yesterday", "`yesterday` is not a time")]
    #[case("last=7", "`7` is not a stretch of time")]
    #[case("only=404", "`404` is not a filter")]
    #[case("step=week", "`week` is not a step")]
    #[case("top=all", "`all` is not a length of a list")]
    #[case("by=colour", "`colour` is no measure: write requests, visitors, bytes or time")]
    #[case("against=then", "then")]
    #[case("slow=soon", "`soon` is not a length of time")]
    #[case("time_zone=Mars", "there is no time zone `Mars`")]
    #[case("top=10001", "`10001` is not a length of a list: 0 to 10000")]
    #[case("people=yes", "`yes` is neither true nor false")]
    #[case("day=today&day=yesterday", "`day` is given more than once")]
    #[case("x=1", "there is no parameter `x`: there is: site, day, week, month")]
    #[case("step=minute&from=2020-01-01", "the period is too long for this step")]
    #[case("step=hour", "the period is too long for this step")]
    fn mistakes_say_what_instead(#[case] query: &str, #[case] words: &str) {
        match understood(query) {
            Err(Failure::Wrong(said)) => assert!(said.contains(words), "{said}"),
            other => panic!("{other:?}"),
        }
    }
}
