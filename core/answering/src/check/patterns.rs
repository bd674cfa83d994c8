//! Patterns of `types` and `not_for` that fit nothing: whoever wrote them believes that something happens by them.

use crate::config::{Compress, Config, Diagnostic, Site};
use crate::rules::effects::CompressChange;
use exedra_common::text::{Wildcard, nearest};
use std::ops::Range;

/// Finds them in all sites and their rules.
pub fn check(config: &Config) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for site in &config.sites {
        let written = |key: &str| site.origins.get(key).cloned();
        if let Some(place) = written("compress.types") {
            types(site, &site.compress.types, &place, &mut found);
        }
        if let Some(place) = written("compress.not_for") {
            agents(&site.compress.not_for, &place, &mut found);
        }
        for rule in site.rules.written() {
            let Some(CompressChange { types: listed, not_for, .. }) = &rule.effects.changes.compress else {
                continue;
            };
            types(site, listed.as_deref().unwrap_or_default(), &rule.place, &mut found);
            agents(not_for.as_deref().unwrap_or_default(), &rule.place, &mut found);
        }
    }
    // What stands in [defaults] is said once.
    found.dedup_by(|one, other| one.span == other.span && one.message == other.message);
    found
}

fn types(site: &Site, listed: &[Wildcard], place: &Range<usize>, found: &mut Vec<Diagnostic>) {
    for pattern in listed {
        let one = Compress { types: vec![pattern.clone()], ..Compress::default() };
        let mut known: Vec<&str> = site.media_types.all().collect();
        if known.iter().any(|essence| one.has_type(essence)) {
            continue;
        }
        known.sort_unstable();
        let message = format!("`{pattern}` in `types` matches nothing");
        let remedy = match nearest(&pattern.to_string(), known) {
            Some(near) => format!("did you mean `{near}`?"),
            None => "name the type as it is sent; [site.media_types] gives extensions others".to_owned(),
        };
        let reason = "no file is sent with this media type";
        found.push(Diagnostic::remark(place.clone(), message, reason).remedy(remedy));
    }
}

fn agents(listed: &[Wildcard], place: &Range<usize>, found: &mut Vec<Diagnostic>) {
    for pattern in listed.iter().filter_map(Wildcard::as_text).filter(|pattern| !pattern.contains('/')) {
        let message = format!("`{pattern}` in `not_for` matches hardly any agent");
        let reason = "without `*` it must equal the whole User-Agent, and agents add their version";
        found.push(
            Diagnostic::remark(place.clone(), message, reason)
                .remedy(format!("write \"{pattern}/*\" or \"*{pattern}*\"")),
        );
    }
}

#[cfg(test)]
mod tests {
    use crate::config::understand;
    use std::path::Path;

    fn found(site: &str) -> Vec<String> {
        let text = format!(
            "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n{site}"
        );
        super::check(&understand(&text, Path::new("")).unwrap()).into_iter().map(|one| one.message).collect()
    }

    #[test]
    fn patterns_that_match_nothing_are_named_wherever_they_stand() {
        let rule = "[[site.rules]]\npath = \"/x/{*}\"\ncompress = { types = [\"text/plian\"], not_for = [\"Kiosk\"] }\n";
        let messages = found(rule);
        assert_eq!(messages.len(), 2, "{messages:?}");
        assert!(messages[0].contains("`text/plian`") && messages[1].contains("`Kiosk`"));
        for sound in
            ["text/*", "*", "*+xml", "image/svg+xml", "application/octet-stream", "font/woff", "audio/midi"]
        {
            assert!(found(&format!("[site.compress]\ntypes = [\"{sound}\"]\n")).is_empty(), "{sound}");
        }
        for sound in ["LindryKiosk/1.*", "*Kiosk*", "Kiosk/2"] {
            assert!(found(&format!("[site.compress]\nnot_for = [\"{sound}\"]\n")).is_empty(), "{sound}");
        }
    }
}
