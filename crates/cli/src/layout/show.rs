//! What came of trying layouts, as a page for the terminal.

use super::trial::{Made, Sample, Trial};
use crate::out::{QUIET, STRONG, TROUBLE};
use crate::show::fit::{self, shorten};
use exedra_common::figures::{grouped, several};
use unicode_width::UnicodeWidthStr;

/// How much of a line stands before the place where reading stopped, and how much of it is shown in all.
const BEFORE: usize = 60;
const SHOWN: usize = 92;
/// How wide the place of a layout is shown, and what stands there in a line.
const WIDEST_PLACE: usize = 48;
const WIDEST_SAMPLE: usize = 36;
const NARROWEST_SAMPLE: usize = 12;
/// How wide it is said how sure a place is, with the gaps around it and before it.
const CONFIDENCE: usize = 8 + 3 * 2;

/// One source.
pub fn page(source: &str, trial: &Trial) -> String {
    let mut page = String::new();
    let mut line = |text: String| {
        page.push_str(text.trim_end());
        page.push('\n');
    };
    let unread: u64 = trial.unread.iter().map(|misfits| misfits.lines).sum();
    let read = trial.lines as u64 - unread;
    match &trial.layout {
        Some(layout) => {
            let (read, lines) = (grouped(read), grouped(trial.lines as u64));
            let named = match layout.contains('{') {
                true => format!("is read by a layout {STRONG}found by its parts{STRONG:#}"),
                false => format!("is read as {STRONG}{layout}{STRONG:#}"),
            };
            line(format!("{STRONG}{source}{STRONG:#} {named}: {read} of the first {lines} lines"));
            if let Some(template) =
                trial.template.as_ref().filter(|template| *template != layout && !is_named_by_keys(layout))
            {
                for part in wrapped(template) {
                    line(format!("  {QUIET}{part}{QUIET:#}"));
                }
            }
        }
        None if trial.lines == 0 => line(format!("{STRONG}{source}{STRONG:#} holds no lines yet")),
        None => line(format!("{STRONG}{source}{STRONG:#} is read by no layout")),
    }
    if let Some(durations) = &trial.durations {
        line(format!("  {QUIET}durations are read as {durations}; --durations says otherwise{QUIET:#}"));
    }
    for made in &trial.found {
        line(String::new());
        places(made, &mut line);
    }
    if trial.tried.len() > 1 {
        line(String::new());
        line(format!("{QUIET}layout                lines   fields{QUIET:#}"));
        for tried in &trial.tried {
            line(format!("{:<20} {:>6}   {:>6}", tried.layout, grouped(tried.lines as u64), tried.fields));
        }
    }
    for sample in &trial.samples {
        line(String::new());
        line(format!("{QUIET}line {}{QUIET:#}", sample.line));
        fields(sample).into_iter().for_each(&mut line);
    }
    for misfits in &trial.unread {
        let lines = several(misfits.lines, "line", "lines");
        line(String::new());
        line(format!("{TROUBLE}{lines} cannot be read{TROUBLE:#}: {}", misfits.reason));
        let letters: Vec<char> = misfits.text.chars().collect();
        let begin = misfits.shown_at.saturating_sub(BEFORE);
        let end = letters.len().min(begin + SHOWN);
        let part: String = letters[begin.min(end)..end].iter().collect();
        let (before, after) = (if begin > 0 { "…" } else { "" }, if end < letters.len() { "…" } else { "" });
        let number = misfits.line.to_string();
        line(format!("  {QUIET}{number} |{QUIET:#} {before}{part}{after}"));
        let room = number.len() + 5 + before.chars().count() + misfits.shown_at - begin;
        line(format!("{:room$}{TROUBLE}^{TROUBLE:#} reading stopped here", ""));
    }
    page
}

/// A layout that was made: its places with what each was taken for, and what to write to keep it.
fn places(made: &Made, line: &mut impl FnMut(String)) {
    if !made.places.is_empty() {
        let width = made.places.iter().map(|place| place.place.width()).max().unwrap_or(0).min(WIDEST_PLACE);
        // Reasons are not cut: what stands in a line is, as it is known.
        let reasons = made.places.iter().map(|place| place.reason.width()).max().unwrap_or(0);
        let rest = fit::room().map(|room| room.saturating_sub(width + CONFIDENCE + reasons));
        let widest = rest.unwrap_or(WIDEST_SAMPLE).clamp(NARROWEST_SAMPLE, WIDEST_SAMPLE);
        line(format!(
            "{QUIET}{:width$}  {:<widest$}  {:<8}  because{QUIET:#}",
            "place", "in a line", "this is"
        ));
        for place in &made.places {
            let style = if place.confidence == "unsure" { TROUBLE } else { QUIET };
            let sample = shorten(&place.sample, widest);
            let (name, confidence, reason) = (&place.place, place.confidence, &place.reason);
            line(format!(
                "{name:width$}  {QUIET}{sample:<widest$}{QUIET:#}  {style}{confidence:<8}{style:#}  {reason}"
            ));
        }
        line(String::new());
    }
    line(format!("{QUIET}to keep it, put this into the configuration:{QUIET:#}"));
    line(String::new());
    line("[[layout]]".to_owned());
    line("name = \"mine\"".to_owned());
    let quote = if made.template.contains('\'') { "'''" } else { "'" };
    line(format!("template = {quote}{}{quote}", made.template));
    if let Some(within) = &made.within {
        line(format!("within = {within:?}"));
    }
    if !made.keys.is_empty() {
        line(String::new());
        line("[layout.keys]".to_owned());
        made.keys.iter().for_each(|(key, place)| line(format!("{key:?} = {place:?}")));
    }
    if made.is_unsure() {
        line(String::new());
        line(format!(
            "{QUIET}Where it says unsure, write the field that is meant (`exedra fields` lists them), or {{skip}}.{QUIET:#}"
        ));
    }
}

/// A template in lines that fit, parted at its spaces.
fn wrapped(template: &str) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in template.split_inclusive(' ') {
        if lines.last().is_some_and(|line| line.chars().count() + word.chars().count() > SHOWN) {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(word);
        }
    }
    lines
}

/// In these layouts the file or the line names its fields; the template says only how the service writes it.
fn is_named_by_keys(layout: &str) -> bool {
    ["json", "extended"].contains(&layout)
}

fn fields(sample: &Sample) -> Vec<String> {
    let said =
        sample.fields.iter().filter_map(|(name, value)| Some(format!("  {name:<12} {}", value.as_ref()?)));
    let nothing: Vec<&str> =
        sample.fields.iter().filter(|(_, value)| value.is_none()).map(|(name, _)| *name).collect();
    let mut lines: Vec<String> = said.collect();
    if !nothing.is_empty() {
        lines.push(format!("  {QUIET}{:<12} {}{QUIET:#}", "nothing", nothing.join(", ")));
    }
    lines
}
