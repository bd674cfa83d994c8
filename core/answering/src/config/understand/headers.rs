//! Header fields that answers are given: which a configuration may set, and which a folder may.

use super::*;
use crate::config::document::Item;
use crate::rules::Template;
use http::HeaderName;

/// What the service says itself, because it must be right.
const OURS: [&str; 11] = [
    "connection",
    "content-encoding",
    "content-length",
    "content-range",
    "date",
    "etag",
    "last-modified",
    "location",
    "transfer-encoding",
    "vary",
    "www-authenticate",
];

/// What browsers keep for everything on a host, or act upon beyond the answer that it came with.
const FOR_THE_HOST: [&str; 15] = [
    "accept-ch",
    "alt-svc",
    "clear-site-data",
    "content-security-policy-report-only",
    "critical-ch",
    "expect-ct",
    "nel",
    "origin-agent-cluster",
    "public-key-pins",
    "public-key-pins-report-only",
    "report-to",
    "reporting-endpoints",
    "service-worker-allowed",
    "set-cookie",
    "strict-transport-security",
];

/// Whether a field is for the whole host: by its name, or because it has browsers report to somebody.
fn is_for_the_host(name: &str, value: &str) -> bool {
    let value = value.to_ascii_lowercase();
    let reports =
        name == "content-security-policy" && (value.contains("report-uri") || value.contains("report-to"));
    FOR_THE_HOST.contains(&name) || reports
}

impl Reading<'_> {
    pub(super) fn headers(
        &mut self,
        item: &Item<'_>,
        names: &[Box<str>],
    ) -> Vec<(HeaderName, Option<Template>)> {
        let mut fields = Vec::new();
        for (key, value) in item.pairs().unwrap_or_default() {
            let Ok(name) = key.value.parse::<HeaderName>() else {
                let message = format!("`{}` is not a header name", key.value);
                self.error(&key.span, message, "RFC 9110 §5.1", "write it like \"X-Content-Type-Options\"");
                continue;
            };
            if OURS.contains(&name.as_str()) {
                let message = format!("`{}` is said by the service itself", key.value);
                self.error(
                    &key.span,
                    message,
                    "with another value the answer would be wrong",
                    "leave it out",
                );
                continue;
            }
            let value_text = value.text();
            let written = value_text.as_ref().map_or("", |text| text.value.as_str());
            if !self.host_headers && is_for_the_host(name.as_str(), written) {
                let message = format!("`{}` is for the whole host", key.value);
                let reason =
                    "browsers keep it for everything on the host, and this is the settings of one folder";
                let remedy = "set it in a rule of the site; or write folder_host_headers = true in [[site]]";
                self.error(&key.span, message, reason, remedy);
                continue;
            }
            match (value_text, value.flag()) {
                (Some(text), _) if text.value.contains(['\r', '\n', '\0']) => {
                    self.error(
                        &text.span,
                        "a header field is one line",
                        "this one is more",
                        "leave the line ends out",
                    );
                }
                (Some(text), _) => {
                    if let Some(template) = self.template(&text, names) {
                        fields.push((name, Some(template)));
                    }
                }
                (None, Some(false)) => fields.push((name, None)),
                _ => {
                    let message = format!("a header field cannot be {}", value.in_words());
                    self.error(
                        &value.span,
                        message,
                        "a text, or false to take it away",
                        "write it in quotation marks",
                    );
                }
            }
        }
        fields
    }
}
