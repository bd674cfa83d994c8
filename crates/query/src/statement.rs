//! A statement: parsed, refused where it would do more than read `requests`, and made ready for the engine.
//!
//! Refusing comes before planning, and is a list of what is allowed: one query, over the one table and what the query itself names.
//! So nothing that writes, changes settings, or reaches a file or the network has to be known here to be refused.
//!
//! ```
//! use exedra_query::Statement;
//! use exedra_query::parameters::Parameters;
//! let none = Parameters::default();
//! assert!(Statement::understand("select path from requests", &none).is_ok());
//! let refused = Statement::understand("drop table requests", &none).unwrap_err();
//! assert_eq!(refused.what, "only select statements are allowed: nothing is changed here");
//! ```

use crate::diagnostic::Diagnostic;
use crate::expansion::{self, expanded};
use crate::functions::{IS_PERSON, JOINED, VISIT_OF};
use crate::parameters::Parameters;
use crate::schema::TABLE;
use crate::wording;
use datafusion::sql::parser::{DFParserBuilder, Statement as Parsed};
use datafusion::sql::sqlparser::ast::{
    BinaryOperator, Expr, Function, FunctionArg, FunctionArgExpr, FunctionArguments, Ident, ObjectName,
    Query, Select, SetExpr, Spanned, Statement as SqlStatement, TableFactor, Value, VisitMut, VisitorMut,
};
use datafusion::sql::sqlparser::dialect::GenericDialect;
use datafusion::sql::sqlparser::parser::Parser;
use datafusion::sql::sqlparser::tokenizer::{Span, Token, Tokenizer};
use exedra_common::text::nearest;
use regex::RegexBuilder;
use std::collections::BTreeSet;
use std::ops::ControlFlow;

/// The longest statement, in octets.
pub const LONGEST: usize = 32 << 10;
/// How deep parts of a statement may stand in each other.
pub const DEEPEST: usize = 40;
/// The most that a regular expression may become, in octets.
const LARGEST_PATTERN: usize = 1 << 20;
/// The functions that are written without parentheses, and whose names are columns here.
const COLUMNS_FIRST: [&str; 1] = ["user"];

/// A statement that may be carried out.
#[derive(Debug, Clone)]
pub struct Statement {
    /// As it was written.
    pub written: String,
    parsed: Parsed,
}

impl Statement {
    /// Understands a statement, with values for its `:name`s.
    ///
    /// # Errors
    /// When it is no statement, or one that would do more than read.
    pub fn understand(written: &str, parameters: &Parameters) -> Result<Statement, Diagnostic> {
        if written.len() > LONGEST {
            let words = format!("a statement has at most {} kB", LONGEST >> 10);
            return Err(Diagnostic::new(words).instead("shorten it"));
        }
        if written.trim().is_empty() {
            let example = "select path, count(*) as n from requests group by path order by n desc limit 20";
            return Err(
                Diagnostic::new("no statement was given").instead(format!("write one, as in {example}"))
            );
        }
        let dialect = GenericDialect {};
        let parser =
            DFParserBuilder::new(written).with_dialect(&dialect).with_recursion_limit(DEEPEST).build();
        let parsed = parser.and_then(|mut parser| parser.parse_statements());
        let mut parsed = parsed.map_err(|error| wording::worded(&error, written))?;
        let only_one = parsed.len() == 1;
        let Some(first) = parsed.pop_front().filter(|_| only_one) else {
            return Err(
                Diagnostic::new("one statement at a time is answered").instead("leave the others out")
            );
        };
        let not_a_question = || {
            Diagnostic::new("only select statements are allowed: nothing is changed here")
                .instead(format!("write a statement that begins with select, over the table {TABLE}"))
        };
        let Parsed::Statement(mut statement) = first else { return Err(not_a_question()) };
        let SqlStatement::Query(query) = &mut *statement else { return Err(not_a_question()) };
        let becomes = expanded(query);
        if becomes > expansion::MOST {
            let words = format!(
                "this statement becomes {becomes} selects and tables, as what `with` names is carried out wherever the name stands"
            );
            let instead = format!("name it less often: {} at most are carried out", expansion::MOST);
            return Err(Diagnostic::new(words).instead(instead));
        }
        let mut making = MakeReady { written, parameters, known: BTreeSet::from([TABLE.to_owned()]) };
        making.learn_names(query);
        if let ControlFlow::Break(wrong) = VisitMut::visit(&mut **query, &mut making) {
            return Err(*wrong);
        }
        Ok(Statement { written: written.to_owned(), parsed: Parsed::Statement(statement) })
    }

    /// The statement as an engine takes it.
    pub fn parsed(&self) -> Parsed {
        self.parsed.clone()
    }

    /// The `:name`s that a statement has, in their order.
    pub fn names(written: &str) -> Vec<String> {
        let tokens = Tokenizer::new(&GenericDialect {}, written).tokenize().unwrap_or_default();
        let mut names: Vec<String> = Vec::new();
        let named = tokens.windows(2).filter_map(|pair| match pair {
            [Token::Colon, Token::Word(word)] => Some(word.value.clone()),
            [_, Token::Placeholder(name)] => Some(name.trim_start_matches([':', '$']).to_owned()),
            _ => None,
        });
        for name in named {
            if !names.contains(&name) {
                names.push(name);
            }
        }
        names
    }
}

/// Refuses what is not allowed, and replaces what the engine does not know.
struct MakeReady<'s> {
    written: &'s str,
    parameters: &'s Parameters,
    /// Tables that there are: ours, and what the statement names itself.
    known: BTreeSet<String>,
}

type Refused = ControlFlow<Box<Diagnostic>>;

impl MakeReady<'_> {
    fn refuse(&self, what: impl Into<String>, span: Span, instead: impl Into<String>) -> Refused {
        let wrong = Diagnostic::new(what).instead(instead);
        ControlFlow::Break(Box::new(match wording::range(self.written, span) {
            Some(at) => wrong.at(at),
            None => wrong,
        }))
    }

    fn learn_names(&mut self, query: &Query) {
        for table in query.with.iter().flat_map(|with| &with.cte_tables) {
            self.known.insert(table.alias.name.value.to_lowercase());
        }
    }

    /// Whether a pattern is one for all requests, and no larger than can be looked for: one that is made anew for each of them takes
    /// longer than anybody waits.
    fn pattern(&self, pattern: &Expr, of: &str) -> Refused {
        let Expr::Value(value) = pattern else {
            return self.refuse(
                "a regular expression is written out, the same for all requests",
                pattern.span(),
                format!("write it as a text, as in {of}"),
            );
        };
        let Some(written) = value.value.clone().into_string() else { return ControlFlow::Continue(()) };
        match RegexBuilder::new(&written).size_limit(LARGEST_PATTERN).build() {
            Err(regex::Error::CompiledTooBig(_)) => self.refuse(
                "this regular expression becomes too large to look for",
                value.span,
                "repeat less within it",
            ),
            // What is wrong otherwise, the engine says.
            _ => ControlFlow::Continue(()),
        }
    }

    fn parameter(&self, name: &str, span: Span) -> Result<Expr, Refused> {
        let name = name.trim_start_matches([':', '$']);
        let literal = self.parameters.literal(name);
        let literal = literal.and_then(|literal| {
            Parser::new(&GenericDialect {})
                .try_with_sql(&literal)
                .and_then(|mut parser| parser.parse_expr())
                .ok()
        });
        literal.ok_or_else(|| {
            self.refuse(
                format!("no value is given for :{name}"),
                span,
                format!("write the value in its place, or give it (--set {name}=…)"),
            )
        })
    }
}

impl VisitorMut for MakeReady<'_> {
    type Break = Box<Diagnostic>;

    fn pre_visit_query(&mut self, query: &mut Query) -> Refused {
        self.learn_names(query);
        if !query.locks.is_empty() {
            return self.refuse("nothing is locked here", Span::empty(), "leave `for update` out");
        }
        match &*query.body {
            SetExpr::Insert(_) | SetExpr::Update(_) | SetExpr::Delete(_) | SetExpr::Merge(_) => self.refuse(
                "only select statements are allowed: nothing is changed here",
                query.body.span(),
                "write a select",
            ),
            _ => ControlFlow::Continue(()),
        }
    }

    fn pre_visit_select(&mut self, select: &mut Select) -> Refused {
        match &select.into {
            Some(into) => self.refuse(
                "answers are not kept in a table",
                into.name.span(),
                "leave `into` out; `exedra query … --as csv` writes a file",
            ),
            None => ControlFlow::Continue(()),
        }
    }

    fn pre_visit_table_factor(&mut self, table: &mut TableFactor) -> Refused {
        match table {
            TableFactor::Table { name, args: None, .. } => {
                let written = name.to_string();
                let plain = written.trim_matches(['"', '`', '\'']).to_lowercase();
                if self.known.contains(&plain) {
                    // The engine takes what is quoted letter by letter.
                    *name = ObjectName::from(vec![Ident::new(plain)]);
                    return ControlFlow::Continue(());
                }
                let near = nearest(&plain, self.known.iter().map(String::as_str));
                let instead = match near {
                    Some(near) => format!("did you mean {near}?"),
                    None => format!("there is one table, {TABLE}; logs are named behind the statement"),
                };
                let wrong = Diagnostic::new(format!("there is no table {written}")).instead(instead);
                let at = wording::range(self.written, name.span());
                let at = at.or_else(|| wording::text_at(self.written, written.trim_matches('\'')));
                ControlFlow::Break(Box::new(Diagnostic { at, ..wrong }))
            }
            TableFactor::Derived { .. } | TableFactor::NestedJoin { .. } => ControlFlow::Continue(()),
            other => {
                let instead = format!("select from {TABLE}, or from a select in parentheses");
                self.refuse("this cannot be read from", other.span(), instead)
            }
        }
    }

    fn post_visit_expr(&mut self, expression: &mut Expr) -> Refused {
        let span = expression.span();
        match expression {
            Expr::Value(value) => {
                if let Value::Placeholder(name) = &value.value {
                    match self.parameter(&name.clone(), value.span) {
                        Ok(literal) => *expression = literal,
                        Err(refused) => return refused,
                    }
                }
            }
            Expr::Function(function) => {
                let name = function.name.to_string().to_lowercase();
                let has_none = match &function.args {
                    FunctionArguments::None => true,
                    FunctionArguments::List(list) => list.args.is_empty(),
                    FunctionArguments::Subquery(_) => false,
                };
                if matches!(function.args, FunctionArguments::None) && COLUMNS_FIRST.contains(&&*name) {
                    let column = Ident::with_span(span, name);
                    *expression = Expr::Identifier(column);
                } else if name == IS_PERSON && has_none {
                    let column = Ident::with_span(span, "crawler");
                    let is_null = Expr::IsNull(Box::new(Expr::Identifier(column)));
                    *expression = Expr::Nested(Box::new(is_null));
                } else if name.starts_with("regexp_") {
                    let FunctionArguments::List(list) = &function.args else {
                        return ControlFlow::Continue(());
                    };
                    if let Some(FunctionArg::Unnamed(FunctionArgExpr::Expr(pattern))) = list.args.get(1) {
                        return self.pattern(pattern, &format!("{name}(path, '^/a')"));
                    }
                } else if name == VISIT_OF && has_none {
                    *expression = written_out(
                        "visit_of(time, client, agent) over (partition by client, agent order by time)",
                    );
                }
            }
            Expr::BinaryOp {
                op:
                    BinaryOperator::PGRegexMatch
                    | BinaryOperator::PGRegexIMatch
                    | BinaryOperator::PGRegexNotMatch
                    | BinaryOperator::PGRegexNotIMatch,
                right,
                ..
            } => return self.pattern(right, "path ~ '^/a'"),
            Expr::SimilarTo { pattern, .. } => return self.pattern(pattern, "path similar to '/a%'"),
            Expr::RLike { pattern, .. } => return self.pattern(pattern, "regexp_like(path, '^/a')"),
            Expr::BinaryOp { left, op: BinaryOperator::StringConcat, right } => {
                let mut joined = written_out(&format!("{JOINED}(1, 2)"));
                if let Expr::Function(Function { args: FunctionArguments::List(list), .. }) = &mut joined {
                    let argument = |value: &Expr| FunctionArg::Unnamed(FunctionArgExpr::Expr(value.clone()));
                    list.args = vec![argument(left), argument(right)];
                }
                *expression = joined;
            }
            _ => {}
        }
        ControlFlow::Continue(())
    }
}

/// An expression of ours, as it is written.
fn written_out(text: &str) -> Expr {
    let parsed =
        Parser::new(&GenericDialect {}).try_with_sql(text).and_then(|mut parser| parser.parse_expr());
    // What stands here is right; where it were not, the engine would say so.
    parsed.unwrap_or_else(|_| Expr::Identifier(Ident::new(text)))
}
