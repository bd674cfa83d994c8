//! The form of both databases. Of `requests.db`: what earlier versions have written is read to the last value, and what is written now is what
//! the log says. `golden/` holds one log and the databases that programs of each version made of it.

use exedra_common::columns::Column;
use exedra_common::grant::Grant;
use exedra_common::scope::Scope;
use exedra_common::tables::Table;
use exedra_common::{Dictionaries, Projection, RequestBatch};
use exedra_reading::classify::Classifier;
use exedra_reading::logs::{Layout, LineReader};
use exedra_reading::survey::stored::{StoredPart, VERSION};
use exedra_reading::survey::{Report, ReportOptions, Survey, SurveyPlan, Surveyor, VisitorKey};
use exedra_store::{Account, Accounts, Checkpoint, Purpose, Records, Revisions, Secrets};
use jiff::tz::TimeZone;
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
    for version in ["requests-1.db.zst", "requests-2.db.zst", "requests-3.db.zst"] {
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

/// What a program that knew no accounts has left: sessions, tokens and configurations are as they were.
#[test]
fn an_earlier_database_of_what_is_nowhere_else_is_as_it_was() {
    const LINK: &str = "pzBKgMU8M0QIjOuKHFBLN5yySq6KSKeR0RbtaGK6tJY";
    const TOKEN: &str = "8PRuSS8MIam3nBhetAwhRpkKn-0DI7gxOJAe1VB6Uzk";
    const THEN: i64 = 1_795_684_670;
    let state = tempfile::tempdir().expect("a folder");
    std::fs::write(state.path().join("exedra.db"), golden("exedra-3.db.zst")).expect("a database");
    let revisions = Revisions::open(state.path()).latest(None, 1000).expect("they are read");
    let hosts: Vec<bool> =
        revisions.iter().map(|one| one.files[0].1.contains("www.harbour.example")).collect();
    assert_eq!((hosts, revisions[0].number, revisions[0].damaged), (vec![true, false], 2, false));
    let secrets = Secrets::open(state.path());
    let token = secrets.opens(TOKEN, Purpose::Token, THEN).expect("it is read").expect("it opens");
    assert_eq!(token.made_for.grant, Grant::ALL, "what it opened then");
    assert!(!token.id.is_empty(), "it can be ended");
    assert!(secrets.use_up(LINK, Purpose::Link, THEN).expect("it is read"));
    // Accounts are made in it, and nobody is let in twice by the link.
    let accounts = Accounts::open(state.path());
    let account = Account { name: "anna".into(), password: "a hash".into(), grant: Grant::ALL, made: THEN };
    accounts.add(&account).expect("it is written");
    assert_eq!(accounts.all().expect("they are read"), [account]);
    assert!(!secrets.use_up(LINK, Purpose::Link, THEN).expect("it is read"));
}

/// What is kept of a day says the same as the day counted anew. Where it does not, what is counted or how it is written has changed: raise
/// `survey::stored::VERSION`, and have the file of that version written by EXEDRA_WRITE_GOLDEN=1.
#[test]
fn what_was_kept_by_this_version_is_what_would_be_counted_now() {
    let (mut batch, texts) = of_log();
    let plan = SurveyPlan::of_kept(Scope::default(), TimeZone::UTC, VisitorKey([3, 7]));
    let mut surveyor = Surveyor::new(plan.clone());
    surveyor.add(&mut batch, &texts, 0);
    let counted = surveyor.into_survey(&texts);
    let name = format!("kept-{VERSION}.zst");
    if std::env::var_os("EXEDRA_WRITE_GOLDEN").is_some() {
        let parts: Vec<Vec<u8>> = StoredPart::all().map(|part| counted.written(part)).collect();
        let json = serde_json::to_vec(&parts).expect("it is written");
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden").join(&name);
        std::fs::write(path, zstd::encode_all(&json[..], 19).expect("it is packed")).expect("a golden file");
    }
    let parts: Vec<Vec<u8>> = serde_json::from_slice(&golden(&name)).expect("parts");
    assert_eq!(parts.len(), StoredPart::all().count());
    let mut kept = Survey::default();
    for (part, octets) in StoredPart::all().zip(&parts) {
        kept.take_in_written(part, octets).expect("it is read");
    }
    let report = |survey: &Survey| {
        let report = Report::new(survey, &plan, &ReportOptions::default(), None);
        serde_json::to_string(&report).expect("a report")
    };
    assert!(report(&kept) == report(&counted), "see above");
}
