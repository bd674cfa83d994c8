//! Why each codec was taken, or why not: the negotiation told codec by codec.
//!
//! Choosing itself does not go through this: it has to be quick, and this has to be complete. A property
//! test holds the two equal.
//!
//! ```
//! use exedra_answering::answer::represent::FileMetadata;
//! use exedra_answering::answer::trace::Verdict;
//! use exedra_answering::answer::verdicts::verdicts;
//! use exedra_answering::answer::{Encodings, FileFacts, Form, SitePath};
//! use exedra_answering::config::Compress;
//! use exedra_answering::facts::Facts;
//! let facts = FileFacts { size: 10, modified: 0, stamp: 0 };
//! let file = FileMetadata::new(&SitePath::root().join("a.txt"), facts, None, b"", &Default::default());
//! let all = verdicts(&Compress::default(), &Facts::UNKNOWN, &file, &Encodings::default(), Form::Plain, false);
//! assert!(all.iter().any(|(_, verdict)| matches!(verdict, Verdict::Small { bytes: 10, .. })));
//! ```

use super::negotiate::Accepted;
use super::represent::{self, FileMetadata};
use super::trace::Verdict;
use super::{Encoded, Encodings, Form, negotiate};
use crate::config::Compress;
use crate::encode::Codec;
use crate::facts::{Facts, RecordedFacts};
use http::header;

/// The verdict on each codec, where a file is sent in some form.
pub fn verdicts(
    compress: &Compress,
    facts: &Facts<'_>,
    file: &FileMetadata,
    known: &Encodings,
    form: Form,
    parts_asked: bool,
) -> [(Codec, Verdict); Codec::ALL.len()] {
    let accepted = represent::accepted_encodings(&RecordedFacts::new(*facts));
    let agent = facts.field(&header::USER_AGENT).value().unwrap_or_default();
    let liked = negotiate::codings(accepted.as_deref(), &compress.codecs);
    Codec::ALL.map(|codec| {
        let verdict = if form.codec() == Some(codec) {
            Verdict::Chosen
        } else if !compress.codecs.contains(&codec) {
            Verdict::NotConfigured
        } else if !compress.has_type(&file.media.essence) {
            Verdict::Type(file.media.essence.clone())
        } else if file.facts.size < compress.at_least {
            Verdict::Small { bytes: file.facts.size, at_least: compress.at_least }
        } else if let Some(pattern) = compress.leaves_out(agent) {
            Verdict::Agent(pattern.to_string())
        } else if let Some(accepted) = accepted.as_deref() {
            match liked.contains(&codec) {
                true => among_equals(codec, known, form, parts_asked),
                false => less_liked(&Accepted::understand(accepted), codec, &liked),
            }
        } else {
            Verdict::NothingAccepted
        };
        (codec, verdict)
    })
}

fn less_liked(accepted: &Accepted, codec: Codec, liked: &[Codec]) -> Verdict {
    let Some(quality) = accepted.quality(codec).filter(|&quality| quality > 0.0) else {
        return Verdict::NotAccepted;
    };
    match liked.first().and_then(|&best| accepted.quality(best)) {
        Some(most) => Verdict::LessLiked(quality, most),
        None => Verdict::RatherPlain,
    }
}

/// Of codecs liked equally, why this one is not used.
fn among_equals(codec: Codec, known: &Encodings, form: Form, parts_asked: bool) -> Verdict {
    let length = |codec: Codec| match known[codec as usize] {
        Encoded::Settled(bytes) => Some(bytes),
        Encoded::Ready(file) => Some(file.size),
        Encoded::Unknown | Encoded::NoGain => None,
    };
    match (known[codec as usize], form) {
        (Encoded::NoGain, _) => Verdict::NoGain,
        (_, Form::Settled(best) | Form::Ready(best)) => {
            Verdict::Larger(length(codec), length(best).unwrap_or_default())
        }
        (_, Form::Plain) if parts_asked => Verdict::Parts,
        (_, Form::Plain | Form::Quick(_)) => Verdict::Later,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::answer::{FileFacts, SitePath, path};
    use crate::facts::{Fields, Known};
    use http::{HeaderMap, HeaderValue};
    use proptest::prelude::*;

    fn encoded() -> impl Strategy<Value = Encoded> {
        prop_oneof![
            Just(Encoded::Unknown),
            Just(Encoded::NoGain),
            (1u64..9).prop_map(Encoded::Settled),
            (1u64..9).prop_map(|size| Encoded::Ready(FileFacts { size, modified: 0, stamp: 0 })),
        ]
    }

    fn file(size: u64) -> FileMetadata {
        let place: SitePath = path::resolve("/a.html").unwrap().place;
        FileMetadata::new(&place, FileFacts { size, modified: 0, stamp: 0 }, None, b"", &Default::default())
    }

    proptest! {
        #[test]
        fn what_is_chosen_and_what_is_said_agree(
            qualities in proptest::collection::vec(0u32..4, 5),
            known in [encoded(), encoded(), encoded(), encoded()],
            configured in proptest::sample::subsequence(Codec::ALL.to_vec(), 0..=4),
            size in 200u64..300,
        ) {
            let names = ["br", "zstd", "gzip", "deflate", "identity"];
            let field: Vec<String> =
                names.iter().zip(&qualities).map(|(name, tenth)| format!("{name};q=0.{tenth}")).collect();
            let mut map = HeaderMap::new();
            map.insert(header::ACCEPT_ENCODING, HeaderValue::from_str(&field.join(", ")).unwrap());
            let facts = Facts {
                client: Known::Unknown, scheme: Known::Unknown, host: Known::Unknown, port: Known::Unknown,
                method: Known::Unknown, path: Known::Unknown, query: Known::Unknown, fields: Fields::All(&map),
                ..Facts::UNKNOWN
            };
            let compress = Compress { codecs: configured, ..Compress::default() };
            let file = file(size);
            let accepted = represent::accepted_encodings(&RecordedFacts::new(facts));
            let liked = negotiate::codings(accepted.as_deref(), &compress.codecs);
            let form = match size < compress.at_least {
                true => Form::Plain,
                false => negotiate::form(&liked, &known),
            };
            let said = verdicts(&compress, &facts, &file, &known, form, false);
            prop_assert_eq!(said.iter().find(|(_, verdict)| verdict.is_chosen()).map(|(codec, _)| *codec), form.codec());
            // Nothing is put off to later without something being used now.
            let put_off = said.iter().any(|(_, verdict)| *verdict == Verdict::Later);
            prop_assert!(!put_off || form != Form::Plain, "{:?}", said);
        }
    }
}
