//! Where quotation marks and ends of lines stand: of many lines at once, before any of them is read.
//!
//! How long a request or an agent is differs from line to line, so that a search for the end of each guesses wrong time and again how
//! far it must go. Here sixty-four octets are asked at once and without a branch for each; whoever reads a line has the ends of all its
//! quotations before the first of them has begun.
//!
//! It looks ahead by a window, not by a whole block, so that what it has looked at is still near when it is read.

use wide::u8x16;

/// How far it looks ahead, in octets.
const WINDOW: usize = 16 << 10;
/// How many octets are asked at once.
const AT_ONCE: usize = 64;

/// The quotation marks and ends of lines in some octets, as far as anybody has wanted to know.
#[derive(Debug, Clone, Default)]
pub(super) struct Marks {
    /// Their places, from the window's beginning; behind the last of them there is room.
    places: Vec<u32>,
    /// Which of them come next, and how many there are.
    next: usize,
    count: usize,
    /// Where the window begins and ends.
    from: usize,
    until: usize,
}

/// The marks from the beginning of a line on, as far as they are known.
#[derive(Debug, Clone, Copy)]
pub(super) struct Ahead<'m> {
    places: &'m [u32],
    /// Where the line begins, from the window's beginning.
    line: u32,
}

impl Ahead<'_> {
    /// The place of a mark, in octets from the line's beginning; the first has the number 0.
    #[inline(always)]
    pub(super) fn place(&self, nth: usize) -> Option<usize> {
        self.places.get(nth).map(|place| (place - self.line) as usize)
    }

    /// Where quotations begin and end if nothing else is marked between them: places as before, two by two.
    #[inline(always)]
    pub(super) fn pairs(&self) -> impl Iterator<Item = (usize, usize)> {
        let place = |place: u32| (place - self.line) as usize;
        self.places.as_chunks().0.iter().map(move |&[begin, end]| (place(begin), place(end)))
    }
}

impl Marks {
    /// Forgets all: other octets are coming.
    pub(super) fn clear(&mut self) {
        *self = Marks { places: std::mem::take(&mut self.places), ..Marks::default() };
    }

    /// The marks from a line's beginning on, at least so many if the window can hold them. Lines must be asked for in their order.
    #[inline(always)]
    pub(super) fn ahead(&mut self, octets: &[u8], line: usize, least: usize) -> Ahead<'_> {
        while self.next < self.count && self.from + (self.places[self.next] as usize) < line {
            self.next += 1;
        }
        if self.count - self.next < least && self.until < octets.len() {
            self.look_on(octets, line);
        }
        Ahead { places: &self.places[self.next..self.count], line: (line - self.from) as u32 }
    }

    /// So many marks are behind whoever reads.
    #[inline(always)]
    pub(super) fn pass(&mut self, marks: usize) {
        self.next += marks;
    }

    /// Looks through the window that begins here.
    #[inline(never)]
    fn look_on(&mut self, octets: &[u8], from: usize) {
        let window = &octets[from..octets.len().min(from + WINDOW)];
        self.places.resize(WINDOW + AT_ONCE, 0);
        (self.from, self.until, self.next) = (from, from + window.len(), 0);
        self.count = places(window, &mut self.places);
    }
}

/// Writes the places of all marks of a window, for which there must be room and some more; says how many there are.
fn places(window: &[u8], places: &mut [u32]) -> usize {
    #[cfg(target_arch = "x86_64")]
    if avx2::is_available() {
        return avx2::places(window, places);
    }
    places_by(marks_in, window, places)
}

/// The same by a way to find those of a few octets: a bit for each, the lowest for the first.
#[inline(always)]
fn places_by(marks: impl Fn(&[u8; AT_ONCE]) -> u64, window: &[u8], places: &mut [u32]) -> usize {
    let (whole, rest) = window.as_chunks::<AT_ONCE>();
    let mut last = [0; AT_ONCE];
    last[..rest.len()].copy_from_slice(rest);
    let mut count = 0;
    for (octets, at) in whole.iter().chain([&last]).zip((0..).step_by(AT_ONCE)) {
        let mut found = marks(octets);
        let new = found.count_ones() as usize;
        let Some(room) = places.get_mut(count..).and_then(|room| room.first_chunk_mut::<AT_ONCE>()) else {
            break;
        };
        let mut write = |place: &mut u32| {
            *place = at + found.trailing_zeros();
            found &= found.wrapping_sub(1);
        };
        // Few have more than four. Whether they have one or none is not asked: what is written behind the last is written over.
        room[..4].iter_mut().for_each(&mut write);
        if new > 4 {
            room[4..new].iter_mut().for_each(write);
        }
        count += new;
    }
    count
}

/// Which of some octets are marks, as any processor finds them.
#[inline(always)]
fn marks_in(octets: &[u8; AT_ONCE]) -> u64 {
    let (quotation, end) = (u8x16::splat(b'"'), u8x16::splat(b'\n'));
    let parts = octets.as_chunks::<16>().0;
    parts.iter().rev().fold(0, |found, part| {
        let part = u8x16::new(*part);
        found << 16 | u64::from((part.simd_eq(quotation) | part.simd_eq(end)).to_bitmask())
    })
}

/// The same by AVX2 and what came with it, which nearly all processors have: half the instructions for each octet, a tenth of what
/// it takes to read a line.
#[cfg(target_arch = "x86_64")]
mod avx2 {
    use super::{AT_ONCE, places_by};
    use std::arch::x86_64::{
        __m256i, _mm256_cmpeq_epi8, _mm256_movemask_epi8, _mm256_or_si256, _mm256_set_epi64x,
        _mm256_set1_epi8,
    };

    /// Whether this processor has them.
    #[inline]
    pub(super) fn is_available() -> bool {
        is_x86_feature_detected!("avx2")
            && is_x86_feature_detected!("bmi1")
            && is_x86_feature_detected!("popcnt")
    }

    /// As [`super::places`]; where [`is_available`] says so.
    #[expect(unsafe_code, reason = "the compiler cannot know that the processor has been asked")]
    pub(super) fn places(window: &[u8], places: &mut [u32]) -> usize {
        assert!(is_available());
        // SAFETY: the processor knows all instructions that this is made of, as was just asked.
        unsafe { with_avx2(window, places) }
    }

    #[target_feature(enable = "avx2,bmi1,popcnt")]
    fn with_avx2(window: &[u8], places: &mut [u32]) -> usize {
        places_by(|octets| marks_in(octets), window, places)
    }

    #[inline]
    #[target_feature(enable = "avx2,bmi1,popcnt")]
    fn marks_in(octets: &[u8; AT_ONCE]) -> u64 {
        let (quotation, end) = (_mm256_set1_epi8(b'"' as i8), _mm256_set1_epi8(b'\n' as i8));
        let found = |octets: __m256i| {
            let marks = _mm256_or_si256(_mm256_cmpeq_epi8(octets, quotation), _mm256_cmpeq_epi8(octets, end));
            u64::from(_mm256_movemask_epi8(marks).cast_unsigned())
        };
        let words = octets.as_chunks::<8>().0;
        let word = |nth: usize| i64::from_le_bytes(words[nth]);
        let half =
            |from: usize| _mm256_set_epi64x(word(from + 3), word(from + 2), word(from + 1), word(from));
        found(half(0)) | found(half(4)) << 32
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// A law: every processor finds the same, whichever way it has.
        #[test]
        fn marks_are_found_by_any_processor(window in proptest::collection::vec(
            prop_oneof![Just(b'"'), Just(b'\n'), Just(b'!'), any::<u8>()], 0..400))
        {
            let expected: Vec<u32> =
                (0..window.len() as u32).filter(|at| matches!(window[*at as usize], b'"' | b'\n')).collect();
            for find in [places, |window: &[u8], found: &mut [u32]| places_by(marks_in, window, found)] {
                let mut found = vec![0; window.len() + AT_ONCE];
                let count = find(&window, &mut found);
                prop_assert_eq!(&found[..count], &expected[..]);
            }
        }

        /// A law: whoever asks line by line is told of the marks that are there, however the windows lie.
        #[test]
        fn all_marks_are_told_in_their_order(
            lines in proptest::collection::vec(("[\"a]{0,90}", 0usize..20_000), 1..8), least in 1usize..9)
        {
            let text: String = lines.iter().map(|(marks, plain)| format!("{marks}{}\n", "b".repeat(*plain))).collect();
            let octets = text.as_bytes();
            let (mut marks, mut line) = (Marks::default(), 0);
            for (said, plain) in &lines {
                let expected: Vec<usize> = (line..octets.len())
                    .filter(|at| matches!(octets[*at], b'"' | b'\n')).map(|at| at - line).collect();
                let ahead = marks.ahead(octets, line, least);
                let told: Vec<usize> = (0..).map_while(|nth| ahead.place(nth)).collect();
                prop_assert_eq!(&told[..], &expected[..told.len()]);
                let within = expected.iter().filter(|at| **at < WINDOW).count();
                prop_assert!(told.len() >= least.min(within), "{} of {}", told.len(), within);
                line += said.len() + plain + 1;
                // Some readers say how far they have come, and others do not.
                let passed = expected.iter().filter(|at| **at < said.len() + plain + 1).count();
                if passed <= told.len() && plain % 2 == 0 {
                    marks.pass(passed);
                }
            }
        }
    }
}
