//! Reports that are made by themselves.

use super::*;
use crate::config::recipients::Recipient;
use crate::config::reports::{Days, Every, ScheduledReport};
use exedra_common::filters::Filters;
use exedra_reading::survey::report::Shown;

impl Reading<'_> {
    pub(super) fn reports(
        &mut self,
        sections: &[Section<'_>],
        recipients: &[Recipient],
    ) -> Vec<ScheduledReport> {
        let mut all: Vec<ScheduledReport> = Vec::new();
        for section in sections {
            let Some(report) = self.report(section, recipients) else { continue };
            if all.iter().any(|one| one.name.value == report.name.value) {
                let message = format!("two reports are called `{}`", report.name.value);
                self.error(&report.name.span, message, "this is the second", "give it a name of its own");
            }
            all.push(report);
        }
        all
    }

    fn report(&mut self, section: &Section<'_>, recipients: &[Recipient]) -> Option<ScheduledReport> {
        let name = section.text("name")?;
        // It is the name of files.
        let is_sound = |letter: char| letter.is_ascii_alphanumeric() || "-_ ".contains(letter);
        if name.value.trim().is_empty() || !name.value.chars().all(is_sound) || name.value.len() > 60 {
            let message = format!("`{}` cannot be the name of a report", name.value);
            let remedy = "write it with letters, digits, blanks, - and _, 60 of them at most";
            self.error(&name.span, message, "files are named by it", remedy);
        }
        let every = section.text("every")?;
        let known = Every::understand(&every.value);
        if known.is_none() {
            let message = format!("`{}` is not when a report can be made", every.value);
            let remedy = "write it like \"day 07:00\", \"monday 07:00\" or \"month 07:00\"";
            self.error(&every.span, message, "which day, and a time of it", remedy);
        }
        let of = section.text("of").map(|of| {
            let days = Days::understand(&of.value);
            if days.is_none() {
                let message = format!("`{}` is no stretch of days", of.value);
                let remedy = "write \"yesterday\", \"last 7 days\", \"last week\" or \"last month\"";
                self.error(&of.span, message, "days before the one on which it is made", remedy);
            }
            days
        });
        let mut scope = Filters::default();
        for text in section.texts("scope").unwrap_or_default() {
            self.filters(&text)?.iter().for_each(|filter| scope.add(filter.clone()));
        }
        let mut show = Vec::new();
        for section in section.texts("show").unwrap_or_default() {
            if let Err(error) = Shown::understand(&[section.value.as_str()]) {
                let message = format!("a report has no section `{}`", section.value);
                self.error(&section.span, message, error.to_string(), "`exedra report --help` lists them");
            }
            show.push(section.value);
        }
        let language = section.text("language").map(|tag| {
            let is_tag = (2..=20).contains(&tag.value.len())
                && tag
                    .value
                    .split('-')
                    .all(|part| !part.is_empty() && part.bytes().all(|octet| octet.is_ascii_alphanumeric()));
            if !is_tag {
                let message = format!("`{}` is no tag of a language", tag.value);
                self.error(&tag.span, message, "as RFC 5646 has them", "write it like \"fo\" or \"en-GB\"");
            }
            tag.value
        });
        let tell = self.told(section.texts("tell"), recipients);
        let folder = section.text("folder").map(|folder| self.folder(Some(folder), ""));
        let masked = section.flag("masked").is_some_and(|flag| flag.value);
        let every = known?;
        let of = of.unwrap_or(Some(every.usual_days()))?;
        Some(ScheduledReport { name, every, of, scope, show, masked, language, tell, folder })
    }
}
