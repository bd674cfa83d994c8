//! What each host's pages load from here, by the codes of referrers.
//!
//! ```
//! use exedra_common::Dictionary;
//! use exedra_reading::survey::embeds::Embeds;
//! let mut referrers = Dictionary::default();
//! let code = referrers.code("https://pilots.example/links");
//! let mut embeds = Embeds::default();
//! embeds.learn(&referrers);
//! embeds.add(code, 512, false);
//! let all: Vec<_> = embeds.into_counts().collect();
//! assert_eq!((&*all[0].0, all[0].1[0].bytes), ("pilots.example", 512));
//! ```

use super::ranking::Counts;
use crate::classify::referrers;
use exedra_common::Dictionary;
use exedra_common::batch::NO_TEXT;
use foldhash::fast::RandomState;
use hashbrown::HashMap;

/// The hosts of one dictionary's referrers, and what their pages load.
#[derive(Debug, Default)]
pub struct Embeds {
    /// The host of each referrer, by its place in `names`.
    of_referrer: Vec<u32>,
    places: HashMap<Box<str>, u32, RandomState>,
    /// Everything they load, and the style sheets and scripts of it.
    counts: Vec<[Counts; 2]>,
}

impl Embeds {
    /// Finds the hosts of referrers that are new.
    pub fn learn(&mut self, referrers: &Dictionary) {
        for code in self.of_referrer.len()..referrers.len() {
            let place = referrers::host(referrers.text(code as u32)).map_or(NO_TEXT, |host| {
                let next = self.counts.len() as u32;
                let place = *self.places.entry(host.into()).or_insert(next);
                if place == next {
                    self.counts.push([Counts::default(); 2]);
                }
                place
            });
            self.of_referrer.push(place);
        }
    }

    /// Takes in a request for anything but a page.
    pub fn add(&mut self, referrer: u32, bytes: u64, is_style: bool) {
        if let Some([all, styles]) = self.counts.get_mut(self.of_referrer[referrer as usize] as usize) {
            all.add(bytes);
            if is_style {
                styles.add(bytes);
            }
        }
    }

    /// Each host with everything its pages load, and the style sheets and scripts of it.
    pub fn into_counts(self) -> impl Iterator<Item = (Box<str>, [Counts; 2])> {
        let counts = self.counts;
        let named = self.places.into_iter().map(move |(name, place)| (name, counts[place as usize]));
        named.filter(|(_, [all, _])| all.requests > 0)
    }
}
