//! How long answers took: in all, by path, and in which minutes they took long.

use super::schema::{Changes, SlowMinute, SlowPath, SlowReport};
use super::{Beyond, stamp};
use crate::survey::counted::Survey;
use crate::survey::durations::Spread;
use crate::survey::plan::SurveyPlan;

/// A path with fewer requests than this says little about how long it takes.
const ENOUGH: u64 = 10;

/// Durations of a survey made by a plan.
pub fn slow(survey: &Survey, plan: &SurveyPlan, beyond: &mut Beyond) -> SlowReport {
    let durations = &survey.durations;
    let threshold_ms = milliseconds(plan.slow);
    if durations.is_empty() {
        return SlowReport { threshold_ms, ..SlowReport::default() };
    }
    if durations.error() > 0.0 {
        let error = durations.error() * 100.0;
        beyond.caveats.push(format!("durations at percentiles are within {error:.1} % of the exact ones"));
    }
    let (all, by_path) = durations.spreads();
    let mut paths: Vec<SlowPath> = survey
        .paths
        .entries()
        .filter_map(|(path, _)| {
            let spread = by_path.get(&plan.key.of_text(path))?;
            Some(slow_path(path, spread, durations.slow.of(path).requests))
        })
        .collect();
    if paths.iter().any(|path| path.slow > 0) {
        paths.retain(|path| path.slow > 0);
        paths.sort_by(|a, b| {
            let slower = b.slow.cmp(&a.slow).then_with(|| b.p99_ms.total_cmp(&a.p99_ms));
            slower.then_with(|| a.path.cmp(&b.path))
        });
    } else {
        paths.retain(|path| path.requests >= ENOUGH);
        paths.sort_by(|a, b| b.p90_ms.total_cmp(&a.p90_ms).then_with(|| a.path.cmp(&b.path)));
    }
    paths.truncate(beyond.options.top);
    let mut minutes: Vec<(i64, u64)> =
        durations.minutes.iter().map(|(minute, slow)| (*minute, *slow)).collect();
    let slow = minutes.iter().map(|(_, slow)| slow).sum::<u64>() + durations.other_minutes;
    minutes.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    minutes.truncate(beyond.options.top);
    let minutes =
        minutes.into_iter().map(|(minute, slow)| SlowMinute { minute: stamp(minute * 60_000), slow });
    SlowReport {
        threshold_ms,
        measured: all.requests,
        slow,
        p50_ms: milliseconds(all.p50),
        p90_ms: milliseconds(all.p90),
        p99_ms: milliseconds(all.p99),
        paths,
        minutes: minutes.collect(),
        changes: Changes::new(),
    }
}

fn slow_path(path: &str, spread: &Spread, slow: u64) -> SlowPath {
    SlowPath {
        path: path.to_owned(),
        requests: spread.requests,
        slow,
        p50_ms: milliseconds(spread.p50),
        p90_ms: milliseconds(spread.p90),
        p99_ms: milliseconds(spread.p99),
        total_ms: milliseconds(spread.sum),
        changes: Changes::new(),
    }
}

fn milliseconds(microseconds: u64) -> f64 {
    microseconds as f64 / 1000.0
}
