//! Alerts: conditions over the last minutes.

use super::*;
use crate::config::alerts::{Alert, Bound, Condition, Figure, Present, What, When};
use crate::config::recipients::Recipient;
use exedra_common::filters::Filters;

/// The longest stretch of a condition, and the longest time that it may have to hold, in minutes.
const LONGEST: i64 = 24 * 60;
/// How long a name may be, in octets.
const LONGEST_NAME: usize = 120;
/// Stands for all requests.
const ALL: &str = "all";
/// What is known of the present only.
const PRESENT: [&str; 6] = ["allowance", "forecast", "certificate", "free_space", "unread", "query"];
/// The stretch that a query is about where nobody says one, in minutes.
const OF_QUERY: i64 = 60;

/// A bound as one writes it.
fn example(what: &What) -> &'static str {
    match what {
        What::Allowance(_) => "\"80 %\"",
        What::Forecast(_) => "\"100 %\"",
        What::Certificate(_) => "\"14 days\"",
        What::FreeSpace(_) => "\"5 GB\"",
        What::Unread(_) => "100",
        What::Query { .. } => "0",
    }
}

/// A part of what is usual: `30 % of usual` is 0.3.
fn usual(item: &Item<'_>) -> Option<f64> {
    let text = item.text()?;
    let percent =
        text.value.strip_suffix("of usual")?.trim().strip_suffix('%')?.trim().parse::<f64>().ok()?;
    (0.0..=10_000.0).contains(&percent).then_some(percent / 100.0)
}

impl Reading<'_> {
    pub(super) fn alerts(&mut self, sections: &[Section<'_>], recipients: &[Recipient]) -> Vec<Alert> {
        let mut all: Vec<Alert> = Vec::new();
        for section in sections {
            let Some(alert) = self.alert(section, recipients) else { continue };
            if all.iter().any(|one| one.name.value == alert.name.value) {
                let message = format!("two alerts are called `{}`", alert.name.value);
                self.error(&alert.name.span, message, "this is the second", "give it a name of its own");
            }
            all.push(alert);
        }
        all
    }

    fn alert(&mut self, section: &Section<'_>, recipients: &[Recipient]) -> Option<Alert> {
        let name = self.name_of(section)?;
        let scope = section.texts("scope").unwrap_or_default();
        let scope: Vec<Option<Filters>> = scope.iter().map(|text| self.filters(text)).collect();
        let when = section.section("when", &mut self.diagnostics);
        let condition = match PRESENT.into_iter().find(|key| when.any(key).is_some()) {
            Some(key) => When::Present(self.present(&when, key)?),
            None => When::Requests(self.watched(&when)?),
        };
        let holds = self.minutes(section.text("holds"), 0..=LONGEST);
        let ends_after = self.minutes(section.text("ends_after"), 1..=LONGEST);
        let tell = self.told(section.texts("tell"), recipients);
        let mut filters = Filters::default();
        for some in scope {
            some?.iter().for_each(|filter| filters.add(filter.clone()));
        }
        Some(Alert {
            name,
            scope: filters,
            holds: holds.unwrap_or(0),
            ends_after: ends_after.unwrap_or(condition.requests().map_or(1, |condition| condition.minutes)),
            when: condition,
            tell,
        })
    }

    /// The name of a section, by which others call it.
    pub(super) fn name_of(&mut self, section: &Section<'_>) -> Option<Located<String>> {
        let name = section.text("name")?;
        if name.value.trim().is_empty() || name.value.len() > LONGEST_NAME {
            let reason = format!("it is empty, or longer than {LONGEST_NAME} octets");
            self.error(&name.span, "this is no name", reason, "write one as in name = \"tide tables fail\"");
            return None;
        }
        Some(name)
    }

    /// What is known of the present only.
    fn present(&mut self, section: &Section<'_>, key: &'static str) -> Option<Present> {
        for other in ["requests", "percentile"]
            .iter()
            .chain(["of_last"].iter().filter(|_| key != "query"))
            .chain(&Figure::ALL.map(|(key, _)| key))
        {
            if let Some(place) = section.place(other) {
                let message = format!("`{other}` has nothing to do with `{key}`");
                self.error(
                    &place,
                    message,
                    "that is about requests",
                    "leave it out, or make it an alert of its own",
                );
            }
        }
        let of = section.text(key)?;
        let name = Some(of.value.clone()).filter(|name| name != ALL);
        let what = match key {
            "allowance" => What::Allowance(name),
            "forecast" => What::Forecast(name),
            "certificate" => What::Certificate(name),
            "unread" => What::Unread(name),
            "query" => {
                let said = section.text("of_last");
                let minutes = if said.is_some() { self.minutes(said, 1..=LONGEST)? } else { OF_QUERY };
                What::Query { name: of.value.clone(), minutes }
            }
            _ => What::FreeSpace(self.folder(Some(of.clone()), "").value),
        };
        let wanted = match what {
            What::Certificate(_) | What::FreeSpace(_) => "under",
            _ => "over",
        };
        let Some(item) = section.any(wanted) else {
            let place = section.place(if wanted == "over" { "under" } else { "over" });
            let place = place.unwrap_or(section.span.clone());
            let message = format!("`{key}` is compared with `{wanted}`");
            self.error(&place, message, "it is missing", format!("write {wanted} = {}", example(&what)));
            return None;
        };
        let text = item.text();
        let text = text.as_ref().map(|text| text.value.as_str());
        let value = match &what {
            What::Allowance(_) | What::Forecast(_) => {
                let percent = text.and_then(|text| text.strip_suffix('%')?.trim().parse::<f64>().ok());
                percent.filter(|percent| (0.0..=1000.0).contains(percent)).map(|percent| percent / 100.0)
            }
            What::Certificate(_) => {
                let time = text.and_then(exedra_common::units::seconds);
                time.map(|time| time.as_secs_f64() / 86_400.0)
            }
            What::FreeSpace(_) => text.and_then(exedra_common::units::size).map(|size| size as f64),
            What::Unread(_) | What::Query { .. } => item.whole().map(|number| number as f64),
        };
        let Some(value) = value else {
            let reason = format!("this is {}", item.in_words());
            let remedy = format!("write it as in {wanted} = {}", example(&what));
            self.error(&item.span, "the bound does not suit the figure", reason, remedy);
            return None;
        };
        Some(Present { what, bound: if wanted == "over" { Bound::Over(value) } else { Bound::Under(value) } })
    }

    fn watched(&mut self, section: &Section<'_>) -> Option<Condition> {
        let keys =
            Figure::ALL.map(|(key, _)| key).into_iter().chain(PRESENT).collect::<Vec<_>>().join("`, `");
        let said: Vec<(Figure, Located<String>)> =
            Figure::ALL.into_iter().filter_map(|(key, figure)| Some((figure, section.text(key)?))).collect();
        let [(figure, of)] = said.as_slice() else {
            let message = format!("a condition has one of `{keys}`");
            let reason = if said.is_empty() { "it has none" } else { "it has more than one" };
            let remedy =
                "write it as in when = { share = \"status=5xx\", over = \"2 %\", of_last = \"5 minutes\" }";
            self.error(&section.span, message, reason, remedy);
            return None;
        };
        let percentile = section.number("percentile");
        let figure = &match (figure, &percentile) {
            (Figure::Duration(_), Some(said)) => {
                let percentile =
                    u8::try_from(said.value).ok().filter(|percentile| (1..=99).contains(percentile));
                if percentile.is_none() {
                    let message = format!("{} is no percentile", said.value);
                    self.error(&said.span, message, "a whole number from 1 to 99", "write percentile = 95");
                }
                Figure::Duration(percentile?)
            }
            (figure, None) => *figure,
            (figure, Some(said)) => {
                let message = "only durations have a percentile";
                let reason = format!("this is about `{}`", of.value);
                self.error(&said.span, message, reason, "leave `percentile` out");
                *figure
            }
        };
        let filters = if of.value == ALL { Some(Filters::default()) } else { self.filters(of) };
        let bound = match (section.any("over"), section.any("under")) {
            (Some(over), None) => match usual(&over) {
                Some(times) => self.of_usual(*figure, &over, times).map(Bound::OverUsual),
                None => self.bound(*figure, &over).map(Bound::Over),
            },
            (None, Some(under)) => match usual(&under) {
                Some(times) => self.of_usual(*figure, &under, times).map(Bound::UnderUsual),
                None => self.bound(*figure, &under).map(Bound::Under),
            },
            (over, _) => {
                let reason = if over.is_some() { "it has both" } else { "it has neither" };
                self.error(&section.span, "a condition has `over` or `under`", reason, "write one of them");
                None
            }
        };
        let Some(of_last) = section.text("of_last") else {
            let remedy = "write it as in of_last = \"5 minutes\"";
            self.error(&section.span, "a condition is about some minutes", "`of_last` is missing", remedy);
            return None;
        };
        let minutes = self.minutes(Some(of_last), 1..=LONGEST);
        let at_least = section.number("requests").map_or(0, |number| number.value);
        Some(Condition { figure: *figure, of: filters?, bound: bound?, minutes: minutes?, at_least })
    }

    pub(super) fn filters(&mut self, text: &Located<String>) -> Option<Filters> {
        match Filters::understand(&[text.value.as_str()], &[]) {
            Ok(filters) => Some(filters),
            Err(error) => {
                let message = format!("`{}` is not a filter", text.value);
                self.error(
                    &text.span,
                    message,
                    error.to_string(),
                    "write one as in \"status=5xx\", or \"all\"",
                );
                None
            }
        }
    }

    /// A part of what is usual, which there is of what adds up.
    fn of_usual(&mut self, figure: Figure, item: &Item<'_>, times: f64) -> Option<f64> {
        let adds_up = matches!(figure, Figure::Number | Figure::Transfer);
        if !adds_up {
            let reason = "only `number` and `transfer` are compared with what is usual";
            self.error(
                &item.span,
                "the bound does not suit the figure",
                reason,
                "write a bound that is fixed",
            );
        }
        adds_up.then_some(times)
    }

    fn bound(&mut self, figure: Figure, item: &Item<'_>) -> Option<f64> {
        let text = item.text();
        let text = text.as_ref().map(|text| text.value.as_str());
        let (value, example) = match figure {
            Figure::Share => {
                let percent = text.and_then(|text| text.strip_suffix('%')?.trim().parse::<f64>().ok());
                let share = percent.filter(|percent| (0.0..=100.0).contains(percent));
                (share.map(|percent| percent / 100.0), "over = \"2 %\"")
            }
            Figure::Transfer => {
                (text.and_then(exedra_common::units::size).map(|size| size as f64), "over = \"5 GB\"")
            }
            Figure::Duration(_) => {
                let time = text.and_then(exedra_common::units::seconds);
                (time.map(|time| time.as_micros() as f64), "over = \"2 seconds\"")
            }
            Figure::Number | Figure::OneClient => (item.whole().map(|number| number as f64), "over = 100"),
        };
        if value.is_none() {
            let reason = format!("this is {}", item.in_words());
            self.error(
                &item.span,
                "the bound does not suit the figure",
                reason,
                format!("write it as in {example}"),
            );
        }
        value
    }

    /// Whole minutes within some.
    fn minutes(
        &mut self,
        text: Option<Located<String>>,
        within: std::ops::RangeInclusive<i64>,
    ) -> Option<i64> {
        let text = text?;
        let minutes = exedra_common::units::seconds(&text.value)
            .filter(|time| time.as_secs().is_multiple_of(60))
            .and_then(|time| i64::try_from(time.as_secs() / 60).ok())
            .filter(|minutes| within.contains(minutes));
        if minutes.is_none() {
            let message = format!("`{}` is not some minutes", text.value);
            let reason = format!("whole minutes from {} to {} are", within.start(), within.end());
            self.error(&text.span, message, reason, "write it as in \"5 minutes\"");
        }
        minutes
    }
}
