//! `exedra trail`: what one client did, in order.
//!
//! - [`show`]: that as a page for the terminal

mod show;

use crate::failure::Failure;
use crate::form::Form;
use crate::scope::ScopeOptions;
use crate::service::{Reach, Service, encoded};
use crate::sources::filtered::Filtered;
use crate::sources::reading;
use crate::sources::{Asked, Progress, SourceOptions};
use clap::Args;
use exedra_common::TextColumn;
use exedra_common::filters::Filter;
use exedra_common::scope::RowFilter;
use exedra_reading::classify::Classifier;
use exedra_reading::trail::{ClientTrail, Keeper, Trail};
use jiff::tz::TimeZone;
use std::io::Write;
use std::sync::Arc;

/// What `exedra trail` takes.
#[derive(Args)]
pub struct Options {
    /// The client: an address, or a network as in 192.0.2.0/24
    #[arg(value_name = "CLIENT")]
    client: String,
    #[command(flatten)]
    sources: SourceOptions,
    #[command(flatten)]
    scope: ScopeOptions,
    /// How many visits are shown, the last ones
    #[arg(long, value_name = "NUMBER", default_value = "10")]
    visits: usize,
    /// How many steps of each visit are shown, the first ones
    #[arg(long, value_name = "NUMBER", default_value = "20")]
    steps: usize,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
    #[command(flatten)]
    reach: Reach,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    if options.sources.sources.is_empty() {
        return of_records(options);
    }
    let config = options.sources.config()?;
    let zone = options.scope.zone(config.as_ref())?;
    let countries = options.scope.countries(config.as_ref())?;
    let mut scope = options.scope.scope(&zone)?;
    scope.filters.narrow(Filter::exactly(TextColumn::Client.into(), &options.client)?);
    let asked = Asked {
        files: options.sources.files(config.as_ref(), None, &scope)?,
        layouts: options.sources.layouts(config.as_ref())?,
        durations: options.sources.durations,
        leaves_open_line: false,
        threads: options.sources.threads(),
    };
    let projection = Keeper::projection().with(scope.columns().collect());
    let progress = Progress::of(&asked.files);
    let classifier = Arc::new(Classifier { countries: countries.clone() });
    let sink = || {
        let filter = RowFilter::new(scope.clone(), Arc::clone(&classifier) as _);
        Filtered::new(filter, Keeper::default(), Keeper::add)
    };
    let mut read = reading::read(&asked, projection, &progress, sink)?;
    drop(progress);
    let mut keeper = Keeper::default();
    read.made.drain(..).for_each(|(share, _)| keeper.merge(share));
    let country = countries.as_ref().and_then(|countries| countries.of_text(&options.client));
    let trail = ClientTrail {
        client: options.client.clone(),
        time_zone: zone.iana_name().unwrap_or("UTC").to_owned(),
        country: country.map(str::to_owned),
        trail: Trail::of(keeper),
    };
    put(options, trail)?;
    read.own_up()
}

/// The trail of the records of the running service, where no log is named.
fn of_records(options: &Options) -> Result<(), Failure> {
    let service = Service::of_sources(&options.sources, &options.reach);
    let mut query = options.scope.query()?;
    query.push(("client", options.client.clone()));
    if options.form == Form::Text {
        query.push(("visits", options.visits.to_string()));
        query.push(("steps", options.steps.to_string()));
    }
    put(options, service.get(&format!("trail?{}", encoded(&query)))?)
}

fn put(options: &Options, trail: ClientTrail) -> Result<(), Failure> {
    match options.form {
        Form::Json => Ok(crate::out::json(&trail)?),
        Form::Text => {
            let trail = ClientTrail { trail: trail.trail.cut(options.visits, options.steps), ..trail };
            let zone = TimeZone::get(&trail.time_zone).unwrap_or(TimeZone::UTC);
            let words = show::page(&trail, &zone, crate::show::fit::width());
            Ok(crate::out::stdout().write_all(words.as_bytes())?)
        }
    }
}
