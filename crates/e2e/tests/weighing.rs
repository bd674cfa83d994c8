//! What compression is worth, on the real files.

use exedra_e2e::{Place, exedra, text};
use serde_json::Value;
use std::io::Write;

fn weigh(arguments: &[&str]) -> Value {
    let output = exedra(&[&["weigh", "--as", "json"], arguments].concat());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

fn point<'v>(curves: &'v Value, codec: &str, effort: u64) -> &'v Value {
    let curve = curves.as_array().unwrap().iter().find(|curve| curve["codec"] == codec).unwrap();
    curve["points"].as_array().unwrap().iter().find(|point| point["effort"] == effort).unwrap()
}

/// Noise that no codec makes smaller.
fn noise(length: usize) -> Vec<u8> {
    let mut state = 88_172_645_463_325_252u64;
    std::iter::repeat_with(|| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state as u8
    })
    .take(length)
    .collect()
}

#[test]
fn figures_are_those_of_the_codecs_and_the_recommendation_is_understood() {
    let place = Place::new();
    let page: String =
        (0..400).map(|line| format!("<p>Boat {line} lies at berth {}.</p>\n", line * 7 % 31)).collect();
    place.write("lamp/page.html", &page);
    place.write("lamp/rooms/other.html", &page.to_uppercase());
    place.write("lamp/.hidden.html", &page);
    std::fs::write(place.path("lamp/photo.jpg"), noise(5000)).unwrap();
    let weighed = weigh(&["lamp", "--config", &text(&place.config())]);
    let bytes =
        2 * page.len() as u64 + 5000 + std::fs::metadata(place.path("lamp/index.html")).unwrap().len();
    assert_eq!(
        (&weighed["files"], &weighed["bytes"], &weighed["sampled_bytes"]),
        (&4.into(), &bytes.into(), &bytes.into())
    );

    // One figure made again by hand.
    let html = &weighed["types"]["text/html"];
    let mut expected = 0;
    for content in
        [page.clone(), page.to_uppercase(), std::fs::read_to_string(place.path("lamp/index.html")).unwrap()]
    {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::new(6));
        encoder.write_all(content.as_bytes()).unwrap();
        expected += encoder.finish().unwrap().len().min(content.len());
    }
    assert_eq!(point(&html["curves"], "gzip", 6)["bytes"], expected as f64);
    let all = point(&weighed["curves"], "gzip", 6);
    assert_eq!(all["bytes"], expected as f64 + 5000.0);
    assert_eq!(weighed["types"]["image/jpeg"]["worthwhile"], false);
    assert!(
        point(&weighed["curves"], "br", 11)["bytes"].as_f64()
            < point(&weighed["curves"], "br", 0)["bytes"].as_f64()
    );
    for curve in weighed["curves"].as_array().unwrap() {
        let knees = curve["points"].as_array().unwrap().iter().filter(|point| point["knee"] == true).count();
        assert_eq!(knees, 1, "{}", curve["codec"]);
    }

    // The snippet can be pasted at the end of the configuration.
    let output = exedra(&["weigh", "lamp", "--config", &text(&place.config())]);
    let shown = String::from_utf8(output.stdout).unwrap();
    let snippet = &shown[shown.find("[site.compress]").unwrap()..];
    assert!(snippet.contains("types    = [\"text/*\"]"), "{snippet}");
    place.configure(snippet);
    let program = place.serve();
    assert_eq!(program.ask("lamp.example", "/page.html", &[("Accept-Encoding", "br")]).status(), 200);
}

#[test]
fn many_files_are_sampled_and_stand_for_all() {
    let place = Place::new();
    for number in 0..200 {
        let line = format!("<li>Moorings of row {number}, north side, for boats up to nine metres.</li>\n");
        place.write(&format!("lamp/rows/{number}.html"), &line.repeat(40));
    }
    let folder = text(&place.path("lamp"));
    let whole = weigh(&[&folder, "--sample", "8 MB"]);
    let part = weigh(&[&folder, "--sample", "100 kB", "--threads", "1"]);
    assert_eq!((&whole["files"], &whole["sampled_files"]), (&201.into(), &201.into()));
    let sampled = part["sampled_files"].as_u64().unwrap();
    assert!((20..60).contains(&sampled), "{sampled}");
    let ratio = |weighed: &Value| point(&weighed["curves"], "br", 5)["ratio"].as_f64().unwrap();
    assert!((ratio(&whole) / ratio(&part) - 1.0).abs() < 0.1, "{} and {}", ratio(&whole), ratio(&part));
}

#[test]
fn charts_are_drawn_and_what_cannot_be_weighed_is_said() {
    let place = Place::new();
    let folder = text(&place.path("harbour"));
    let (svg, png) = (text(&place.path("chart.svg")), text(&place.path("chart.png")));
    weigh(&[&folder, "--chart", &svg]);
    weigh(&[&folder, "--chart", &png]);
    let svg = std::fs::read_to_string(svg).unwrap();
    assert!(svg.starts_with("<svg") && svg.contains("what compression leaves of") && svg.contains("br "));
    assert!(std::fs::read(png).unwrap().starts_with(b"\x89PNG\r\n\x1a\n"));
    std::fs::create_dir(place.path("nothing")).unwrap();
    for (what, words) in
        [(text(&place.path("nothing")), "no files"), ("lmp".to_owned(), "did you mean `lamp`?")]
    {
        let output = exedra(&["weigh", &what, "--config", &text(&place.config())]);
        assert!(!output.status.success());
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(said.contains(words), "{said}");
    }
}

/// The console's call weighs the same files as the command, within its bounds; who leaves ends it.
#[test]
fn the_running_service_weighs_a_site_of_its_own() {
    let place = Place::new();
    let page: String =
        (0..400).map(|line| format!("<p>Boat {line} lies at berth {}.</p>\n", line * 7 % 31)).collect();
    place.write("lamp/page.html", &page);
    let program = place.serve();
    let told = program.api("sites/lamp/weighing");
    let weighed = weigh(&["lamp", "--config", &text(&place.config())]);
    assert_eq!((&told["files"], &told["bytes"]), (&weighed["files"], &weighed["bytes"]));
    let bytes = |weighed: &Value| point(&weighed["curves"], "gzip", 6)["bytes"].as_f64().unwrap();
    assert_eq!(bytes(&told), bytes(&weighed));
    let settings = told["settings"].as_str().unwrap();
    assert!(settings.starts_with("[site.compress]\ncodecs") && settings.contains("at_least"), "{settings}");
    let refused = |call: &str, expected: &str| {
        let said = program.call(reqwest::Method::GET, call, None).text().unwrap();
        assert!(said.contains(expected), "{said}");
    };
    refused("sites/lmap/weighing", "there is no site `lmap`");
    refused("sites/lamp/weighing?sample=1%20GB", "a call weighs 16 MiB at most");
    refused("sites/lamp/weighing?sample=much", "write one as in `4 MB`");
}
