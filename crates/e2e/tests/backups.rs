//! `exedra backup`, `exedra restore-backup`: whole or not at all, while the service runs, and back to the last request.

use exedra_e2e::{Place, drawn, exedra, text, until};
use std::process::Command;

/// Requests of a site, in the records of a service.
fn fetch(program: &exedra_e2e::Program, count: usize) {
    for nth in 0..count {
        program.get("harbour.example", &format!("/p{nth}")).text().unwrap();
    }
}

#[test]
fn what_was_backed_up_is_there_again_and_what_came_since_is_read_from_the_logs() {
    let place = Place::new();
    let program = place.serve();
    fetch(&program, 30);
    until("all are recorded", || (program.recorded("harbour") == 30).then_some(()));
    let folder = text(&place.path("backup"));
    let backup = |command: &str, folder: &str, more: &[&str]| {
        let config = text(&place.config());
        drawn(&exedra(&[&[command, folder, "--config", &config], more].concat()))
    };
    let made = backup("backup", &folder, &[]);
    assert!(made.contains("requests.db (") && made.contains("exedra.db ("), "{made}");
    assert!(backup("backup", &folder, &[]).contains("exists already"));
    fetch(&program, 12);
    let said = backup("restore-backup", &folder, &[]);
    assert!(said.contains("the service runs (process ") && said.contains("stop it first"), "{said}");
    program.tell("TERM");
    assert!(program.ended());
    // The databases are gone, and a past log with them.
    for name in ["requests.db", "exedra.db"] {
        std::fs::remove_file(place.path(&format!("state/{name}"))).unwrap();
    }
    let said = backup("restore-backup", &folder, &[]);
    assert!(said.contains("Restored into"), "{said}");
    let program = place.serve();
    until("what came since is read", || (program.recorded("harbour") == 42).then_some(()));
    assert!(!program.api("revisions").as_array().unwrap().is_empty());
    assert_eq!(program.api("status")["troubles"].as_array().unwrap().len(), 0);
    program.tell("TERM");
    assert!(program.ended());
    // Once more over what is there, which is kept.
    let said = backup("restore-backup", &folder, &[]);
    assert!(
        said.contains("requests.before-1.db") && place.path("state/exedra.before-1.db").exists(),
        "{said}"
    );
}

#[test]
fn a_backup_that_is_damaged_or_none_changes_nothing() {
    let place = Place::new();
    let program = place.serve();
    fetch(&program, 5);
    program.tell("TERM");
    assert!(program.ended());
    let folder = text(&place.path("backup"));
    let config = text(&place.config());
    let ask = |command: &str, more: &[&str]| {
        drawn(&exedra(&[&[command, &folder, "--config", &config], more].concat()))
    };
    assert!(ask("restore-backup", &[]).contains("is not an Exedra backup"));
    ask("backup", &[]);
    assert!(ask("restore-backup", &["--verify"]).contains("is complete and undamaged"));
    let before = std::fs::read(place.path("state/exedra.db")).unwrap();
    let path = place.path("backup/exedra.db");
    let mut octets = std::fs::read(&path).unwrap();
    let middle = octets.len() / 2;
    octets[middle] ^= 1;
    std::fs::write(&path, octets).unwrap();
    let said = ask("restore-backup", &[]);
    assert!(said.contains("exedra.db is damaged: its checksum"), "{said}");
    assert_eq!(std::fs::read(place.path("state/exedra.db")).unwrap(), before);
}

/// Killed at any moment, there is a whole backup under its name or none.
#[test]
fn a_backup_that_is_killed_is_not_there() {
    let place = Place::new();
    let program = place.serve();
    fetch(&program, 5);
    let config = text(&place.config());
    for round in 0..8u64 {
        let folder = place.path(&format!("backup-{round}"));
        let mut child = Command::new(exedra_e2e::program())
            .args(["backup", &text(&folder), "--config", &config])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        // As far as its first file, or its second, or its list.
        let unfinished = place.path(&format!("backup-{round}.unfinished"));
        let part = ["requests.db", "exedra.db", "backup.json"][round as usize % 3];
        until("it has begun", || {
            (unfinished.join(part).exists() || child.try_wait().unwrap().is_some()).then_some(())
        });
        let _ = child.kill();
        child.wait().unwrap();
        if folder.exists() {
            let look = exedra(&["restore-backup", &text(&folder), "--verify"]);
            assert!(drawn(&look).contains("is complete and undamaged"), "{}", drawn(&look));
        }
        let again = exedra(&["backup", &text(&place.path(&format!("again-{round}"))), "--config", &config]);
        assert!(again.status.success(), "{}", drawn(&again));
    }
}
