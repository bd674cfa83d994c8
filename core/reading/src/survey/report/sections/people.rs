//! Who comes, from where, with what?

use crate::classify::{agents, countries, referrers};
use crate::survey::plan::Part;
use crate::survey::ranking::Counts;
use crate::survey::report::context::{Context, requests, sent};
use crate::survey::report::section::{Follows, Made, Section, Value};
use crate::survey::visitors_of_entries::Listed;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::{DerivedColumn, TextColumn};

const OF_AGENTS: &[Part] = &[Part::Agents];
const OF_REFERRERS: &[Part] = &[Part::Referrers];

pub(super) const SECTIONS: &[Section] = &[
    Section::new(
        "people_and_crawlers",
        "People, bots and crawlers",
        OF_AGENTS,
        Made::By(people_and_crawlers),
    ),
    Section::new(
        "clients",
        "Clients",
        &[Part::Clients],
        Made::Texts { column: TextColumn::Client, listed: Listed::Clients, of: |survey| &survey.clients },
    )
    .leads(),
    Section::new(
        "users",
        "Who signed in",
        &[Part::Users],
        Made::Follows(Follows::new(
            || TableColumn::of(TextColumn::User),
            Listed::Users,
            |survey| &survey.users,
            |_, user| Some(user.to_owned().into()),
        )),
    ),
    Section::new(
        "countries",
        "Where they are",
        &[Part::Clients],
        Made::Follows(
            Follows::new(
                || TableColumn::of(DerivedColumn::Country),
                Listed::Clients,
                |survey| &survey.clients,
                |context, client| {
                    let country = context.plan.countries.as_ref()?.of_text(client);
                    Some(country.map_or(Value::Borrowed(""), |country| country.to_owned().into()))
                },
            )
            .called("country_name", "name", countries::name),
        ),
    ),
    of_agents(
        "crawlers",
        "Bots and crawlers",
        || TableColumn::of(DerivedColumn::Crawler),
        |agent| agent.crawler.clone().map(Value::from),
        false,
    ),
    of_agents(
        "browsers",
        "Browsers of people",
        || TableColumn::of(DerivedColumn::Browser),
        |agent| agent.browser.clone().map(Value::from),
        true,
    ),
    of_agents(
        "systems",
        "Systems of people",
        || TableColumn::of(DerivedColumn::System),
        |agent| agent.system.clone().map(Value::from),
        false,
    ),
    of_agents(
        "devices",
        "Devices of people",
        || TableColumn::of(DerivedColumn::Device),
        |agent| agent.device.map(Value::from),
        false,
    )
    .on_request(),
    Section::new(
        "agents",
        "Agents",
        OF_AGENTS,
        Made::Texts { column: TextColumn::Agent, listed: Listed::Agents, of: |survey| &survey.agents },
    )
    .on_request(),
    Section::new(
        "linking_sites",
        "Sites that link here",
        OF_REFERRERS,
        Made::Follows(
            Follows::new(
                || TableColumn::of(DerivedColumn::ReferrerHost).named("referrer_host", "site"),
                Listed::Linking,
                |survey| &survey.referrers,
                |context, referrer| context.foreign_host(referrer).map(Value::from),
            )
            .without(|survey| &survey.embeds),
        ),
    ),
    Section::new(
        "linking_pages",
        "Pages that link here, or show files from here",
        OF_REFERRERS,
        Made::Follows(Follows::new(
            || TableColumn::of(TextColumn::Referrer),
            Listed::Referrers,
            |survey| &survey.referrers,
            |context, referrer| context.foreign_host(referrer).map(|_| Value::from(referrer.to_owned())),
        )),
    )
    .on_request(),
    Section::new(
        "search_phrases",
        "Searched for",
        OF_REFERRERS,
        Made::Follows(Follows::new(
            || TableColumn::of(DerivedColumn::SearchPhrase),
            Listed::Referrers,
            |survey| &survey.referrers,
            |context, referrer| {
                context.foreign_host(referrer)?;
                referrers::search_phrase(referrer).map(Value::from)
            },
        )),
    ),
];

/// A list of what agents say of themselves.
const fn of_agents(
    name: &'static str,
    title: &'static str,
    column: fn() -> TableColumn,
    said: fn(&agents::Agent) -> Option<Value>,
    names_rare: bool,
) -> Section {
    Section::new(name, title, OF_AGENTS, Made::Follows(Follows::of_agents(column, said, names_rare)))
}

/// Requests of people and of programs that ask by themselves.
fn people_and_crawlers(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let (people, programs, all) = (survey.by_people, survey.by_programs, survey.total.counts);
    let untold = Counts {
        requests: all.requests.saturating_sub(people.requests + programs.requests),
        bytes: all.bytes.saturating_sub(people.bytes.saturating_add(programs.bytes)),
    };
    let rows =
        [("people", people), ("bots and crawlers", programs), ("not known: the line names no agent", untold)];
    let mut table = Table::new("", "", [TableColumn::text("who", "who"), requests(), sent()]);
    // Where no line names any, there is nothing to tell apart.
    if untold.requests < all.requests {
        for (who, counts) in rows.into_iter().filter(|(_, counts)| counts.requests > 0) {
            table.push([Cell::from(who), counts.requests.into(), counts.bytes.into()]);
        }
    }
    table.total = context.totals(&table);
    table
}
