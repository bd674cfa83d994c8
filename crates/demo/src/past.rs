//! Five weeks of traffic, made by a seeded generator and ending now. The stories in it:
//!
//! - the folder `/mariners/` became `/notices/` twelve days ago, and half of the links still miss it
//! - every night a job takes the tide table away for four minutes
//! - a forum embeds the museum's panorama
//! - a crawler walks the registers again and again
//! - a kiosk fetches one page every second, since three days, for three hours a day
//! - the audio tour is most of what is sent
//! - nine days ago there was a storm, and everybody looked at the tide table

use crate::people;
use crate::town::{NOTICES, REGISTERS, YEARS};
use exedra_answering::config::Compress;
use exedra_answering::encode::{Codec, Effort};
use exedra_answering::media_types::media_type;
use exedra_common::{NumberColumn, TextColumn};
use exedra_reading::logs::{Layout, LogTemplate, LoggedRequest};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};
use std::collections::HashMap;
use std::io;
use std::path::Path;

/// How many days of past there are.
pub const DAYS: i64 = 35;
const SEED: u64 = 0x11d7;
const MINUTE: i64 = 60_000;
const HOUR: i64 = 60 * MINUTE;
const DAY: i64 = 24 * HOUR;
/// How busy each hour of the day is.
const HOURS: [u32; 24] =
    [2, 1, 1, 1, 2, 6, 14, 22, 30, 34, 33, 30, 28, 30, 31, 32, 34, 38, 42, 44, 38, 26, 14, 6];
/// How busy each day of the week is, Thursday (1970-01-01) first.
const WEEK: [f64; 7] = [1.0, 1.15, 1.5, 1.45, 0.9, 0.92, 0.95];

/// Sizes of a file: as it is, and encoded where that is done.
#[derive(Clone, Copy)]
struct Size {
    plain: u64,
    encoded: Option<u64>,
}

/// One request of the past.
struct Request {
    time: i64,
    client: String,
    agent: &'static str,
    path: String,
    referrer: String,
    status: u16,
    method: &'static str,
}

/// Writes the logs of all sites, each on a thread of its own.
pub fn write(sites: &Path, logs: &Path, now: i64) -> io::Result<()> {
    std::thread::scope(|scope| {
        let writers = ["harbour", "lamp", "records"]
            .map(|site| scope.spawn(move || write_site(site, sites, logs, now)));
        let results = writers
            .map(|writer| writer.join().unwrap_or_else(|_| Err(io::Error::other("a thread ended early"))));
        results.into_iter().collect()
    })
}

fn write_site(site: &str, sites: &Path, logs: &Path, now: i64) -> io::Result<()> {
    let mut random = StdRng::seed_from_u64(SEED + site.len() as u64);
    let files = measure(&sites.join(site))?;
    let mut requests = match site {
        "harbour" => harbour(&mut random, now),
        "lamp" => lamp(&mut random, now),
        _ => records(&mut random, now),
    };
    requests.retain(|request| request.time < now);
    requests.sort_by_key(|request| request.time);
    let lines = lines(site, &requests, &files, &mut random);
    std::fs::write(logs.join(format!("{site}.000001.log")), lines)
}

fn measure(folder: &Path) -> io::Result<HashMap<String, Size>> {
    let compress = Compress::default();
    let mut sizes = HashMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(place) = folders.pop() {
        for entry in std::fs::read_dir(&place)? {
            let path = entry?.path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let within = path.strip_prefix(folder).unwrap_or(&path).to_string_lossy().into_owned();
            let content = std::fs::read(&path)?;
            let essence = media_type(&within).essence;
            let encoded = compress.has_type(&essence) && content.len() as u64 >= compress.at_least;
            let encoded =
                encoded.then(|| Codec::Brotli.encode(Effort::Quick, &content).map(|body| body.len() as u64));
            let size = Size { plain: content.len() as u64, encoded: encoded.transpose()? };
            if let Some(folder) = within.strip_suffix("index.html") {
                sizes.insert(format!("/{folder}"), size);
            }
            sizes.insert(format!("/{within}"), size);
        }
    }
    Ok(sizes)
}

fn lines(site: &str, requests: &[Request], files: &HashMap<String, Size>, random: &mut StdRng) -> Vec<u8> {
    let template = Layout::understand("full").map(|layout| LogTemplate::new(&layout));
    let host = format!("{site}.lindry.example");
    let lost = files.get("/errors/lost.html").copied().unwrap_or(Size { plain: 812, encoded: None });
    let built_in = Size { plain: 812, encoded: None };
    let moved = Size { plain: 8_200, encoded: Some(2_400) };
    let listing = Size { plain: 1_900, encoded: None };
    let mut out = Vec::with_capacity(requests.len() * 260);
    for request in requests {
        let path = request.path.split('?').next().unwrap_or_default();
        let size = match request.status {
            304 => Size { plain: 0, encoded: None },
            404 => lost,
            200 if path.ends_with('/') => files.get(path).copied().unwrap_or(listing),
            200 => files.get(path).copied().unwrap_or(moved),
            _ => built_in,
        };
        let programs = [people::BELL, people::PROBE].contains(&request.agent);
        let encoded = size.encoded.filter(|_| !programs);
        let bytes = encoded.unwrap_or(size.plain);
        let given_up = bytes > 1_000_000 && random.random_bool(0.12);
        let bytes = if given_up { random.random_range(10_000..bytes) } else { bytes };
        let slow = 1.0 / random.random_range(0.01f64..1.0);
        let logged = LoggedRequest::new(request.time, request.path.as_bytes())
            .number(NumberColumn::Status, request.status.into())
            .number(NumberColumn::Bytes, bytes)
            .number(NumberColumn::FullBytes, if encoded.is_some() { size.plain } else { bytes })
            .number(NumberColumn::Duration, 90 + (slow * 40.0) as u64 + bytes / 12)
            .text(TextColumn::Client, &request.client)
            .text(TextColumn::Method, request.method)
            .text(TextColumn::Protocol, "HTTP/1.1")
            .text(TextColumn::Referrer, &request.referrer)
            .text(TextColumn::Agent, request.agent)
            .text(TextColumn::Scheme, "http")
            .text(TextColumn::Host, &host)
            .text(TextColumn::Encoding, if encoded.is_some() { "br" } else { "" });
        if let Ok(template) = &template {
            template.write(&logged, &mut out);
        }
    }
    out
}

/// People who come and look around: what they open first, and what then.
struct Visits<'p> {
    site: &'static str,
    a_day: f64,
    assets: &'p [&'p str],
}

impl Visits<'_> {
    fn make(
        &self,
        random: &mut StdRng,
        now: i64,
        mut pages: impl FnMut(i64, &mut StdRng) -> Vec<(String, u16)>,
    ) -> Vec<Request> {
        let mut made = Vec::new();
        for back in (0..=DAYS).rev() {
            let midnight = (now - back * DAY).div_euclid(DAY) * DAY;
            let busy = WEEK[(midnight / DAY).rem_euclid(7) as usize] * random.random_range(0.88..1.12);
            for _ in 0..(self.a_day * busy) as usize {
                let time = midnight + moment(random);
                if time >= now - DAYS * DAY {
                    let seen = pages((now - time) / DAY, random);
                    self.one(random, time, seen, &mut made);
                }
            }
        }
        made
    }

    fn one(&self, random: &mut StdRng, mut time: i64, pages: Vec<(String, u16)>, made: &mut Vec<Request>) {
        let (client, agent) = (people::address(random), people::browser(random));
        let known = random.random_bool(0.35);
        let mut from = if random.random_bool(0.55) {
            people::elsewhere(self.site, random).to_owned()
        } else {
            String::new()
        };
        for (place, (path, status)) in pages.into_iter().enumerate() {
            let here = format!("http://{}.lindry.example{path}", self.site);
            let status = if status == 200 && known && random.random_bool(0.3) { 304 } else { status };
            let page = Request {
                time,
                client: client.clone(),
                agent,
                path,
                referrer: from.clone(),
                status,
                method: "GET",
            };
            made.push(page);
            for asset in self.assets.iter().filter(|_| place == 0) {
                time += random.random_range(20..160);
                let status = if known { 304 } else { 200 };
                let path = (*asset).to_owned();
                made.push(Request {
                    time,
                    client: client.clone(),
                    agent,
                    path,
                    referrer: here.clone(),
                    status,
                    method: "GET",
                });
            }
            // Only pages link to pages; pictures do not.
            if here.ends_with('/') || here.ends_with(".html") {
                from = here;
            }
            time += random.random_range(4_000..140_000);
        }
    }
}

/// A moment of the day, by how busy its hours are, in milliseconds.
fn moment(random: &mut StdRng) -> i64 {
    let mut left = random.random_range(0..HOURS.iter().sum::<u32>());
    for (hour, weight) in HOURS.iter().enumerate() {
        if left < *weight {
            return hour as i64 * HOUR + random.random_range(0..HOUR);
        }
        left -= weight;
    }
    0
}

/// Whether the nightly job has the tide table.
fn is_taken_away(time: i64) -> bool {
    (190..194).contains(&(time.rem_euclid(DAY) / MINUTE))
}

fn tide_table(time: i64) -> u16 {
    if is_taken_away(time) { 404 } else { 200 }
}

fn program(time: i64, client: &str, agent: &'static str, path: &str, status: u16) -> Request {
    let (client, path, referrer) = (client.to_owned(), path.to_owned(), String::new());
    Request { time, client, agent, path, referrer, status, method: "GET" }
}

fn harbour(random: &mut StdRng, now: i64) -> Vec<Request> {
    let year = jiff::Timestamp::from_millisecond(now).unwrap_or_default().strftime("%Y").to_string();
    let visits = Visits { site: "harbour", a_day: 620.0, assets: &["/style.css", "/crest.svg"] };
    let mut made = visits.make(random, now, |back, random| {
        let mut pages = Vec::new();
        if random.random_bool(0.5) {
            pages.push(("/".to_owned(), 200));
        }
        if random.random_bool(0.6) {
            pages.push(("/tides/today.html".to_owned(), 200));
        }
        if random.random_bool(0.35) {
            let (_, name, _) = NOTICES[random.random_range(0..NOTICES.len())];
            let old = random.random_bool(if back >= 12 { 1.0 } else { 0.5 });
            match (old, back >= 12) {
                (true, true) => pages.push((format!("/mariners/{year}/{name}.html"), 200)),
                (true, false) => pages.push((format!("/mariners/{year}/{name}.html"), 404)),
                (false, _) => {
                    pages.push(("/notices/".to_owned(), 200));
                    pages.push((format!("/notices/{year}/{name}.html"), 200));
                }
            }
        }
        if random.random_bool(0.15) {
            pages.push(("/moorings/".to_owned(), 200));
            pages.push(("/moorings/map.svg".to_owned(), 200));
            if random.random_bool(0.3) {
                pages.push(("/mariners/berthing.html".to_owned(), if back >= 12 { 200 } else { 404 }));
            }
        }
        if pages.is_empty() {
            pages.push(("/tides/".to_owned(), 200));
        }
        pages
    });
    // The storm: nine days ago, from the morning on.
    let storm = (now - 9 * DAY).div_euclid(DAY) * DAY;
    for _ in 0..9_000 {
        let time = storm + moment(random).max(5 * HOUR);
        visits.one(random, time, vec![("/tides/today.html".to_owned(), 200)], &mut made);
    }
    for request in made.iter_mut().filter(|request| request.path == "/tides/today.html") {
        if is_taken_away(request.time) {
            request.status = 404;
        }
    }
    for step in 0..DAYS * DAY / (2 * MINUTE) {
        let time = now - DAYS * DAY + step * 2 * MINUTE + random.random_range(0..900);
        made.push(program(time, "192.0.2.61", people::BELL, "/tides/today.html", tide_table(time)));
    }
    // The kiosk: every second, three hours a day, the last three days and until now.
    for back in 0..3 {
        for second in 0..3 * 3600 {
            let time = now - back * DAY - second * 1000 - random.random_range(0..400);
            made.push(program(
                time,
                "203.0.113.77",
                people::KIOSK,
                "/tides/today.html?screen=2",
                tide_table(time),
            ));
        }
    }
    made
}

fn lamp(random: &mut StdRng, now: i64) -> Vec<Request> {
    let rooms = ["lantern", "stair", "keeper", "signal", "kitchen"];
    let visits = Visits { site: "lamp", a_day: 380.0, assets: &["/style.css"] };
    let mut made = visits.make(random, now, |_, random| {
        let mut pages = vec![("/".to_owned(), 200), ("/pictures/panorama.png".to_owned(), 200)];
        for room in rooms.iter().take(random.random_range(0..=5)) {
            pages.push((format!("/rooms/{room}.html"), 200));
            pages.push((format!("/pictures/{room}.svg"), 200));
        }
        if random.random_bool(0.38) {
            pages.push(("/audio/".to_owned(), 200));
            pages.push(("/audio/tour.wav".to_owned(), 200));
        }
        if random.random_bool(0.12) {
            pages.push(("/visit.html".to_owned(), 200));
        }
        pages
    });
    for back in 2..14 {
        let midnight = (now - back * DAY).div_euclid(DAY) * DAY;
        for _ in 0..700 / (1 + (back - 6).abs()) {
            let thread = random.random_range(4100..4104);
            let page = Request {
                time: midnight + moment(random),
                client: people::address(random),
                agent: people::browser(random),
                path: "/pictures/panorama.png".to_owned(),
                referrer: format!("https://boards.saltwater.example/thread/{thread}"),
                status: 200,
                method: "GET",
            };
            made.push(page);
        }
    }
    made
}

fn records(random: &mut StdRng, now: i64) -> Vec<Request> {
    let visits = Visits { site: "records", a_day: 140.0, assets: &["/style.css"] };
    let mut made = visits.make(random, now, |_, random| {
        let (register, first, pages) = REGISTERS[random.random_range(0..REGISTERS.len())];
        let year = first + random.random_range(0..YEARS);
        let folder = format!("/registers/{register}/{year}/");
        let mut seen =
            vec![("/".to_owned(), 200), (format!("/registers/{register}/"), 200), (folder.clone(), 200)];
        for page in 1..=random.random_range(1..=pages) {
            seen.push((format!("{folder}page-{page:02}.svg"), 200));
        }
        seen
    });
    // The crawler: round and round, twice a minute by day and by night.
    let mut walk = vec!["/registers/".to_owned()];
    for (register, first, _) in REGISTERS {
        walk.push(format!("/registers/{register}/"));
        walk.extend((first..first + YEARS).map(|year| format!("/registers/{register}/{year}/")));
    }
    for step in 0..DAYS * DAY / (30_000) {
        let time = now - DAYS * DAY + step * 30_000 + random.random_range(0..3000);
        let path = &walk[step as usize % walk.len()];
        made.push(program(time, "203.0.113.150", people::CRAWLER, path, 200));
    }
    for _ in 0..600 {
        let doors = ["/login.cgi", "/.env", "/backup.zip", "/admin/", "/registers.sql"];
        let door = doors[random.random_range(0..doors.len())];
        let time = now - random.random_range(0..DAYS * DAY);
        made.push(program(
            time,
            &format!("203.0.113.{}", random.random_range(200..212)),
            people::PROBE,
            door,
            404,
        ));
    }
    made
}
