//! The records follow the logs: one service to a state folder, each log by what it is, memory within its bounds, and the sites
//! up whatever becomes of the databases.

use exedra_e2e::{Place, drawn, exedra, text, until};
use std::process::Command;

#[test]
fn a_second_service_on_the_same_state_is_refused_and_says_whose_it_is() {
    let place = Place::new();
    let service = place.serve();
    let output = exedra(&["serve", "--config", &text(&place.config())]);
    let words = drawn(&output);
    assert!(!output.status.success() && words.contains("belongs to another Exedra"), "{words}");
    assert!(words.contains(&format!("process {}", service.process())), "{words}");
    service.kill();
    assert!(!service.ended());
    let again = place.serve();
    assert_eq!(again.get("lamp.example", "/").status(), 200, "a lock ends with its process");
}

#[test]
fn another_log_of_the_same_name_is_read_from_its_beginning() {
    let place = Place::new();
    let service = place.serve();
    for _ in 0..5 {
        service.get("lamp.example", "/");
    }
    until("all is recorded", || (service.recorded("lamp") == 5).then_some(()));
    service.tell("TERM");
    assert!(service.ended());
    std::fs::remove_dir_all(place.path("state/logs")).unwrap();
    // What is written meanwhile is longer than what was read of the log before.
    let service = place.serve();
    for number in 0..40 {
        service.get("lamp.example", &format!("/another/{number}"));
    }
    until("all of the new log is recorded as well", || (service.recorded("lamp") == 45).then_some(()));
}

#[test]
fn long_heads_do_not_fill_memory() {
    let place = Place::new();
    let service = place.serve();
    service.get("lamp.example", "/");
    let before = service.resident();
    let agent = "a".repeat(50_000);
    let client = exedra_e2e::client();
    let heads = |count: usize| {
        for number in 0..count {
            let target = format!("http://{}/{number}{}", service.sites, "x".repeat(7_000));
            let asked = client.get(target).header("Host", "lamp.example").header("User-Agent", &agent);
            assert_eq!(asked.send().unwrap().status(), 404);
        }
    };
    heads(3000);
    // A survey of so many different paths takes memory of its own, for as long as it lasts.
    let recorded = || service.api("status")["sites"][1]["log"]["recorded"].as_u64();
    until("all is recorded", || (recorded() == Some(3001)).then_some(()));
    let (after, log) = (service.resident(), place.generations("lamp").pop().unwrap());
    assert!(
        after.saturating_sub(before) < 100 << 20,
        "{} MB for 171 MB of heads",
        after.saturating_sub(before) >> 20
    );
    assert!(log.metadata().unwrap().len() < 3001 * 12_000, "what is written is cut");
}

/// Puts rubbish over a part of a file.
fn damage(path: &std::path::Path, from: u64, length: usize) {
    use std::os::unix::fs::FileExt;
    let file = std::fs::OpenOptions::new().write(true).open(path).unwrap();
    file.write_all_at(&vec![0xa5; length], from).unwrap();
}

#[test]
fn databases_that_are_garbage_are_set_aside_and_the_sites_come_up() {
    let place = Place::new();
    let service = place.serve();
    for _ in 0..7 {
        service.get("lamp.example", "/");
    }
    until("all is recorded", || (service.recorded("lamp") == 7).then_some(()));
    service.tell("TERM");
    assert!(service.ended());
    for name in ["requests.db", "exedra.db"] {
        std::fs::write(place.path(&format!("state/{name}")), "this is no database\n".repeat(500)).unwrap();
        let _ = std::fs::remove_file(place.path(&format!("state/{name}-wal")));
    }
    let service = place.serve();
    assert_eq!(service.get("lamp.example", "/").status(), 200);
    until("they are made again from the logs", || (service.recorded("lamp") == 8).then_some(()));
    for name in ["requests", "exedra"] {
        assert!(place.path(&format!("state/{name}.damaged-1.db")).is_file(), "{name}");
    }
    let words =
        drawn(&exedra(&["status", "--config", &text(&place.config()), "--console", &service.console]));
    assert!(words.contains("requests.damaged-1.db") && words.contains("exedra.damaged-1.db"), "{words}");
}

#[test]
fn a_database_damaged_in_its_middle_keeps_nobody_from_the_sites() {
    let place = Place::new();
    let service = place.serve();
    for number in 0..300 {
        service.get("lamp.example", &format!("/{number}"));
    }
    until("all is recorded", || (service.recorded("lamp") == 300).then_some(()));
    service.tell("TERM");
    assert!(service.ended());
    let path = place.path("state/requests.db");
    let length = path.metadata().unwrap().len();
    for from in (4096..length).step_by(4096) {
        damage(&path, from, 2000.min((length - from) as usize));
    }
    let service = place.serve();
    assert_eq!(service.get("lamp.example", "/").status(), 200);
    until("all is there again", || (service.recorded("lamp") == 301).then_some(()));
}

#[test]
fn databases_that_vanish_while_the_service_runs_are_made_again() {
    let place = Place::new();
    let service = place.serve();
    service.get("lamp.example", "/");
    until("it is recorded", || (service.recorded("lamp") == 1).then_some(()));
    // What is in the tail becomes a segment first, so that there is something to lose.
    until("it is committed", || {
        (place.path("state/requests.db").metadata().unwrap().len() > 0).then_some(())
    });
    for name in ["requests.db", "requests.db-wal", "requests.db-shm"] {
        let _ = std::fs::remove_file(place.path(&format!("state/{name}")));
    }
    service.get("lamp.example", "/notes");
    until("it is there again", || place.path("state/requests.db").is_file().then_some(()));
    until("everything is recorded", || (service.recorded("lamp") == 2).then_some(()));
}

#[test]
fn a_full_state_folder_keeps_no_site_down_and_is_said() {
    // A small file system of its own needs privileges.
    let place = Place::new();
    let state = place.path("state");
    std::fs::create_dir(&state).unwrap();
    let mount = |arguments: &[&str]| {
        Command::new("mount").args(arguments).status().is_ok_and(|status| status.success())
    };
    if !mount(&["-t", "tmpfs", "-o", "size=2m,mode=700", "tmpfs", &text(&state)]) {
        eprintln!("no file system could be mounted: this is tried by root only");
        return;
    }
    struct Unmounts(String);
    impl Drop for Unmounts {
        fn drop(&mut self) {
            let _ = Command::new("umount").args(["-l", &self.0]).status();
        }
    }
    let _unmounts = Unmounts(text(&state));
    let service = place.serve();
    assert_eq!(service.get("lamp.example", "/").status(), 200);
    std::fs::write(state.join("filler"), vec![0; 4 << 20]).unwrap_err();
    for number in 0..50 {
        assert_eq!(service.get("lamp.example", &format!("/{number}")).status(), 404);
    }
    let status =
        || drawn(&exedra(&["status", "--config", &text(&place.config()), "--console", &service.console]));
    until("the trouble is said", || status().contains("cannot be").then_some(()));
    std::fs::remove_file(state.join("filler")).unwrap();
    until("all is recorded once there is room", || (service.recorded("lamp") == 51).then_some(()));
    drop(service);
    // Full from the start: the sites come up all the same.
    std::fs::write(state.join("filler"), vec![0; 4 << 20]).unwrap_err();
    let service = place.serve();
    assert_eq!(service.get("lamp.example", "/").status(), 200);
}
