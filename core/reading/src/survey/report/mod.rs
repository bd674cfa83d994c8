//! A survey in the form that people and programs are given: tables, ranked and cut to length.
//!
//! Each section of a report is a definition that makes one [`Table`] of a survey; the client's text, JSON, CSV and HTML, the
//! API and the console all show these same tables, so their figures cannot differ.
//!
//! - [`sections`]: the definitions, by the questions that they answer; [`section`]: what one is
//! - [`context`]: what they are made from; [`values`]: lists of what follows from texts; [`missing`]: missing pages
//! - [`weights`]: what entries weigh, by the measure they are ranked by
//! - [`lines`]: the lines that were read, and those that could not be

mod context;
mod lines;
mod missing;
mod section;
pub mod sections;
mod values;
mod weights;

pub use context::Context;
pub use lines::{Lines, UnreadLine, UnreadReason};
pub use section::{Made, Section};
pub use sections::{Question, Shown, UnknownSection};

use super::calendar::date_of;
use super::counted::Survey;
use super::measure::Measure;
use super::plan::SurveyPlan;
use super::ranking::Ranking;
use exedra_common::Origin;
use exedra_common::scope::Scope;
use exedra_common::tables::{Table, TableColumn, TableWire, compare};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::OnceLock;
use utoipa::ToSchema;
use values::Values;
use weights::Weights;

/// Version of the form. It grows whenever something is taken away or means something else.
pub const VERSION: u32 = 4;

/// How a survey is to be shown.
#[derive(Debug, Clone)]
pub struct ReportOptions {
    /// Which sections.
    pub shown: Shown,
    /// Length of every ranked list.
    pub top: usize,
    /// Referrers under each missing page.
    pub referrers: usize,
    /// Hosts of the sites themselves, where they are known.
    pub own_hosts: Vec<String>,
    /// What is known of the sources, in their order.
    pub origins: Vec<Origin>,
}

impl Default for ReportOptions {
    fn default() -> Self {
        ReportOptions {
            shown: Shown::everything(),
            top: 1000,
            referrers: 20,
            own_hosts: Vec::new(),
            origins: Vec::new(),
        }
    }
}

impl ReportOptions {
    fn context<'s>(
        &'s self,
        survey: &'s Survey,
        plan: &'s SurveyPlan,
        own_hosts: &'s [String],
        before: Option<&'s Survey>,
    ) -> Context<'s> {
        let weights = Weights::new(survey, plan, plan.by);
        let ReportOptions { top, referrers, origins, .. } = self;
        let (top, referrers, gathered) = (*top, *referrers, OnceLock::new());
        Context { survey, plan, top, referrers, origins, own_hosts, before, weights, gathered }
    }
}

/// Everything counted over one scope.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Report {
    /// Version of this form.
    pub version: u32,
    /// Name of the zone whose days and hours these are.
    pub time_zone: String,
    /// First request (RFC 3339), where there is one.
    pub first: Option<String>,
    /// Last request (RFC 3339), where there is one.
    pub last: Option<String>,
    /// Whether addresses are cut to their networks and names left out.
    #[serde(default)]
    pub masked: bool,
    /// Lines that were read for it; absent where it was made from records.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lines: Option<Lines>,
    /// What the lists are ranked by.
    #[serde(default)]
    pub by: Measure,
    /// Hosts whose links and pages count as the sites' own; where nobody said so, those whose pages load style sheets and
    /// scripts.
    #[serde(default)]
    pub own_hosts: Vec<String>,
    /// The other period, where there is one to compare with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<OtherPeriod>,
    /// The questions with the tables that answer them, in the order in which they are shown.
    pub questions: Vec<QuestionTables>,
    /// The tables, by name.
    #[schema(value_type = BTreeMap<String, TableWire>)]
    pub tables: BTreeMap<String, Table>,
    /// What is not exact, and by how much; and what cannot be known.
    pub caveats: Vec<String>,
}

/// The tables that answer one question.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct QuestionTables {
    /// Its name.
    pub name: String,
    /// Its title for people.
    pub title: String,
    /// Names of tables.
    pub tables: Vec<String>,
    /// Names of tables that are shown only when they are asked for: others say the same more shortly.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further: Vec<String>,
}

/// The other period.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct OtherPeriod {
    /// Its first instant (RFC 3339), where it has one.
    pub from: Option<String>,
    /// The first instant after it (RFC 3339), where there is one.
    pub until: Option<String>,
    /// First request (RFC 3339), where there is one.
    pub first: Option<String>,
    /// Last request (RFC 3339), where there is one.
    pub last: Option<String>,
    /// By day, in order: another period has other days.
    #[schema(value_type = TableWire)]
    pub days: Table,
}

/// Another period to stand beside a report: what it is about, and its survey.
#[derive(Debug, Clone, Copy)]
pub struct Against<'s> {
    /// What it is about.
    pub scope: &'s Scope,
    /// What was counted.
    pub survey: &'s Survey,
}

impl Report {
    /// Makes the report of a survey that was made by a plan, perhaps beside another period.
    pub fn new(
        survey: &Survey,
        plan: &SurveyPlan,
        options: &ReportOptions,
        against: Option<Against<'_>>,
    ) -> Report {
        let own_hosts = values::own_hosts(survey, &options.own_hosts);
        let before = against.map(|against| against.survey);
        let context = options.context(survey, plan, &own_hosts, before);
        let mut tables = tables(&context, &options.shown);
        let mut caveats = context.caveats();
        drop(context);
        let other = against.map(|against| {
            // Whatever is cut from these lists may be in those of the other period, and the other way round.
            let whole = ReportOptions { top: usize::MAX, ..options.clone() };
            let plan = SurveyPlan { scope: against.scope.clone(), ..plan.clone() };
            let context = whole.context(against.survey, &plan, &own_hosts, None);
            let mut before = self::tables(&context, &options.shown);
            caveats.extend(context.caveats().into_iter().map(|caveat| format!("other period: {caveat}")));
            for (name, table) in &mut tables {
                // Other days are not the same days.
                if let Some(other) =
                    before.get(name).filter(|_| !sections::named(name).is_some_and(|found| found.alone))
                {
                    compare(table, other);
                }
            }
            let span = against.survey.span;
            OtherPeriod {
                from: against.scope.from.map(stamp),
                until: against.scope.until.map(stamp),
                first: span.map(|(first, _)| stamp(first)),
                last: span.map(|(_, last)| stamp(last)),
                days: before.remove("days").unwrap_or_default(),
            }
        });
        let caveats_of_tables = tables.values().flat_map(|table| table.unknown.iter().cloned());
        caveats.extend(caveats_of_tables);
        let shown = |question: &Question| {
            let sections = question.sections().iter();
            let made = sections.filter(|section| {
                let least = options.shown.least_rows(section);
                tables.get(section.name).is_some_and(|table| table.rows.len() >= least)
            });
            let (shown, further): (Vec<_>, Vec<_>) = made.partition(|section| options.shown.has(section));
            let names =
                |sections: Vec<&Section>| sections.iter().map(|section| section.name.to_owned()).collect();
            QuestionTables {
                name: question.name().to_owned(),
                title: question.title().to_owned(),
                tables: names(shown),
                further: names(further),
            }
        };
        Report {
            version: VERSION,
            time_zone: plan.zone.iana_name().unwrap_or("UTC").to_owned(),
            first: span(survey, plan).map(|(first, _)| stamp(first)),
            last: span(survey, plan).map(|(_, last)| stamp(last)),
            masked: false,
            lines: None,
            by: plan.by,
            questions: Question::ALL.iter().map(shown).collect(),
            own_hosts,
            against: other,
            tables,
            caveats,
        }
    }

    /// A table; an empty one where it was not made.
    pub fn table(&self, name: &str) -> &Table {
        static NONE: std::sync::LazyLock<Table> = std::sync::LazyLock::new(Table::default);
        self.tables.get(name).unwrap_or(&NONE)
    }

    /// A figure of everything together, where it is known.
    pub fn known_total(&self, name: &str) -> Option<u64> {
        self.table("totals").cell(0, name)?.as_u64()
    }

    /// A figure of everything together; 0 where it is not known.
    pub fn total(&self, name: &str) -> u64 {
        self.table("totals").number(0, name)
    }
}

/// What stands at the head of every report, with as much of it as was counted.
const HEAD: [&str; 4] = ["totals", "statuses", "days", "hours"];

/// Makes every table that is shown. Lists of what follows from texts take long, and so do the others: both are made at the
/// same time.
fn tables(context: &Context<'_>, shown: &Shown) -> BTreeMap<String, Table> {
    let made = |section: &'static Section, values: Option<&Values>| {
        (section.name.to_owned(), make(context, section, values))
    };
    // What was not counted is not shown as nothing.
    let is_counted =
        |section: &&'static Section| section.parts.iter().all(|part| context.plan.parts.has(*part));
    let made_sections = shown.made().filter(|section| is_counted(section) || HEAD.contains(&section.name));
    let (lists, others): (Vec<_>, Vec<_>) =
        made_sections.partition(|section: &&'static Section| section.follows());
    std::thread::scope(|scope| {
        let others = scope.spawn(|| others.iter().map(|section| made(section, None)).collect::<Vec<_>>());
        let values = Values::of(context, &lists);
        let mut tables: BTreeMap<String, Table> =
            lists.iter().map(|section| made(section, Some(&values))).collect();
        tables.extend(others.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        tables.values_mut().for_each(|table| table.forget(|column| context.is_unsaid(column)));
        tables
    })
}

/// The table of a section.
fn make(context: &Context<'_>, section: &Section, values: Option<&Values>) -> Table {
    let mut table = match &section.made {
        Made::Texts { column, listed, of } => {
            let weight = |text: &str, counts| context.weights.of(*listed, text, counts);
            let mut table =
                context.ranked(section.name, TableColumn::of(*column), of(context.survey), weight);
            // Every request has one of these.
            table.total = context.totals(&table);
            table
        }
        Made::Follows(follows) => {
            let nothing = Ranking::default();
            let ranking = values.and_then(|values| values.ranking(section.name)).unwrap_or(&nothing);
            let weight = |text: &str, counts| match values {
                Some(values) => values.weight(section.name, text, counts),
                None => counts.requests,
            };
            let mut table = context.ranked(section.name, (follows.column)(), ranking, weight);
            table.total_of_rows();
            if let (Measure::Visitors | Measure::Time, Some(place)) = (context.plan.by, table.main()) {
                // A visitor may be in several rows.
                table.total[place] = context.totals(&table)[place].clone();
            }
            if let Some((name, title, of)) = follows.called {
                table.insert(1, TableColumn::text(name, title), |row| row[0].as_text().and_then(of).into());
            }
            table
        }
        Made::By(make) => make(context),
    };
    table.name = section.name.to_owned();
    table.title = section.title.to_owned();
    table
}

/// The first instant and the last; of stray days nothing counts, and a day beside them counts as a whole.
fn span(survey: &Survey, plan: &SurveyPlan) -> Option<(i64, i64)> {
    let (first, last) = survey.span?;
    let strays = survey.stray_days();
    let mut near = survey.days.keys().filter(|day| !strays.contains(day));
    let begins = |day: i32| {
        let start = date_of(day).to_zoned(plan.zone.clone()).ok()?;
        Some(start.timestamp().as_millisecond())
    };
    let (Some(&begin), end) = (near.next(), near.next_back()) else { return Some((first, last)) };
    let end = *end.unwrap_or(&begin);
    let is_stray = |day: Option<&i32>| day.is_some_and(|day| strays.contains(day));
    let first = if is_stray(survey.days.keys().next()) { begins(begin)? } else { first };
    let last = if is_stray(survey.days.keys().next_back()) { begins(end + 1)? - 1 } else { last };
    Some((first, last))
}

/// An instant as programs are given it.
fn stamp(time: i64) -> String {
    jiff::Timestamp::from_millisecond(time).unwrap_or_default().to_string()
}
