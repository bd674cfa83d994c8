//! Mistakes in a configuration: each is one diagnostic, at the place where it stands, with what to write instead.

use exedra_answering::config::diagnostic::{Diagnostic, Severity, draw};
use exedra_answering::config::{Sources, understand};
use rstest::rstest;
use std::path::Path;

const HEAD: &str = r#"[[listener]]
address = "127.0.0.1:7380"
[[realm]]
name = "staff"
users = "staff.toml"
[[site]]
name = "harbour"
hosts = ["harbour.example"]
folder = "h"
"#;

/// What is found in a text, in which `‹` and `›` stand around the place of the mistake; and that place.
fn found(marked: &str) -> (Vec<Diagnostic>, String) {
    let (before, rest) = marked.split_once('‹').expect("a mark");
    let (place, after) = rest.split_once('›').expect("its end");
    let text = format!("{before}{place}{after}");
    let found = understand(&text, Path::new("")).err().unwrap_or_default();
    let drawn = draw(&found, &Sources::one("exedra.toml", &text), false);
    assert_eq!(found.len(), 1, "one mistake, one diagnostic:\n{text}\n{drawn}");
    let at = &text[found[0].span.clone()];
    // A value in quotation marks may be pointed at with or without them, and one part of it is nearer still.
    assert!(place.contains(at) && !at.is_empty(), "at `{at}`, not `{place}`:\n{drawn}");
    (found, drawn)
}

#[rstest]
#[case("path = \"/staff/‹*›\"", "/staff/{*}")]
#[case("path = \"/n/‹:year›\"", "/n/{year}")]
#[case("path = ‹\"notices\"›", "/notices")]
#[case("path = { regex = ‹\"^staff\"› }", "/staff")]
#[case("path = { regex = ‹\"/(\"› }", "whole path")]
#[case("path = ‹{ glob = \"/a\" }›", "regex")]
#[case("when = { ‹hots› = \"a\" }", "host")]
#[case("when = { scheme = ‹\"htps\"› }", "http")]
#[case("when = { protocol = ‹\"HTTP/2\"› }", "HTTP/2.0")]
#[case("when = { device = ‹\"!mobile\"› }", "phone")]
#[case("when = { parameter = ‹\"winter\"› }", "season")]
#[case("when = { field = { ‹\"a b\"› = true } }", "Accept-Language")]
#[case("when = { agent = ‹[]› }", "at least one")]
#[case("when = { agent = { regex = ‹\"(\"› } }", "whole value")]
#[case("when = { hour = ‹\"25\"› }", "22-5")]
fn of_paths_and_conditions(#[case] rule: &str, #[case] remedy: &str) {
    let (_, drawn) = found(&format!("{HEAD}[[site.rules]]\n{rule}\nrefuse = 403\n"));
    assert!(drawn.contains(remedy), "{drawn}");
}

#[rstest]
#[case("redirect = \"/b\"\n‹refuse = 403›", "two rules")]
#[case("gone = true\nserve = ‹\"/b\"›", "two rules")]
#[case("redirect = ‹\"b\"›", "write \"/b\"")]
#[case("redirect = ‹\"//b.example/\"›", "the scheme")]
#[case("redirect = ‹\"https:///tides\"›", "harbour.example")]
#[case("redirect = ‹\"{rest}\"›", "write \"/")]
#[case("redirect = ‹\"https://{rest}/\"›", "write the host out")]
#[case("redirect = \"/b/‹{reste}›\"", "rest")]
#[case("redirect = \"/b\"\nstatus = ‹404›", "308 or 307")]
#[case("redirect = \"/b\"\nquery = ‹\"dorp\"›", "drop")]
#[case("cache = \"1 day\"\nstatus = ‹302›", "add redirect")]
#[case("refuse = ‹200›", "refuse = 403")]
#[case("serve = ‹\"app.html\"›", "/app.html")]
#[case("serve = ‹\"/app.html?a=b\"›", "leave it out")]
#[case("login = ‹\"stuff\"›", "staff")]
#[case("cache = ‹\"1 parsec\"›", "1 year")]
#[case("compress = ‹true›", "false")]
#[case("compress = { effort = ‹\"settled\"› }", "[site.compress]")]
#[case("limit = { requests = ‹\"many\"› }", "5 a second")]
#[case("limit = { speed = ‹\"1 km\"› }", "1 MB a second")]
#[case("limit = { connections = ‹0› }", "refuse = 403")]
#[case("limit = ‹{ at_once = 3 }›", "requests")]
#[case("cors = ‹[\"partner.example\"]›", "https://partner.example")]
#[case("cors = ‹[]›", "leave `cors` out")]
#[case("cors = ‹{ origins = [\"*\"], with_credentials = true }›", "name the origins")]
#[case("cors = ‹{ origins = [\"*\"], fields = [\"a b\"] }›", "X-Token")]
#[case("‹redirekt› = \"/b\"\ncache = \"1 day\"", "redirect")]
fn of_effects(#[case] effect: &str, #[case] remedy: &str) {
    let (_, drawn) = found(&format!("{HEAD}[[site.rules]]\npath = \"/a/{{rest*}}\"\n{effect}\n"));
    assert!(drawn.contains(remedy), "{drawn}");
}

#[rstest]
#[case("[site.log]\nrotate = ‹\"36 hours\"›", "1 day")]
#[case("[site.log]\nkeep = ‹\"long\"›", "90 days")]
#[case("[site.log]\nclients = ‹\"hidden\"›", "masked")]
#[case("[site.log]\nlayout = ‹\"combind\"›", "combined")]
#[case("[site.compress]\ncodecs = ‹[\"lzma\"]›", "gzip")]
#[case("[site.compress]\nat_least = ‹\"some\"›", "256")]
#[case("[site.error_pages]\n‹200› = \"/a.html\"", "4")]
#[case("[[site]]\nname = ‹\"harbour\"›\nhosts = [\"b.example\"]\nfolder = \"b\"", "of its own")]
#[case("[[site]]\nname = \"b\"\nhosts = [‹\"harbour.example\"›]\nfolder = \"b\"", "harbour")]
#[case("[[layout]]\nname = \"mine\"\ntemplate = ‹\"{client} {date} {path}\"›", "{field}")]
#[case("[[layout]]\nname = ‹\"combined\"›\ntemplate = \"{time} {client}\"", "of its own")]
fn of_sites_and_logs(#[case] section: &str, #[case] remedy: &str) {
    let (_, drawn) = found(&format!("{HEAD}{section}\n"));
    assert!(drawn.contains(remedy), "{drawn}");
}

/// One without sites is for reading logs; sites that nobody could reach are a mistake.
#[test]
fn only_sites_need_a_listener() {
    let site = "[[site]]\nname = \"harbour\"\nhosts = [\"harbour.example\"]\nfolder = \"h\"\n";
    for text in [
        "",
        "[service]\ntime_zone = \"Atlantic/Faroe\"\n",
        "[[layout]]\nname = \"q\"\ntemplate = \"{time} {client}\"\n",
    ] {
        assert!(understand(text, Path::new("")).is_ok(), "{text}");
    }
    let found = understand(site, Path::new("")).err().unwrap_or_default();
    assert!(
        found.len() == 1 && found[0].remedy.as_ref().is_some_and(|remedy| remedy.contains("[[listener]]"))
    );
}

/// Whatever is written, it is understood or refused with places that lie in the text.
#[test]
fn every_diagnostic_points_into_the_text_that_was_cut_anywhere() {
    let text = format!(
        "{HEAD}[[site.rules]]\npath = \"/a/{{rest*}}\"\nredirect = \"/b/{{rest}}\"\nwhen = {{ hour = \"22-5\" }}\n"
    );
    for end in (0..text.len()).filter(|&end| text.is_char_boundary(end)) {
        for diagnostic in understand(&text[..end], Path::new("")).err().unwrap_or_default() {
            assert!(text[..end].get(diagnostic.span.clone()).is_some(), "{end}: {diagnostic:?}");
            assert!(diagnostic.severity == Severity::Error && !diagnostic.message.is_empty());
        }
    }
}
