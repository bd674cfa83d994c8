//! Trying layouts on the first lines of a log.

use exedra_common::batch::NO_TIME;
use exedra_common::columns::Kind;
use exedra_common::figures::{grouped, milliseconds};
use exedra_common::{Column, Dictionaries, Projection, RequestBatch};
use exedra_reading::logs::detect::understand;
use exedra_reading::logs::search::roles::Confidence;
use exedra_reading::logs::search::{Found, Given};
use exedra_reading::logs::{Cutter, Layout, LineReader, escape};
use serde::Serialize;
use std::collections::BTreeMap;

/// What came of it.
#[derive(Debug, Serialize)]
pub struct Trial {
    /// Lines that were looked at, those that say something about the log itself left out.
    pub lines: usize,
    /// The layout that reads the most fields from the most lines.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// Its template.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// Layouts that were made for lines which none of the others reads.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub found: Vec<Made>,
    /// What durations are taken to count, where the lines do not say it, and why.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub durations: Option<String>,
    /// Each layout with the lines it reads alone, the best first.
    pub tried: Vec<Tried>,
    /// Some lines, field by field.
    pub samples: Vec<Sample>,
    /// Lines that none of the layouts reads, by reason.
    pub unread: Vec<Misfits>,
}

/// A layout that was made, place by place.
#[derive(Debug, Serialize)]
pub struct Made {
    /// Its template.
    pub template: String,
    /// The key of the JSON object in which the lines stand, where they do.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub within: Option<String>,
    /// Keys whose values said what they are, and the places these stand for.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub keys: BTreeMap<String, String>,
    /// Lines it was made from that it reads.
    pub lines: usize,
    /// Its places, and what each was taken for.
    pub places: Vec<MadePlace>,
}

/// One place of a layout that was made.
#[derive(Debug, Serialize)]
pub struct MadePlace {
    /// As it stands in the template.
    pub place: String,
    /// What stands there in one of the lines.
    pub sample: String,
    /// How sure it is: certain, likely or unsure.
    pub confidence: &'static str,
    /// Why.
    pub reason: String,
}

impl Made {
    fn new(found: &Found) -> Self {
        let place = |place: &exedra_reading::logs::search::Recognised| MadePlace {
            place: place.place.clone(),
            sample: place.sample.clone(),
            confidence: place.confidence.name(),
            reason: place.reason.clone(),
        };
        Made {
            template: found.layout.template.clone(),
            within: found.layout.hints.within.clone(),
            keys: found.layout.hints.keys.iter().cloned().collect(),
            lines: found.lines,
            places: found.places.iter().map(place).collect(),
        }
    }

    /// Whether some place may well be something else.
    pub fn is_unsure(&self) -> bool {
        self.places.iter().any(|place| place.confidence == Confidence::Unsure.name())
    }
}

/// One layout.
#[derive(Debug, Serialize)]
pub struct Tried {
    /// Its name.
    pub layout: String,
    /// Lines it reads.
    pub lines: usize,
    /// Fields it reads in one of them.
    pub fields: usize,
}

/// One line, field by field.
#[derive(Debug, Serialize)]
pub struct Sample {
    /// Its number, from 1.
    pub line: usize,
    /// The line, made safe to show.
    pub text: String,
    /// Each column with what the line says; nothing where it says nothing.
    pub fields: Vec<(&'static str, Option<String>)>,
}

/// Lines that cannot be read for one reason.
#[derive(Debug, Serialize)]
pub struct Misfits {
    /// What is wrong.
    pub reason: String,
    /// How many.
    pub lines: u64,
    /// The first: its number, from 1.
    pub line: usize,
    /// Where reading stopped: the column, from 1.
    pub column: usize,
    /// Where that is in the text as it is shown here, in letters from 0.
    pub shown_at: usize,
    /// The line, made safe to show.
    pub text: String,
}

/// Tries layouts on lines, and shows so many of them. Where one was asked for, no other is made.
pub fn of(layouts: &[Layout], lines: &[Vec<u8>], most_samples: usize, given: &Given) -> Trial {
    let slices: Vec<&[u8]> = lines.iter().map(|line| bare(line)).collect();
    let understood =
        understand(layouts, &slices, given).filter(|known| layouts.len() > 1 || known.found.is_empty());
    let best = understood.as_ref().map(|known| known.layouts[0].clone());
    let order = understood.as_ref().map_or_else(|| layouts.to_vec(), |known| known.layouts.clone());
    let mut tried: Vec<Tried> = order.iter().map(|layout| alone(layout, &slices)).collect();
    tried.retain(|tried| tried.lines > 0);
    tried.sort_by_key(|tried| std::cmp::Reverse(tried.lines * tried.fields));
    let found = understood.iter().flat_map(|known| &known.found).map(Made::new).collect();
    let durations = understood.as_ref().and_then(|known| known.durations.as_ref());
    let durations = durations.map(|(unit, reason)| format!("{} ({reason})", unit.name()));
    let mut reader = LineReader::new(&order, Projection::everything());
    let (mut samples, mut unread) = (Vec::new(), Vec::<Misfits>::new());
    let mut requests = 0;
    for (nth, line) in lines.iter().enumerate() {
        let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
        let before = reader.unread.counts.clone();
        reader.read_block(&[line, &b"\n"[..]].concat(), 0, &mut (nth as u64), &mut batch, &mut texts);
        if batch.rows() == 1 {
            requests += 1;
            if samples.len() < most_samples {
                samples.push(Sample { line: nth + 1, text: shown(line), fields: fields(&batch, &texts) });
            }
        }
        let Some((reason, _)) =
            reader.unread.counts.iter().find(|(reason, count)| before.get(reason) != Some(count))
        else {
            continue;
        };
        let words = reason.to_string();
        match unread.iter_mut().find(|misfits| misfits.reason == words) {
            Some(known) => known.lines += 1,
            None => {
                let examples = reader.unread.examples.get(reason);
                let at = examples.and_then(|examples| examples.last()).map_or(0, |example| example.at);
                let shown_at = shown(&line[..at.min(line.len())]).chars().count();
                unread.push(Misfits {
                    reason: words,
                    lines: 1,
                    line: nth + 1,
                    column: at + 1,
                    shown_at,
                    text: shown(line),
                });
            }
        }
    }
    unread.sort_by_key(|misfits| std::cmp::Reverse(misfits.lines));
    let unread_lines: u64 = unread.iter().map(|misfits| misfits.lines).sum();
    Trial {
        lines: requests + unread_lines as usize,
        layout: best.as_ref().map(|layout| layout.name.clone()),
        template: best.map(|layout| layout.template),
        found,
        durations,
        tried,
        samples,
        unread,
    }
}

/// A line without what some write before the first, so that its encoding can be told.
fn bare(line: &[u8]) -> &[u8] {
    line.strip_prefix(b"\xef\xbb\xbf").unwrap_or(line)
}

fn alone(layout: &Layout, lines: &[&[u8]]) -> Tried {
    let mut cutter = Cutter::new(layout);
    let mut read = 0;
    for line in lines {
        match line.first() {
            Some(b'#') => cutter.directive(line),
            _ => read += usize::from(cutter.run(&cutter.unwrapped(line)).is_ok()),
        }
    }
    let name = match layout.hints.within {
        Some(_) if layout.name.contains('{') => "found, within JSON".to_owned(),
        Some(_) => format!("{}, within JSON", layout.name),
        None if layout.name.contains('{') => "found".to_owned(),
        None => layout.name.clone(),
    };
    Tried { layout: name, lines: read, fields: cutter.fields() }
}

fn fields(batch: &RequestBatch, texts: &Dictionaries) -> Vec<(&'static str, Option<String>)> {
    let value = |column: Column| match column {
        Column::Time if batch.time[0] == NO_TIME => None,
        Column::Time => {
            let stamp = jiff::Timestamp::from_millisecond(batch.time[0]).unwrap_or_default();
            Some(stamp.to_string())
        }
        Column::Text(text) => batch.code(text, 0).map(|code| texts.of(text).text(code).to_owned()),
        Column::Number(number) => batch.number(number, 0).map(|number| match column.declaration().kind {
            Kind::Duration => milliseconds(number as f64 / 1e3),
            Kind::Size => format!("{} bytes", grouped(number)),
            _ => number.to_string(),
        }),
        Column::Derived(_) => None,
    };
    let in_lines = Column::kept().filter(|column| !column.declaration().of_source);
    in_lines.map(|column| (column.name(), value(column))).collect()
}

/// A line that can do nothing to whoever looks at it.
fn shown(line: &[u8]) -> String {
    let mut shown = Vec::new();
    if !line.is_empty() {
        escape::write(line, false, &mut shown);
    }
    String::from_utf8_lossy(&shown).replace("\\\"", "\"")
}
