//! Alerts: conditions over the last minutes.

use super::*;
use crate::config::alerts::{Alert, Bound, Condition, Figure};
use crate::config::recipients::Recipient;
use exedra_common::filters::Filters;

/// The longest stretch of a condition, and the longest time that it may have to hold, in minutes.
const LONGEST: i64 = 24 * 60;
/// Stands for all requests.
const ALL: &str = "all";

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
        let name = section.text("name")?;
        let scope = section.texts("scope").unwrap_or_default();
        let scope: Vec<Option<Filters>> = scope.iter().map(|text| self.filters(text)).collect();
        let when = section.section("when", &mut self.diagnostics);
        let condition = self.watched(&when)?;
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
            ends_after: ends_after.unwrap_or(condition.minutes),
            when: condition,
            tell,
        })
    }

    fn watched(&mut self, section: &Section<'_>) -> Option<Condition> {
        let keys = Figure::ALL.map(|(key, _)| key).join("`, `");
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
        let filters = if of.value == ALL { Some(Filters::default()) } else { self.filters(of) };
        let bound = match (section.any("over"), section.any("under")) {
            (Some(over), None) => self.bound(*figure, &over).map(Bound::Over),
            (None, Some(under)) => self.bound(*figure, &under).map(Bound::Under),
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
