//! Media types by extension, with their charset.

use http::HeaderValue;
use std::cell::RefCell;
use std::collections::HashMap;

/// The type of a file as it stands in a header field, and its essence (without parameters).
#[derive(Debug, Clone)]
pub struct MediaType {
    /// With its charset, where it is text.
    pub value: HeaderValue,
    /// Without.
    pub essence: &'static str,
}

thread_local! {
    /// Sites have few extensions, and finding out is the slowest part of a small answer.
    static KNOWN: RefCell<HashMap<Box<str>, MediaType>> = RefCell::default();
}

/// How many extensions a thread remembers.
const MOST_KNOWN: usize = 512;

/// The type of a file by its name.
pub fn media_type(name: &str) -> MediaType {
    let file = name.rsplit('/').next().unwrap_or_default();
    let extension = file.rsplit_once('.').map_or("", |(_, extension)| extension);
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
    let essence = essence.unwrap_or("application/octet-stream");
    let value = match essence.starts_with("text/") {
        true => HeaderValue::from_str(&format!("{essence}; charset=utf-8")).ok(),
        false => None,
    };
    MediaType { value: value.unwrap_or(HeaderValue::from_static(essence)), essence }
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

    #[test]
    fn our_own_are_in_order_and_each_once() {
        assert!(OURS.windows(2).all(|two| two[0].0 < two[1].0));
    }
}
