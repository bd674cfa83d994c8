//! What is wrong is named before visitors find it: by the check, in the status, on the page Now.

use exedra_e2e::{Place, exedra, field, text, until};
use serde_json::Value;
use std::os::unix::ffi::OsStrExt;

/// What the check says: severity, message, reason and remedy of everything found.
fn checked(place: &Place) -> Vec<[String; 4]> {
    let output = exedra(&["check", "--config", &text(&place.config()), "--as", "json"]);
    let found: Value = serde_json::from_slice(&output.stdout).expect("JSON");
    let words = |finding: &Value, name: &str| finding[name].as_str().unwrap_or_default().to_owned();
    let found = found.as_array().unwrap().iter();
    found.map(|one| ["severity", "message", "reason", "remedy"].map(|name| words(one, name))).collect()
}

#[track_caller]
fn says(place: &Place, message: &str, reason: &str) {
    let found = checked(place);
    let is_one = |one: &&[String; 4]| one[1].contains(message) && one[2].contains(reason);
    assert!(found.iter().any(|one| is_one(&one)), "{message} ({reason}): {found:#?}");
}

#[test]
fn settings_of_folders_are_found_wherever_they_lie() {
    let place = Place::new();
    place.configure("[defaults]\nfolder_settings = true\n");
    place
        .write("lamp/sæl & kópar/.exedra.toml", "[[rules]]\npath = \"/{rest*}\"\nredirect = \"/x/{rest}\"\n");
    place.write("lamp/broken/.exedra.toml", "listing = true\nlistign = true\n");
    place.write("lamp/.drafts/.exedra.toml", "listing = true\n");
    std::fs::write(place.path("lamp").join(std::ffi::OsStr::from_bytes(b"s\xe6l.txt")), "x").unwrap();
    says(&place, "is part of a redirect loop (in /sæl & kópar/.exedra.toml)", "");
    says(&place, "cannot be understood", "line 2: there is no setting `listign`");
    says(&place, ".drafts/.exedra.toml", "no URL leads into this folder");
    says(&place, "cannot be served", "its name is not UTF-8");
    // The same in the status, until it has been corrected.
    let program = place.serve();
    let troubles = || -> Vec<String> {
        let status = program.api("status");
        let all = status["troubles"].as_array().unwrap().iter();
        all.map(|words| words.as_str().unwrap().to_owned()).collect()
    };
    until("the broken settings in the status", || {
        let all = troubles();
        let is_told = |sign: &str| all.iter().any(|words| words.contains(sign));
        (is_told("broken/.exedra.toml, line 2: there is no setting `listign`") && is_told(".drafts"))
            .then_some(())
    });
    assert_eq!(program.get("lamp.example", "/broken/").status(), 500);
    place.write("lamp/broken/.exedra.toml", "listing = true\n");
    until("the corrected settings are gone", || {
        (!troubles().iter().any(|words| words.contains("listign"))).then_some(())
    });
    drop(program);
    let own = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &own.replace("folder_settings = true", "folder_settings = false"));
    says(&place, "folder settings of `lamp` are ignored", "`folder_settings` is off, and there are 3");
}

#[test]
fn error_pages_that_are_none_or_break_are_remarked() {
    let place = Place::new();
    place.write("lamp/404.html", "<h1>Lost</h1>");
    place.write("harbour/errors/lost.html", "<link rel=stylesheet href=\"style.css\"><a href=\"/\">Home</a>");
    place.write("lamp/deep/.exedra.toml", "error_pages = { 404 = \"/lost.html\" }\n");
    says(&place, "/404.html of `lamp` is not configured as an error page", "the built-in page is shown");
    says(&place, "relative links in the error page /errors/lost.html break: style.css", "leads elsewhere");
    says(&place, "the error page /lost.html of the folder /deep is not there", "");
    let remedies: Vec<String> = checked(&place).into_iter().map(|[.., remedy]| remedy).collect();
    assert!(
        remedies.iter().any(|remedy| remedy.contains("error_pages = { 404 = \"/404.html\" }")),
        "{remedies:?}"
    );
    assert!(remedies.iter().any(|remedy| remedy.ends_with("as /errors/style.css")), "{remedies:?}");
    place.write("lamp/deep/lost.html", "<h1>Lost</h1>");
    place.configure("error_pages = { 404 = \"/404.html\" }\n");
    place.write("harbour/errors/lost.html", "<a href=\"/\">Home</a>");
    let left = checked(&place);
    assert!(!left.iter().any(|one| one[1].contains("404.html") || one[1].contains("lost.html")), "{left:?}");
}

#[test]
fn patterns_that_fit_nothing_are_remarked() {
    let place = Place::new();
    place.configure(
        "[site.compress]\ntypes = [\"text/*\", \"aplication/json\"]\nnot_for = [\"LindryKiosk\"]\n",
    );
    says(&place, "`aplication/json` in `types` matches nothing", "");
    says(&place, "`LindryKiosk` in `not_for` matches hardly any agent", "");
    assert!(checked(&place).iter().any(|one| one[3] == "did you mean `application/json`?"));
    place.configure(
        "media_types = { pilot = \"application/x-pilot\" }\n[site.compress]\ntypes = [\"application/x-pilot\"]\nnot_for = [\"LindryKiosk/*\"]\n",
    );
    assert!(!checked(&place).iter().any(|one| one[1].contains("matches")));
}

#[test]
fn a_site_that_only_redirects_needs_no_folder() {
    let place = Place::new();
    let own = std::fs::read_to_string(place.config()).unwrap();
    let moved = "[[site]]\nname = \"moved\"\nhosts = [\"old.example\"]\n\
                 [[site.rules]]\npath = \"/notices/{rest*}\"\nredirect = \"http://harbour.example/{rest}\"\n";
    place.write("exedra.toml", &format!("{own}{moved}"));
    let program = place.serve();
    let sent = program.get("old.example", "/notices/tides/today.html");
    assert_eq!(
        (sent.status().as_u16(), field(&sent, "location")),
        (307, "http://harbour.example/tides/today.html")
    );
    let other = program.get("old.example", "/other");
    assert_eq!(other.status(), 404);
    assert!(other.text().unwrap().contains("There is nothing at this address"));
    assert!(program.api("sites")["sites"].as_array().unwrap().iter().any(|site| site["folder"].is_null()));
    drop(program);
    place.write("exedra.toml", &format!("{own}[[site]]\nname = \"moved\"\nhosts = [\"old.example\"]\n"));
    let output = exedra(&["check", "--config", &text(&place.config())]);
    assert_eq!(output.status.code(), Some(1));
    assert!(
        String::from_utf8_lossy(&output.stdout).contains("the site `moved` has neither a folder nor rules")
    );
}

#[test]
fn types_and_charsets_are_what_the_site_says_or_the_page() {
    let place = Place::new();
    place.configure(
        "[site.media_types]\npilot = \"application/x-pilot\"\ntxt = \"text/plain; charset=iso-8859-1\"\n",
    );
    place.write("lamp/chart.PILOT", "a chart");
    place.write("lamp/old.txt", "text");
    let latin = b"<!doctype html><meta charset=iso-8859-1><title>S\xe6lur</title>";
    std::fs::write(place.path("lamp/old.html"), latin).unwrap();
    std::fs::write(place.path("lamp/large.html"), [&latin[..], &vec![b' '; 400_000]].concat()).unwrap();
    std::fs::write(place.path("lamp/fair.html"), vec![b' '; 400_000]).unwrap();
    let program = place.serve();
    for (path, expected) in [
        ("/chart.PILOT", "application/x-pilot"),
        ("/old.txt", "text/plain; charset=iso-8859-1"),
        ("/old.html", "text/html"),
        ("/large.html", "text/html"),
        ("/fair.html", "text/html; charset=utf-8"),
        ("/", "text/html; charset=utf-8"),
    ] {
        for _ in 0..2 {
            assert_eq!(field(&program.get("lamp.example", path), "content-type"), expected, "{path}");
        }
    }
    // Another type comes into force with the configuration.
    let own = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &own.replace("application/x-pilot", "image/x-pilot"));
    program.tell("HUP");
    until("the type changes", || {
        (field(&program.get("lamp.example", "/chart.PILOT"), "content-type") == "image/x-pilot").then_some(())
    });
    drop(program);
    place.write("exedra.toml", &own.replace("application/x-pilot", "pilot"));
    let output = exedra(&["check", "--config", &text(&place.config())]);
    assert!(String::from_utf8_lossy(&output.stdout).contains("`pilot` is not a media type"));
}

/// What is inside the program is said with its licences, also what is no crate.
#[test]
fn the_licences_of_everything_inside_are_told() {
    let told = String::from_utf8(exedra(&["licences"]).stdout).unwrap();
    let (list, texts) = told.split_once('─').unwrap();
    for (name, licence) in
        [("hyper ", "MIT"), ("uap-core", "Apache-2.0"), ("face of charts", "OFL-1.1"), ("react-dom ", "MIT")]
    {
        let line = list.lines().find(|line| line.contains(name)).unwrap_or_else(|| panic!("{name}: {list}"));
        assert!(line.contains(licence), "{line}");
    }
    assert!(texts.contains("SIL OPEN FONT LICENSE") && texts.contains("Permission is hereby granted"));
    assert!(
        !list.contains("exedra-common") && !list.contains("thirtyfour"),
        "neither our own nor what only tests need"
    );
}

#[test]
fn the_list_of_settings_has_them_all_and_folders_say_their_fields() {
    let listed = String::from_utf8(exedra(&["settings"]).stdout).unwrap();
    for setting in
        ["when = {", "headers = {", "limit = {", "[site.error_pages]", "[site.media_types]", "[[site]]"]
    {
        assert!(listed.contains(setting), "{setting}: {listed}");
    }
    let place = Place::new();
    place.write("lamp/deep/.exedra.toml", "[headers]\nX-Tide = \"high\"\n");
    place.write("lamp/deep/a.txt", "a");
    let config = text(&place.config());
    let told = exedra(&["explain", "--config", &config, "--settings", "http://lamp.example/deep/a.txt"]);
    let told = String::from_utf8(told.stdout).unwrap();
    let line = told.lines().find(|line| line.contains("headers.x-tide")).unwrap_or_else(|| panic!("{told}"));
    assert!(line.contains("high") && line.contains(".exedra.toml"), "{line}");
}
