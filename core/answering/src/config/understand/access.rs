//! Realms: who may go where a login is asked for.

use super::*;

impl Reading<'_> {
    pub(super) fn realm(&mut self, section: &Section<'_>) -> Option<Realm> {
        let name = section.text("name")?;
        if self.realms.contains(&name.value) {
            let message = format!("two realms are called `{}`", name.value);
            self.error(&name.span, message, "this is the second", "give it a name of its own");
        }
        self.realms.push(name.value.clone());
        let title = section.text("title").map_or_else(|| name.value.clone(), |title| title.value);
        let users = self.folder(Some(section.text("users")?), "");
        let without_https = section.flag("without_https").is_some_and(|flag| flag.value);
        Some(Realm { name, title, users, without_https })
    }

    /// The number of a realm that is named somewhere.
    pub(super) fn realm_named(&mut self, name: &Located<String>) -> Option<usize> {
        let found = self.realms.iter().position(|realm| *realm == name.value);
        if found.is_none() {
            let message = format!("there is no realm `{}`", name.value);
            let remedy = match nearest(&name.value, self.realms.iter().map(String::as_str)) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("add one: [[realm]] with name = \"{}\" and its users", name.value),
            };
            self.error(&name.span, message, "not known", remedy);
        }
        found
    }
}
