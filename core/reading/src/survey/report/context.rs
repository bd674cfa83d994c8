//! What sections of a report are made from.

use super::missing::{Page, missing_pages};
use super::weights::Weights;
use crate::survey::calendar::date_of;
use crate::survey::counted::Survey;
use crate::survey::measure::Measure;
use crate::survey::plan::{Part, SurveyPlan};
use crate::survey::ranking::{Counts, Ranking};
use exedra_common::figures::several;
use exedra_common::tables::{Cell, Rest, Table, TableColumn};
use exedra_common::{Column, NumberColumn, Origin, TextColumn};
use std::sync::OnceLock;

/// A survey, and how it is to be shown.
pub struct Context<'s> {
    /// What was counted.
    pub survey: &'s Survey,
    /// By which plan.
    pub plan: &'s SurveyPlan,
    /// Length of every ranked list.
    pub top: usize,
    /// Referrers under each missing page.
    pub referrers: usize,
    /// What is known of the sources, in their order.
    pub origins: &'s [Origin],
    /// Hosts of the sites themselves.
    pub own_hosts: &'s [String],
    /// What was counted of the period that is put beside it.
    pub before: Option<&'s Survey>,
    /// What entries weigh.
    pub weights: Weights<'s>,
    /// Missing pages, once they have been gathered.
    pub gathered: OnceLock<Vec<(u64, &'s str, Page<'s>)>>,
}

impl<'s> Context<'s> {
    /// Missing pages by what they weigh, and who led there; gathered when somebody first asks.
    pub fn missing(&self) -> &[(u64, &'s str, Page<'s>)] {
        self.gathered.get_or_init(|| missing_pages(self.survey, self.own_hosts, &self.weights, self.top))
    }

    /// Entries of a ranking by the measure that was asked for, with what the rest adds up to.
    pub fn ranked(
        &self,
        name: &str,
        key: TableColumn,
        ranking: &Ranking,
        weight: impl Fn(&str, Counts) -> u64,
    ) -> Table {
        let by = self.plan.by;
        let measure = measure_column(by);
        let bytes = if measure.is_some() { sent().minor() } else { sent() };
        let columns = [key, requests(), bytes].into_iter().chain(measure);
        let mut table = Table::new(name, "", columns);
        table.order = Some(by.figure().to_owned());
        let (first, others) = ranking.top(&weight, self.top);
        for (text, counts) in first {
            // What nothing is known of is counted under an empty text.
            let value = Some(text).filter(|text| !text.is_empty());
            let cells = [value.into(), counts.requests.into(), counts.bytes.into()];
            table.push(cells.into_iter().chain(measured(by, weight(text, counts))));
        }
        let mut left = ranking.let_go();
        others.iter().for_each(|(_, counts)| left.merge(*counts));
        if left.requests > 0 {
            let rows = others.len() as u64;
            table.rest = Rest { rows, cells: vec![Cell::Nothing, left.requests.into(), left.bytes.into()] };
            table.rest.cells.resize(table.columns.len(), Cell::Nothing);
        }
        let let_go = ranking.let_go().requests;
        if let_go > 0 {
            table.unknown.push(format!(
                "{}: too many different ones to keep; {let_go} requests of rare ones are counted only in the rest",
                name
            ));
        }
        table
    }

    /// Everything together, by the columns of a table that have such a total.
    pub fn totals(&self, table: &Table) -> Vec<Cell> {
        let total = self.survey.total.counts;
        let cell = |column: &TableColumn| match &*column.name {
            "requests" => total.requests.into(),
            _ if column.counted_from.as_deref().is_some_and(|from| self.is_unsaid(from)) => Cell::Nothing,
            "bytes" => total.bytes.into(),
            "visitors" => self.survey.visitors.total().into(),
            "time_ms" => {
                self.survey.times.as_ref().map(|times| milliseconds(times.total.counts.bytes)).into()
            }
            _ => Cell::Nothing,
        };
        table.columns.iter().map(cell).collect()
    }

    /// Whether no line says anything of a column that figures are counted from: they are not known then, and not 0.
    pub fn is_unsaid(&self, column: &str) -> bool {
        let said = self.survey.said;
        let is_said = match Column::named(column) {
            Some(Column::Number(NumberColumn::Bytes)) => said.bytes,
            Some(Column::Text(TextColumn::Client)) => said.clients,
            _ => true,
        };
        !is_said && self.survey.total.counts.requests > 0
    }

    /// What is not known, because no line says it.
    fn untold(&self) -> Option<String> {
        let (survey, plan) = (self.survey, self.plan);
        let looked_for = [
            (Part::Clients, !survey.said.clients, "clients"),
            (Part::Agents, (survey.by_people.requests, survey.by_programs.requests) == (0, 0), "agents"),
            (Part::Referrers, survey.referrers.total().requests == 0, "referrers"),
            (Part::Durations, survey.durations.is_empty(), "durations"),
            (Part::Encodings, survey.encodings.is_empty(), "content codings"),
        ];
        let untold = looked_for.iter().filter(|(part, is_empty, _)| plan.parts.has(*part) && *is_empty);
        let untold = untold.map(|(.., name)| *name);
        let untold: Vec<&str> = untold.chain((!survey.said.bytes).then_some("bytes")).collect();
        let any = survey.total.counts.requests > 0 && !untold.is_empty();
        any.then(|| format!("not known, because no line says it: {}", untold.join(", ")))
    }

    /// What is not exact, and what cannot be known.
    pub(super) fn caveats(&self) -> Vec<String> {
        let mut caveats: Vec<String> = self.weights.caveat().into_iter().collect();
        let error = self.survey.visitors.error();
        if error > 0.0 {
            let error = error * 100.0;
            caveats.push(format!("visitors are estimated from a sample; standard error {error:.2} %"));
        }
        let weight = self.survey.visits.weight();
        if weight > 1 {
            let error = self.survey.visits.error() * 100.0;
            caveats.push(format!(
                "visits are estimated from one visitor in {weight}; standard error about {error:.1} %"
            ));
        }
        if let Some((first, last)) = survey_tallied(self.survey) {
            caveats.push(format!(
                "single requests from {first} to {last} are no longer kept: totals, days, hours and statuses count them, lists and visits do not"
            ));
        }
        let undated = self.survey.undated.counts.requests;
        if undated > 0 {
            let requests = several(undated, "request", "requests");
            caveats.push(format!("{requests} without a time: counted, but in no day, hour or visit"));
        }
        caveats.extend(self.untold());
        caveats
    }
}

/// The first day and the last of which only a tally is known.
fn survey_tallied(survey: &Survey) -> Option<(jiff::civil::Date, jiff::civil::Date)> {
    let (first, last) = survey.tallied?;
    Some((date_of(first), date_of(last)))
}

/// The column of requests.
pub fn requests() -> TableColumn {
    TableColumn::sum("requests", "requests")
}

/// The column of bytes.
pub fn sent() -> TableColumn {
    TableColumn::size("bytes", "bytes sent")
}

/// The column of visitors.
pub fn visitors() -> TableColumn {
    TableColumn::sum("visitors", "visitors").counted_from(TextColumn::Client)
}

/// The column of what entries are ranked by, where that is neither requests nor bytes.
pub fn measure_column(by: Measure) -> Option<TableColumn> {
    match by {
        Measure::Requests | Measure::Bytes => None,
        Measure::Visitors => Some(visitors()),
        Measure::Time => Some(TableColumn {
            measure: exedra_common::tables::Measured::Sum,
            ..TableColumn::level("time_ms", "time", exedra_common::columns::Unit::Milliseconds)
        }),
    }
}

/// A weight as the cell of that column.
pub fn measured(by: Measure, weight: u64) -> Option<Cell> {
    match by {
        Measure::Requests | Measure::Bytes => None,
        Measure::Visitors => Some(weight.into()),
        Measure::Time => Some(milliseconds(weight).into()),
    }
}

/// Microseconds in the unit of reports.
pub fn milliseconds(microseconds: u64) -> f64 {
    microseconds as f64 / 1000.0
}
