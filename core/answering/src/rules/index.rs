//! Which of many rules can fit a path, without asking each of them.
//!
//! Exact paths are hashed. Patterns stand in a tree, a level for each segment, whose branches are hashed by what a
//! segment begins with. Only rules for all paths and regular expressions have to be asked each time.
//!
//! ```
//! use exedra_answering::config::understand;
//! use exedra_answering::rules::index::Index;
//! let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"a\"\nhosts = [\"a.example\"]\nfolder = \"a\"\n\
//!             [[site.rules]]\npath = \"/a\"\ngone = true\n[[site.rules]]\npath = \"/b/{rest*}\"\ngone = true\n";
//! let config = understand(text, std::path::Path::new("")).unwrap();
//! let index = Index::new(config.sites[0].rules.written());
//! assert_eq!(index.candidates("/b/c/d", 0).as_slice(), [1]);
//! ```

use super::Rule;
use super::pattern::{Bit, Segment};
use foldhash::fast::RandomState;
use smallvec::SmallVec;
use std::collections::HashMap;

/// Numbers of rules that may fit, in order.
pub type Candidates = SmallVec<[u32; 16]>;

type Map<K, V> = HashMap<K, V, RandomState>;

/// Something for each beginning, apart by how long that is.
type ByBeginning<T> = Vec<(usize, Map<Box<str>, T>)>;

/// Which lengths some texts have: most of what is looked up has none of them. The longest are all one.
#[derive(Debug, Clone, Copy, Default)]
struct Lengths(u64);

impl Lengths {
    fn bit(text: &str) -> u64 {
        1 << text.len().min(63)
    }

    fn add(&mut self, text: &str) {
        self.0 |= Self::bit(text);
    }

    fn have(self, text: &str) -> bool {
        self.0 & Self::bit(text) != 0
    }
}

/// The index over some rules.
#[derive(Debug, Clone, Default)]
pub struct Index {
    exact: Map<Box<str>, SmallVec<[u32; 2]>>,
    exact_lengths: Lengths,
    nodes: Vec<Node>,
    /// Those that may fit any path.
    always: Vec<u32>,
}

/// Where some segments have led.
#[derive(Debug, Clone, Default)]
struct Node {
    /// By a whole segment.
    literal: Map<Box<str>, u32>,
    lengths: Lengths,
    /// By what a segment begins with, for each length of that: how the segment goes on.
    begins: ByBeginning<Vec<Edge>>,
    /// Rules whose path ends here.
    ends: Vec<u32>,
    /// By what the next segment begins with, for each length of that: rules for which any rest will do.
    rests: ByBeginning<Vec<u32>>,
}

/// A segment that captures something.
#[derive(Debug, Clone)]
struct Edge {
    segment: Segment,
    to: u32,
}

impl Index {
    /// Indexes rules by their numbers.
    pub fn new(rules: &[Rule]) -> Self {
        let mut index = Index::default();
        for (number, rule) in rules.iter().enumerate() {
            let number = number as u32;
            let pattern = rule.path.as_ref();
            if let Some(path) = pattern.and_then(|pattern| pattern.exact()) {
                index.exact.entry(path.into()).or_default().push(number);
                index.exact_lengths.add(path);
                continue;
            }
            let Some((segments, rest)) = pattern.and_then(|pattern| pattern.segments()) else {
                index.always.push(number);
                continue;
            };
            let end = segments.iter().fold(index.root(), |node, segment| index.step(node, segment));
            let node = &mut index.nodes[end as usize];
            match rest {
                None => node.ends.push(number),
                Some(rest) => by_beginning(&mut node.rests, &rest.begins).push(number),
            }
        }
        index
    }

    fn root(&mut self) -> u32 {
        if self.nodes.is_empty() {
            self.nodes.push(Node::default());
        }
        0
    }

    fn step(&mut self, from: u32, segment: &Segment) -> u32 {
        let next = self.nodes.len() as u32;
        let node = &mut self.nodes[from as usize];
        let to = match segment.literal() {
            Some(literal) => {
                node.lengths.add(literal);
                *node.literal.entry(literal.into()).or_insert(next)
            }
            None => {
                let edges = by_beginning(&mut node.begins, segment.begins());
                match edges.iter().find(|edge| edge.segment == *segment) {
                    Some(edge) => edge.to,
                    None => {
                        edges.push(Edge { segment: segment.clone(), to: next });
                        next
                    }
                }
            }
        };
        if to == next {
            self.nodes.push(Node::default());
        }
        to
    }

    /// Numbers of the rules that may fit a path as rules see it, from the `first` on.
    pub fn candidates(&self, path: &str, first: usize) -> Candidates {
        let mut found = Candidates::from_slice(&self.always);
        if self.exact_lengths.have(path)
            && let Some(rules) = self.exact.get(path)
        {
            found.extend_from_slice(rules);
        }
        if !self.nodes.is_empty() {
            self.walk(0, path.as_bytes(), path, &mut found);
        }
        found.retain(|number| *number as usize >= first);
        found.sort_unstable();
        found
    }

    /// Goes on from a node. `rest` begins with the slash before the next segment, or is empty.
    fn walk(&self, node: u32, octets: &[u8], rest: &str, found: &mut Candidates) {
        let node = &self.nodes[node as usize];
        let Some(tail) = rest.strip_prefix('/') else {
            found.extend_from_slice(&node.ends);
            return;
        };
        for (length, rules) in &node.rests {
            if let Some(rules) = tail.get(..*length).and_then(|begins| rules.get(begins)) {
                found.extend_from_slice(rules);
            }
        }
        if node.literal.is_empty() && node.begins.is_empty() {
            return;
        }
        let end = memchr::memchr(b'/', &octets[1..]).unwrap_or(tail.len());
        let (segment, rest) = tail.split_at(end);
        if node.lengths.have(segment)
            && let Some(&to) = node.literal.get(segment)
        {
            self.walk(to, rest.as_bytes(), rest, found);
        }
        for (length, edges) in &node.begins {
            let edges = segment.get(..*length).and_then(|begins| edges.get(begins));
            for edge in edges.into_iter().flatten() {
                if edge.segment.0 == [Bit::Capture] && segment.is_empty() {
                    continue;
                }
                if edge.segment.fits(segment, |_| ()).is_some() {
                    self.walk(edge.to, rest.as_bytes(), rest, found);
                }
            }
        }
    }
}

fn by_beginning<'m, T: Default>(maps: &'m mut ByBeginning<T>, begins: &str) -> &'m mut T {
    let nth = match maps.iter().position(|(length, _)| *length == begins.len()) {
        Some(nth) => nth,
        None => {
            maps.push((begins.len(), Map::default()));
            maps.len() - 1
        }
    };
    maps[nth].1.entry(begins.into()).or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::{Facts, RecordedFacts};
    use crate::rules::SoFar;
    use crate::rules::{Effects, Pattern, RuleSet, Seen};
    use proptest::prelude::*;

    fn rule(path: Option<&str>) -> Rule {
        let path = path.map(|text| match text.strip_prefix('~') {
            Some(regex) => Pattern::regex(regex).unwrap(),
            None => Pattern::understand(text).unwrap(),
        });
        Rule {
            name: "".into(),
            place: 0..0,
            path_place: 0..0,
            target_place: 0..0,
            path,
            when: Vec::new(),
            effects: Effects::default(),
        }
    }

    fn pattern() -> impl Strategy<Value = Option<String>> {
        let segment = prop_oneof![
            4 => "[ab]{0,2}",
            1 => Just("{ONE}".to_owned()),
            1 => "[ab]\\{ONE\\}",
            1 => "\\{ONE\\}[ab]",
            1 => "[ab]\\{ONE\\}[ab]{1,2}\\{TWO\\}",
        ];
        let rest =
            prop_oneof![3 => Just(""), 1 => Just("/{*}"), 1 => Just("/{rest*}"), 1 => Just("/a{rest*}")];
        let placed = (prop::collection::vec(segment, 1..4), rest).prop_filter_map("", |(segments, rest)| {
            let numbered = segments.iter().enumerate().map(|(nth, segment)| {
                format!("/{}", segment.replace("ONE", &format!("x{nth}")).replace("TWO", &format!("y{nth}")))
            });
            let text = numbered.collect::<String>() + rest;
            Pattern::understand(&text).is_ok().then_some(Some(text))
        });
        prop_oneof![8 => placed, 1 => Just(None), 1 => Just(Some("~/a[ab]*".to_owned()))]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn the_index_finds_what_asking_every_rule_finds(
            patterns in prop::collection::vec(pattern(), 0..12),
            path in "(/[ab]{0,4}){1,4}",
            first in 0usize..4,
        ) {
            let set = RuleSet::new(patterns.iter().map(|text| rule(text.as_deref())).collect());
            let seen = Seen::new(path.as_str());
            let facts = RecordedFacts::new(Facts::UNKNOWN);
            let so_far = SoFar { user: None, path: seen.text() };
            let fits = |number: &usize| set.written()[*number].fits(&facts, so_far, &seen).is_ok();
            let linear: Vec<usize> = (first..set.len()).filter(fits).collect();
            let candidates = set.candidates(&seen, first);
            let indexed: Vec<usize> = candidates.iter().map(|number| *number as usize).filter(fits).collect();
            prop_assert_eq!(indexed, linear, "{:?}", patterns);
            prop_assert!(candidates.windows(2).all(|two| two[0] < two[1]), "each once");
        }
    }
}
