//! Countries of addresses, from a file in the open MMDB format.
//!
//! ```
//! use exedra_reading::classify::Countries;
//! assert!(Countries::understand(b"no such file".to_vec()).is_err());
//! ```

use maxminddb::Reader;
use serde::Deserialize;
use std::net::IpAddr;

/// A file that has been read.
pub struct Countries(Reader<Vec<u8>>);

#[derive(Deserialize)]
struct Entry<'t> {
    #[serde(borrow, default)]
    country: Option<Country<'t>>,
}

#[derive(Deserialize)]
struct Country<'t> {
    #[serde(borrow, default)]
    iso_code: Option<&'t str>,
}

impl Countries {
    /// Understands the octets of a file. The error is for people.
    pub fn understand(octets: Vec<u8>) -> Result<Self, String> {
        Reader::from_source(octets).map(Countries).map_err(|error| error.to_string())
    }

    /// The country of an address or a network as it is written in a log.
    pub fn of_text(&self, client: &str) -> Option<&str> {
        let address = client.split('/').next().unwrap_or(client);
        self.of(address.parse().ok()?)
    }

    /// The country of an address (ISO 3166-1, two letters), where the file knows it.
    pub fn of(&self, address: IpAddr) -> Option<&str> {
        let found = self.0.lookup(address).ok()?;
        let entry: Entry<'_> = found.decode().ok()??;
        entry.country?.iso_code
    }
}

/// Names of countries by their codes, as the zones of the time zone database (public domain) come with them.
const NAMES: &str = include_str!("data/countries.tsv");

/// The name of a country (ISO 3166-1, two letters), if there is one.
///
/// ```
/// use exedra_reading::classify::countries::name;
/// assert_eq!((name("FO"), name("XX")), (Some("Faroe Islands"), None));
/// ```
pub fn name(code: &str) -> Option<&'static str> {
    let lines = NAMES.lines().filter_map(|line| line.split_once('\t'));
    lines.filter(|(known, _)| *known == code).map(|(_, name)| name).next()
}

impl std::fmt::Debug for Countries {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "Countries({})", self.0.metadata().database_type)
    }
}
