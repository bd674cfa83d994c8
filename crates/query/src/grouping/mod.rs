//! Requests grouped by the codes of their texts, beneath the engine's own grouping.
//!
//! The engine groups by texts: it looks at the letters of every row. A batch of ours has each distinct text once and codes
//! elsewhere, so that the group of a row is a place in a list. What is counted for each group (`sum`, `count`, whatever there
//! is) stays the engine's, and so does putting together what the threads have counted; only the question "which group is this
//! row of?" is answered here.
//!
//! - [`groups`]: which group a row is of, and what the groups are called
//! - [`partial`]: the step of a plan that counts one thread's rows
//! - this file: where in a plan it takes the place of the engine's

mod groups;
mod partial;

use crate::recoded::Recoded;
use datafusion::common::Result;
use datafusion::common::config::ConfigOptions;
use datafusion::common::tree_node::{Transformed, TransformedResult, TreeNode};
use datafusion::physical_optimizer::PhysicalOptimizerRule;
use datafusion::physical_plan::ExecutionPlan;
use datafusion::physical_plan::aggregates::{AggregateExec, AggregateMode, PhysicalGroupBy};
use datafusion::physical_plan::coalesce_partitions::CoalescePartitionsExec;
use datafusion::physical_plan::execution_plan::{ChildrenPropertiesMode, ReplaceChildrenOptions};
use datafusion::physical_plan::repartition::RepartitionExec;
use groups::Groups;
use partial::PartialGroups;
use std::sync::Arc;

/// Puts our grouping where a plan begins to group by what can be told by codes.
#[derive(Debug)]
pub struct GroupByCodes;

impl PhysicalOptimizerRule for GroupByCodes {
    fn optimize(&self, plan: Arc<dyn ExecutionPlan>, _: &ConfigOptions) -> Result<Arc<dyn ExecutionPlan>> {
        plan.transform_up(|plan| match plan.downcast_ref::<AggregateExec>() {
            Some(grouping) => replaced(grouping).map(|replaced| match replaced {
                Some(ours) => Transformed::yes(ours),
                None => Transformed::no(plan),
            }),
            None => Ok(Transformed::no(plan)),
        })
        .data()
    }

    fn name(&self) -> &'static str {
        "group_by_codes"
    }

    fn schema_check(&self) -> bool {
        true
    }
}

/// What takes the place of a grouping, if anything does.
fn replaced(grouping: &AggregateExec) -> Result<Option<Arc<dyn ExecutionPlan>>> {
    let by = grouping.group_expr();
    if !by.is_single() || by.is_empty() || grouping.limit_options().is_some() {
        return Ok(None);
    }
    match grouping.mode() {
        AggregateMode::Partial => {
            Ok(partial(grouping)?.map(|partial| Arc::new(partial) as Arc<dyn ExecutionPlan>))
        }
        AggregateMode::Final | AggregateMode::FinalPartitioned => {
            let Some(spelled) = over_spelled(grouping.input())? else { return Ok(None) };
            whole(grouping, *grouping.mode(), by.clone(), spelled).map(Some)
        }
        // One thread alone: what it counts is put together by itself.
        AggregateMode::Single => {
            let counted = AggregateExec::try_new(
                AggregateMode::Partial,
                by.clone(),
                grouping.aggr_expr().to_vec(),
                grouping.filter_expr().to_vec(),
                Arc::clone(grouping.input()),
                grouping.input_schema(),
            )?;
            let Some(partial) = partial(&counted)? else { return Ok(None) };
            let spelled = Arc::new(partial.spelled_out());
            whole(grouping, AggregateMode::Final, by.as_final(), spelled).map(Some)
        }
        _ => Ok(None),
    }
}

/// Our step in place of the engine's, where its groups can be told by codes.
fn partial(grouping: &AggregateExec) -> Result<Option<PartialGroups>> {
    let schema = grouping.group_expr().group_schema(&grouping.input_schema())?;
    let known = grouping.aggr_expr().iter().all(|count| count.groups_accumulator_supported());
    Ok((known && Groups::can_tell(&schema)).then(|| PartialGroups::new(grouping.clone())))
}

/// The rows of our step with texts spelled out, be they divided anew in between; `None` where there is no such step.
fn over_spelled(plan: &Arc<dyn ExecutionPlan>) -> Result<Option<Arc<dyn ExecutionPlan>>> {
    if let Some(partial) = plan.downcast_ref::<PartialGroups>() {
        let spelled = partial.spelled_out();
        return Ok((spelled.schema() != plan.schema()).then(|| Arc::new(spelled) as Arc<dyn ExecutionPlan>));
    }
    let divides = plan.is::<RepartitionExec>() || plan.is::<CoalescePartitionsExec>();
    match (divides, plan.children().as_slice()) {
        (true, [rows]) => match over_spelled(rows)? {
            Some(spelled) => {
                let options = ReplaceChildrenOptions::new(ChildrenPropertiesMode::Recompute);
                Arc::clone(plan).replace_children(vec![spelled], options).map(Some)
            }
            None => Ok(None),
        },
        _ => Ok(None),
    }
}

/// The engine's step that puts the threads' figures together, over texts that are spelled out: codes of different threads mean different
/// texts, and it is quick at plain ones.
fn whole(
    grouping: &AggregateExec,
    mode: AggregateMode,
    by: PhysicalGroupBy,
    spelled: Arc<dyn ExecutionPlan>,
) -> Result<Arc<dyn ExecutionPlan>> {
    let counts = grouping.aggr_expr().to_vec();
    let filters = vec![None; counts.len()];
    let whole = AggregateExec::try_new(mode, by, counts, filters, spelled, grouping.input_schema())?;
    Ok(match whole.schema() == grouping.schema() {
        true => Arc::new(whole),
        false => Arc::new(Recoded::new(Arc::new(whole), grouping.schema(), None)),
    })
}
