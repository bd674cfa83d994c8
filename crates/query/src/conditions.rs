//! Conditions of a statement that whoever reads requests can test, before the rest of a request is looked at.
//!
//! All that the filters of the house can express: comparisons and ranges of times and numbers, equality, `in`, `like` of texts,
//! `is null`, networks. A condition is *exact* where a filter keeps just what SQL would; where it keeps more, the engine looks at
//! what is left once again. What cannot be expressed is left to the engine.
//!
//! ```
//! use datafusion::prelude::{col, lit};
//! use exedra_common::scope::Scope;
//! use exedra_query::conditions::{Pushed, narrow};
//! let mut scope = Scope::default();
//! assert_eq!(narrow(&mut scope, &col("status").gt_eq(lit(500_i64))), Pushed::Exactly);
//! assert_eq!(narrow(&mut scope, &col("agent").like(lit("%Firefox%"))), Pushed::Exactly);
//! assert_eq!(narrow(&mut scope, &col("bytes").gt(col("full_bytes"))), Pushed::Not);
//! assert_eq!(scope.filters.to_string(), "status>=500 agent=*Firefox*");
//! ```

use crate::functions::{IN_NETWORK, network_of};
use crate::schema::Field;
use datafusion::common::ScalarValue;
use datafusion::logical_expr::expr::{InList, ScalarFunction};
use datafusion::logical_expr::{Between, BinaryExpr, Cast, Expr, Like, Operator};
use exedra_common::columns::Kind;
use exedra_common::filters::Filter;
use exedra_common::scope::Scope;
use exedra_common::text::Wildcard;
use exedra_common::{Column, NumberColumn};

/// How well a scope says a condition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pushed {
    /// It keeps the same requests.
    Exactly,
    /// It keeps those and others.
    Roughly,
    /// It cannot say it.
    Not,
}

/// Narrows a scope by a condition, as far as it can say it.
pub fn narrow(scope: &mut Scope, condition: &Expr) -> Pushed {
    let mut narrowed = scope.clone();
    match understand(&mut narrowed, condition) {
        Some(pushed) => {
            *scope = narrowed;
            pushed
        }
        None => Pushed::Not,
    }
}

fn understand(scope: &mut Scope, condition: &Expr) -> Option<Pushed> {
    match condition {
        Expr::BinaryExpr(BinaryExpr { left, op: Operator::And, right }) => {
            let (left, right) = (narrow(scope, left), narrow(scope, right));
            match (left, right) {
                (Pushed::Exactly, Pushed::Exactly) => Some(Pushed::Exactly),
                (Pushed::Not, Pushed::Not) => None,
                _ => Some(Pushed::Roughly),
            }
        }
        Expr::BinaryExpr(BinaryExpr { left, op: Operator::Or, right }) => either(scope, left, right),
        Expr::BinaryExpr(BinaryExpr { left, op, right }) => match (column(left), column(right)) {
            (Some(column), None) => compare(scope, column, *op, value(right)?),
            (None, Some(column)) => compare(scope, column, op.swap()?, value(left)?),
            _ => None,
        },
        Expr::Between(Between { expr, negated: false, low, high }) => {
            let column = column(expr)?;
            let low = compare(scope, column, Operator::GtEq, value(low)?)?;
            let high = compare(scope, column, Operator::LtEq, value(high)?)?;
            Some(if low == high { low } else { Pushed::Roughly })
        }
        Expr::InList(InList { expr, list, negated: false }) => {
            let column = column(expr)?;
            let values: Vec<&ScalarValue> = list.iter().map(value).collect::<Option<_>>()?;
            any_of(scope, column, &values)
        }
        Expr::Like(Like { negated: false, expr, pattern, escape_char: None, case_insensitive }) => {
            let column = text_column(column(expr)?)?;
            let pattern = pattern_of(text(value(pattern)?)?)?;
            let pattern = if *case_insensitive { pattern.in_any_case() } else { pattern };
            scope.filters.narrow(Filter::fitting(column, [pattern]));
            Some(Pushed::Exactly)
        }
        Expr::IsNull(expr) => {
            let column = text_column(column(expr)?)?;
            scope.filters.narrow(Filter { without: true, ..Filter::any(column) });
            Some(Pushed::Exactly)
        }
        Expr::IsNotNull(expr) => {
            let column = text_column(column(expr)?)?;
            scope.filters.narrow(Filter::any(column));
            Some(Pushed::Exactly)
        }
        Expr::ScalarFunction(ScalarFunction { func, args }) if func.name() == IN_NETWORK => {
            let [client, network] = &args[..] else { return None };
            let column = text_column(column(client)?)?;
            let network = network_of(text(value(network)?)?)?;
            scope.filters.narrow(Filter::within(column, network));
            Some(Pushed::Exactly)
        }
        _ => None,
    }
}

/// One condition or another on the same column.
fn either(scope: &mut Scope, left: &Expr, right: &Expr) -> Option<Pushed> {
    let alone = |condition| {
        let mut alone = Scope::default();
        let pushed = understand(&mut alone, condition)?;
        let filters: Vec<Filter> = alone.filters.iter().cloned().collect();
        let is_plain = alone.from.is_none() && alone.until.is_none();
        match (&filters[..], is_plain) {
            ([filter], true) if !filter.without => Some((filter.clone(), pushed)),
            _ => None,
        }
    };
    let ((left, one), (right, other)) = (alone(left)?, alone(right)?);
    if left.column != right.column {
        return None;
    }
    let filter = left.or(right)?;
    scope.filters.narrow(filter);
    Some(if one == other { one } else { Pushed::Roughly })
}

/// Any of some values.
fn any_of(scope: &mut Scope, column: Column, values: &[&ScalarValue]) -> Option<Pushed> {
    if column.declaration().kind == Kind::Text {
        let texts: Vec<Wildcard> =
            values.iter().map(|value| text(value).map(Wildcard::exactly)).collect::<Option<_>>()?;
        scope.filters.narrow(Filter::fitting(column, texts));
        return Some(Pushed::Exactly);
    }
    let mut each = values.iter().map(|value| {
        let mut alone = Scope::default();
        let pushed = compare(&mut alone, column, Operator::Eq, value)?;
        Some((alone.filters.iter().next()?.clone(), pushed))
    });
    let (mut filter, pushed) = each.next()??;
    for other in each {
        let (other, how) = other?;
        if how != pushed {
            return None;
        }
        filter = filter.or(other)?;
    }
    scope.filters.narrow(filter);
    Some(pushed)
}

fn compare(scope: &mut Scope, column: Column, operator: Operator, value: &ScalarValue) -> Option<Pushed> {
    match column {
        Column::Time => compare_time(scope, operator, value),
        Column::Number(column) => compare_number(scope, column, operator, value),
        Column::Text(_) | Column::Derived(_) if operator == Operator::Eq => {
            scope.filters.narrow(Filter::fitting(column, [Wildcard::exactly(text(value)?)]));
            Some(Pushed::Exactly)
        }
        Column::Text(_) | Column::Derived(_) if operator == Operator::NotEq => {
            let filter = Filter::fitting(column, [Wildcard::exactly(text(value)?)]);
            scope.filters.narrow(Filter { without: true, ..filter });
            // Whoever has no text is unequal to it for a filter, and neither for SQL.
            scope.filters.narrow(Filter::any(column));
            Some(Pushed::Exactly)
        }
        Column::Text(_) | Column::Derived(_) => None,
    }
}

fn compare_time(scope: &mut Scope, operator: Operator, value: &ScalarValue) -> Option<Pushed> {
    let time = match value {
        ScalarValue::TimestampMillisecond(time, _) => (*time)?,
        ScalarValue::TimestampSecond(time, _) => (*time)?.checked_mul(1000)?,
        // Finer than any request's time: what is cut off must change nothing.
        ScalarValue::TimestampMicrosecond(time, _) => whole((*time)?, 1000)?,
        ScalarValue::TimestampNanosecond(time, _) => whole((*time)?, 1_000_000)?,
        _ => return None,
    };
    let mut from = |time: Option<i64>| scope.from = scope.from.max(time);
    match operator {
        Operator::GtEq => from(Some(time)),
        Operator::Gt => from(Some(time.checked_add(1)?)),
        Operator::Lt => until(scope, time),
        Operator::LtEq => until(scope, time.checked_add(1)?),
        Operator::Eq => {
            from(Some(time));
            until(scope, time.checked_add(1)?);
        }
        _ => return None,
    }
    Some(Pushed::Exactly)
}

fn until(scope: &mut Scope, time: i64) {
    scope.until = Some(scope.until.map_or(time, |known| known.min(time)));
}

fn whole(time: i64, unit: i64) -> Option<i64> {
    (time % unit == 0).then_some(time / unit)
}

fn compare_number(
    scope: &mut Scope,
    column: NumberColumn,
    operator: Operator,
    value: &ScalarValue,
) -> Option<Pushed> {
    // The greatest that a batch holds as a number.
    const MOST: u64 = u64::MAX - 1;
    let is_duration = Column::from(column).declaration().kind == Kind::Duration;
    let (number, is_whole) = match is_duration {
        true => {
            let microseconds = float(value)? * 1000.0;
            (microseconds.floor(), microseconds.fract() == 0.0)
        }
        false => (integer(value)? as f64, true),
    };
    // Where numbers are no longer told apart, the engine must look.
    if number.abs() >= 9e15 {
        return None;
    }
    let nothing = (1, 0);
    let number = number as i64;
    let range = |from: i64, to: i64| match u64::try_from(to) {
        Ok(to) => (u64::try_from(from).unwrap_or(0), to),
        Err(_) => nothing,
    };
    // A length of time that lies between two whole microseconds.
    let above = number + i64::from(!is_whole);
    let (from, to) = match operator {
        Operator::Eq if is_whole => range(number, number),
        Operator::Eq => nothing,
        Operator::GtEq => (u64::try_from(above).unwrap_or(0), MOST),
        Operator::Gt => (u64::try_from(number + 1).unwrap_or(0), MOST),
        Operator::LtEq => range(0, number),
        Operator::Lt => range(0, above - 1),
        _ => return None,
    };
    scope.filters.narrow(Filter::between(column, from, to));
    // Fractions of milliseconds are not told apart as exactly as whole microseconds.
    Some(if is_duration { Pushed::Roughly } else { Pushed::Exactly })
}

/// The column that an expression is, perhaps behind a change of type that keeps its values.
fn column(expression: &Expr) -> Option<Column> {
    match expression {
        Expr::Column(column) => match Field::named(&column.name)? {
            Field::Of(column) => Some(column),
            Field::Visitor => None,
        },
        Expr::Cast(Cast { expr, field }) if field.data_type().is_string() => text_column(column(expr)?),
        _ => None,
    }
}

fn text_column(column: Column) -> Option<Column> {
    matches!(column, Column::Text(_) | Column::Derived(_)).then_some(column)
}

fn value(expression: &Expr) -> Option<&ScalarValue> {
    match expression {
        Expr::Literal(value, _) if !value.is_null() => Some(value),
        _ => None,
    }
}

fn text(value: &ScalarValue) -> Option<&str> {
    match value {
        ScalarValue::Dictionary(_, value) => text(value),
        value => value.try_as_str().flatten(),
    }
}

fn integer(value: &ScalarValue) -> Option<i64> {
    match value {
        ScalarValue::Int64(number) => *number,
        ScalarValue::Int32(number) => number.map(i64::from),
        ScalarValue::UInt64(number) => number.and_then(|number| i64::try_from(number).ok()),
        _ => None,
    }
}

fn float(value: &ScalarValue) -> Option<f64> {
    match value {
        ScalarValue::Float64(number) => number.filter(|number| number.is_finite()),
        value => integer(value).map(|number| number as f64),
    }
}

/// A pattern of SQL as one of ours, where it says the same.
fn pattern_of(pattern: &str) -> Option<Wildcard> {
    if pattern.contains(['_', '\\']) {
        return None;
    }
    Some(Wildcard::new(&pattern.replace('*', "\\*").replace('%', "*")))
}
