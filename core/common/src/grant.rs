//! What somebody may do and see.

use serde::{Deserialize, Serialize};
use std::str::FromStr;
use thiserror::Error;
use utoipa::ToSchema;

/// What somebody may do. The later ones may all that the earlier ones may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Sees.
    Viewer,
    /// Changes.
    Operator,
}

/// A word that is no role.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is no role: there is viewer, who sees, and operator, who changes")]
pub struct NoRole(String);

impl Role {
    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Role::Viewer => "viewer",
            Role::Operator => "operator",
        }
    }
}

impl FromStr for Role {
    type Err = NoRole;

    fn from_str(word: &str) -> Result<Self, NoRole> {
        [Role::Viewer, Role::Operator]
            .into_iter()
            .find(|role| role.name() == word)
            .ok_or_else(|| NoRole(word.to_owned()))
    }
}

/// What somebody may do, and of which sites.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// What.
    pub role: Role,
    /// The sites that may be seen; `None` for all.
    pub sites: Option<Vec<String>>,
}

impl Grant {
    /// Everything.
    pub const ALL: Grant = Grant { role: Role::Operator, sites: None };

    /// Whether a site may be seen.
    pub fn sees(&self, site: &str) -> bool {
        self.sites.as_ref().is_none_or(|sites| sites.iter().any(|one| one == site))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_operator_may_all_that_a_viewer_may_and_a_viewer_sees_only_what_it_may() {
        assert!(Role::Operator > Role::Viewer);
        assert_eq!("viewer".parse(), Ok(Role::Viewer));
        let wrong = "admin".parse::<Role>().unwrap_err().to_string();
        assert_eq!(wrong, "`admin` is no role: there is viewer, who sees, and operator, who changes");
        let grant = Grant { role: Role::Viewer, sites: Some(vec!["harbour".into()]) };
        assert!(grant.sees("harbour") && !grant.sees("museum") && Grant::ALL.sees("museum"));
    }
}
