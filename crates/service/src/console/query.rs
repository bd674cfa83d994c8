//! The scope of a call, from its address: the same words as the client's options.
//!
//! `?site=harbour&last=7+days&only=status%3D404&step=hour&top=20`

use super::failure::Failure;
use crate::access_log::NO_SITE;
use exedra_core::config::{Config, nearest};
use exedra_core::scope::{Scope, filters, period};
use exedra_core::survey::{ReportOptions, Step};

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
    let (mut only, mut without) = (Vec::new(), Vec::new());
    let wrong = |error: &dyn std::fmt::Display| Failure::Wrong(error.to_string());
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
                asked.scope.sites.push(value.into_owned());
            }
            "from" => asked.scope.from = Some(period::instant(&value, zone).map_err(|error| wrong(&error))?),
            "until" => {
                asked.scope.until = Some(period::instant(&value, zone).map_err(|error| wrong(&error))?)
            }
            "last" => {
                asked.scope.from = Some(period::last(&value, now, zone).map_err(|error| wrong(&error))?)
            }
            "only" => only.push(value.into_owned()),
            "without" => without.push(value.into_owned()),
            "step" => {
                asked.step = match value.as_ref() {
                    "minute" => Some(Step::Minute),
                    "hour" => Some(Step::Hour),
                    "day" => None,
                    _ => {
                        return Err(Failure::Wrong(format!(
                            "`{value}` is no step: write minute, hour or day"
                        )));
                    }
                }
            }
            "top" => {
                asked.options.top =
                    value.parse().ok().filter(|top| *top <= 10_000).ok_or_else(|| {
                        Failure::Wrong(format!("`{value}` is no length of a list: 0 to 10000"))
                    })?;
            }
            _ => {
                let known = ["site", "from", "until", "last", "only", "without", "step", "top"];
                let near = nearest(&name, known).map(|near| format!(": did you mean `{near}`?"));
                return Err(Failure::Wrong(format!(
                    "there is no parameter `{name}`{}",
                    near.unwrap_or_default()
                )));
            }
        }
    }
    asked.scope.filters = filters(&only, &without).map_err(|error| wrong(&error))?;
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
        exedra_core::config::understand(text, Path::new("")).unwrap()
    }

    const NOW: i64 = 1_794_000_000_000;

    #[test]
    fn the_words_of_the_clients_options() {
        let query = "site=harbour&from=2026-11-01&until=2026-11-02T12:00:00Z&only=status%3D404&only=status=5*&without=path=/a/*&step=hour&top=7";
        let asked = asked(query, &config(), NOW).unwrap();
        assert_eq!(asked.scope.sites, ["harbour"]);
        assert_eq!((asked.scope.from, asked.scope.until), (Some(1_793_491_200_000), Some(1_793_620_800_000)));
        assert_eq!(asked.scope.filters.len(), 2);
        assert_eq!((asked.step, asked.options.top), (Some(Step::Hour), 7));
    }

    #[rstest]
    #[case("site=harbor", "there is no site `harbor`: did you mean `harbour`?")]
    #[case("form=2026-11-01", "there is no parameter `form`: did you mean `from`?")]
    #[case("from=yesterday", "`yesterday` is no time")]
    #[case("last=7", "`7` is no stretch of time")]
    #[case("only=404", "`404` is no filter")]
    #[case("step=week", "`week` is no step")]
    #[case("top=all", "`all` is no length of a list")]
    #[case("step=minute&from=2020-01-01", "the period is too long for this step")]
    #[case("step=hour", "the period is too long for this step")]
    fn mistakes_say_what_instead(#[case] query: &str, #[case] words: &str) {
        match asked(query, &config(), NOW) {
            Err(Failure::Wrong(said)) => assert!(said.contains(words), "{said}"),
            other => panic!("{other:?}"),
        }
    }
}
