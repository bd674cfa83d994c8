//! Statements that ship: the questions that are asked of logs again and again, each ready to be run, looked at and changed.
//!
//! ```
//! use exedra_query::library::{self, KeptStatement};
//! let slow = library::named("slowest-pages").unwrap();
//! assert!(slow.statement.starts_with("select path"));
//! assert_eq!(slow.parameters[0], ("least", "20"));
//! ```

/// A statement with a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeptStatement {
    /// Its name.
    pub name: &'static str,
    /// The question that it answers.
    pub question: &'static str,
    /// The statement.
    pub statement: &'static str,
    /// Usual values of its `:name`s.
    pub parameters: &'static [(&'static str, &'static str)],
}

/// The one of a name.
pub fn named(name: &str) -> Option<&'static KeptStatement> {
    LIBRARY.iter().find(|kept| kept.name == name)
}

/// All of them, what is asked most first.
pub const LIBRARY: &[KeptStatement] = &[
    KeptStatement {
        name: "slowest-pages",
        question: "Which pages take longest?",
        statement: "select path, count(*) as requests, median(duration_ms) as median_ms,
       approx_percentile_cont(duration_ms, 0.9) as p90_ms, max(duration_ms) as most_ms
from requests
where kind = 'page' and duration_ms is not null
group by path
having count(*) >= :least
order by p90_ms desc
limit 20",
        parameters: &[("least", "20")],
    },
    KeptStatement {
        name: "failures-by-minute",
        question: "When do answers fail?",
        statement: "select every(time, '1 minute') as minute, count(*) as failures, count(distinct client) as clients
from requests
where status >= 500
group by minute
order by minute",
        parameters: &[],
    },
    KeptStatement {
        name: "missing-pages-by-referrer",
        question: "Who links to pages that are not there?",
        statement: "select path, coalesce(referrer_host, 'nobody says') as linked_from, count(*) as requests,
       count(distinct client) as clients
from requests
where status = 404 and is_person()
group by path, linked_from
order by requests desc
limit 30",
        parameters: &[],
    },
    KeptStatement {
        name: "bytes-by-day-and-site",
        question: "How much does each site send, day by day?",
        statement: "select every(time, '1 day') as day, site, sum(bytes) as bytes, count(*) as requests
from requests
group by day, site
order by day, site",
        parameters: &[],
    },
    KeptStatement {
        name: "clients-that-repeat",
        question: "Who asks for the same thing again and again?",
        statement: "select client, path, count(*) as requests, min(time) as first, max(time) as last
from requests
group by client, path
having count(*) >= :least
order by requests desc
limit 30",
        parameters: &[("least", "50")],
    },
    KeptStatement {
        name: "uncompressed-text",
        question: "Which texts go out uncompressed?",
        statement: "select path, count(*) as requests, sum(bytes) as bytes
from requests
where encoding is null and status = 200
  and extension in ('html', 'css', 'js', 'json', 'svg', 'txt', 'xml', 'csv')
group by path
order by bytes desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "first-pages",
        question: "Where do visits begin?",
        statement: "select first as page, count(*) as visits
from (
  select visit, first_value(path order by time) as first
  from (select visit_of() as visit, path, time, kind from requests where is_person())
  where kind = 'page'
  group by visit
)
group by page
order by visits desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "hosts-by-status",
        question: "Which hosts are asked for, and how are they answered?",
        statement: "select coalesce(host, 'none') as host, status_class(status) as answered, count(*) as requests
from requests
group by host, answered
order by requests desc
limit 40",
        parameters: &[],
    },
    KeptStatement {
        name: "traffic-by-hour",
        question: "How much is asked for, hour by hour?",
        statement: "select every(time, '1 hour') as hour, count(*) as requests
from requests
group by hour
order by hour",
        parameters: &[],
    },
    KeptStatement {
        name: "visitors-by-day",
        question: "How many people come, day by day?",
        statement: "select every(time, '1 day') as day, count(distinct visitor) as visitors, count(*) as requests
from requests
where is_person()
group by day
order by day",
        parameters: &[],
    },
    KeptStatement {
        name: "slow-hours",
        question: "At what hours does it get slow?",
        statement: "select extract(hour from time) as hour, median(duration_ms) as median_ms,
       approx_percentile_cont(duration_ms, 0.9) as p90_ms, approx_percentile_cont(duration_ms, 0.99) as p99_ms
from requests
where duration_ms is not null
group by hour
order by hour",
        parameters: &[],
    },
    KeptStatement {
        name: "largest-downloads",
        question: "What carries the transfer?",
        statement: "select path, sum(bytes) as bytes, count(*) as requests, count(distinct client) as clients
from requests
group by path
order by bytes desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "crawlers",
        question: "Which programs come, and what do they take?",
        statement: "select crawler, count(*) as requests, sum(bytes) as bytes, count(distinct path) as paths,
       sum(case when status >= 400 then 1 else 0 end) as errors
from requests
where crawler is not null
group by crawler
order by requests desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "embedding-sites",
        question: "Which other sites show our files?",
        statement: "select referrer_host, count(*) as requests, sum(bytes) as bytes
from requests
where kind in ('asset', 'download') and referrer_host is not null and referrer_host <> host
group by referrer_host
order by bytes desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "search-phrases",
        question: "What did people search for before they came?",
        statement: "select search_phrase, count(*) as requests
from requests
where search_phrase is not null
group by search_phrase
order by requests desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "redirects",
        question: "Which addresses are redirected, and are people sent on?",
        statement: "select path, status, status_words(status) as answered, count(*) as requests, count(distinct client) as clients
from requests
where status in (301, 302, 303, 307, 308)
group by path, status
order by requests desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "networks",
        question: "Which networks do the requests come from?",
        statement: "select network(client) as network, country, count(*) as requests, count(distinct client) as clients,
       sum(bytes) as bytes
from requests
group by network, country
order by requests desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "probing",
        question: "Who asks for many things that are not there?",
        statement: "select client, count(distinct path) as missing_paths, count(*) as requests, max(time) as last
from requests
where status in (400, 403, 404, 405)
group by client
having count(distinct path) >= :least
order by missing_paths desc
limit 20",
        parameters: &[("least", "10")],
    },
    KeptStatement {
        name: "busiest-minutes",
        question: "When was the most asked for at once?",
        statement: "select every(time, '1 minute') as minute, count(*) as requests, count(distinct client) as clients
from requests
group by minute
order by requests desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "weekdays-and-hours",
        question: "At what hours of the week do people come?",
        statement: "select weekday(time) as day, extract(hour from time) as hour, count(*) as requests
from requests
where is_person()
group by day, hour
order by min((date_part('dow', time) + 6) % 7), hour",
        parameters: &[],
    },
    KeptStatement {
        name: "browsers-and-systems",
        question: "With what do people look?",
        statement: "select browser, system, count(*) as requests, count(distinct client) as clients
from requests
where is_person()
group by browser, system
order by requests desc
limit 20",
        parameters: &[],
    },
    KeptStatement {
        name: "one-client",
        question: "What did one client do, step by step?",
        statement: "select time, method, path, status, bytes, duration_ms, referrer
from requests
where client = :client
order by time",
        parameters: &[],
    },
];

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Statement;

    #[test]
    fn names_are_plain_and_values_are_of_names_that_there_are() {
        for kept in LIBRARY {
            assert!(
                kept.name.chars().all(|letter| letter.is_ascii_lowercase() || letter == '-'),
                "{}",
                kept.name
            );
            assert_eq!(LIBRARY.iter().filter(|other| other.name == kept.name).count(), 1, "{}", kept.name);
            let names = Statement::names(kept.statement);
            for (name, _) in kept.parameters {
                assert!(names.iter().any(|known| known == name), "{}: {name}", kept.name);
            }
        }
    }
}
