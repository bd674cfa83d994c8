//! Where people come from, by the page that linked here (`Referer`, RFC 9110 §10.1.3).
//!
//! ```
//! use exedra_reading::classify::referrers::{host, search_phrase};
//! assert_eq!(host("https://Search.example:443/?q=high+tide").as_deref(), Some("search.example"));
//! assert_eq!(search_phrase("https://search.example/?q=high+tide").as_deref(), Some("high tide"));
//! ```

use percent_encoding::percent_decode_str;

/// Query parameters in which pages put what somebody searched for.
const PHRASES: [&str; 8] = ["q", "query", "search", "searchterm", "phrase", "keywords", "text", "s"];
/// The longest phrase, in letters.
const LONGEST: usize = 200;

/// The host that a referrer names, in small letters and without its port.
pub fn host(referrer: &str) -> Option<String> {
    let (_, rest) = split(referrer)?;
    let authority = rest.split(['/', '?', '#']).next().unwrap_or(rest);
    let authority = authority.rsplit('@').next().unwrap_or(authority);
    let host = match authority.strip_prefix('[') {
        Some(address) => address.split(']').next().unwrap_or(address),
        None => authority.split(':').next().unwrap_or(authority),
    };
    (!host.is_empty()).then(|| host.trim_end_matches('.').to_ascii_lowercase())
}

/// What somebody searched for on the page that linked here: small letters, single spaces.
pub fn search_phrase(referrer: &str) -> Option<String> {
    let (_, rest) = split(referrer)?;
    let query = rest.split('#').next()?.split_once('?')?.1;
    let value = query.split('&').find_map(|pair| {
        let (name, value) = pair.split_once('=')?;
        PHRASES.contains(&name).then_some(value)
    })?;
    let spaced = value.replace('+', " ");
    let decoded = percent_decode_str(&spaced).decode_utf8_lossy().to_lowercase();
    let words: Vec<&str> = decoded.split_whitespace().collect();
    let phrase: String =
        words.join(" ").chars().filter(|letter| !letter.is_control()).take(LONGEST).collect();
    let phrase = phrase.trim();
    (!phrase.is_empty()).then(|| phrase.to_owned())
}

fn split(referrer: &str) -> Option<(&str, &str)> {
    referrer.split_once("://").filter(|(scheme, _)| scheme.bytes().all(|octet| octet.is_ascii_alphanumeric()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("https://Pilots.Saltwater.example/links", Some("pilots.saltwater.example"), None)]
    #[case("http://a.example:8080/?q=Tide++table%20today&x=1", Some("a.example"), Some("tide table today"))]
    #[case("https://ann@[2001:db8::1]:443/", Some("2001:db8::1"), None)]
    #[case("https://a.example?query=%E6%BD%AE", Some("a.example"), Some("潮"))]
    #[case("https://a.example/?q=", Some("a.example"), None)]
    #[case("about:blank", None, None)]
    #[case("-", None, None)]
    #[case("https:///x", None, None)]
    fn hosts_and_phrases(#[case] referrer: &str, #[case] named: Option<&str>, #[case] phrase: Option<&str>) {
        assert_eq!((host(referrer).as_deref(), search_phrase(referrer).as_deref()), (named, phrase));
    }
}
