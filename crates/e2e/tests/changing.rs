//! A service whose configuration changes while requests come in, and how it begins: sockets and privileges.

use exedra_e2e::{Place, Program, Stops, client, drawn, exedra, text, until};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::Command;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

fn reload(place: &Place, program: &Program) -> (bool, String) {
    let config = text(&place.config());
    let output = exedra(&["reload", "--config", &config, "--console", &program.console]);
    (output.status.success(), drawn(&output))
}

#[test]
fn a_log_changes_its_layout_and_its_manner_with_the_configuration_and_every_line_counts_once() {
    let place = Place::new();
    let program = place.serve();
    let lines = |site: &str, nth: usize| {
        place.generations(site).get(nth).map_or(Vec::new(), |path| {
            std::fs::read_to_string(path).unwrap().lines().map(str::to_owned).collect()
        })
    };
    program.get("lamp.example", "/?one");
    // This one began before the change and ends after it: it is written as it would have been.
    let mut slow = TcpStream::connect(&program.sites).unwrap();
    slow.write_all(b"GET /?slow HTTP/1.1\r\nHost: lamp.example\r\nConnection: close\r\n").unwrap();
    let changes = [
        ("layout = \"common\"\n", "/?two"),
        ("layout = \"{time:seconds} {client} {method} {target} {status}\"\nrotate = \"1 MB\"\n", "/?three"),
        ("layout = \"full\"\nkeep = \"2 days\"\n", "/?four"),
    ];
    for (log, target) in changes {
        place.configure(&format!("[site.log]\n{log}"));
        let (well, words) = reload(&place, &program);
        assert!(well && !words.contains("started anew"), "{words}");
        program.get("lamp.example", target);
        program.get("harbour.example", "/");
    }
    slow.write_all(b"\r\n").unwrap();
    assert!(std::io::read_to_string(&mut slow).unwrap().starts_with("HTTP/1.1 200"));
    until("all are recorded", || (program.recorded("lamp") == 5).then_some(()));
    assert_eq!(program.recorded("harbour"), 3);
    assert_eq!(place.generations("harbour").len(), 1, "what does not change goes on");
    assert!(
        lines("lamp", 0)[0].contains("\"GET /?one HTTP/1.1\" 200 ")
            && lines("lamp", 0)[0].contains(" http lamp.example ")
    );
    assert!(lines("lamp", 1)[0].contains("\"GET /?two HTTP/1.1\" 200 "));
    assert!(lines("lamp", 2)[0].ends_with(" 127.0.0.1 GET /?three 200"));
    assert!(
        lines("lamp", 3).iter().any(|line| line.contains("/?four") && line.contains(" http lamp.example "))
    );
    assert_eq!(program.api("status")["sites"][1]["log"]["unread"], 0);

    // The records are made again from the files, each read by its own layout; and a restart goes on in the same file.
    program.tell("TERM");
    assert!(program.ended());
    for file in ["requests.db", "requests.db-wal", "requests.db-shm"] {
        let _ = std::fs::remove_file(place.path("state").join(file));
    }
    let program = place.serve();
    until("all are recorded again", || (program.recorded("lamp") == 5).then_some(()));
    assert_eq!(place.generations("lamp").len(), 4);
}

#[test]
fn a_site_that_goes_and_comes_back_keeps_its_log() {
    let place = Place::new();
    place.write("new/index.html", "new");
    let new = "[[site]]\nname = \"new\"\nhosts = [\"new.example\"]\nfolder = \"new\"\n";
    let program = place.serve();
    for round in 1..3 {
        place.configure(new);
        assert!(reload(&place, &program).0);
        assert_eq!(program.get("new.example", "/").status(), 200);
        place.configure("");
        assert!(reload(&place, &program).0);
        assert_eq!(program.get("new.example", "/").status(), 421);
        until("its line", || (place.log("new").len() == round).then_some(()));
    }
    place.configure(new);
    assert!(reload(&place, &program).0);
    until("its records", || (program.recorded("new") == 2).then_some(()));
}

#[test]
fn a_socket_that_is_handed_over_is_used_and_whoever_waited_on_it_is_answered() {
    let place = Place::new();
    let socket = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    let config = std::fs::read_to_string(place.config()).unwrap();
    let (any, this) =
        ("[[listener]]\naddress = \"127.0.0.1:0\"", format!("[[listener]]\naddress = \"{address}\""));
    assert!(config.contains(any));
    place.write("exedra.toml", &config.replacen(any, &this, 1));
    let mut early = TcpStream::connect(address).unwrap();
    early.write_all(b"GET / HTTP/1.1\r\nHost: lamp.example\r\nConnection: close\r\n\r\n").unwrap();
    // As a service manager does it: the sockets from 3 on, and the process that they are meant for.
    let mut command = Command::new("sh");
    command
        .args(["-c", "export LISTEN_FDS=1 LISTEN_PID=$$; exec \"$0\" \"$@\" 3<&0 </dev/null"])
        .arg(exedra_e2e::program())
        .args(["serve", "--config", &text(&place.config())])
        .stdin(std::os::fd::OwnedFd::from(socket));
    let program = Program::start_as(&mut command, place.path("state"));
    assert_eq!(program.sites, address.to_string());
    assert!(std::io::read_to_string(&mut early).unwrap().starts_with("HTTP/1.1 200"));
    assert_eq!(program.get("lamp.example", "/").status(), 200);
}

#[test]
fn privileges_are_dropped_or_the_start_is_refused() {
    let place = Place::new();
    let config = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &config.replacen("[service]\n", "[service]\nuser = \"nobody\"\n", 1));
    let status = |process: &str| std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let user = |status: String| {
        let line = status.lines().find(|line| line.starts_with("Uid:")).unwrap().to_owned();
        line.split_whitespace().skip(1).map(str::to_owned).collect::<Vec<_>>()
    };
    if user(status("self"))[0] != "0" {
        let refused = exedra(&["serve", "--config", &text(&place.config())]);
        let words = drawn(&refused);
        assert!(!refused.status.success() && words.contains("only root can become another user"), "{words}");
        return;
    }
    let given = Command::new("chown").args(["-R", "nobody"]).arg(place.path("")).status();
    assert!(given.unwrap().success());
    let program = place.serve();
    assert_eq!(program.get("lamp.example", "/").status(), 200);
    let now = user(status(&program.process().to_string()));
    assert!(now.iter().all(|user| user != "0"), "real, effective, saved: {now:?}");
}

#[test]
fn a_changed_configuration_comes_into_force_whole_or_not_at_all_and_can_be_taken_back() {
    let place = Place::new();
    let program = place.serve();
    let sent = |program: &Program| program.get("lamp.example", "/old").status().as_u16();
    assert_eq!(sent(&program), 404);
    place.configure("[[site.rules]]\npath = \"/old\"\nredirect = \"/\"\n");
    let (well, words) = reload(&place, &program);
    assert!(well && words.contains("Revision 2 is in force."), "{words}");
    assert_eq!(sent(&program), 307);
    place.configure("[[site.rules]]\npath = \"/old\"\nredirect = \"/old\"\n");
    let (well, words) = reload(&place, &program);
    assert!(
        !well
            && words.contains("redirect loop")
            && words.contains("Reload refused; the old configuration stays in force."),
        "{words}"
    );
    assert_eq!(sent(&program), 307);
    place.configure("nonsense = 1\n");
    program.tell("HUP");
    // One change comes after the other: when this one has been refused, so has that.
    assert!(!reload(&place, &program).0);
    assert_eq!(sent(&program), 307, "a signal does not bring mistakes into force either");
    // A new site with a folder that is not there yet, then with it; and a listener more.
    place.configure("[[site]]\nname = \"new\"\nhosts = [\"new.example\"]\nfolder = \"new\"\n");
    assert!(!reload(&place, &program).0);
    place.write("new/index.html", "new");
    let (well, words) = reload(&place, &program);
    assert!(well, "{words}");
    assert_eq!(program.get("new.example", "/").text().unwrap(), "new");
    until("its own log", || (place.log("new").len() == 1).then_some(()));
    until("its records", || (program.recorded("new") == 1).then_some(()));
    let config = text(&place.config());
    let listed = drawn(&exedra(&["revisions", "--config", &config, "--console", &program.console]));
    assert!(
        listed.lines().count() == 4 && listed.contains("    3  ") && listed.contains("in force"),
        "{listed}"
    );
    let output = exedra(&["restore", "2", "--config", &config, "--console", &program.console]);
    assert!(output.status.success(), "{}", drawn(&output));
    assert_eq!((sent(&program), program.get("new.example", "/").status().as_u16()), (307, 421));
    assert!(std::fs::read_to_string(place.config()).unwrap().contains("redirect = \"/\""));
    assert!(!exedra(&["restore", "99", "--config", &config, "--console", &program.console]).status.success());
}

#[test]
fn a_revision_comes_back_through_a_link_with_the_mode_of_the_file_from_wherever_it_is_asked_for() {
    use std::os::unix::fs::PermissionsExt;
    let place = Place::new();
    let real = place.path("real.toml");
    std::fs::rename(place.config(), &real).unwrap();
    std::os::unix::fs::symlink("real.toml", place.config()).unwrap();
    std::fs::set_permissions(&real, std::fs::Permissions::from_mode(0o640)).unwrap();
    // By a name that means something only where the service was started.
    let mut command = std::process::Command::new(exedra_e2e::program());
    command.args(["serve", "--config", "exedra.toml"]).current_dir(place.folder.path());
    let program = exedra_e2e::Program::start_as(&mut command, place.path("state"));
    let before = std::fs::read_to_string(&real).unwrap();
    let refuse = "[[site.rules]]\npath = \"/{*}\"\nrefuse = 403\n";
    std::fs::write(&real, format!("{before}{refuse}")).unwrap();
    assert!(reload(&place, &program).0);
    assert_eq!(program.get("lamp.example", "/").status(), 403);
    let config = text(&place.config());
    let output = exedra(&["restore", "1", "--config", &config, "--console", &program.console]);
    assert!(output.status.success(), "{}", drawn(&output));
    assert_eq!(program.get("lamp.example", "/").status(), 200);
    assert!(place.config().is_symlink() && std::fs::read_to_string(&real).unwrap() == before);
    assert_eq!(std::fs::metadata(&real).unwrap().permissions().mode() & 0o777, 0o640);
}

#[test]
fn listeners_come_and_go_while_the_others_keep_their_sockets() {
    let place = Place::new();
    let program = place.serve();
    let mut kept = TcpStream::connect(&program.sites).unwrap();
    let ask = |socket: &mut TcpStream| {
        socket.write_all(b"GET / HTTP/1.1\r\nHost: lamp.example\r\n\r\n").unwrap();
        let mut octets = [0; 15];
        socket.read_exact(&mut octets).unwrap();
        let mut rest = vec![0; 4096];
        let _ = socket.read(&mut rest).unwrap();
        octets == *b"HTTP/1.1 200 OK"
    };
    assert!(ask(&mut kept));
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    place.configure(&format!("[[listener]]\naddress = \"{free}\"\n"));
    let (well, words) = reload(&place, &program);
    assert!(well, "{words}");
    assert!(ask(&mut kept), "the connection goes on");
    let mut fresh = TcpStream::connect(free).unwrap();
    assert!(ask(&mut fresh));
    place.configure("");
    assert!(reload(&place, &program).0);
    until("the listener is closed", || TcpStream::connect(free).is_err().then_some(()));
    assert!(ask(&mut kept) && ask(&mut fresh), "who is inside stays");
    assert_eq!(program.get("lamp.example", "/").status(), 200);
}

/// Open descriptors of a process, and its resident memory in bytes.
fn held(program: &Program) -> (usize, u64) {
    let files = std::fs::read_dir(format!("/proc/{}/fd", program.process())).unwrap().count();
    (files, program.resident())
}

#[test]
fn reloading_again_and_again_under_load_fails_no_request_and_leaks_nothing() {
    let times: u64 = std::env::var("EXEDRA_RELOADS").ok().and_then(|text| text.parse().ok()).unwrap_or(60);
    const LIMITS: &str = "[limits]\nrequests = 1000000000\n";
    let place = Place::new();
    place.configure(LIMITS);
    let program = place.serve();
    let done = AtomicBool::new(false);
    let (asked, failed) = (AtomicU64::new(0), AtomicU64::new(0));
    let mut before = (0, 0);
    std::thread::scope(|scope| {
        for worker in 0..4 {
            let (program, done, asked, failed) = (&program, &done, &asked, &failed);
            scope.spawn(move || {
                let client = client();
                let path = ["/", "/tides/today.html", "/notes.txt", "/nowhere"][worker];
                let expected = if worker == 3 { 404 } else { 200 };
                // Connections of its own, kept for as long as it goes: none may be dropped.
                let mut socket = TcpStream::connect(&program.sites).unwrap();
                while !done.load(Ordering::SeqCst) {
                    let url = format!("http://{}{path}", program.sites);
                    let well = client.get(url).header("Host", "harbour.example").send();
                    let well = well.is_ok_and(|answer| answer.status() == expected && answer.bytes().is_ok());
                    failed.fetch_add(u64::from(!well), Ordering::SeqCst);
                    asked.fetch_add(1, Ordering::SeqCst);
                    socket.write_all(b"GET /notes.txt HTTP/1.1\r\nHost: harbour.example\r\n\r\n").unwrap();
                    let mut octets = Vec::new();
                    while !octets.ends_with(b"short") {
                        let mut some = [0; 1024];
                        let read = socket.read(&mut some).unwrap_or(0);
                        assert!(read > 0, "a connection was dropped");
                        octets.extend_from_slice(&some[..read]);
                    }
                }
            });
        }
        let stops = Stops(&done);
        for number in 0..times {
            // The same site by other settings each time.
            let rule = format!("[[site.rules]]\npath = \"/never/{number}\"\ngone = true\n");
            let compress = format!("[site.compress]\nat_least = \"{} bytes\"\n", 300 + number % 7);
            place.configure(&format!("{rule}{compress}{LIMITS}"));
            let (well, words) = reload(&place, &program);
            assert!(well, "{words}");
            if number == 9 {
                before = held(&program);
            }
        }
        let after = until("everything old is let go", || {
            let now = held(&program);
            (now.0 <= before.0 + 8).then_some(now)
        });
        assert!(after.1 < before.1 + (24 << 20), "{} bytes, after {} at first", after.1, before.1);
        drop(stops);
    });
    assert_eq!(failed.load(Ordering::SeqCst), 0, "of {}", asked.load(Ordering::SeqCst));
    assert!(asked.load(Ordering::SeqCst) > times);
}

/// What a configuration opens may lie where opening takes its time: whoever is there meanwhile is served, and asks in vain for
/// nothing.
#[test]
fn a_change_that_waits_for_the_disk_keeps_nobody_waiting() {
    let place = Place::new();
    let program = place.serve();
    let countries = exedra_demo::countries::made(&[("203.0.113.0".parse().unwrap(), 24, "FO")]);
    let pipe = |name: &str| {
        assert!(Command::new("mkfifo").arg(place.path(name)).status().unwrap().success());
    };
    pipe("countries.mmdb");
    let into = || std::fs::File::options().write(true).open(place.path("countries.mmdb")).unwrap();
    let own = std::fs::read_to_string(place.config()).unwrap();
    place.write("exedra.toml", &own.replace("[service]\n", "[service]\ncountries = \"countries.mmdb\"\n"));
    std::thread::scope(|scope| {
        let changing = scope.spawn(|| reload(&place, &program));
        // It is read once to be checked, and then to come into force: there it waits for us, at another pipe.
        let mut first = into();
        pipe("next.mmdb");
        std::fs::rename(place.path("next.mmdb"), place.path("countries.mmdb")).unwrap();
        first.write_all(&countries).unwrap();
        drop(first);
        let mut second = into();
        assert_eq!(program.get("lamp.example", "/").status(), 200);
        assert_eq!(program.api("status")["sites"].as_array().unwrap().len(), 2);
        assert!(program.ask("harbour.example", "/tides/today.html", &[]).status().is_success());
        assert!(!changing.is_finished());
        second.write_all(&countries).unwrap();
        drop(second);
        let (is_in_force, said) = changing.join().unwrap();
        assert!(is_in_force, "{said}");
    });
}
