//! `exedra audit`: walks a site as a stranger would, and names what should not be reachable.
//!
//! Every file and folder of the site is put to the very decision that would answer a request for it, with the
//! disk as the service sees it. Only what would be sent counts.

use crate::figures::several;
use crate::{Failure, Form, configuration};
use anstyle::{Effects, Style};
use clap::Args;
use exedra_core::answer::path::resolve;
use exedra_core::answer::{Body, Encodings, Question, Reply, Want, answer};
use exedra_core::audit::{self, Kind};
use exedra_core::config::{Config, SiteId, nearest};
use exedra_core::facts::{Facts, Fields, Known, Scheme};
use exedra_service::connections::Clock;
use exedra_service::disk::Disk;
use http::HeaderMap;
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use serde::Serialize;
use std::io::Read;
use std::path::{Path, PathBuf};

/// What `exedra audit` takes.
#[derive(Args)]
pub struct Options {
    /// Name of a site
    site: String,
    /// The configuration
    #[arg(long, value_name = "FILE", default_value = "exedra.toml")]
    config: PathBuf,
    /// Leave out a kind of exposure, as in listing
    #[arg(long, value_name = "KIND")]
    without: Vec<String>,
    /// The form of the answer
    #[arg(long = "as", value_name = "FORM", default_value = "text")]
    form: Form,
}

/// Something that a stranger can reach and should not.
#[derive(Serialize)]
struct Exposure {
    address: String,
    kind: &'static str,
    reason: &'static str,
    remedy: &'static str,
}

/// What stays as it is in the path of an address (RFC 3986 §3.3), the slash included.
const PATH: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'%')
    .add(b'<')
    .add(b'>')
    .add(b'?')
    .add(b'`')
    .add(b'{')
    .add(b'}')
    .add(b'\\')
    .add(b'[')
    .add(b']')
    .add(b'^')
    .add(b'|');

/// Walks and prints. Fails when something is exposed.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = configuration::read_to_serve(&options.config)?;
    let names = || config.sites.iter().map(|site| site.name.value.as_str());
    let Some(id) = names().position(|name| name == options.site).map(SiteId) else {
        let near = nearest(&options.site, names()).map(|near| format!(": did you mean `{near}`?"));
        return Err(Failure(format!("there is no site `{}`{}", options.site, near.unwrap_or_default())));
    };
    let kinds = || audit::KINDS.iter().map(|kind| kind.name).chain([audit::LISTING.name]);
    if let Some(unknown) = options.without.iter().find(|name| !kinds().any(|kind| kind == name.as_str())) {
        let all: Vec<&str> = kinds().collect();
        return Err(Failure(format!("there is no kind `{unknown}`: there is {}", all.join(", "))));
    }
    let mut walk =
        Walk { config: &config, id, disk: Disk::open(&config, Clock::new())?, files: 0, found: Vec::new() };
    walk.folder("")?;
    walk.found.retain(|exposure| !options.without.iter().any(|name| name == exposure.kind));
    match options.form {
        Form::Json => anstream::println!("{}", serde_json::to_string_pretty(&walk.found)?),
        Form::Text => print(&options.site, &walk),
    }
    match walk.found.len() as u64 {
        0 => Ok(()),
        count => Err(Failure(format!("{} exposed", several(count, "thing is", "things are")))),
    }
}

struct Walk<'c> {
    config: &'c Config,
    id: SiteId,
    disk: Disk,
    files: u64,
    found: Vec<Exposure>,
}

impl Walk<'_> {
    /// Looks at a folder and everything below. Its path has no slash at either end.
    fn folder(&mut self, path: &str) -> Result<(), Failure> {
        let slash = if path.is_empty() { "/".to_owned() } else { format!("/{path}/") };
        if let Some(Body::Page(_)) = self.sent(&slash) {
            self.expose(&slash, &audit::LISTING);
        }
        let folder = self.config.site(self.id).folder.value.join(path);
        let mut names: Vec<_> = std::fs::read_dir(&folder)?.filter_map(Result::ok).collect();
        names.sort_by_key(std::fs::DirEntry::file_name);
        for entry in names {
            let Ok(name) = entry.file_name().into_string() else { continue };
            let below = if path.is_empty() { name } else { format!("{path}/{name}") };
            // Links to folders are followed by address only: a walk must end.
            if entry.file_type()?.is_dir() {
                self.folder(&below)?;
            } else {
                self.file(&below, &folder.join(entry.file_name()));
            }
        }
        Ok(())
    }

    fn file(&mut self, path: &str, file: &Path) {
        let address = format!("/{path}");
        if !matches!(self.sent(&address), Some(Body::File { .. })) {
            return;
        }
        self.files += 1;
        let mut beginning = Vec::new();
        if let Ok(opened) = std::fs::File::open(file) {
            // A file that cannot be read here is judged by its name.
            let _ = opened.take(audit::LOOKED_AT as u64).read_to_end(&mut beginning);
        }
        if let Some(kind) = audit::exposure(path, &beginning) {
            self.expose(&address, kind);
        }
    }

    /// The body that a stranger would be sent for a decoded path, where the answer is 200.
    fn sent(&self, path: &str) -> Option<Body> {
        let encoded = utf8_percent_encode(path, PATH).to_string();
        resolve(&encoded).ok()?;
        let site = self.config.site(self.id);
        let host = site.main_host.as_ref().or(site.hosts.first())?;
        let fields = HeaderMap::new();
        let facts = Facts {
            client: Known::Unknown,
            scheme: Known::Is(Scheme::Http),
            host: Known::Is(&host.value),
            port: Known::Absent,
            method: Known::Is("GET"),
            path: Known::Is(&encoded),
            query: Known::Absent,
            fields: Fields::All(&fields),
        };
        let (answer, ()) = answer(self.config, facts).finish(|question| self.reply(question));
        (answer.status == 200).then_some(answer.body)
    }

    fn reply(&self, question: &Question) -> Reply {
        match question.want {
            Want::Encodings => Reply::Encodings(Encodings::default()),
            Want::Entry | Want::Names => self.disk.look(question).reply(),
        }
    }

    fn expose(&mut self, path: &str, kind: &'static Kind) {
        let site = self.config.site(self.id);
        let host = site.main_host.as_ref().or(site.hosts.first()).map_or("", |host| &host.value);
        let address = format!("http://{host}{}", utf8_percent_encode(path, PATH));
        self.found.push(Exposure { address, kind: kind.name, reason: kind.reason, remedy: kind.remedy });
    }
}

fn print(site: &str, walk: &Walk<'_>) {
    const STRONG: Style = Style::new().effects(Effects::BOLD);
    const QUIET: Style = Style::new().effects(Effects::DIMMED);
    anstream::println!(
        "{STRONG}{site}{STRONG:#}  {QUIET}{} reachable{QUIET:#}",
        several(walk.files, "file", "files")
    );
    for kind in audit::KINDS.iter().chain([&audit::LISTING]).map(|kind| kind.name) {
        let of_kind: Vec<&Exposure> = walk.found.iter().filter(|exposure| exposure.kind == kind).collect();
        if of_kind.is_empty() {
            continue;
        }
        anstream::println!("\n{STRONG}{kind}{STRONG:#}  {}", of_kind[0].reason);
        for exposure in &of_kind {
            anstream::println!("  {}", exposure.address);
        }
        anstream::println!("  {QUIET}{}{QUIET:#}", of_kind[0].remedy);
    }
    anstream::println!("{}", if walk.found.is_empty() { "Nothing is exposed." } else { "" });
}
