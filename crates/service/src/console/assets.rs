//! The console's pages, from inside the program.

use axum::http::{HeaderMap, HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};

/// A file of the built console.
struct Asset {
    name: &'static str,
    plain: &'static [u8],
    brotli: Option<&'static [u8]>,
}

const ASSETS: &[Asset] = include!(concat!(env!("OUT_DIR"), "/assets.rs"));

/// Said where the console should be, by a program that was built without it.
const WITHOUT: &str = "This program was built without its console: `cargo xtask build` makes one that has it. The API is \
                       here all the same.\n";

/// Whether the console's pages are in the program.
pub fn are_there() -> bool {
    !ASSETS.is_empty()
}

/// A file by its name; every other address is a page, which the console finds itself.
pub async fn asset(uri: Uri, headers: HeaderMap) -> Response {
    let name = uri.path().trim_start_matches('/');
    let found = ASSETS.iter().find(|asset| asset.name == name);
    let found = match found {
        None if name.contains('.') => {
            return (StatusCode::NOT_FOUND, "There is no such file.\n").into_response();
        }
        None => ASSETS.iter().find(|asset| asset.name == "index.html"),
        found => found,
    };
    let Some(asset) = found else { return (StatusCode::OK, WITHOUT).into_response() };
    let accepted = headers.get(header::ACCEPT_ENCODING).and_then(|value| value.to_str().ok());
    let takes_brotli =
        exedra_answering::answer::negotiate::codings(accepted, &[exedra_answering::encode::Codec::Brotli]);
    let (content, encoding) = match (asset.brotli, takes_brotli.first()) {
        (Some(brotli), Some(codec)) => (brotli, Some(codec.name())),
        _ => (asset.plain, None),
    };
    let mut response = content.into_response();
    let media_type = exedra_answering::media_types::media_type(asset.name).value;
    let out = response.headers_mut();
    out.insert(header::CONTENT_TYPE, media_type);
    out.insert(header::VARY, HeaderValue::from_static("Accept-Encoding"));
    if let Some(encoding) = encoding {
        out.insert(header::CONTENT_ENCODING, HeaderValue::from_static(encoding));
    }
    if asset.name.starts_with("assets/") {
        // Their names change whenever they do.
        let for_ever = HeaderValue::from_static("public, max-age=31536000, immutable");
        out.insert(header::CACHE_CONTROL, for_ever);
    }
    response
}
