//! Folders without an index file, listed where somebody asked for it.

use exedra_e2e::{Place, field};
use std::io::Read;
use std::os::unix::ffi::OsStrExt;

#[test]
fn folders_are_listed_only_where_asked_for() {
    let place = Place::new();
    place.configure("listing = true\n");
    for name in ["b.txt", "a & <b>.txt", "sæl.txt", ".hidden", "deep/x.txt"] {
        place.write(&format!("lamp/papers/{name}"), "1234");
    }
    std::os::unix::fs::symlink("../../exedra.toml", place.path("lamp/papers/out.toml")).unwrap();
    let program = place.serve();
    assert_eq!(program.get("harbour.example", "/tides/").status(), 403, "not here");
    let page = program.get("lamp.example", "/papers/");
    assert_eq!((page.status().as_u16(), field(&page, "vary")), (200, "Accept-Encoding, Accept"));
    let page = page.text().unwrap();
    assert!(page.contains("a &amp; &lt;b&gt;.txt") && page.contains("./s%C3%A6l.txt"), "{page}");
    assert!(!page.contains("hidden") && !page.contains("out.toml"), "{page}");
    assert!(page.find("deep/").unwrap() < page.find("b.txt").unwrap());
    let rows = program.ask("lamp.example", "/papers/?by=-name", &[("Accept", "application/json")]);
    let rows: serde_json::Value = rows.json().unwrap();
    let names: Vec<&str> = rows.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["deep", "sæl.txt", "b.txt", "a & <b>.txt"]);
    assert_eq!((rows[1]["bytes"].as_u64(), rows[0].get("bytes")), (Some(4), None));
    let links: Vec<&str> =
        page.split("href=\"./").skip(1).map(|rest| rest.split('"').next().unwrap()).collect();
    assert_eq!(links.len(), names.len());
    for link in links.iter().filter(|link| !link.ends_with('/')) {
        assert_eq!(
            program.get("lamp.example", &format!("/papers/{link}")).text().unwrap(),
            "1234",
            "{link} can be followed"
        );
    }
    assert_eq!(
        program.get("lamp.example", "/").text().unwrap(),
        "<h1>Lamp House</h1>",
        "an index file comes first"
    );
}

#[test]
fn ten_thousand_entries_have_pages_and_every_order() {
    let place = Place::new();
    place.configure("listing = true\n");
    std::fs::create_dir(place.path("lamp/many")).unwrap();
    for number in 0..10_000 {
        std::fs::write(place.path(&format!("lamp/many/{number:05}.txt")), vec![b'x'; number % 97]).unwrap();
    }
    let program = place.serve();
    let first = program.get("lamp.example", "/many/").text().unwrap();
    assert!(first.contains("00000.txt") && first.contains("Page 1 of 10, 10000 entries in all"));
    let last = program.get("lamp.example", "/many/?by=name&page=10").text().unwrap();
    assert!(last.contains("09999.txt") && !last.contains("08999.txt"));
    let rows: serde_json::Value =
        program.ask("lamp.example", "/many/?by=-size", &[("Accept", "application/json")]).json().unwrap();
    let sizes: Vec<u64> = rows.as_array().unwrap().iter().map(|row| row["bytes"].as_u64().unwrap()).collect();
    assert!(sizes.len() == 10_000 && sizes.is_sorted_by(|a, b| a >= b));
}

#[test]
fn listings_are_compressed_and_the_second_visitor_costs_no_body() {
    let place = Place::new();
    place.configure("listing = true\n");
    for number in 0..200 {
        place.write(&format!("lamp/logs/watch-{number:03}.txt"), "calm");
    }
    let program = place.serve();
    let ask = |fields: &[(&str, &str)]| program.ask("lamp.example", "/logs/", fields);
    let plain = ask(&[]);
    assert_eq!((field(&plain, "content-encoding"), field(&plain, "cache-control")), ("", "no-cache"));
    let (plain_tag, plain) = (field(&plain, "etag").to_owned(), plain.bytes().unwrap());
    let small = ask(&[("Accept-Encoding", "gzip")]);
    assert_eq!(field(&small, "content-encoding"), "gzip");
    let (tag, body) = (field(&small, "etag").to_owned(), small.bytes().unwrap());
    let mut unpacked = Vec::new();
    _ = flate2::read::GzDecoder::new(&body[..]).read_to_end(&mut unpacked).unwrap();
    assert!(unpacked == plain && body.len() * 4 < plain.len() && tag != plain_tag);
    for (accepted, tag) in [("gzip", &tag), ("", &plain_tag)] {
        let again = ask(&[("Accept-Encoding", accepted), ("If-None-Match", tag)]);
        assert_eq!((again.status().as_u16(), field(&again, "etag")), (304, &**tag));
    }
    let head = reqwest::blocking::Client::new()
        .head(format!("http://{}/logs/", program.sites))
        .header("Host", "lamp.example")
        .send()
        .unwrap();
    assert_eq!(field(&head, "content-length"), plain.len().to_string());
    place.write("lamp/logs/storm.txt", "force nine");
    exedra_e2e::until("the change shows", || {
        (ask(&[("Accept-Encoding", "gzip"), ("If-None-Match", &tag)]).status() == 200).then_some(())
    });
    // What was sent stands in the log, and what it was before.
    exedra_e2e::until("the line", || {
        let lines = place.log("lamp");
        lines.iter().any(|line| line.contains(&format!(" 200 {} ", body.len()))).then_some(())
    });
}

#[test]
fn nothing_is_linked_that_is_not_served() {
    let place = Place::new();
    place.configure(
        "listing = true\n\
         [[site.rules]]\npath = \"/papers/internal/{*}\"\nrefuse = 403\n\
         [[site.rules]]\npath = \"/papers/old.txt\"\ngone = true\n\
         [[site.rules]]\npath = \"/papers/crew.txt\"\nwhen = { client = \"!127.0.0.1\" }\nrefuse = 403\n",
    );
    for name in ["internal/x.txt", "old.txt", "crew.txt", "free.txt", "secret.txt", "back\\slash.txt"] {
        place.write(&format!("lamp/papers/{name}"), "1234");
    }
    place.write("lamp/papers/.exedra.toml", "[[rules]]\npath = \"/secret.txt\"\nrefuse = 404\n");
    place.write("lamp/papers/closed/.exedra.toml", "refuse = 403\n");
    place.write("lamp/papers/broken/.exedra.toml", "listign = true\n");
    place.write("lamp/papers/open/.exedra.toml", "listing = true\n");
    place.write("lamp/papers/plain/a.txt", "1234");
    let latin = std::ffi::OsStr::from_bytes(b"s\xe6l.txt");
    std::fs::write(place.path("lamp/papers").join(latin), "1234").unwrap();
    let program = place.serve();
    let names = |fields: &[(&str, &str)]| -> Vec<String> {
        let fields = [fields, &[("Accept", "application/json")]].concat();
        let rows: serde_json::Value = program.ask("lamp.example", "/papers/", &fields).json().unwrap();
        rows.as_array().unwrap().iter().map(|row| row["name"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names(&[]), ["open", "plain", "crew.txt", "free.txt"]);
    let others = names(&[("Forwarded", "for=203.0.113.9")]);
    assert_eq!(others, ["open", "plain", "free.txt"], "each client is shown its own");
    let page = program.get("lamp.example", "/papers/");
    assert_eq!(field(&page, "cache-control"), "no-cache", "nobody keeps what was listed for somebody");
    let page = page.text().unwrap();
    for link in page.split("href=\"./").skip(1).map(|rest| rest.split('"').next().unwrap()) {
        assert_eq!(program.get("lamp.example", &format!("/papers/{link}")).status(), 200, "{link}");
    }
    let root = program.get("lamp.example", "/papers/").text().unwrap();
    assert!(!root.contains("4096"), "the size of a folder says nothing: {root}");
}
