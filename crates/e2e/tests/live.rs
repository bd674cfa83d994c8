//! `exedra live` on a terminal: what is drawn agrees with the report of the same lines, keys narrow it, and the terminal comes back.

use exedra_e2e::terminal::Terminal;
use exedra_e2e::{Place, exedra, program, rows, text, total, until};
use rstest::rstest;
use serde_json::Value;
use std::io::Write;
use std::path::Path;
use std::process::Command;

/// So many requests of the last minutes, the last of them now: three clients, some paths, some failures.
fn lines(many: u64, client: u64) -> String {
    lines_until(jiff::Timestamp::now(), 100, many, client)
}

/// So many requests of so many seconds, the last of them at an instant.
fn lines_until(now: jiff::Timestamp, seconds: u64, many: u64, client: u64) -> String {
    let line = |nth: u64| {
        let time = now - jiff::Span::new().seconds(((many - 1 - nth) * seconds / many) as i64);
        let time = time.to_zoned(jiff::tz::TimeZone::UTC).strftime("%d/%b/%Y:%H:%M:%S %z").to_string();
        let (path, status) = match nth % 8 {
            0 | 1 => ("/tides/".to_owned(), 200),
            2 => ("/missing.html".to_owned(), 404),
            3 if nth.is_multiple_of(3) => ("/broken".to_owned(), 503),
            _ => (format!("/page-{}.html", nth % 5), 200),
        };
        let client = client + nth % 3;
        format!(
            "192.0.2.{client} - - [{time}] \"GET {path} HTTP/1.1\" {status} 1{nth:03} \"-\" \"Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0\"\n"
        )
    };
    (0..many).map(line).collect()
}

fn append(path: &Path, octets: &str) {
    let mut file = std::fs::OpenOptions::new().append(true).create(true).open(path).unwrap();
    file.write_all(octets.as_bytes()).unwrap();
}

/// What the report says of the same lines.
fn report(paths: &[&Path], more: &[&str]) -> Value {
    let paths: Vec<String> = paths.iter().map(|path| text(path)).collect();
    let mut all = vec!["report", "--as", "json", "--top", "50"];
    all.extend(more);
    all.extend(paths.iter().map(String::as_str));
    let made = exedra(&all);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    serde_json::from_slice(&made.stdout).unwrap()
}

/// Whether each row of a table stands in a line of the screen with its figure.
fn agrees(screen: &str, report: &Value, table: &str, key: &str, figure: &str) -> bool {
    rows(report, table).iter().all(|row| {
        let (key, figure) = (row[key].as_str().unwrap(), row[figure].to_string());
        screen.lines().any(|line| {
            let after = line.split_once(key).map(|(_, after)| after);
            after.is_some_and(|after| after.split_whitespace().next() == Some(&figure))
        })
    })
}

fn live(rest: &str) -> String {
    format!("{} live {rest}", text(&program()))
}

#[rstest]
#[case::small(24, 80)]
#[case::large(60, 200)]
fn its_figures_are_those_of_the_report_while_the_log_grows_and_is_rotated(
    #[case] high: u16,
    #[case] wide: u16,
) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    append(&path, &lines(240, 10));
    let mut terminal = Terminal::run(&live(&text(&path)), high, wide);
    let of = report(&[&path], &[]);
    let seen = |of: &Value| {
        let requests = total(of, "requests").to_string();
        terminal.shows("the figures", |screen| {
            screen.contains(&format!("{requests} requests"))
                && agrees(screen, of, "clients", "client", "requests")
                && agrees(screen, of, "missing", "path", "requests")
        })
    };
    let screen = seen(&of);
    assert!(screen.contains("last 5 minutes · everybody · by requests"), "{screen}");
    // More comes, the log is renamed and compressed, and a new one is begun.
    append(&path, &lines(30, 10));
    let old = folder.path().join("access.log.1");
    std::fs::rename(&path, &old).unwrap();
    append(&path, &lines(20, 40));
    let both = report(&[&old, &path], &[]);
    assert_eq!(total(&both, "requests"), 290);
    seen(&both);
    assert!(Command::new("gzip").arg(&old).status().unwrap().success());
    append(&path, &lines(3, 40));
    terminal.shows("the log behind the compressed one", |screen| screen.contains("293 requests"));
    terminal.press("q");
    until("the terminal is given back", || terminal.is_given_back().then_some(()));
    assert!(terminal.ends_well());
}

#[test]
fn keys_narrow_it_and_lead_back() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    append(&path, &lines(240, 10));
    let mut terminal = Terminal::run(&live(&text(&path)), 24, 80);
    terminal.shows("all", |screen| screen.contains("240 requests"));
    let first_row =
        |screen: &str| screen.lines().nth(8).unwrap().split_whitespace().next().unwrap().to_owned();
    let client = format!("client={}", first_row(&terminal.screen()));
    let first = report(&[&path], &["--only", &client]);
    terminal.press("\r");
    terminal.shows("one client", |screen| {
        screen.contains(&client)
            && screen.contains(&format!("{} requests", total(&first, "requests")))
            && agrees(screen, &first, "missing", "path", "requests")
    });
    // The list of what was asked for, its first row left out.
    terminal.press("\tx");
    terminal.shows("without a path", |screen| screen.contains("!path=") && screen.contains(&client));
    terminal.press("\x1b");
    terminal.shows("one filter less", |screen| !screen.contains("!path=") && screen.contains(&client));
    terminal.press("\x7f");
    terminal.shows("all again", |screen| screen.contains("240 requests") && screen.contains("no filter"));
    terminal.press("f");
    let failed = report(&[&path], &["--only", "status>=400"]);
    terminal
        .shows("what failed", |screen| screen.contains(&format!("{} requests", total(&failed, "requests"))));
    terminal.press("ft");
    terminal
        .shows("single requests", |screen| screen.contains("requests; ↑↓ scroll") && screen.contains("GET"));
    terminal.press("\x7f?");
    terminal.shows("the keys", |screen| {
        screen.contains("ask") && screen.contains("Ctrl-Z") && screen.contains("suspend")
    });
    terminal.press("\x7fm");
    terminal.shows("by bytes", |screen| screen.contains("by bytes"));
    terminal.press("p");
    terminal.shows("people", |screen| screen.contains("· people ·") && screen.contains("240 requests"));
    terminal.press("p");
    terminal.shows("crawlers", |screen| screen.contains("none of 240 requests fits"));
    terminal.press("p- ");
    terminal.shows("a pause", |screen| screen.contains("PAUSED") && screen.contains("everybody"));
    // What comes in later than what is looked at: lines tell whole seconds.
    append(&path, &lines_until(jiff::Timestamp::now() + jiff::Span::new().seconds(2), 1, 10, 70));
    terminal.press("+");
    let screen = terminal.shows("a longer stretch", |screen| screen.contains("240 requests"));
    assert!(!screen.contains("192.0.2.70"), "what comes while it is paused is not seen:\n{screen}");
    terminal.press(" ");
    terminal.shows("what came meanwhile", |screen| screen.contains("250 requests"));
    // Smaller than anything can be drawn on, and large again.
    terminal.resize(8, 30);
    terminal.shows("what is needed", |screen| screen.contains("At least"));
    terminal.resize(30, 120);
    terminal.shows("all of it", |screen| screen.contains("250 requests") && screen.lines().count() == 30);
    terminal.press("\x03");
    assert!(terminal.ends_well());
}

#[test]
fn the_terminal_is_lent_to_the_shell_and_given_back_whatever_happens() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("access.log");
    append(&path, &lines(50, 10));
    let mut terminal = Terminal::run("bash --norc -i", 24, 80);
    terminal.shows("a prompt", |screen| screen.contains('$') || screen.contains('#'));
    terminal.press(&format!("NO_COLOR=1 {}\n", live(&text(&path))));
    terminal.shows("figures", |screen| screen.contains("50 requests"));
    assert!(!terminal.has_colour(), "colours were not wanted");
    terminal.press("\x1a");
    terminal.shows("the shell", |screen| screen.contains("Stopped"));
    assert!(terminal.is_given_back());
    append(&path, &lines(5, 10));
    terminal.press("fg\n");
    terminal.shows("figures again", |screen| screen.contains("55 requests"));
    terminal.press("\x1a");
    terminal.shows("the shell", |screen| screen.contains("Stopped"));
    terminal.press("kill %1; fg\n");
    terminal.shows("its end", |screen| {
        screen.contains("Terminated") || screen.contains("$ ") || screen.contains("# ")
    });
    until("the terminal is given back", || terminal.is_given_back().then_some(()));
    terminal.press("stty -a | grep -o ' -\\?echo '; exit\n");
    terminal.shows("letters that are typed", |screen| screen.contains(" echo"));
}

/// Whether a process has a text among its words.
fn is_running(word: &str) -> bool {
    let all = std::fs::read_dir("/proc").unwrap().flatten();
    let words = all.filter_map(|process| std::fs::read(process.path().join("cmdline")).ok());
    words.map(|words| String::from_utf8_lossy(&words).into_owned()).any(|words| words.contains(word))
}

#[test]
fn it_ends_with_its_terminal_however_that_goes() {
    let place = Place::new();
    let path = place.path("gone.log");
    append(&path, &lines(20, 3));
    let terminal = Terminal::run(&live(&text(&path)), 24, 80);
    terminal.shows("figures", |screen| screen.contains("20 requests"));
    assert!(is_running(&text(&path)));
    // Killed, it says no farewell.
    drop(terminal);
    until("it has ended", || (!is_running(&text(&path))).then_some(()));
}

#[test]
fn the_running_service_is_watched_by_what_it_tells() {
    let place = Place::new();
    let program = place.serve();
    let get = |path: &str| program.get("harbour.example", path);
    (0..7).for_each(|_| drop(get("/")));
    until("they are recorded", || (program.recorded("harbour") == 7).then_some(()));
    let command = format!("live --config {} --console {}", text(&place.config()), program.console);
    let mut terminal = Terminal::run(&format!("{} {command}", text(&exedra_e2e::program())), 30, 100);
    terminal.shows("what was", |screen| screen.contains("7 requests") && screen.contains("all sites"));
    (0..3).for_each(|_| drop(get("/not-there.html")));
    terminal
        .shows("what comes", |screen| screen.contains("10 requests") && screen.contains("/not-there.html"));
    terminal.shows("why it fails", |screen| screen.contains("/not-there.html · "));
    drop(program);
    terminal.shows("that it has gone", |screen| screen.contains("could not be asked"));
    terminal.press("q");
    assert!(terminal.ends_well());
}

#[rstest]
#[case::no_terminal(&["access.log"], "needs a terminal")]
fn what_cannot_be_is_said(#[case] arguments: &[&str], #[case] expected: &str) {
    let output = exedra(&[&["live"], arguments].concat());
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(!output.status.success() && said.contains(expected), "{said}");
}
