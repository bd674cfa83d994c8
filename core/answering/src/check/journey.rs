//! Where a visitor comes to who follows redirects through the whole decision: rules, main host, HTTPS, folders.
//!
//! ```
//! use exedra_answering::answer::Tree;
//! use exedra_answering::check::journey::{Journey, follow};
//! use exedra_answering::check::probe::ways;
//! use exedra_answering::config::{SiteId, understand};
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n\
//!             [[site.rules]]\npath = \"/{any*}\"\nredirect = \"/again/\"\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! let visitor = ways(&config, SiteId(0)).remove(0);
//! match follow(&config, visitor, &Tree::default()) {
//!     Journey::Arrived(way, status) => assert!(way.len() <= 2 || status.is_success()),
//!     Journey::Endless(way) => assert!(way.len() > 1),
//! }
//! ```

use super::Disk;
use super::probe::Probe;
use crate::answer::absolute::leads_to;
use crate::answer::{Answer, LettingIn, Step, Trace, answer, answer_traced};
use crate::config::Config;
use http::{StatusCode, header};

/// How many redirects a visitor's browser would follow, at most: one that leads further leads nowhere.
const MOST_HOPS: usize = 20;

/// What became of a visitor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Journey {
    /// Sent so many times, and then answered with this. The addresses on the way, the first included.
    Arrived(Vec<String>, StatusCode),
    /// Sent in a circle, or further and further.
    Endless(Vec<String>),
}

/// Follows a visitor to the end.
pub fn follow(config: &Config, mut probe: Probe, disk: &Disk<'_>) -> Journey {
    let mut way = vec![probe.address()];
    loop {
        let reached = decide(config, &probe, disk);
        if reached.status == StatusCode::INTERNAL_SERVER_ERROR && sends_to_itself(config, &probe, disk) {
            way.push(probe.address());
            return Journey::Endless(way);
        }
        let location = reached.headers.get(header::LOCATION).and_then(|value| value.to_str().ok());
        let Some(location) = location else { return Journey::Arrived(way, reached.status) };
        let address = match location.starts_with('/') {
            false => location.to_owned(),
            true => {
                let port = probe.port.map(|port| format!(":{port}")).unwrap_or_default();
                format!("{}://{}{port}{location}", probe.scheme.as_str(), probe.host)
            }
        };
        let Some(target) = leads_to(config, &address) else {
            way.push(address);
            return Journey::Arrived(way, StatusCode::OK);
        };
        (probe.scheme, probe.port) = (target.scheme, target.port);
        probe.host = target.host.to_owned();
        probe.path = target.path().to_owned();
        probe.query = target.query().map(str::to_owned);
        let address = probe.address();
        let been_there = way.contains(&address);
        way.push(address);
        if been_there || way.len() > MOST_HOPS {
            return Journey::Endless(way);
        }
    }
}

fn decide(config: &Config, probe: &Probe, disk: &Disk<'_>) -> Answer {
    let Ok((answer, ())) = answer(config, probe.facts()).by(&LettingIn(disk));
    answer
}

fn sends_to_itself(config: &Config, probe: &Probe, disk: &Disk<'_>) -> bool {
    let decision = answer_traced(config, probe.facts(), Trace::default());
    let Ok((_, trace)) = decision.by(&LettingIn(disk));
    trace.steps.iter().any(|step| matches!(step, Step::ToItself { .. }))
}
