//! What a command that reads logs is told of them.

use super::bookmark::{Begun, Bookmark};
use super::found::{Found, find};
use crate::configuration;
use crate::failure::Failure;
use clap::Args;
use exedra_answering::config::Config;
use exedra_common::columns::Unit;
use exedra_common::scope::Scope;
use exedra_common::{Column, Origin, TextColumn};
use exedra_reading::logs::Layout;
use exedra_reading::logs::layout::is_named;
use std::path::{Path, PathBuf};

/// The configuration that is read where none is named and one is there.
pub const USUAL: &str = "exedra.toml";

/// Which logs, and how they are written.
#[derive(Args)]
pub struct SourceOptions {
    /// Access logs: files, patterns, folders, names of sites; `-` is standard input; SERVER=SOURCE names the machine
    #[arg(value_name = "SOURCE")]
    pub sources: Vec<String>,
    /// The layout of the lines, instead of looking for one: a name or a template
    #[arg(long, value_name = "LAYOUT")]
    pub layout: Option<String>,
    /// What durations count whose unit is not in the log: seconds, milliseconds, microseconds or nanoseconds
    #[arg(long, value_name = "UNIT", value_parser = unit)]
    pub durations: Option<Unit>,
    /// Also read rotated files, as access.log.1 and access.log.2.gz of access.log
    #[arg(long)]
    pub rotated: bool,
    /// The configuration that knows sites, layouts and the time zone; exedra.toml where there is one
    #[arg(long, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// How many threads read
    #[arg(long, value_name = "NUMBER")]
    pub threads: Option<std::num::NonZeroUsize>,
}

impl SourceOptions {
    /// The configuration, where there is one. One that nobody named and that cannot be read keeps nothing from being read.
    pub fn config(&self) -> Result<Option<Config>, Failure> {
        match &self.config {
            Some(path) => configuration::read(path).map(Some),
            None if !Path::new(USUAL).exists() => Ok(None),
            None => match configuration::read(Path::new(USUAL)) {
                Ok(config) => Ok(Some(config)),
                Err(_) => {
                    crate::out::note!(
                        "{USUAL} in this folder has mistakes and is not used (`exedra check --config {USUAL}` names them): sites, \
                         layouts and the time zone in it are not known."
                    );
                    Ok(None)
                }
            },
        }
    }

    /// The files, from their beginnings or from where a bookmark lies.
    pub fn files(
        &self,
        config: Option<&Config>,
        bookmark: Option<&Bookmark>,
        scope: &Scope,
    ) -> Result<Vec<Begun>, Failure> {
        if self.sources.is_empty() {
            return Err(Failure(
                "name a log to be read: a file, a pattern, a folder, a site, or `-`".to_owned(),
            ));
        }
        let mut found = find(&self.sources, self.rotated, config)?;
        let origins: Vec<Origin> = found.iter().map(Found::origin).collect();
        found.retain(|file| scope.takes(&file.origin()));
        if found.is_empty() {
            return Err(Failure(none_of(&origins)));
        }
        match bookmark {
            Some(bookmark) => bookmark.begin(found),
            None => Ok(found.into_iter().map(|file| Begun { file, read: 0 }).collect()),
        }
    }

    /// The layouts that are tried: the one asked for, or all there are.
    pub fn layouts(&self, config: Option<&Config>) -> Result<Vec<Layout>, Failure> {
        let own = config.map_or(&[][..], |config| &config.layouts);
        let Some(asked) = &self.layout else {
            return Ok(own.iter().cloned().chain(Layout::all_named()).collect());
        };
        if let Some(layout) = own.iter().find(|layout| layout.name == *asked) {
            return Ok(vec![layout.clone()]);
        }
        if !asked.contains('{') && !is_named(asked) {
            let names = own.iter().map(|layout| layout.name.clone());
            let names: Vec<String> =
                names.chain(Layout::all_named().into_iter().map(|layout| layout.name)).collect();
            let near = exedra_common::text::nearest(asked, names.iter().map(String::as_str));
            let near = near.map_or(".".to_owned(), |near| format!(": did you mean `{near}`?"));
            return Err(Failure(format!(
                "there is no layout `{asked}`{near} There is {}, or write a template with {{field}}s",
                names.join(", ")
            )));
        }
        Ok(vec![Layout::understand(asked)?])
    }

    /// How many threads read.
    pub fn threads(&self) -> usize {
        self.threads.or(std::thread::available_parallelism().ok()).map_or(1, usize::from)
    }
}

/// A unit of time by its name.
fn unit(name: &str) -> Result<Unit, String> {
    Unit::of_time(name).ok_or_else(|| {
        "durations are counted in seconds, milliseconds, microseconds or nanoseconds (s, ms, us, ns)"
            .to_owned()
    })
}

/// Why no source is left.
fn none_of(origins: &[Origin]) -> String {
    let list = |column: TextColumn| {
        let mut values: Vec<&str> = origins.iter().filter_map(|origin| origin.value(column)).collect();
        values.sort_unstable();
        values.dedup();
        let name = Column::from(column).name();
        match values.is_empty() {
            true => format!("no {name} is known of them"),
            false => format!("{name} is one of {}", values.join(", ")),
        }
    };
    let known: Vec<String> = Origin::columns().map(list).collect();
    format!("none of these sources is within the scope: {}", known.join("; "))
}
