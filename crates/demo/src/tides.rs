//! A tide table for a harbour that does not exist: a moon, a sun and a shallow bar.

use jiff::ToSpan;
use jiff::civil::{Date, date};
use std::f64::consts::TAU;
use std::fmt::Write as _;

/// Amplitude in metres, period in hours, phase: the moon twice a day, the sun, the ellipse, the bar.
const PARTS: [(f64, f64, f64); 4] =
    [(1.35, 12.420_601, 0.8), (0.46, 12.0, 2.1), (0.27, 12.658_348, 4.4), (0.12, 6.210_3, 1.0)];

/// Height above chart datum in metres, some hours after 2026-01-01 00:00.
fn height(hours: f64) -> f64 {
    2.3 + PARTS
        .iter()
        .map(|(amplitude, period, phase)| amplitude * (TAU * hours / period + phase).cos())
        .sum::<f64>()
}

/// High and low waters of a day: minutes from midnight, height in metres, whether it is high.
pub fn waters(day: Date) -> Vec<(u32, f64, bool)> {
    let start = f64::from((day - date(2026, 1, 1)).get_days()) * 24.0;
    let at = |minute: u32| height(start + f64::from(minute) / 60.0);
    (0..1440u32)
        .filter_map(|minute| {
            let (here, before, after) = (at(minute), at(minute.wrapping_sub(1).min(minute)), at(minute + 1));
            let before = if minute == 0 { height(start - 1.0 / 60.0) } else { before };
            ((here > before && here >= after) || (here < before && here <= after)).then_some((
                minute,
                here,
                here > before,
            ))
        })
        .collect()
}

/// A table of some days.
pub fn table(first: Date, days: i64) -> String {
    let mut rows = String::from("<table>\n<tr><th>Day</th><th>Water</th><th>Time</th><th>Height</th></tr>\n");
    for ahead in 0..days {
        let day = first.saturating_add(ahead.days());
        for (minute, height, high) in waters(day) {
            let (class, word) = if high { ("high", "High") } else { ("low", "Low") };
            let _ = writeln!(
                rows,
                "<tr><td>{}</td><td class=\"{class}\">{word}</td><td>{:02}:{:02}</td><td>{height:.1} m</td></tr>",
                day.strftime("%a %-d %b"),
                minute / 60,
                minute % 60
            );
        }
    }
    rows + "</table>\n"
}

/// The month of a day as CSV.
pub fn csv(day: Date) -> String {
    let mut rows = String::from("date,time,water,height_m\n");
    for ahead in 0..i64::from(day.days_in_month()) {
        let day = day.first_of_month().saturating_add(ahead.days());
        for (minute, height, high) in waters(day) {
            let word = if high { "high" } else { "low" };
            let _ = writeln!(rows, "{day},{:02}:{:02},{word},{height:.2}", minute / 60, minute % 60);
        }
    }
    rows
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn about_four_waters_a_day_by_turns() {
        let mut last = None;
        let mut count = 0;
        for ahead in 0..60i64 {
            for (_, height, high) in waters(date(2026, 10, 1).saturating_add(ahead.days())) {
                assert_ne!(last, Some(high));
                assert!((0.0..5.0).contains(&height));
                last = Some(high);
                count += 1;
            }
        }
        assert!((228..=236).contains(&count), "{count}");
    }
}
