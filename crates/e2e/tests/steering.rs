//! Where requests go, and whether they may: HTTPS, logins, limits, folders' own settings, and configurations that change
//! while requests come in.

use exedra_e2e::{Place, drawn, exedra, field, text, until};
use rstest::rstest;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const SECURED: &str = "[[listener]]\naddress = \"127.0.0.1:0\"\nhttps = true\n";

fn password(place: &Place, user: &str, password: &str) {
    let file = text(&place.path("staff.toml"));
    let mut child = Command::new(exedra_e2e::program())
        .args(["password", user, "--file", &file])
        .stdin(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    child.stdin.take().unwrap().write_all(format!("{password}\n").as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
}

#[test]
fn https_with_a_certificate_made_on_the_spot_both_protocols_and_one_redirect() {
    let place = Place::new();
    place.configure(&format!(
        "https = \"required\"\nmain_host = \"lamp.example\"\nhttps_only = \"1 year\"\n{SECURED}"
    ));
    let program = place.serve();
    let answer = program.ask_secured("lamp.example", "/", &[]);
    assert_eq!((answer.status().as_u16(), answer.version()), (200, reqwest::Version::HTTP_2));
    assert_eq!(field(&answer, "strict-transport-security"), "max-age=31536000");
    let sent = program.get("lamp.example", "/a%20b?x=1&y=%2F");
    let port = program.secured.rsplit(':').next().unwrap();
    assert_eq!(sent.status(), 308);
    // Port 0 is any, and so is the one that is named: nothing in front maps it.
    assert!(field(&sent, "location").starts_with("https://lamp.example"), "{}", field(&sent, "location"));
    assert!(field(&sent, "location").ends_with("/a%20b?x=1&y=%2F"));
    let old =
        reqwest::blocking::Client::builder().http1_only().no_proxy().tls_danger_accept_invalid_certs(true);
    let old = old.resolve("lamp.example", program.secured.parse().unwrap()).build().unwrap();
    let answer = old.get(format!("https://lamp.example:{port}/")).send().unwrap();
    assert_eq!((answer.status().as_u16(), answer.version()), (200, reqwest::Version::HTTP_11));
    let lines = until("three lines", || Some(place.log("lamp")).filter(|lines| lines.len() == 3));
    assert!(
        lines.iter().any(|line| line.contains("HTTP/2.0") && line.contains(" https lamp.example ")),
        "{lines:?}"
    );
    let kept = place.path("state/certificates/made/lamp.example.pem");
    assert!(std::fs::read_to_string(kept).unwrap().contains("BEGIN CERTIFICATE"));
}

#[test]
fn a_certificate_from_files_is_shown_by_name_and_picked_up_when_it_changes() {
    let place = Place::new();
    let make = |site: &str| {
        let made = rcgen::generate_simple_self_signed(vec![format!("{site}.example")]).unwrap();
        place.write(&format!("{site}.key"), &made.signing_key.serialize_pem());
        place.write(&format!("{site}.pem"), &made.cert.pem());
        made.cert.der().to_vec()
    };
    let certificate = |site: &str| {
        format!(
            "[[certificate]]\nhosts = [\"{site}.example\"]\nchain = \"{site}.pem\"\nkey = \"{site}.key\"\n"
        )
    };
    let (first, harbours) = (make("lamp"), make("harbour"));
    place.configure(&format!("{SECURED}{}{}", certificate("lamp"), certificate("harbour")));
    let program = place.serve();
    let shown = |host: &str| {
        let answer = program.ask_secured(host, "/", &[]);
        answer.extensions().get::<reqwest::tls::TlsInfo>().unwrap().peer_certificate().unwrap().to_vec()
    };
    assert_eq!(shown("lamp.example"), first);
    assert_eq!(shown("harbour.example"), harbours, "another host has another");
    let second = make("lamp");
    until("the new certificate is shown", || (shown("lamp.example") == second).then_some(()));
    place.write("lamp.pem", "broken");
    // They are looked at one after the other, again and again: twice after this, the broken one has been seen.
    for _ in 0..2 {
        let next = make("harbour");
        until("the other's new certificate is shown", || (shown("harbour.example") == next).then_some(()));
    }
    assert_eq!(shown("lamp.example"), second, "what broke leaves in force what was");
}

#[test]
fn who_signs_in_gets_in_and_who_does_not_is_slowed_down_and_sees_the_own_page() {
    let place = Place::new();
    place.write("lamp/staff/plans.txt", "for us");
    place.write("lamp/staff/sign-in.html", "<h1>Ask the harbour office</h1>");
    password(&place, "anna", "tide");
    let realm = "[[realm]]\nname = \"staff\"\nusers = \"staff.toml\"\n";
    let rules = "error_pages = { 401 = \"/staff/sign-in.html\" }\n[[site.rules]]\nname = \"staff only\"\npath = \"/staff/{*}\"\nlogin = \"staff\"\n";
    place.configure(&format!("{rules}{SECURED}{realm}"));
    let program = place.serve();
    let port = program.secured.rsplit(':').next().unwrap().to_owned();
    let sent = program.get("lamp.example", "/staff/plans.txt");
    assert_eq!(sent.status(), 307, "no password without HTTPS");
    let client = program.secured("lamp.example");
    let url = format!("https://lamp.example:{port}/staff/plans.txt");
    let stranger = client.get(&url).send().unwrap();
    assert_eq!(stranger.status(), 401);
    assert_eq!(field(&stranger, "www-authenticate"), "Basic realm=\"staff\", charset=\"UTF-8\"");
    assert!(stranger.text().unwrap().contains("Ask the harbour office"));
    let anna = |word: &str| client.get(&url).basic_auth("anna", Some(word)).send().unwrap();
    assert_eq!(anna("tide").text().unwrap(), "for us");
    let times: Vec<Duration> = (0..4)
        .map(|_| {
            let began = Instant::now();
            assert_eq!(anna("wrong").status(), 401);
            began.elapsed()
        })
        .collect();
    assert!(times[3] >= Duration::from_millis(1000), "{times:?}");
    let began = Instant::now();
    assert_eq!(anna("tide").status(), 200);
    assert!(began.elapsed() < times[3], "who is known is not held up by others' tries");
    let lines = until("the lines", || Some(place.log("lamp")).filter(|lines| lines.len() == 8));
    assert!(
        lines.iter().any(|line| line.contains(" anna [") && line.contains("\"staff only\"")),
        "{lines:?}"
    );
    // A changed password counts within a second or two, without anything else being done.
    password(&place, "anna", "ebb");
    until("the new password", || (anna("ebb").status() == 200).then_some(()));
    assert_eq!(anna("tide").status(), 401);
}

#[test]
fn a_client_that_takes_too_much_is_told_when_to_come_again() {
    let place = Place::new();
    place.write("lamp/tour.bin", &"x".repeat(30_000));
    place.configure(
        "[[site.rules]]\nname = \"greedy\"\npath = \"/{*}\"\nwhen = { client = \"203.0.113.0/24\" }\nlimit = { requests = \"6 a minute\", at_once = 3 }\n\
         [[site.rules]]\npath = \"/tour.bin\"\nlimit = { speed = \"20 kB a second\" }\n",
    );
    let program = place.serve();
    let ask = |client: &str| program.ask("lamp.example", "/", &[("Forwarded", &format!("for={client}"))]);
    let statuses: Vec<u16> = (0..5).map(|_| ask("203.0.113.9").status().as_u16()).collect();
    assert_eq!(statuses, [200, 200, 200, 429, 429]);
    let told = ask("203.0.113.9");
    let seconds: u64 = field(&told, "retry-after").parse().unwrap();
    assert!((5..=10).contains(&seconds), "{seconds}");
    assert_eq!(ask("203.0.113.10").status(), 200, "each for itself");
    assert!((0..20).all(|_| ask("192.0.2.1").status() == 200));
    let errors =
        until("an error line", || place.log("service_errors").into_iter().find(|line| line.contains("429")));
    assert!(errors.contains("`greedy` allows this client no more for now"), "{errors}");
    let began = Instant::now();
    assert_eq!(program.get("lamp.example", "/tour.bin").bytes().unwrap().len(), 30_000);
    assert!(began.elapsed() >= Duration::from_millis(1200), "{:?}", began.elapsed());
}

#[test]
fn folders_settings_count_by_themselves_and_a_broken_one_takes_nothing_else_down() {
    let place = Place::new();
    place.configure("");
    place.write("lamp/papers/a.txt", "a");
    place.write("lamp/papers/deep/b.txt", "b");
    let program = place.serve();
    let status = |target: &str| program.get("lamp.example", target).status().as_u16();
    assert_eq!((status("/papers/"), status("/papers/deep/b.txt")), (403, 200));
    // Twice, so that whatever is remembered whole is.
    assert_eq!((status("/papers/deep/b.txt"), status("/papers/a.txt")), (200, 200));
    place.write(
        "lamp/papers/.exedra.toml",
        "listing = true\ncache = \"1 hour\"\n[headers]\nX-Papers = \"{path}\"\n",
    );
    until("the folder is listed", || (status("/papers/") == 200).then_some(()));
    until("its fields", || {
        (field(&program.get("lamp.example", "/papers/deep/b.txt"), "x-papers") == "/papers/deep/b.txt")
            .then_some(())
    });
    assert_eq!(status("/papers/.exedra.toml"), 404);
    assert_eq!(field(&program.get("lamp.example", "/papers/a.txt"), "cache-control"), "max-age=3600");
    place.write("lamp/papers/deep/.exedra.toml", "listing = perhaps\n");
    until("what is broken answers 500", || (status("/papers/deep/b.txt") == 500).then_some(()));
    assert_eq!((status("/papers/a.txt"), status("/")), (200, 200));
    let line = until("an error line", || {
        place.log("service_errors").into_iter().find(|line| line.contains("\"status\":500"))
    });
    assert!(line.contains("the settings of /papers/deep cannot be understood: line 1"), "{line}");
    place.write("lamp/papers/deep/.exedra.toml", "refuse = 404\n");
    until("mended", || (status("/papers/deep/b.txt") == 404).then_some(()));
    std::fs::remove_file(place.path("lamp/papers/deep/.exedra.toml")).unwrap();
    until("gone", || (status("/papers/deep/b.txt") == 200).then_some(()));
}

#[test]
fn connections_may_be_announced_by_those_who_are_trusted() {
    let place = Place::new();
    let text = std::fs::read_to_string(place.config()).unwrap();
    place.write(
        "exedra.toml",
        &text.replacen("address = \"127.0.0.1:0\"", "address = \"127.0.0.1:0\"\nannounced = true", 1),
    );
    let program = place.serve();
    let ask = b"GET / HTTP/1.1\r\nHost: lamp.example\r\nConnection: close\r\n\r\n";
    let announced = [&b"PROXY TCP4 203.0.113.9 127.0.0.1 4096 80\r\n"[..], ask].concat();
    assert!(program.raw(&announced).starts_with("HTTP/1.1 200"));
    assert!(program.raw(ask).starts_with("HTTP/1.1 400"), "who says nothing is turned away");
    let lines = until("a line", || Some(place.log("lamp")).filter(|lines| !lines.is_empty()));
    assert!(lines.len() == 1 && lines[0].starts_with("203.0.113.9 "), "{lines:?}");
}

#[test]
fn many_redirects_come_from_a_file_and_included_files_bring_sites() {
    let place = Place::new();
    let lines: String = (0..5000).map(|number| format!("/old/{number}.html,/new/{number}.html\n")).collect();
    place.write("moved.csv", &format!("old,new,status\n{lines}/gone.html,https://other.example/,302\n"));
    place.write(
        "sites.d/extra.toml",
        "[[site]]\nname = \"extra\"\nhosts = [\"extra.example\"]\nfolder = \"lamp\"\n",
    );
    place.configure("redirects = \"moved.csv\"\n");
    let text = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &text.replacen("[service]", "[service]\ninclude = [\"sites.d/*.toml\"]", 1));
    let program = place.serve();
    let sent = program.get("lamp.example", "/old/4711.html?x=1");
    assert_eq!(
        (sent.status().as_u16(), field(&sent, "location")),
        (308, "http://lamp.example/new/4711.html?x=1")
    );
    let sent = program.get("lamp.example", "/gone.html");
    assert_eq!((sent.status().as_u16(), field(&sent, "location")), (302, "https://other.example/"));
    assert_eq!(program.get("extra.example", "/").status(), 200);
}

#[test]
fn an_encoding_that_only_a_rule_asks_for_settles_too() {
    let place = Place::new();
    place.write("lamp/long.txt", &"a line of the tide table\n".repeat(400));
    place.configure("[site.compress]\ncodecs = [\"gzip\"]\n[[site.rules]]\npath = \"/long.txt\"\ncompress = { codecs = [\"br\"] }\n");
    let program = place.serve();
    let strong = || {
        let sent = program.ask("lamp.example", "/long.txt", &[("Accept-Encoding", "br, gzip")]);
        assert_eq!(field(&sent, "content-encoding"), "br");
        (!field(&sent, "etag").starts_with("W/")).then_some(())
    };
    until("the thorough one", strong);
}

#[rstest]
#[case::plain("http://www.harbour.example/old/x", "308 → 307 → 200")]
#[case::there("http://harbour.example/", "200")]
fn redirects_are_followed_to_the_end(#[case] url: &str, #[case] expected: &str) {
    let place = Place::new();
    place.write("harbour/new/x.txt", "x");
    place
        .write("harbour/.exedra.toml", "[[rules]]\npath = \"/old/{name}\"\nredirect = \"/new/{name}.txt\"\n");
    let output = exedra(&["explain", "--config", &text(&place.config()), "--follow", "--as", "json", url]);
    let all: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let statuses: Vec<String> =
        all.as_array().unwrap().iter().map(|one| one["answer"]["status"].to_string()).collect();
    assert_eq!(statuses.join(" → "), expected, "{}", drawn(&output));
}

#[test]
fn explain_says_each_fact_each_rule_and_where_each_setting_comes_from() {
    let place = Place::new();
    place.configure(
        "[[site.rules]]\nname = \"winter\"\npath = \"/papers/{*}\"\nwhen = { parameter = { season = \"winter\" } }\nlisting = true\n\
         [[site.rules]]\nname = \"agents\"\nwhen = { agent = \"Bad*\" }\nrefuse = 403\n",
    );
    place.write("lamp/papers/a.txt", "a");
    place.write("lamp/papers/.exedra.toml", "# ours\ncache = \"1 hour\"\n");
    let explain = |url: &str| {
        let config = text(&place.config());
        let output =
            exedra(&["explain", "--config", &config, "--as", "json", "--header", "Cookie: tongue=fo", url]);
        serde_json::from_slice::<serde_json::Value>(&output.stdout).unwrap()
    };
    let winter = explain("http://lamp.example/papers/?season=winter");
    assert_eq!(winter["answer"]["status"], 200);
    let fact = |name: &str| {
        winter["facts"].as_array().unwrap().iter().find(|fact| fact["name"] == name).unwrap()["value"].clone()
    };
    assert_eq!(
        (fact("parameter:season"), fact("cookie:tongue"), fact("user")),
        ("winter".into(), "fo".into(), serde_json::Value::Null)
    );
    let setting = |of: &serde_json::Value, name: &str| {
        of["settings"].as_array().unwrap().iter().find(|one| one["name"] == name).unwrap().clone()
    };
    let listing = setting(&winter, "listing");
    assert_eq!((&listing["value"], &listing["line"]), (&"on".into(), &19.into()), "{listing}");
    let cache = setting(&winter, "cache");
    assert!(cache["file"].as_str().unwrap().ends_with("lamp/papers/.exedra.toml"), "{cache}");
    assert_eq!((&cache["value"], &cache["line"]), (&"1 hour".into(), &2.into()));
    let summer = explain("http://lamp.example/papers/?season=summer");
    assert_eq!(summer["answer"]["status"], 403);
    let in_vain: Vec<&str> = summer["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|step| step["in_vain"] == true)
        .map(|step| step["words"].as_str().unwrap())
        .collect();
    assert_eq!(
        in_vain,
        [
            "`winter` does not fit: it asks for parameter:season = winter; here it is summer",
            "`agents` does not fit: it asks for agent = Bad*; here there is none"
        ]
    );
    assert_eq!(setting(&summer, "listing")["value"], "off");
}

#[test]
fn rules_ask_for_country_referrer_and_hour_of_a_client() {
    let place = Place::new();
    let countries = exedra_demo::countries::made(&exedra_demo::countries::RANGES);
    std::fs::write(place.path("countries.mmdb"), countries).unwrap();
    place.configure(
        "[[site.rules]]\npath = \"/\"\nwhen = { country = \"FO\" }\nredirect = \"/fo.html\"\n\
         [[site.rules]]\npath = \"/{*}\"\nwhen = { referrer = [\"*\", \"!http://lamp.example/*\"], path = \"*.png\" }\nrefuse = 403\n",
    );
    let text = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &text.replacen("[service]", "[service]\ncountries = \"countries.mmdb\"", 1));
    place.write("lamp/tower.png", "png");
    let program = place.serve();
    let from = |client: &str| {
        program.ask("lamp.example", "/", &[("Forwarded", &format!("for={client}"))]).status().as_u16()
    };
    assert_eq!((from("203.0.113.9"), from("\"[2001:db8::7]\""), from("198.51.100.1")), (307, 307, 200));
    let embedded =
        |page: &str| program.ask("lamp.example", "/tower.png", &[("Referer", page)]).status().as_u16();
    assert_eq!((embedded("http://forum.example/1"), embedded("http://lamp.example/")), (403, 200));
    assert_eq!(program.get("lamp.example", "/tower.png").status(), 200);
}

#[test]
fn check_finds_the_listing_nobody_knew_of_and_certificates_that_do_not_fit() {
    let place = Place::new();
    let mut params = rcgen::CertificateParams::new(vec!["other.example".to_owned()]).unwrap();
    params.not_after = rcgen::date_time_ymd(2020, 1, 1);
    let key = rcgen::KeyPair::generate().unwrap();
    place.write("old.pem", &params.self_signed(&key).unwrap().pem());
    place.write("old.key", &key.serialize_pem());
    place.write("lamp/papers/a.txt", "a");
    let check = |more: &str| {
        place.configure(more);
        let output = exedra(&["check", "--config", &text(&place.config())]);
        (output.status.success(), drawn(&output))
    };
    let (well, words) = check("listing = true\n");
    let wanted = [
        "remark: http://lamp.example/papers/ is public",
        "exedra.toml:19:11",
        "^^^^ listing: everything in this folder is shown to whoever asks",
        "= instead: remove `listing = true`, or add an index file, unless this is wanted",
        "Nothing is wrong; 1 remark.",
    ];
    assert!(well && wanted.iter().all(|line| words.contains(line)), "{words}");
    let certificate = "[[certificate]]\nhosts = [\"lamp.example\"]\nchain = \"old.pem\"\nkey = \"old.key\"\n";
    let (well, words) = check(&format!("{SECURED}{certificate}"));
    assert!(!well && words.contains("has ended") && words.contains("is not for `lamp.example`"), "{words}");
    let (well, words) = check(&certificate.replace("old.key", "none.key"));
    assert!(!well && words.contains("cannot be used"), "{words}");
    let output = exedra(&["check", "--config", &text(&place.config()), "--as", "json"]);
    let found: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&found[0]["severity"], &found[0]["line"]), (&"error".into(), &21.into()), "{found}");
    let (well, words) = check("");
    assert!(well && words.contains("Nothing is wrong."), "{words}");
}

#[test]
fn a_certificate_is_obtained_from_an_authority_kept_and_asked_for_once() {
    let place = Place::new();
    let authority = exedra_e2e::authority::Authority::open();
    place.write("authority.pem", &authority.root);
    // Somebody else's address would be asked if the port were any.
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    authority.find_sites_at(&free.to_string());
    place.configure(&format!(
        "https = \"required\"\n{SECURED}[[listener]]\naddress = \"{free}\"\n\
         [authority]\ndirectory = \"{}\"\ncontact = \"office@lindry.example\"\ntrusted = \"authority.pem\"\n\
         [[certificate]]\nhosts = [\"lamp.example\"]\nobtain = \"authority\"\n",
        authority.directory
    ));
    let program = place.serve();
    let chain = place.path("state/certificates/obtained/lamp.example.pem");
    until("the certificate is there", || chain.exists().then_some(()));
    let shown = || {
        let answer = program.ask_secured("lamp.example", "/", &[]);
        answer.extensions().get::<reqwest::tls::TlsInfo>().unwrap().peer_certificate().unwrap().to_vec()
    };
    until("it is shown", || (shown() == der(&chain)).then_some(()));
    assert_eq!(authority.made(), 1);
    let mode = std::os::unix::fs::MetadataExt::mode(&std::fs::metadata(chain.with_extension("key")).unwrap());
    assert_eq!(mode & 0o777, 0o600);
    drop(program);
    let program = place.serve();
    assert_eq!(program.ask_secured("lamp.example", "/", &[]).status(), 200);
    assert_eq!(authority.made(), 1, "what is kept is good for long");
}

/// The first certificate of a file.
fn der(path: &std::path::Path) -> Vec<u8> {
    use rustls_pki_types::pem::PemObject;
    rustls_pki_types::CertificateDer::pem_file_iter(path).unwrap().next().unwrap().unwrap().to_vec()
}

#[test]
fn a_command_of_ones_own_brings_a_certificate() {
    let place = Place::new();
    let made = rcgen::generate_simple_self_signed(vec!["lamp.example".to_owned()]).unwrap();
    place.write("renewed.pem", &made.cert.pem());
    place.write("renewed.key", &made.signing_key.serialize_pem());
    let (from, to) = (text(&place.path("renewed")), text(&place.path("lamp")));
    let command = format!("cp {from}.key {to}.key && cp {from}.pem {to}.pem");
    place.configure(&format!(
        "{SECURED}[[certificate]]\nhosts = [\"lamp.example\"]\nchain = \"lamp.pem\"\nkey = \"lamp.key\"\ncommand = [\"/bin/sh\", \"-c\", {command:?}]\n"
    ));
    let program = place.serve();
    until("it is shown", || {
        let answer = program.ask_secured("lamp.example", "/", &[]);
        let shown =
            answer.extensions().get::<reqwest::tls::TlsInfo>().unwrap().peer_certificate().unwrap().to_vec();
        (shown == made.cert.der().to_vec()).then_some(())
    });
}

#[test]
fn rules_know_where_a_request_came_to_and_what_the_client_is() {
    const PHONE: &str = "Mozilla/5.0 (iPhone; CPU iPhone OS 19_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.1 Mobile/15E148 Safari/604.1";
    let place = Place::new();
    let made =
        rcgen::generate_simple_self_signed(vec!["lamp.example".to_owned(), "l.example".to_owned()]).unwrap();
    place.write("lamp.key", &made.signing_key.serialize_pem());
    place.write("lamp.pem", &made.cert.pem());
    place.configure(&format!(
        "[[site.rules]]\nheaders = {{ X-Came-To = \"{{server_address}} {{server_port}} {{tls_name}} {{certificate}}\" }}\n\
         [[site.rules]]\nwhen = {{ device = \"phone\" }}\nheaders = {{ X-Seen-As = \"{{browser}}, {{system}}\" }}\n\
         [[site.rules]]\nwhen = {{ browser = false }}\nheaders = {{ X-Seen-As = \"a program\" }}\n\
         {SECURED}[[certificate]]\nhosts = [\"lamp.example\"]\nchain = \"lamp.pem\"\nkey = \"lamp.key\"\n"
    ));
    let program = place.serve();
    let port = |address: &str| address.rsplit(':').next().unwrap_or_default().to_owned();
    for _ in 0..2 {
        let plain = program.ask("lamp.example", "/", &[("User-Agent", PHONE)]);
        assert_eq!(field(&plain, "x-came-to").trim(), format!("127.0.0.1 {}", port(&program.sites)));
        assert_eq!(field(&plain, "x-seen-as"), "Mobile Safari, iOS");
        assert_eq!(field(&plain, "vary"), "User-Agent");
        assert_eq!(field(&plain, "cache-control"), "private", "another port may be told otherwise");
        let secured = program.ask_secured("lamp.example", "/", &[("User-Agent", "TideBell/2.1")]);
        let expected = format!("127.0.0.1 {} lamp.example lamp.example", port(&program.secured));
        assert_eq!((field(&secured, "x-came-to"), field(&secured, "x-seen-as")), (&*expected, "a program"));
    }
}

/// Whoever is turned away is told why, and when to come again, also by the built-in pages.
#[test]
fn whoever_is_turned_away_is_told_why_and_when_to_come_again() {
    let place = Place::new();
    place.configure(
        "[[site.rules]]\npath = \"/staff/{*}\"\nlogin = \"staff\"\n\
         [[site.rules]]\npath = \"/slow/{*}\"\nlimit = { requests = \"1 a minute\", at_once = 1 }\n\
         [[realm]]\nname = \"staff\"\ntitle = \"Harbour <office>\"\nusers = \"staff.toml\"\nwithout_https = true\n",
    );
    place.write("lamp/staff/rota.html", "rota");
    place.write("lamp/slow/chart.html", "chart");
    password(&place, "anna", "tide");
    let program = place.serve();
    let asked = program.get("lamp.example", "/staff/rota.html");
    assert_eq!(asked.status(), 401);
    assert!(asked.text().unwrap().contains("A name and a password are needed for “Harbour &lt;office&gt;”."));
    let wrong = program.ask("lamp.example", "/staff/rota.html", &[("Authorization", "Basic YW5uYTplYmI=")]);
    assert_eq!(wrong.status(), 401);
    assert!(wrong.text().unwrap().contains("The name or the password is not right"));
    assert_eq!(program.get("lamp.example", "/slow/chart.html").status(), 200);
    let again = program.get("lamp.example", "/slow/chart.html");
    let seconds: u64 = field(&again, "retry-after").parse().unwrap();
    assert_eq!((again.status().as_u16(), (1..=60).contains(&seconds)), (429, true));
    let page = again.text().unwrap();
    assert!(page.contains("Too many requests from your address. Try again in "), "{page}");
    let problem = program.ask("lamp.example", "/slow/chart.html", &[("Accept", "application/json")]);
    let problem: serde_json::Value = problem.json().unwrap();
    assert!(problem["detail"].as_str().unwrap().contains("Try again in "), "{problem}");
}
