//! What does it cost?

use crate::classify::paths;
use crate::survey::plan::Part;
use crate::survey::ranking::Counts;
use crate::survey::report::context::{Context, requests, sent};
use crate::survey::report::section::{Follows, Made, Section};
use crate::survey::visitors_of_entries::Listed;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::{DerivedColumn, TextColumn};
use std::collections::BTreeMap;

pub(super) const SECTIONS: &[Section] = &[
    Section::new(
        "extensions",
        "Extensions",
        &[Part::Paths],
        Made::Follows(Follows::new(
            || TableColumn::of(DerivedColumn::Extension),
            Listed::Paths,
            |survey| &survey.paths,
            |_, path| paths::extension(path).map(Into::into),
        )),
    )
    .on_request(),
    Section::new("encodings", "Compressed", &[Part::Encodings], Made::By(encodings)),
    Section::new(
        "uncompressed",
        "Text that was sent uncompressed",
        &[Part::Encodings],
        Made::By(uncompressed),
    ),
    Section::new(
        "repeats",
        "What the same clients were sent again",
        &[Part::Repeats, Part::Paths],
        Made::By(repeats),
    )
    .on_request(),
    Section::new(
        "embedding_sites",
        "Sites whose pages load files from here",
        &[Part::Referrers],
        Made::Follows(
            Follows::new(
                || TableColumn::of(DerivedColumn::ReferrerHost).named("referrer_host", "site"),
                Listed::Embedding,
                |survey| &survey.embeds,
                |context, host| (!context.is_own(host)).then(|| host.to_owned().into()),
            )
            .with_visitors(
                |survey| &survey.referrers,
                |context, referrer| context.foreign_host(referrer).map(Into::into),
            ),
        ),
    ),
];

/// Answers by content coding, and what it saved.
fn encodings(context: &Context<'_>) -> Table {
    let saved = TableColumn::size("saved", "bytes saved");
    let mut table = Table::new("", "", [TableColumn::of(TextColumn::Encoding), requests(), sent(), saved]);
    table.order = Some("requests".to_owned());
    let mut all: Vec<_> = context.survey.encodings.iter().collect();
    all.sort_by(|a, b| b.1.counts.requests.cmp(&a.1.counts.requests).then_with(|| a.0.cmp(b.0)));
    for (name, encoded) in all {
        let saved = encoded.before.saturating_sub(encoded.after);
        table.push([
            Cell::from(&**name),
            encoded.counts.requests.into(),
            encoded.counts.bytes.into(),
            saved.into(),
        ]);
    }
    table
}

/// What compression would save on text that went out as it is, by type. How much is a guess, and said to be one.
fn uncompressed(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let columns = [
        TableColumn::text("type", "type"),
        TableColumn::size("would_save", "would save (a guess)"),
        requests(),
        sent(),
    ];
    let mut table = Table::new("", "", columns);
    // A log that names no coding at all does not say that nothing was compressed.
    if survey.encodings.is_empty() {
        return table;
    }
    let mut types: BTreeMap<String, (Counts, f64)> = BTreeMap::new();
    for (path, counts) in survey.uncompressed.entries() {
        let name = paths::extension(path).unwrap_or_else(|| "no extension".to_owned());
        let known = types.entry(name).or_default();
        known.0.merge(counts);
        known.1 += counts.bytes as f64 * paths::saving(path);
    }
    let mut types: Vec<_> = types.into_iter().filter(|(_, (counts, _))| counts.bytes > 0).collect();
    types.sort_by(|a, b| b.1.1.total_cmp(&a.1.1).then_with(|| a.0.cmp(&b.0)));
    for (name, (counts, saving)) in types {
        table.push([
            Cell::from(name),
            (saving.round() as u64).into(),
            counts.requests.into(),
            counts.bytes.into(),
        ]);
    }
    table.cut(context.top);
    table.total_of_rows();
    table.about = "what it would save is a guess by type; exedra weigh measures it".to_owned();
    table
}

/// Paths of which the same clients were sent all again, most bytes first.
fn repeats(context: &Context<'_>) -> Table {
    let survey = context.survey;
    let columns = [
        TableColumn::of(TextColumn::Path),
        TableColumn::size("again_bytes", "sent again").counted_from(TextColumn::Client),
        TableColumn::sum("again", "times").counted_from(TextColumn::Client),
        TableColumn::sum("again_clients", "clients").counted_from(TextColumn::Client),
    ];
    let mut table = Table::new("", "", columns);
    table.order = Some("again_bytes".to_owned());
    let again = survey.repeats.by_path();
    let paths = survey
        .paths
        .entries()
        .filter_map(|(path, _)| Some((path, *again.get(&context.plan.key.of_text(path))?)));
    let mut paths: Vec<_> = paths.collect();
    paths.sort_by(|a, b| b.1.bytes.cmp(&a.1.bytes).then_with(|| a.0.cmp(b.0)));
    for (path, again) in paths {
        table.push([Cell::from(path), again.bytes.into(), again.requests.into(), again.clients.into()]);
    }
    table.cut(context.top);
    table.total_of_rows();
    table.about =
        "full answers (200) after the first of the same client, which a cache lifetime or a 304 would spare"
            .to_owned();
    if survey.repeats.weight() > 1 {
        let weight = survey.repeats.weight();
        table.unknown.push(format!("repeats are estimated from one client in {weight}"));
    }
    table
}
