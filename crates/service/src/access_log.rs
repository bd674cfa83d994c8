//! One line for each request, as a site's configuration says it is written.

use crate::journal::Journal;
use exedra_core::logs::{LogTemplate, LoggedRequest};
use std::sync::Arc;

/// Name of the log of requests that no site answers, or that are no requests at all. No site can have it:
/// their names have no underscores.
pub const NO_SITE: &str = "no_site";

/// The access log of one site.
#[derive(Clone)]
pub struct AccessLog {
    /// Where its lines go; nowhere when the site has none.
    pub journal: Option<Arc<Journal>>,
    /// How they look.
    pub template: LogTemplate,
    /// Whether addresses are cut to their network before they are written.
    pub masks_clients: bool,
}

impl AccessLog {
    /// Writes one request down.
    pub fn record(&self, request: &LoggedRequest<'_>) {
        if let Some(journal) = &self.journal {
            journal.put(|out| self.template.write(request, out));
        }
    }
}
