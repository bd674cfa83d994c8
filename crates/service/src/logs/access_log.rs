//! One line for each request, as a site's configuration says it is written.

use crate::logs::journal::Appender;
use exedra_reading::logs::mask::masked;
use exedra_reading::logs::{LogTemplate, LoggedRequest};
use std::fmt::Write;
use std::net::IpAddr;
use std::sync::Arc;

/// Name of the log of requests that no site answers, or that are no requests at all. No site can have it:
/// their names have no underscores.
pub const NO_SITE: &str = "no_site";

/// The access log of one site.
#[derive(Clone)]
pub struct AccessLog {
    /// Where its lines go; nowhere when the site has none.
    pub appender: Option<Arc<Appender>>,
    /// How they look.
    pub template: LogTemplate,
    /// Whether addresses are cut to their network before they are written.
    pub masks_clients: bool,
}

impl AccessLog {
    /// Writes one request down.
    pub fn record(&self, request: &LoggedRequest<'_>) {
        if let Some(appender) = &self.appender {
            appender.put(|out| self.template.write(request, out));
        }
    }
}

/// An address as it is logged.
pub fn client_text(client: IpAddr, masks: bool) -> Text {
    Text::of(if masks { masked(client) } else { client })
}

/// Room for an address as text, where it needs no memory of its own.
pub struct Text {
    octets: [u8; 48],
    length: usize,
}

impl Text {
    fn of(address: IpAddr) -> Self {
        let mut text = Text { octets: [0; 48], length: 0 };
        // An address is never longer than what fits.
        let _ = match address {
            // Most are of this kind, and general formatting takes its time.
            IpAddr::V4(address) => address.octets().iter().enumerate().try_for_each(|(place, octet)| {
                text.write_str(if place > 0 { "." } else { "" })?;
                text.write_str(itoa::Buffer::new().format(*octet))
            }),
            IpAddr::V6(address) => write!(text, "{address}"),
        };
        text
    }

    /// The text.
    pub fn as_str(&self) -> &str {
        std::str::from_utf8(&self.octets[..self.length]).unwrap_or_default()
    }
}

impl Write for Text {
    fn write_str(&mut self, text: &str) -> std::fmt::Result {
        let end = self.length + text.len();
        let room = self.octets.get_mut(self.length..end).ok_or(std::fmt::Error)?;
        room.copy_from_slice(text.as_bytes());
        self.length = end;
        Ok(())
    }
}
