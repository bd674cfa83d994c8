//! The scheduler: it plans statements, divides them among the workers it knows, and has others do again what was lost with one.

use crate::{Failure, functions, listenable};
use ballista_scheduler::cluster::BallistaCluster;
use ballista_scheduler::config::SchedulerConfig;
use ballista_scheduler::scheduler_process::start_server;
use clap::Args;
use std::net::SocketAddr;
use std::sync::Arc;

/// After how long a worker that says nothing is given up, in seconds.
const SILENCE: u64 = 8;

/// What `exedra-cluster scheduler` takes.
#[derive(Args)]
pub struct Options {
    /// Where workers and those who ask reach it. There is no sign-in: keep it within your own network
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:50050")]
    address: SocketAddr,
}

/// Runs until it is ended.
pub async fn run(options: Options) -> Result<(), Failure> {
    let address = listenable(options.address)?;
    let config = SchedulerConfig {
        bind_host: address.ip().to_string(),
        bind_port: address.port(),
        external_host: address.ip().to_string(),
        executor_timeout_seconds: SILENCE,
        expire_dead_executor_interval_seconds: 1,
        no_executors_grace_period_seconds: 2 * SILENCE,
        override_session_builder: Some(Arc::new(functions::dividing)),
        ..SchedulerConfig::default()
    };
    let failed = |error| format!("the scheduler ended: {error}");
    let cluster = BallistaCluster::new_from_config(&config).await.map_err(failed)?;
    println!("scheduler on {address}");
    tokio::select! {
        ended = start_server(cluster, address, Arc::new(config)) => ended.map_err(failed),
        _ = tokio::signal::ctrl_c() => Ok(()),
    }
}
