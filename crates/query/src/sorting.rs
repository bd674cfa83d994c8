//! Long sorts of coded texts.
//!
//! A sort that does not fit into memory is written aside in pieces, and of each piece the engine counts the whole dictionary
//! that its texts are coded into: a million rows with long texts then need more than there is. So where everything is to be
//! sorted, texts are spelled out before, in batches small enough to be merged, and coded afterwards. Where only the first rows
//! are wanted, codes stay: few rows are kept.

use crate::recoded::{Recoded, spelled_out};
use crate::schema::text;
use arrow::datatypes::Schema;
use datafusion::common::Result;
use datafusion::common::config::ConfigOptions;
use datafusion::common::tree_node::{Transformed, TransformedResult, TreeNode};
use datafusion::physical_optimizer::PhysicalOptimizerRule;
use datafusion::physical_plan::ExecutionPlan;
use datafusion::physical_plan::sorts::sort::SortExec;
use std::sync::Arc;

/// Spells texts out where all rows are to be sorted.
#[derive(Debug)]
pub struct SortSpelledOut;

impl PhysicalOptimizerRule for SortSpelledOut {
    fn optimize(&self, plan: Arc<dyn ExecutionPlan>, _: &ConfigOptions) -> Result<Arc<dyn ExecutionPlan>> {
        plan.transform_up(|plan| {
            let of_all = plan.downcast_ref::<SortExec>().filter(|sort| sort.fetch().is_none());
            match of_all.filter(|sort| has_texts(&sort.schema())) {
                Some(sort) => {
                    let coded = sort.schema();
                    let spelled = Recoded::new(Arc::clone(sort.input()), spelled_out(&coded), None);
                    let sorted = SortExec::new(sort.expr().clone(), Arc::new(spelled))
                        .with_preserve_partitioning(sort.preserve_partitioning());
                    let sorted = Recoded::new(Arc::new(sorted), coded, Some(sort.expr().clone()));
                    Ok(Transformed::yes(Arc::new(sorted)))
                }
                None => Ok(Transformed::no(plan)),
            }
        })
        .data()
    }

    fn name(&self) -> &'static str {
        "sort_spelled_out"
    }

    fn schema_check(&self) -> bool {
        true
    }
}

fn has_texts(schema: &Schema) -> bool {
    schema.fields().iter().any(|field| *field.data_type() == text())
}
