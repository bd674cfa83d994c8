//! How answers are compressed: codecs, types and efforts.

use super::*;
use crate::encode::Effort;
use crate::rules::effects::CompressChange;
use exedra_common::text::Wildcard;

impl Reading<'_> {
    pub(super) fn compress(&mut self, section: &Section<'_>, mut compress: Compress) -> Compress {
        self.effort(section, &mut compress);
        compress.change(&self.compress_change(section));
        compress
    }

    /// What a section changes in how answers are compressed.
    pub(super) fn compress_change(&mut self, section: &Section<'_>) -> CompressChange {
        let mut change = CompressChange::default();
        if let Some(codecs) = section.texts("codecs") {
            change.codecs = Some(codecs.iter().filter_map(|name| self.codec(name)).collect());
        }
        if let Some(types) = section.texts("types") {
            change.types = Some(types.into_iter().filter_map(|text| self.compressed_type(text)).collect());
        }
        if let Some(agents) = section.texts("not_for") {
            change.not_for = Some(agents.iter().map(|agent| Wildcard::new(&agent.value)).collect());
        }
        if let Some(text) = section.text("at_least") {
            match units::size(&text.value) {
                Some(size) => change.at_least = Some(size),
                None => {
                    let message = format!("`{}` is not a size", text.value);
                    self.error(
                        &text.span,
                        message,
                        "a number and its unit",
                        "write it like \"256 bytes\" or \"2 kB\"",
                    );
                }
            }
        }
        change
    }

    /// A type that is compressed: whole, or with a `*` for its beginning or its end.
    fn compressed_type(&mut self, text: Located<String>) -> Option<Wildcard> {
        let value = text.value.trim().to_ascii_lowercase();
        let stars = value.matches('*').count();
        let is_whole = value == "*" || value.starts_with("*+") || value.contains('/');
        let at_an_end = stars == 0 || (stars == 1 && (value.starts_with('*') || value.ends_with('*')));
        if is_whole && at_an_end && !value.contains([';', ' ']) {
            return Some(Wildcard::new(&value));
        }
        let message = format!("`{}` is not a media type", text.value);
        let remedy = "write it like \"text/html\", \"text/*\" or \"*+xml\"";
        self.error(&text.span, message, "a type and a subtype; * at one end", remedy);
        None
    }

    pub(super) fn effort(&mut self, section: &Section<'_>, compress: &mut Compress) {
        if let Some(text) = section.text("effort") {
            compress.effort = Default::default();
            if text.value != "settled" {
                let message = format!("there is no effort `{}`", text.value);
                let remedy = "write \"settled\", or numbers as in { br = 5, gzip = 6 }";
                self.error(&text.span, message, "not known", remedy);
            }
        }
        let efforts = section.section("effort", &mut self.diagnostics);
        for (name, value) in efforts.pairs() {
            let Some(codec) = self.codec(&name) else { continue };
            let range = codec.efforts();
            let effort = value.whole().and_then(|effort| u32::try_from(effort).ok());
            match effort.filter(|effort| range.contains(effort)) {
                Some(effort) => compress.effort[codec as usize] = Some(effort),
                None => {
                    let message = format!("`{}` has no such effort", codec.name());
                    let reason = format!("its efforts are {} to {}", range.start(), range.end());
                    let remedy = format!("write it like {} = {}", codec.name(), codec.level(Effort::Quick));
                    self.error(&value.span, message, reason, remedy);
                }
            }
        }
    }

    pub(super) fn codec(&mut self, name: &Located<String>) -> Option<Codec> {
        let codec = Codec::ALL.into_iter().find(|codec| codec.name() == name.value);
        if codec.is_none() {
            let names = Codec::ALL.map(Codec::name);
            let remedy = match nearest(&name.value, names) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("there is: {}", names.join(", ")),
            };
            self.error(&name.span, format!("there is no codec `{}`", name.value), "not known", remedy);
        }
        codec
    }
}

#[cfg(test)]
mod tests {
    use crate::config::{Compress, understand};
    use std::path::Path;

    #[test]
    fn types_may_have_a_star_at_one_end() {
        let site = |types: &str| {
            let text = format!(
                "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n[site.compress]\ntypes = [{types}]\n"
            );
            understand(&text, Path::new("")).map(|config| config.sites[0].compress.clone())
        };
        let compress = site("\"*+XML\", \"text/*\", \"font/otf\"").unwrap();
        for (essence, is_compressed) in [
            ("application/atom+xml", true),
            ("application/xml", false),
            ("text/css", true),
            ("font/otf", true),
            ("font/woff2", false),
        ] {
            assert_eq!(compress.has_type(essence), is_compressed, "{essence}");
        }
        for wrong in ["html", "te*t/css", "*/*", "text/html; charset=utf-8", "* +xml"] {
            assert!(site(&format!("\"{wrong}\"")).is_err(), "{wrong}");
        }
        let usual = Compress::default();
        for essence in ["application/rss+xml", "application/geo+json", "application/wasm", "font/ttf"] {
            assert!(usual.has_type(essence), "{essence}");
        }
        assert!(!usual.has_type("font/woff2") && !usual.has_type("image/png"));
    }
}
