//! One made data set of requests, and the parts of lines that are made of it.

use jiff::{Timestamp, tz::TimeZone};
use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};

/// A request of the data set.
#[derive(Debug, Clone)]
pub struct Request {
    /// Milliseconds since 1970 UTC.
    pub time: i64,
    pub client: String,
    pub method: &'static str,
    pub path: String,
    pub query: Option<String>,
    pub status: u16,
    pub bytes: u64,
    /// Microseconds.
    pub duration: u64,
    pub referrer: &'static str,
    pub agent: &'static str,
    pub user: &'static str,
    pub host: &'static str,
}

/// When the data set ends.
pub const LAST: i64 = 1_794_873_540_000;

/// Four days of requests, the same whenever they are made.
pub fn requests() -> Vec<Request> {
    let mut random = StdRng::seed_from_u64(15);
    let mut all = Vec::new();
    for nth in 0..900_i64 {
        let page = random.random_range(0..24_u64);
        let path = match page {
            0 => "/".to_owned(),
            1..6 => format!("/tides/week-{page}.html"),
            6..12 => format!("/notices/{page}/berths.pdf"),
            12..20 => format!("/style/part-{page}.css"),
            _ => format!("/rooms/{page}/"),
        };
        let status = [200, 200, 200, 200, 304, 404, 301, 503][random.random_range(0..8)];
        let bytes = match status {
            304 => 0,
            404 => 612,
            301 | 503 => 170,
            _ => 700 + page * 1_913,
        };
        let client = match random.random_range(0..9) {
            0 => format!("2001:db8:7::{:x}", random.random_range(1..30)),
            _ => format!("198.51.100.{}", random.random_range(1..120)),
        };
        let duration = match random.random_range(0..20) {
            0 => random.random_range(1_000..3_000) * 1_000,
            _ => random.random_range(1..90) * 1_000,
        };
        all.push(Request {
            time: LAST - (900 - nth) * 345_111,
            client,
            method: ["GET", "GET", "GET", "HEAD", "POST"][random.random_range(0..5)],
            path,
            query: (random.random_range(0..4) == 0).then(|| format!("week={}", random.random_range(1..50))),
            status,
            bytes,
            duration,
            referrer: ["-", "-", "https://pilots.saltwater.example/links", "https://harbour.lindry.example/"]
                [random.random_range(0..4)],
            agent: [
                "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0",
                "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/141.0.0.0 Safari/537.36",
                "LeafTurner/2.1 (+https://leaf.example/bot)",
            ][random.random_range(0..3)],
            user: ["-", "-", "-", "-", "ann"][random.random_range(0..5)],
            host: ["harbour.lindry.example", "lamp.lindry.example"][random.random_range(0..2)],
        });
    }
    all
}

impl Request {
    pub fn target(&self) -> String {
        match &self.query {
            Some(query) => format!("{}?{query}", self.path),
            None => self.path.clone(),
        }
    }

    pub fn at(&self, codes: &str) -> String {
        Timestamp::from_millisecond(self.time).unwrap().to_zoned(TimeZone::UTC).strftime(codes).to_string()
    }

    pub fn line(&self) -> String {
        format!("{} {} HTTP/1.1", self.method, self.target())
    }

    pub fn milliseconds(&self) -> u64 {
        self.duration / 1_000
    }

    pub fn seconds(&self) -> String {
        format!("{}.{:03}", self.duration / 1_000_000, self.duration / 1_000 % 1_000)
    }

    /// Up to the size, as the commonest layout has it.
    pub fn common(&self) -> String {
        let (client, user, time) = (&self.client, self.user, self.at("%d/%b/%Y:%H:%M:%S +0000"));
        format!("{client} - {user} [{time}] \"{}\" {} {}", self.line(), self.status, self.bytes)
    }

    pub fn combined(&self) -> String {
        format!("{} \"{}\" \"{}\"", self.common(), self.referrer, self.agent)
    }

    pub fn quoted_client(&self) -> String {
        format!("\"{}\"", self.client)
    }

    /// With a port, as an address of IPv6 has it too.
    pub fn with_port(&self) -> String {
        match self.client.contains(':') {
            true => format!("[{}]:{}", self.client, 32_000 + self.time % 20_000),
            false => format!("{}:{}", self.client, 32_000 + self.time % 20_000),
        }
    }
}
