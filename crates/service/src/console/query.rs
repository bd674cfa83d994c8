//! The scope of a call, from its address: the same words as the client's options.
//!
//! `?site=harbour&last=7+days&only=status%3D404&step=hour&top=20`

use super::failure::Failure;
use crate::logs::access_log::NO_SITE;
use exedra_answering::config::Config;
use exedra_common::scope::{Scope, ScopeWords};
use exedra_common::text::nearest;
use exedra_reading::survey::report::Shown;
use exedra_reading::survey::{ReportOptions, Step};

/// What a call asks for.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// Which requests.
    pub scope: Scope,
    /// Buckets of the timeline.
    pub step: Option<Step>,
    /// Lengths of lists.
    pub options: ReportOptions,
}

/// The most buckets a timeline may have: the hours of a year and some.
const MOST_BUCKETS: i64 = 10_000;

/// Understands the query of a call that came at `now` (milliseconds since 1970 UTC).
pub fn asked(query: &str, config: &Config, now: i64) -> Result<Asked, Failure> {
    let zone = &config.service.time_zone;
    let hosts = config.sites.iter().flat_map(|site| site.hosts.iter().map(|host| host.value.clone()));
    let options =
        ReportOptions { top: 100, referrers: 8, own_hosts: hosts.collect(), ..ReportOptions::default() };
    let mut asked = Asked { options, ..Asked::default() };
    let mut words = ScopeWords::default();
    let (mut sites, mut shown) = (Vec::new(), Vec::new());
    for (name, value) in form_urlencoded::parse(query.as_bytes()) {
        match name.as_ref() {
            "site" => {
                let names = || config.sites.iter().map(|site| site.name.value.as_str()).chain([NO_SITE]);
                if !names().any(|name| name == value) {
                    let near = nearest(&value, names()).map(|near| format!(": did you mean `{near}`?"));
                    return Err(Failure::Wrong(format!(
                        "there is no site `{value}`{}",
                        near.unwrap_or_default()
                    )));
                }
                sites.push(value.into_owned());
            }
            "from" => words.from = Some(value.into_owned()),
            "until" => words.until = Some(value.into_owned()),
            "last" => words.last = Some(value.into_owned()),
            "day" => words.day = Some(value.into_owned()),
            "week" => words.week = Some(value.into_owned()),
            "month" => words.month = Some(value.into_owned()),
            "people" => words.people = true,
            "crawlers" => words.crawlers = true,
            "show" => shown.push(value.into_owned()),
            "only" => words.only.push(value.into_owned()),
            "without" => words.without.push(value.into_owned()),
            "step" => {
                asked.step = match value.as_ref() {
                    "minute" => Some(Step::Minute),
                    "hour" => Some(Step::Hour),
                    "day" => None,
                    _ => {
                        return Err(Failure::Wrong(format!(
                            "`{value}` is not a step: write minute, hour or day"
                        )));
                    }
                }
            }
            "top" => {
                asked.options.top = value.parse().ok().filter(|top| *top <= 10_000).ok_or_else(|| {
                    Failure::Wrong(format!("`{value}` is not a length of a list: 0 to 10000"))
                })?;
            }
            _ => {
                let known = [
                    "site", "day", "week", "month", "last", "from", "until", "only", "without", "people",
                    "crawlers", "show", "step", "top",
                ];
                let near = nearest(&name, known).map(|near| format!(": did you mean `{near}`?"));
                return Err(Failure::Wrong(format!(
                    "there is no parameter `{name}`{}",
                    near.unwrap_or_default()
                )));
            }
        }
    }
    asked.scope = words.understand(now, zone).map_err(|error| Failure::Wrong(error.to_string()))?;
    asked.scope.sites = sites;
    if !shown.is_empty() {
        asked.options.shown = Shown::understand(&shown).map_err(|error| Failure::Wrong(error.to_string()))?;
    }
    if let Some(step) = asked.step {
        let length = asked.scope.until.unwrap_or(now) - asked.scope.from.unwrap_or(0);
        if length / step.milliseconds() > MOST_BUCKETS {
            return Err(Failure::Wrong(
                "the period is too long for this step: choose a longer one".to_owned(),
            ));
        }
    }
    Ok(asked)
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

    const NOW: i64 = 1_794_000_000_000;

    #[test]
    fn the_words_of_the_clients_options() {
        let query = "site=harbour&from=2026-11-01&until=2026-11-02T12:00:00Z&only=status%3D404&only=status=5xx&without=path=/a/*&step=hour&top=7";
        let asked = asked(query, &config(), NOW).unwrap();
        assert_eq!(asked.scope.sites, ["harbour"]);
        assert_eq!((asked.scope.from, asked.scope.until), (Some(1_793_491_200_000), Some(1_793_620_800_000)));
        assert_eq!(asked.scope.filters.to_string(), "status=404,5xx !path=/a/*");
        assert_eq!((asked.step, asked.options.top), (Some(Step::Hour), 7));
    }

    #[rstest]
    #[case("site=harbor", "there is no site `harbor`: did you mean `harbour`?")]
    #[case("form=2026-11-01", "there is no parameter `form`: did you mean `from`?")]
    #[case("from=yesterday", "`yesterday` is not a time")]
    #[case("last=7", "`7` is not a stretch of time")]
    #[case("only=404", "`404` is not a filter")]
    #[case("step=week", "`week` is not a step")]
    #[case("top=all", "`all` is not a length of a list")]
    #[case("step=minute&from=2020-01-01", "the period is too long for this step")]
    #[case("step=hour", "the period is too long for this step")]
    fn mistakes_say_what_instead(#[case] query: &str, #[case] words: &str) {
        match asked(query, &config(), NOW) {
            Err(Failure::Wrong(said)) => assert!(said.contains(words), "{said}"),
            other => panic!("{other:?}"),
        }
    }
}
