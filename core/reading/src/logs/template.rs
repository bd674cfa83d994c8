//! A layout as a person writes it, understood: literal text and `{field}` places.
//!
//! `{client} {skip} {user} [{time:%d/%b/%Y:%H:%M:%S %z}] "{method} {target} {protocol}" {status}`
//!
//! `{{` and `}}` stand for the braces themselves, `\t` for a tab and `{…}` for any run of spaces and tabs. What stands in
//! `(( … ))` may be missing. What a place may be called is one list, [`fields`].
//!
//! ```
//! use exedra_reading::logs::template::{Piece, fields, parse, variants};
//! let pieces = parse("{client}(( {user})) {time:seconds}").unwrap();
//! assert!(matches!(pieces[1], Piece::Optional(_)));
//! assert_eq!(variants(&pieces).len(), 2, "with and without a user");
//! assert!(fields().any(|(name, _)| name == "target"));
//! ```

use super::moment::{CLASSIC, TimeForm, ends_line};
use exedra_common::columns::{Column, Kind, NumberColumn, TextColumn, Unit};
use exedra_common::text::nearest;
use thiserror::Error;

/// What a place in a line holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Field {
    /// A text that goes into a column as it is.
    Text(TextColumn),
    /// Path and query in one.
    Target,
    /// Path and query, perhaps with scheme and host before them.
    Url,
    /// Method, target and protocol in one.
    Request,
    /// A JSON object whose keys say what their values are.
    Json,
    /// `key=value` up to the end of the line.
    Pairs,
    /// A number that goes into a column, and what it counts.
    Number(NumberColumn, Unit),
    /// When the request came in.
    Time(TimeForm),
    /// Its day alone, in strftime codes.
    Date(String),
    /// Its time of day alone, in strftime codes.
    Clock(String),
    /// Something nobody needs.
    Skip,
}

/// A piece of a layout.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// Text that stands there in every line.
    Literal(String),
    /// A place for a field.
    Place(Field),
    /// Spaces and tabs, at least one.
    Gap,
    /// A part that may be missing.
    Optional(Vec<Piece>),
}

/// How many parts of a layout may be missing: each doubles the ways in which a line can be read.
pub const MOST_OPTIONAL: usize = 5;

/// The pieces of a layout with each part that may be missing there or not: all there first, none last.
pub fn variants(pieces: &[Piece]) -> Vec<Vec<Piece>> {
    let mut all = vec![Vec::new()];
    for piece in pieces {
        let ways = match piece {
            Piece::Optional(inner) => {
                let mut ways = variants(inner);
                ways.push(Vec::new());
                ways
            }
            piece => vec![vec![piece.clone()]],
        };
        all = all.iter().flat_map(|begun| ways.iter().map(|way| joined(begun, way))).collect();
    }
    all
}

/// Pieces after pieces; literal text that meets becomes one.
fn joined(begun: &[Piece], way: &[Piece]) -> Vec<Piece> {
    let mut pieces = begun.to_vec();
    for piece in way {
        match (pieces.last_mut(), piece) {
            (Some(Piece::Literal(before)), Piece::Literal(text)) => before.push_str(text),
            _ => pieces.push(piece.clone()),
        }
    }
    pieces
}

/// Every name a place may have, with what it means: those of columns, and what stands for several of them, parts of one or
/// nothing.
pub fn fields() -> impl Iterator<Item = (&'static str, &'static str)> {
    const OTHERS: [(&str, &str); 9] = [
        ("target", "path and query together"),
        ("url", "path and query, perhaps with scheme and host before them"),
        ("request", "method, target and protocol together"),
        ("json", "a JSON object, whose keys say what their values are"),
        ("pairs", "key=value, and more of them, up to the end of the line"),
        ("…", "a run of spaces and tabs, at least one; {...} is the same"),
        ("date", "the day of the time alone, {date:%Y-%m-%d} unless said otherwise"),
        ("clock", "the time of day alone, {clock:%H:%M:%S%.f} unless said otherwise; UTC unless it has a %z"),
        ("skip", "read and forgotten"),
    ];
    let in_lines = Column::kept().filter(|column| !column.declaration().of_source);
    in_lines.map(|column| (column.name(), column.meaning())).chain(OTHERS)
}

/// What is wrong with a layout, and where (in bytes from its beginning).
#[derive(Debug, Error, PartialEq, Eq)]
pub enum TemplateError {
    /// A brace that nothing closes.
    #[error("the place that begins at {at} has no closing brace: write {{{{ for a brace itself")]
    Unclosed {
        /// Where it begins.
        at: usize,
    },
    /// A brace that nothing opened.
    #[error("the closing brace at {at} closes nothing: write }}}} for a brace itself")]
    Unopened {
        /// Where it stands.
        at: usize,
    },
    /// No such field.
    #[error("there is no field `{name}` (at {at}){}", nearest.map(|near| format!(": did you mean `{near}`?")).unwrap_or_default())]
    NoField {
        /// Where the place begins.
        at: usize,
        /// What was written.
        name: String,
        /// The nearest field there is.
        nearest: Option<&'static str>,
    },
    /// An argument that the field does not take.
    #[error("`{{{name}:{argument}}}` (at {at}) does not say how to read it: {remedy}")]
    BadArgument {
        /// Where the place begins.
        at: usize,
        /// The field.
        name: String,
        /// What was written.
        argument: String,
        /// What to write.
        remedy: &'static str,
    },
    /// Two places without anything between them.
    #[error("nothing stands between the place at {at} and the one before it, so no reader could part them")]
    Touching {
        /// Where the second begins.
        at: usize,
    },
    /// A time that is not always there, or only a half of it.
    #[error("the layout has no {{time}} (or {{date}} and {{clock}}) that is always there")]
    NoTime,
    /// Nothing in it is read.
    #[error("the layout reads nothing: it has no {{field}}")]
    Nothing,
    /// A part that may be missing and does not end.
    #[error("the part that begins at {at} with (( has no )) at its end")]
    OpenPart {
        /// Where it begins.
        at: usize,
    },
    /// Too many parts that may be missing.
    #[error("more than {MOST_OPTIONAL} parts may be missing: write two layouts instead")]
    TooManyParts,
    /// Two places that touch when a part is missing.
    #[error("when a part in (( )) is missing, two places stand side by side, and no reader could part them")]
    TouchingWithout,
}

/// Understands a template.
pub fn parse(template: &str) -> Result<Vec<Piece>, TemplateError> {
    let mut at = 0;
    let pieces = part(template, &mut at, None)?;
    if optional(&pieces) > MOST_OPTIONAL {
        return Err(TemplateError::TooManyParts);
    }
    let reads = |piece: &Piece| matches!(piece, Piece::Place(field) if *field != Field::Skip);
    if !variants(&pieces).iter().flatten().any(reads) {
        return Err(TemplateError::Nothing);
    }
    // A log may have no times at all; where it has some, every line must.
    let speaks_of_time = has_time_somewhere(&pieces);
    for variant in variants(&pieces) {
        let has = |wanted: fn(&Field) -> bool| {
            variant.iter().any(|piece| matches!(piece, Piece::Place(field) if wanted(field)))
        };
        let is_apart =
            has(|field| matches!(field, Field::Date(_))) && has(|field| matches!(field, Field::Clock(_)));
        let is_named = has(|field| matches!(field, Field::Json | Field::Pairs));
        let has_time = has(|field| matches!(field, Field::Time(_))) || is_apart || is_named;
        if speaks_of_time && !has_time {
            return Err(TemplateError::NoTime);
        }
        if variant.windows(2).any(|pair| matches!(pair, [Piece::Place(_), Piece::Place(_)])) {
            return Err(TemplateError::TouchingWithout);
        }
    }
    Ok(pieces)
}

/// Whether a time, or a part of one, may stand in a line.
pub(super) fn has_time_somewhere(pieces: &[Piece]) -> bool {
    pieces.iter().any(|piece| match piece {
        Piece::Place(Field::Time(_) | Field::Date(_) | Field::Clock(_)) => true,
        Piece::Optional(inner) => has_time_somewhere(inner),
        _ => false,
    })
}

fn optional(pieces: &[Piece]) -> usize {
    let inner = pieces.iter().map(|piece| match piece {
        Piece::Optional(inner) => 1 + optional(inner),
        _ => 0,
    });
    inner.sum()
}

/// Pieces up to the end, or to the `))` of a part that began at `opened`.
fn part(template: &str, at: &mut usize, opened: Option<usize>) -> Result<Vec<Piece>, TemplateError> {
    let mut pieces = Vec::new();
    let mut literal = String::new();
    loop {
        let rest = &template[*at..];
        if rest.is_empty() {
            match opened {
                Some(at) => return Err(TemplateError::OpenPart { at }),
                None => break,
            }
        } else if rest.starts_with("{{") || rest.starts_with("}}") {
            literal.push_str(&rest[..1]);
            *at += 2;
        } else if rest.starts_with("\\t") {
            literal.push('\t');
            *at += 2;
        } else if rest.starts_with("((") {
            if !literal.is_empty() {
                pieces.push(Piece::Literal(std::mem::take(&mut literal)));
            }
            let begins = *at;
            *at += 2;
            pieces.push(Piece::Optional(part(template, at, Some(begins))?));
        } else if opened.is_some() && rest.starts_with("))") {
            *at += 2;
            break;
        } else if rest.starts_with('}') {
            return Err(TemplateError::Unopened { at: *at });
        } else if rest.starts_with('{') {
            let end = rest.find('}').ok_or(TemplateError::Unclosed { at: *at })?;
            let is_gap = matches!(&rest[1..end], "…" | "...");
            if !literal.is_empty() {
                pieces.push(Piece::Literal(std::mem::take(&mut literal)));
            } else if !is_gap && matches!(pieces.last(), Some(Piece::Place(_))) {
                return Err(TemplateError::Touching { at: *at });
            }
            pieces.push(match is_gap {
                true => Piece::Gap,
                false => Piece::Place(field(&rest[1..end], *at)?),
            });
            *at += end + 1;
        } else {
            let letter = rest.chars().next().unwrap_or_default();
            literal.push(letter);
            *at += letter.len_utf8();
        }
    }
    if !literal.is_empty() {
        pieces.push(Piece::Literal(literal));
    }
    Ok(pieces)
}

/// What stands between the braces of one place.
pub fn place(text: &str) -> Result<Field, TemplateError> {
    field(text, 0)
}

fn field(text: &str, at: usize) -> Result<Field, TemplateError> {
    let (name, argument) = text.split_once(':').unwrap_or((text, ""));
    let bad = |remedy| TemplateError::BadArgument {
        at,
        name: name.to_owned(),
        argument: argument.to_owned(),
        remedy,
    };
    if matches!(name, "time" | "date" | "clock") && ends_line(argument) {
        return Err(bad("a request is one line: leave %n out"));
    }
    let found = match name {
        "time" if argument.is_empty() => Field::Time(TimeForm::named(CLASSIC).ok_or_else(|| bad("codes"))?),
        "time" => Field::Time(TimeForm::named(argument).ok_or_else(|| {
            bad("write seconds, milliseconds, microseconds, nanoseconds, rfc3339 or strftime codes")
        })?),
        "date" | "clock" => {
            let (codes, other) = match name {
                "date" => ("%Y-%m-%d", "write strftime codes of a day, as in %Y-%m-%d"),
                _ => ("%H:%M:%S%.f", "write strftime codes of a time of day, as in %H:%M:%S"),
            };
            let codes = match argument {
                "" => codes,
                own if own.contains('%') => own,
                _ => return Err(bad(other)),
            };
            if name == "date" { Field::Date(codes.to_owned()) } else { Field::Clock(codes.to_owned()) }
        }
        "target" if argument.is_empty() => Field::Target,
        "url" if argument.is_empty() => Field::Url,
        "request" if argument.is_empty() => Field::Request,
        "json" if argument.is_empty() => Field::Json,
        "pairs" if argument.is_empty() => Field::Pairs,
        "skip" if argument.is_empty() => Field::Skip,
        _ => match Column::named(name).filter(|column| !column.declaration().of_source) {
            Some(Column::Number(column)) => match Column::from(column).declaration().kind {
                Kind::Duration => {
                    let unit = Unit::of_time(argument);
                    Field::Number(
                        column,
                        unit.ok_or_else(|| {
                            bad("write nanoseconds, microseconds, milliseconds or seconds (ns, us, ms, s)")
                        })?,
                    )
                }
                _ if !argument.is_empty() => return Err(bad("this field takes none")),
                _ => Field::Number(column, Column::from(column).declaration().unit),
            },
            Some(Column::Text(_)) | None if !argument.is_empty() => return Err(bad("this field takes none")),
            Some(Column::Text(column)) => Field::Text(column),
            Some(Column::Time | Column::Derived(_)) | None => {
                let nearest = nearest(name, fields().map(|(name, _)| name));
                return Err(TemplateError::NoField { at, name: name.to_owned(), nearest });
            }
        },
    };
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::typo("{time} {cleint}", "there is no field `cleint` (at 7): did you mean `client`?")]
    #[case::part("{time}(( {client}", "the part that begins at 6 with (( has no )) at its end")]
    #[case::no_time(
        "{client}(( {time}))",
        "the layout has no {time} (or {date} and {clock}) that is always there"
    )]
    #[case::half_a_time(
        "{date} {client}",
        "the layout has no {time} (or {date} and {clock}) that is always there"
    )]
    #[case::side_by_side(
        "{time}(( )){client}",
        "when a part in (( )) is missing, two places stand side by side, and no reader could part them"
    )]
    #[case::open(
        "{time} {client",
        "the place that begins at 7 has no closing brace: write {{ for a brace itself"
    )]
    #[case::close("{time} }", "the closing brace at 7 closes nothing: write }} for a brace itself")]
    #[case::touching(
        "{time}{client}",
        "nothing stands between the place at 6 and the one before it, so no reader could part them"
    )]
    #[case::no_unit(
        "{time} {duration}",
        "`{duration:}` (at 7) does not say how to read it: write nanoseconds, microseconds, milliseconds or seconds (ns, us, ms, s)"
    )]
    fn mistakes(#[case] template: &str, #[case] message: &str) {
        assert_eq!(parse(template).unwrap_err().to_string(), message);
    }

    #[test]
    fn braces_can_be_written() {
        let pieces = parse("{{x}} {time:seconds}").unwrap();
        assert_eq!(pieces[0], Piece::Literal("{x} ".into()));
    }
}
