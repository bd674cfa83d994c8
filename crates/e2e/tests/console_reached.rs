//! How the console is reached: by HTTPS where others can hear, and by a stream that tells what happens.

use exedra_e2e::{Place, drawn, exedra, text, until};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;

/// A place whose console answers by HTTPS.
fn secured() -> Place {
    let place = Place::new();
    let config = std::fs::read_to_string(place.config()).unwrap();
    std::fs::write(place.config(), config.replacen("[service]\n", "[service]\nconsole_https = true\n", 1))
        .unwrap();
    place
}

#[test]
fn the_client_of_this_machine_knows_the_certificate_and_nobody_else_is_believed() {
    let place = secured();
    let program = place.serve();
    let config = text(&place.config());
    // What the configuration says of the port is not known to the test: the address is given, and with it the certificate.
    let certificate = place.path("state/certificates/made/localhost.pem");
    let plain = {
        let mut stream = TcpStream::connect(&program.console).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
        stream.write_all(b"GET /api/v1/health HTTP/1.1\r\nHost: localhost\r\n\r\n").unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer
    };
    assert!(
        plain.starts_with("HTTP/1.1 400 ") && plain.contains("write https:// in place of http://"),
        "{plain}"
    );
    let ask = |more: &[&str]| {
        let console = format!("https://{}", program.console);
        exedra(&[&["status", "--config", &config, "--console", &console], more].concat())
    };
    // Nobody has asked for it yet, so the first handshake makes it.
    let refused = ask(&[]);
    assert!(!refused.status.success() && drawn(&refused).contains("--certificate"), "{}", drawn(&refused));
    until("the certificate is made", || certificate.exists().then_some(()));
    let answer = ask(&["--certificate", &text(&certificate)]);
    assert!(answer.status.success() && drawn(&answer).contains("harbour"), "{}", drawn(&answer));
    // Another certificate than the one that is known.
    let other = rcgen::generate_simple_self_signed(["localhost".to_owned()]).unwrap();
    place.write("other.pem", &other.cert.pem());
    let refused = ask(&["--certificate", &text(&place.path("other.pem"))]);
    assert!(drawn(&refused).contains("not the expected one"), "{}", drawn(&refused));
    // A link for a browser is one by HTTPS.
    let link = drawn(&exedra(&["sign-in", "--config", &config]));
    assert!(link.contains("https://"), "{link}");
}

/// On a machine that knows no authority at all, the console on loopback is asked all the same.
#[test]
fn nobody_need_be_trusted_for_plain_http() {
    let place = Place::new();
    let program = place.serve();
    let ask = |console: &str| {
        let output = std::process::Command::new(exedra_e2e::program())
            .args(["status", "--config", &text(&place.config()), "--console", console])
            .env("SSL_CERT_FILE", place.path("none.pem"))
            .env("SSL_CERT_DIR", place.path("none"))
            .output()
            .unwrap();
        drawn(&output)
    };
    assert!(ask(&program.console).contains("harbour"));
    let words = ask(&format!("https://{}", program.console));
    assert!(words.contains("--certificate"), "{words}");
}

#[test]
fn a_stream_tells_what_happens_while_it_does() {
    let place = Place::new();
    let program = place.serve();
    let token = std::fs::read_to_string(place.path("state/client.token")).unwrap();
    let mut stream = TcpStream::connect(&program.console).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let head = format!(
        "GET /api/v1/events?site=harbour HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {token}\r\n\r\n"
    );
    stream.write_all(head.as_bytes()).unwrap();
    let mut heard = String::new();
    let mut hear = |stream: &mut TcpStream, what: &str| {
        let mut block = [0; 4096];
        while !heard.contains(what) {
            let count = stream.read(&mut block).unwrap();
            assert!(count > 0, "the stream ended: {heard}");
            heard.push_str(&String::from_utf8_lossy(&block[..count]));
        }
    };
    hear(&mut stream, "event: now");
    program.get("lamp.example", "/elsewhere").text().unwrap();
    program.get("harbour.example", "/tides/today.html").text().unwrap();
    hear(&mut stream, "event: requests");
    hear(&mut stream, "/tides/today.html");
    let config = std::fs::read_to_string(place.config()).unwrap();
    std::fs::write(place.config(), format!("{config}\n[limits]\nconnections = 77\n")).unwrap();
    drawn(&program.command(&place, &["reload"]));
    hear(&mut stream, "event: configuration");
    // It keeps nobody from stopping.
    program.tell("TERM");
    assert!(program.ended());
    let mut rest = Vec::new();
    stream.read_to_end(&mut rest).unwrap();
    assert!(!heard.contains("/elsewhere"), "what another site was asked");
}
