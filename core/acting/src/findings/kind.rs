//! The one list of kinds of findings.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A kind of finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = FindingKind)]
pub enum FindingKind {
    /// People ask for a page that is not there.
    MissingPage,
    /// Our own pages lead to one that is not there, or elsewhere.
    BrokenLink,
    /// People are redirected several times.
    RedirectChain,
    /// The same people are sent a file in full again and again.
    SentAgain,
    /// Text is sent uncompressed.
    Uncompressed,
    /// A file makes up much of what is sent.
    LargeFile,
    /// Another site's pages load files from here.
    Embedded,
    /// A client asks far more often than people do.
    Hammering,
    /// Somebody looks for a way in.
    Probing,
    /// A page is missing at certain times only.
    MissingAtTimes,
    /// Requests failed in a burst.
    Burst,
    /// Strangers have reached what they should not.
    Exposure,
    /// A guard that nobody passes, or that everybody fails at.
    Guard,
    /// The month's allowance will not last.
    Allowance,
    /// A certificate ends.
    Certificate,
    /// An error page that fails itself.
    ErrorPage,
}

/// A page of the console that shows findings, beside the one that shows all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
#[schema(as = FindingPage)]
pub enum ConsolePage {
    /// What fails.
    Trouble,
    /// What it costs.
    Transfer,
    /// What is configured.
    Sites,
}

impl FindingKind {
    /// All of them.
    pub const ALL: [FindingKind; 16] = [
        FindingKind::MissingPage,
        FindingKind::BrokenLink,
        FindingKind::RedirectChain,
        FindingKind::SentAgain,
        FindingKind::Uncompressed,
        FindingKind::LargeFile,
        FindingKind::Embedded,
        FindingKind::Hammering,
        FindingKind::Probing,
        FindingKind::MissingAtTimes,
        FindingKind::Burst,
        FindingKind::Exposure,
        FindingKind::Guard,
        FindingKind::Allowance,
        FindingKind::Certificate,
        FindingKind::ErrorPage,
    ];

    /// Its name for programs, the beginning of its identities, and what it is in a few words.
    fn words(self) -> (&'static str, &'static str, &'static str) {
        match self {
            FindingKind::MissingPage => ("missing_page", "missing", "missing page"),
            FindingKind::BrokenLink => ("broken_link", "link", "broken link"),
            FindingKind::RedirectChain => ("redirect_chain", "chain", "redirect chain"),
            FindingKind::SentAgain => ("sent_again", "again", "sent again and again"),
            FindingKind::Uncompressed => ("uncompressed", "plain", "sent uncompressed"),
            FindingKind::LargeFile => ("large_file", "large", "large file"),
            FindingKind::Embedded => ("embedded", "embedded", "embedded elsewhere"),
            FindingKind::Hammering => ("hammering", "client", "asks too much"),
            FindingKind::Probing => ("probing", "probing", "looks for a way in"),
            FindingKind::MissingAtTimes => ("missing_at_times", "times", "missing at times"),
            FindingKind::Burst => ("burst", "burst", "burst of failures"),
            FindingKind::Exposure => ("exposure", "exposure", "exposed"),
            FindingKind::Guard => ("guard", "guard", "guard"),
            FindingKind::Allowance => ("allowance", "allowance", "allowance"),
            FindingKind::Certificate => ("certificate", "certificate", "certificate"),
            FindingKind::ErrorPage => ("error_page", "error", "error page"),
        }
    }

    /// Its name for programs.
    pub fn name(self) -> &'static str {
        self.words().0
    }

    /// How identities of its findings begin.
    pub fn short(self) -> &'static str {
        self.words().1
    }

    /// What it is, in a few words.
    pub fn title(self) -> &'static str {
        self.words().2
    }

    /// The kind of a name.
    pub fn named(name: &str) -> Option<FindingKind> {
        FindingKind::ALL.into_iter().find(|kind| kind.name() == name)
    }

    /// The page of the console that it belongs to.
    pub fn page(self) -> ConsolePage {
        match self {
            FindingKind::MissingPage
            | FindingKind::BrokenLink
            | FindingKind::RedirectChain
            | FindingKind::MissingAtTimes
            | FindingKind::Burst
            | FindingKind::Probing => ConsolePage::Trouble,
            FindingKind::SentAgain
            | FindingKind::Uncompressed
            | FindingKind::LargeFile
            | FindingKind::Embedded
            | FindingKind::Hammering
            | FindingKind::Allowance => ConsolePage::Transfer,
            FindingKind::Exposure
            | FindingKind::Guard
            | FindingKind::Certificate
            | FindingKind::ErrorPage => ConsolePage::Sites,
        }
    }
}
