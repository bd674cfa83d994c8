//! Listeners, host names and certificates.

use super::*;

/// Whether a host as a site lists it, perhaps with `*` for its first part, answers to a name.
pub(super) fn answers_to(listed: &str, host: &str) -> bool {
    match listed.strip_prefix('*') {
        Some(ending) => host.len() > ending.len() && host.ends_with(ending),
        None => listed == host,
    }
}

impl Reading<'_> {
    pub(super) fn listener(&mut self, section: &Section<'_>) -> Option<Listener> {
        let address = self.address(section.text("address")?)?;
        let flag = |key: &str| section.flag(key).is_some_and(|flag| flag.value);
        let port = section.number("public_port");
        let public_port =
            port.as_ref().and_then(|port| u16::try_from(port.value).ok()).filter(|port| *port > 0);
        if let Some(port) = port.filter(|_| public_port.is_none()) {
            let message = format!("{} is no port", port.value);
            self.error(&port.span, message, "from 1 to 65535", "write it like public_port = 443");
        }
        Some(Listener { address, https: flag("https"), public_port, announced: flag("announced") })
    }

    /// A host as a site lists it: `*.` before it stands for any names below it.
    pub(super) fn site_host(&mut self, host: Located<String>) -> Option<Located<String>> {
        let Some(below) = host.value.strip_prefix("*.") else { return self.host(host) };
        let below = self.host(Located { value: below.to_owned(), span: host.span })?;
        Some(Located { value: format!("*.{}", below.value), span: below.span })
    }

    pub(super) fn authority(&mut self, section: &Section<'_>) -> Option<Authority> {
        let directory = section.text("directory")?;
        if !directory.value.starts_with("https://") && !directory.value.starts_with("http://127.0.0.1:") {
            let message = format!("`{}` is not an authority's directory URL", directory.value);
            let remedy = "write it like \"https://authority.example/directory\"";
            self.error(&directory.span, message, "it must begin with https://", remedy);
        }
        let trusted = section.text("trusted").map(|path| self.folder(Some(path), ""));
        Some(Authority { directory, contact: section.text("contact").map(|text| text.value), trusted })
    }

    pub(super) fn certificate(&mut self, section: &Section<'_>, has_authority: bool) -> Option<Certificate> {
        let hosts: Vec<Located<String>> =
            section.texts("hosts")?.into_iter().filter_map(|host| self.site_host(host)).collect();
        let file = |reading: &Self, key: &str| section.text(key).map(|path| reading.folder(Some(path), ""));
        let (chain, key) = (file(self, "chain"), file(self, "key"));
        let command = section.texts("command");
        let obtain = section.text("obtain");
        let origin = match (obtain, chain, key) {
            (Some(obtain), None, None) => {
                if obtain.value != "authority" {
                    let message = format!("certificates cannot be obtained from `{}`", obtain.value);
                    self.error(&obtain.span, message, "not known", "write obtain = \"authority\"");
                } else if !has_authority {
                    let remedy =
                        "add one: [authority] with directory = \"https://authority.example/directory\"";
                    self.error(
                        &obtain.span,
                        "there is no [authority] to obtain it from",
                        "asked for here",
                        remedy,
                    );
                }
                if let Some(any) = hosts.iter().find(|host| host.value.starts_with('*')) {
                    let reason = "wildcards need a DNS challenge, which is not supported";
                    let remedy = "name the hosts one by one, or have a command bring the certificate";
                    self.error(
                        &any.span,
                        "no certificate for any name below can be obtained",
                        reason,
                        remedy,
                    );
                }
                CertificateOrigin::Authority
            }
            (None, Some(chain), Some(key)) => match command {
                None => CertificateOrigin::Files { chain, key },
                Some(command) => {
                    let command = command.into_iter().map(|text| text.value).collect();
                    CertificateOrigin::Command { command, chain, key }
                }
            },
            (obtain, ..) => {
                let place = obtain.map_or(section.span.clone(), |obtain| obtain.span);
                let remedy = "write chain = \"….pem\" and key = \"….key\", or obtain = \"authority\"";
                self.error(
                    &place,
                    "this certificate comes from nowhere",
                    "a file and its key, or the authority",
                    remedy,
                );
                return None;
            }
        };
        Some(Certificate { hosts, origin, place: section.span.clone() })
    }

    pub(super) fn host(&mut self, host: Located<String>) -> Option<Located<String>> {
        let value = host.value.trim_end_matches('.').to_ascii_lowercase();
        let sound = |octet: u8| {
            octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'.' | b'_' | b':' | b'[' | b']')
        };
        if value.is_empty() || !value.bytes().all(sound) || (value.contains(':') && !value.starts_with('[')) {
            let message = format!("`{}` is not a host name", host.value);
            self.error(
                &host.span,
                message,
                "a name without scheme, port or path",
                "write it like \"harbour.lindry.example\"",
            );
            return None;
        }
        Some(Located { value, span: host.span })
    }
}
