//! Recipients of messages, and the server that takes mail.

use super::*;
use crate::config::recipients::{Encryption, MailServer, Recipient, Way};
use exedra_common::scope::WeekHours;

/// The keys that say how a recipient is reached.
const WAYS: [&str; 3] = ["mail", "webhook", "command"];

impl Reading<'_> {
    pub(super) fn mail_server(&mut self, section: &Section<'_>) -> Option<MailServer> {
        let server = section.text("server")?;
        let from = section.text("from").and_then(|from| self.mail_address(from));
        let encryption = match section.text("encryption") {
            None => Some(Encryption::default()),
            Some(said) => {
                let known =
                    Encryption::ALL.into_iter().find(|(name, _)| *name == said.value).map(|(_, known)| known);
                if known.is_none() {
                    let message = format!("`{}` is no way to secure mail", said.value);
                    let names = Encryption::ALL.map(|(name, _)| format!("\"{name}\"")).join(", ");
                    self.error(&said.span, message, "not known", format!("write one of {names}"));
                }
                known
            }
        }?;
        let (host, port) = match server.value.rsplit_once(':') {
            Some((host, port)) if !host.is_empty() && (!host.contains(':') || host.ends_with(']')) => {
                (host.to_owned(), port.parse::<u16>().ok().filter(|port| *port > 0))
            }
            _ => (server.value.clone(), Some(encryption.usual_port())),
        };
        let Some(port) = port.filter(|_| !host.contains([' ', '/', '@'])) else {
            let message = format!("`{}` is not a mail server", server.value);
            let remedy = "write it like server = \"smtp.lindry.example:587\"";
            self.error(
                &server.span,
                message,
                "a host name, and a port where it is not the usual one",
                remedy,
            );
            return None;
        };
        let is_local = host == "localhost"
            || host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback());
        let password = section.text("password_file").map(|path| self.folder(Some(path), ""));
        let login = match (section.text("user"), password) {
            (Some(user), Some(password)) => Some((user, password)),
            (None, None) => None,
            (Some(user), None) => {
                let remedy =
                    "add password_file = \"mail.password\", a file with the password in its first line";
                self.error(&user.span, "signing in needs a password", "`password_file` is missing", remedy);
                None
            }
            (None, Some(password)) => {
                let remedy = "add user = \"exedra\"";
                self.error(&password.span, "a password belongs to a user", "`user` is missing", remedy);
                None
            }
        };
        if encryption == Encryption::None && !is_local {
            let place = section.place("encryption").unwrap_or(server.span.clone());
            if login.is_some() {
                let message = "a password would be sent unencrypted";
                let remedy = "leave `encryption` out, or `user` and `password_file`";
                self.error(&place, message, "anyone on the network could read it", remedy);
            }
        }
        let login = login.map(|(user, password)| (user.value, password));
        let trusted = section.text("trusted").map(|path| self.folder(Some(path), ""));
        let host = Located { value: host.trim_matches(['[', ']']).to_owned(), span: server.span };
        Some(MailServer { host, port, encryption, from: from?, login, trusted })
    }

    pub(super) fn recipients(&mut self, sections: &[Section<'_>], has_mail: bool) -> Vec<Recipient> {
        let mut all: Vec<Recipient> = Vec::new();
        for section in sections {
            let Some(recipient) = self.recipient(section, has_mail) else { continue };
            if all.iter().any(|one| one.name.value == recipient.name.value) {
                let message = format!("two recipients are called `{}`", recipient.name.value);
                self.error(&recipient.name.span, message, "this is the second", "give it a name of its own");
            }
            all.push(recipient);
        }
        all
    }

    fn recipient(&mut self, section: &Section<'_>, has_mail: bool) -> Option<Recipient> {
        let name = self.name_of(section)?;
        let said: Vec<&str> = WAYS.into_iter().filter(|way| section.any(way).is_some()).collect();
        let [way] = said.as_slice() else {
            let reason = if said.is_empty() { "it has none" } else { "it has more than one" };
            let remedy =
                "write one, as in mail = [\"office@lindry.example\"]; a second way is a second recipient";
            let message = format!("a recipient has one of `{}`", WAYS.join("`, `"));
            self.error(&name.span, message, reason, remedy);
            return None;
        };
        let key = section.text("key_file").map(|path| self.folder(Some(path), ""));
        if let Some(key) = key.as_ref().filter(|_| *way != "webhook") {
            self.error(
                &key.span,
                "only a webhook is signed",
                format!("this is a {way}"),
                "leave `key_file` out",
            );
        }
        let way = match *way {
            "mail" => {
                let written = section.any("mail")?;
                let one = written.text().map(|text| vec![text]);
                let addresses = one.or_else(|| section.texts("mail")).unwrap_or_default();
                if addresses.is_empty() {
                    self.error(&written.span, "mail goes to nobody", "the list is empty", "write an address");
                }
                if !has_mail {
                    let remedy = "add [mail] with server = \"smtp.lindry.example\" and from = \"exedra@lindry.example\"";
                    self.error(
                        &written.span,
                        "no server takes mail",
                        "there is no [mail] in this file",
                        remedy,
                    );
                }
                Way::Mail(addresses.into_iter().filter_map(|text| self.mail_address(text)).collect())
            }
            "webhook" => Way::Webhook { address: self.webhook(section.text("webhook")?)?, key },
            _ => {
                let words = section.texts("command")?;
                if words.is_empty() {
                    let place = section.place("command").unwrap_or(name.span.clone());
                    let remedy = "write it like command = [\"/usr/local/bin/page-office\"]";
                    self.error(&place, "no program is named", "the list is empty", remedy);
                }
                Way::Command(words)
            }
        };
        let written = section.text("quiet");
        let quiet = written.as_ref().and_then(|hours| self.hours(hours));
        Some(Recipient { name, way, quiet, quiet_words: written.map(|hours| hours.value) })
    }

    /// Hours of the week, in the zone of the service.
    fn hours(&mut self, text: &Located<String>) -> Option<WeekHours> {
        let parts: Vec<&str> = text.value.split(';').map(str::trim).collect();
        match WeekHours::understand(&parts, &self.time_zone) {
            Ok(hours) => Some(hours),
            Err(error) => {
                let message = format!("`{}` is no hour of the week", text.value);
                let remedy = "write them like \"22-6\", \"Sat,Sun\" or \"Mon-Fri 18-7; Sat,Sun\"";
                self.error(&text.span, message, error.to_string(), remedy);
                None
            }
        }
    }

    /// Names of recipients, each of which there must be.
    pub(super) fn told(
        &mut self,
        names: Option<Vec<Located<String>>>,
        recipients: &[Recipient],
    ) -> Vec<Located<String>> {
        let names = names.unwrap_or_default();
        for name in &names {
            let known = || recipients.iter().map(|recipient| recipient.name.value.as_str());
            if known().any(|known| known == name.value) {
                continue;
            }
            let remedy = match nearest(&name.value, known()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!(
                    "add one: [[recipient]] with name = \"{}\" and mail = [\"office@lindry.example\"]",
                    name.value
                ),
            };
            self.error(&name.span, format!("there is no recipient `{}`", name.value), "not known", remedy);
        }
        names
    }

    /// An address of mail: what stands before and after the only `@`, without blanks. Servers decide about the rest.
    fn mail_address(&mut self, text: Located<String>) -> Option<Located<String>> {
        let parts: Vec<&str> = text.value.split('@').collect();
        let is_sound = matches!(parts.as_slice(), [name, host] if !name.is_empty() && !host.is_empty())
            && text.value.is_ascii()
            && !text
                .value
                .chars()
                .any(|letter| letter.is_whitespace() || letter.is_control() || "<>,;\"".contains(letter));
        if !is_sound {
            let message = format!("`{}` is not an address of mail", text.value);
            self.error(
                &text.span,
                message,
                "a name, @ and a host",
                "write it like \"office@lindry.example\"",
            );
        }
        is_sound.then_some(text)
    }

    fn webhook(&mut self, text: Located<String>) -> Option<Located<String>> {
        let rest = text.value.strip_prefix("https://").or_else(|| text.value.strip_prefix("http://"));
        let host = rest.map(|rest| rest.split(['/', '?', '#']).next().unwrap_or(rest));
        let is_sound = host.is_some_and(|host| !host.is_empty())
            && !text.value.chars().any(|letter| letter.is_whitespace() || letter.is_control());
        if !is_sound {
            let message = format!("`{}` is not where a webhook can be", text.value);
            let remedy = "write it like \"https://office.lindry.example/alerts\"";
            self.error(&text.span, message, "an address that begins with https://", remedy);
        }
        is_sound.then_some(text)
    }
}
