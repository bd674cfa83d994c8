//! The curves as a picture: how much remains, against the time it takes.

use crate::failure::Failure;
use crate::show::picture::{self, Drawn, FACE, FAINT, INK, LINES, MUTED, PAPER, SIZE, text};
use exedra_answering::encode::weighing::{Curve, Point};
use exedra_common::figures::{bytes, several};
use exedra_service::control::weighing::Weighed;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use std::path::Path;

/// Draws the chart into a file.
pub fn draw(weighed: &Weighed, path: &Path) -> Result<(), Failure> {
    let mut svg = String::new();
    paint(weighed, &mut svg).map_err(|error| Failure(format!("the chart could not be drawn: {error}")))?;
    picture::write(&svg, path)
}

fn paint(weighed: &Weighed, svg: &mut String) -> Drawn {
    let root = SVGBackend::with_string(svg, SIZE).into_drawing_area();
    root.fill(&PAPER)?;
    let title = format!("{}: what compression leaves of {}", weighed.what, bytes(weighed.bytes));
    root.draw_text(&title, &text(22, &INK), (32, 22))?;
    let about = format!(
        "{}; time of one thread for all of them; past the half rings, doubling the time saves less than {:.0} %",
        several(weighed.files, "file", "files"),
        weighed.paying * 100.0
    );
    root.draw_text(&about, &text(14, &MUTED), (32, 52))?;

    // What deflate does gzip does: one line for both.
    let has_gzip = weighed.curves.iter().any(|curve| curve.codec == "gzip");
    let curves: Vec<&Curve> =
        weighed.curves.iter().filter(|curve| !(has_gzip && curve.codec == "deflate")).collect();
    let points = || curves.iter().flat_map(|curve| &curve.points);
    let seconds = |point: &Point| point.seconds.max(1e-6);
    let (least, most) =
        points().map(seconds).fold((f64::MAX, 0.0f64), |(least, most), at| (least.min(at), most.max(at)));
    let (lowest, highest) = points()
        .map(|point| point.ratio * 100.0)
        .fold((100.0f64, 0.0f64), |(low, high), at| (low.min(at), high.max(at)));
    let margin = ((highest - lowest) * 0.12).max(0.5);
    let (lowest, highest) = ((lowest - margin).max(0.0), (highest + margin).min(100.0));
    let area = root.margin(84, 20, 20, 110);
    let mut chart = ChartBuilder::on(&area)
        .x_label_area_size(48)
        .y_label_area_size(64)
        .build_cartesian_2d(((least * 0.8)..(most * 1.25)).log_scale(), lowest..highest)?;
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(FAINT)
        .axis_style(MUTED)
        .label_style(text(13, &MUTED))
        .axis_desc_style(text(14, &INK))
        .y_desc("remains, %")
        .x_desc("seconds, each step ten times the one before")
        .y_labels(7)
        .y_label_formatter(&|part| format!("{part:.0}"))
        .x_label_formatter(&|at| format!("{at}"))
        .draw()?;
    for (&curve, colour) in curves.iter().zip(LINES) {
        let at = |point: &Point| (seconds(point), point.ratio * 100.0);
        chart.draw_series(LineSeries::new(curve.points.iter().map(at), colour.stroke_width(2)))?;
        chart.draw_series(curve.points.iter().map(|point| Circle::new(at(point), 3, colour.filled())))?;
        if let Some(knee) = curve.knee() {
            // The half ring that everything of ours is drawn with: open towards what comes after.
            let ring = (0..=24).map(|step| {
                let angle = std::f64::consts::PI * (0.5 + f64::from(step) / 24.0);
                ((11.0 * angle.cos()).round() as i32, (11.0 * angle.sin()).round() as i32)
            });
            let ring = EmptyElement::at(at(knee))
                + PathElement::new(ring.collect::<Vec<_>>(), colour.stroke_width(2));
            chart.draw_series([ring])?;
            let is_last = curve.points.last().is_some_and(|last| last.effort == knee.effort);
            if !is_last {
                let words = format!("{} {}: {:.1} %", curve.codec, knee.effort, knee.ratio * 100.0);
                label(&mut chart, at(knee), (-6, 24), words, colour)?;
            }
        }
    }
    names(&mut chart, &curves)?;
    root.present()?;
    Ok(())
}

type Chart<'a, 'b> = ChartContext<
    'a,
    SVGBackend<'b>,
    Cartesian2d<plotters::coord::combinators::LogCoord<f64>, plotters::coord::types::RangedCoordf64>,
>;

/// The codecs' names at the ends of their lines, kept from lying on each other.
fn names(chart: &mut Chart<'_, '_>, curves: &[&Curve]) -> Drawn {
    let mut ends: Vec<(&Curve, &Point, RGBColor, i32)> = Vec::new();
    for (&curve, colour) in curves.iter().zip(LINES) {
        // Where the end is hardly lower than the half ring, that one's words do for both.
        let differs = |last: &&Point| {
            curve.knee().is_none_or(|knee| knee.effort == last.effort || knee.ratio - last.ratio > 0.003)
        };
        if let Some(last) = curve.points.last().filter(differs) {
            let (_, y) = chart.backend_coord(&(last.seconds.max(1e-6), last.ratio * 100.0));
            ends.push((curve, last, colour, y));
        }
    }
    ends.sort_by_key(|(.., y)| *y);
    let mut taken = i32::MIN;
    for (curve, last, colour, y) in ends {
        let lower = (taken + 18).max(y);
        taken = lower;
        let words = format!("{} {}: {:.1} %", curve.codec, last.effort, last.ratio * 100.0);
        let at = (last.seconds.max(1e-6), last.ratio * 100.0);
        label(chart, at, (12, lower - y), words, colour)?;
    }
    Ok(())
}

/// Words beside a point.
fn label(
    chart: &mut Chart<'_, '_>,
    at: (f64, f64),
    shift: (i32, i32),
    words: String,
    colour: RGBColor,
) -> Drawn {
    let style = (FACE, 15).into_font().color(&colour).pos(Pos::new(HPos::Left, VPos::Center));
    chart.draw_series([EmptyElement::at(at) + Text::new(words, shift, style)])?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use exedra_answering::encode::Codec;
    use exedra_answering::encode::weighing::{Measured, Weighing};

    /// What was weighed of a site: gzip stops paying early, Brotli later; deflate does what gzip does.
    fn weighed(what: &str, codecs: &[Codec]) -> Weighed {
        let mut weighing = Weighing::default();
        weighing.file("text/css", 1_000_000);
        weighing.sampled("text/css", 1_000_000);
        for codec in codecs {
            for effort in codec.efforts() {
                let after = 300_000 / u64::from(effort.clamp(1, 6)) + 100_000;
                let nanoseconds = 1_000_000 << effort.min(30);
                weighing.add(
                    "text/css",
                    &Measured { codec: *codec, effort, before: 1_000_000, after, nanoseconds },
                );
            }
        }
        Weighed::new(what.to_owned(), &weighing, 2, 1.5)
    }

    fn svg(weighed: &Weighed) -> String {
        let mut svg = String::new();
        paint(weighed, &mut svg).unwrap();
        svg
    }

    #[test]
    fn each_codec_has_a_line_with_its_name_and_the_effort_past_which_nothing_is_won() {
        let all = weighed("harbour", &[Codec::Gzip, Codec::Deflate, Codec::Brotli]);
        let drawn = svg(&all);
        for curve in &all.curves {
            let is_named = drawn.contains(&format!("\n{} ", curve.codec));
            assert_eq!(is_named, curve.codec != "deflate", "{}: gzip's line is deflate's too", curve.codec);
            if let Some(knee) = curve.knee().filter(|_| is_named) {
                let words = format!("{} {}: {:.1} %", curve.codec, knee.effort, knee.ratio * 100.0);
                assert!(drawn.contains(&words), "{words}");
            }
        }
        let alone = svg(&weighed("harbour", &[Codec::Deflate]));
        assert!(alone.contains("\ndeflate "), "where gzip is not there, deflate has its own line");
    }

    #[test]
    fn names_of_folders_are_text_and_nothing_else() {
        let drawn = svg(&weighed("<script>&\"'", &[Codec::Gzip]));
        assert!(!drawn.contains("<script>") && drawn.contains("&lt;script&gt;&amp;"));
        assert!(resvg::usvg::Tree::from_str(&drawn, &resvg::usvg::Options::default()).is_ok());
    }

    #[test]
    fn one_measurement_and_none_that_gets_smaller_are_drawn_all_the_same() {
        let mut weighing = Weighing::default();
        weighing.file("image/png", 10);
        weighing.sampled("image/png", 10);
        weighing.add(
            "image/png",
            &Measured { codec: Codec::Zstd, effort: 3, before: 10, after: 10, nanoseconds: 0 },
        );
        assert!(svg(&Weighed::new("one".to_owned(), &weighing, 1, 0.0)).ends_with("</svg>\n"));
    }

    #[test]
    fn a_picture_has_letters_of_its_own_and_the_size_that_was_meant() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("chart.png");
        draw(&weighed("harbour", &[Codec::Gzip, Codec::Brotli]), &path)
            .unwrap_or_else(|error| panic!("{}", error.0));
        let octets = std::fs::read(&path).unwrap();
        let picture = resvg::tiny_skia::Pixmap::decode_png(&octets).unwrap();
        assert_eq!((picture.width(), picture.height()), (1680, 960));
        // Where the title stands there is ink.
        let dark = |x: u32, y: u32| picture.pixel(x, y).is_some_and(|pixel| pixel.red() < 0x60);
        let title = (48..600).flat_map(|x| (30..75).map(move |y| (x, y)));
        assert!(title.filter(|(x, y)| dark(*x, *y)).count() > 500);
    }
}
