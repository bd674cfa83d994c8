//! The engine's complaints in words of the trade: what, where in the statement, and what instead.
//!
//! Users never see what the engine calls things: types, plans, functions of its own. What is not known here is told in its own words,
//! cleaned of them.

use crate::diagnostic::{Diagnostic, QueryError};
use crate::functions;
use crate::schema::{Field, TABLE};
use crate::source::SourceError;
use datafusion::common::{Column, SchemaError};
use datafusion::error::DataFusionError;
use datafusion::sql::sqlparser::dialect::GenericDialect;
use datafusion::sql::sqlparser::parser::ParserError;
use datafusion::sql::sqlparser::tokenizer::{Location, Span, Token, TokenWithSpan, Tokenizer};
use exedra_common::text::nearest;
use regex::Regex;
use std::ops::Range;
use std::sync::LazyLock;

/// What is wrong with a statement, where that is what failed.
pub fn worded(error: &DataFusionError, statement: &str) -> Diagnostic {
    match understood(error, statement) {
        QueryError::Wrong(wrong) => *wrong,
        other => Diagnostic::new(other.to_string()),
    }
}

/// Why there is no answer.
pub fn understood(error: &DataFusionError, statement: &str) -> QueryError {
    match error {
        DataFusionError::Context(_, inner) => understood(inner, statement),
        DataFusionError::Shared(inner) => understood(inner, statement),
        DataFusionError::Diagnostic(diagnostic, inner) => match understood(inner, statement) {
            QueryError::Wrong(wrong) if wrong.at.is_none() => {
                let at = diagnostic.span.and_then(|span| {
                    let location = |at: datafusion::common::Location| Location::new(at.line, at.column);
                    range(statement, Span::new(location(span.start), location(span.end)))
                });
                QueryError::Wrong(Box::new(Diagnostic { at, ..*wrong }))
            }
            other => other,
        },
        DataFusionError::Collection(all) => match all.first() {
            Some(first) => understood(first, statement),
            None => Diagnostic::new("the statement cannot be executed").into(),
        },
        DataFusionError::External(inner) => match inner.downcast_ref::<SourceError>() {
            Some(failed) => QueryError::Source(failed.to_string()),
            None => match inner.downcast_ref::<DataFusionError>() {
                Some(inner) => understood(inner, statement),
                None => said(&inner.to_string(), statement),
            },
        },
        DataFusionError::ArrowError(inner, _) => match &**inner {
            arrow::error::ArrowError::ExternalError(inner) => match inner.downcast_ref::<DataFusionError>() {
                Some(inner) => understood(inner, statement),
                None => said(&inner.to_string(), statement),
            },
            inner => said(&inner.to_string(), statement),
        },
        DataFusionError::SQL(inner, _) => parser(inner, statement).into(),
        DataFusionError::SchemaError(inner, _) => schema(inner, statement).into(),
        DataFusionError::ResourcesExhausted(words) => QueryError::TooMuch(exhausted(words)),
        DataFusionError::ExecutionJoin(_) => {
            QueryError::Source("answering failed in the middle: this is a fault of the program".to_owned())
        }
        error => said(&error.strip_backtrace(), statement),
    }
}

/// What words of the engine mean of which no more is known.
fn said(words: &str, statement: &str) -> QueryError {
    match words.contains("disk space") || words.contains("Resources exhausted") {
        true => QueryError::TooMuch(exhausted(words)),
        false => cleaned(words, statement).into(),
    }
}

fn exhausted(words: &str) -> String {
    let what = if words.contains("disk") || words.contains("spill") {
        "The question needs more room on disk than it may have"
    } else {
        "The question needs more memory than it may have"
    };
    format!("{what}: narrow it by time or by a condition, group by fewer values, or allow more (--memory).")
}

/// The place of a span in a statement, in octets.
pub fn range(statement: &str, span: Span) -> Option<Range<usize>> {
    if span.start.line == 0 {
        return None;
    }
    let start = offset(statement, span.start)?;
    let end = offset(statement, span.end).unwrap_or(statement.len()).max(start);
    Some(start..end)
}

/// The octet at a line and a column, both counted from 1.
fn offset(statement: &str, at: Location) -> Option<usize> {
    let mut begin = 0;
    for _ in 1..at.line {
        begin += statement[begin..].find('\n')? + 1;
    }
    let line = statement[begin..].split('\n').next()?;
    let column = usize::try_from(at.column).ok()?.checked_sub(1)?;
    let within = line.char_indices().nth(column).map_or(line.len(), |(octet, _)| octet);
    Some(begin + within)
}

/// The words of a statement that are names, with their places.
fn words(statement: &str) -> Vec<TokenWithSpan> {
    Tokenizer::new(&GenericDialect {}, statement).tokenize_with_location().unwrap_or_default()
}

/// Where a name stands first, perhaps before a parenthesis.
fn name_at(statement: &str, name: &str, is_function: bool) -> Option<Range<usize>> {
    let tokens = words(statement);
    let mut places = tokens.iter().enumerate().filter_map(|(nth, token)| match &token.token {
        Token::Word(word) if word.value.eq_ignore_ascii_case(name) => {
            let next = tokens[nth + 1..].iter().find(|next| !matches!(next.token, Token::Whitespace(_)));
            let is_call = next.is_some_and(|next| next.token == Token::LParen);
            (is_call || !is_function).then_some(token.span)
        }
        _ => None,
    });
    range(statement, places.next()?)
}

static AT: LazyLock<Regex> = LazyLock::new(|| made(r" at Line: (\d+), Column: (\d+)"));
static FOUND: LazyLock<Regex> = LazyLock::new(|| made(r"(?s)^Expected: (.*), found: (.*)$"));
static FUNCTION: LazyLock<Regex> = LazyLock::new(|| made(r"Invalid function '([^']*)'"));
static CAST: LazyLock<Regex> = LazyLock::new(|| made(r"Cannot cast string '((?s).*?)' to value of (\w+)"));
static INSTANT: LazyLock<Regex> = LazyLock::new(|| {
    made(
        r"Error parsing timestamp from '((?s).*?)'|Cannot cast string '((?s).*?)' to value of (?:Timestamp|Date)",
    )
});
static NOT_GROUPED: LazyLock<Regex> = LazyLock::new(|| {
    made(
        r#"(?:column|expression) "([^"]+)" must appear in the GROUP BY|Expression ([^ ]+) could not be resolved from available columns"#,
    )
});
static ALIAS: LazyLock<Regex> = LazyLock::new(|| made(r"(?i)\bas\s+(\w+)"));
static CALL: LazyLock<Regex> = LazyLock::new(|| {
    made(r"(?i)(?:call to|function|for) '(\w+)'|'(\w+)' (?:function|expects)|Function '?(\w+)'? ")
});
static OPERANDS: LazyLock<Regex> = LazyLock::new(|| {
    made(r"Cannot (?:infer common argument type for|coerce).*?operation (.+?) (\S+) (.+?)$")
});
static TYPES: LazyLock<Regex> = LazyLock::new(|| {
    made(
        r"Dictionary\([^()]*\)|(?:Large)?Utf8(?:View)?|Timestamp\((?:[^()]|\([^()]*\))*\)|U?Int(?:8|16|32|64)|Float(?:16|32|64)|Decimal\d+\([^()]*\)|Boolean|Date32|Date64|Interval\([^()]*\)|Duration\([^()]*\)|Null\b",
    )
});

fn made(pattern: &str) -> Regex {
    // The patterns stand above, and a test runs through all of them.
    Regex::new(pattern).unwrap_or_else(|error| unreachable!("{error}"))
}

fn parser(error: &ParserError, statement: &str) -> Diagnostic {
    let words = match error {
        ParserError::RecursionLimitExceeded => {
            let words = "this statement is nested too deeply";
            return Diagnostic::new(words).instead("give some of them names with `with name as (select …)`");
        }
        ParserError::TokenizerError(words) | ParserError::ParserError(words) => words,
    };
    let place = AT.captures(words).and_then(|found| {
        let number = |nth: usize| found.get(nth)?.as_str().parse().ok();
        offset(statement, Location::new(number(1)?, number(2)?))
    });
    let said = AT.replace_all(words, "");
    let said = said.trim_start_matches("sql parser error: ");
    if let Some(found) = FOUND.captures(said) {
        let (expected, found) = (&found[1], &found[2]);
        let at = place.unwrap_or(statement.trim_end().len());
        if found == "EOF" {
            let wrong = Diagnostic::new("the statement ends too early")
                .instead(format!("{} is missing", wanted(expected)));
            return wrong.at(statement.trim_end().len()..statement.trim_end().len());
        }
        let wrong = Diagnostic::new(format!("`{found}` is not expected here"));
        let near = nearest(&found.to_lowercase(), KEYWORDS.iter().copied());
        let instead = match near {
            Some(near) if !near.eq_ignore_ascii_case(found) => format!("did you mean `{near}`?"),
            _ => format!("{} should stand here", wanted(expected)),
        };
        // It may be told otherwise than it was written.
        let end = (at + found.len()..statement.len()).find(|end| statement.is_char_boundary(*end));
        return wrong.instead(instead).at(at..end.unwrap_or(statement.len()));
    }
    let wrong = match said {
        said if said.contains("Unterminated string literal") => Diagnostic::new("a text does not end")
            .instead("texts stand between ' and '; a ' within is written twice"),
        said if said.contains("Unterminated encoded string") => {
            Diagnostic::new("a text does not end").instead("texts stand between ' and '")
        }
        said if said.contains("Expected close delimiter") => {
            Diagnostic::new("a name in double quotes does not end")
                .instead("names stand between \" and \", texts between ' and '")
        }
        said if said.contains("multi-line comment") => {
            Diagnostic::new("a comment does not end").instead("write */ behind it")
        }
        said => cleaned(said, statement),
    };
    match place {
        Some(place) => {
            let letter = statement.get(place..).and_then(|rest| rest.chars().next());
            wrong.at(place..place + letter.map_or(0, char::len_utf8))
        }
        None => wrong,
    }
}

/// Words that statements are made of, to find the one that was meant.
const KEYWORDS: [&str; 30] = [
    "select",
    "from",
    "where",
    "group",
    "by",
    "order",
    "having",
    "limit",
    "offset",
    "distinct",
    "as",
    "and",
    "or",
    "not",
    "in",
    "like",
    "between",
    "is",
    "null",
    "join",
    "on",
    "union",
    "with",
    "over",
    "partition",
    "desc",
    "asc",
    "case",
    "when",
    "end",
];

/// What was expected, as people say it.
fn wanted(expected: &str) -> String {
    match expected {
        "end of statement" => "the end of the statement".to_owned(),
        "an expression" | "an expression:" => "a column, a value or a function".to_owned(),
        "an SQL statement" => "`select`".to_owned(),
        "identifier" => "a name".to_owned(),
        ")" | "(" | "," | ";" => format!("`{expected}`"),
        expected if expected.chars().all(|letter| letter.is_uppercase() || letter == ' ') => {
            format!("`{}`", expected.to_lowercase())
        }
        expected => expected.to_owned(),
    }
}

fn schema(error: &SchemaError, statement: &str) -> Diagnostic {
    match error {
        SchemaError::FieldNotFound { field, valid_fields } => no_column(field, valid_fields, statement),
        SchemaError::AmbiguousReference { field } => {
            let wrong = Diagnostic::new(format!("`{}` may mean several columns", field.name()))
                .instead("write the table's name before it, as in a.path");
            placed(wrong, name_at(statement, field.name(), false))
        }
        SchemaError::DuplicateUnqualifiedField { name }
        | SchemaError::DuplicateQualifiedField { name, .. } => {
            let wrong = Diagnostic::new(format!("two columns are called `{name}`"))
                .instead("give one of them another name with `as`");
            placed(wrong, name_at(statement, name, false))
        }
    }
}

fn no_column(field: &Column, valid: &[Column], statement: &str) -> Diagnostic {
    let name = field.name();
    let at = name_at(statement, name, false);
    let is_quoted = at.as_ref().is_some_and(|at| statement[at.clone()].starts_with('"'));
    let wrong = Diagnostic::new(format!("there is no column `{name}`"));
    let known: Vec<&str> = valid.iter().map(|column| column.name()).collect();
    let of_unit = || {
        let column = exedra_common::Column::named(name)?;
        let name = Field::Of(column).name();
        known.contains(&name.as_str()).then_some(name)
    };
    let near = of_unit().or_else(|| nearest(&name.to_lowercase(), known.iter().copied()).map(str::to_owned));
    let instead = match near {
        _ if is_quoted => format!("a name stands in double quotes, a text in single ones: '{name}'"),
        Some(near) => format!("did you mean `{near}`?"),
        None if known.len() > 12 => "`exedra columns` lists all there are".to_owned(),
        None if known.is_empty() => format!("nothing is read from: write `from {TABLE}`"),
        None => format!("here there is {}", known.join(", ")),
    };
    placed(wrong.instead(instead), at)
}

fn placed(wrong: Diagnostic, at: Option<Range<usize>>) -> Diagnostic {
    Diagnostic { at: wrong.at.or(at), ..wrong }
}

/// Whatever else the engine says, in words of the trade as far as it is known.
fn cleaned(words: &str, statement: &str) -> Diagnostic {
    if let Some(name) = FUNCTION.captures(words) {
        let name = &name[1];
        let near = nearest(&name.to_lowercase(), functions::all().map(|function| function.name));
        let instead = match near {
            Some(near) => format!("did you mean `{near}`?"),
            None => "`exedra functions` lists all there are".to_owned(),
        };
        let wrong = Diagnostic::new(format!("there is no function `{name}`")).instead(instead);
        return placed(wrong, name_at(statement, name, true));
    }
    if let Some(found) = NOT_GROUPED.captures(words) {
        let name = found.get(1).or(found.get(2)).map_or("", |name| name.as_str());
        let name = name.rsplit('.').next().unwrap_or(name);
        let wrong =
            Diagnostic::new(format!("`{name}` is neither grouped by nor inside a function of a group"));
        let mut aliases = ALIAS.captures_iter(statement).map(|found| found[1].to_lowercase());
        let shadowed = aliases.find(|alias| Field::named(alias).is_some());
        let wrong = wrong.instead(match shadowed {
            Some(alias) => format!(
                "`{alias}` is a column too, and `group by {alias}` means that one: choose another name after `as`"
            ),
            None => format!("add it to `group by`, or write max({name}), count({name}) …"),
        });
        return placed(wrong, name_at(statement, name, false));
    }
    if let Some(found) = INSTANT.captures(words) {
        let value = found.get(1).or(found.get(2)).map_or("", |value| value.as_str());
        let wrong = Diagnostic::new(format!("`{value}` is no time"))
            .instead("write '2026-11-14' or '2026-11-14 05:12:40'");
        return placed(wrong, text_at(statement, value));
    }
    if let Some(found) = CAST.captures(words) {
        let value = &found[1];
        let wrong = Diagnostic::new(format!("`{value}` is no {}", type_name(&found[2])))
            .instead("compare numbers with numbers and texts with texts in single quotes");
        return placed(wrong, text_at(statement, value));
    }
    if words.contains("Divide by zero") {
        return Diagnostic::new("something is divided by 0")
            .instead("write nullif(…, 0) for what it is divided by: then there is no value instead");
    }
    if words.contains("Overflow") || words.contains("overflow") {
        return Diagnostic::new("a number grows beyond what there is room for")
            .instead("compute with fractions, as in sum(bytes * 1.0)");
    }
    if let Some(at) = words.find("text at once") {
        let begin = words[..at].rfind(": ").map_or(0, |begin| begin + 2);
        return Diagnostic::new(words[begin..at + "text at once".len()].to_owned())
            .instead("make shorter texts, or of fewer rows at a time");
    }
    if let Some(found) = OPERANDS.captures(words.lines().next().unwrap_or(words)) {
        let (left, operator, right) = (type_name(&found[1]), &found[2], type_name(&found[3]));
        return Diagnostic::new(format!("a {left} and a {right} do not go together with `{operator}`"))
            .instead("compare like with like, or turn one into the other, as in status::text");
    }
    if words.contains("Failed to coerce arguments")
        || words.contains("No function matches")
        || words.contains("coercion")
        || words.contains("Wrong number of arguments")
    {
        let name = CALL.captures(words).and_then(|found| {
            let name = found.iter().skip(1).flatten().next()?.as_str().to_lowercase();
            functions::all().find(|function| function.name == name)
        });
        if let Some(function) = name {
            let given = TYPES.find(words).map(|found| type_name(found.as_str()));
            let what = match given {
                Some(given) if !words.contains("number of arguments") => {
                    format!("{} does not take a {given}", function.name)
                }
                _ => format!("{} takes other arguments", function.name),
            };
            let wrong = Diagnostic::new(what).instead(format!("it is written {}", function.usage));
            return placed(wrong, name_at(statement, function.name, true));
        }
    }
    Diagnostic::new(in_trade_words(words))
}

/// Where a text stands that a statement has between single quotes.
pub fn text_at(statement: &str, value: &str) -> Option<Range<usize>> {
    let is_it =
        |token: &&TokenWithSpan| matches!(&token.token, Token::SingleQuotedString(text) if text == value);
    let tokens = words(statement);
    range(statement, tokens.iter().find(is_it)?.span)
}

/// What the engine calls a type, as people do.
fn type_name(name: &str) -> &'static str {
    match name.trim() {
        name if name.starts_with("Dictionary") || name.contains("Utf8") => "text",
        name if name.starts_with("Timestamp") => "time",
        name if name.starts_with("Date") => "day",
        name if name.starts_with("Interval") || name.starts_with("Duration") => "length of time",
        name if name.starts_with("Int") || name.starts_with("UInt") => "whole number",
        name if name.starts_with("Float") || name.starts_with("Decimal") => "number",
        name if name.starts_with("Boolean") => "condition",
        name if name.starts_with("Null") => "missing value",
        _ => "value of another kind",
    }
}

/// What is said where nothing better is known: without the engine's own words.
fn in_trade_words(words: &str) -> String {
    const PREFIXES: [&str; 14] = [
        "Error during planning: ",
        "Execution error: ",
        "This feature is not implemented: ",
        "Arrow error: ",
        "Schema error: ",
        "Optimizer rule",
        "Internal error: ",
        "External error: ",
        "SQL error: ",
        "Invalid argument error: ",
        "Compute error: ",
        "Cast error: ",
        "Parser error: ",
        "type_coercion",
    ];
    let first = words.lines().next().unwrap_or(words);
    let first = first.split(". Candidate functions").next().unwrap_or(first);
    let first = first.split("This issue was likely caused by a bug").next().unwrap_or(first);
    let mut rest = first.trim();
    // Outer reasons stand before inner ones.
    while let Some(prefix) = PREFIXES.iter().find(|prefix| rest.starts_with(**prefix)) {
        rest = rest[prefix.len()..].trim_start_matches([':', ' ', '\'', '"']);
        if prefix.starts_with("Optimizer") || prefix.starts_with("type_") {
            rest = rest.split_once("caused by").map_or(rest, |(_, rest)| rest.trim());
        }
    }
    let rest = TYPES.replace_all(rest, |found: &regex::Captures<'_>| type_name(&found[0]));
    let rest = rest.replace(&format!("{TABLE}."), "").replace("DataFusion", "the engine");
    let mut letters = rest.trim_end_matches('.').chars();
    let sentence: String =
        letters.next().map_or(String::new(), |first| first.to_lowercase().chain(letters).collect());
    match sentence.is_empty() {
        true => "the statement cannot be executed".to_owned(),
        false => format!("the statement cannot be executed: {sentence}"),
    }
}
