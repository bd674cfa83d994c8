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

fn look_up(extension: &str) -> MediaType {
    let essence = mime_guess::from_ext(extension).first_raw().unwrap_or("application/octet-stream");
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
    fn by_extension(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(media_type(name).value, expected);
        assert_eq!(media_type(name).value, expected, "and again, remembered");
    }
}
