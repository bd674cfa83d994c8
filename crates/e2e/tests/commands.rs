//! The commands that ask the running service, or look at what it wrote, as an administrator uses them: what they print, where they
//! print it, and how they end.

use exedra_e2e::{Place, Program, drawn, exedra, text, until};
use rstest::rstest;
use serde_json::Value;
use std::process::Output;

/// Whoever runs a command: beside a running service, or where none runs.
struct Administrator<'p> {
    place: &'p Place,
    program: Option<&'p Program>,
}

impl Administrator<'_> {
    fn run(&self, arguments: &[&str]) -> Output {
        let asks_service = ["reload", "revisions", "restore", "status"].contains(&arguments[0]);
        if let Some(program) = self.program.filter(|_| asks_service) {
            return program.command(self.place, arguments);
        }
        let config = text(&self.place.config());
        let mut all: Vec<&str> = arguments.to_vec();
        all.extend(["--config", &config]);
        exedra(&all)
    }

    /// What a command printed that must have ended well.
    fn printed(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", drawn(&output));
        assert!(output.stderr.is_empty(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    /// What a command said that must have failed: beside the output, never in it.
    fn refused(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(!output.status.success(), "{arguments:?}: {}", drawn(&output));
        assert!(output.stdout.is_empty(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stdout));
        let said = String::from_utf8(output.stderr).unwrap();
        assert!(
            !said.contains(['\u{1b}']) && !said.contains("\\x1b"),
            "styles where nobody sees them: {said}"
        );
        said
    }

    fn json(&self, arguments: &[&str]) -> Value {
        serde_json::from_str(&self.printed(arguments)).unwrap()
    }
}

#[test]
fn configurations_come_into_force_are_listed_and_brought_back() {
    let place = Place::new();
    let program = place.serve();
    let me = Administrator { place: &place, program: Some(&program) };
    assert!(me.printed(&["reload"]).contains("Nothing has changed; revision 1 stays in force."));

    let before = std::fs::read_to_string(place.config()).unwrap();
    place.configure("\n[[site.rules]]\npath = \"/old\"\nredirect = \"/\"\n");
    assert!(me.printed(&["reload"]).contains("Revision 2 is in force."));
    assert_eq!(program.get("lamp.example", "/old").status(), 307);

    place.configure("\n[[site.rules]]\npath = \"/old\"\nredirct = \"/\"\n");
    let said = me.refused(&["reload"]);
    assert!(said.contains("did you mean `redirect`?") && said.contains("exedra.toml:"), "{said}");
    assert!(said.ends_with("Reload refused; the old configuration stays in force.\n"), "{said}");
    assert_eq!(program.get("lamp.example", "/old").status(), 307, "what was in force still is");
    let refusal = me.run(&["reload", "--as", "json"]);
    assert!(!refusal.status.success() && refusal.stderr.is_empty());
    let refusal: Value = serde_json::from_slice(&refusal.stdout).unwrap();
    assert_eq!(
        (&refusal["in_force"], refusal["found"][0]["severity"].as_str()),
        (&Value::Bool(false), Some("error"))
    );

    let list = me.json(&["revisions", "--as", "json"]);
    let numbers: Vec<i64> =
        list.as_array().unwrap().iter().map(|one| one["number"].as_i64().unwrap()).collect();
    assert_eq!(numbers, [2, 1]);
    assert_eq!((&list[0]["in_force"], &list[0]["added"]), (&Value::Bool(true), &Value::from(3)));
    let shown = me.printed(&["revisions"]);
    assert!(shown.lines().next().unwrap().contains("in force"), "{shown}");

    assert!(me.printed(&["restore", "1"]).contains("Revision 3 is in force."));
    assert_eq!(std::fs::read_to_string(place.config()).unwrap(), before, "the file is what it was");
    assert_eq!(program.get("lamp.example", "/old").status(), 404);
    let said = me.refused(&["restore", "99"]);
    assert!(said.contains("there is no revision 99: `exedra revisions` lists them"), "{said}");
}

#[test]
fn errors_are_told_together_with_what_was_looked_for() {
    let place = Place::new();
    let program = place.serve();
    let me = Administrator { place: &place, program: Some(&program) };
    for target in ["/lost", "/lost", "/lost", "/.git/config"] {
        program.ask("harbour.example", target, &[("Referer", "https://forum.example/t")]).text().unwrap();
    }
    program.get("lamp.example", "/gone.html").text().unwrap();
    let all = until("all are written", || {
        let lines = me.printed(&["errors", "--as", "json"]);
        (lines.lines().count() == 5).then_some(lines)
    });
    for line in all.lines() {
        let error: Value = serde_json::from_str(line).unwrap();
        assert_eq!(error["status"], 404);
        assert!(!error["cause"].as_str().unwrap().is_empty());
    }
    let shown = me.printed(&["errors"]);
    assert!(shown.contains("3 times since") && shown.contains("harbour.example/lost"), "{shown}");
    assert!(shown.contains(&format!("{}/harbour/lost", place.folder.path().display())), "{shown}");
    assert!(shown.contains("https://forum.example/t"), "who led there: {shown}");

    let of_lamp = me.printed(&["errors", "--site", "lamp"]);
    assert!(of_lamp.contains("/gone.html") && !of_lamp.contains("/lost"), "{of_lamp}");
    let each = me.printed(&["errors", "--each", "--site", "harbour"]);
    assert_eq!(each.matches("harbour.example/lost").count(), 3, "{each}");
    let one = me.printed(&["errors", "--top", "1"]);
    assert!(one.contains("/gone.html") && !one.contains("/lost"), "the last ones are shown: {one}");
    let none = me.run(&["errors", "--status", "500"]);
    assert!(none.status.success() && !drawn(&none).contains("/lost"), "{}", drawn(&none));
    let said = me.refused(&["errors", "--site", "lmap"]);
    assert!(said.contains("lamp"), "{said}");
}

#[test]
fn what_lies_open_is_named_and_what_is_guarded_is_not() {
    let place = Place::new();
    let me = Administrator { place: &place, program: None };
    assert!(me.printed(&["audit", "harbour"]).contains("Nothing is exposed."));
    place.write("harbour/backup/site.tar.gz", "x");
    place.write("harbour/tides/.env", "TIDE=high");
    place.write("harbour/notes.txt~", "old");
    let found = me.run(&["audit", "harbour"]);
    let said = drawn(&found);
    assert!(said.contains("site.tar.gz") && said.contains("notes.txt~"), "{said}");
    assert!(!said.contains(".env"), "hidden files are served to nobody: {said}");
    assert!(!found.status.success(), "so that a script notices");
    place.configure("");
    let config = std::fs::read_to_string(place.config()).unwrap();
    let guarded = config.replace(
        "error_pages =",
        "rules = [{ path = \"/backup/{*}\", refuse = 403 }, { path = \"/notes.txt~\", gone = true }]\nerror_pages =",
    );
    std::fs::write(place.config(), guarded).unwrap();
    assert!(me.printed(&["audit", "harbour"]).contains("Nothing is exposed."));
}

#[test]
fn how_the_service_is_and_that_it_is_not_running() {
    let place = Place::new();
    let program = place.serve();
    let me = Administrator { place: &place, program: Some(&program) };
    program.get("lamp.example", "/").text().unwrap();
    until("it is recorded", || (program.recorded("lamp") == 1).then_some(()));
    let shown = me.printed(&["status"]);
    let row = shown.lines().find(|line| line.starts_with("lamp")).unwrap();
    assert_eq!(row.split_whitespace().nth(1), Some("1"), "{shown}");
    assert!(row.contains("lamp.example"), "{shown}");
    let json = me.json(&["status", "--as", "json"]);
    assert_eq!(json["sites"][1]["log"]["recorded"], 1);
    let link = me.printed(&["sign-in"]);
    assert!(link.starts_with("http://127.0.0.1:") && link.contains("/sign-in?key="), "{link}");
    program.tell("TERM");
    assert!(program.ended());
    let me = Administrator { place: &place, program: None };
    for command in [&["status"][..], &["reload"], &["revisions"], &["restore", "1"]] {
        let said = me.refused(command);
        assert!(said.contains("is it running?"), "{command:?}: {said}");
    }
}

#[rstest]
#[case(&["report", "nowhere.log"], "there is no file nowhere.log")]
#[case(&["trail", "192.0.2.1", "nowhere.log"], "there is no file nowhere.log")]
#[case(&["layout", "nowhere.log"], "there is no file nowhere.log")]
#[case(&["audit", "nowhere"], "there is no site `nowhere`")]
#[case(&["weigh", "nowhere"], "nowhere")]
#[case(&["explain", "http://nowhere.example/"], "nowhere.example")]
#[case(&["report", "harbour", "--show", "pathz"], "paths")]
#[case(&["report", "harbour", "--only", "statsu=404"], "did you mean `status`?")]
#[case(&["report", "harbour", "--day", "someday"], "someday")]
fn mistakes_are_told_beside_the_output_and_end_badly(#[case] arguments: &[&str], #[case] words: &str) {
    let place = Place::new();
    let me = Administrator { place: &place, program: None };
    let has_config = !matches!(arguments[0], "trail" | "layout");
    let output = if has_config { me.run(arguments) } else { exedra(arguments) };
    let said = drawn(&output);
    assert!(said.contains(words), "{said}");
    if arguments[0] != "explain" {
        assert!(!output.status.success(), "{said}");
        assert!(output.stdout.is_empty(), "{said}");
    }
}

#[rstest]
#[case("facts", &["client", "scheme", "parameter", "cookie"])]
#[case("settings", &["[[listener]]", "cache = \"1 year\"", "console_hosts", ".exedra.toml"])]
#[case("columns", &["duration", "referrer_host", "status=404"])]
#[case("licences", &["MIT", "diesel"])]
fn lists_name_what_there_is(#[case] command: &str, #[case] words: &[&str]) {
    let output = exedra(&[command]);
    let said = drawn(&output);
    assert!(output.status.success() && output.stderr.is_empty());
    for word in words {
        assert!(said.contains(word), "{word} is not in {command}");
    }
    assert!(!said.contains('\u{1b}'), "styles where nobody sees them");
}

/// There may be hundreds of revisions: they are listed fifty at a time, by the client and by the API.
#[test]
fn revisions_are_listed_page_by_page() {
    let place = Place::new();
    let program = place.serve();
    let me = Administrator { place: &place, program: Some(&program) };
    for nth in 0..54 {
        place.configure(&format!("\n[[site.rules]]\npath = \"/old-{nth}\"\ngone = true\n"));
        me.printed(&["reload"]);
    }
    let numbers = |list: &Value| -> Vec<u64> {
        list.as_array().unwrap().iter().map(|one| one["number"].as_u64().unwrap()).collect()
    };
    let first = me.json(&["revisions", "--as", "json"]);
    assert_eq!(numbers(&first), (6..=55).rev().collect::<Vec<_>>());
    // What the last one of a page changed is told from the first one of the next.
    assert_eq!((&first[49]["added"], &first[49]["removed"]), (&Value::from(1), &Value::from(1)));
    let said = me.printed(&["revisions"]);
    assert!(said.contains("Earlier ones: --before 6."), "{said}");
    let second = me.json(&["revisions", "--before", "6", "--as", "json"]);
    assert_eq!(numbers(&second), [5, 4, 3, 2, 1]);
    assert!(second.as_array().unwrap().iter().all(|one| one["in_force"] == false));
}
