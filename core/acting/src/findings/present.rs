//! What is so at present, beside requests and folders: whoever looks for findings knows it from elsewhere.

use exedra_reading::prelude::Prelude;

/// What is so at present.
#[derive(Debug, Clone, Default)]
pub struct Standing {
    /// What strangers could reach and should not.
    pub exposed: Vec<Exposed>,
    /// Certificates, each with its first host and the days it has left.
    pub certificates: Vec<(String, f64)>,
    /// Bursts of failures with what was different in them and before.
    pub bursts: Vec<BurstSeen>,
    /// The month of sites that have an allowance.
    pub months: Vec<SiteMonth>,
}

/// Something that strangers could reach and should not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exposed {
    /// The site.
    pub site: String,
    /// The path.
    pub path: String,
    /// The kind of exposure.
    pub kind: String,
    /// Why it should not be there.
    pub reason: String,
    /// What to do about it.
    pub remedy: String,
}

/// A burst of failures of a site.
#[derive(Debug, Clone, PartialEq)]
pub struct BurstSeen {
    /// The site.
    pub site: String,
    /// It, and what was different.
    pub prelude: Prelude,
}

/// The month of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteMonth {
    /// The site.
    pub site: String,
    /// What may be sent, in octets.
    pub allowance: u64,
    /// What was sent.
    pub sent: u64,
    /// What is expected at its end.
    pub expected: u64,
    /// The day on which the allowance runs out, as expected.
    pub runs_out: Option<String>,
}
