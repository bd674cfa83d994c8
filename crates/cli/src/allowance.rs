//! `exedra allowance`: this month's transfer against what is allowed, and what is expected of it.

use crate::failure::Failure;
use crate::form::Form;
use crate::out::{ATTENTION, QUIET, STRONG, TROUBLE};
use crate::service::{Service, encoded};
use clap::Args;
use exedra_api::allowances::{Allowances, MonthTransfer};
use exedra_common::figures::{bytes, share};

/// What `exedra allowance` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    service: Service,
    /// Only this site; may be repeated
    #[arg(long, value_name = "NAME")]
    site: Vec<String>,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Asks and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let query: Vec<(&str, String)> = options.site.iter().map(|site| ("site", site.clone())).collect();
    let told: Allowances = options.service.get(&format!("allowances?{}", encoded(&query)))?;
    match options.form {
        Form::Json => crate::out::json(&told)?,
        Form::Text => print(&told),
    }
    Ok(())
}

fn print(told: &Allowances) {
    for (nth, month) in told.of.iter().enumerate() {
        if nth > 0 {
            crate::out::line!();
        }
        let who = month.site.as_deref().unwrap_or("all sites together");
        crate::out::line!("{STRONG}{who}{STRONG:#}  {}  {QUIET}{}{QUIET:#}", sent(month), told.month);
        crate::out::line!("    {}", expected(month));
        if let Some(end) = end(month) {
            crate::out::line!("    {end}");
        }
    }
    if told.of.iter().all(|month| month.allowance.is_none()) {
        crate::out::line!();
        crate::out::line!(
            "{QUIET}No allowance is configured: write allowance = \"200 GB\" in [[site]], or in [service] for all sites together.{QUIET:#}"
        );
    }
}

/// A line for each allowance that is configured: how much is used, and how long it lasts.
pub fn in_short(told: &Allowances) -> Vec<String> {
    let limited = told.of.iter().filter(|month| month.allowance.is_some());
    let line = |month: &MonthTransfer| {
        let who = month.site.as_deref().unwrap_or("all sites together");
        let end = end(month).map_or(String::new(), |end| format!("; {end}"));
        format!("{who}: {}{end}", sent(month))
    };
    limited.map(line).collect()
}

/// The same in as few letters as can be.
pub fn shortest(told: &Allowances) -> Option<String> {
    let part = |month: &MonthTransfer| {
        let allowance = month.allowance?;
        let who = month.site.as_deref().unwrap_or("all sites");
        Some(format!("{who} {} of {}", share(month.sent, allowance), bytes(allowance)))
    };
    let parts: Vec<String> = told.of.iter().filter_map(part).collect();
    (!parts.is_empty()).then(|| format!("this month: {}", parts.join(", ")))
}

fn sent(month: &MonthTransfer) -> String {
    match month.allowance {
        Some(allowance) => {
            format!("{} of {} sent, {}", bytes(month.sent), bytes(allowance), share(month.sent, allowance))
        }
        None => format!("{} sent", bytes(month.sent)),
    }
}

fn expected(month: &MonthTransfer) -> String {
    match &month.forecast {
        Some(forecast) => format!(
            "about {} at the end of the month, nine times out of ten between {} and {}",
            bytes(forecast.expected),
            bytes(forecast.least),
            bytes(forecast.most)
        ),
        None => format!("{QUIET}too few days are recorded to say what is to come{QUIET:#}"),
    }
}

/// When the allowance runs out, or that it lasts.
fn end(month: &MonthTransfer) -> Option<String> {
    let allowance = month.allowance?;
    if month.sent > allowance {
        return Some(format!("{TROUBLE}more has been sent than is allowed{TROUBLE:#}"));
    }
    let forecast = month.forecast.as_ref()?;
    Some(match (&forecast.runs_out, &forecast.earliest) {
        (Some(day), Some(earliest)) if earliest != day => {
            format!("{ATTENTION}runs out about {day}, at the earliest {earliest}{ATTENTION:#}")
        }
        (Some(day), _) => format!("{ATTENTION}runs out about {day}{ATTENTION:#}"),
        (None, Some(earliest)) => {
            format!("lasts as expected; if more is sent than usual it runs out on {earliest}")
        }
        (None, None) => "lasts to the end of the month".to_owned(),
    })
}
