//! What `check` tries rules by: paths that a pattern fits, and requests that a rule fits or does not; and what `weigh` makes of
//! measurements. Each is held against the rules, patterns and sums themselves.

use exedra_answering::check::probe::Probe;
use exedra_answering::check::sample::{Pool, paths};
use exedra_answering::config::{Config, understand};
use exedra_answering::encode::weighing::{Measured, Weighing};
use exedra_answering::encode::{Codec, Effort};
use exedra_answering::facts::{RecordedFacts, Scheme};
use exedra_answering::rules::{Pattern, Rule, Seen, SoFar};
use proptest::collection::vec;
use proptest::prelude::*;
use std::io::{Read, Write};
use std::path::Path;

const HEAD: &str = "[[listener]]\naddress = \"127.0.0.1:7380\"\n[[listener]]\naddress = \"127.0.0.1:7343\"\nhttps = true\n\
                    [service]\ncountries = \"countries.mmdb\"\n\
                    [[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\", \"*.harbour.example\"]\nfolder = \"h\"\n";

/// Paths of rules, as they are written in a configuration.
const PATHS: [&str; 12] = [
    "\"/tides\"",
    "\"/notices/{year}\"",
    "\"/notices/{year}/{rest*}\"",
    "\"/{tongue}/page.html\"",
    "\"/pictures-{size}.png\"",
    "\"/a-{one}-{two}/b\"",
    "\"/sæl/{*}\"",
    "\"/{all*}\"",
    "{ regex = '/old/[0-9]+' }",
    "{ regex = '/(staff|office)/.*' }",
    "{ regex = '/x{2,4}y?' }",
    "{ regex = '(?i)/charts/[a-f]+\\.pdf' }",
];

/// Conditions, all of which somebody could meet.
const WHEN: [&str; 24] = [
    "method = \"GET\"",
    "method = \"!GET\"",
    "scheme = \"https\"",
    "host = \"www.*\"",
    "host = \"!harbour.example\"",
    "port = 7380",
    "query = false",
    "query = \"season=winter\"",
    "client = [\"203.0.113.0/24\", \"!203.0.113.7\"]",
    "client = \"2001:db8::/32\"",
    "country = \"FO\"",
    "country = false",
    "agent = \"LindryKiosk/*\"",
    "agent = { regex = \"Boat/[0-9]\" }",
    "referrer = \"https://forum.example/*\"",
    "tls = \"1.2\"",
    "hour = \"22-5\"",
    "weekday = [\"saturday\", \"sunday\"]",
    "date = \"2030-12-01..2031-01-06\"",
    "parameter = { season = \"winter\" }",
    "field = { Accept-Language = \"fo*\" }",
    "cookie = { tongue = true }",
    "cookie = { tongue = false }",
    "server_port = 7343",
];

fn config(rules: &str) -> Config {
    understand(&format!("{HEAD}{rules}"), Path::new("")).unwrap_or_else(|found| panic!("{rules}\n{found:#?}"))
}

fn rule(path: Option<usize>, when: &[usize]) -> String {
    let path = path.map(|nth| format!("path = {}\n", PATHS[nth])).unwrap_or_default();
    let when: Vec<&str> = when.iter().map(|nth| WHEN[*nth]).collect();
    format!("[[site.rules]]\n{path}when = {{ {} }}\nrefuse = 403\n", when.join(", "))
}

fn fits(rule: &Rule, probe: &Probe) -> bool {
    let facts = RecordedFacts::new(probe.facts());
    let seen = Seen::new(probe.path.clone());
    let so_far = SoFar { user: None, path: seen.text() };
    rule.fits(&facts, so_far, &seen).is_ok()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, ..ProptestConfig::default() })]

    #[test]
    fn a_request_that_is_made_for_a_rule_fits_it_and_one_made_against_it_does_not(
        path in prop::option::of(0..PATHS.len()),
        first in 0..WHEN.len(),
        second in 0..WHEN.len(),
        https in any::<bool>(),
    ) {
        let name = |nth: usize| WHEN[nth].split(' ').next().unwrap();
        // Without a query there is no parameter.
        prop_assume!(!matches!((WHEN[first], WHEN[second]), ("query = false", other) | (other, "query = false") if other.starts_with("parameter")));
        let when = if name(first) == name(second) { vec![first] } else { vec![first, second] };
        let config = config(&rule(path, &when));
        let rule = &config.sites[0].rules.written()[0];
        let pool = Pool::of([rule].into_iter());
        let scheme = if https { Scheme::Https } else { Scheme::Http };
        let mut probe = Probe::of("harbour.example", scheme);
        probe.path = paths(rule.path.as_ref(), &pool, 1).pop().expect("a path that it fits");
        let asked = probe.clone().asked_by(rule);
        prop_assert!(fits(rule, &asked), "{:?} {:?}", WHEN[first], asked);
        // However it came to fit, it can be made not to.
        prop_assert!(!fits(rule, &asked.clone().not_asked_by(rule)), "{:?} {:?}", WHEN[first], asked);
        prop_assert!(!fits(rule, &probe.not_asked_by(rule)));
    }

    #[test]
    fn every_path_that_is_tried_fits_its_pattern(of in 0..PATHS.len(), others in vec(0..PATHS.len(), 0..4), most in 1usize..80) {
        let rules: String = [of].iter().chain(&others).map(|nth| rule(Some(*nth), &[])).collect();
        let rules = rules.replace("when = {  }\n", "");
        let config = config(&rules);
        let written = config.sites[0].rules.written();
        let pool = Pool::of(written.iter());
        let pattern = written[0].path.as_ref().unwrap();
        let tried = paths(Some(pattern), &pool, most);
        prop_assert!(!tried.is_empty() && tried.len() <= most.max(1));
        for path in &tried {
            prop_assert!(pattern.capture(&Seen::new(path.clone())).is_some(), "{} {}", PATHS[of], path);
        }
        let mut different = tried.clone();
        different.sort();
        different.dedup();
        prop_assert_eq!(different.len(), tried.len(), "none is tried twice");
    }

    #[test]
    fn an_encoding_is_undone_to_the_same_octets_however_it_was_written(
        octets in prop_oneof![vec(any::<u8>(), 0..3000), vec(0u8..4, 0..20_000)],
        pieces in vec(1usize..3000, 1..6),
        codec in prop::sample::select(Codec::ALL.to_vec()),
        effort in 0u32..3,
    ) {
        let efforts = codec.efforts();
        let effort = match effort { 0 => Effort::Quick, 1 => Effort::Thorough, _ => Effort::Level(*efforts.start()) };
        let whole = codec.encode(effort, &octets).unwrap();
        let mut encoder = codec.encoder(effort, Vec::new()).unwrap();
        let (mut rest, mut next) = (&octets[..], pieces.iter().cycle());
        while !rest.is_empty() {
            let (piece, left) = rest.split_at(rest.len().min(*next.next().unwrap()));
            encoder.write_all(piece).unwrap();
            rest = left;
        }
        let in_pieces = encoder.finish().unwrap();
        for encoded in [&whole, &in_pieces] {
            let mut undone = Vec::new();
            match codec {
                Codec::Gzip => _ = flate2::read::GzDecoder::new(&encoded[..]).read_to_end(&mut undone).unwrap(),
                Codec::Deflate => _ = flate2::read::ZlibDecoder::new(&encoded[..]).read_to_end(&mut undone).unwrap(),
                Codec::Zstd => _ = zstd::Decoder::new(&encoded[..]).unwrap().read_to_end(&mut undone).unwrap(),
                Codec::Brotli => _ = brotli::Decompressor::new(&encoded[..], 4096).read_to_end(&mut undone).unwrap(),
            }
            prop_assert!(undone == octets, "{:?} {:?}", codec, effort);
        }
    }

    #[test]
    fn a_recommendation_sends_no_more_than_everything_as_it_is(
        types in vec((0usize..4, 1u64..200_000, 1u64..120, 1u64..9_000_000), 1..12),
    ) {
        const ESSENCES: [&str; 4] = ["text/html", "text/css", "image/png", "application/json"];
        let mut weighing = Weighing::default();
        for (essence, bytes, percent, nanoseconds) in types {
            let essence = ESSENCES[essence];
            weighing.file(essence, bytes);
            weighing.sampled(essence, bytes);
            for codec in [Codec::Gzip, Codec::Brotli] {
                for effort in codec.efforts().step_by(3) {
                    let after = (bytes * percent / 100).saturating_sub(u64::from(effort)).min(bytes);
                    let nanoseconds = nanoseconds * u64::from(effort + 1);
                    weighing.add(essence, &Measured { codec, effort, before: bytes, after, nanoseconds });
                }
            }
        }
        let all = weighing.bytes() as f64;
        for curve in weighing.curves(None) {
            prop_assert!(curve.points.iter().all(|point| point.bytes <= all + 0.5 && point.ratio <= 1.0 + 1e-9));
            prop_assert!(curve.points.is_sorted_by_key(|point| point.effort));
            prop_assert!(curve.points.iter().filter(|point| point.knee).count() <= 1);
        }
        let advice = weighing.recommend();
        prop_assert!(advice.bytes <= all + 0.5);
        prop_assert_eq!(advice.codecs.is_empty(), advice.types.is_empty());
        prop_assert!(!advice.reasons.is_empty());
        for (codec, effort) in &advice.efforts {
            let codec = Codec::ALL.into_iter().find(|known| known.name() == *codec).unwrap();
            prop_assert!(codec.efforts().contains(effort));
        }
        // What is recommended can be written into a configuration.
        if !advice.codecs.is_empty() {
            let list = |items: &[String]| items.iter().map(|item| format!("{item:?}")).collect::<Vec<_>>().join(", ");
            let codecs: Vec<String> = advice.codecs.iter().map(|codec| (*codec).to_owned()).collect();
            let text = format!(
                "[site.compress]\ncodecs = [{}]\ntypes = [{}]\nat_least = \"{} bytes\"\n",
                list(&codecs), list(&advice.types), advice.at_least
            );
            let compress = &config(&text).sites[0].compress;
            prop_assert!(advice.types.iter().all(|essence| compress.has_type(essence)));
        }
    }
}

#[test]
fn patterns_that_are_equal_cover_each_other() {
    for written in PATHS {
        let config = config(&format!("[[site.rules]]\npath = {written}\ngone = true\n"));
        let pattern: &Pattern = config.sites[0].rules.written()[0].path.as_ref().unwrap();
        assert!(exedra_answering::rules::cover::covers_paths(pattern, pattern), "{written}");
    }
}
