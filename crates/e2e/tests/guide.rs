//! The guide does what it says: its configurations are valid, and what it types at logs gives an answer.

use exedra_e2e::{Place, exedra};
use std::path::{Path, PathBuf};

const GUIDE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide");

fn pages() -> Vec<(PathBuf, String)> {
    let files = std::fs::read_dir(GUIDE).expect("the guide").map(|file| file.expect("a page").path());
    files.map(|path| (path.clone(), std::fs::read_to_string(path).expect("a text"))).collect()
}

/// The blocks of a page that begin with three back quotes and exactly this.
fn blocks<'p>(page: &'p str, language: &str) -> Vec<&'p str> {
    let opening = format!("```{language}\n");
    page.split(&opening).skip(1).map(|rest| rest.split("```").next().unwrap_or_default()).collect()
}

/// A folder with every file that configurations in the guide name.
fn place() -> Place {
    let place = Place::new();
    for page in [
        "index.html",
        "errors/lost.html",
        "errors/sorry.html",
        "staff/index.html",
        "downloads/map.html",
        "assets/site.css",
        "notices/index.html",
        "tides.json",
        "lost.html",
        "notes.txt",
        "feed.xml",
        "LICENCE",
    ] {
        place.write(&format!("sites/harbour/{page}"), "<!doctype html><title>Harbour</title>");
    }
    place.write("sites/harbour/moved.csv", "");
    place.write("moved.csv", "/harbour-map,/downloads/map.html\n");
    let names = vec!["harbour.lindry.example".to_owned()];
    let made = rcgen::generate_simple_self_signed(names).expect("a certificate");
    place.write("certs/harbour.pem", &made.cert.pem());
    place.write("certs/harbour.key", &made.signing_key.serialize_pem());
    place.write("secrets/staff.toml", "");
    place.write(
        "sites.d/mole.toml",
        "[[site]]\nname = \"mole\"\nhosts = [\"mole.lindry.example\"]\nfolder = \"sites/harbour\"\n",
    );
    place
}

fn check(place: &Place, what: &str) {
    let checked = exedra(&["check", "--config", &place.config().to_string_lossy()]);
    let said =
        String::from_utf8_lossy(&checked.stdout).into_owned() + &*String::from_utf8_lossy(&checked.stderr);
    assert!(checked.status.success(), "{what}\n{said}");
}

#[test]
fn every_configuration_in_the_guide_is_valid() {
    let mut tried = 0;
    for (page, text) in pages() {
        for block in blocks(&text, "toml") {
            let place = place();
            place.write("exedra.toml", block);
            check(&place, &format!("{}:\n{block}", page.display()));
            tried += 1;
        }
        for block in blocks(&text, "toml folder") {
            let place = place();
            let config = "[[listener]]\naddress = \"127.0.0.1:0\"\n\n[[site]]\nname = \"harbour\"\nhosts = [\"h.example\"]\nfolder = \"sites/harbour\"\n";
            place.write("exedra.toml", config);
            place.write("sites/harbour/.exedra.toml", block);
            check(&place, &format!("{}:\n{block}", page.display()));
            tried += 1;
        }
    }
    assert!(tried >= 12, "{tried} configurations");
}

/// A log by which every question in the guide has an answer.
fn write_logs(folder: &Path) {
    let clients = ["203.0.113.77", "198.51.100.9", "198.18.4.2"];
    let mut lines = String::new();
    for minute in 0..60 {
        for (at, client) in clients.iter().enumerate() {
            let (path, status) = match (minute, at) {
                (30..33, _) => ("/tides/today", 500),
                (_, 0) => ("/tides/today", 200),
                (_, 1) => ("/lost", 404),
                _ => ("/assets/site.css", 200),
            };
            lines.push_str(&format!(
                "{client} - - [14/Sep/2026:08:{minute:02}:00 +0000] \"GET {path} HTTP/1.1\" {status} 5120 \"-\" \
                 \"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0\"\n"
            ));
        }
    }
    for name in ["access.log", "logs/quay.log", "logs/mole.log", "old/access.log.7"] {
        let path = folder.join(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::write(path, &lines).expect("a log");
    }
    let failed = "2026/09/14 08:30:00 [error] <8> #1 nothing at \"/srv/fog.html\", \
                  client: 203.0.113.77, request: \"GET /fog.html HTTP/1.1\"\n";
    std::fs::write(folder.join("error.log"), failed.repeat(3)).expect("a log");
}

#[test]
fn a_configuration_of_layouts_alone_is_for_reading() {
    let outside = std::fs::read_to_string(Path::new(GUIDE).join("from-the-outside-in.md")).expect("a page");
    let config = blocks(&outside, "toml")[0];
    let place = Place::new();
    place.write("exedra.toml", config);
    let lines = "203.0.113.7 [14.09.2026 08:30:00] \"GET /tides/ HTTP/1.1\" 200 512 \"Mozilla/5.0\"\n";
    place.write("quay.log", &lines.repeat(3));
    let path = |name: &str| place.path(name).to_string_lossy().into_owned();

    let read = exedra(&[
        "report",
        "--as",
        "json",
        "--config",
        &path("exedra.toml"),
        "--layout",
        "quay",
        &path("quay.log"),
    ]);
    let report: serde_json::Value = serde_json::from_slice(&read.stdout).expect("a report");
    assert_eq!(exedra_e2e::total(&report, "requests"), 3);
    assert_eq!(report["time_zone"], "Atlantic/Faroe");

    check(&place, config);
    let served = exedra(&["serve", "--config", &path("exedra.toml")]);
    let said = String::from_utf8_lossy(&served.stderr).into_owned();
    assert!(!served.status.success() && said.contains("no [[listener]]"), "{said}");
}

#[test]
fn questions_that_newcomers_type_are_answered() {
    let place = Place::new();
    let folder = place.folder.path();
    write_logs(folder);
    let outside = std::fs::read_to_string(Path::new(GUIDE).join("from-the-outside-in.md")).expect("a page");
    let lines = blocks(&outside, "sh").into_iter().flat_map(str::lines).filter(|line| {
        // Days that the log does not have give an empty report, which says so; the rest must find something.
        line.contains("access.log") || line.contains("quay=")
    });
    let mut tried = 0;
    for line in lines {
        let line = line.replace("old/access.log.7.gz", "old/access.log.7");
        let program = exedra_e2e::program();
        let command = line.replacen("exedra", &program.to_string_lossy(), 1);
        let mut shell = std::process::Command::new("sh");
        let output = shell.args(["-c", &command]).current_dir(folder).output().expect("a shell");
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{line}\n{said}");
        let written = folder.join("october.html").exists();
        assert!(!output.stdout.is_empty() || written, "{line} says nothing");
        tried += 1;
    }
    assert!(tried > 10, "{tried} commands");
}
