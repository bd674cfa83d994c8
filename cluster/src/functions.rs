//! What every process of the cluster knows of statements: the functions of `exedra query`, and the one behind the column `visitor`.

use crate::spelled::SpelledOut;
use crate::visitor::VisitorOf;
use ballista_core::extension::{SessionConfigExt, SessionStateExt};
use ballista_core::registry::BallistaFunctionRegistry;
use ballista_core::utils::default_session_builder;
use datafusion::common::Result;
use datafusion::execution::{SessionState, SessionStateBuilder};
use datafusion::logical_expr::ScalarUDF;
use datafusion::prelude::SessionConfig;
use exedra_query::engine::session_builder;
use exedra_query::functions::{EngineFunctions, all, for_engine};
use std::sync::Arc;

fn ours() -> Result<EngineFunctions> {
    let mut functions = for_engine()?;
    let is_ours = |name: &str| all().any(|function| function.is_own && function.name == name);
    for function in functions.row.iter_mut().filter(|function| is_ours(function.name())) {
        *function = Arc::new(SpelledOut(Arc::clone(function)).into());
    }
    functions.row.push(Arc::new(ScalarUDF::from(VisitorOf::default())));
    Ok(functions)
}

/// The state of whoever asks a scheduler: nothing but our functions, so that a statement means here what it means on one machine.
pub fn asking(zone: &str, scheduler: &str) -> Result<SessionState> {
    let state = session_builder(SessionConfig::new_with_ballista(), zone)?.build();
    let state = state.upgrade_for_ballista(format!("http://{scheduler}"))?;
    // To upgrade it puts others in their place.
    let EngineFunctions { row, group, window } = ours()?;
    Ok(SessionStateBuilder::new_from_existing(state)
        .with_scalar_functions(row)
        .with_aggregate_functions(group)
        .with_window_functions(window)
        .build())
}

/// The state in which the scheduler divides statements. What the engine puts into a plan by itself must be known, too.
pub fn dividing(config: SessionConfig) -> Result<SessionState> {
    let mut state = SessionStateBuilder::new_from_existing(default_session_builder(config)?);
    let EngineFunctions { row, group, window } = ours()?;
    state.scalar_functions().get_or_insert_default().extend(row);
    state.aggregate_functions().get_or_insert_default().extend(group);
    state.window_functions().get_or_insert_default().extend(window);
    Ok(state.build())
}

/// The functions that workers know by name.
pub fn working() -> Result<BallistaFunctionRegistry> {
    let mut registry = BallistaFunctionRegistry::default();
    let EngineFunctions { row, group, window } = ours()?;
    registry.scalar_functions.extend(row.into_iter().map(|one| (one.name().to_owned(), one)));
    registry.aggregate_functions.extend(group.into_iter().map(|one| (one.name().to_owned(), one)));
    registry.window_functions.extend(window.into_iter().map(|one| (one.name().to_owned(), one)));
    Ok(registry)
}
