//! One event of an error log, understood from its line.

use super::named::{Named, named};
use crate::logs::layout::Hints;
use crate::logs::levels::level;
use crate::logs::meaning::Meaning;
use crate::logs::moment::{TimeReader, forms};
use crate::logs::values;
use crate::logs::w3c::Listed;
use exedra_common::{Dictionaries, NumberColumn, Projection, RequestBatch, TextColumn};
use serde_json::Value;

/// The longest line that is looked at, in octets: what follows is left out.
const LONGEST: usize = 16 << 10;
/// How many words from its beginning a line says how bad it is.
const FIRST_WORDS: usize = 9;

/// One event.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Event {
    /// When it happened: milliseconds since 1970 UTC.
    pub time: Option<i64>,
    /// How bad it is, by one word for all servers.
    pub level: String,
    /// Whose request it was.
    pub client: Option<String>,
    /// The method.
    pub method: Option<String>,
    /// What was asked for, without its query.
    pub path: Option<String>,
    /// At which host.
    pub host: Option<String>,
    /// The page that linked there.
    pub referrer: Option<String>,
    /// The file that was looked for.
    pub looked_for: Option<String>,
    /// How it was answered, where the line says so.
    pub status: Option<u16>,
    /// What happened, in the server's words, without what changes from one time to the next.
    pub cause: String,
}

/// Whether a line goes on with the event before it: it is indented, or begins as lines of a trace do.
pub fn goes_on(line: &[u8]) -> bool {
    line.starts_with(b" ")
        || line.starts_with(b"\t")
        || line.starts_with(b"Caused by")
        || line.starts_with(b"Traceback")
}

impl Event {
    /// Understands a line; `None` where it does not say when and how bad. `near` is an instant near the log's, for times that do not
    /// say their year.
    pub fn of_line(line: &[u8], near: Option<i64>) -> Option<Event> {
        let text = String::from_utf8_lossy(&line[..line.len().min(LONGEST)]);
        let text = text.trim_end();
        if text.starts_with('{') {
            return Event::of_object(text, near);
        }
        let (time, mut rest) = time_of(text, near)?;
        let (level, after) = level_of(&text[rest..])?;
        rest = rest.max(rest + after);
        let message = text[rest..].trim_start_matches([':', ' ', '-', ']', '|', '\t']);
        let mut event = Event { time: Some(time), level: level.to_owned(), ..Event::default() };
        event.understand(message);
        Some(event)
    }

    /// What a sentence says.
    fn understand(&mut self, message: &str) {
        let mut spans: Vec<Named> = Vec::new();
        let mut of = |names: &[&str]| {
            let found = named(message, names)?;
            let value = message[found.value.clone()].to_owned();
            spans.push(found);
            Some(value)
        };
        self.client =
            of(&["client_ip", "remote_addr", "remote_ip", "client", "remote", "from"]).and_then(|text| {
                let range = values::client(text.as_bytes())?;
                Some(text[range].to_owned())
            });
        let request = of(&["request"]);
        let uri = of(&["uri", "url", "path"]);
        self.host = of(&["host", "server", "vhost"]).filter(|host| values::host(host.as_bytes()).is_some());
        // The name of the server and the host that was asked for may both be there.
        ["server", "upstream"].iter().for_each(|name| _ = of(&[name]));
        self.referrer = of(&["referer", "referrer"]);
        ["pid", "tid", "connection", "request_id"].iter().for_each(|name| _ = of(&[name]));
        let request = request.or_else(|| quoted(message).find(|text| is_request(text)).map(str::to_owned));
        if let Some(request) = &request {
            let mut words = request.split(' ');
            self.method = words.next().filter(|_| request.contains(' ')).map(str::to_owned);
            let target = if request.contains(' ') { words.next() } else { Some(&**request) };
            self.path = target.map(|target| without_query(target).to_owned());
        }
        self.path = self.path.take().or_else(|| uri.map(|uri| without_query(&uri).to_owned()));
        spans.sort_by_key(|span| span.whole.start);
        let mut cause = String::new();
        let mut at = 0;
        for span in spans {
            cause.push_str(message.get(at..span.whole.start.max(at)).unwrap_or_default());
            at = at.max(span.whole.end);
        }
        cause.push_str(message.get(at..).unwrap_or_default());
        let (cause, looked_for) = plain(&cause, self.path.as_deref());
        (self.cause, self.looked_for) = (cause, looked_for);
    }

    /// Understands an object of JSON.
    fn of_object(text: &str, near: Option<i64>) -> Option<Event> {
        let Ok(Value::Object(object)) = serde_json::from_str::<Value>(text) else { return None };
        let mut event = Event::default();
        let mut sentences: Vec<String> = Vec::new();
        let mut stack: Vec<(Vec<String>, Value)> = vec![(Vec::new(), Value::Object(object))];
        while let Some((path, value)) = stack.pop() {
            match value {
                Value::Object(members) if path.len() < 6 => {
                    stack.extend(
                        members.into_iter().map(|(key, value)| ([path.clone(), vec![key]].concat(), value)),
                    );
                }
                Value::String(_) | Value::Number(_) => {
                    let said = match &value {
                        Value::String(said) => said.clone(),
                        other => other.to_string(),
                    };
                    event.member(&path, said, near, &mut sentences);
                }
                _ => {}
            }
        }
        sentences.sort();
        let (cause, looked_for) = plain(&sentences.join(": "), event.path.as_deref());
        (event.cause, event.looked_for) = (cause, looked_for);
        (event.time.is_some() && !event.level.is_empty() && !event.cause.is_empty()).then_some(event)
    }

    fn member(&mut self, path: &[String], said: String, near: Option<i64>, sentences: &mut Vec<String>) {
        let Some((key, above)) = path.split_last() else { return };
        let last = key.rsplit('.').next().unwrap_or(key).to_ascii_lowercase();
        match &*last {
            "level" | "severity" | "loglevel" => {
                self.level = level(&said).unwrap_or("notice").to_owned();
                return;
            }
            // In the order in which they are read best.
            "msg" | "message" | "error" | "err" | "exception" | "reason" | "cause" => {
                return sentences.push(said);
            }
            _ => {}
        }
        let above: Vec<&[u8]> = above.iter().map(String::as_bytes).collect();
        match Meaning::of_path(&above, key.as_bytes()) {
            Some(Meaning::Time) => {
                let form = forms::whole(said.as_bytes());
                let read = |form| TimeReader::new(form).near(near).read(said.as_bytes());
                self.time = self.time.or_else(|| form.and_then(read));
            }
            Some(Meaning::Text(TextColumn::Client)) => {
                self.client = values::client(said.as_bytes()).map(|range| said[range].to_owned());
            }
            Some(Meaning::Text(TextColumn::Host)) => self.host = Some(said),
            Some(Meaning::Text(TextColumn::Method)) => self.method = Some(said),
            Some(Meaning::Text(TextColumn::Referrer)) => self.referrer = Some(said),
            Some(Meaning::Target | Meaning::Text(TextColumn::Path)) => {
                self.path = Some(without_query(&said).to_owned());
            }
            Some(Meaning::Number(NumberColumn::Status, _)) => self.status = said.parse().ok(),
            _ => {}
        }
    }

    /// The same as a request, so that the filters of requests can be asked.
    pub fn to_request(&self, batch: &mut RequestBatch, texts: &mut Dictionaries, projection: Projection) {
        batch.time.push(self.time.unwrap_or(0));
        let texts_of = [
            (TextColumn::Client, &self.client),
            (TextColumn::Method, &self.method),
            (TextColumn::Path, &self.path),
            (TextColumn::Host, &self.host),
            (TextColumn::Referrer, &self.referrer),
        ];
        for column in projection.texts() {
            let text =
                texts_of.iter().find(|(known, _)| *known == column).and_then(|(_, text)| text.as_deref());
            let code = text.map_or(exedra_common::batch::NO_TEXT, |text| texts.of_mut(column).code(text));
            batch.codes_mut(column).push(code);
        }
        for column in projection.numbers() {
            let status = self.status.filter(|_| column == NumberColumn::Status).map(u64::from);
            batch.numbers_mut(column).push(status.unwrap_or(exedra_common::batch::NO_NUMBER));
        }
    }
}

/// The time of a line that stands among its first words, and where it ends.
fn time_of(text: &str, near: Option<i64>) -> Option<(i64, usize)> {
    let octets = text.as_bytes();
    let mut at = 0;
    for _ in 0..4 {
        let begin =
            at + octets[at..].iter().take_while(|octet| matches!(octet, b'[' | b' ' | b'<' | b'(')).count();
        if let Some((form, length)) = forms::begins(&octets[begin..]).filter(|(_, length)| *length > 7) {
            let time = TimeReader::new(form).near(near).read(&octets[begin..begin + length])?;
            return Some((time, begin + length));
        }
        at = begin + octets[begin..].iter().position(|octet| *octet == b' ')? + 1;
    }
    None
}

/// How bad a line is by one of its first words, and where that word ends.
fn level_of(text: &str) -> Option<(&'static str, usize)> {
    let mut at = 0;
    for word in text.split_inclusive([' ', '\t']).take(FIRST_WORDS) {
        // What somebody asked for says nothing about how bad it is.
        if word.starts_with('"') || word.contains('/') {
            return None;
        }
        let plain = word.trim_matches(|letter: char| !letter.is_ascii_alphanumeric());
        // As in `[files:error]`, and in `level=error`.
        let last = plain.rsplit([':', '=']).next().unwrap_or(plain);
        let is_marked = word.contains(['[', ':', '|', '=', '<', '('])
            || last.chars().all(|letter| letter.is_ascii_uppercase());
        if let Some(found) = level(last).filter(|_| is_marked || last.len() > 3) {
            let short = last.len() == 1 && !word.contains('[');
            if !short {
                return Some((found, at + word.len()));
            }
        }
        at += word.len();
    }
    None
}

fn without_query(target: &str) -> &str {
    let path = match target.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or("/", |at| &rest[at..]),
        None => target,
    };
    path.split('?').next().unwrap_or(path)
}

fn is_request(text: &str) -> bool {
    text.split(' ').count() > 1 && crate::logs::search::place::is_request(text.as_bytes())
}

/// The texts in quotation marks.
fn quoted(text: &str) -> impl Iterator<Item = &str> {
    text.split('"').skip(1).step_by(2)
}

/// A sentence without what changes from one time to the next: numbers of processes and connections, files, what was asked for; and
/// the file that was looked for.
fn plain(sentence: &str, path: Option<&str>) -> (String, Option<String>) {
    let mut looked_for = None;
    let mut words = Vec::new();
    let mut rest = sentence.trim_matches([' ', ',', ';', ':']);
    while !rest.is_empty() {
        // What stands in quotation marks is one word.
        let length = match rest.strip_prefix(['"', '\'']).and_then(|inner| inner.find(&rest[..1])) {
            Some(close) => {
                let end = close + 2;
                end + rest[end..].find(' ').unwrap_or(rest.len() - end)
            }
            None => rest.find(' ').unwrap_or(rest.len()),
        };
        let (word, after) = rest.split_at(length);
        rest = after.trim_start();
        let inner = word.trim_matches(['"', '\'', ',', ':', '(', ')', '[', ']']);
        let is_number = |text: &str| !text.is_empty() && text.bytes().all(|octet| octet.is_ascii_digit());
        // Digits and marks alone are the numbers of a process or a connection.
        if !word.bytes().any(|octet| octet.is_ascii_alphabetic() || octet >= 0x80)
            && !word.ends_with(')')
            && !is_number(word)
        {
            continue;
        }
        if inner.starts_with('/') && inner.len() > 1 {
            if Some(inner) != path && looked_for.is_none() {
                looked_for = Some(inner.to_owned());
            }
            let (before, behind) = word.split_once(inner).unwrap_or_default();
            let marks = |text: &str| text.replace(['"', '\''], "");
            words.push(format!("{}…{}", marks(before), marks(behind)));
        } else if word.starts_with('[') && word.contains(']') {
            // A thread is one of many.
            words.push(word.replace(|letter: char| letter.is_ascii_digit(), "#"));
        } else if inner.len() > 3 && is_number(inner) {
            words.push(word.replace(inner, "#"));
        } else {
            words.push(word.to_owned());
        }
    }
    (words.join(" ").trim_end_matches([',', ';', ':']).to_owned(), looked_for)
}

/// HTTP error logs in the W3C form: requests, each with a reason.
#[derive(Debug, Clone, Default)]
pub struct Fields {
    listed: Option<Box<Listed>>,
    /// The place of the reason among the fields.
    reason: Option<usize>,
}

impl Fields {
    /// Takes note of a line that begins with `#`; says whether it was one.
    pub fn directive(&mut self, line: &[u8]) -> bool {
        if !line.starts_with(b"#") {
            return false;
        }
        let listed = self
            .listed
            .get_or_insert_with(|| Box::new(Listed::new(Projection::everything(), &Hints::default())));
        listed.directive(line);
        if let Some(fields) = line.strip_prefix(b"#Fields:") {
            let fields = String::from_utf8_lossy(fields);
            self.reason = fields.split_whitespace().position(|field| field.ends_with("-reason"));
        }
        true
    }

    /// Whether the lines that follow say why.
    pub fn says_reason(&self) -> bool {
        self.reason.is_some()
    }

    /// The event of a line.
    pub fn event(&mut self, line: &[u8]) -> Option<Event> {
        let (listed, reason) = (self.listed.as_mut()?, self.reason?);
        let cut = listed.run(line).ok()?;
        let reason =
            line.split(|octet| matches!(octet, b' ' | b'\t')).filter(|word| !word.is_empty()).nth(reason)?;
        let text = |column| cut.text(line, column).map(|text| String::from_utf8_lossy(text).into_owned());
        Some(Event {
            time: Some(cut.time),
            level: "error".to_owned(),
            client: text(TextColumn::Client),
            method: text(TextColumn::Method),
            path: text(TextColumn::Path),
            host: text(TextColumn::Host),
            referrer: text(TextColumn::Referrer),
            looked_for: None,
            status: cut.number(NumberColumn::Status).and_then(|status| status.try_into().ok()),
            cause: String::from_utf8_lossy(reason).replace('_', " "),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::in_brackets(
        "[Sat Nov 14 05:12:40.250 2026] [files:error] [pid 812] [client 192.0.2.1:4711] nothing lies at: /srv/www/fog.html, referrer: https://a.example/",
        "error",
        Some("192.0.2.1"),
        None,
        Some("/srv/www/fog.html"),
        "nothing lies at: …"
    )]
    #[case::key_value(
        "2026-11-14T05:12:40Z level=warn msg=\"slow answer\" remote_addr=192.0.2.1 uri=/fog?x=1",
        "warning",
        Some("192.0.2.1"),
        Some("/fog"),
        None,
        "msg=\"slow answer\""
    )]
    #[case::application(
        "2026-11-14 05:12:40,250 ERROR [http-7] access: GET of \"GET /fog HTTP/1.1\" failed: connection refused",
        "error",
        None,
        Some("/fog"),
        None,
        "[http-#] access: GET of \"GET /fog HTTP/1.1\" failed: connection refused"
    )]
    #[case::json(
        r#"{"level":"error","ts":1794633160.25,"msg":"no answer","error":"dial: refused","request":{"remote_ip":"192.0.2.1","uri":"/fog?x"},"status":502}"#,
        "error", Some("192.0.2.1"), Some("/fog"), None, "dial: refused: no answer"
    )]
    fn what_a_line_says(
        #[case] line: &str,
        #[case] level: &str,
        #[case] client: Option<&str>,
        #[case] path: Option<&str>,
        #[case] looked_for: Option<&str>,
        #[case] cause: &str,
    ) {
        let event = Event::of_line(line.as_bytes(), None).unwrap();
        assert_eq!(event.time.map(|time| time / 1000), Some(1_794_633_160));
        assert_eq!((event.level.as_str(), event.client.as_deref()), (level, client));
        assert_eq!((event.path.as_deref(), event.looked_for.as_deref()), (path, looked_for));
        assert_eq!(event.cause, cause);
    }

    #[rstest]
    #[case::request("192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] \"GET /error HTTP/1.1\" 200 5 \"-\" \"-\"")]
    #[case::no_level("2026-11-14 05:12:40 all is well here")]
    #[case::no_time("error: nothing works")]
    #[case::empty("")]
    fn what_is_no_event(#[case] line: &str) {
        assert_eq!(Event::of_line(line.as_bytes(), Some(0)), None);
    }

    #[test]
    fn requests_with_a_reason() {
        let mut fields = Fields::default();
        fields.directive(b"#Fields: date time c-ip cs-method cs-uri sc-status s-reason");
        let event = fields.event(b"2026-11-14 05:12:40 192.0.2.1 GET /fog 503 Connection_Dropped").unwrap();
        assert_eq!((event.status, event.cause.as_str()), (Some(503), "Connection Dropped"));
    }
}
