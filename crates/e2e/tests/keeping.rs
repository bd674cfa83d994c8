//! The records follow the logs, exactly, whatever happens.

use exedra_e2e::{Place, Program, rows, until};
use rand::RngExt;
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

/// Sends requests, each for a path of its own, on kept connections, until told to stop.
fn load(address: &str, number: &AtomicU64, stop: &AtomicBool) {
    while !stop.load(Ordering::Relaxed) {
        let Ok(mut socket) = TcpStream::connect(address) else { return };
        socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        while !stop.load(Ordering::Relaxed) {
            let path = number.fetch_add(1, Ordering::Relaxed);
            let request = format!("GET /p/{path} HTTP/1.1\r\nHost: lamp.example\r\n\r\n");
            let mut answer = [0; 4096];
            if socket.write_all(request.as_bytes()).is_err() || !matches!(socket.read(&mut answer), Ok(1..)) {
                break;
            }
        }
    }
}

fn paths_of_log(place: &Place) -> BTreeMap<String, u64> {
    let mut paths = BTreeMap::new();
    for line in place.log("lamp").iter().filter(|line| is_whole(line)) {
        *paths.entry(line.split(' ').nth(6).unwrap().to_owned()).or_default() += 1;
    }
    paths
}

/// A torn line was ended in its middle; a whole one ends with its time in milliseconds.
fn is_whole(line: &str) -> bool {
    let last = line.rsplit(' ').next().unwrap_or_default();
    line.matches('"').count() == 8 && last.len() == 13 && last.bytes().all(|octet| octet.is_ascii_digit())
}

fn paths_of_records(program: &Program) -> BTreeMap<String, u64> {
    let survey = program.api("survey?site=lamp&top=10000");
    let rest = survey["tables"]["paths"]["rest"]["rows"].as_u64().unwrap_or(0);
    assert_eq!(rest, 0, "all paths are listed");
    rows(&survey, "paths")
        .iter()
        .map(|row| (row["path"].as_str().unwrap().to_owned(), row["requests"].as_u64().unwrap()))
        .collect()
}

#[test]
fn killed_twenty_times_under_load_no_line_is_lost_and_none_counted_twice() {
    let place = Place::new();
    let number = AtomicU64::new(1);
    let mut random = rand::rng();
    for _ in 0..20 {
        let program = place.serve();
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            for _ in 0..3 {
                scope.spawn(|| load(&program.sites, &number, &stop));
            }
            // The moment of the kill is the point: any moment must do. The load is bounded so that every path can be listed.
            let until_kill = Duration::from_millis(random.random_range(20..160));
            let before = number.load(Ordering::Relaxed);
            let began = std::time::Instant::now();
            while began.elapsed() < until_kill && number.load(Ordering::Relaxed) < before + 450 {
                std::thread::yield_now();
            }
            program.kill();
            stop.store(true, Ordering::Relaxed);
        });
        program.ended();
    }
    let program = place.serve();
    let lines = paths_of_log(&place);
    assert!(lines.len() > 200, "there was some load: {}", lines.len());
    assert!(lines.values().all(|count| *count == 1));
    until("all lines are recorded", || (program.recorded("lamp") >= lines.len() as u64).then_some(()));
    assert_eq!(paths_of_records(&program), lines);
    program.tell("TERM");
    assert!(program.ended());
    let program = place.serve();
    assert_eq!(paths_of_records(&program), lines, "also after an orderly stop");
}

#[test]
fn a_lost_database_is_made_again_from_the_logs() {
    let place = Place::new();
    let program = place.serve();
    for _ in 0..50 {
        program.get("lamp.example", "/");
    }
    until("recorded", || (program.recorded("lamp") == 50).then_some(()));
    program.tell("TERM");
    assert!(program.ended());
    for file in ["requests.db", "requests.db-wal", "requests.db-shm"] {
        let _ = std::fs::remove_file(place.path("state").join(file));
    }
    std::fs::write(
        place.path("state/requests.db"),
        "this is no database at all, and long enough to be noticed",
    )
    .unwrap();
    let program = place.serve();
    until("recorded again", || (program.recorded("lamp") == 50).then_some(()));
}
