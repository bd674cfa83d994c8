//! Everything the client writes for whoever called it goes through here, so that nobody has to remember to clean it: a log
//! holds what strangers wrote, and a terminal obeys what is written to it. Elsewhere in the client, writing to standard
//! output or error is a lint.
//!
//! Texts are cleaned as a whole ([`exedra_common::text`]). What is ours, the styles, is told from what strangers wrote by a
//! key of this very process.
//!
//! - [`file`]: files that are written; [`letters`]: for terminals that know few letters
//! - [`Tone`]: a style
//! - [`stdout`], `line!`, `text!`: for people; [`json`], [`octets`]: for programs; `note!`: beside the output

pub mod file;
mod letters;

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use exedra_common::text::{clean, clean_json};
use std::fmt;
use std::io::{self, IsTerminal, Write};
use std::sync::OnceLock;

/// What stands out.
pub const STRONG: Tone = Tone(Style::new().bold());
/// What is said beside.
pub const QUIET: Tone = Tone(Style::new().dimmed());
/// What is well.
pub const WELL: Tone = Tone(AnsiColor::Green.on_default());
/// What wants attention.
pub const ATTENTION: Tone = Tone(AnsiColor::Yellow.on_default());
/// What is wrong.
pub const TROUBLE: Tone = Tone(AnsiColor::Red.on_default());
/// Columns of a chart.
pub const CHART: Tone = Tone(AnsiColor::Cyan.on_default());

/// A style that everything written between `{TONE}` and `{TONE:#}` has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tone(Style);

impl Tone {
    /// No style at all.
    pub const PLAIN: Tone = Tone(Style::new());
}

impl fmt::Display for Tone {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Tone(style) = self;
        if *style == Style::new() {
            return Ok(());
        }
        match out.alternate() {
            true => write!(out, "{}{}\u{1b}", key(), style.render_reset()),
            false => write!(out, "{}{}\u{1b}", key(), style.render()),
        }
    }
}

/// What styles begin with. Nobody else knows it.
fn key() -> &'static str {
    static KEY: OnceLock<String> = OnceLock::new();
    KEY.get_or_init(|| {
        use std::hash::{BuildHasher, RandomState};
        format!("\u{1b}{:016x}{:016x}", RandomState::new().hash_one(1), RandomState::new().hash_one(2))
    })
}

/// A text with styles that we have drawn ourselves, out of texts that are clean.
pub fn ours(drawn: &str) -> String {
    let mut out = String::with_capacity(drawn.len() + 64);
    let mut rest = drawn;
    while let Some((before, styled)) = rest.split_once('\u{1b}') {
        let end = styled.find('m').map_or(styled.len(), |end| end + 1);
        out.push_str(before);
        out.push_str(&format!("{}\u{1b}{}\u{1b}", key(), &styled[..end]));
        rest = &styled[end..];
    }
    out + rest
}

/// A text for people: cleaned, its styles as they are or left out.
pub fn shown(text: &str, with_styles: bool) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, styled)) = rest.split_once(key()) {
        out.push_str(&clean(before));
        // The sequence of the style, which begins with the very octet that ends the whole.
        let style = styled.get(1..).and_then(|tail| tail.find('\u{1b}')).map_or(styled.len(), |end| end + 1);
        if with_styles {
            out.push_str(&styled[..style]);
        }
        rest = styled.get(style + 1..).unwrap_or_default();
    }
    out.push_str(&clean(rest));
    out
}

/// Output for people, cleaned line by line.
pub struct Shown<W: Write> {
    inner: W,
    with_styles: bool,
    begun: Vec<u8>,
}

impl<W: Write> Shown<W> {
    fn put(&mut self, until: usize) -> io::Result<()> {
        let rest = self.begun.split_off(until);
        let whole = std::mem::replace(&mut self.begun, rest);
        let shown = shown(&String::from_utf8_lossy(&whole), self.with_styles);
        self.inner.write_all(letters::known(&shown, letters::are_few()).as_bytes())
    }
}

impl<W: Write> Write for Shown<W> {
    fn write(&mut self, octets: &[u8]) -> io::Result<usize> {
        self.begun.extend_from_slice(octets);
        if let Some(end) = self.begun.iter().rposition(|octet| *octet == b'\n') {
            self.put(end + 1)?;
        }
        Ok(octets.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.put(self.begun.len())?;
        self.inner.flush()
    }
}

impl<W: Write> Drop for Shown<W> {
    fn drop(&mut self) {
        // Whoever reads our output and has seen enough is no error.
        let _ = self.flush();
    }
}

/// Standard output, for people.
#[expect(clippy::disallowed_methods, reason = "this is the place")]
pub fn stdout() -> Shown<io::StdoutLock<'static>> {
    let with_styles = AutoStream::choice(&io::stdout()) != ColorChoice::Never;
    Shown { inner: io::stdout().lock(), with_styles, begun: Vec::new() }
}

/// Whether standard output is a terminal.
#[expect(clippy::disallowed_methods, reason = "this is the place")]
pub fn is_at_terminal() -> bool {
    io::stdout().is_terminal()
}

/// Whether somebody sees standard error as it comes.
#[expect(clippy::disallowed_methods, reason = "this is the place")]
pub fn is_watched() -> bool {
    io::stderr().is_terminal()
}

/// Standard error, for people.
#[expect(clippy::disallowed_methods, reason = "this is the place")]
pub fn stderr() -> Shown<io::StderrLock<'static>> {
    let with_styles = AutoStream::choice(&io::stderr()) != ColorChoice::Never;
    Shown { inner: io::stderr().lock(), with_styles, begun: Vec::new() }
}

/// Asks for something: what comes next is typed beside it.
pub fn ask(words: &str) -> io::Result<()> {
    let mut out = stderr();
    out.write_all(words.as_bytes())?;
    out.flush()
}

/// A value as JSON.
pub fn json(value: &impl serde::Serialize) -> io::Result<()> {
    octets(&(serde_json::to_string_pretty(value)? + "\n"), true)
}

/// Something for programs, as it is; on a terminal only what can be shown of it.
#[expect(clippy::disallowed_methods, reason = "this is the place")]
pub fn octets(text: &str, is_json: bool) -> io::Result<()> {
    let mut out = io::stdout().lock();
    match (is_json, out.is_terminal()) {
        (true, _) => out.write_all(clean_json(text).as_bytes()),
        (false, true) => out.write_all(clean(text).as_bytes()),
        (false, false) => out.write_all(text.as_bytes()),
    }
}

/// Writes a line for people.
macro_rules! line {
    ($($words:tt)*) => {{
        use std::io::Write as _;
        // Whoever reads our output and has seen enough is no error.
        let _ = writeln!($crate::out::stdout(), $($words)*);
    }};
}

/// Writes some text for people.
macro_rules! text {
    ($($words:tt)*) => {{
        use std::io::Write as _;
        let _ = write!($crate::out::stdout(), $($words)*);
    }};
}

/// Writes a line for people beside the output.
macro_rules! note {
    ($($words:tt)*) => {{
        use std::io::Write as _;
        let _ = writeln!($crate::out::stderr(), $($words)*);
    }};
}

pub(crate) use {line, note, text};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn our_styles_stay_and_those_of_strangers_are_named() {
        const STRONG: Tone = Tone(Style::new().bold());
        let text = format!("{STRONG}path{STRONG:#} \u{1b}[31m/evil\u{9b}2J\u{202e}");
        assert_eq!(shown(&text, true), "\u{1b}[1mpath\u{1b}[0m \\x1b[31m/evil\\x9b2J\\u{202e}");
        assert_eq!(shown(&ours("\u{1b}[1m\u{1b}[31mx\u{1b}[0m"), true), "\u{1b}[1m\u{1b}[31mx\u{1b}[0m");
        assert_eq!(shown(&text, false), "path \\x1b[31m/evil\\x9b2J\\u{202e}");
    }

    #[test]
    fn what_is_written_in_pieces_is_cleaned_as_a_whole() {
        let mut octets = Vec::new();
        let mut out = Shown { inner: &mut octets, with_styles: true, begun: Vec::new() };
        for octet in "\u{9b}é\u{1b}\nrest".bytes() {
            out.write_all(&[octet]).unwrap();
        }
        drop(out);
        assert_eq!(String::from_utf8(octets).unwrap(), "\\x9bé\\x1b\nrest");
    }
}
