//! `exedra trail`: what one client did, in order.
//!
//! - [`show`]: that as a page for the terminal

mod show;

use crate::failure::Failure;
use crate::form::Form;
use crate::scope::ScopeOptions;
use crate::sources::filtered::Filtered;
use crate::sources::reading::{self, Sink};
use crate::sources::{Asked, Progress, SourceOptions};
use clap::Args;
use exedra_common::scope::RowFilter;
use exedra_common::{Column, Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::classify::Classifier;
use exedra_reading::trail::{Keeper, Place, Trail};
use ipnet::IpNet;
use serde::Serialize;
use std::io::Write;
use std::net::IpAddr;
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
}

/// A trail as a program is given it.
#[derive(Serialize)]
struct Told<'t> {
    client: &'t str,
    country: Option<&'t str>,
    #[serde(flatten)]
    trail: &'t Trail,
}

/// Reads and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    let wanted = Wanted::understand(&options.client);
    let config = options.sources.config()?;
    let zone = options.scope.zone(config.as_ref())?;
    let countries = options.scope.countries(config.as_ref())?;
    let scope = options.scope.scope(&zone)?;
    let asked = Asked {
        files: options.sources.files(config.as_ref(), None, &scope)?,
        layouts: options.sources.layouts(config.as_ref())?,
        durations: options.sources.durations,
        leaves_open_line: false,
        threads: options.sources.threads(),
    };
    let texts = [
        TextColumn::Client,
        TextColumn::Method,
        TextColumn::Path,
        TextColumn::Query,
        TextColumn::Referrer,
        TextColumn::Agent,
    ];
    let columns =
        [NumberColumn::Status, NumberColumn::Bytes, NumberColumn::Duration].map(Column::Number).into_iter();
    let projection: Projection = columns.chain(texts.map(Column::Text)).chain(scope.columns()).collect();
    let progress = Progress::of(&asked.files);
    let taker = || Follower {
        wanted: wanted.clone(),
        verdicts: Vec::new(),
        requests: Filtered::new(RowFilter::new(
            scope.clone(),
            Arc::new(Classifier { countries: countries.clone() }),
        )),
        keeper: Keeper::default(),
    };
    let mut read = reading::read(&asked, projection, &progress, taker)?;
    drop(progress);
    let mut keeper = Keeper::default();
    read.made.drain(..).for_each(|share| keeper.merge(share));
    let trail = Trail::of(keeper);
    let country = countries.as_ref().and_then(|countries| countries.of_text(&options.client));
    let words = match options.form {
        Form::Json => {
            let told = Told { client: &options.client, country, trail: &trail };
            return crate::out::json(&told).map_err(Failure::from).and_then(|()| read.own_up());
        }
        Form::Text => {
            let lengths = show::Lengths { visits: options.visits, steps: options.steps };
            show::page(&options.client, country, &trail, lengths, &zone, crate::show::fit::width())
        }
    };
    crate::out::stdout().write_all(words.as_bytes())?;
    read.own_up()
}

/// Which clients are followed.
#[derive(Debug, Clone, PartialEq)]
enum Wanted {
    /// All addresses of a network; one address is a network too.
    Network(IpNet),
    /// A client that the log gives by another name than its address.
    Named(String),
}

impl Wanted {
    fn understand(text: &str) -> Self {
        let address = text.parse::<IpAddr>().map(|address| IpNet::from(address.to_canonical()));
        match address.or_else(|_| text.parse::<IpNet>()) {
            Ok(network) => Wanted::Network(network),
            Err(_) => Wanted::Named(text.to_owned()),
        }
    }

    fn is(&self, client: &str) -> bool {
        match self {
            Wanted::Network(network) => client
                .parse::<IpAddr>()
                .is_ok_and(|address| network.contains(&address) || network.contains(&address.to_canonical())),
            Wanted::Named(name) => client == name,
        }
    }
}

/// Follows the client through the lines of one thread.
struct Follower {
    wanted: Wanted,
    /// For each code of a client whether it is wanted.
    verdicts: Vec<bool>,
    requests: Filtered,
    keeper: Keeper,
}

impl Sink for Follower {
    type Made = Keeper;

    fn take(
        &mut self,
        place: Place,
        read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize,
    ) -> usize {
        let Follower { wanted, verdicts, requests, keeper } = self;
        let taken = requests.take(read, |batch, row, texts| {
            let clients = texts.of(TextColumn::Client);
            let new = verdicts.len()..clients.len();
            verdicts.extend(new.map(|code| wanted.is(clients.text(code as u32))));
            let client = batch.code(TextColumn::Client, row);
            if client.is_some_and(|client| verdicts[client as usize]) {
                keeper.add(batch, texts, row, Place { row: row as u32, ..place });
            }
        });
        if taken.begins_afresh {
            verdicts.clear();
        }
        taken.octets
    }

    fn finish(self) -> Keeper {
        self.keeper
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("192.0.2.7", "192.0.2.7", true)]
    #[case("192.0.2.7", "192.0.2.70", false)]
    #[case("192.0.2.0/24", "192.0.2.70", true)]
    #[case("192.0.2.7", "::ffff:192.0.2.7", true)]
    #[case("2001:db8::/32", "2001:db8:1::9", true)]
    #[case("2001:DB8:0::1", "2001:db8::1", true)]
    #[case("pier.example", "pier.example", true)]
    #[case("pier.example", "-", false)]
    fn clients(#[case] wanted: &str, #[case] client: &str, #[case] expected: bool) {
        assert_eq!(Wanted::understand(wanted).is(client), expected);
    }
}
