//! Logs: every request once, whatever became of it, and files that follow each other without losing a line.

use exedra_e2e::{Place, Program, exedra, text, total, until};
use serde_json::Value;
use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::TcpStream;

const QUICK: &str = "[limits]\nhead_time = \"1 second\"\nhead_size = \"8 KiB\"\nidle_time = \"1 second\"\n";

/// Method, target and status of a line.
fn gist(line: &str) -> (String, u16) {
    let mut quoted = line.split('"');
    let request = quoted.nth(1).unwrap();
    let status = quoted.next().unwrap().split_whitespace().next().unwrap();
    (request.to_owned(), status.parse().unwrap())
}

fn gists(place: &Place, log: &str) -> Vec<(String, u16)> {
    place.log(log).iter().map(|line| gist(line)).collect()
}

#[test]
fn what_never_becomes_a_request_is_written_down_once() {
    let place = Place::new();
    place.configure(QUICK);
    let program = place.serve();
    let large = format!("GET /large HTTP/1.1\r\nHost: a\r\nX-Large: {}\r\n\r\n", "x".repeat(20_000));
    let cases: [(&[u8], &str, u16); 6] = [
        (
            b"GET /unknown HTTP/1.1\r\nHost: stranger.example\r\nConnection: close\r\n\r\n",
            "GET /unknown HTTP/1.1",
            421,
        ),
        (b"hello \x1b[31mthere\r\n\r\n", "hello \\x1b[31mthere -", 400),
        (b"GET /bad HTTP/1.1\r\nHost : a\r\n\r\n", "GET /bad HTTP/1.1", 400),
        (b"GET /two HTTP/1.1\r\nHost: a\r\nHost: b\r\nConnection: close\r\n\r\n", "GET /two HTTP/1.1", 400),
        (large.as_bytes(), "GET /large HTTP/1.1", 431),
        (b"GET /slow HTTP/1.1\r\nHost: a\r\n", "GET /slow HTTP/1.1", 408),
    ];
    let mut expected = Vec::new();
    for (octets, line, status) in cases {
        let answer = program.raw(octets);
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{line}: {answer}");
        expected.push((line.to_owned(), status));
    }
    // Cut off in the middle: nobody is there to be answered.
    let mut socket = TcpStream::connect(&program.sites).unwrap();
    socket.write_all(b"GET /cut HTTP/1.1\r\nHo").unwrap();
    drop(socket);
    expected.push(("GET /cut HTTP/1.1".to_owned(), 400));
    // Opened and left alone: no request, no line, and closed when its time is up.
    let mut idle = TcpStream::connect(&program.sites).unwrap();
    assert_eq!(idle.read(&mut [0; 10]).unwrap_or(0), 0);
    let mut found =
        until("all lines", || Some(gists(&place, "no_site")).filter(|lines| lines.len() >= expected.len()));
    // Lines of different connections come in any order.
    found.sort();
    expected.sort();
    assert_eq!(found, expected);
    assert!(place.log("harbour").is_empty() && place.log("lamp").is_empty());
    until("recorded", || (program.recorded("no_site") == 7).then_some(()));
}

#[test]
fn a_client_that_takes_nothing_is_let_go_and_its_line_says_how_far_it_came() {
    let place = Place::new();
    place.configure("[limits]\nbody_time = \"1 second\"\n");
    std::fs::write(place.path("lamp/large.bin"), vec![b'x'; 64 << 20]).unwrap();
    let program = place.serve();
    let mut socket = TcpStream::connect(&program.sites).unwrap();
    socket.write_all(b"GET /large.bin HTTP/1.1\r\nHost: lamp.example\r\n\r\n").unwrap();
    let line = until("the line", || place.log("lamp").pop());
    let (request, status) = gist(&line);
    let sent: u64 = line.split('"').nth(2).unwrap().split_whitespace().nth(1).unwrap().parse().unwrap();
    assert_eq!((request.as_str(), status), ("GET /large.bin HTTP/1.1", 200));
    assert!(sent > 0 && sent < 64 << 20, "{line}");
}

/// Asks for paths of their own on several connections, and gives them all.
fn load(program: &Program, each: usize, round: usize) -> BTreeSet<String> {
    std::thread::scope(|scope| {
        let clients = (0..4).map(|client| {
            scope.spawn(move || {
                let mut socket = TcpStream::connect(&program.sites).unwrap();
                let paths = (0..each).map(|number| format!("/load/{round}-{client}-{number}"));
                let paths: Vec<String> = paths.collect();
                for path in &paths {
                    let request = format!("GET {path} HTTP/1.1\r\nHost: lamp.example\r\n\r\n");
                    socket.write_all(request.as_bytes()).unwrap();
                    let mut answer = [0; 4096];
                    assert!(socket.read(&mut answer).unwrap() > 0);
                }
                paths
            })
        });
        let clients: Vec<_> = clients.collect();
        clients.into_iter().flat_map(|client| client.join().unwrap()).collect()
    })
}

fn targets(place: &Place) -> Vec<String> {
    let mut targets: Vec<String> = gists(place, "lamp")
        .into_iter()
        .map(|(request, _)| request.split(' ').nth(1).unwrap().to_owned())
        .collect();
    targets.sort();
    targets
}

#[test]
fn generations_hold_exactly_the_requests_that_were_made_and_records_are_made_again_from_them() {
    let place = Place::new();
    place.configure("[site.log]\nrotate = \"20 kB\"\n");
    let program = place.serve();
    let mut asked = BTreeSet::new();
    for round in 0..6 {
        asked.extend(load(&program, 60, round));
        // Written before the next round begins, so that there are several generations.
        until("written", || (place.log("lamp").len() == asked.len()).then_some(()));
    }
    let asked: Vec<String> = asked.into_iter().collect();
    assert_eq!(targets(&place), asked);
    let files = || place.generations("lamp");
    until("all but the last are compressed", || {
        let plain = files().iter().filter(|path| path.extension().is_some_and(|end| end == "log")).count();
        (files().len() > 2 && plain == 1).then_some(())
    });
    assert_eq!(targets(&place), asked);
    assert_eq!(program.recorded("lamp"), asked.len() as u64);
    // They are readable like any log.
    let all: Vec<String> = ["report", "--as", "json"]
        .map(str::to_owned)
        .into_iter()
        .chain(files().iter().map(|path| text(path)))
        .collect();
    let report: Value = serde_json::from_slice(&exedra(&all).stdout).unwrap();
    assert_eq!(*total(&report, "requests"), asked.len());

    program.tell("TERM");
    assert!(program.ended());
    for file in std::fs::read_dir(place.path("state")).unwrap() {
        let path = file.unwrap().path();
        if path.file_name().unwrap().to_str().unwrap().starts_with("requests.db") {
            std::fs::remove_file(path).unwrap();
        }
    }
    let program = place.serve();
    until("recorded again", || (program.recorded("lamp") == asked.len() as u64).then_some(()));
    let lag = program.api("status")["sites"][1]["log"]["lag"].clone();
    assert_eq!(lag, 0);
}

#[test]
fn a_log_that_is_taken_away_goes_on_elsewhere_and_nothing_is_lost() {
    let place = Place::new();
    let program = place.serve();
    let before = load(&program, 50, 1);
    until("written", || (place.log("lamp").len() == before.len()).then_some(()));
    std::fs::rename(place.path("state/logs/lamp.000001.log"), place.path("taken.log")).unwrap();
    program.tell("HUP");
    until("the next one", || place.path("state/logs/lamp.000002.log").exists().then_some(()));
    let after = load(&program, 50, 2);
    until("written", || (place.log("lamp").len() == after.len()).then_some(()));
    assert_eq!(targets(&place), after.iter().cloned().collect::<Vec<_>>());
    let taken = std::fs::read_to_string(place.path("taken.log")).unwrap();
    assert_eq!(taken.lines().count(), before.len());
    until("recorded", || (program.recorded("lamp") == (before.len() + after.len()) as u64).then_some(()));
}

#[test]
fn a_full_disk_keeps_serving_says_so_and_recovers() {
    let place = Place::new();
    std::fs::create_dir_all(place.path("state/logs")).unwrap();
    let log = place.path("state/logs/lamp.000001.log");
    std::os::unix::fs::symlink("/dev/full", &log).unwrap();
    let program = place.serve();
    assert_eq!(program.get("lamp.example", "/").status(), 200);
    let said = || program.api("status")["sites"][1]["log"]["trouble"].as_str().map(str::to_owned);
    let trouble = until("it is said", said);
    assert!(trouble.contains("space"), "{trouble}");
    let output = exedra(&["status", "--config", &text(&place.config()), "--console", &program.console]);
    let shown = String::from_utf8(output.stdout).unwrap();
    assert!(shown.contains("lamp.000001.log cannot be written: "), "{shown}");
    assert_eq!(program.get("lamp.example", "/nothing").status(), 404);
    // There is room again: here, because the full device is taken away.
    std::fs::remove_file(&log).unwrap();
    let lines = until("both lines", || Some(gists(&place, "lamp")).filter(|lines| lines.len() == 2));
    assert_eq!((lines[0].1, lines[1].1), (200, 404));
    until("no trouble", || said().is_none().then_some(()));
}

#[test]
fn errors_are_told_with_the_file_looked_for_the_page_that_linked_there_and_the_cause() {
    let place = Place::new();
    place.configure("[site.log]\nclients = \"masked\"\n");
    place.write("lamp/rooms/gallery.txt", "no index here");
    let program = place.serve();
    let link = ("Referer", "http://harbour.example/tides/");
    program.ask("harbour.example", "/gone.html?x=1", &[link]);
    program.ask("lamp.example", "/rooms/", &[("Forwarded", "for=203.0.113.9")]);
    program.ask("lamp.example", "/.git/config", &[]);
    program.ask("harbour.example", "/", &[]);
    let lines = until("the lines", || Some(place.log("service_errors")).filter(|lines| lines.len() == 3));
    // Each connection has its own worker, so the lines of different connections may come in any order.
    let lines: Vec<Value> = lines.iter().map(|line| serde_json::from_str(line).unwrap()).collect();
    let of = |target: &str| lines.iter().find(|line| line["target"] == target).unwrap();
    let (harbour, rooms, hidden) = (of("/gone.html?x=1"), of("/rooms/"), of("/.git/config"));
    assert_eq!((&harbour["site"], &harbour["status"]), (&"harbour".into(), &404.into()));
    assert_eq!(harbour["referrer"], "http://harbour.example/tides/");
    assert_eq!(harbour["file"], text(&place.path("harbour/gone.html")));
    assert_eq!(harbour["cause"], "at /gone.html there is nothing");
    assert_eq!(
        (&rooms["client"], &rooms["cause"]),
        (&"203.0.113.0".into(), &"no index file, and `listing` is off".into())
    );
    assert!(hidden["cause"].as_str().unwrap().contains("hidden"), "{hidden}");
    assert!(hidden["file"].is_null() && hidden["referrer"].is_null());

    for number in 0..4 {
        let from = ("Referer", format!("http://forum.example/{number}"));
        program.ask("harbour.example", "/gone.html?x=1", &[(from.0, &from.1)]);
    }
    until("the lines", || (place.log("service_errors").len() == 7).then_some(()));
    let errors = |more: &[&str]| {
        let output = exedra(&[&["errors", "--config", &text(&place.config())], more].concat());
        String::from_utf8(output.stdout).unwrap()
    };
    let shown = errors(&[]);
    assert_eq!(shown.matches("/gone.html?x=1").count(), 1, "the same ones are one: {shown}");
    assert!(shown.contains("5 times since ") && shown.contains("and from 2 other pages"), "{shown}");
    assert_eq!(errors(&["--each"]).matches("/gone.html?x=1").count(), 5);
    assert_eq!(errors(&["--as", "json", "--status", "403"]).lines().count(), 1);
    assert!(errors(&["--top", "1"]).contains("2 others before these"));
}

#[test]
fn a_site_may_have_no_log() {
    let place = Place::new();
    place.configure("[site.log]\nwrite = false\n");
    let program = place.serve();
    assert_eq!(program.get("lamp.example", "/").status(), 200);
    program.get("harbour.example", "/");
    until("the other's line", || place.log("harbour").pop());
    assert!(place.generations("lamp").is_empty());
    assert!(program.api("status")["sites"][1]["log"].is_null());
}

#[test]
fn a_log_may_be_lines_of_json_which_are_read_like_any() {
    let place = Place::new();
    place.configure("[site.log]\nlayout = \"json\"\n");
    let program = place.serve();
    let agent = "Boat \"quoted\" \\ 1";
    program.ask("lamp.example", "/?day=1&x=%22", &[("User-Agent", agent), ("Referer", "http://a.example/x")]);
    program.ask("lamp.example", "/nowhere", &[]);
    let lines = until("the lines", || Some(place.log("lamp")).filter(|lines| lines.len() == 2));
    let line: Value = serde_json::from_str(&lines[0]).unwrap();
    assert_eq!((&line["path"], &line["query"]), (&"/".into(), &"day=1&x=%22".into()));
    assert_eq!((&line["agent"], &line["referrer"]), (&agent.into(), &"http://a.example/x".into()));
    assert_eq!(
        (&line["status"], &line["host"], &line["user"]),
        (&200.into(), &"lamp.example".into(), &"".into())
    );
    until("recorded", || (program.recorded("lamp") == 2).then_some(()));
    let report = exedra(&["report", "--as", "json", &text(&place.generations("lamp")[0])]);
    let report: Value = serde_json::from_slice(&report.stdout).unwrap();
    assert_eq!((total(&report, "requests"), &report["lines"]["unread"]), (&2.into(), &0.into()));
    assert_eq!(report["sources"][0]["layout"], "json");
}

#[test]
fn a_log_in_the_extended_format_says_its_fields_in_every_generation() {
    let place = Place::new();
    place.configure("[site.log]\nlayout = \"extended\"\nrotate = \"1 kB\"\n");
    let program = place.serve();
    for number in 0..12 {
        program.ask("lamp.example", &format!("/?n={number}"), &[("User-Agent", "Boat \"quoted\" 1")]);
        until("the line", || {
            (place.log("lamp").iter().filter(|line| !line.starts_with('#')).count() > number).then_some(())
        });
    }
    let generations = place.generations("lamp");
    assert!(generations.len() > 1);
    let lines = place.log("lamp");
    let headings = lines.iter().filter(|line| line.starts_with("#Fields: date time c-ip ")).count();
    assert_eq!((headings, lines[0].as_str()), (generations.len(), "#Version: 1.0"));
    let line = lines.iter().find(|line| !line.starts_with('#')).unwrap();
    assert!(
        line.contains(" 127.0.0.1 - GET / n=0 HTTP/1.1 200 ") && line.contains("\"Boat \\x22quoted\\x22 1\""),
        "{line}"
    );
    until("recorded", || (program.recorded("lamp") == 12).then_some(()));
    assert_eq!(program.api("status")["sites"][1]["log"]["unread"], 0);
    assert_eq!(program.api("now?site=lamp")["latest"]["rows"][0]["agent"], "Boat \"quoted\" 1");
}
