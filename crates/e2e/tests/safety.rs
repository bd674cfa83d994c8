//! Nobody is harmed: what one visitor, client, log or command must never do to another.

use exedra_e2e::{Place, client, drawn, exedra, field, text};
use reqwest::blocking::Client;
use rstest::rstest;
use std::net::IpAddr;
use std::process::Command;

/// A client with an address of its own on this machine.
fn client_at(address: &str) -> Client {
    let address: IpAddr = address.parse().unwrap();
    let _ = client();
    Client::builder().no_proxy().local_address(address).build().unwrap()
}

#[rstest]
#[case::folder("folder")]
#[case::rule_of_a_folder("folder rule")]
#[case::rule_of_the_site("rule")]
fn what_was_made_for_one_client_is_sent_to_no_other(#[case] written: &str) {
    let place = Place::new();
    let header = "headers = { X-Your-Address = \"{client}\" }";
    match written {
        "folder" => place.write("lamp/.exedra.toml", header),
        "folder rule" => place.write("lamp/.exedra.toml", &format!("[[rules]]\n{header}")),
        _ => place.configure(&format!("[[site.rules]]\n{header}\n")),
    }
    let program = place.serve();
    let clients = ["127.0.0.2", "127.0.0.3", "127.0.0.4"].map(|address| (address, client_at(address)));
    // Often enough for an answer to be remembered, were it to be.
    for _ in 0..4 {
        for (address, client) in &clients {
            let answer = client.get(format!("http://{}/", program.sites)).header("Host", "lamp.example");
            let answer = answer.send().unwrap();
            assert_eq!(field(&answer, "x-your-address"), *address);
            assert_eq!(field(&answer, "cache-control"), "private");
        }
    }
}

const HOSTILE: &str = "192.0.2.9 - - [14/Nov/2026:05:12:40 +0000] \"GET /\u{1b}[2J\u{7}\u{9b}31m\u{202e}gpj.exe HTTP/1.1\" 404 9 \"http://e.example/\u{1b}]0;x\u{7}\" \"\u{1b}[31mBoat\u{9d}/1\"\n";

#[rstest]
#[case::text(&["report"])]
#[case::csv(&["report", "--as", "csv", "--show", "missing"])]
#[case::json(&["report", "--as", "json"])]
#[case::layout(&["layout"])]
#[case::trail(&["trail", "192.0.2.9"])]
fn nothing_in_a_log_reaches_the_terminal_as_a_command(#[case] command: &[&str]) {
    let place = Place::new();
    place.write("a.log", &HOSTILE.repeat(3));
    let log = text(&place.path("a.log"));
    let words = format!("{} {} {log}", text(&exedra_e2e::program()), command.join(" "));
    // A terminal of its own, so that it is written to as to one.
    let shown =
        Command::new("script").args(["-qec", &words, "/dev/null"]).env("TERM", "xterm").output().unwrap();
    let shown = String::from_utf8(shown.stdout).unwrap();
    assert!(shown.contains("gpj.exe"), "{shown}");
    // What is left of escapes are styles of our own, which no log has written.
    let harmful = |letter: &char| matches!(letter, '\u{7}' | '\u{80}'..='\u{9f}' | '\u{202a}'..='\u{202e}');
    assert_eq!(shown.chars().find(harmful), None, "{shown:?}");
    for escape in shown.split('\u{1b}').skip(1) {
        let end = escape.find(|letter: char| !letter.is_ascii_digit() && !"[;".contains(letter));
        let end = end.unwrap_or(escape.len());
        assert_eq!(escape.get(end..=end), Some("m"), "{escape:?}");
        assert!(!escape.starts_with("[31mBoat"), "{escape:?}");
    }
}

#[test]
fn a_report_never_overwrites_what_it_reads() {
    let place = Place::new();
    place.write("a.log", HOSTILE);
    std::os::unix::fs::symlink("a.log", place.path("b.txt")).unwrap();
    let (log, link) = (text(&place.path("a.log")), text(&place.path("b.txt")));
    for to in [&log, &link] {
        let output = exedra(&["report", &log, "--to", to]);
        assert!(
            !output.status.success() && drawn(&output).contains("would be overwritten"),
            "{}",
            drawn(&output)
        );
    }
    assert_eq!(std::fs::read_to_string(&log).unwrap(), HOSTILE);
    let report = text(&place.path("r.csv"));
    place.write("r.csv", "old");
    let output = exedra(&["report", &log, "--as", "csv", "--show", "statuses", "--to", &report]);
    assert!(output.status.success(), "{}", drawn(&output));
    assert!(std::fs::read_to_string(&report).unwrap().contains("404"));
}

#[test]
fn there_is_one_token_of_clients_and_it_can_be_revoked() {
    let place = Place::new();
    let token = || std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let first = place.serve();
    let before = token();
    drop(first);
    let program = place.serve();
    let opens = |token: &str| {
        let asked = client().get(format!("http://{}/api/v1/status", program.console)).bearer_auth(token);
        asked.send().unwrap().status().as_u16()
    };
    assert_eq!((opens(&before), opens(&token())), (401, 200), "each start makes its own");
    let stolen = token();
    let link = exedra(&["sign-in", "--config", &text(&place.config())]);
    let key = drawn(&link).trim().split_once("/sign-in").unwrap().1.to_owned();
    let session = client().get(format!("http://{}/sign-in{key}", program.console)).send().unwrap();
    let cookie = field(&session, "set-cookie").split(';').next().unwrap().to_owned();
    let signed_in = || {
        let asked =
            client().get(format!("http://{}/api/v1/status", program.console)).header("Cookie", &cookie);
        asked.send().unwrap().status().as_u16()
    };
    assert_eq!(signed_in(), 200);
    let output = exedra(&["sign-in", "--revoke", "--config", &text(&place.config())]);
    assert!(output.status.success(), "{}", drawn(&output));
    assert_eq!((opens(&stolen), opens(&token()), signed_in()), (401, 200, 401));
}

#[test]
fn everything_the_service_keeps_is_its_own_whatever_the_umask() {
    use std::os::unix::fs::PermissionsExt;
    let place = Place::new();
    let command =
        format!("umask 0; exec {} serve --config {}", text(&exedra_e2e::program()), text(&place.config()));
    let program =
        exedra_e2e::Program::start_as(Command::new("sh").args(["-c", &command]), place.path("state"));
    program.get("lamp.example", "/");
    let mut left = vec![place.path("state")];
    let mut seen = 0;
    while let Some(path) = left.pop() {
        seen += 1;
        let found = std::fs::symlink_metadata(&path).unwrap();
        let mode = found.permissions().mode() & 0o777;
        assert_eq!(mode & 0o077, 0, "{} is {mode:o}", path.display());
        if found.is_dir() {
            left.extend(std::fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
        }
    }
    assert!(seen > 5);
}

#[test]
fn a_console_in_the_open_has_to_be_asked_for() {
    let place = Place::new();
    let check = |more: &str| {
        let config = std::fs::read_to_string(place.config()).unwrap();
        place.write("open.toml", &config.replacen("console = \"127.0.0.1:0\"", more, 1));
        drawn(&exedra(&["check", "--config", &text(&place.path("open.toml"))]))
    };
    // It has HTTPS there, unless that is switched off.
    let words = check("console = \"0.0.0.0:7300\"");
    assert!(words.contains("Nothing is wrong"), "{words}");
    let words = check("console = \"0.0.0.0:7300\"\nconsole_https = false");
    assert!(words.contains("can be reached from other machines"), "{words}");
    let words = check("console = \"0.0.0.0:7300\"\nconsole_in_the_open = true");
    assert!(words.contains("Nothing is wrong"), "{words}");
}
