//! `exedra demo`: Port Lindry, made anew with a past that ends now, and served.

use crate::configuration;
use crate::failure::Failure;
use crate::serve::{announce, keep_error_log, runtime, until_told_to_stop};
use clap::Args;
use exedra_demo::Addresses;
use exedra_service::access::guards::hash;
use std::path::PathBuf;
use std::time::Instant;

/// What lets anna of the harbour office in.
const PASSWORD: &str = "high-water";

/// What `exedra demo` takes.
#[derive(Args)]
pub struct Options {
    /// Folder for the town: sites, configuration, logs and records; made anew at every start
    #[arg(long, value_name = "FOLDER", default_value = "port-lindry")]
    folder: PathBuf,
    /// Address on which the sites answer
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7380")]
    sites: String,
    /// Address on which the sites answer by HTTPS
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7343")]
    secured: String,
    /// Address of the console
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7300")]
    console: String,
    /// Serve only what is asked for, without the live stream
    #[arg(long)]
    quiet: bool,
}

/// Builds the town and serves it.
pub fn run(options: &Options) -> Result<(), Failure> {
    let began = Instant::now();
    let now = jiff::Timestamp::now().as_millisecond();
    let addresses = Addresses { sites: &options.sites, secured: &options.secured, console: &options.console };
    let staff = format!("anna = \"{}\"", hash(PASSWORD).unwrap_or_default());
    let path = exedra_demo::build(&options.folder, now, addresses, &staff)?;
    let config = configuration::read_to_serve(&path)?;
    keep_error_log();
    runtime()?.block_on(async {
        let running = exedra_service::start(config.clone(), &path).await?;
        crate::out::line!("Port Lindry is open, {:.1} seconds after you asked.\n", began.elapsed().as_secs_f64());
        announce(&config, &running);
        if let Some(address) = running.listeners.first() {
            let port = address.port();
            crate::out::line!("\nlook       http://harbour.localhost:{port}/  http://lamp.localhost:{port}/  http://records.localhost:{port}/");
        }
        let logs = config.service.logs.value.display().to_string();
        crate::out::line!("read       exedra report {logs}/harbour.*.log");
        crate::out::line!("ask        exedra status --config {}", path.display());
        crate::out::line!("staff      /staff/ of the harbour over HTTPS, as `anna` with `{PASSWORD}`");
        crate::out::line!("sign in    {}   (once, within an hour)\n", running.sign_in.as_deref().unwrap_or("not now"));
        let stream = match (options.quiet, running.listeners.first()) {
            (false, Some(&address)) => Some(tokio::spawn(exedra_demo::live::stream(address, now as u64))),
            _ => None,
        };
        until_told_to_stop(&running).await?;
        if let Some(stream) = stream {
            stream.abort();
        }
        running.stop().await;
        Ok(())
    })
}
