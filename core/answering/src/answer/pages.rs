//! What is said of an error where the site has no page of its own: what happened, what to do, and no more
//! than that; for people as a page, for programs as a problem (RFC 9457).
//!
//! ```
//! use exedra_answering::answer::pages::{built_in, problem};
//! use http::StatusCode;
//! assert!(built_in(StatusCode::NOT_FOUND, None).contains("404"));
//! assert!(problem(StatusCode::BAD_REQUEST, Some("The Host header is not valid.")).contains("Host header"));
//! ```

use exedra_common::text::clean_value;
use http::StatusCode;

/// The problem for a status, as JSON. `why` says more of it than the status does.
pub fn problem(status: StatusCode, why: Option<&str>) -> String {
    let title = status.canonical_reason().unwrap_or("Error");
    let detail = why.unwrap_or_else(|| words(status));
    serde_json::json!({ "status": status.as_u16(), "title": title, "detail": detail }).to_string()
}

fn words(status: StatusCode) -> &'static str {
    match status.as_u16() {
        400 => "The request could not be understood.",
        403 => "You do not have access to this page.",
        404 => "There is nothing at this address. It may have moved, or the link may be wrong.",
        405 => "This URL does not accept this method.",
        416 => "The requested range is not in the file.",
        414 => "The URL is longer than this server accepts.",
        431 => "The request's header fields are longer than this server takes.",
        408 => "The request took too long to come in.",
        412 => "The file has changed since.",
        401 => "This needs a name and a password.",
        429 => "Too much was asked from your address in a short time. It will be answered again soon.",
        421 => "No site on this server goes by that name.",
        500..=599 => "Something went wrong on this server. Trying again in a while may help.",
        _ => "The request could not be answered.",
    }
}

/// The page for a status. `why` says more of it than the status does.
pub fn built_in(status: StatusCode, why: Option<&str>) -> String {
    let title = status.canonical_reason().unwrap_or("Error");
    let words = escaped(why.unwrap_or_else(|| words(status)));
    let number = status.as_u16();
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width\">\n<title>{number} {title}</title>\n\
         <style>:root{{color-scheme:light dark}}body{{font:1.05rem/1.5 system-ui,sans-serif;max-width:32rem;\
         margin:18vh auto 0;padding:0 1.5rem;color:light-dark(#14212b,#e4eaec);background:light-dark(#f5f7f6,#10181e)}}\
         b{{display:block;font-weight:600;font-size:3.2rem;line-height:1.1;color:light-dark(#0f5e6b,#6fc2cf)}}\
         h1{{font-size:1.3rem;margin:.4rem 0 .8rem}}</style>\n\
         <b>{number}</b>\n<h1>{title}</h1>\n<p>{words}\n</html>\n"
    )
}

/// A text as it may stand in a page.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    // Marks of direction would show `gpj.exe` as another name.
    for letter in clean_value(text).chars() {
        match letter {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            letter => out.push(letter),
        }
    }
    out
}
