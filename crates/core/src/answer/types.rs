//! Media types by extension, with their charset.

use http::HeaderValue;

/// The type of a file, and its essence (without parameters).
pub fn media_type(name: &str) -> (HeaderValue, String) {
    let guess = mime_guess::from_path(name).first_or_octet_stream();
    let essence = guess.essence_str().to_owned();
    let text = match essence.starts_with("text/") {
        true => format!("{essence}; charset=utf-8"),
        false => essence.clone(),
    };
    (HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static("application/octet-stream")), essence)
}
