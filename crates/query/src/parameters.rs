//! Values that stand for `:name` in a statement.
//!
//! A value is a number where it looks like one and else a text; a stretch up to now, as in `7 days`, stands for the instant at which
//! it begins where the name says so: `:since` and `:until`.
//!
//! ```
//! use exedra_query::parameters::Parameters;
//! let mut values = Parameters::new(1_794_633_160_000);
//! values.set("status=404")?;
//! values.set("since=7 days")?;
//! assert_eq!(values.literal("status").unwrap(), "404");
//! assert_eq!(values.literal("since").unwrap(), "'2026-11-07T05:12:40Z'");
//! # Ok::<(), String>(())
//! ```

use exedra_common::units;
use jiff::Timestamp;
use std::collections::BTreeMap;

/// Names that mean an instant, so that a length of time says how long ago.
const INSTANTS: [&str; 2] = ["since", "until"];

/// Values by their names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Parameters {
    now: i64,
    values: BTreeMap<String, String>,
}

impl Parameters {
    /// None yet; `now` is in milliseconds since 1970 UTC.
    pub fn new(now: i64) -> Self {
        Parameters { now, values: BTreeMap::new() }
    }

    /// Takes one that is written `name=value`.
    ///
    /// # Errors
    /// When it is not, in words.
    pub fn set(&mut self, written: &str) -> Result<(), String> {
        match written.split_once('=') {
            Some((name, value)) if is_name(name.trim()) => {
                self.values.insert(name.trim().to_owned(), value.trim().to_owned());
                Ok(())
            }
            _ => Err(format!("`{written}` sets nothing: write name=value, as in since=2026-11-01")),
        }
    }

    /// Takes a value for a name that has none yet.
    pub fn set_usual(&mut self, name: &str, value: &str) {
        self.values.entry(name.to_owned()).or_insert_with(|| value.to_owned());
    }

    /// All values, as they were set.
    pub fn all(&self) -> BTreeMap<String, String> {
        self.values.clone()
    }

    /// The names that have values.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.values.keys().map(String::as_str)
    }

    /// The value of a name, as SQL writes it.
    pub fn literal(&self, name: &str) -> Option<String> {
        let value = self.values.get(name)?;
        let ago = INSTANTS.contains(&name).then(|| units::length(value)).flatten();
        if let Some((length, _)) = ago {
            let millis = i64::try_from(length.as_millis()).unwrap_or(i64::MAX);
            let at = Timestamp::from_millisecond(self.now.saturating_sub(millis)).unwrap_or_default();
            return Some(format!("'{at}'"));
        }
        match value.parse::<f64>() {
            Ok(number)
                if number.is_finite()
                    && value.starts_with(|first: char| first.is_ascii_digit() || first == '-') =>
            {
                Some(value.clone())
            }
            _ => Some(format!("'{}'", value.replace('\'', "''"))),
        }
    }
}

fn is_name(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '_')
}
