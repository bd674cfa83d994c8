//! What follows from a text: the browser from an agent, the kind of a path, the site of a referrer.
//!
//! Each distinct text is looked at once; nothing of this is ever stored, so that a better judgement counts for the past too.
//!
//! - [`agents`]: browser, system and device of people; the name of a program
//! - [`paths`]: kind and extension
//! - [`referrers`]: host and search phrase
//! - [`statuses`]: their reason phrases
//! - [`countries`]: the country of an address, by a file that knows
//!
//! ```
//! use exedra_common::DerivedColumn;
//! use exedra_common::columns::Derive;
//! use exedra_reading::classify::Classifier;
//! let classifier = Classifier::default();
//! assert_eq!(classifier.derive(DerivedColumn::Kind, "/tides.html").as_deref(), Some("page"));
//! assert_eq!(classifier.derive(DerivedColumn::Country, "192.0.2.7"), None, "without a file of countries");
//! ```

pub mod agents;
pub mod countries;
pub mod paths;
pub mod referrers;
pub mod statuses;

pub use countries::Countries;

use exedra_common::DerivedColumn;
use exedra_common::columns::Derive;
use std::borrow::Cow;
use std::sync::Arc;

/// Works out what follows from texts.
#[derive(Debug, Clone, Default)]
pub struct Classifier {
    /// What knows the countries of addresses, where there is a file that does.
    pub countries: Option<Arc<Countries>>,
}

impl Derive for Classifier {
    fn derive<'t>(&'t self, column: DerivedColumn, text: &'t str) -> Option<Cow<'t, str>> {
        let agent = || agents::read(text);
        match column {
            DerivedColumn::Browser => agent().browser.clone().map(Cow::Owned),
            DerivedColumn::System => agent().system.clone().map(Cow::Owned),
            DerivedColumn::Device => agent().device.map(Cow::Borrowed),
            DerivedColumn::Crawler => agent().crawler.clone().map(Cow::Owned),
            DerivedColumn::Kind => Some(Cow::Borrowed(paths::kind(text).name())),
            DerivedColumn::Extension => paths::extension(text).map(Cow::Owned),
            DerivedColumn::ReferrerHost => referrers::host(text).map(Cow::Owned),
            DerivedColumn::SearchPhrase => referrers::search_phrase(text).map(Cow::Owned),
            DerivedColumn::Country => self.countries.as_ref()?.of_text(text).map(Cow::Borrowed),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_common::Column;

    #[test]
    fn closed_lists_of_values_are_those_that_follow() {
        let kinds = Column::from(DerivedColumn::Kind).declaration().values;
        assert_eq!(paths::Kind::ALL.map(paths::Kind::name), kinds);
        let devices = Column::from(DerivedColumn::Device).declaration().values;
        let phone = "Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.0 Mobile/15E148 Safari/604.1";
        let computer = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0";
        let classifier = Classifier::default();
        for agent in [phone, computer] {
            let device = classifier.derive(DerivedColumn::Device, agent).unwrap();
            assert!(devices.contains(&&*device), "{device}");
        }
    }
}
