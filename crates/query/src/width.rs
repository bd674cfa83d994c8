//! How much a statement makes of one request, and so how many requests may be gone through at once.
//!
//! The engine goes through requests by the ten thousand, and what stands in a statement for all of them, a text of some kilobytes say,
//! it makes for each. Nor does it count what is on its way through expressions. So what a statement makes of one request is reckoned
//! before it runs, with texts as long as they are and columns of subqueries as what they stand for: where it is much, fewer requests
//! are gone through at once, and where it is too much, the statement is refused.
//!
//! An expression that names a column of a subquery twice, which names one of another twice, doubles with each: the engine would write
//! all of it out when it moves conditions to where requests are read. That is too much as well, and found here in one walk.

use crate::diagnostic::Diagnostic;
use datafusion::common::tree_node::{TreeNode, TreeNodeRecursion};
use datafusion::common::{Column, DFSchema, Result};
use datafusion::logical_expr::expr::InList;
use datafusion::logical_expr::{Expr, LogicalPlan};

/// The most that may be made of one request, in octets.
pub const MOST: u64 = 1 << 20;
/// How much may be on its way at once, in octets.
const AT_ONCE: u64 = 64 << 20;
/// The most requests that come at once.
const MOST_ROWS: usize = 1 << 16;
/// What a number takes, or a code.
const PLAIN: u64 = 8;
/// What a step of an expression takes beside its parts.
const STEP: u64 = 16;

/// How many requests may be gone through at once, for whoever hands them out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RowsAtOnce(pub usize);

impl RowsAtOnce {
    /// Where so many octets are made of each; `None` where as many may as there usually are.
    pub fn of(width: u64) -> Option<RowsAtOnce> {
        let rows = usize::try_from(AT_ONCE / width.max(1)).unwrap_or(usize::MAX).max(1);
        (rows < MOST_ROWS).then_some(RowsAtOnce(rows))
    }
}

/// How much a plan makes of one request, in octets.
///
/// # Errors
/// When the engine cannot go through its own plan.
pub fn of_plan(plan: &LogicalPlan) -> Result<u64> {
    let mut made = 0;
    columns(plan, &mut made)?;
    Ok(made)
}

/// A width that may be carried out.
///
/// # Errors
/// When it is more than [`MOST`].
pub fn check(width: u64) -> Result<u64, Diagnostic> {
    match width > MOST {
        true => Err(Diagnostic::new("this statement makes more than 1 MB of each request").instead(
            "shorten its texts, and compute fewer columns from columns that are computed themselves",
        )),
        false => Ok(width),
    }
}

/// What each column of a plan stands for, in octets. Adds what is made on the way.
fn columns(plan: &LogicalPlan, made: &mut u64) -> Result<Vec<u64>> {
    let inputs: Vec<Vec<u64>> =
        plan.inputs().into_iter().map(|input| columns(input, made)).collect::<Result<_>>()?;
    plan.apply_subqueries(|within| {
        columns(within, made)?;
        Ok(TreeNodeRecursion::Jump)
    })?;
    let below: Vec<(&DFSchema, &[u64])> =
        plan.inputs().iter().map(|input| &**input.schema()).zip(inputs.iter().map(Vec::as_slice)).collect();
    let of_each: Vec<u64> =
        plan.expressions().iter().map(|expression| of(expression, &below)).collect::<Result<_>>()?;
    *made = of_each.iter().fold(*made, |sum, one| sum.saturating_add(*one));
    let handed_on = || inputs.iter().flatten().copied();
    let mut columns: Vec<u64> = match plan {
        LogicalPlan::Projection(_) => of_each,
        LogicalPlan::Window(_) => handed_on().chain(of_each).collect(),
        LogicalPlan::Aggregate(grouping) => {
            let groups = grouping.group_expr.len();
            of_each.iter().enumerate().map(|(nth, one)| if nth < groups { *one } else { PLAIN }).collect()
        }
        LogicalPlan::Union(_) => {
            let most = |nth: usize| inputs.iter().filter_map(|input| input.get(nth)).max();
            (0..plan.schema().fields().len()).map(|nth| most(nth).copied().unwrap_or(PLAIN)).collect()
        }
        LogicalPlan::Values(values) => {
            let each = values.values.iter().flatten().map(|one| of(one, &[])).collect::<Result<Vec<_>>>()?;
            vec![each.into_iter().max().unwrap_or(PLAIN); plan.schema().fields().len()]
        }
        _ => handed_on().collect(),
    };
    columns.resize(plan.schema().fields().len(), PLAIN);
    Ok(columns)
}

/// What an expression takes, written out.
fn of(expression: &Expr, below: &[(&DFSchema, &[u64])]) -> Result<u64> {
    let mut sum: u64 = 0;
    expression.apply(|part| {
        let takes = match part {
            Expr::Literal(value, _) => PLAIN + (value.size() - size_of_val(value)) as u64,
            Expr::Column(column) => stands_for(column, below),
            // What may be one of many values is not made many values.
            Expr::InList(InList { expr, list, .. })
                if list.iter().all(|one| matches!(one, Expr::Literal(..))) =>
            {
                sum = sum.saturating_add(STEP).saturating_add(of(expr, below)?);
                return Ok(TreeNodeRecursion::Jump);
            }
            _ => STEP,
        };
        sum = sum.saturating_add(takes);
        Ok(TreeNodeRecursion::Continue)
    })?;
    Ok(sum)
}

fn stands_for(column: &Column, below: &[(&DFSchema, &[u64])]) -> u64 {
    let of = |(schema, widths): &(&DFSchema, &[u64])| {
        let place = schema.maybe_index_of_column(column)?;
        widths.get(place).copied()
    };
    below.iter().find_map(of).unwrap_or(PLAIN)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::ordinary(1_000, None)]
    #[case::many_columns(8_192, Some(8_192))]
    #[case::the_most(MOST, Some(64))]
    #[case::whatever_it_is(u64::MAX, Some(1))]
    fn fewer_rows_the_wider_they_are(#[case] width: u64, #[case] rows: Option<usize>) {
        assert_eq!(RowsAtOnce::of(width).map(|rows| rows.0), rows);
        assert_eq!(check(width).is_ok(), width <= MOST);
    }
}
