//! The sites' files: those that were written by hand, and those that are made.

use crate::{drawing, paper, sound, tides};
use include_dir::{Dir, include_dir};
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};
use std::fmt::Write as _;
use std::io;
use std::path::Path;

static BY_HAND: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// The configuration, with places for its two addresses.
pub fn configuration() -> &'static str {
    BY_HAND.get_file("exedra.toml").and_then(|file| file.contents_utf8()).unwrap_or_default()
}

/// Registers of the parish, their first years, and how many pages each year has.
pub const REGISTERS: [(&str, i16, usize); 3] =
    [("baptisms", 1821, 7), ("marriages", 1824, 4), ("burials", 1822, 6)];
/// How many years each register covers.
pub const YEARS: i16 = 4;

/// Notices to mariners: the month, a name for the address, and what it is about.
pub const NOTICES: [(i8, &str, &str); 9] = [
    (1, "mole-light", "The light on the north mole"),
    (2, "dredging", "Dredging in the approach"),
    (3, "slip-closed", "The slip is closed for repair"),
    (4, "buoy-seven", "Buoy seven has been moved"),
    (5, "regatta", "The regatta and who gives way"),
    (7, "fuel-berth", "Hours of the fuel berth"),
    (8, "cable", "A cable has been laid to the holm"),
    (10, "winter-watch", "The watch in winter"),
    (11, "storm-moorings", "Moorings when a storm is forecast"),
];

/// Writes all three sites.
pub fn write(folder: &Path, now: i64) -> io::Result<()> {
    let sites = BY_HAND.get_dir("sites").map(Dir::entries).unwrap_or_default();
    write_by_hand(sites, folder)?;
    let today = Timestamp::from_millisecond(now).unwrap_or_default().to_zoned(jiff::tz::TimeZone::UTC).date();
    harbour(&folder.join("harbour"), today)?;
    let lamp = folder.join("lamp");
    std::fs::write(lamp.join("pictures/panorama.png"), drawing::panorama(1200, 420)?)?;
    std::fs::write(lamp.join("audio/tour.wav"), sound::fog_signal(60))?;
    records(&folder.join("records"))
}

fn write_by_hand(entries: &[include_dir::DirEntry<'_>], folder: &Path) -> io::Result<()> {
    for entry in entries {
        let within = entry.path().strip_prefix("sites").unwrap_or(entry.path());
        let path = folder.join(within);
        match entry {
            include_dir::DirEntry::Dir(dir) => {
                std::fs::create_dir_all(&path)?;
                write_by_hand(dir.entries(), folder)?;
            }
            include_dir::DirEntry::File(file) => std::fs::write(&path, file.contents())?,
        }
    }
    Ok(())
}

/// A page in the looks of the Harbour Office, taken from its front page.
fn harbour_page(title: &str, body: &str) -> String {
    let front = BY_HAND
        .get_file("sites/harbour/index.html")
        .and_then(|file| file.contents_utf8())
        .unwrap_or_default();
    let (head, rest) = front.split_once("<main>").unwrap_or(("", ""));
    let foot = rest.split_once("</main>").map_or("", |(_, foot)| foot);
    format!(
        "{}<main>\n<h2>{title}</h2>\n{body}</main>{foot}",
        head.replace("<title>Office", &format!("<title>{title}"))
    )
}

fn harbour(folder: &Path, today: Date) -> io::Result<()> {
    let tides_folder = folder.join("tides");
    std::fs::create_dir_all(&tides_folder)?;
    let mut links = String::from("<ul>\n");
    for ahead in -1..=1 {
        let first = today.first_of_month().saturating_add(ahead.months());
        let (csv, html) = (tides::csv(first), tides::table(first, first.days_in_month().into()));
        let name = first.strftime("%Y-%m").to_string();
        let title = format!("Tides in {}", first.strftime("%B %Y"));
        std::fs::write(tides_folder.join(format!("{name}.csv")), csv)?;
        std::fs::write(tides_folder.join(format!("{name}.html")), harbour_page(&title, &html))?;
        let _ = writeln!(
            links,
            "<li><a href=\"/tides/{name}.html\">{title}</a> (<a href=\"/tides/{name}.csv\">CSV</a>)</li>"
        );
    }
    links.push_str("</ul>\n");
    std::fs::write(tides_folder.join("index.html"), harbour_page("Tide tables", &links))?;
    std::fs::write(tides_folder.join("today.html"), harbour_page("Tides today", &tides::table(today, 3)))?;
    std::fs::write(tides_folder.join("today.csv"), tides::csv(today))?;

    let year = today.year();
    let notices = folder.join("notices").join(year.to_string());
    std::fs::create_dir_all(&notices)?;
    let mut list = String::from("<ul>\n");
    for (number, (month, name, about)) in NOTICES.iter().enumerate() {
        let text = notice(number + 1, year, *month, about);
        std::fs::write(notices.join(format!("{name}.html")), harbour_page(about, &text))?;
        let _ = writeln!(list, "<li><a href=\"/notices/{year}/{name}.html\">{about}</a></li>");
    }
    let _ = writeln!(list, "<li><a href=\"/notices/{year}/all.pdf\">All of {year} (PDF)</a></li>\n</ul>");
    let titles: Vec<&str> = NOTICES.iter().map(|notice| notice.2).collect();
    std::fs::write(
        notices.join("all.pdf"),
        paper::pdf(&format!("Notices to mariners, Port Lindry, {year}"), &titles),
    )?;
    std::fs::write(folder.join("notices/index.html"), harbour_page("Notices to mariners", &list))
}

/// A long page: notices are written by somebody who likes to be exact.
fn notice(number: usize, year: i16, month: i8, about: &str) -> String {
    let mut text = format!(
        "<p class=\"warning\">Notice {number} of {year}, in force from the first of month {month}.</p>\n"
    );
    for paragraph in 1..=14 {
        let depth = 18 + (number * 7 + paragraph * 3) % 25;
        let bearing = (number * 47 + paragraph * 31) % 360;
        let _ = writeln!(
            text,
            "<h3>{number}.{paragraph} {about}</h3>\n<p>Vessels approaching on a bearing of {bearing:03} degrees \
             keep clear by {} cables. The depth here is {}.{} metres at chart datum, surveyed in the spring; it \
             changes after gales from the south-west. Where the leading marks are hidden, the watch gives \
             directions on channel 12, and masters who are in doubt wait outside until there is water enough. \
             Paragraph {paragraph} of notice {number} takes the place of whatever was said of it before.</p>",
            1 + paragraph % 4,
            depth / 10,
            depth % 10
        );
    }
    text
}

fn records(folder: &Path) -> io::Result<()> {
    let mut names = String::from("register,year,page,surname,given name\n");
    for (register, first, pages) in REGISTERS {
        for year in first..first + YEARS {
            let place = folder.join(format!("registers/{register}/{year}"));
            std::fs::create_dir_all(&place)?;
            for page in 1..=pages {
                let drawn = drawing::register_page(register, year, page);
                std::fs::write(place.join(format!("page-{page:02}.svg")), drawn)?;
                for (surname, given) in drawing::entries(register, year, page) {
                    let _ = writeln!(names, "{register},{year},{page},{surname},{given}");
                }
            }
        }
    }
    std::fs::write(folder.join("registers/names.csv"), names)
}
