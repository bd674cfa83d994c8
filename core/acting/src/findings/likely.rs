//! The likely new address of a page that is missing: the same name elsewhere, the page that people went to next, words that are the
//! same, an address that is nearly the same. Each is a reason with a weight; what speaks for an address together is how sure it is.
//!
//! ```
//! use exedra_acting::findings::likely::{Likely, Places};
//! let places = Places::new(["/", "/notices/2026/fog.html", "/map/"].map(|address| (address, None)));
//! let found = places.likely("/mariners/2026/fog.html", &[], 0, &[]).unwrap();
//! assert_eq!(found.address, "/notices/2026/fog.html");
//! assert!(found.sureness > 0.7 && found.reasons[0].contains("same name"));
//! assert_eq!(places.likely("/set-up", &[], 0, &[]), None);
//! ```

use std::collections::{HashMap, HashSet};

/// An address that is likelier than this is told.
pub const LIKELY: f64 = 0.5;
/// How much likelier than the next one the likeliest must be.
const AHEAD: f64 = 0.12;
/// How many addresses are compared letter by letter.
const MOST_COMPARED: usize = 4_000;

/// Addresses that there are, and what is said of what is there.
pub struct Places<'p> {
    all: Vec<(&'p str, Option<&'p str>)>,
    /// The addresses in small letters, and the words of their titles: only where they are few enough to be compared one by one.
    compared: Vec<(String, HashSet<String>)>,
    by_name: HashMap<String, Vec<usize>>,
    by_stem: HashMap<String, Vec<usize>>,
}

/// A likely address.
#[derive(Debug, Clone, PartialEq)]
pub struct Likely {
    /// The address.
    pub address: String,
    /// How likely it is, between 0 and 1.
    pub sureness: f64,
    /// Why, the strongest reason first.
    pub reasons: Vec<String>,
}

/// The last part of an address; of a folder, the folder's name.
fn name(address: &str) -> &str {
    address.trim_end_matches('/').rsplit('/').next().unwrap_or_default()
}

/// A name without its extension.
fn stem(name: &str) -> &str {
    name.rsplit_once('.').map_or(name, |(stem, _)| stem)
}

/// How many parts two addresses have in common at their ends.
fn common_end(one: &str, other: &str) -> usize {
    let parts = |address: &str| -> Vec<String> {
        address.split('/').filter(|part| !part.is_empty()).rev().map(str::to_lowercase).collect()
    };
    parts(one).into_iter().zip(parts(other)).take_while(|(one, other)| one == other).count()
}

/// Words of a text in small letters, but for those that say little.
fn words(text: &str) -> HashSet<String> {
    let all = text.split(|letter: char| !letter.is_alphanumeric()).filter(|word| word.chars().count() > 2);
    let small = all.map(str::to_lowercase);
    small.filter(|word| !matches!(&**word, "html" | "htm" | "php" | "the" | "and" | "index")).collect()
}

/// How much of both sets is in both.
fn alike(one: &HashSet<String>, other: &HashSet<String>) -> f64 {
    let both = one.intersection(other).count();
    let either = one.union(other).count();
    if either == 0 { 0.0 } else { both as f64 / either as f64 }
}

impl<'p> Places<'p> {
    /// Those addresses, each with the title of what is there.
    pub fn new(all: impl IntoIterator<Item = (&'p str, Option<&'p str>)>) -> Self {
        let all: Vec<(&str, Option<&str>)> = all.into_iter().collect();
        let (mut by_name, mut by_stem): (HashMap<_, Vec<_>>, HashMap<_, Vec<_>>) = Default::default();
        for (nth, (address, _)) in all.iter().enumerate() {
            let name = name(address).to_lowercase();
            if !name.is_empty() {
                by_stem.entry(stem(&name).to_owned()).or_default().push(nth);
                by_name.entry(name).or_default().push(nth);
            }
        }
        let few = if all.len() <= MOST_COMPARED { &*all } else { &[] };
        let compared =
            few.iter().map(|(address, title)| (address.to_lowercase(), words(title.unwrap_or_default())));
        Places { compared: compared.collect(), all, by_name, by_stem }
    }

    /// The likely address of what was at a missing one. `next` is where people went after it, `missed` how often it was missed, and
    /// `links` are the words of links that lead to it.
    pub fn likely(&self, missing: &str, next: &[(&str, u64)], missed: u64, links: &[&str]) -> Option<Likely> {
        let wanted = name(missing).to_lowercase();
        let mut found: HashMap<usize, Vec<(f64, String)>> = HashMap::new();
        let mut add = |nth: usize, weight: f64, reason: String| {
            if self.all[nth].0 != missing {
                found.entry(nth).or_default().push((weight, reason));
            }
        };
        let same_name = self.by_name.get(&wanted).map_or(&[][..], Vec::as_slice);
        // A name that many have says little.
        let share = |count: usize| 1.0 / (count as f64).sqrt();
        for nth in same_name {
            let common = common_end(missing, self.all[*nth].0);
            let weight = (0.55 + 0.15 * common as f64).min(0.9) * share(same_name.len());
            let more =
                if common > 1 { format!(", and {} parts of its address", common - 1) } else { String::new() };
            add(*nth, weight, format!("the same name elsewhere{}", more.replace("1 parts", "one part")));
        }
        let same_stem = self.by_stem.get(stem(&wanted)).map_or(&[][..], Vec::as_slice);
        for nth in same_stem.iter().filter(|nth| !same_name.contains(nth)) {
            let same_folder = missing.rsplit_once('/').map(|(folder, _)| folder)
                == self.all[*nth].0.trim_end_matches('/').rsplit_once('/').map(|(folder, _)| folder);
            let weight = if same_folder { 0.85 } else { 0.55 };
            add(*nth, weight * share(same_stem.len()), "the same name with another ending".to_owned());
        }
        for (address, times) in next.iter().take(5) {
            let Some(nth) = self.all.iter().position(|(known, _)| known == address) else { continue };
            let share = *times as f64 / missed.max(1) as f64;
            // Whoever misses a page goes to the first one in any case.
            if *times >= 3 && share >= 0.15 && *address != "/" {
                let percent = (share * 100.0).round();
                add(
                    nth,
                    (share * 1.5).min(0.75),
                    format!("{percent} % of those who missed it went there next"),
                );
            }
        }
        let missing_words = words(missing);
        let link_words: HashSet<String> = links.iter().flat_map(|link| words(link)).collect();
        if !wanted.is_empty() {
            let missing = missing.to_lowercase();
            for (nth, (address, title)) in self.compared.iter().enumerate() {
                if !title.is_empty() {
                    let by_link = alike(&link_words, title);
                    if by_link >= 0.5 {
                        add(nth, 0.6 * by_link, "links to it have the words of its title".to_owned());
                    } else if missing_words.len() > 1 && alike(&missing_words, title) >= 0.5 {
                        add(nth, 0.45, "its title has the words of the address".to_owned());
                    }
                }
                // Names are short: most addresses are told apart by them.
                if wanted.len() > 3 && strsim::normalized_levenshtein(&wanted, name(address)) >= 0.6 {
                    let near = strsim::normalized_levenshtein(&missing, address);
                    if near >= 0.8 {
                        add(nth, (near - 0.2).min(0.7), "an address that is nearly the same".to_owned());
                    }
                }
            }
        }
        let mut ranked: Vec<Likely> = found
            .into_iter()
            .map(|(nth, mut reasons)| {
                reasons.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
                let against = reasons.iter().fold(1.0, |against, (weight, _)| against * (1.0 - weight));
                let reasons = reasons.into_iter().map(|(_, reason)| reason).collect();
                Likely { address: self.all[nth].0.to_owned(), sureness: 1.0 - against, reasons }
            })
            .collect();
        ranked.sort_by(|a, b| b.sureness.total_cmp(&a.sureness).then_with(|| a.address.cmp(&b.address)));
        let second = ranked.get(1).map_or(0.0, |second| second.sureness);
        let first = ranked.into_iter().next()?;
        (first.sureness >= LIKELY && first.sureness - second >= AHEAD).then_some(first)
    }
}

/// Where one folder has become another: the beginnings that several missing addresses and their new ones differ by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MovedFolder {
    /// How the old addresses begin, with a slash at the end.
    pub from: String,
    /// How the new ones begin.
    pub to: String,
    /// Which of the pairs it explains.
    pub pairs: Vec<usize>,
}

/// Folders that have become others, found in pairs of a missing address and its new one: at least two pairs each.
pub fn moved(pairs: &[(&str, &str)]) -> Vec<MovedFolder> {
    let mut all: HashMap<(String, String), Vec<usize>> = HashMap::new();
    for (nth, (old, new)) in pairs.iter().enumerate() {
        if let Some(beginnings) = beginnings(old, new) {
            all.entry(beginnings).or_default().push(nth);
        }
    }
    let mut found: Vec<MovedFolder> = all
        .into_iter()
        .filter(|(_, pairs)| pairs.len() > 1)
        .map(|((from, to), pairs)| MovedFolder { from, to, pairs })
        .collect();
    found.sort_by(|a, b| b.pairs.len().cmp(&a.pairs.len()).then_with(|| a.from.cmp(&b.from)));
    found
}

/// How two addresses begin up to where they end the same.
fn beginnings(old: &str, new: &str) -> Option<(String, String)> {
    let (mut one, mut other) = (old, new);
    while let (Some((before, name)), Some((also, same))) = (one.rsplit_once('/'), other.rsplit_once('/')) {
        if name != same {
            break;
        }
        (one, other) = (before, also);
        if one.is_empty() || other.is_empty() {
            break;
        }
    }
    // Only whole folders: what differs in its last part has another name.
    (one != old && !one.is_empty()).then(|| (format!("{one}/"), format!("{other}/")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::another_ending("/tides.htm", &[], &[], "/tides.html")]
    #[case::other_letters("/Tides.html", &[], &[], "/tides.html")]
    #[case::mistyped("/notices/dregding.html", &[], &[], "/notices/dredging.html")]
    #[case::where_people_went("/hours", &[("/", 60), ("/visit/", 35)], &[], "/visit/")]
    #[case::words_of_links("/p17.html", &[], &["Dredging of the fairway"], "/notices/dredging.html")]
    fn the_likely_address(
        #[case] missing: &str,
        #[case] next: &[(&str, u64)],
        #[case] links: &[&str],
        #[case] address: &str,
    ) {
        let places = [
            ("/", Some("The harbour")),
            ("/tides.html", Some("Tide tables")),
            ("/notices/dredging.html", Some("Dredging of the fairway")),
            ("/notices/fuel.html", Some("Fuel berth closed")),
            ("/visit/", None),
        ];
        let found = Places::new(places).likely(missing, next, 100, links);
        assert_eq!(found.as_ref().map(|found| &*found.address), Some(address), "{found:?}");
    }

    #[rstest]
    #[case::nothing_like_it("/admin/setup")]
    #[case::two_of_the_same_name("/old/fog.html")]
    fn no_address_is_better_than_a_wrong_one(#[case] missing: &str) {
        let places = ["/", "/a/fog.html", "/b/fog.html", "/tides.html"].map(|address| (address, None));
        assert_eq!(Places::new(places).likely(missing, &[("/", 50)], 60, &[]), None);
    }

    #[test]
    fn folders_that_have_become_others() {
        let pairs = [
            ("/mariners/2026/fog.html", "/notices/2026/fog.html"),
            ("/mariners/2025/ice.html", "/notices/2025/ice.html"),
            ("/tides.htm", "/tides.html"),
            ("/old/map.svg", "/map.svg"),
        ];
        let found = moved(&pairs);
        let expected = MovedFolder { from: "/mariners/".into(), to: "/notices/".into(), pairs: vec![0, 1] };
        assert_eq!(found, [expected]);
        let to_the_root = moved(&[("/old/a", "/a"), ("/old/b", "/b")]);
        assert_eq!((&*to_the_root[0].from, &*to_the_root[0].to), ("/old/", "/"));
    }
}
