//! What does it cost?

use crate::classify::paths;
use crate::survey::plan::Part;
use crate::survey::report::context::{Context, requests, sent};
use crate::survey::report::section::{Follows, Made, Section};
use crate::survey::visitors_of_entries::Listed;
use exedra_common::tables::{Cell, Table, TableColumn};
use exedra_common::{DerivedColumn, TextColumn};

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
