//! The live view on the terminal: above how much, then who, what, what fails and for whom; below the keys.
//!
//! Colour is never the only sign: what fails has a row of its own, what is chosen is reversed, what repeats has a mark.

use super::state::{List, Over, State, Who};
use crate::show::fit::shorten;
use exedra_common::figures::{bytes, grouped, share};
use exedra_common::tables::{Cell, Table};
use exedra_common::text::clean_value;
use exedra_reading::live::Picture;
use exedra_reading::survey::Measure;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Clear, Paragraph, Wrap};
use std::collections::HashMap;
use unicode_width::UnicodeWidthStr;

/// The eighths of a letter's height.
const BARS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// Width of what stands before the picture over time.
const BESIDE: u16 = 12;
/// Widths of the figures of a row.
const FIGURE: usize = 8;
/// Letters that some words need.
const FEW_WORDS: usize = 14;
/// Below this nothing can be read.
const SMALLEST: (u16, u16) = (40, 12);
/// Rows above and below the lists.
const ABOVE: u16 = 7;

/// What is drawn beside the picture itself.
pub struct Around<'a> {
    /// What is watched.
    pub title: &'a str,
    /// Whose clock is shown.
    pub zone: &'a TimeZone,
    /// The present, in milliseconds since 1970 UTC.
    pub now: i64,
    /// What there is to say.
    pub remark: Option<&'a str>,
    /// How much of the month's allowance is used.
    pub allowance: Option<&'a str>,
    /// Why requests failed lately, by path, where that is known.
    pub causes: &'a HashMap<String, String>,
    /// Whether colours may be used.
    pub has_colour: bool,
    /// When the newest request came in.
    pub newest: Option<i64>,
    /// Whether everything that was there at the beginning has been read.
    pub has_begun: bool,
}

/// How many rows a list has, and into how many parts time is cut, on a terminal of a size.
pub fn room(width: u16, height: u16) -> (usize, usize) {
    let lists = height.saturating_sub(ABOVE + 1) / 2;
    (usize::from(lists.saturating_sub(2)).max(1), usize::from(width.saturating_sub(BESIDE)).max(1))
}

/// Draws it.
pub fn draw(frame: &mut Frame<'_>, state: &State, picture: &Picture, around: &Around<'_>) {
    let area = frame.area();
    if area.width < SMALLEST.0 || area.height < SMALLEST.1 {
        let words = format!("At least {} columns and {} rows are needed.", SMALLEST.0, SMALLEST.1);
        return frame.render_widget(Paragraph::new(words).wrap(Wrap { trim: true }), area);
    }
    let [head, figures, time, chips, upper, lower, foot] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(1),
        Constraint::Length(4),
        Constraint::Length(1),
        Constraint::Fill(1),
        Constraint::Fill(1),
        Constraint::Length(1),
    ])
    .areas(area);
    frame.render_widget(heading(state, picture, around, head.width), head);
    frame.render_widget(Paragraph::new(sums(picture, around)), figures);
    over_time(frame, picture, around, time);
    frame.render_widget(Paragraph::new(filters(state, picture, around)), chips);
    let halves = |area| {
        Layout::horizontal([Constraint::Fill(1), Constraint::Length(1), Constraint::Fill(1)]).areas(area)
    };
    let [one, _, two]: [Rect; 3] = halves(upper);
    let [three, _, four]: [Rect; 3] = halves(lower);
    for (list, area) in List::ALL.into_iter().zip([one, two, three, four]) {
        draw_list(frame, list, state, picture, around, area);
    }
    frame.render_widget(Paragraph::new(keys(area.width)).style(quiet()), foot);
    match &state.over {
        Over::Nothing => {}
        Over::Help => help(frame, area),
        Over::Whole(text) => {
            let cause = around.causes.get(text).map_or(String::new(), |cause| format!(" · {cause}"));
            whole(frame, &format!("{text}{cause}"), area);
        }
        Over::Requests(table, at) => requests(frame, table, *at, around, area),
    }
}

fn quiet() -> Style {
    Style::new().add_modifier(Modifier::DIM)
}

fn strong() -> Style {
    Style::new().add_modifier(Modifier::BOLD)
}

/// A style with a colour, where there are any.
fn coloured(around: &Around<'_>, colour: Color) -> Style {
    if around.has_colour { Style::new().fg(colour) } else { Style::new() }
}

fn clock(time: i64, zone: &TimeZone) -> String {
    let stamp = Timestamp::from_millisecond(time).unwrap_or_default();
    stamp.to_zoned(zone.clone()).strftime("%H:%M:%S").to_string()
}

fn heading(state: &State, picture: &Picture, around: &Around<'_>, width: u16) -> Paragraph<'static> {
    let who = match state.who {
        Who::Everybody => "everybody",
        Who::People => "people",
        Who::Crawlers => "crawlers",
    };
    let by = if state.by == Measure::Bytes { "bytes" } else { "requests" };
    let minutes = match state.minutes() {
        1 => "minute".to_owned(),
        60 => "hour".to_owned(),
        minutes => format!("{minutes} minutes"),
    };
    let (from, until) = picture.stretch;
    let stretch = match state.paused {
        None => format!("last {minutes}"),
        Some(_) => format!("{} – {}", clock(from, around.zone), clock(until - 1, around.zone)),
    };
    let at = match state.paused {
        None => clock(around.now, around.zone),
        Some(_) => "PAUSED".to_owned(),
    };
    let rest = format!(" · {stretch} · {who} · by {by}");
    let title = shorten(around.title, usize::from(width).saturating_sub(rest.width() + at.len() + 2).max(8));
    let gap = usize::from(width).saturating_sub(title.width() + rest.width() + at.len());
    let mark = if state.paused.is_some() { strong().add_modifier(Modifier::REVERSED) } else { strong() };
    Paragraph::new(Line::from(vec![
        Span::styled(title, strong()),
        Span::raw(rest),
        Span::raw(" ".repeat(gap)),
        Span::styled(at, mark),
    ]))
}

fn sums(picture: &Picture, around: &Around<'_>) -> Line<'static> {
    let seconds = ((picture.stretch.1 - picture.stretch.0) as f64 / 1000.0).max(1.0);
    let rate = |of: u64| of as f64 / seconds;
    let each = |rate: f64| if rate < 100.0 { format!("{rate:.1}") } else { grouped(rate.round() as u64) };
    let [_, _, _, _, wrong, failed] = picture.classes;
    let of_all = |part| share(part, picture.requests);
    let colour = |part: u64, colour| if part > 0 { coloured(around, colour) } else { Style::new() };
    Line::from(vec![
        Span::styled(grouped(picture.requests), strong()),
        Span::raw(format!(" requests, {} a second · ", each(rate(picture.requests)))),
        Span::styled(bytes(picture.bytes), strong()),
        Span::raw(format!(" · {} clients · ", grouped(picture.client_count))),
        Span::styled(format!("4xx {}", of_all(wrong)), colour(wrong, Color::Yellow)),
        Span::raw(" · "),
        Span::styled(format!("5xx {}", of_all(failed)), colour(failed, Color::Red)),
    ])
}

/// Requests over time in three rows, and what failed of them in a fourth; each with its own scale, which is named.
fn over_time(frame: &mut Frame<'_>, picture: &Picture, around: &Around<'_>, area: Rect) {
    let all: Vec<u64> = picture.parts.iter().map(|classes| classes.iter().sum()).collect();
    let wrong: Vec<u64> = picture.parts.iter().map(|classes| classes[4] + classes[5]).collect();
    let most = |values: &[u64]| values.iter().copied().max().unwrap_or(0).max(1);
    let seconds = (picture.stretch.1 - picture.stretch.0) as f64 / 1000.0 / picture.parts.len().max(1) as f64;
    let scale = |most: u64| {
        let rate = most as f64 / seconds.max(0.001);
        if rate < 10.0 { format!("{rate:.1}/s") } else { format!("{}/s", grouped(rate.round() as u64)) }
    };
    let row = |values: &[u64], most: u64, rows: u64, nth: u64| -> String {
        let eighth = |value: u64| {
            // What there is is seen, however little.
            let eighths = (value * rows * 8).div_ceil(most);
            BARS[eighths.saturating_sub((rows - 1 - nth) * 8).min(8) as usize]
        };
        values.iter().map(|value| eighth(*value)).collect()
    };
    let (top, top_wrong) = (most(&all), most(&wrong));
    let label = |text: &str| Span::styled(format!("{text:>0$} ", usize::from(BESIDE) - 1), quiet());
    let mut lines: Vec<Line<'_>> = (0..3)
        .map(|nth| {
            let text = match nth {
                0 => scale(top),
                2 => "requests".to_owned(),
                _ => String::new(),
            };
            Line::from(vec![
                label(&text),
                Span::styled(row(&all, top, 3, nth), coloured(around, Color::Cyan)),
            ])
        })
        .collect();
    let has_failed = wrong.iter().any(|value| *value > 0);
    let text = if has_failed { format!("4/5xx {}", scale(top_wrong)) } else { "4/5xx".to_owned() };
    let text = shorten(&text, usize::from(BESIDE) - 1);
    lines.push(Line::from(vec![
        label(&text),
        Span::styled(row(&wrong, top_wrong, 1, 0), coloured(around, Color::Red)),
    ]));
    frame.render_widget(Paragraph::new(lines), area);
}

/// The filters, or what is to be said of the figures.
fn filters(state: &State, picture: &Picture, around: &Around<'_>) -> Line<'static> {
    let mut spans = Vec::new();
    for filter in state.filters() {
        let style = strong().add_modifier(Modifier::REVERSED);
        spans.push(Span::styled(format!(" {} ", clean_value(&filter)), style));
        spans.push(Span::raw(" "));
    }
    let words = match (around.remark, around.newest) {
        (Some(remark), _) => Some(clean_value(remark).into_owned()),
        (None, _) if !around.has_begun => Some("reading what is there …".to_owned()),
        (None, None) => Some("no request has come in yet".to_owned()),
        (None, Some(newest)) if picture.tried == 0 => Some(format!(
            "no request in this stretch; the newest is of {}: Space or ← looks back",
            clock(newest, around.zone)
        )),
        _ if picture.requests == 0 => {
            Some(format!("none of {} requests fits: Esc goes back", grouped(picture.tried)))
        }
        _ if picture.is_cut => Some("the earlier part of this stretch is no longer kept".to_owned()),
        _ => None,
    };
    match words {
        Some(words) => {
            let style = if around.remark.is_some() { coloured(around, Color::Yellow) } else { Style::new() };
            spans.push(Span::styled(words, style));
        }
        None if spans.is_empty() => spans.push(Span::styled("no filter: Enter narrows by a row", quiet())),
        None => {}
    }
    if let Some(allowance) = around.allowance.filter(|_| around.remark.is_none()) {
        spans.push(Span::styled(format!(" · {}", clean_value(allowance)), quiet()));
    }
    Line::from(spans)
}

fn draw_list(
    frame: &mut Frame<'_>,
    list: List,
    state: &State,
    picture: &Picture,
    around: &Around<'_>,
    area: Rect,
) {
    let table = list.of(picture);
    let is_meant = state.list == list;
    let [head, body] = Layout::vertical([Constraint::Length(1), Constraint::Fill(1)]).areas(area);
    let rows = usize::from(body.height);
    let width = usize::from(area.width);
    // Figures that do not fit beside a text of some length give way, the last first.
    let mut figures: Vec<usize> =
        (1..table.columns.len()).filter(|place| table.columns[*place].name != "repeats").collect();
    // The cause says more than that a rule had a say.
    if list == List::FailingPaths && !around.causes.is_empty() {
        figures.retain(|place| table.columns[*place].name != "rule");
    }
    let taken = |figures: &[usize]| figures.iter().map(|place| wide(table, *place) + 1).sum::<usize>();
    while figures.len() > 1 && taken(&figures) + 16 > width {
        figures.pop();
    }
    let key = width.saturating_sub(taken(&figures));
    let title = format!("{}{}", if is_meant { "▸ " } else { "" }, table.title);
    let style = if is_meant { strong().add_modifier(Modifier::UNDERLINED) } else { strong() };
    let mut spans =
        vec![Span::styled(format!("{}{}", title, " ".repeat(key.saturating_sub(title.width()))), style)];
    for place in &figures {
        spans.push(Span::styled(
            format!(" {:>1$}", table.columns[*place].title, wide(table, *place)),
            quiet(),
        ));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), head);
    if table.rows.is_empty() {
        let words = match list {
            List::Who | List::What => "no requests",
            List::FailingPaths | List::FailingClients => "nothing has failed",
        };
        frame.render_widget(Paragraph::new(words).style(quiet()), body);
        return;
    }
    // The row that is meant stays in sight.
    let first = if is_meant { (state.row + 1).saturating_sub(rows) } else { 0 };
    let lines = table.rows.iter().enumerate().skip(first).take(rows).map(|(nth, row)| {
        let repeats = table.place("repeats").is_some_and(|place| row[place] != Cell::Nothing);
        let mark = if repeats { "↻ " } else { "" };
        let text = row[0].as_text().unwrap_or_default();
        let cause = around.causes.get(text).filter(|_| list == List::FailingPaths);
        let text = format!("{mark}{}", shorten(text, key.saturating_sub(mark.width())));
        let room = key.saturating_sub(text.width());
        // Why it fails stands behind it where there is room for some words; `w` says all of it.
        let cause = cause.filter(|_| room >= FEW_WORDS).map(|cause| shorten(&clean_value(cause), room - 3));
        let cause = cause.map_or(String::new(), |cause| format!(" · {cause}"));
        let rest = " ".repeat(room.saturating_sub(cause.width()));
        let mut spans = vec![Span::raw(text), Span::styled(cause, quiet()), Span::raw(rest)];
        for place in &figures {
            let figure = figure(table, row, *place);
            let is_wrong = row[*place].as_u64().is_some_and(|count| count > 0);
            let style = match table.columns[*place].name.as_str() {
                "failed" if is_wrong => coloured(around, Color::Red),
                "wrong" if is_wrong => coloured(around, Color::Yellow),
                _ => Style::new(),
            };
            spans.push(Span::styled(format!(" {figure:>0$}", wide(table, *place)), style));
        }
        let line = Line::from(spans);
        if is_meant && nth == state.row {
            line.style(Style::new().add_modifier(Modifier::REVERSED))
        } else {
            line
        }
    });
    frame.render_widget(Paragraph::new(lines.collect::<Vec<_>>()), body);
}

/// How wide a column of figures is.
fn wide(table: &Table, place: usize) -> usize {
    match table.columns[place].name.as_str() {
        "rule" => 14,
        "wrong" | "failed" => 6,
        "last_minute" => 11,
        _ => FIGURE.max(table.columns[place].title.width()),
    }
}

fn figure(table: &Table, row: &[Cell], place: usize) -> String {
    match (&row[place], table.columns[place].name.as_str()) {
        (Cell::Number(number), "bytes") => bytes(*number),
        (Cell::Number(0), "wrong" | "failed") => "–".to_owned(),
        (Cell::Number(number), _) => grouped(*number),
        (Cell::Text(text), _) => shorten(text, wide(table, place)),
        _ => String::new(),
    }
}

/// The keys that are used most, as many as there is room for.
fn keys(width: u16) -> String {
    const ALL: [&str; 9] = [
        "? help",
        "q quit",
        "Tab list",
        "↑↓ row",
        "Enter narrow",
        "x leave out",
        "Esc back",
        "Space pause",
        "t requests",
    ];
    let mut line = String::new();
    for key in ALL {
        let gap = if line.is_empty() { "" } else { "  " };
        if line.width() + gap.len() + key.width() > usize::from(width) {
            break;
        }
        line += gap;
        line += key;
    }
    line
}

/// An empty window in the middle.
fn window(frame: &mut Frame<'_>, title: &str, area: Rect, width: u16, height: u16) -> Rect {
    let (width, height) = (width.min(area.width), height.min(area.height));
    let window =
        Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height };
    frame.render_widget(Clear, window);
    let block = Block::new().borders(Borders::ALL).title(format!(" {title} "));
    let inner = block.inner(window);
    frame.render_widget(block, window);
    inner
}

fn help(frame: &mut Frame<'_>, area: Rect) {
    const KEYS: [(&str, &str); 17] = [
        ("Tab, Shift-Tab", "the next list, the one before"),
        ("↑ ↓ Home End", "a row of it"),
        ("Enter", "narrow everything to this row"),
        ("x", "leave this row out"),
        ("f", "only what failed (4xx and 5xx), and back"),
        ("Esc", "take the last filter away"),
        ("p", "everybody, people, crawlers"),
        ("m", "rank by requests or by bytes"),
        ("+ -", "a longer stretch, a shorter one"),
        ("Space", "pause, and go on"),
        ("← →", "look back, and forth again"),
        ("t", "the requests behind this row, one by one"),
        ("w", "the whole of a text that was cut"),
        ("Ctrl-Z", "suspend"),
        ("q, Ctrl-C", "end"),
        ("", ""),
        ("↻", "asks for the same again and again"),
    ];
    let inner = window(frame, "Keys", area, 60, KEYS.len() as u16 + 2);
    let lines: Vec<Line<'_>> = KEYS
        .iter()
        .map(|(key, what)| Line::from(vec![Span::styled(format!("{key:<16}"), strong()), Span::raw(*what)]))
        .collect();
    frame.render_widget(Paragraph::new(lines), inner);
}

fn whole(frame: &mut Frame<'_>, text: &str, area: Rect) {
    let text = clean_value(text).into_owned();
    let width = area.width.saturating_sub(8).max(20);
    let rows = text.width().div_ceil(usize::from(width.saturating_sub(2)).max(1)) as u16;
    let inner = window(frame, "Whole text", area, width, rows + 2);
    frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: false }), inner);
}

/// Single requests, the newest last, up to the one that is scrolled to.
fn requests(frame: &mut Frame<'_>, table: &Table, at: usize, around: &Around<'_>, area: Rect) {
    let title = match table.rest.rows {
        0 => format!("{} requests", grouped(table.rows.len() as u64)),
        more => format!(
            "the last {} of {} requests",
            grouped(table.rows.len() as u64),
            grouped(more + table.rows.len() as u64)
        ),
    };
    let inner = window(frame, &format!("{title}; ↑↓ scroll, Esc back"), area, area.width, area.height);
    let rows = usize::from(inner.height);
    let end = at.max(rows).min(table.rows.len());
    let lines: Vec<Line<'_>> = table.rows[end.saturating_sub(rows)..end]
        .iter()
        .map(|row| {
            let text = |place: usize| row[place].as_text().unwrap_or("-");
            let time =
                row[0].as_u64().map_or_else(|| "--:--:--".to_owned(), |time| clock(time as i64, around.zone));
            let status = row[2].as_u64().map_or("-".to_owned(), |status| status.to_string());
            let size = row[3].as_u64().map_or("-".to_owned(), bytes);
            let before = format!(
                "{time}  {:<15}  {status:>3}  {size:>9}  {:<5} ",
                shorten(text(1), 15),
                shorten(text(4), 5)
            );
            let path = shorten(text(5), usize::from(inner.width).saturating_sub(before.width()));
            let colour = match row[2].as_u64().unwrap_or(0) / 100 {
                4 => coloured(around, Color::Yellow),
                5 => coloured(around, Color::Red),
                _ => Style::new(),
            };
            Line::styled(before + &path, colour)
        })
        .collect();
    frame.render_widget(Paragraph::new(lines), inner);
}
