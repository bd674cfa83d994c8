//! Who asks, with what: addresses of the documentation ranges, browsers of ordinary shape, programs that we
//! made up.

use rand::RngExt;
use rand::rngs::StdRng;

/// Browsers, with how common each is.
const BROWSERS: [(&str, u32); 8] = [
    (
        "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/149.0.0.0 Safari/537.36",
        30,
    ),
    (
        "Mozilla/5.0 (iPhone; CPU iPhone OS 19_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.1 Mobile/15E148 Safari/604.1",
        24,
    ),
    (
        "Mozilla/5.0 (Linux; Android 16; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/149.0.0.0 Mobile Safari/537.36",
        20,
    ),
    (
        "Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.1 Safari/605.1.15",
        9,
    ),
    ("Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:146.0) Gecko/20100101 Firefox/146.0", 8),
    ("Mozilla/5.0 (X11; Linux x86_64; rv:146.0) Gecko/20100101 Firefox/146.0", 4),
    (
        "Mozilla/5.0 (iPad; CPU OS 19_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.1 Mobile/15E148 Safari/604.1",
        3,
    ),
    (
        "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/149.0.0.0 Safari/537.36 Edg/149.0.0.0",
        2,
    ),
];

/// The bell on the quay that fetches the tide table.
pub const BELL: &str = "TideBell/2.1";
/// The kiosk in the ferry hall.
pub const KIOSK: &str = "LindryKiosk/1.2";
/// The crawler that cannot let go of the registers.
pub const CRAWLER: &str = "LeafTurner/0.9 (+https://leafturner.example/about)";
/// Something that tries doors.
pub const PROBE: &str = "curious/1.0";

/// A browser, the common ones more often.
pub fn browser(random: &mut StdRng) -> &'static str {
    let all: u32 = BROWSERS.iter().map(|(_, weight)| weight).sum();
    let mut left = random.random_range(0..all);
    for (agent, weight) in BROWSERS {
        if left < weight {
            return agent;
        }
        left -= weight;
    }
    BROWSERS[0].0
}

/// An address: some come often, most only once.
pub fn address(random: &mut StdRng) -> String {
    let often = random.random_range(0.0f64..1.0).powi(3);
    match random.random_range(0..100) {
        0..30 => format!("192.0.2.{}", 1 + (often * 250.0) as u32),
        30..50 => format!("198.51.100.{}", 1 + (often * 250.0) as u32),
        50..58 => format!("2001:db8:{:x}::{:x}", (often * 900.0) as u32, random.random_range(1..40)),
        _ => format!(
            "198.{}.{}.{}",
            18 + random.random_range(0..2),
            (often * 255.0) as u32,
            random.random_range(1..255)
        ),
    }
}

/// Pages elsewhere that link to a site.
pub fn elsewhere(site: &str, random: &mut StdRng) -> &'static str {
    let pages: &[&str] = match site {
        "harbour" => &[
            "https://search.example/?q=port+lindry+tides",
            "https://pilots.saltwater.example/links",
            "https://weather.example/coast/lindry",
        ],
        "lamp" => &[
            "https://search.example/?q=lighthouse+museum",
            "https://daysout.example/port-lindry",
            "https://schools.example/trips",
        ],
        _ => &[
            "https://search.example/?q=parish+records+lindry",
            "https://family-trees.example/help/registers",
        ],
    };
    pages[random.random_range(0..pages.len())]
}
