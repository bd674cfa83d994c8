//! What must hold whatever octets come: of templates of layouts, of lines of logs, of layouts that are made for them, and of error logs.

use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use exedra_reading::errors::event::{Event, Fields, goes_on};
use exedra_reading::errors::same::Together;
use exedra_reading::logs::detect::understand;
use exedra_reading::logs::search::Given;
use exedra_reading::logs::{Layout, LineReader, LogTemplate, LoggedRequest};

/// A template is understood or refused. One that is understood reads lines without harm; and what it writes is one line
/// that the fastest and the plain way of reading find nothing wrong with.
pub fn layout(octets: &[u8]) {
    let Ok(text) = std::str::from_utf8(octets) else { return };
    // The first line is the template, the rest are lines for it.
    let (template, lines) = text.split_once('\n').unwrap_or((text, ""));
    let Ok(layout) = Layout::understand(template) else { return };
    read(std::slice::from_ref(&layout), lines.as_bytes());
    let request = LoggedRequest::new(1_793_577_600_123, b"/a b?c=\"d\"\n\x1b")
        .number(NumberColumn::Status, 404)
        .number(NumberColumn::Bytes, 7)
        .number(NumberColumn::FullBytes, 9)
        .number(NumberColumn::Duration, 1234)
        .text(TextColumn::Client, "192.0.2.1")
        .text(TextColumn::User, "ann \"pier\" \\")
        .text(TextColumn::Method, "GET")
        .text(TextColumn::Protocol, "HTTP/1.1")
        .text(TextColumn::Referrer, b"https://a.example/\xff\r\n")
        .text(TextColumn::Agent, b"boat] \"1\"\x00")
        .text(TextColumn::Scheme, "https")
        .text(TextColumn::Host, "a.example")
        .text(TextColumn::Encoding, "br")
        .text(TextColumn::Rule, "exedra.toml:7");
    let mut line = Vec::new();
    LogTemplate::new(&layout).write(&request, &mut line);
    assert_eq!(line.iter().filter(|octet| **octet == b'\n').count(), 1, "one request, one line");
    assert!(line.ends_with(b"\n"));
    read(&[layout], &line);
}

/// Lines are read or counted as unread, each once, whatever the layout and wherever the log is cut.
pub fn lines(octets: &[u8]) {
    let layouts = Layout::all_named();
    let whole = read(&layouts, octets);
    for layout in &layouts {
        read(std::slice::from_ref(layout), octets);
    }
    // Cut after some line: the same lines are read. (A list of fields holds only for what comes after it in the same block.)
    if !octets.contains(&b'#') {
        let middle =
            octets[..octets.len() / 2].iter().rposition(|octet| *octet == b'\n').map_or(0, |at| at + 1);
        let parts = [&octets[..middle], &octets[middle..]].map(|part| read(&layouts, part));
        assert_eq!(whole, (parts[0].0 + parts[1].0, parts[0].1 + parts[1].1), "wherever it is cut");
    }
}

/// Whatever lines are made of, a layout is made for them or not; one that is made reads them without harm, is a template that can be
/// written down and understood again, and reads the same then.
pub fn search(octets: &[u8]) {
    let given = Given { near: Some(1_793_577_600_123), durations: None };
    let lines: Vec<&[u8]> = octets.split(|octet| *octet == b'\n').filter(|line| !line.is_empty()).collect();
    let Some(understood) = understand(&Layout::all_named(), &lines, &given) else { return };
    let (known, unread) = read(&understood.layouts, octets);
    assert!(
        known > 0 || unread == 0 || understood.layouts.iter().any(|layout| layout.hints.heading.is_some())
    );
    for found in &understood.found {
        let again = Layout::understand(&found.layout.template).expect("what is made can be written down");
        let again = again.with(found.layout.hints.clone());
        assert_eq!(read(&[again], octets), read(std::slice::from_ref(&found.layout), octets));
        assert!(found.lines > 0 && !found.layout.template.contains('\n'));
    }
}

/// Error logs: each line is an event, belongs to one, or is neither.
pub fn errors(octets: &[u8]) {
    let (mut fields, mut together) = (Fields::default(), Together::default());
    let (mut events, mut open) = (0, None);
    for line in octets.split(|octet| *octet == b'\n') {
        if fields.directive(line) {
            continue;
        }
        let event = if fields.says_reason() { fields.event(line) } else { Event::of_line(line, Some(0)) };
        match event {
            Some(event) => {
                events += 1;
                open = together.add(event);
            }
            None if goes_on(line) => {
                if let Some(place) = open {
                    together.goes_on(place, &String::from_utf8_lossy(line));
                }
            }
            None => {}
        }
    }
    let same = together.by_times();
    assert_eq!(same.iter().map(|same| same.times).sum::<u64>(), events);
    assert!(same.iter().all(|same| !same.last.level.is_empty()));
}

/// Reads everything; gives how many lines were read and unread.
fn read(layouts: &[Layout], octets: &[u8]) -> (u64, u64) {
    let mut reader = LineReader::new(layouts, Projection::everything());
    let (mut batch, mut texts) = (RequestBatch::default(), Dictionaries::default());
    let (mut at, mut line) = (0, 0);
    while at < octets.len() {
        batch.clear();
        let took = reader.read_block(&octets[at..], 0, &mut line, &mut batch, &mut texts);
        assert!(took > 0, "it goes on");
        at += took;
    }
    let lines = octets.split_inclusive(|octet| *octet == b'\n').count() as u64;
    assert_eq!(reader.read + reader.unread.lines() + reader.directives, lines, "every line once");
    (reader.read, reader.unread.lines())
}
