//! A worker: it carries out parts of statements over the files that it sees, and keeps what the next part needs until that is done.

use crate::{Failure, functions, listenable};
use ballista_executor::executor_process::{ExecutorProcessConfig, start_executor_process};
use clap::Args;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;

/// How often a worker says that it is there, in seconds.
const SIGN_OF_LIFE: u64 = 2;

/// What `exedra-cluster worker` takes.
#[derive(Args)]
pub struct Options {
    /// Where the scheduler is
    #[arg(long, value_name = "HOST:PORT", default_value = "127.0.0.1:50050")]
    scheduler: String,
    /// The address of this machine by which scheduler and other workers reach it
    #[arg(long, value_name = "ADDRESS", default_value_t = IpAddr::V4(Ipv4Addr::LOCALHOST))]
    address: IpAddr,
    /// Ports to listen on, for parts of answers and for work; free ones unless said
    #[arg(long, value_name = "PORT", num_args = 2, default_values_t = [0, 0])]
    ports: Vec<u16>,
    /// How many parts at once; as many as there are processors unless said
    #[arg(long, value_name = "NUMBER", default_value_t = 0)]
    threads: usize,
    /// Where intermediate results are kept; in a temporary folder unless said
    #[arg(long, value_name = "DIR")]
    folder: Option<PathBuf>,
    /// How much memory its parts may take together, in megabytes
    #[arg(long, value_name = "MB", default_value_t = 1024)]
    memory: u64,
}

/// Runs until it is ended.
pub async fn run(options: Options) -> Result<(), Failure> {
    let Some((host, port)) = options.scheduler.rsplit_once(':') else {
        return Err(format!("`{}` is no address: write --scheduler HOST:PORT", options.scheduler));
    };
    let scheduler_port =
        port.parse().map_err(|_| format!("`{port}` is no port: write --scheduler HOST:PORT"))?;
    let listen = |place: usize| {
        let port = options.ports.get(place).copied().unwrap_or(0);
        listenable(SocketAddr::new(options.address, port)).map(|address| address.port())
    };
    let folder = options.folder.as_ref().map(|folder| folder.display().to_string());
    let registry = functions::working().map_err(|error| error.to_string())?;
    let threads = match options.threads {
        0 => std::thread::available_parallelism().map_or(1, usize::from),
        threads => threads,
    };
    let config = ExecutorProcessConfig {
        bind_host: options.address.to_string(),
        external_host: Some(options.address.to_string()),
        port: listen(0)?,
        grpc_port: listen(1)?,
        scheduler_host: host.to_owned(),
        scheduler_port,
        scheduler_connect_timeout_seconds: 30,
        vcores: threads,
        work_dir: folder,
        executor_heartbeat_interval_seconds: SIGN_OF_LIFE,
        job_data_ttl_seconds: 3_600,
        job_data_clean_up_interval_seconds: 600,
        memory_pool_size: Some(options.memory << 20),
        override_function_registry: Some(Arc::new(registry)),
        ..ExecutorProcessConfig::default()
    };
    println!("worker on {}, for the scheduler at {}", options.address, options.scheduler);
    start_executor_process(Arc::new(config)).await.map_err(|error| format!("the worker ended: {error}"))
}
