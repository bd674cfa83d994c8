//! `exedra serve`: the service, until it is told to stop.

use crate::configuration;
use crate::failure::Failure;
use clap::Args;
use exedra_answering::config::Config;
use exedra_service::Running;
use exedra_service::run::console_address;
use exedra_store::Revisions;
use std::sync::Arc;
use tokio::signal::unix::{SignalKind, signal};

/// What `exedra serve` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    config: configuration::Named,
}

/// Runs the service.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read_to_serve(options.config.path())?;
    let first = is_first_start(&config);
    keep_error_log();
    runtime()?.block_on(async {
        let announced = config.clone();
        let running = exedra_service::start(config, options.config.path()).await?;
        announce(&announced, &running);
        match &running.sign_in {
            Some(link) if first => crate::out::line!("sign in    {link}   (once, within an hour)"),
            Some(_) => crate::out::line!("sign in    `exedra sign-in` prints a link"),
            None => crate::out::line!("sign in    not now: no link can be kept, see the error above"),
        }
        until_told_to_stop(&running).await?;
        crate::out::line!("stopping: what is under way is finished first");
        running.stop().await;
        Ok(())
    })
}

/// The addresses of a service that has started.
pub fn announce(config: &Config, running: &Running) {
    for (address, listener) in running.listeners.iter().zip(&config.listeners) {
        let scheme = listener.scheme().as_str();
        for site in &config.sites {
            let host = site.main_host.as_ref().or(site.hosts.first()).map_or("", |host| &host.value);
            crate::out::line!("{:<10} {scheme}://{host}:{}/   on {address}", site.name.value, address.port());
        }
    }
    let without = match exedra_service::console::assets::are_there() {
        true => "",
        false => "   (built without its pages: `cargo xtask build` makes a program that has them)",
    };
    let console = console_address(running.console, running.console_https);
    crate::out::line!("{:<10} {console}/{without}", "console");
}

/// The event loop that the service runs on.
pub fn runtime() -> std::io::Result<tokio::runtime::Runtime> {
    tokio::runtime::Builder::new_multi_thread().enable_all().build()
}

/// Sends what goes wrong to standard error, readable for people.
#[expect(clippy::disallowed_methods, reason = "a subscriber escapes what it is given by itself")]
pub fn keep_error_log() {
    let filter = tracing_subscriber::EnvFilter::try_from_env("EXEDRA_LOG").unwrap_or_else(|_| "info".into());
    let subscriber =
        tracing_subscriber::fmt().with_env_filter(filter).with_target(false).with_writer(std::io::stderr);
    // A second subscriber in one process can only be another test's.
    let _ = subscriber.try_init();
}

/// Waits for SIGTERM or SIGINT. At SIGHUP the configuration is taken anew, and new logs are begun where somebody took the
/// old ones away.
pub async fn until_told_to_stop(running: &Running) -> std::io::Result<()> {
    let (mut terminate, mut interrupt) = (signal(SignalKind::terminate())?, signal(SignalKind::interrupt())?);
    let mut hangup = signal(SignalKind::hangup())?;
    loop {
        tokio::select! {
            _ = terminate.recv() => return Ok(()),
            _ = interrupt.recv() => return Ok(()),
            _ = hangup.recv() => {
                running.reopen_logs();
                let changes = Arc::clone(&running.changes);
                let runtime = tokio::runtime::Handle::current();
                let reload = move || {
                    let _entered = runtime.enter();
                    changes.reload()
                };
                match tokio::task::spawn_blocking(reload).await {
                    Ok(Ok(_)) | Err(_) => {}
                    Ok(Err(error)) => {
                        tracing::error!("reload refused; the old configuration stays in force:\n{}", error.drawn(false));
                    }
                }
            }
        }
    }
}

/// Whether no configuration has been in force yet: a start that failed was none.
fn is_first_start(config: &Config) -> bool {
    let state = &config.service.state.value;
    !state.join("exedra.db").exists() || matches!(Revisions::of_another(state).newest(), Ok(None))
}
