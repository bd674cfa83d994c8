//! The figures for people: efforts as rows, codecs as columns; then by type; then settings to paste.

use crate::out::{QUIET, STRONG, WELL};
use exedra_answering::encode::weighing::{Curve, Point, Recommendation};
use exedra_common::figures::{bytes, grouped, several};
use exedra_service::control::weighing::Weighed;
use std::collections::BTreeSet;
use std::io::{self, Write};

/// Width of a codec's column.
const COLUMN: usize = 19;

/// Prints it.
pub fn print(weighed: &Weighed) -> io::Result<()> {
    let mut out = crate::out::stdout();
    let Weighed { what, files, bytes: all, sampled_files, sampled_bytes, threads, seconds, .. } = weighed;
    write!(out, "{STRONG}{what}{STRONG:#}: {}, {}", several(*files, "file", "files"), bytes(*all))?;
    match sampled_bytes < all {
        true => write!(out, "; {} of them weighed, {}", grouped(*sampled_files), bytes(*sampled_bytes))?,
        false => write!(out, "; all of them weighed")?,
    }
    writeln!(out, " in {seconds:.1} s on {}\n", several(*threads as u64, "thread", "threads"))?;
    curves(&mut out, weighed)?;
    types(&mut out, weighed)?;
    recommendation(&mut out, &weighed.recommended, *all)
}

fn curves(out: &mut impl Write, weighed: &Weighed) -> io::Result<()> {
    write!(out, "{:>6}", "effort")?;
    for curve in &weighed.curves {
        write!(out, "{STRONG}{:>1$}{STRONG:#}  ", curve.codec, COLUMN - 2)?;
    }
    writeln!(out)?;
    let efforts: BTreeSet<u32> =
        weighed.curves.iter().flat_map(|curve| &curve.points).map(|point| point.effort).collect();
    for effort in efforts {
        write!(out, "{effort:>6}")?;
        let mut row = String::new();
        for curve in &weighed.curves {
            match curve.points.iter().find(|point| point.effort == effort) {
                Some(point) => row.push_str(&cell(point)),
                None => row.push_str(&format!("{:>COLUMN$}", "")),
            }
        }
        writeln!(out, "{}", row.trim_end())?;
    }
    writeln!(
        out,
        "{QUIET}{:>6}what remains of {}, and the time of one thread for all of it{QUIET:#}",
        "",
        bytes(weighed.bytes)
    )?;
    let percent = weighed.paying * 100.0;
    writeln!(
        out,
        "{QUIET}{:>6}{QUIET:#}{WELL}◂{WELL:#}{QUIET} past this, doubling the time saves less than {percent:.0} %{QUIET:#}\n",
        ""
    )
}

/// What remains and how long it takes, in the width of a column.
fn cell(point: &Point) -> String {
    let text = format!("{:.1} % {:>8}", point.ratio * 100.0, time(point.seconds));
    let (open, close, mark) = match point.knee {
        true => (WELL.to_string(), format!("{WELL:#}"), " ◂"),
        false => (String::new(), String::new(), "  "),
    };
    format!("{:>gap$}{open}{text}{mark}{close}", "", gap = COLUMN.saturating_sub(text.len() + 2))
}

fn time(seconds: f64) -> String {
    match seconds {
        seconds if seconds < 0.0995 => format!("{:.1} ms", seconds * 1000.0),
        seconds if seconds < 0.9995 => format!("{:.0} ms", seconds * 1000.0),
        seconds if seconds < 99.5 => format!("{seconds:.1} s"),
        seconds => format!("{:.0} min", seconds / 60.0),
    }
}

fn types(out: &mut impl Write, weighed: &Weighed) -> io::Result<()> {
    let width = weighed.types.keys().map(String::len).max().unwrap_or(0).max(4);
    writeln!(
        out,
        "{STRONG}{:<width$}  {:>7}  {:>9}  {:>9}  smallest by{STRONG:#}",
        "type", "files", "before", "after"
    )?;
    let mut rows: Vec<_> = weighed.types.iter().collect();
    rows.sort_by_key(|(_, row)| std::cmp::Reverse(row.of_type.bytes));
    for (name, row) in rows {
        write!(out, "{name:<width$}  {:>7}  {:>9}  ", grouped(row.of_type.files), bytes(row.of_type.bytes))?;
        match smallest(&row.curves).filter(|_| row.worthwhile) {
            Some((curve, point)) => {
                let after = bytes(point.bytes.round() as u64);
                writeln!(
                    out,
                    "{after:>9}  {} {}: {:.0} % remain",
                    curve.codec,
                    point.effort,
                    point.ratio * 100.0
                )?;
            }
            None => writeln!(out, "{QUIET}{:>9}  does not get smaller by as much as 5 %{QUIET:#}", "")?,
        }
    }
    writeln!(out)
}

fn smallest(curves: &[Curve]) -> Option<(&Curve, &Point)> {
    let points = curves.iter().flat_map(|curve| curve.points.iter().map(move |point| (curve, point)));
    points.min_by(|one, other| one.1.bytes.total_cmp(&other.1.bytes))
}

fn recommendation(out: &mut impl Write, found: &Recommendation, all: u64) -> io::Result<()> {
    let part = 100.0 * found.bytes / (all.max(1) as f64);
    for reason in &found.reasons {
        writeln!(out, "{QUIET}# {reason}{QUIET:#}")?;
    }
    if !found.codecs.is_empty() {
        let after = bytes(found.bytes.round() as u64);
        writeln!(
            out,
            "{QUIET}# everything sent once: {after} instead of {}, {part:.0} % remain{QUIET:#}",
            bytes(all)
        )?;
    }
    write!(out, "{}", found.settings())
}
