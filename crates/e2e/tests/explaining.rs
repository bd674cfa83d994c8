//! Why a request is answered as it is, told without the service and compared with it.

use exedra_e2e::{Place, exedra, text};
use rstest::rstest;
use serde_json::Value;

const SITE: &str = "[site.compress]\ncodecs = [\"br\", \"gzip\"]\nnot_for = [\"LindryKiosk/1.*\"]\n";

fn explain(place: &Place, arguments: &[&str]) -> (Value, bool) {
    let config = text(&place.config());
    let all = [&["explain", "--config", &config, "--as", "json"], arguments].concat();
    let output = exedra(&all);
    let failed = String::from_utf8_lossy(&output.stderr).into_owned();
    (serde_json::from_slice(&output.stdout).expect(&failed), output.status.success())
}

fn why(explanation: &Value, codec: &str) -> String {
    let codecs = explanation["codecs"].as_array().unwrap();
    let found = codecs.iter().find(|row| row["codec"] == codec).unwrap();
    assert_eq!(found["used"] == true, found["why"] == "used");
    found["why"].as_str().unwrap().to_owned()
}

#[rstest]
#[case::used("/page.html", "", "br", "used")]
#[case::ready("/ready.html", "", "gzip", "used")]
#[case::not_configured("/page.html", "", "zstd", "not among the site's `codecs`")]
#[case::type_("/photo.jpg", "", "br", "image/jpeg is not among the `types`")]
#[case::small("/short.txt", "", "br", "5 bytes, less than `at_least` (256)")]
#[case::agent("/page.html", "User-Agent: LindryKiosk/1.2", "br", "left out by `not_for`: LindryKiosk/1.*")]
#[case::not_asked("/page.html", "Accept-Encoding: gzip", "br", "the client does not accept it")]
#[case::refused("/page.html", "Accept-Encoding: br;q=0, *", "br", "the client does not accept it")]
#[case::less_liked(
    "/page.html",
    "Accept-Encoding: br;q=0.2, gzip",
    "br",
    "prefers another (quality 0.2 against 1)"
)]
#[case::rather_plain(
    "/page.html",
    "Accept-Encoding: br;q=0.2, identity",
    "br",
    "prefers the uncompressed file"
)]
#[case::passed_over("/old.html", "", "gzip", "old.html.gz beside it is not used: it is 3600 s older")]
#[case::a_folder_beside("/page.html", "", "gzip", "page.html.gz beside it is not used: it is a folder")]
#[case::later("/page.html", "", "gzip", "accepted as well")]
#[case::parts("/page.html", "Range: bytes=0-9", "br", "responses encoded on the fly have none")]
fn each_codec_has_its_reason(
    #[case] path: &str,
    #[case] header: &str,
    #[case] codec: &str,
    #[case] reason: &str,
) {
    let place = Place::new();
    place.configure(SITE);
    place.write("lamp/page.html", &"<p>The lamp was lit at dusk.</p>\n".repeat(50));
    place.write("lamp/ready.html", &"<p>The lamp was lit at dusk.</p>\n".repeat(50));
    place.write("lamp/ready.html.gz", "made beforehand");
    place.write("lamp/old.html", &"<p>The lamp was lit at dusk.</p>\n".repeat(50));
    place.write("lamp/old.html.gz", "made long ago");
    let changed = std::fs::metadata(place.path("lamp/old.html")).unwrap().modified().unwrap();
    let old = std::fs::File::options().write(true).open(place.path("lamp/old.html.gz")).unwrap();
    old.set_modified(changed - std::time::Duration::from_secs(3600)).unwrap();
    std::fs::create_dir(place.path("lamp/page.html.gz")).unwrap();
    place.write("lamp/photo.jpg", &"x".repeat(2000));
    place.write("lamp/short.txt", "short");
    let url = format!("http://lamp.example{path}");
    let mut arguments = vec![url.as_str()];
    if !header.is_empty() {
        arguments.extend(["--header", header]);
    } else if path == "/ready.html" {
        arguments.extend(["--header", "Accept-Encoding: gzip"]);
    }
    let (explanation, _) = explain(&place, &arguments);
    let said = why(&explanation, codec);
    assert!(said.contains(reason), "{said}");
}

#[rstest]
#[case::page("http://harbour.example/tides/today.html", &[])]
#[case::again("http://harbour.example/tides/today.html", &["--header", "Accept-Encoding: gzip"])]
#[case::head("http://harbour.example/", &["--method", "HEAD"])]
#[case::options("http://harbour.example/", &["--method", "OPTIONS"])]
#[case::wrong_method("http://harbour.example/", &["--method", "DELETE"])]
#[case::part("http://harbour.example/tides/today.html", &["--header", "Range: bytes=5-20"])]
#[case::parts("http://harbour.example/tides/today.html", &["--header", "Range: bytes=5-20, 100-"])]
#[case::no_such_part("http://harbour.example/notes.txt", &["--header", "Range: bytes=900-"])]
#[case::expected_other("http://harbour.example/", &["--header", "If-Match: \"other\""])]
#[case::other_host("http://www.harbour.example/a%2Fb?x=%20", &[])]
#[case::folder("http://harbour.example/tides?x", &[])]
#[case::slashes("http://harbour.example//tides//", &[])]
#[case::climbing("http://harbour.example/../exedra.toml", &[])]
#[case::hidden("http://harbour.example/.git/config", &[])]
#[case::malformed("http://harbour.example/sæl", &[])]
#[case::lost("http://harbour.example/nowhere", &[])]
#[case::lost_for_programs("http://harbour.example/nowhere", &["--header", "Accept: application/json"])]
#[case::no_listing("http://lamp.example/empty/", &[])]
#[case::stranger("http://stranger.example/", &[])]
fn the_running_service_agrees(#[case] url: &str, #[case] more: &[&str]) {
    let place = Place::new();
    std::fs::create_dir(place.path("lamp/empty")).unwrap();
    let program = place.serve();
    let (explanation, agreed) = explain(&place, &[&[url, "--live", "--at", &program.sites], more].concat());
    assert!(agreed, "{:#}", explanation["live"]);
    assert_eq!(explanation["live"]["status"], explanation["answer"]["status"]);
}

#[test]
fn a_service_that_runs_by_another_configuration_is_noticed() {
    let place = Place::new();
    let program = place.serve();
    place.configure("listing = true\n");
    std::fs::create_dir(place.path("lamp/rooms")).unwrap();
    let (explanation, agreed) =
        explain(&place, &["http://lamp.example/rooms/", "--live", "--at", &program.sites]);
    assert!(!agreed);
    let differences = explanation["live"]["differences"].as_array().unwrap();
    assert_eq!(differences[0], "status: 403 instead of 200");
    let steps = explanation["steps"].as_array().unwrap();
    assert!(steps.iter().any(|step| step["words"] == "no index file: what is in the folder is listed"));
    let text = std::fs::read_to_string(place.config()).unwrap();
    let line = text.lines().position(|line| line == "hosts = [\"lamp.example\"]").unwrap() + 1;
    assert_eq!((&steps[0]["about"], &steps[0]["line"]), (&"host".into(), &line.into()));
}

#[rstest]
#[case("ftp://harbour.example/", "`ftp` is no scheme")]
#[case("/tides/", "names no host")]
fn what_cannot_be_asked_is_said(#[case] url: &str, #[case] words: &str) {
    let place = Place::new();
    let output = exedra(&["explain", url, "--config", &text(&place.config())]);
    assert!(!output.status.success());
    assert!(String::from_utf8_lossy(&output.stderr).contains(words));
}
