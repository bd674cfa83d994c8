//! The sections of a report that are sums over columns, each one statement that the workers carry out.

use crate::query::{Place, lines_of};
use crate::{Failure, print};
use clap::Args;

/// What `exedra-cluster report` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    place: Place,
}

/// Titles, and what makes the rows under each.
const SECTIONS: [(&str, &str); 8] = [
    (
        "Total",
        "select count(*) as requests, sum(bytes) as bytes, count(distinct visitor) as visitors, min(time) as first, max(time) as last
         from requests",
    ),
    (
        "Days",
        "select every(time, '1 day') as day, count(*) as requests, sum(bytes) as bytes, count(distinct visitor) as visitors
         from requests group by day order by day",
    ),
    (
        "Sites",
        "select site, count(*) as requests, sum(bytes) as bytes, count(distinct visitor) as visitors
         from requests group by site order by requests desc, site",
    ),
    (
        "Statuses",
        "select status, count(*) as requests, sum(bytes) as bytes from requests group by status order by status",
    ),
    (
        "Pages",
        "select path, count(*) as requests, sum(bytes) as bytes from requests where kind = 'page'
         group by path order by requests desc, path limit 20",
    ),
    (
        "Missing",
        "select path, count(*) as requests, count(distinct client) as clients from requests where status = 404
         group by path order by requests desc, path limit 20",
    ),
    (
        "Clients",
        "select client, count(*) as requests, sum(bytes) as bytes from requests where client is not null
         group by client order by requests desc, client limit 20",
    ),
    (
        "Where they came from",
        "select referrer_host, count(*) as requests from requests where referrer_host is not null
         group by referrer_host order by requests desc, referrer_host limit 20",
    ),
];

/// Prints them one after the other.
pub async fn run(options: Options) -> Result<(), Failure> {
    let session = options.place.session().await?;
    for (nth, (title, statement)) in SECTIONS.iter().enumerate() {
        let table = options.place.table(&session, statement).await?;
        let apart = if nth == 0 { "" } else { "\n" };
        print(format!("{apart}{title}\n\n{}", lines_of(&table, &options.place.zone())).as_bytes())?;
    }
    Ok(())
}
