//! Which content coding an answer is sent in (RFC 9110 §12.5.3).

use super::{Encoded, Encodings, Form};
use crate::encode::Codec;

/// The codings that a client likes best, in the site's order. Empty sends the body as it is.
pub fn codings(accepted: Option<&str>, codecs: &[Codec]) -> Vec<Codec> {
    let Some(accepted) = accepted else { return Vec::new() };
    let plain = quality(accepted, "identity").unwrap_or(0.001);
    let liked = |codec: Codec| {
        let liked = match codec {
            Codec::Gzip => quality(accepted, "gzip").or_else(|| named(accepted, "x-gzip")),
            codec => quality(accepted, codec.name()),
        };
        liked.filter(|&liked| liked > 0.0 && liked >= plain)
    };
    let most = codecs.iter().filter_map(|&codec| liked(codec)).fold(0.0, f32::max);
    codecs.iter().copied().filter(|&codec| liked(codec) == Some(most)).collect()
}

/// The coding to use where nothing is known of the body: the first of [`codings`].
pub fn coding(accepted: Option<&str>, codecs: &[Codec]) -> Option<Codec> {
    codings(accepted, codecs).first().copied()
}

/// The form to send a file in: of the codings liked best, the first of the site's until it has settled, then
/// the smallest of those that have. What does not get smaller is sent as it is.
pub fn form(liked: &[Codec], known: &Encodings) -> Form {
    let mut gaining = liked.iter().copied().filter(|&codec| known[codec as usize] != Encoded::NoGain);
    let Some(first) = gaining.next() else { return Form::Plain };
    if known[first as usize] == Encoded::Unknown {
        return Form::Quick(first);
    }
    let finished = liked.iter().filter_map(|&codec| match known[codec as usize] {
        Encoded::Settled(size) => Some((size, Form::Settled(codec))),
        Encoded::Ready(file) => Some((file.size, Form::Ready(codec))),
        Encoded::Unknown | Encoded::NoGain => None,
    });
    finished.min_by_key(|(size, _)| *size).map_or(Form::Plain, |(_, form)| form)
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

    #[test]
    fn settled_ones_go_out_smallest_first() {
        let ready = |size| Encoded::Ready(crate::answer::FileFacts { size, modified: 0 });
        let all = [Codec::Brotli, Codec::Zstd, Codec::Gzip];
        let form = |known: [Encoded; 4]| super::form(&all, &known);
        use Encoded::{NoGain, Settled, Unknown};
        assert_eq!(form([Unknown, Settled(5), ready(4), Unknown]), Form::Quick(Codec::Brotli));
        assert_eq!(form([Settled(9), Unknown, Unknown, Unknown]), Form::Settled(Codec::Brotli));
        assert_eq!(form([Settled(9), Settled(8), ready(7), Settled(1)]), Form::Ready(Codec::Gzip));
        assert_eq!(form([NoGain, Unknown, Settled(3), Unknown]), Form::Quick(Codec::Zstd));
        assert_eq!(form([NoGain, NoGain, NoGain, Unknown]), Form::Plain);
        assert_eq!(super::form(&[], &[Settled(1); 4]), Form::Plain);
    }

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
