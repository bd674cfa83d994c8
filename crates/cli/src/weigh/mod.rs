//! `exedra weigh`: every codec at every effort on a site's own files.
//!
//! - [`sample`]: which files, chosen fairly where there are many
//! - [`measure`]: encoding them on several threads
//! - [`show`]: the figures for people; [`chart`]: the same as a picture

mod chart;
mod measure;
mod sample;
mod show;

use crate::configuration;
use crate::failure::Failure;
use crate::form::Form;
use clap::Args;
use exedra_answering::encode::weighing::{Curve, OfType, Recommendation, Weighing};
use exedra_common::text::nearest;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Instant;

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

/// What was weighed, and what came of it.
#[derive(Serialize)]
struct Weighed {
    /// The site or folder.
    what: String,
    files: u64,
    bytes: u64,
    sampled_files: u64,
    sampled_bytes: u64,
    threads: usize,
    seconds: f64,
    /// The part by which a step to a higher effort must make files smaller for each doubling of its time.
    paying: f64,
    curves: Vec<Curve>,
    types: BTreeMap<String, Type>,
    recommended: Recommendation,
}

/// The files of one type.
#[derive(Serialize)]
struct Type {
    #[serde(flatten)]
    of_type: OfType,
    worthwhile: bool,
    curves: Vec<Curve>,
}

/// Weighs and prints.
pub fn run(options: &Options) -> Result<(), Failure> {
    if let Some(chart) = &options.chart {
        crate::show::picture::check_name(chart)?;
    }
    let folder = folder(options)?;
    let threads =
        options.threads.unwrap_or_else(|| std::thread::available_parallelism().map_or(1, usize::from)).max(1);
    let began = Instant::now();
    let (mut weighing, samples) = sample::choose(&folder, options.sample)?;
    if weighing.types.is_empty() {
        return Err(Failure(format!("there are no files in {} that a site would serve", folder.display())));
    }
    measure::measure(&mut weighing, &samples, threads)?;
    let weighed = Weighed::new(options.what.clone(), &weighing, threads, began.elapsed().as_secs_f64());
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

impl Weighed {
    fn new(what: String, weighing: &Weighing, threads: usize, seconds: f64) -> Self {
        let sum = |of: fn(&OfType) -> u64| weighing.types.values().map(of).sum();
        let types = weighing.types.iter().map(|(name, of_type)| {
            let curves = weighing.curves(Some(name));
            (name.clone(), Type { of_type: of_type.clone(), worthwhile: of_type.gains(), curves })
        });
        Weighed {
            what,
            files: sum(|of| of.files),
            bytes: weighing.bytes(),
            sampled_files: sum(|of| of.sampled_files),
            sampled_bytes: sum(|of| of.sampled_bytes),
            threads,
            seconds,
            paying: exedra_answering::encode::weighing::PAYING,
            curves: weighing.curves(None),
            types: types.collect(),
            recommended: weighing.recommend(),
        }
    }
}
