//! Signing in: who is asked for name and password (RFC 7617), over what, and how a decision goes on once they are known.

use super::decide::Deciding;
use super::stage::Next;
use super::trace::{Observer, Place, Step};
use super::{Credentials, Decision, Password};
use crate::config::Realm;
use crate::facts::Scheme;
use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use http::{StatusCode, header};

impl<'a, W: Observer> Deciding<'a, W> {
    /// Whether other people's pages ask what they may ask; they do so without any password.
    pub(super) fn is_preflight(&self) -> bool {
        self.facts.method().value() == Some("OPTIONS")
            && self.facts.field(&header::ORIGIN).value().is_some()
            && self.facts.field(&header::ACCESS_CONTROL_REQUEST_METHOD).value().is_some()
    }

    /// Whether the client has signed in to a realm while this request was decided.
    pub(super) fn has_passed(&self, realm: usize) -> bool {
        self.added.as_ref().is_some_and(|added| added.passed.contains(&realm))
    }

    /// Asks for name and password (RFC 7617), over HTTPS unless the realm says otherwise.
    pub(super) fn login(mut self: Box<Self>, realm: usize, next: Next) -> Decision<'a, W> {
        self.facts.record_password();
        let (Some(settings), Some(site)) = (self.config.realms.get(realm), self.settings()) else {
            return self.failed(StatusCode::INTERNAL_SERVER_ERROR);
        };
        let name = || settings.name.value.clone();
        let place = Place::from(&settings.name.span);
        // Nobody says a password on the way to another address.
        if self.home(site).is_some() {
            return self.after_rules();
        }
        if self.facts.scheme().value() == Some(Scheme::Http) && !settings.without_https {
            self.see_cause(Step::LoginNeedsHttps { realm: name(), place }, None);
            return self.send_to_https();
        }
        let credentials = self.facts.field(&header::AUTHORIZATION).value().and_then(basic);
        match credentials {
            Some((user, password)) => self.ask_login(Credentials { realm, user, password }, next),
            None => {
                self.see_cause(Step::Login { realm: name(), user: None, place }, None);
                self.challenge(realm, "A name and a password are needed")
            }
        }
    }

    /// The same address by HTTPS, for now; where there is none, nobody gets in.
    fn send_to_https(mut self: Box<Self>) -> Decision<'a, W> {
        let (Some(port), Some(host)) = (self.config.public_port(Scheme::Https), self.facts.host().value())
        else {
            return self.failed(StatusCode::FORBIDDEN);
        };
        let port = if port == 443 { String::new() } else { format!(":{port}") };
        let path = self.facts.path().value().unwrap_or("/");
        let target = format!("https://{host}{port}{path}{}", self.query());
        self.redirect(&target, StatusCode::TEMPORARY_REDIRECT)
    }

    fn challenge(mut self: Box<Self>, realm: usize, why: &str) -> Decision<'a, W> {
        self.added().challenge = Some(realm);
        let title = self.config.realms.get(realm).map_or("", |realm| &realm.title);
        let why = format!("{why} for “{title}”. Reload the page to be asked again.");
        self.failed_because(StatusCode::UNAUTHORIZED, why)
    }

    /// Goes on with whether the password was right.
    pub(super) fn logged_in(
        mut self: Box<Self>,
        found: Password,
        credentials: Credentials,
        next: Next,
    ) -> Decision<'a, W> {
        let Credentials { realm, user, .. } = credentials;
        let settings: Option<&Realm> = self.config.realms.get(realm);
        let place = settings.map_or(Place::default(), |settings| Place::from(&settings.name.span));
        let name = settings.map_or(String::new(), |settings| settings.name.value.clone());
        let shown = user.clone();
        let step = Step::Login { realm: name, user: Some((shown, found)), place };
        match found {
            Password::Right => self.observer.see(|| step),
            Password::Wrong => {
                self.see_cause(step, None);
                return self.challenge(realm, "The name or the password is not right");
            }
            Password::Unchecked { seconds } => {
                self.see_cause(step, None);
                let why = "Too many sign-in attempts from your address";
                return self.come_again(why, seconds);
            }
        }
        let added = self.added();
        added.user.get_or_insert_with(|| user.into());
        added.passed.push(realm);
        // The rule that asked is run again: it may do more than ask.
        match next.in_folders {
            false => self.run_site_rules(next.rule),
            true => {
                let chain = self.chain.clone();
                self.run_folders(chain, next)
            }
        }
    }
}

/// Name and password of an `Authorization` field (RFC 7617).
fn basic(field: &str) -> Option<(String, String)> {
    let (scheme, encoded) = field.split_once(' ')?;
    if !scheme.eq_ignore_ascii_case("basic") {
        return None;
    }
    let octets = BASE64_STANDARD.decode(encoded.trim()).ok()?;
    let text = String::from_utf8(octets).ok()?;
    let (user, password) = text.split_once(':')?;
    Some((user.to_owned(), password.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Basic YW5uYTp0aWRl", Some(("anna", "tide")))]
    #[case::scheme_in_any_case("bAsIc YW5uYTp0aWRl", Some(("anna", "tide")))]
    #[case::a_colon_in_the_password("Basic YW5uYTphOmI=", Some(("anna", "a:b")))]
    #[case::beyond_ascii("Basic c8OmbDptw6Vu", Some(("sæl", "mån")))]
    #[case::nobody("Basic Og==", Some(("", "")))]
    #[case::another_scheme("Bearer YW5uYTp0aWRl", None)]
    #[case::no_colon("Basic YW5uYQ==", None)]
    #[case::no_base64("Basic anna:tide", None)]
    #[case::no_text("Basic /zr/", None)]
    #[case::nothing("Basic", None)]
    fn names_and_passwords_of_a_field(#[case] field: &str, #[case] expected: Option<(&str, &str)>) {
        let expected = expected.map(|(user, password)| (user.to_owned(), password.to_owned()));
        assert_eq!(basic(field), expected);
    }
}
