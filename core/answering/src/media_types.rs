//! Media types by extension, with their charset.
//!
//! ```
//! use exedra_answering::media_types::{MediaTypes, media_type};
//! assert_eq!(media_type("tides.html").value, "text/html; charset=utf-8");
//! let mut types = MediaTypes::default();
//! types.set("chart", "application/vnd.lindry.chart").unwrap();
//! assert_eq!(types.of("harbour.chart", b"", true).essence, "application/vnd.lindry.chart");
//! assert!(types.set("chart", "chart").is_err());
//! ```

use http::HeaderValue;
use smol_str::SmolStr;
use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};

/// The type of a file as it stands in a header field, and its essence (without parameters).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MediaType {
    /// With its charset, where it is text.
    pub value: HeaderValue,
    /// Without, in lower case.
    pub essence: SmolStr,
}

impl MediaType {
    /// The same without a charset.
    fn without_charset(&self) -> Self {
        let value = HeaderValue::from_str(&self.essence).unwrap_or_else(|_| self.value.clone());
        MediaType { value, essence: self.essence.clone() }
    }
}

/// The types that a site gives to extensions by itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MediaTypes(BTreeMap<String, MediaType>);

impl MediaTypes {
    /// Gives an extension a type, sent just as it is written. The error says what is wrong with it.
    pub fn set(&mut self, extension: &str, written: &str) -> Result<(), &'static str> {
        let essence = written.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let is_token = |text: &str| {
            !text.is_empty()
                && text.bytes().all(|octet| octet.is_ascii_alphanumeric() || b"!#$&-^_.+".contains(&octet))
        };
        match essence.split_once('/') {
            Some((kind, subtype)) if is_token(kind) && is_token(subtype) => {}
            _ => return Err("a type, a slash, a subtype (RFC 6838)"),
        }
        let value = HeaderValue::from_str(written.trim()).map_err(|_| "it holds what no field may hold")?;
        self.0.insert(extension.to_ascii_lowercase(), MediaType { value, essence: essence.into() });
        Ok(())
    }

    /// The type of a file by its name. Where its beginning says that it is in another charset than UTF-8, or cannot be UTF-8,
    /// no charset is asserted: a browser would believe the field, not the page.
    pub fn of(&self, name: &str, beginning: &[u8], is_whole: bool) -> MediaType {
        if let Some(own) = self.own(name) {
            return own.clone();
        }
        let media = media_type(name);
        let asserts = media.value.len() > media.essence.len();
        match asserts && !may_be_utf8(beginning, is_whole) {
            true => media.without_charset(),
            false => media,
        }
    }

    /// Whether something is to be known of a file's beginning before its type is.
    pub fn depends_on_content(&self, name: &str) -> bool {
        self.own(name).is_none() && media_type(name).essence.starts_with("text/")
    }

    /// The extensions that it gives types to, with those as they are sent.
    pub fn own_types(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().filter_map(|(extension, media)| Some((extension.as_str(), media.value.to_str().ok()?)))
    }

    fn own(&self, name: &str) -> Option<&MediaType> {
        match self.0.is_empty() {
            true => None,
            false => self.0.get(&extension_of(name).to_ascii_lowercase()),
        }
    }

    /// Every type that a file can have, its own or not.
    pub fn all(&self) -> impl Iterator<Item = &str> {
        let ours = OURS.iter().map(|(_, essence)| *essence);
        let own = self.0.values().map(|media| media.essence.as_str());
        let all = mime_guess::get_extensions("*", "*").unwrap_or_default();
        let known = all.iter().filter_map(|extension| mime_guess::from_ext(extension).first_raw());
        own.chain(ours).chain(known).chain([UNKNOWN])
    }
}

/// How much of a page is looked at for its charset (HTML standard, "prescan a byte stream").
pub const LOOKED_AT: usize = 1024;

/// Whether a text may be UTF-8, by what it says of itself, and by its octets as far as they are known.
fn may_be_utf8(beginning: &[u8], is_whole: bool) -> bool {
    if beginning.starts_with(&[0xff, 0xfe]) || beginning.starts_with(&[0xfe, 0xff]) {
        return false;
    }
    let is_utf8 = match std::str::from_utf8(beginning) {
        Ok(_) => true,
        // A letter may have been cut in two.
        Err(error) => !is_whole && error.error_len().is_none(),
    };
    let start = &beginning[..beginning.len().min(LOOKED_AT)];
    is_utf8 && said_charset(start).is_none_or(|said| said == b"utf-8" || said == b"utf8")
}

/// The charset that a page, a style sheet or an XML document says it is in, in lower case.
fn said_charset(start: &[u8]) -> Option<Vec<u8>> {
    let lower = start.to_ascii_lowercase();
    let after = |sign: &[u8], within: &[u8]| {
        memchr::memmem::find(within, sign).map(|at| within[at + sign.len()..].to_vec())
    };
    let value = if lower.trim_ascii_start().starts_with(b"<?xml") {
        after(b"encoding", lower.split(|octet| *octet == b'>').next()?)?
    } else if lower.starts_with(b"@charset") {
        lower[8..].to_vec()
    } else {
        // `<meta charset=…>`, or within the `content` of another.
        let metas = memchr::memmem::find_iter(&lower, b"<meta");
        let tags = metas.filter_map(|at| lower[at..].split(|octet| *octet == b'>').next());
        tags.filter_map(|tag| after(b"charset", tag)).next()?
    };
    let value = value.trim_ascii_start();
    let value = value.strip_prefix(b"=").unwrap_or(value).trim_ascii_start();
    let value = value.strip_prefix(b"\"").or_else(|| value.strip_prefix(b"'")).unwrap_or(value);
    let end = value.iter().position(|octet| !(octet.is_ascii_alphanumeric() || b"-_:.".contains(octet)));
    let value = &value[..end.unwrap_or(value.len())];
    (!value.is_empty()).then(|| value.to_vec())
}

thread_local! {
    /// Sites have few extensions, and finding out is the slowest part of a small answer.
    static KNOWN: RefCell<HashMap<Box<str>, MediaType>> = RefCell::default();
}

/// How many extensions a thread remembers.
const MOST_KNOWN: usize = 512;

/// What is not known is octets.
const UNKNOWN: &str = "application/octet-stream";

fn extension_of(name: &str) -> &str {
    let file = name.rsplit('/').next().unwrap_or_default();
    file.rsplit_once('.').map_or("", |(_, extension)| extension)
}

/// The type of a file by its name.
pub fn media_type(name: &str) -> MediaType {
    let extension = extension_of(name);
    KNOWN.with_borrow_mut(|known| {
        if let Some(found) = known.get(extension) {
            return found.clone();
        }
        let found = look_up(extension);
        if known.len() < MOST_KNOWN {
            known.insert(extension.into(), found.clone());
        }
        found
    })
}

/// Types by extension, in order, where what the library says is antiquated or missing: by the registry of media types
/// (RFC 6838), and for what is not registered by what is in use.
const OURS: [(&str, &str); 49] = [
    ("atom", "application/atom+xml"),
    ("avif", "image/avif"),
    ("cjs", "text/javascript"),
    ("conf", "text/plain"),
    ("deb", "application/vnd.debian.binary-package"),
    ("diff", "text/x-diff"),
    ("geojson", "application/geo+json"),
    ("glb", "model/gltf-binary"),
    ("gltf", "model/gltf+json"),
    ("gpx", "application/gpx+xml"),
    ("ini", "text/plain"),
    ("js", "text/javascript"),
    ("jsonl", "application/x-ndjson"),
    ("jsonld", "application/ld+json"),
    ("jxl", "image/jxl"),
    ("log", "text/plain"),
    ("m4a", "audio/mp4"),
    ("md", "text/markdown"),
    ("md5", "text/plain"),
    ("mjs", "text/javascript"),
    ("mkv", "video/matroska"),
    ("mtl", "model/mtl"),
    ("ndjson", "application/x-ndjson"),
    ("obj", "model/obj"),
    ("opus", "audio/ogg"),
    ("otf", "font/otf"),
    ("parquet", "application/vnd.apache.parquet"),
    ("patch", "text/x-diff"),
    ("rpm", "application/x-rpm"),
    ("rss", "application/rss+xml"),
    ("sha1", "text/plain"),
    ("sha256", "text/plain"),
    ("sha512", "text/plain"),
    ("sql", "application/sql"),
    ("sqlite", "application/vnd.sqlite3"),
    ("stl", "model/stl"),
    ("toml", "application/toml"),
    ("ts", "video/mp2t"),
    ("ttc", "font/collection"),
    ("ttf", "font/ttf"),
    ("vcf", "text/vcard"),
    ("wasm", "application/wasm"),
    ("webmanifest", "application/manifest+json"),
    ("webp", "image/webp"),
    ("woff", "font/woff"),
    ("woff2", "font/woff2"),
    ("yaml", "application/yaml"),
    ("yml", "application/yaml"),
    ("zst", "application/zstd"),
];

fn look_up(extension: &str) -> MediaType {
    let lower = extension.to_ascii_lowercase();
    let own = OURS.binary_search_by_key(&lower.as_str(), |(known, _)| known).map(|nth| OURS[nth].1);
    let essence = own.ok().or_else(|| mime_guess::from_ext(extension).first_raw());
    let essence = essence.unwrap_or(UNKNOWN);
    let value = match essence.starts_with("text/") {
        true => HeaderValue::from_str(&format!("{essence}; charset=utf-8")).ok(),
        false => None,
    };
    MediaType { value: value.unwrap_or(HeaderValue::from_static(essence)), essence: essence.into() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("a/b.html", "text/html; charset=utf-8")]
    #[case("B.HTML", "text/html; charset=utf-8")]
    #[case("x.csv", "text/csv; charset=utf-8")]
    #[case("x.svg", "image/svg+xml")]
    #[case("x.json", "application/json")]
    #[case("tour.wav", "audio/wav")]
    #[case("x.tar.gz", "application/gzip")]
    #[case("README", "application/octet-stream")]
    #[case("a.b/README", "application/octet-stream")]
    #[case("x.unheardof", "application/octet-stream")]
    #[case("app.MJS", "text/javascript; charset=utf-8")]
    #[case("face.woff", "font/woff")]
    #[case("tide.ts", "video/mp2t")]
    #[case("hull.obj", "model/obj")]
    #[case("list.sha256", "text/plain; charset=utf-8")]
    #[case("harbour.yml", "application/yaml")]
    fn by_extension(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(media_type(name).value, expected);
        assert_eq!(media_type(name).value, expected, "and again, remembered");
    }

    #[rstest]
    #[case::says_nothing("a.html", b"<!doctype html><p>S\xc3\xa6l", "text/html; charset=utf-8")]
    #[case::says_utf8("a.html", b"<meta charset=\"UTF-8\">", "text/html; charset=utf-8")]
    #[case::says_another("a.html", b"<head><meta charset=iso-8859-1>", "text/html")]
    #[case::in_content(
        "a.html",
        b"<meta http-equiv=x content='text/html; charset=windows-1252'>",
        "text/html"
    )]
    #[case::later_meta("a.html", b"<meta name=a><META CharSet='koi8-r'>", "text/html")]
    #[case::octets_of_another("a.txt", b"S\xe6l", "text/plain")]
    #[case::sixteen_bits("a.txt", b"\xff\xfea\0", "text/plain")]
    #[case::style("a.css", b"@charset \"iso-8859-15\";", "text/css")]
    #[case::document("a.xml", b"<?xml version='1.0' encoding='latin1'?>", "text/xml")]
    #[case::own("a.chart", b"", "text/plain; charset=iso-8859-1")]
    #[case::own_in_capitals("A.CHART", b"", "text/plain; charset=iso-8859-1")]
    fn charsets(#[case] name: &str, #[case] content: &[u8], #[case] expected: &str) {
        let mut types = MediaTypes::default();
        types.set("Chart", "text/plain; charset=iso-8859-1").unwrap();
        assert_eq!(types.of(name, content, true).value, expected);
    }

    #[test]
    fn a_letter_cut_in_two_is_none_of_another_charset() {
        let types = MediaTypes::default();
        assert_eq!(types.of("a.txt", b"S\xc3", false).value, "text/plain; charset=utf-8");
        assert_eq!(types.of("a.txt", b"S\xc3", true).value, "text/plain");
        assert!(
            MediaTypes::default().set("a", "text").is_err()
                && MediaTypes::default().set("a", "a b/c").is_err()
        );
    }

    #[test]
    fn our_own_are_in_order_and_each_once() {
        assert!(OURS.windows(2).all(|two| two[0].0 < two[1].0));
    }
}
