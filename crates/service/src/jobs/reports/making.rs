//! A report made: counted, written to a file, and told in some lines.

use super::page;
use crate::active::Active;
use crate::jobs::messages::{Attachment, Content, Kind, Outgoing};
use crate::logs::view::{OF_OTHER_ZONES, View};
use crate::system::whole::{self, Mode};
use exedra_acting::digest::digest;
use exedra_acting::schedule::days;
use exedra_answering::config::reports::ScheduledReport;
use exedra_common::filters::Filters;
use exedra_common::scope::Scope;
use exedra_common::{Column, TextColumn};
use exedra_reading::survey::report::{Against, Shown};
use exedra_reading::survey::{Part, Parts, Report, ReportOptions, SurveyPlan};
use exedra_store::StoreError;
use exedra_store::records::Counting;
use exedra_store::watching::reports::ReportRun;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::io;
use std::path::{Path, PathBuf};
use thiserror::Error;

/// Among how many paths the pages are looked for that changed most.
const FEW_PAGES: usize = 50;

/// Why there is no report.
#[derive(Debug, Error)]
pub enum NotMade {
    /// The service stops.
    #[error("the service was stopped")]
    Stopped,
    /// A database cannot be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// There is no page for it.
    #[error(transparent)]
    NoPage(#[from] page::NoPage),
    /// It cannot be written.
    #[error("{} cannot be written: {error}", path.display())]
    Write {
        /// Which file.
        path: PathBuf,
        /// What the system says.
        error: io::Error,
    },
}

/// What it is made from.
pub struct Making<'m> {
    /// The records.
    pub view: View<'m>,
    /// What is in force.
    pub active: &'m Active,
    /// The folder in which the service keeps reports.
    pub folder: &'m Path,
    /// How it is counted.
    pub counting: Counting<'m, NotMade>,
}

impl Making<'_> {
    /// Makes a report that is due at an instant, now. Gives what is written down of it, and what is told.
    pub fn make(
        &self,
        report: &ScheduledReport,
        due: Timestamp,
        made_by: &str,
    ) -> Result<(ReportRun, Outgoing), NotMade> {
        let now = Timestamp::now();
        let zone = self.active.config.service.time_zone.clone();
        let (of, before) = days(report.of, due.to_zoned(zone.clone()).date());
        // What there is no section of was refused when the configuration was understood.
        let shown = Shown::understand(&report.show).unwrap_or_default();
        let told = Shown::understand(&["totals", "movers"]).unwrap_or_default();
        let parts: Parts = shown.parts().union(told.parts()).union([Part::Paths].into_iter().collect());
        let plan = SurveyPlan {
            parts,
            countries: self.active.countries.clone(),
            ..SurveyPlan::new(
                self.scope(&report.scope, of, &zone),
                zone.clone(),
                self.view.records.survey_key()?,
            )
        };
        let plan_before = SurveyPlan { scope: self.scope(&report.scope, before, &zone), ..plan.clone() };
        let count = |plan: &SurveyPlan| -> Result<_, NotMade> {
            let (survey, others) = self.view.survey(plan, &self.counting)?;
            Ok((if report.masked { survey.masked(plan.key) } else { survey }, others))
        };
        let (survey, others) = count(&plan)?;
        let (survey_before, _) = count(&plan_before)?;
        let sites = &self.active.config.sites;
        let hosts = sites.iter().flat_map(|site| site.hosts.iter().map(|host| host.value.clone()));
        let options = ReportOptions {
            shown,
            own_hosts: hosts.collect(),
            origins: self.view.records.origins(),
            ..ReportOptions::default()
        };
        let against = Against { scope: &plan_before.scope, survey: &survey_before };
        let mut whole = Report::new(&survey, &plan, &options, Some(against));
        whole.masked = report.masked;
        if others {
            whole.caveats.push(OF_OTHER_ZONES.to_owned());
        }
        let few = ReportOptions { shown: told, top: FEW_PAGES, ..ReportOptions::default() };
        let lines = digest(
            &Report::new(&survey, &plan, &few, Some(against)),
            &Report::new(&survey_before, &plan_before, &few, None),
        );
        let name = &report.name.value;
        let json = serde_json::to_string(&whole)
            .map_err(|error| NotMade::Write { path: self.folder.to_owned(), error: error.into() })?;
        let text = page::page(&json, name, report.language.as_deref())?;
        let file = format!("{}-{}.html", name.replace(' ', "-"), of.0);
        let kept = self.folder.join(format!("{}-{file}", now.as_second()));
        self.write(&kept, &text)?;
        if let Some(folder) = &report.folder {
            self.write(&folder.value.join(&file), &text)?;
        }
        let stretch = in_words(of);
        let summary = format!("{name}, {stretch}\n\n{}\n", lines.join("\n"));
        let run = ReportRun {
            number: 0,
            report: name.clone(),
            due: due.as_second(),
            made: now.as_second(),
            days: format!("{}..{}", of.0, of.1),
            summary: summary.clone(),
            file: Some(kept.display().to_string()),
            octets: i64::try_from(text.len()).unwrap_or(i64::MAX),
            failure: None,
            made_by: made_by.to_owned(),
        };
        let attachment =
            Attachment { name: file, media_type: "text/html; charset=utf-8".to_owned(), path: kept.clone() };
        let data = serde_json::json!({
            "report": name,
            "from": of.0.to_string(),
            "until": of.1.to_string(),
            "summary": lines,
            "file": kept.display().to_string(),
        });
        let content = Content { text: summary, data, attachment: Some(attachment) };
        Ok((run, Outgoing { kind: Kind::Report, subject: format!("{name}: {stretch}"), content }))
    }

    fn write(&self, path: &Path, text: &str) -> Result<(), NotMade> {
        let folder = path.parent().unwrap_or(Path::new(""));
        std::fs::create_dir_all(folder)
            .and_then(|()| whole::replace(path, text.as_bytes(), Mode::Private))
            .map_err(|error| NotMade::Write { path: path.to_owned(), error })
    }

    /// The requests of some days. Sites that a filter names alone are sites of the scope: what is kept of closed days is known by them.
    fn scope(&self, filters: &Filters, (from, until): (Date, Date), zone: &TimeZone) -> Scope {
        let instant =
            |date: Date| date.to_zoned(zone.clone()).ok().map(|time| time.timestamp().as_millisecond());
        let mut scope = Scope { from: instant(from), until: instant(until), ..Scope::default() };
        for filter in filters.iter() {
            let written = filter.to_string();
            let sites =
                written.strip_prefix("site=").filter(|_| filter.column == Column::from(TextColumn::Site));
            let is_site = |name: &&str| self.active.config.site_named(name).is_ok();
            let sites: Vec<&str> = sites.into_iter().flat_map(|sites| sites.split(',')).collect();
            match !sites.is_empty() && scope.sites.is_empty() && sites.iter().all(is_site) {
                true => scope.sites = sites.into_iter().map(str::to_owned).collect(),
                false => scope.filters.add(filter.clone()),
            }
        }
        scope
    }
}

/// Some days, for people.
fn in_words((from, until): (Date, Date)) -> String {
    let last = until.saturating_sub(1.day());
    let whole = |date: Date| date.strftime("%-d %B %Y").to_string();
    match (from == last, from.year() == last.year(), from.month() == last.month()) {
        (true, ..) => from.strftime("%A, %-d %B %Y").to_string(),
        (_, true, true) => format!("{} to {}", from.day(), whole(last)),
        (_, true, false) => format!("{} to {}", from.strftime("%-d %B"), whole(last)),
        _ => format!("{} to {}", whole(from), whole(last)),
    }
}
