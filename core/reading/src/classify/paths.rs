//! What is asked for, by its path: something people read, something a page loads, something people keep.
//!
//! ```
//! use exedra_reading::classify::paths::{Kind, extension, is_probe, kind};
//! assert_eq!((kind("/tides/"), kind("/harbour.CSS"), kind("/chart.pdf")), (Kind::Page, Kind::Asset, Kind::Download));
//! assert_eq!(extension("/harbour.CSS").as_deref(), Some("css"));
//! assert!(is_probe("/.env") && !is_probe("/tides/"));
//! ```

/// The kind of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum Kind {
    /// Something people read.
    Page,
    /// Something a page loads.
    Asset,
    /// Something people keep.
    Download,
    /// News for programs that read them to people.
    Feed,
    /// Anything else.
    Other,
}

impl Kind {
    /// All of them.
    pub const ALL: [Kind; 5] = [Kind::Page, Kind::Asset, Kind::Download, Kind::Feed, Kind::Other];

    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Kind::Page => "page",
            Kind::Asset => "asset",
            Kind::Download => "download",
            Kind::Feed => "feed",
            Kind::Other => "other",
        }
    }
}

const PAGES: [&str; 8] = ["html", "htm", "xhtml", "php", "asp", "aspx", "jsp", "txt"];
const ASSETS: [&str; 22] = [
    "css",
    "js",
    "mjs",
    "map",
    "json",
    "wasm",
    "png",
    "jpg",
    "jpeg",
    "gif",
    "svg",
    "webp",
    "avif",
    "bmp",
    "ico",
    "cur",
    "woff",
    "woff2",
    "ttf",
    "otf",
    "eot",
    "webmanifest",
];
const DOWNLOADS: [&str; 40] = [
    "pdf", "zip", "gz", "tgz", "tar", "bz2", "xz", "zst", "7z", "rar", "exe", "msi", "dmg", "pkg", "deb",
    "rpm", "apk", "iso", "img", "bin", "csv", "tsv", "xls", "xlsx", "ods", "doc", "docx", "odt", "ppt",
    "pptx", "odp", "epub", "mp3", "ogg", "flac", "wav", "m4a", "mp4", "webm", "mov",
];
const FEEDS: [&str; 3] = ["rss", "atom", "ics"];
const FEED_NAMES: [&str; 6] = ["feed", "rss", "atom", "feed.xml", "rss.xml", "atom.xml"];

/// The longest text after a dot that is taken for an extension, in octets.
const LONGEST: usize = 12;

/// What stands after the last dot of the last segment, in small letters; nothing where it is not an extension.
pub fn extension(path: &str) -> Option<String> {
    let (octets, length) = small_extension(path)?;
    octets[..length].iter().map(|octet| Some(char::from(*octet))).collect()
}

/// The same without memory of its own: paths are many.
fn small_extension(path: &str) -> Option<([u8; LONGEST], usize)> {
    let (name, extension) = last_segment(path).rsplit_once('.')?;
    let fits = !name.is_empty()
        && (1..=LONGEST).contains(&extension.len())
        && extension.bytes().all(|octet| octet.is_ascii_alphanumeric());
    let mut octets = [0; LONGEST];
    let room = octets.get_mut(..extension.len()).filter(|_| fits)?;
    room.copy_from_slice(extension.as_bytes());
    room.make_ascii_lowercase();
    Some((octets, extension.len()))
}

/// Whether it is a style sheet or a script: a page loads those from its own site, while it may show pictures of any.
pub fn is_style_or_script(path: &str) -> bool {
    small_extension(path).is_some_and(|(octets, length)| matches!(&octets[..length], b"css" | b"js" | b"mjs"))
}

/// Extensions of programs, settings, copies and dumps: where they are missing, nobody was led there by a page.
const SOUGHT: [&str; 24] = [
    "php", "php5", "phtml", "asp", "aspx", "jsp", "jspx", "cgi", "pl", "do", "action", "env", "ini", "conf",
    "cfg", "yml", "yaml", "bak", "old", "orig", "save", "swp", "sql", "log",
];

/// Whether it asks for what programs try that look for a way in: hidden files, scripts, settings, copies. `/.well-known/`
/// (RFC 8615) is for everybody.
pub fn is_probe(path: &str) -> bool {
    let is_hidden = |segment: &str| segment.starts_with('.') && segment != ".well-known";
    path.split('/').any(is_hidden)
        || path.contains("/cgi-bin/")
        || small_extension(path).is_some_and(|(octets, length)| {
            SOUGHT.iter().any(|sought| sought.as_bytes() == &octets[..length])
        })
}

/// The kind of a path. What has no extension is a page: folders, and addresses that hide theirs.
pub fn kind(path: &str) -> Kind {
    let name = last_segment(path);
    if FEED_NAMES.iter().any(|feed| name.eq_ignore_ascii_case(feed)) {
        return Kind::Feed;
    }
    let Some((octets, length)) = small_extension(path) else { return Kind::Page };
    let extension = &octets[..length];
    let is_among = |all: &[&str]| all.iter().any(|one| one.as_bytes() == extension);
    if is_among(&PAGES) {
        Kind::Page
    } else if is_among(&ASSETS) {
        Kind::Asset
    } else if is_among(&DOWNLOADS) {
        Kind::Download
    } else if is_among(&FEEDS) {
        Kind::Feed
    } else {
        Kind::Other
    }
}

fn last_segment(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or(path)
}

/// What compression saves of a body at this path, as a part of it: a guess by its type, 0 for what is compressed already or is no
/// text.
pub fn saving(path: &str) -> f64 {
    let extension = extension(path);
    match extension.as_deref() {
        None if kind(path) == Kind::Page => 0.7,
        Some("html" | "htm" | "xhtml") => 0.75,
        Some("css" | "js" | "mjs") => 0.72,
        Some("json" | "xml" | "rss" | "atom" | "map" | "geojson" | "webmanifest") => 0.8,
        Some("txt" | "csv" | "tsv" | "md" | "ics") => 0.65,
        Some("svg") => 0.6,
        Some("ttf" | "otf" | "wasm" | "bmp") => 0.45,
        _ => 0.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/", Kind::Page, None)]
    #[case("/tides/today.html", Kind::Page, Some("html"))]
    #[case("/notices/2026", Kind::Page, None)]
    #[case("/style.CSS", Kind::Asset, Some("css"))]
    #[case("/tour/all.tar.gz", Kind::Download, Some("gz"))]
    #[case("/news/feed.xml", Kind::Feed, Some("xml"))]
    #[case("/feed", Kind::Feed, None)]
    #[case("/a.b/c", Kind::Page, None)]
    #[case("/.hidden", Kind::Page, None)]
    #[case("/v1.2-final version", Kind::Page, None)]
    #[case("/scan.xyz", Kind::Other, Some("xyz"))]
    fn kinds_and_extensions(#[case] path: &str, #[case] expected: Kind, #[case] end: Option<&str>) {
        assert_eq!((kind(path), extension(path).as_deref()), (expected, end));
    }
}
