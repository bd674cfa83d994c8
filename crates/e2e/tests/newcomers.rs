//! What somebody types who has never seen the program: the usual guesses, slips of the finger, files that are something else. Each is
//! understood, or told in a sentence that names what was typed and what to type instead.

use exedra_e2e::program;
use rstest::rstest;
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

/// A folder with a log, and with what people take for one.
fn folder() -> TempDir {
    let folder = TempDir::new().unwrap();
    let write = |name: &str, content: &[u8]| std::fs::write(folder.path().join(name), content).unwrap();
    let line = |nth: u32| {
        format!(
            "198.51.100.{} - - [14/Nov/2026:0{}:12:40 +0000] \"GET /tides?day={nth} HTTP/1.1\" {} {} \"-\" \"Mozilla/5.0\"\n",
            nth % 50,
            nth % 10,
            if nth.is_multiple_of(9) { 404 } else { 200 },
            1_000 + nth,
        )
    };
    write("access.log", (0..90).map(line).collect::<String>().as_bytes());
    write("empty.log", b"");
    write("letter.log", b"Dear harbour master,\nthe fog was thick.\n");
    write("picture.log", b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\0\x01\0\0\0\x01\x08\x06\0\0\0\x1f\x15\xc4\x89");
    write("wrong.toml", b"[[site]\nname = \"harbour\"\n");
    write("right.toml", b"[[listener]]\naddress = \"127.0.0.1:0\"\n\n[[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\"]\nfolder = \"site\"\n");
    std::fs::create_dir(folder.path().join("site")).unwrap();
    folder
}

/// What a command line prints, both ways, and whether it ended well.
fn typed(line: &[&str], folder: &Path) -> (String, bool) {
    let mut command = Command::new(program());
    command.args(line).current_dir(folder).env("HOME", folder).env_remove("COLUMNS");
    let output = command.stdin(std::process::Stdio::null()).output().unwrap();
    let both = [output.stdout, output.stderr].concat();
    (String::from_utf8(both).unwrap(), output.status.success())
}

#[rstest]
#[case::slip(&["reprot", "access.log"], &["no command `reprot`", "`exedra report`"])]
#[case::other_word(&["stats", "access.log"], &["no command `stats`", "`exedra report access.log`"])]
#[case::what_to_do(&["find"], &["no command `find`", "`exedra findings"])]
#[case::form(&["report", "--as", "xml", "access.log"], &["'xml'", "text, json, csv, html"])]
#[case::number(&["report", "--top", "many", "access.log"], &["'many'", "--top"])]
#[case::zone(&["report", "--time-zone", "Mars", "access.log"], &["no time zone `Mars`", "Atlantic/Faroe"])]
#[case::section(&["report", "access.log", "--show", "pathz"], &["no section `pathz`", "did you mean `paths`?"])]
#[case::column(&["report", "access.log", "--only", "statsu=404"], &["no column `statsu`", "did you mean `status`?"])]
#[case::value(&["report", "access.log", "--only", "status=4o4"], &["`4o4` is not a whole number", "404"])]
#[case::no_value(&["report", "access.log", "--only", "status"], &["`status` is not a filter", "status=404"])]
#[case::length(&["report", "access.log", "--last", "3 fortnights"], &["`3 fortnights` is not a stretch of time", "7 days"])]
#[case::day(&["report", "access.log", "--day", "2026-13-45"], &["`2026-13-45` is not a day", "2026-09-14"])]
#[case::no_file(&["report", "acces.log"], &["there is no file acces.log"])]
#[case::empty_folder(&["report", "site"], &["the folder site has no files"])]
#[case::picture(&["report", "picture.log"], &["picture.log is a binary file"])]
#[case::letter(&["report", "letter.log"], &["no layout fits", "Dear harbour master", "--layout"])]
#[case::letter_shown(&["layout", "letter.log"], &["letter.log is read by no layout", "reading stopped here"])]
#[case::no_statement(&["query"], &["write a statement", "exedra columns"])]
#[case::no_keyword(&["query", "selct"], &["`selct` is neither a statement nor the name of one; `exedra queries`"])]
#[case::name_of_a_query(&["query", "slowest-pagse", "access.log"], &["did you mean slowest-pages? `exedra queries`"])]
#[case::statement(&["query", "select paht from requests", "access.log"], &["no column `paht`", "^^^^", "did you mean `path`?"])]
#[case::table(&["query", "select path from access", "access.log"], &["no table access", "requests"])]
#[case::chart(&["query", "select status, count(*) from requests group by status", "access.log", "--as", "chart", "--to", "out.bmp"], &[".svg or .png", "out.bmp"])]
#[case::export(&["export", "access.log", "--to", "out", "--as", "xls"], &["'xls'", "parquet, csv, ndjson"])]
#[case::no_configuration(&["serve"], &["there is no configuration exedra.toml", "--config"])]
#[case::named_configuration(&["check", "nowhere.toml"], &["there is no configuration nowhere.toml", "--config"])]
#[case::unrehearsed(&["rehearse"], &["there is no configuration exedra.toml", "--config"])]
#[case::wrong_configuration(&["check", "wrong.toml"], &["not valid TOML", "wrong.toml:1:8", "1 error"])]
#[case::named_twice(&["check", "wrong.toml", "--config", "right.toml"], &["cannot be used with"])]
#[case::no_service(&["status", "--config", "right.toml"], &["has left no token in state/client.token", "has it been started here?"])]
#[case::no_terminal(&["live", "access.log"], &["needs a terminal", "exedra requests --follow"])]
#[case::no_client(&["trail"], &["<CLIENT>", "exedra"])]
#[case::no_site(&["import", "access.log"], &["--site <SITE>"])]
fn what_is_typed_wrongly_is_told(#[case] line: &[&str], #[case] words: &[&str]) {
    let folder = folder();
    let (said, is_well) = typed(line, folder.path());
    assert!(!is_well, "{line:?}: {said}");
    for words in words {
        assert!(said.contains(words), "{line:?}: {said}");
    }
    assert!(!said.contains("panicked") && !said.contains("os error 2"), "{line:?}: {said}");
}

#[rstest]
#[case::nothing_at_all(&[], &["exedra report access.log", "exedra demo"])]
#[case::since(&["report", "access.log", "--since", "2026-11-14"], &["90 requests"])]
#[case::filter_that_fits_nothing(&["report", "access.log", "--only", "path=/nowhere"], &["0 requests", "90 requests are outside the period or the filters"])]
#[case::period_of_nothing(&["report", "access.log", "--day", "2020-01-01"], &["90 requests are outside the period"])]
#[case::single_requests_of_nothing(&["requests", "access.log", "--only", "client=300.1.1.1"], &["None of 90 requests fits."])]
#[case::empty(&["report", "empty.log"], &["0 lines", "There is no line to read in it."])]
#[case::configuration_alone(&["check", "right.toml"], &["Nothing is wrong"])]
#[case::columns_of_a_log(&["columns", "access.log"], &["duration_ms", "status"])]
#[case::help_of_a_command(&["help", "report"], &["--only <FILTER>", "--last <LENGTH>"])]
fn what_is_guessed_rightly_is_done(#[case] line: &[&str], #[case] words: &[&str]) {
    let folder = folder();
    let (said, is_well) = typed(line, folder.path());
    assert!(is_well, "{line:?}: {said}");
    for words in words {
        assert!(said.contains(words), "{line:?}: {said}");
    }
}
