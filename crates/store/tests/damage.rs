//! Whatever is damaged in `requests.db`: no request is counted twice, none is lost whose log is still there, and what is
//! undamaged is kept where it is not.

use diesel::connection::SimpleConnection;
use diesel::{Connection, SqliteConnection};
use exedra_common::{Dictionaries, Projection, RequestBatch, TextColumn};
use exedra_reading::logs::{Layout, LineReader};
use exedra_store::{Checkpoint, LogState, Records};
use std::collections::BTreeSet;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

const LOGS: usize = 4;
const LINES: usize = 240;

fn log(number: usize) -> String {
    format!("harbour.{number:06}.log")
}

/// Reads some lines of a log into the records, as whoever follows logs does.
fn read(records: &Records, number: usize, from: usize, count: usize) {
    let lines: String = (from..from + count)
        .map(|line| {
            let (minute, agent) = (line % 60, "a browser of some length ".repeat(line % 7));
            let mixed = number * 1000 + line;
            let mixed = (mixed as u128).wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c834);
            format!("192.0.2.{} - - [14/Nov/2026:1{number}:{minute:02}:36 +0000] \"GET /{number}/{line}/{mixed:032x}{:032x} HTTP/1.1\" 200 {line} \"-\" \"{agent}\"\n", line % 9, mixed.wrapping_mul(mixed))
        })
        .collect();
    let mut reader = LineReader::new(&Layout::all_named(), Projection::everything());
    let (mut batch, mut texts) = Default::default();
    reader.read_block(lines.as_bytes(), 0, &mut 0, &mut batch, &mut texts);
    let before = records.checkpoint(&log(number));
    let octets = before.octets + lines.len() as u64;
    let checkpoint =
        Checkpoint { octets, lines: before.lines + count as u64, begins: Some(number as u64), ..before };
    records.append(&Arc::from("harbour"), &log(number), batch, texts, (lines.len(), checkpoint));
}

/// Everything that is recorded, and whether nothing is twice.
fn paths(records: &Records) -> (BTreeSet<String>, bool) {
    let (mut batch, mut texts): (RequestBatch, Dictionaries) = Default::default();
    let fill =
        |_: &str, part: exedra_store::records::snapshot::Part<'_>| part.append_to(&mut batch, &mut texts);
    // Where the file turns out to be damaged now, it is set aside and nothing can be read yet.
    let _ = records.snapshot().read(records, Projection::everything(), fill);
    let texts = texts.of(TextColumn::Path);
    let all: Vec<String> = (0..batch.rows())
        .filter_map(|row| Some(texts.text(batch.code(TextColumn::Path, row)?).to_owned()))
        .collect();
    let distinct: BTreeSet<String> = all.iter().cloned().collect();
    let is_once = distinct.len() == all.len();
    (distinct, is_once)
}

/// A database of four logs, in many segments; some of them have become one.
fn recorded(state: &Path) -> BTreeSet<String> {
    let records = Records::open(state);
    for number in 0..LOGS {
        for from in (0..LINES).step_by(20) {
            read(&records, number, from, 20);
            records.commit().unwrap();
        }
        records.merge(|name| if name == log(number) { LogState::Written } else { LogState::Past }).unwrap();
    }
    let (all, is_once) = paths(&records);
    assert!(all.len() == LOGS * LINES && is_once);
    all
}

/// What the thread that follows the logs does, for those that are still there.
fn follow(records: &Records, there: &[usize]) {
    for _ in 0..4 {
        // What fails is tried again: by then, what is damaged has been set aside.
        if records.look_again().and_then(|_| records.drop_damaged()).is_err() || records.is_behind() {
            continue;
        }
        for &number in there {
            if records.checkpoint(&log(number)).incomplete && records.read_again(&log(number)).is_err() {
                continue;
            }
            if records.checkpoint(&log(number)).octets == 0 {
                read(records, number, 0, LINES);
            }
        }
        let _ = records.commit().and_then(|()| records.merge(|_| LogState::Past));
    }
}

#[test]
fn whichever_page_is_damaged_nothing_is_twice_and_nothing_lost_that_is_in_a_log() {
    let whole = tempfile::tempdir().unwrap();
    let all = recorded(whole.path());
    let file = std::fs::read(whole.path().join("requests.db")).unwrap();
    let pages = file.len() / 4096;
    assert!(pages > 25, "{pages} pages");
    let (mut kept_by, mut set_aside) = (Vec::new(), 0);
    for page in 0..pages {
        for (there, at) in [(vec![0, 1, 2, 3], 0), (vec![2, 3], if page % 2 == 0 { 0 } else { 2000 })] {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("requests.db");
            std::fs::write(&path, &file).unwrap();
            let damaged = std::fs::OpenOptions::new().write(true).open(&path).unwrap();
            damaged.write_all_at(&[0xa5; 1500], page as u64 * 4096 + at).unwrap();
            let records = Records::open(folder.path());
            // Somebody asks, and meets the damage.
            paths(&records);
            follow(&records, &there);
            paths(&records);
            follow(&records, &there);
            let (found, is_once) = paths(&records);
            let context = format!("page {page} at {at}, {there:?}: {:?}", records.trouble());
            assert!(is_once && found.is_subset(&all), "{context}");
            for number in there {
                let of_it = |path: &&String| path.starts_with(&format!("/{number}/"));
                assert_eq!(found.iter().filter(of_it).count(), LINES, "log {number}, {context}");
            }
            let of_the_first = found.iter().filter(|path| path.starts_with("/0/")).count();
            kept_by.push(of_the_first);
            set_aside += usize::from(folder.path().join("requests.damaged-1.db").exists());
            if found.len() < all.len() {
                let (trouble, damages) = records.trouble();
                assert!(!trouble.set_aside.is_empty() || !damages.is_empty(), "it is said: {context}");
            }
        }
    }
    // A log that is gone loses what was in the damaged page at most: with the table's first pages, all of it.
    let kept = kept_by.iter().filter(|kept| **kept == LINES).count();
    assert!(kept * 10 > kept_by.len() * 8, "{kept} of {}: {kept_by:?}", kept_by.len());
    assert!(set_aside > 5, "{set_aside}");
}

#[test]
fn a_log_of_the_same_name_keeps_what_was_read_of_the_one_before() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path());
    read(&records, 1, 0, 20);
    records.commit().unwrap();
    records.forget(&log(1));
    read(&records, 1, 100, 20);
    records.commit().unwrap();
    assert_eq!(paths(&records).0.len(), 40);
    assert!(!records.is_behind());
}

#[test]
fn a_column_that_was_not_known_reads_as_empty_and_one_that_is_lost_is_read_again() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path());
    (1..3).for_each(|number| {
        read(&records, number, 0, LINES);
        records.commit().unwrap();
    });
    drop(records);
    let mut database =
        SqliteConnection::establish(&folder.path().join("requests.db").to_string_lossy()).unwrap();
    // The first segment is of a time without agents; of the second, the statuses were lost.
    database
        .batch_execute(
            "UPDATE segments SET column_names = replace(column_names, ',agent', '') WHERE id = 1;
             DELETE FROM segment_columns WHERE segment = 1 AND name = 'agent';
             DELETE FROM segment_columns WHERE segment = 2 AND name = 'status';",
        )
        .unwrap();
    drop(database);
    let records = Records::open(folder.path());
    assert_eq!(paths(&records).0.len(), LINES, "who asks goes on with what there is");
    follow(&records, &[2]);
    let (found, is_once) = paths(&records);
    assert!(found.len() == 2 * LINES && is_once);
    assert!(records.trouble().1[0].contains("240 requests of harbour"), "{:?}", records.trouble());
}

/// What a disk has altered is found by looking at one segment after the other, before anybody asks for it.
#[test]
fn a_damaged_segment_is_found_step_by_step() {
    let state = tempfile::tempdir().unwrap();
    let all = recorded(state.path());
    let path = state.path().join("requests.db");
    let mut database = SqliteConnection::establish(&path.to_string_lossy()).unwrap();
    let alter = "UPDATE segment_columns SET packed = zeroblob(length(packed)) WHERE id = \
                 (SELECT max(id) FROM segment_columns WHERE name = 'status')";
    database.batch_execute(alter).unwrap();
    drop(database);
    let records = Records::open(state.path());
    let (mut last, mut steps) = (0, 0);
    while let Some(next) = records.look_at_next(last) {
        assert!(next > last);
        (last, steps) = (next, steps + 1);
    }
    assert!(steps >= LOGS, "{steps}");
    assert!(records.drop_damaged().unwrap(), "it was found");
    assert_eq!(records.trouble().1.len(), 1, "and is said");
    let (left, is_once) = paths(&records);
    assert!(
        is_once && left.len() < all.len() && left.len() * 2 > all.len(),
        "{} of {}",
        left.len(),
        all.len()
    );
    assert!(!records.drop_damaged().unwrap());
}
