//! How many selects and tables a statement becomes once its names are written out.
//!
//! What `with` names, the engine writes out wherever the name stands. A statement of a few lines, each of which names the line before
//! twice, so becomes a million selects, and planning them takes the machine's memory before anything is read. Here they are counted
//! without being written out.
//!
//! ```
//! use exedra_query::{Statement, parameters::Parameters};
//! let doubled = |lines: usize| {
//!     let each = (1..lines).map(|nth| format!(", t{nth} as (select 1 from t{0} a, t{0} b)", nth - 1));
//!     format!("with t0 as (select 1){} select 1 from t{}", each.collect::<String>(), lines - 1)
//! };
//! assert!(Statement::understand(&doubled(4), &Parameters::default()).is_ok());
//! let refused = Statement::understand(&doubled(40), &Parameters::default()).unwrap_err();
//! assert!(refused.what.starts_with("this statement becomes "), "{refused}");
//! ```

use datafusion::sql::sqlparser::ast::{Query, Select, TableFactor, Visit, Visitor};
use std::collections::BTreeMap;
use std::ops::ControlFlow;

/// The most that are planned.
pub const MOST: u64 = 256;

/// How many selects and tables a query becomes.
pub fn expanded(query: &Query) -> u64 {
    let mut counting = Counting { within: vec![Within::default()] };
    // Nothing ends it early.
    let _: ControlFlow<()> = query.visit(&mut counting);
    counting.within.pop().map_or(0, |whole| whole.count)
}

/// One for each query that the place at hand is within.
#[derive(Default)]
struct Within {
    count: u64,
    /// The queries that it names, told apart by where they are in memory.
    named: Vec<(*const Query, String)>,
    /// What each name becomes that has been gone through.
    becomes: BTreeMap<String, u64>,
}

struct Counting {
    within: Vec<Within>,
}

impl Counting {
    fn add(&mut self, count: u64) {
        if let Some(within) = self.within.last_mut() {
            within.count = within.count.saturating_add(count);
        }
    }
}

impl Visitor for Counting {
    type Break = ();

    fn pre_visit_query(&mut self, query: &Query) -> ControlFlow<()> {
        let named = query.with.iter().flat_map(|with| &with.cte_tables);
        let named =
            named.map(|table| (std::ptr::from_ref(&*table.query), table.alias.name.value.to_lowercase()));
        self.within.push(Within { named: named.collect(), ..Within::default() });
        ControlFlow::Continue(())
    }

    fn post_visit_query(&mut self, query: &Query) -> ControlFlow<()> {
        let count = self.within.pop().map_or(0, |within| within.count);
        if let Some(around) = self.within.last_mut() {
            match around.named.iter().find(|(named, _)| std::ptr::eq(*named, query)) {
                Some((_, name)) => {
                    around.becomes.insert(name.clone(), count.max(1));
                }
                None => around.count = around.count.saturating_add(count),
            }
        }
        ControlFlow::Continue(())
    }

    fn pre_visit_select(&mut self, _: &Select) -> ControlFlow<()> {
        self.add(1);
        ControlFlow::Continue(())
    }

    fn pre_visit_table_factor(&mut self, table: &TableFactor) -> ControlFlow<()> {
        if let TableFactor::Table { name, .. } = table {
            let name = name.to_string().trim_matches(['"', '`', '\'']).to_lowercase();
            let becomes = self.within.iter().rev().find_map(|within| within.becomes.get(&name));
            self.add(becomes.copied().unwrap_or(1));
        }
        ControlFlow::Continue(())
    }
}

#[cfg(test)]
mod tests {
    use datafusion::sql::sqlparser::ast::Statement;
    use datafusion::sql::sqlparser::dialect::GenericDialect;
    use datafusion::sql::sqlparser::parser::Parser;
    use rstest::rstest;

    #[rstest]
    #[case::plain("select 1 from requests", 2)]
    #[case::joined("select 1 from requests a join requests b on a.path = b.path", 3)]
    #[case::named("with a as (select 1 from requests) select 1 from a", 3)]
    #[case::named_and_never_used("with a as (select 1 from requests, requests) select 1", 1)]
    #[case::named_and_used_twice("with a as (select 1 from requests) select 1 from a, \"A\"", 5)]
    #[case::within("select 1 from (with a as (select 1) select 1 from a, a) x, (select 1 from a) y", 6)]
    #[case::in_a_condition("select 1 from requests where path in (select 1 from requests)", 4)]
    #[case::hidden(
        "with a as (select 1) select 1 from (with a as (select 1 from a, a) select 1 from a) x, a",
        6
    )]
    #[case::of_itself("with recursive a as (select 1 union all select 1 from a) select 1 from a", 4)]
    fn counted_as_if_written_out(#[case] statement: &str, #[case] count: u64) {
        let parsed = Parser::parse_sql(&GenericDialect {}, statement).unwrap().remove(0);
        let Statement::Query(query) = parsed else { panic!("{statement}") };
        assert_eq!(super::expanded(&query), count);
    }
}
