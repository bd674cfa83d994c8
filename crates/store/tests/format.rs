//! The form of `requests.db`: what earlier versions have written is read to the last value, and what is written now is what
//! the log says. `golden/` holds one log and the databases that programs of each version made of it.

use exedra_common::columns::Column;
use exedra_common::tables::Table;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use exedra_store::{Checkpoint, Records};
use std::path::Path;
use std::sync::Arc;

fn golden(name: &str) -> Vec<u8> {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden").join(name);
    zstd::decode_all(&std::fs::read(path).expect("a golden file")[..]).expect("it unpacks")
}

/// Each request of a batch with all its columns, as the API shows them.
fn rows(batch: &RequestBatch, texts: &Dictionaries) -> Vec<String> {
    let mut table =
        Table::of_requests("requests", "", Column::kept().filter(|column| !column.declaration().of_source));
    for row in 0..batch.rows() {
        table.push_request(batch, row, texts, &Classifier::default());
    }
    let mut rows: Vec<String> = table.rows.iter().map(|row| format!("{row:?}")).collect();
    rows.sort();
    rows
}

fn of_log() -> (RequestBatch, Dictionaries) {
    let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
    let (mut batch, mut texts) = Default::default();
    reader.read_block(&golden("harbour.log.zst"), 0, &mut 0, &mut batch, &mut texts);
    assert_eq!(batch.rows(), 90);
    (batch, texts)
}

fn of_records(records: &Records) -> Vec<String> {
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let all = records.snapshot();
    let fill =
        |_: &str, part: exedra_store::records::snapshot::Part<'_>| part.append_to(&mut batch, &mut texts);
    all.read(records, Projection::everything(), fill).expect("it is read");
    rows(&batch, &texts)
}

#[test]
fn databases_of_all_versions_say_what_their_log_says() {
    let (batch, texts) = of_log();
    let log = rows(&batch, &texts);
    for version in ["requests-1.db.zst", "requests-2.db.zst"] {
        let state = tempfile::tempdir().expect("a folder");
        std::fs::write(state.path().join("requests.db"), golden(version)).expect("a database");
        let records = Records::open(state.path());
        assert_eq!(of_records(&records), log, "{version}");
        // What comes now stands beside it, and outlives the next start.
        let (batch, texts) = of_log();
        let checkpoint = Checkpoint { lines: 90, begins: Some(2), ..Checkpoint::default() };
        records.append(&Arc::from("harbour"), "harbour.000002.log", batch, texts, (0, checkpoint));
        records.commit().expect("it is written");
        drop(records);
        let twice = of_records(&Records::open(state.path()));
        assert_eq!(twice.len(), 180, "{version}");
        assert!(twice.chunks(2).all(|pair| pair[0] == pair[1]), "{version}");
    }
}
