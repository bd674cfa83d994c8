//! Paths that a rule is about.
//!
//! A pattern is literal characters with `{name}` for a segment, or a part of one, and `{name*}` (RFC 6570 §2.4.2)
//! for the rest; `{*}` is a rest that nobody needs. Letters are letters and dots are dots. For what cannot be
//! said so there are regular expressions, anchored at both ends; they run in time linear in the path.
//!
//! ```
//! use exedra_answering::rules::Pattern;
//! let pattern = Pattern::understand("/mariners/{year}/{rest*}").unwrap();
//! assert_eq!(pattern.names().iter().map(|name| &**name).collect::<Vec<_>>(), ["year", "rest"]);
//! assert!(Pattern::understand("/staff/*").is_err());
//! assert_eq!(Pattern::meant_by("/staff/*"), "/staff/{*}");
//! ```

use super::seen::{Seen, normalise};
use regex::{Regex, RegexBuilder};
use regex_syntax::hir::{Class, Hir, HirKind};
use smallvec::SmallVec;
use std::ops::Range;
use thiserror::Error;

/// What a pattern captures: octets of the path as it was written, in the order of its names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Captures(pub SmallVec<[Range<u32>; 4]>);

/// Some paths.
#[derive(Debug, Clone)]
pub struct Pattern {
    text: Box<str>,
    names: Vec<Box<str>>,
    shape: Shape,
}

#[derive(Debug, Clone)]
enum Shape {
    /// Exactly this.
    Exact(Box<str>),
    /// These segments, and perhaps a rest.
    Segments(Vec<Segment>, Option<Rest>),
    /// Whatever a regular expression fits.
    Regex(Box<Regex>),
}

/// One segment: literals and captures in turn.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Segment(pub Vec<Bit>);

/// A piece of a segment.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Bit {
    /// This.
    Literal(Box<str>),
    /// At least one character, as few as fit.
    Capture,
}

/// The end of a pattern that fits any rest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rest {
    /// What the segment begins with in which the rest begins.
    pub begins: Box<str>,
    /// Whether the rest has a name.
    pub is_named: bool,
}

/// What is wrong with a pattern, and where (in bytes from its beginning).
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PatternError {
    /// It does not begin with a slash.
    #[error("paths begin with one slash, everywhere")]
    NoSlash,
    /// It begins with two.
    #[error("paths begin with one slash, not with two")]
    TwoSlashes,
    /// It includes a query.
    #[error("a path has no query; ask for one in `when`, as in parameter = {{ season = \"winter\" }}")]
    Query,
    /// A brace that nothing closes.
    #[error(
        "the brace is not closed: write {{name}} for a segment, {{name*}} for the rest, {{{{ for a brace itself"
    )]
    Unclosed,
    /// A brace that nothing opened.
    #[error("the brace closes nothing: write }}}} for a brace itself")]
    Unopened,
    /// A place without a name.
    #[error(
        "a place needs a name of letters, digits and `_`: {{year}}, {{rest*}}, or {{*}} for a rest nobody needs"
    )]
    NoName,
    /// A name that stands there twice.
    #[error("`{0}` is captured twice")]
    Twice(String),
    /// Something after the rest.
    #[error("after the rest there can be nothing more; a regex can say it: path = {{ regex = \"…\" }}")]
    AfterRest,
    /// A capture right after another.
    #[error("where the one ends and the other begins cannot be known: put something between them")]
    Adjacent,
    /// A `*` outside braces, which in other places means anything.
    #[error("`*` stands for itself here, and no path that is served has one")]
    Star,
    /// A segment that begins with a colon, which in other places names what is captured.
    #[error("`:` stands for itself here, and captures nothing")]
    Colon,
    /// A regular expression that fits no path.
    #[error("every path begins with `/`, and the whole of it must fit: this fits none")]
    NoPath,
    /// A regular expression that is none.
    #[error("{0}")]
    Regex(String),
}

impl Pattern {
    /// Understands a pattern of literals and places.
    pub fn understand(text: &str) -> Result<Self, (PatternError, Range<usize>)> {
        let whole = || 0..text.len();
        match text.strip_prefix('/') {
            None => return Err((PatternError::NoSlash, whole())),
            Some(rest) if rest.starts_with('/') => return Err((PatternError::TwoSlashes, whole())),
            Some(_) => {}
        }
        let mut names: Vec<Box<str>> = Vec::new();
        let mut segments: Vec<Segment> = vec![Segment(Vec::new())];
        let mut rest = None;
        let mut literal = String::new();
        let mut at = 1;
        while let Some(letter) = text[at..].chars().next() {
            let place = at..at + letter.len_utf8();
            at = place.end;
            if rest.is_some() {
                return Err((PatternError::AfterRest, place.start..text.len()));
            }
            match letter {
                '{' | '}' if text[at..].starts_with(letter) => {
                    literal.push(letter);
                    at += 1;
                }
                '}' => return Err((PatternError::Unopened, place)),
                '?' => return Err((PatternError::Query, place.start..text.len())),
                '/' => {
                    flush(&mut literal, &mut segments);
                    segments.push(Segment(Vec::new()));
                }
                '{' => {
                    let end = text[at..].find('}').map(|end| at + end);
                    let end = end.ok_or((PatternError::Unclosed, place.start..text.len()))?;
                    let name = &text[at..end];
                    let place = place.start..end + 1;
                    at = end + 1;
                    let bare = name.strip_suffix('*').unwrap_or(name);
                    let is_rest = name.ends_with('*');
                    let sound = bare.bytes().all(|octet| octet.is_ascii_alphanumeric() || octet == b'_');
                    if !sound || (bare.is_empty() && !is_rest) {
                        return Err((PatternError::NoName, place));
                    }
                    if names.iter().any(|known| **known == *bare) {
                        return Err((PatternError::Twice(bare.to_owned()), place));
                    }
                    if !bare.is_empty() {
                        names.push(bare.into());
                    }
                    flush(&mut literal, &mut segments);
                    let segment = segments.last_mut().map(|segment| &mut segment.0);
                    let Some(segment) = segment else { return Err((PatternError::NoSlash, place)) };
                    if segment.last() == Some(&Bit::Capture) {
                        return Err((PatternError::Adjacent, place));
                    }
                    if is_rest {
                        let begins = match segment.as_slice() {
                            [] => "".into(),
                            [Bit::Literal(begins)] => begins.clone(),
                            _ => return Err((PatternError::Adjacent, place)),
                        };
                        segments.pop();
                        rest = Some(Rest { begins, is_named: !bare.is_empty() });
                    } else {
                        segment.push(Bit::Capture);
                    }
                }
                '*' => return Err((PatternError::Star, place)),
                ':' if text[..place.start].ends_with('/') => return Err((PatternError::Colon, place)),
                letter => literal.push(letter),
            }
        }
        if rest.is_none() {
            flush(&mut literal, &mut segments);
        }
        let is_exact = rest.is_none() && names.is_empty();
        let shape = match is_exact {
            true => Shape::Exact(exact(&segments).into()),
            false => Shape::Segments(segments, rest),
        };
        Ok(Pattern { text: text.into(), names, shape })
    }

    /// The pattern of one path, in which no character means anything but itself.
    pub fn literal(path: &str) -> Result<Self, PatternError> {
        match path.strip_prefix('/') {
            None => Err(PatternError::NoSlash),
            Some(rest) if rest.starts_with('/') => Err(PatternError::TwoSlashes),
            Some(_) if path.contains('?') => Err(PatternError::Query),
            Some(_) => {
                let shape = Shape::Exact(normalise(path).into());
                Ok(Pattern { text: path.into(), names: Vec::new(), shape })
            }
        }
    }

    /// What somebody probably means who writes `*` for anything, or `:name` for a segment, as elsewhere.
    pub fn meant_by(text: &str) -> String {
        let mut count = 0;
        let mut name = || {
            count += 1;
            format!("{{part{count}}}")
        };
        let last = text.split('/').count() - 1;
        let segment = |(nth, segment): (usize, &str)| match segment.strip_prefix(':') {
            Some(rest) => {
                let end = rest
                    .find(|letter: char| !letter.is_ascii_alphanumeric() && letter != '_')
                    .unwrap_or(rest.len());
                let (name, rest) = rest.split_at(end);
                let is_rest = nth == last && rest == "*";
                format!("{{{name}{}}}{}", if is_rest { "*" } else { "" }, if is_rest { "" } else { rest })
            }
            None if nth == last
                && !segment.contains(['{', '}'])
                && segment.find('*') == Some(segment.trim_end_matches('*').len()) =>
            {
                format!("{}{{*}}", segment.trim_end_matches('*'))
            }
            None => {
                // Stars within braces are names of rests.
                let mut depth = 0;
                let mut out = String::new();
                for letter in segment.chars() {
                    match letter {
                        '{' => depth += 1,
                        '}' => depth -= 1,
                        _ => {}
                    }
                    match letter {
                        '*' if depth == 0 && !out.ends_with('}') => out.push_str(&name()),
                        '*' if depth == 0 => {}
                        letter => out.push(letter),
                    }
                }
                out
            }
        };
        text.split('/').enumerate().map(segment).collect::<Vec<_>>().join("/")
    }

    /// Understands a regular expression. It must fit the whole path, which begins with a slash.
    pub fn regex(text: &str) -> Result<Self, PatternError> {
        let regex = RegexBuilder::new(&format!("^(?:{text})$")).size_limit(1 << 20).build();
        let regex = regex.map_err(|error| {
            let words = error.to_string();
            PatternError::Regex(
                words.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned(),
            )
        })?;
        if regex_syntax::parse(text).is_ok_and(|parsed| !begins(&parsed).with_slash) {
            return Err(PatternError::NoPath);
        }
        let names = regex.capture_names().flatten().map(Into::into).collect();
        Ok(Pattern { text: text.into(), names, shape: Shape::Regex(Box::new(regex)) })
    }

    /// The pattern as it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Names of what it captures.
    pub fn names(&self) -> &[Box<str>] {
        &self.names
    }

    /// The one path that it fits, as rules see it, where there is only one.
    pub fn exact(&self) -> Option<&str> {
        match &self.shape {
            Shape::Exact(path) => Some(path),
            Shape::Segments(..) | Shape::Regex(_) => None,
        }
    }

    /// Its segments and its rest, where it has such.
    pub fn segments(&self) -> Option<(&[Segment], Option<&Rest>)> {
        match &self.shape {
            Shape::Segments(segments, rest) => Some((segments, rest.as_ref())),
            Shape::Exact(_) | Shape::Regex(_) => None,
        }
    }

    /// Whether it is a regular expression.
    pub fn is_regex(&self) -> bool {
        matches!(self.shape, Shape::Regex(_))
    }

    /// What it captures of a path, if it fits.
    pub fn capture(&self, path: &Seen<'_>) -> Option<Captures> {
        let text = path.text();
        let mut captures = Captures::default();
        let mut found = |part: Range<usize>| {
            let part = path.original(part);
            captures.0.push(part.start as u32..part.end as u32);
        };
        match &self.shape {
            Shape::Exact(exact) => (**exact == *text).then_some(())?,
            Shape::Segments(segments, rest) => {
                let mut at = 0;
                for segment in segments {
                    let begin = at + 1;
                    (text.as_bytes().get(at) == Some(&b'/')).then_some(())?;
                    let end =
                        memchr::memchr(b'/', &text.as_bytes()[begin..]).map_or(text.len(), |end| begin + end);
                    segment.fits(&text[begin..end], |part| found(begin + part.start..begin + part.end))?;
                    at = end;
                }
                match rest {
                    None => (at == text.len()).then_some(())?,
                    Some(rest) => {
                        let tail = text[at..].strip_prefix('/')?.strip_prefix(&*rest.begins)?;
                        if rest.is_named {
                            found(text.len() - tail.len()..text.len());
                        }
                    }
                }
            }
            Shape::Regex(regex) if self.names.is_empty() => regex.is_match(text).then_some(())?,
            Shape::Regex(regex) => {
                let all = regex.captures(text)?;
                for name in &self.names {
                    found(all.name(name).map_or(0..0, |part| part.range()));
                }
            }
        }
        Some(captures)
    }
}

/// What the texts can begin with that a regular expression fits.
struct Begins {
    with_slash: bool,
    /// Whether it fits the empty text, so that what comes after it begins instead.
    or_not_at_all: bool,
}

fn begins(parsed: &Hir) -> Begins {
    match parsed.kind() {
        HirKind::Empty | HirKind::Look(_) => Begins { with_slash: false, or_not_at_all: true },
        HirKind::Literal(literal) => Begins { with_slash: literal.0.starts_with(b"/"), or_not_at_all: false },
        HirKind::Class(Class::Unicode(class)) => {
            let with_slash = class.iter().any(|range| (range.start()..=range.end()).contains(&'/'));
            Begins { with_slash, or_not_at_all: false }
        }
        HirKind::Class(Class::Bytes(class)) => {
            let with_slash = class.iter().any(|range| (range.start()..=range.end()).contains(&b'/'));
            Begins { with_slash, or_not_at_all: false }
        }
        HirKind::Repetition(repeated) => {
            let once = begins(&repeated.sub);
            Begins { or_not_at_all: repeated.min == 0 || once.or_not_at_all, ..once }
        }
        HirKind::Capture(capture) => begins(&capture.sub),
        HirKind::Concat(parts) => {
            let mut all = Begins { with_slash: false, or_not_at_all: true };
            for part in parts.iter().map(begins) {
                all.with_slash |= part.with_slash;
                if !part.or_not_at_all {
                    all.or_not_at_all = false;
                    break;
                }
            }
            all
        }
        HirKind::Alternation(ways) => {
            ways.iter().map(begins).fold(Begins { with_slash: false, or_not_at_all: false }, |all, way| {
                Begins {
                    with_slash: all.with_slash || way.with_slash,
                    or_not_at_all: all.or_not_at_all || way.or_not_at_all,
                }
            })
        }
    }
}

fn flush(literal: &mut String, segments: &mut [Segment]) {
    if !literal.is_empty()
        && let Some(segment) = segments.last_mut()
    {
        segment.0.push(Bit::Literal(normalise(literal).into()));
        literal.clear();
    }
}

fn exact(segments: &[Segment]) -> String {
    let mut path = String::new();
    for segment in segments {
        path.push('/');
        for bit in &segment.0 {
            if let Bit::Literal(literal) = bit {
                path.push_str(literal);
            }
        }
    }
    path
}

impl Segment {
    /// Whether a segment fits; tells of the parts that are captured.
    pub fn fits(&self, text: &str, mut found: impl FnMut(Range<usize>)) -> Option<()> {
        let (mut at, mut nth) = (0, 0);
        while let Some(bit) = self.0.get(nth) {
            let (end, next) = match (bit, self.0.get(nth + 1)) {
                (Bit::Literal(literal), _) => {
                    text[at..].starts_with(&**literal).then_some(())?;
                    at += literal.len();
                    nth += 1;
                    continue;
                }
                (Bit::Capture, None) => (text.len(), text.len()),
                // The last literal must stand at the end, the others stand as early as they can.
                (Bit::Capture, Some(Bit::Literal(literal))) if nth + 2 == self.0.len() => {
                    text.ends_with(&**literal).then_some(())?;
                    (text.len() - literal.len(), text.len())
                }
                (Bit::Capture, Some(Bit::Literal(literal))) => {
                    let end = at + 1 + text.get(at + 1..)?.find(&**literal)?;
                    (end, end + literal.len())
                }
                (Bit::Capture, Some(Bit::Capture)) => return None,
            };
            (end > at).then_some(())?;
            found(at..end);
            at = next;
            nth += 2;
        }
        (at == text.len()).then_some(())
    }

    /// What it begins with, before anything is captured.
    pub fn begins(&self) -> &str {
        match self.0.first() {
            Some(Bit::Literal(literal)) => literal,
            Some(Bit::Capture) | None => "",
        }
    }

    /// The whole segment, where it captures nothing.
    pub fn literal(&self) -> Option<&str> {
        match self.0.as_slice() {
            [] => Some(""),
            [Bit::Literal(literal)] => Some(literal),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::exact("/tides/today.html", "/tides/today.html", Some(&[][..]))]
    #[case::dots_are_dots("/tides/today.html", "/tides/todayxhtml", None)]
    #[case::segment("/mariners/{year}/{rest*}", "/mariners/2030/a/b.pdf", Some(&["2030", "a/b.pdf"][..]))]
    #[case::empty_rest("/mariners/{year}/{rest*}", "/mariners/2030/", Some(&["2030", ""][..]))]
    #[case::no_slash_before_the_rest("/mariners/{year}/{rest*}", "/mariners/2030", None)]
    #[case::a_segment_is_never_empty("/a/{b}/c", "/a//c", None)]
    #[case::a_segment_has_no_slash("/a/{b}", "/a/b/c", None)]
    #[case::part_of_a_segment("/{name}.pdf", "/harbour.plan.pdf", Some(&["harbour.plan"][..]))]
    #[case::parts_of_a_segment("/log-{year}-{month}.csv", "/log-2030-01-02.csv", Some(&["2030", "01-02"][..]))]
    #[case::three("/{a}-{b}-{c}x", "/1-2-3-4x", Some(&["1", "2", "3-4"][..]))]
    #[case::prefix_and_rest("/old-{rest*}", "/old-things/x", Some(&["things/x"][..]))]
    #[case::anonymous("/staff/{*}", "/staff/x/y", Some(&[][..]))]
    #[case::folder("/a/{b}/", "/a/x/", Some(&["x"][..]))]
    #[case::letters("/sæl/{x}", "/s%c3%a6l/%C3%A6", Some(&["%C3%A6"][..]))]
    #[case::encoded_dash("/a-b/{x}", "/a%2Db/%7e", Some(&["%7e"][..]))]
    #[case::braces("/a{{b}}/{c}", "/a%7Bb%7d/1", Some(&["1"][..]))]
    fn paths(#[case] pattern: &str, #[case] path: &str, #[case] captured: Option<&[&str]>) {
        let pattern = Pattern::understand(pattern).unwrap();
        let found = pattern.capture(&Seen::new(path));
        let found = found.map(|found| {
            found.0.iter().map(|part| &path[part.start as usize..part.end as usize]).collect::<Vec<_>>()
        });
        assert_eq!(found.as_deref(), captured);
    }

    #[rstest]
    #[case("a/b", PatternError::NoSlash)]
    #[case("//a", PatternError::TwoSlashes)]
    #[case("/a?x=1", PatternError::Query)]
    #[case("/{a", PatternError::Unclosed)]
    #[case("/a}", PatternError::Unopened)]
    #[case("/{}", PatternError::NoName)]
    #[case("/{a b}", PatternError::NoName)]
    #[case("/{a}/{a}", PatternError::Twice("a".to_owned()))]
    #[case("/{a*}/b", PatternError::AfterRest)]
    #[case("/staff/*", PatternError::Star)]
    #[case("/*.pdf", PatternError::Star)]
    #[case("/:id/x", PatternError::Colon)]
    #[case("/{a}{b}", PatternError::Adjacent)]
    #[case("/{a}{b*}", PatternError::Adjacent)]
    fn mistakes(#[case] pattern: &str, #[case] error: PatternError) {
        assert_eq!(Pattern::understand(pattern).unwrap_err().0, error);
    }

    #[rstest]
    #[case("/staff/*", "/staff/{*}")]
    #[case("/staff/**", "/staff/{*}")]
    #[case("/old-*", "/old-{*}")]
    #[case("/a/*/b", "/a/{part1}/b")]
    #[case("/*/b/*", "/{part1}/b/{*}")]
    #[case("/*.pdf", "/{part1}.pdf")]
    #[case("/:id/x", "/{id}/x")]
    #[case("/n/:id.html", "/n/{id}.html")]
    #[case("/n/:rest*", "/n/{rest*}")]
    #[case("/{year}/*", "/{year}/{*}")]
    #[case("/{year*}*", "/{year*}")]
    fn what_is_meant_elsewhere_is_a_pattern_here(#[case] written: &str, #[case] meant: &str) {
        assert!(Pattern::understand(written).is_err());
        assert_eq!(Pattern::meant_by(written), meant);
        assert!(Pattern::understand(meant).is_ok());
    }

    #[rstest]
    #[case("/staff/.*", true)]
    #[case("staff/.*", false)]
    #[case("^staff", false)]
    #[case(".*\\.php", true)]
    #[case("[^a-z]+", true)]
    #[case("[a-z]*(/x)?", true)]
    #[case("[a-z]+(/x)?", false)]
    #[case("(?i)(staff|/office)/x", true)]
    #[case("a{0}", false)]
    fn regular_expressions_fit_paths_or_are_refused(#[case] regex: &str, #[case] fits_some: bool) {
        assert_eq!(Pattern::regex(regex).is_ok(), fits_some);
    }

    #[test]
    fn regular_expressions_fit_the_whole_path_or_nothing() {
        let pattern = Pattern::regex("/n/(?P<number>[0-9]+)(\\.html)?").unwrap();
        assert!(pattern.capture(&Seen::new("/n/12.html/x")).is_none());
        let found = pattern.capture(&Seen::new("/n/12.html")).unwrap();
        assert_eq!((found.0.len(), found.0[0].clone()), (1, 3..5));
        assert!(Pattern::regex("/(a").is_err());
    }
}
