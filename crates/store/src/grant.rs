//! A grant as it is kept.

use exedra_common::grant::{Grant, Role};

/// The sites of a grant, as JSON.
pub fn sites(grant: &Grant) -> String {
    serde_json::to_string(&grant.sites).unwrap_or_default()
}

/// A grant as it was kept. What cannot be understood grants as little as there is: no site to look at.
pub fn understood(role: &str, sites: &str) -> Grant {
    Grant {
        role: role.parse().unwrap_or(Role::Viewer),
        sites: serde_json::from_str(sites).unwrap_or_else(|_| Some(Vec::new())),
    }
}
