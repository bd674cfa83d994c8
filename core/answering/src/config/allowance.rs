//! What becomes of downloads once the transfer of a month is used up. Pages, and what they load, are never held back.

use super::{Config, SiteId};
use exedra_common::figures::bytes;
use exedra_common::units;
use std::fmt;

/// What happens when the allowance of a month is used up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum AtAllowance {
    /// It is told, and nothing else.
    #[default]
    Tell,
    /// Downloads are refused until the next month begins.
    Refuse,
    /// Downloads are sent at so many octets a second.
    Slow(u64),
}

impl AtAllowance {
    /// Understands `tell`, `refuse downloads` or `slow downloads to 250 kB a second`.
    pub fn understand(words: &str) -> Option<Self> {
        match words.trim() {
            "tell" => Some(AtAllowance::Tell),
            "refuse downloads" => Some(AtAllowance::Refuse),
            words => {
                let speed = words.strip_prefix("slow downloads to ")?.strip_suffix(" a second")?;
                units::size(speed.trim()).filter(|speed| *speed > 0).map(AtAllowance::Slow)
            }
        }
    }
}

impl fmt::Display for AtAllowance {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AtAllowance::Tell => out.write_str("tell"),
            AtAllowance::Refuse => out.write_str("refuse downloads"),
            AtAllowance::Slow(speed) => write!(out, "slow downloads to {} a second", bytes(*speed)),
        }
    }
}

impl Config {
    /// Whether downloads of a site may be held back at some time of a month.
    pub fn may_hold_back(&self, site: SiteId) -> bool {
        let own = self.site(site);
        (own.allowance.is_some() && own.at_allowance != AtAllowance::Tell)
            || (self.service.allowance.is_some() && self.service.at_allowance != AtAllowance::Tell)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("tell", Some(AtAllowance::Tell))]
    #[case("refuse downloads", Some(AtAllowance::Refuse))]
    #[case("slow downloads to 250 kB a second", Some(AtAllowance::Slow(250_000)))]
    #[case("slow downloads to 0 kB a second", None)]
    #[case("slow downloads", None)]
    #[case("refuse pages", None)]
    fn each_is_written_in_words(#[case] words: &str, #[case] expected: Option<AtAllowance>) {
        assert_eq!(AtAllowance::understand(words), expected);
        if let Some(known) = expected {
            assert_eq!(AtAllowance::understand(&known.to_string()), expected);
        }
    }
}
