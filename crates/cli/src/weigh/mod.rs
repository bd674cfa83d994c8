//! `exedra weigh`: every codec at every effort on a site's own files.
//!
//! [`exedra_service::control::weighing`] measures; here is how it is shown: [`show`], the figures for people; [`chart`], the same as a
//! picture.

mod chart;
mod show;

use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use clap::Args;
use exedra_common::text::nearest;
use exedra_service::control::weighing::{Size, weigh};
use indicatif::{ProgressBar, ProgressStyle};
use std::path::{Path, PathBuf};

/// What `exedra weigh` takes.
#[derive(Args)]
pub struct Options {
    /// Name of a site, or a folder
    what: String,
    /// The configuration that the site is in
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// How much is encoded at most; where there is more, files are chosen at random
    #[arg(long, value_name = "SIZE", default_value = "8 MB", value_parser = size)]
    sample: u64,
    /// How many threads encode; as many as there are processors where not given
    #[arg(long, value_name = "NUMBER")]
    threads: Option<usize>,
    /// Draw the curves into a file: .svg or .png
    #[arg(long, value_name = "FILE")]
    chart: Option<PathBuf>,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

fn size(text: &str) -> Result<u64, String> {
    exedra_common::units::size(text).ok_or_else(|| "write it like \"8 MB\"".to_owned())
}

/// Weighs and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    if let Some(chart) = &options.chart {
        crate::show::picture::check_name(chart)?;
    }
    let folder = folder(options)?;
    let threads =
        options.threads.unwrap_or_else(|| std::thread::available_parallelism().map_or(1, usize::from)).max(1);
    let style = ProgressStyle::with_template("weighing {bar:30} {percent:>3} %  {eta} left")
        .map_err(|error| Failure(error.to_string()))?;
    // Drawn on a terminal only.
    let bar = ProgressBar::no_length().with_style(style);
    let show = |done, all| {
        bar.set_length(all);
        bar.set_position(done);
        Ok(())
    };
    let size = Size { sample: options.sample, of_each: Size::WHOLE, threads };
    let weighed = weigh(&options.what, &folder, size, &show).map_err(|error| Failure(error.to_string()))?;
    bar.finish_and_clear();
    if let Some(path) = &options.chart {
        chart::draw(&weighed, path)?;
    }
    match options.form {
        Form::Json => crate::out::json(&weighed)?,
        Form::Text => show::print(&weighed)?,
    }
    Ok(())
}

/// The folder of a site of that name, or the folder itself.
fn folder(options: &Options) -> Result<PathBuf, Failure> {
    let as_folder = Path::new(&options.what);
    if as_folder.is_dir() {
        return Ok(as_folder.to_owned());
    }
    if !options.config.is_file() {
        let Options { what, config, .. } = options;
        let words = format!(
            "there is no folder `{what}`, and no configuration {} in which it could be a site",
            config.display()
        );
        return Err(Failure(words));
    }
    let config = configuration::read(&options.config)?;
    let names = || config.sites.iter().map(|site| site.name.value.as_str());
    match config.sites.iter().find(|site| site.name.value == options.what) {
        Some(site) => site
            .root()
            .map(Path::to_owned)
            .ok_or_else(|| Failure(format!("the site `{}` has no folder: its rules answer", options.what))),
        None => {
            let near = nearest(&options.what, names()).map(|near| format!(": did you mean `{near}`?"));
            Err(Failure(format!(
                "there is no site and no folder `{}`{}",
                options.what,
                near.unwrap_or_default()
            )))
        }
    }
}
