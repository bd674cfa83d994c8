//! What durations count, seen from how large they are.
//!
//! ```
//! use exedra_common::columns::Unit;
//! use exedra_reading::logs::search::durations::unit;
//! assert_eq!(unit(&["0.003", "0.000", "0.120"]).unwrap().0, Unit::Seconds);
//! let (unit, reason) = unit(&["3", "14", "0", "220", "7"]).unwrap();
//! assert_eq!((unit, reason.as_str()), (Unit::Milliseconds, "whole numbers, half of them up to 7"));
//! ```

use exedra_common::columns::Unit;
use exedra_common::figures::grouped;

/// The unit of some durations and why, if they are numbers at all.
pub fn unit<T: AsRef<str>>(texts: &[T]) -> Option<(Unit, String)> {
    let mut numbers: Vec<f64> = Vec::with_capacity(texts.len());
    let (mut with_point, mut is_fine) = (0, false);
    for text in texts {
        let text = text.as_ref();
        let is_number = text.bytes().all(|octet| octet.is_ascii_digit() || octet == b'.');
        numbers.push(text.parse().ok().filter(|_| is_number)?);
        let digits = text.split_once('.').map_or(0, |(_, fraction)| fraction.len());
        with_point += usize::from(digits > 0);
        is_fine |= digits > 3;
    }
    numbers.sort_by(f64::total_cmp);
    let high = *numbers.last()?;
    let at = |share: f64| numbers[((numbers.len() - 1) as f64 * share) as usize];
    let (low, median) = (at(0.05), at(0.5));
    if with_point * 2 > numbers.len() {
        let half = format!("half of them up to {median}");
        // Nobody counts milliseconds to the nanosecond.
        return Some(match median > 5.0 && !is_fine {
            true => (Unit::Milliseconds, format!("numbers with a fraction, {half}")),
            false => (Unit::Seconds, format!("numbers with a fraction, {half}")),
        });
    }
    let zeros = numbers.iter().take_while(|number| **number == 0.0).count();
    if zeros * 10 >= numbers.len() * 9 && numbers.len() >= 10 && high <= 60.0 && high > 0.0 {
        return Some((Unit::Seconds, format!("whole numbers, nearly all of them 0, none over {high}")));
    }
    let words = |least: f64| {
        let [least, median] = [least, median].map(|number| grouped(number as u64));
        format!("whole numbers, nearly all of them over {least}, half of them over {median}")
    };
    if median >= 1_000_000.0 && low >= 10_000.0 {
        return Some((Unit::Nanoseconds, words(low)));
    }
    if median >= 120.0 && low >= 20.0 {
        return Some((Unit::Microseconds, words(low)));
    }
    Some((Unit::Milliseconds, format!("whole numbers, half of them up to {median}")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::seconds(&["0.003", "1.2", "0", "0.5"], Unit::Seconds)]
    #[case::parts_of_milliseconds(&["12.25", "130.5", "7.1"], Unit::Milliseconds)]
    #[case::long_seconds(&["12.250117", "8.001337", "30.000000"], Unit::Seconds)]
    #[case::milliseconds(&["3", "0", "0", "41", "1200"], Unit::Milliseconds)]
    #[case::microseconds(&["310", "95", "1204", "88211"], Unit::Microseconds)]
    #[case::nanoseconds(&["1310000", "950000", "12040000"], Unit::Nanoseconds)]
    #[case::whole_seconds(&["0", "0", "0", "0", "0", "0", "0", "0", "0", "0", "0", "2"], Unit::Seconds)]
    fn units(#[case] texts: &[&str], #[case] expected: Unit) {
        assert_eq!(unit(texts).unwrap().0, expected);
    }

    #[test]
    fn what_is_no_number_has_none() {
        assert_eq!(unit(&["3", "many"]), None);
        assert_eq!(unit::<&str>(&[]), None);
    }
}
