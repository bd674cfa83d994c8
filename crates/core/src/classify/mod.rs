//! What follows from a text: the browser from an agent, the kind of a path, the site of a referrer.
//!
//! Each distinct text is looked at once; nothing of this is ever stored, so that a better judgement counts for the past too.
//!
//! - [`agents`]: browser, system and device of people; the name of a program
//! - [`paths`]: kind and extension
//! - [`referrers`]: host and search phrase
//! - [`countries`]: the country of an address, by a file that knows

pub mod agents;
pub mod countries;
pub mod paths;
pub mod referrers;

pub use countries::Countries;

use crate::logs::TextColumn;
use std::borrow::Cow;

/// A column whose text follows from that of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Derived {
    /// The browser of a person.
    Browser,
    /// The operating system of a person's device.
    System,
    /// The kind of a person's device: phone, tablet or computer.
    Device,
    /// The name of a program that asks by itself; nothing for people.
    Crawler,
    /// Page, asset, download, feed or other.
    Kind,
    /// What stands after the last dot of a path.
    Extension,
    /// The host that a referrer names.
    ReferrerHost,
    /// What somebody searched for before they came.
    SearchPhrase,
    /// The country of a client (ISO 3166-1), by a file that knows.
    Country,
}

impl Derived {
    /// All of them, in the order in which people are shown them.
    pub const ALL: [Derived; 9] = [
        Derived::Browser,
        Derived::System,
        Derived::Device,
        Derived::Crawler,
        Derived::Kind,
        Derived::Extension,
        Derived::ReferrerHost,
        Derived::SearchPhrase,
        Derived::Country,
    ];

    /// The name people use for it.
    pub fn name(self) -> &'static str {
        match self {
            Derived::Browser => "browser",
            Derived::System => "system",
            Derived::Device => "device",
            Derived::Crawler => "crawler",
            Derived::Kind => "kind",
            Derived::Extension => "extension",
            Derived::ReferrerHost => "referrer_host",
            Derived::SearchPhrase => "search_phrase",
            Derived::Country => "country",
        }
    }

    /// The column it follows from.
    pub fn base(self) -> TextColumn {
        match self {
            Derived::Browser | Derived::System | Derived::Device | Derived::Crawler => TextColumn::Agent,
            Derived::Kind | Derived::Extension => TextColumn::Path,
            Derived::ReferrerHost | Derived::SearchPhrase => TextColumn::Referrer,
            Derived::Country => TextColumn::Client,
        }
    }

    /// What follows from a text of that column, if anything does. Countries are told by a file that knows them.
    pub fn of<'t>(self, text: &'t str, countries: Option<&'t Countries>) -> Option<Cow<'t, str>> {
        let agent = || agents::read(text);
        match self {
            Derived::Browser => agent().browser.clone().map(Cow::Owned),
            Derived::System => agent().system.clone().map(Cow::Owned),
            Derived::Device => agent().device.map(Cow::Borrowed),
            Derived::Crawler => agent().crawler.clone().map(Cow::Owned),
            Derived::Kind => Some(Cow::Borrowed(paths::kind(text).name())),
            Derived::Extension => paths::extension(text).map(Cow::Owned),
            Derived::ReferrerHost => referrers::host(text).map(Cow::Owned),
            Derived::SearchPhrase => referrers::search_phrase(text).map(Cow::Owned),
            Derived::Country => countries?.of_text(text).map(Cow::Borrowed),
        }
    }
}
