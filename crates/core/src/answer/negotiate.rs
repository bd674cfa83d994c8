//! Which content coding an answer is sent in (RFC 9110 §12.5.3).

use crate::encode::Codec;

/// The coding to use: the one the client likes best, and of equals the one the site names first.
/// `None` sends the body as it is.
pub fn coding(accepted: Option<&str>, codecs: &[Codec]) -> Option<Codec> {
    let accepted = accepted?;
    let plain = quality(accepted, "identity").unwrap_or(0.001);
    let mut best: Option<(f32, Codec)> = None;
    for &codec in codecs {
        let liked = match codec {
            Codec::Gzip => quality(accepted, "gzip").or_else(|| named(accepted, "x-gzip")),
            Codec::Brotli => quality(accepted, "br"),
        };
        let liked = liked.unwrap_or(0.0);
        if liked > 0.0 && liked >= plain && best.is_none_or(|(most, _)| liked > most) {
            best = Some((liked, codec));
        }
    }
    best.map(|(_, codec)| codec)
}

/// Whether a client would rather have JSON than a page (RFC 9110 §12.5.1).
pub fn prefers_json(accepted: Option<&str>) -> bool {
    let Some(accepted) = accepted else { return false };
    let liked = |names: &[&str]| {
        names
            .iter()
            .filter_map(|name| named(accepted, name))
            .fold(None, |most: Option<f32>, liked| Some(most.map_or(liked, |most| most.max(liked))))
    };
    let json = liked(&["application/json", "application/problem+json"]).unwrap_or(0.0);
    let page =
        liked(&["text/html", "application/xhtml+xml"]).or_else(|| liked(&["text/*", "*/*"])).unwrap_or(0.0);
    json > page || (json > 0.0 && json == page && liked(&["text/html"]).is_none())
}

/// How much a client likes a coding, by its name or by `*`.
fn quality(accepted: &str, name: &str) -> Option<f32> {
    named(accepted, name).or_else(|| if name == "identity" { None } else { named(accepted, "*") })
}

fn named(accepted: &str, name: &str) -> Option<f32> {
    accepted.split(',').find_map(|item| {
        let mut parts = item.split(';').map(str::trim);
        if !parts.next()?.eq_ignore_ascii_case(name) {
            return None;
        }
        let weight = parts.find_map(|part| part.strip_prefix("q=").or_else(|| part.strip_prefix("Q=")));
        Some(weight.map_or(1.0, |weight| weight.parse::<f32>().unwrap_or(0.0).clamp(0.0, 1.0)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(None, false)]
    #[case(Some("*/*"), false)]
    #[case(Some("application/json"), true)]
    #[case(Some("application/problem+json, */*;q=0.1"), true)]
    #[case(Some("application/json, */*"), true)]
    #[case(Some("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"), false)]
    #[case(Some("text/html, application/json"), false)]
    #[case(Some("text/html;q=0.5, application/json"), true)]
    fn json_or_a_page(#[case] accepted: Option<&str>, #[case] expected: bool) {
        assert_eq!(prefers_json(accepted), expected);
    }

    #[rstest]
    #[case::nothing_said(None, None)]
    #[case::empty(Some(""), None)]
    #[case::both(Some("gzip, deflate, br"), Some(Codec::Brotli))]
    #[case::only_gzip(Some("gzip"), Some(Codec::Gzip))]
    #[case::capitals(Some("GZIP"), Some(Codec::Gzip))]
    #[case::weights(Some("br;q=0.5, gzip;q=0.8"), Some(Codec::Gzip))]
    #[case::refused(Some("br;q=0, gzip"), Some(Codec::Gzip))]
    #[case::star(Some("*"), Some(Codec::Brotli))]
    #[case::star_but(Some("br;q=0, *;q=0.3"), Some(Codec::Gzip))]
    #[case::rather_plain(Some("identity, gzip;q=0.5"), None)]
    #[case::nonsense(Some("gzip;q=lots"), None)]
    #[case::unknown(Some("snappy"), None)]
    fn codings(#[case] accepted: Option<&str>, #[case] expected: Option<Codec>) {
        assert_eq!(coding(accepted, &[Codec::Brotli, Codec::Gzip]), expected);
    }
}
