//! Which content coding an answer is sent in (RFC 9110 §12.5.3).
//!
//! ```
//! use exedra_answering::answer::Form;
//! use exedra_answering::answer::negotiate::{Accepted, codings, form, prefers_json};
//! use exedra_answering::encode::Codec;
//! let accepted = Accepted::understand("gzip;q=0.5, br");
//! assert_eq!((accepted.quality(Codec::Brotli), accepted.quality(Codec::Gzip)), (Some(1.0), Some(0.5)));
//! let liked = codings(Some("gzip;q=0.5, br"), &[Codec::Gzip, Codec::Brotli]);
//! assert_eq!(form(&liked, &Default::default()), Form::Quick(Codec::Brotli));
//! assert!(prefers_json(Some("application/json")) && !prefers_json(None));
//! ```

use super::{Encoded, Encodings, Form};
use crate::encode::Codec;
use arrayvec::ArrayVec;

/// Some codings, the preferred first.
pub type Codings = ArrayVec<Codec, { Codec::ALL.len() }>;

/// What an `Accept-Encoding` field says: quality values, where it says anything.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Accepted {
    codecs: [Option<f32>; Codec::ALL.len()],
    identity: Option<f32>,
    anything: Option<f32>,
}

impl Accepted {
    /// Understands a field. The first word on a coding counts.
    pub fn understand(field: &str) -> Self {
        let mut accepted = Accepted::default();
        let mut old_gzip = None;
        for item in field.split(',') {
            let (name, weight) = match item.split_once(';') {
                None => (item.trim(), 1.0),
                Some((name, parameters)) => (name.trim(), weight(parameters)),
            };
            let is = |known: &str| name.eq_ignore_ascii_case(known);
            let said = match name.as_bytes().first() {
                Some(b'*') => &mut accepted.anything,
                Some(b'b' | b'B') if is("br") => &mut accepted.codecs[Codec::Brotli as usize],
                Some(b'z' | b'Z') if is("zstd") => &mut accepted.codecs[Codec::Zstd as usize],
                Some(b'g' | b'G') if is("gzip") => &mut accepted.codecs[Codec::Gzip as usize],
                Some(b'd' | b'D') if is("deflate") => &mut accepted.codecs[Codec::Deflate as usize],
                // RFC 9110 §8.4.1.3.
                Some(b'x' | b'X') if is("x-gzip") => &mut old_gzip,
                Some(b'i' | b'I') if is("identity") => &mut accepted.identity,
                _ => continue,
            };
            said.get_or_insert(weight);
        }
        let gzip = &mut accepted.codecs[Codec::Gzip as usize];
        *gzip = gzip.or(old_gzip);
        accepted
    }

    /// How much a client likes a codec: its quality value, where the client names it or takes anything.
    pub fn quality(&self, codec: Codec) -> Option<f32> {
        self.codecs[codec as usize].or(self.anything)
    }

    /// How much a client likes a body as it is; hardly, where it does not say.
    pub fn plain(&self) -> f32 {
        self.identity.unwrap_or(0.001)
    }
}

fn weight(parameters: &str) -> f32 {
    let weight = parameters.split(';').find_map(|parameter| {
        let parameter = parameter.trim();
        parameter.strip_prefix("q=").or_else(|| parameter.strip_prefix("Q="))
    });
    weight.map_or(1.0, |weight| weight.parse::<f32>().unwrap_or(0.0).clamp(0.0, 1.0))
}

/// The codings that a client likes best, in the site's order. Empty sends the body as it is.
pub fn codings(accepted: Option<&str>, codecs: &[Codec]) -> Codings {
    let Some(accepted) = accepted.map(Accepted::understand) else { return Codings::new() };
    let liked = |codec| accepted.quality(codec).filter(|&liked| liked > 0.0 && liked >= accepted.plain());
    let most = codecs.iter().filter_map(|&codec| liked(codec)).fold(0.0, f32::max);
    codecs.iter().copied().filter(|&codec| liked(codec) == Some(most)).collect()
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
        let ready = |size| Encoded::Ready(crate::answer::FileFacts { size, modified: 0, stamp: 0 });
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
        let codings = super::codings(accepted, &[Codec::Brotli, Codec::Gzip]);
        assert_eq!(codings.first().copied(), expected);
    }
}
