//! What compression is worth: codecs and efforts held against each other on a site's own files.
//!
//! Somebody else reads files, encodes them and measures the time; here the measurements add up, the effort is
//! found past which more work buys nothing, and settings are recommended. Where only some files of a type were
//! encoded, they stand for all of that type.
//!
//! ```
//! use exedra_answering::encode::Codec;
//! use exedra_answering::encode::weighing::{Measured, Weighing};
//! let mut weighing = Weighing::default();
//! weighing.file("text/css", 10_000);
//! weighing.sampled("text/css", 10_000);
//! for (effort, after, nanoseconds) in [(1, 4000, 1_000_000), (6, 2500, 2_000_000), (9, 2499, 9_000_000)] {
//!     weighing.add("text/css", &Measured { codec: Codec::Gzip, effort, before: 10_000, after, nanoseconds });
//! }
//! let curves = weighing.curves(None);
//! assert_eq!((curves[0].codec, curves[0].knee().map(|point| point.effort)), ("gzip", Some(6)));
//! assert_eq!(weighing.recommend().codecs, ["gzip"]);
//! ```

use super::{COMPRESSED_TYPES, Codec, Effort};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use utoipa::ToSchema;

/// A step to a higher effort pays if it makes what is sent smaller by this part for each doubling of its time.
pub const PAYING: f64 = 0.01;
/// A type is worth compressing if its files lose at least this part.
const WORTH: f64 = 0.05;
/// Thorough work in the background is worth it if it makes what is sent smaller by this part.
const WORTH_SETTLING: f64 = 0.02;
/// The most seconds of one thread that settling a whole site may take before numbers are recommended instead.
const MOST_SETTLING: f64 = 3600.0;
/// Of two codecs, the one that both sides know longer goes first unless the other sends less by this part.
const BETTER: f64 = 0.005;

/// One file encoded once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Measured {
    /// By which codec.
    pub codec: Codec,
    /// How hard, in the codec's own scale.
    pub effort: u32,
    /// Bytes before.
    pub before: u64,
    /// Bytes after; as before, where it does not get smaller, because it is then sent as it is.
    pub after: u64,
    /// Nanoseconds of one thread's time.
    pub nanoseconds: u64,
}

/// Files of one type.
#[derive(Debug, Clone, Default, PartialEq, Serialize, ToSchema)]
pub struct OfType {
    /// How many there are.
    pub files: u64,
    /// Bytes of all of them.
    pub bytes: u64,
    /// How many were encoded.
    pub sampled_files: u64,
    /// Bytes of those.
    pub sampled_bytes: u64,
    #[serde(skip)]
    sums: BTreeMap<(Codec, u32), Sum>,
    /// By size, as the power of two at or below it: bytes before, and after by the best codec's quick effort.
    #[serde(skip)]
    by_size: BTreeMap<u32, BTreeMap<Codec, Sum>>,
}

#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Sum {
    before: u64,
    after: u64,
    nanoseconds: u64,
}

impl Sum {
    fn add(&mut self, measured: &Measured) {
        self.before += measured.before;
        self.after += measured.after;
        self.nanoseconds += measured.nanoseconds;
    }
}

/// What one codec at one effort makes of the files.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, ToSchema)]
pub struct Point {
    /// The effort, in the codec's own scale.
    pub effort: u32,
    /// Bytes that would be sent if everything were sent once.
    pub bytes: f64,
    /// The same as a part of what it is now.
    pub ratio: f64,
    /// Seconds of one thread's time.
    pub seconds: f64,
    /// Whether more work than this no longer pays.
    pub knee: bool,
}

/// All efforts of a codec.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Curve {
    /// Its name in `Content-Encoding`.
    pub codec: &'static str,
    /// Its efforts, from the quickest on.
    pub points: Vec<Point>,
    #[serde(skip)]
    of: Codec,
}

impl Curve {
    /// The effort past which more work buys nothing.
    pub fn knee(&self) -> Option<&Point> {
        self.points.iter().find(|point| point.knee)
    }

    /// What an effort makes of the files.
    pub fn at(&self, effort: Effort) -> Option<&Point> {
        let level = self.of.level(effort);
        self.points.iter().find(|point| point.effort == level)
    }
}

/// Settings that suit the files.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Recommendation {
    /// Codecs, the best first.
    pub codecs: Vec<&'static str>,
    /// Types worth compressing.
    pub types: Vec<String>,
    /// The smallest body worth it, in bytes.
    pub at_least: u64,
    /// Effort by codec; none where encodings should settle.
    pub efforts: BTreeMap<&'static str, u32>,
    /// Bytes that are sent by it if everything is sent once, by the best codec.
    pub bytes: f64,
    /// Why, one sentence each.
    pub reasons: Vec<String>,
}

impl Recommendation {
    /// The section of a configuration that says so.
    pub fn settings(&self) -> String {
        let listed = |texts: &mut dyn Iterator<Item = &str>| {
            texts.map(|text| format!("\"{text}\"")).collect::<Vec<_>>().join(", ")
        };
        let mut section =
            format!("[site.compress]\ncodecs   = [{}]\n", listed(&mut self.codecs.iter().copied()));
        if self.codecs.is_empty() {
            return section;
        }
        let efforts: Vec<String> =
            self.efforts.iter().map(|(codec, effort)| format!("{codec} = {effort}")).collect();
        let effort = match efforts.is_empty() {
            true => "\"settled\"".to_owned(),
            false => format!("{{ {} }}", efforts.join(", ")),
        };
        section += &format!("types    = [{}]\n", listed(&mut self.types.iter().map(String::as_str)));
        section += &format!("at_least = \"{} bytes\"\neffort   = {effort}\n", self.at_least);
        section
    }
}

/// Measurements of a folder's files, by type.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Weighing {
    /// By type, without parameters.
    pub types: BTreeMap<String, OfType>,
}

impl Weighing {
    /// Takes note of a file, whether or not it is encoded.
    pub fn file(&mut self, essence: &str, bytes: u64) {
        let of_type = self.types.entry(essence.to_owned()).or_default();
        of_type.files += 1;
        of_type.bytes += bytes;
    }

    /// Takes note that a file is encoded, or so many bytes of it.
    pub fn sampled(&mut self, essence: &str, bytes: u64) {
        let of_type = self.types.entry(essence.to_owned()).or_default();
        of_type.sampled_files += 1;
        of_type.sampled_bytes += bytes;
    }

    /// Takes in a measurement.
    pub fn add(&mut self, essence: &str, measured: &Measured) {
        let of_type = self.types.entry(essence.to_owned()).or_default();
        of_type.sums.entry((measured.codec, measured.effort)).or_default().add(measured);
        if measured.effort == measured.codec.level(Effort::Quick) {
            let size = of_type.by_size.entry(measured.before.checked_ilog2().unwrap_or(0)).or_default();
            size.entry(measured.codec).or_default().add(measured);
        }
    }

    /// Bytes of all files.
    pub fn bytes(&self) -> u64 {
        self.types.values().map(|of_type| of_type.bytes).sum()
    }

    /// What each codec makes of the files, or of those of one type.
    pub fn curves(&self, essence: Option<&str>) -> Vec<Curve> {
        let types = || self.types.iter().filter(|(name, _)| essence.is_none_or(|wanted| wanted == *name));
        let before: f64 = types().map(|(_, of_type)| of_type.bytes as f64).sum();
        let curve = |codec: Codec| {
            let efforts: BTreeSet<u32> = types()
                .flat_map(|(_, of_type)| of_type.sums.keys())
                .filter(|(of, _)| *of == codec)
                .map(|(_, effort)| *effort)
                .collect();
            let points = efforts.into_iter().map(|effort| {
                let (bytes, seconds) = types()
                    .map(|(_, of_type)| of_type.scaled(codec, effort))
                    .fold((0.0, 0.0), |sum, part| (sum.0 + part.0, sum.1 + part.1));
                let ratio = if before > 0.0 { bytes / before } else { 1.0 };
                Point { effort, bytes, ratio, seconds, knee: false }
            });
            let mut points: Vec<Point> = points.collect();
            mark_knee(&mut points);
            Curve { codec: codec.name(), points, of: codec }
        };
        Codec::ALL.into_iter().map(curve).filter(|curve| !curve.points.is_empty()).collect()
    }

    /// Settings that suit the files. Empty codecs where nothing gets smaller.
    pub fn recommend(&self) -> Recommendation {
        let types: Vec<&String> =
            self.types.iter().filter(|(_, of)| of.gains()).map(|(name, _)| name).collect();
        let mut reasons = Vec::new();
        if types.is_empty() {
            reasons.push("no type of file gets smaller by as much as 5 %".to_owned());
            return Recommendation {
                codecs: Vec::new(),
                types: Vec::new(),
                at_least: 256,
                efforts: BTreeMap::new(),
                bytes: self.bytes() as f64,
                reasons,
            };
        }
        let mut curves = self.curves(None);
        // What deflate gives gzip gives, and whoever takes the one takes the other.
        curves.retain(|curve| curve.of != Codec::Deflate);
        let thorough = |curve: &Curve| curve.points.last().map_or(f64::INFINITY, |point| point.bytes);
        curves.sort_by(|one, other| match (thorough(one), thorough(other)) {
            (a, b) if (a - b).abs() <= BETTER * a.max(b) => one.of.cmp(&other.of),
            (a, b) => a.total_cmp(&b),
        });
        let settling: f64 = curves.iter().filter_map(|curve| Some(curve.points.last()?.seconds)).sum();
        let (quick, best) = match curves.first() {
            Some(curve) => (curve.at(Effort::Quick).map_or(f64::NAN, |point| point.bytes), thorough(curve)),
            None => (f64::NAN, f64::NAN),
        };
        let settles = (quick - best) / quick >= WORTH_SETTLING && settling <= MOST_SETTLING;
        let mut efforts = BTreeMap::new();
        let mut bytes = best;
        let saved = 100.0 * (quick - best) / quick;
        if settles {
            reasons.push(format!(
                "settled: thorough encodings are {saved:.1} % smaller than quick ones, and cost {settling:.1} s of one thread, once"
            ));
        } else {
            for curve in &curves {
                efforts.extend(curve.knee().map(|point| (curve.codec, point.effort)));
            }
            bytes = curves.first().and_then(Curve::knee).map_or(best, |point| point.bytes);
            let why = match (quick - best) / quick < WORTH_SETTLING {
                true => format!("thorough encodings are only {saved:.1} % smaller than quick ones"),
                false => format!("settling everything would take {settling:.0} s of one thread"),
            };
            reasons.push(format!("numbers: {why}; past these efforts more work no longer pays"));
        }
        let at_least = self.smallest_worth_it();
        reasons.push(format!("below {at_least} bytes files hardly get smaller, or there are none"));
        Recommendation {
            codecs: curves.iter().map(|curve| curve.codec).collect(),
            types: summed_up(&types, &self.types),
            at_least,
            efforts,
            bytes,
            reasons,
        }
    }

    /// The least size at which quick encodings of worthwhile types are worth it: a power of two from 128 on.
    fn smallest_worth_it(&self) -> u64 {
        let mut sizes: BTreeMap<u32, Sum> = BTreeMap::new();
        for of_type in self.types.values().filter(|of_type| of_type.gains()) {
            for (size, by_codec) in &of_type.by_size {
                if let Some(best) = by_codec.values().min_by_key(|sum| sum.after) {
                    let sum = sizes.entry(*size).or_default();
                    sum.before += best.before;
                    sum.after += best.after;
                }
            }
        }
        let is_worth = |sum: &Sum| (sum.before - sum.after) as f64 >= 2.0 * WORTH * sum.before as f64;
        let last_bad = sizes.iter().rev().find(|(_, sum)| !is_worth(sum)).map(|(size, _)| *size);
        1 << last_bad.map_or(8, |size| size + 1).clamp(7, 12)
    }
}

impl OfType {
    /// Bytes and seconds of all files of the type, from those that were encoded.
    fn scaled(&self, codec: Codec, effort: u32) -> (f64, f64) {
        match self.sums.get(&(codec, effort)) {
            Some(sum) if sum.before > 0 => {
                let scale = self.bytes as f64 / sum.before as f64;
                (sum.after as f64 * scale, sum.nanoseconds as f64 / 1e9 * scale)
            }
            _ => (self.bytes as f64, 0.0),
        }
    }

    /// Whether its files get smaller by as much as is worth it.
    pub fn gains(&self) -> bool {
        let best = self.sums.values().map(|sum| 1.0 - sum.after as f64 / sum.before.max(1) as f64);
        best.fold(0.0, f64::max) >= WORTH
    }
}

/// Walks up the efforts and stays where the next ones no longer pay.
fn mark_knee(points: &mut [Point]) {
    let Some(first) = points.first() else { return };
    let (mut knee, mut bytes, mut seconds) = (0, first.bytes, first.seconds.max(1e-9));
    for (at, point) in points.iter().enumerate().skip(1) {
        let doublings = (point.seconds.max(1e-9) / seconds).log2().max(0.0);
        if point.bytes < bytes && 1.0 - point.bytes / bytes >= PAYING * doublings {
            (knee, bytes, seconds) = (at, point.bytes, point.seconds.max(1e-9));
        }
    }
    points[knee].knee = true;
}

/// Types as a configuration names them: one pattern for several where the ordinary list has one, and all that
/// it covers here gain.
fn summed_up(gaining: &[&String], all: &BTreeMap<String, OfType>) -> Vec<String> {
    let mut named: Vec<String> = Vec::new();
    for essence in gaining {
        let pattern =
            COMPRESSED_TYPES.iter().filter_map(|listed| listed.strip_suffix('*')).find(|beginning| {
                let covered = |name: &str| name.starts_with(beginning);
                covered(essence) && all.iter().all(|(name, of_type)| !covered(name) || of_type.gains())
            });
        let name = pattern.map_or((*essence).clone(), |beginning| format!("{beginning}*"));
        if !named.contains(&name) {
            named.push(name);
        }
    }
    named
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn points(of: &[(f64, f64)]) -> Vec<Point> {
        let point = |(effort, (bytes, seconds)): (usize, &(f64, f64))| Point {
            effort: effort as u32,
            bytes: *bytes,
            ratio: 0.0,
            seconds: *seconds,
            knee: false,
        };
        of.iter().enumerate().map(point).collect()
    }

    #[rstest]
    #[case::one(&[(10.0, 1.0)], 0)]
    #[case::each_step_pays(&[(100.0, 1.0), (90.0, 2.0), (80.0, 4.0)], 2)]
    #[case::more_work_for_nothing(&[(100.0, 1.0), (90.0, 2.0), (89.9, 64.0)], 1)]
    #[case::a_step_that_pays_together_with_the_next(&[(100.0, 1.0), (99.9, 2.0), (90.0, 4.0)], 2)]
    #[case::worse(&[(100.0, 1.0), (105.0, 2.0)], 0)]
    #[case::quicker_and_smaller(&[(100.0, 4.0), (95.0, 1.0)], 1)]
    #[case::no_time_measured(&[(100.0, 0.0), (50.0, 0.0)], 1)]
    fn where_more_work_stops_paying(#[case] of: &[(f64, f64)], #[case] expected: usize) {
        let mut points = points(of);
        mark_knee(&mut points);
        assert_eq!(points.iter().position(|point| point.knee), Some(expected));
        assert_eq!(points.iter().filter(|point| point.knee).count(), 1);
    }

    fn measured(codec: Codec, effort: u32, before: u64, after: u64) -> Measured {
        Measured { codec, effort, before, after, nanoseconds: u64::from(effort + 1) * 1_000_000 }
    }

    fn weighed(text: (u64, u64), picture: (u64, u64)) -> Weighing {
        let mut weighing = Weighing::default();
        for (essence, (quick, thorough)) in [("text/html", text), ("image/jpeg", picture)] {
            weighing.file(essence, 4000);
            weighing.file(essence, 4000);
            weighing.sampled(essence, 4000);
            weighing.add(essence, &measured(Codec::Brotli, 5, 4000, quick));
            weighing.add(essence, &measured(Codec::Brotli, 11, 4000, thorough));
            weighing.add(essence, &measured(Codec::Gzip, 5, 4000, quick + 1));
            weighing.add(essence, &measured(Codec::Gzip, 9, 4000, quick));
        }
        weighing
    }

    #[test]
    fn a_sample_stands_for_its_type() {
        let curves = weighed((1000, 500), (4000, 4000)).curves(None);
        let best = curves[0].points.last().unwrap();
        assert_eq!((curves[0].codec, best.bytes), ("br", 2.0 * (500.0 + 4000.0)));
        assert!((best.seconds - 2.0 * 2.0 * 0.012).abs() < 1e-9 && (best.ratio - 9.0 / 16.0).abs() < 1e-9);
    }

    #[test]
    fn what_gains_is_recommended_and_settles_where_thorough_work_gains() {
        let found = weighed((1000, 500), (4000, 4000)).recommend();
        assert_eq!(found.codecs, ["br", "gzip"]);
        assert_eq!(found.types, ["text/*"]);
        assert!(found.efforts.is_empty(), "settled");
        let found = weighed((1000, 999), (4000, 4000)).recommend();
        assert_eq!(found.efforts.get("br"), Some(&5));
        let found = weighed((3900, 3900), (4000, 4000)).recommend();
        assert!(found.codecs.is_empty() && found.types.is_empty());
    }
}
