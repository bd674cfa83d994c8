//! `exedra import`: requests of logs from elsewhere into the records of the running service.
//!
//! This program reads the logs, as for a report, and sends what they say stretch by stretch; the service says how far each has come.
//! So the same log may be brought as often as one likes, also when it has grown, and when this was ended in the middle.

use crate::failure::Failure;
use crate::service::{Reach, Service};
use crate::sources::bookmark::{Begun, Known};
use crate::sources::found::Found;
use crate::sources::reading::{self, Sink};
use crate::sources::{Asked, Progress, SourceOptions};
use clap::Args;
use exedra_api::imports::{Import, NewImport};
use exedra_common::batch::NO_TIME;
use exedra_common::figures::{grouped, several};
use exedra_common::scope::Scope;
use exedra_common::{Dictionaries, Projection, RequestBatch, TextColumn};
use exedra_reading::trail::Place;
use exedra_store::StoreError;
use exedra_store::records::wire;
use std::path::Path;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

/// How many requests go in one stretch, about.
const TOGETHER: usize = exedra_common::BATCH_ROWS / 2;
/// How many stretches may wait to be sent.
const WAITING: usize = 2;

/// What `exedra import` takes.
#[derive(Args)]
pub struct Options {
    #[command(flatten)]
    sources: SourceOptions,
    /// The site that the requests went to
    #[arg(long, value_name = "SITE")]
    site: String,
    #[command(flatten)]
    reach: Reach,
}

/// Reads and sends.
pub fn run(options: &Options) -> Result<(), Failure> {
    let config = options.sources.config()?;
    let found = options.sources.files(config.as_ref(), None, &Scope::default())?;
    let layouts = options.sources.layouts(config.as_ref())?;
    let service = Service::of_sources(&options.sources, &options.reach);
    let known = all_imports(&service)?;
    let mut failures = Vec::new();
    for Begun { file, .. } in found {
        let asked = |begun| Asked {
            files: vec![begun],
            layouts: layouts.clone(),
            durations: options.sources.durations,
            // Where a line has only begun, the rest of it comes with the next import.
            leaves_open_line: true,
            threads: 1,
        };
        if let Err(failure) = bring(&file, (&options.site, &service), &known, asked) {
            failures.push(failure.0);
        }
    }
    if failures.is_empty() { Ok(()) } else { Err(Failure(failures.join("\n"))) }
}

/// Every import there is: the service lists them page by page.
fn all_imports(service: &Service) -> Result<Vec<Import>, Failure> {
    let mut all: Vec<Import> = service.get("imports")?;
    let mut page = all.len();
    while let Some(last) = all.last().filter(|_| page > 0) {
        let next: Vec<Import> = service.get(&format!("imports?behind={}", last.id))?;
        page = next.len();
        all.extend(next);
    }
    Ok(all)
}

/// Brings one log in, or what has come to it since.
fn bring(
    file: &Found,
    (site, service): (&str, &Service),
    known: &[Import],
    asked: impl Fn(Begun) -> Asked,
) -> Result<(), Failure> {
    let name = &file.name;
    let Some(path) = &file.path else {
        return Err(Failure(
            "standard input cannot be imported, as it cannot be taken up again: name a file".to_owned(),
        ));
    };
    let failed = |error: std::io::Error| Failure(format!("{name} cannot be read: {error}"));
    let import = match of_before(path, site, known).map_err(failed)? {
        Some(import) => import,
        None => {
            let known = serde_json::to_string(&Known::of(path).map_err(failed)?)?;
            let name = named(name, file.server.as_deref());
            let new = NewImport { site: site.to_owned(), name, known };
            service.send("imports", &new)?
        }
    };
    let begun = if import.incomplete { 0 } else { import.requests };
    let mut now = import;
    let mut undated = 0;
    loop {
        let (last, sent) = bring_on(file, &now, service, &asked)?;
        let is_now: Import = service.get(&format!("imports/{}", now.id))?;
        undated += last;
        // What somebody sent who was killed since may have come in only now: it goes on behind that.
        let has_moved = is_now.octets != now.octets;
        now = is_now;
        match sent {
            Ok(()) => break,
            Err(_) if has_moved => {}
            Err(failure) => return Err(failure),
        }
    }
    // An empty range at the end: what was sent is on the disk when it is answered.
    let end = now.octets;
    let call = format!("imports/{}/requests?from={end}&until={end}", now.id);
    now = service.send_octets(&call, Vec::new())?;
    crate::out::line!(
        "{name}: {} imported into {site}, {} in total{}",
        several(now.requests.saturating_sub(begun), "request", "requests"),
        grouped(now.requests),
        match now.unread + undated {
            0 => String::new(),
            unread => format!("; {} cannot be read", several(unread, "line", "lines")),
        }
    );
    Ok(())
}

/// The name of a log in the records: as a source is written, with the machine that wrote it before it. A file whose own name looks so
/// is written as one in this folder.
fn named(name: &str, server: Option<&str>) -> String {
    let looks_like_one = || name.split_once('=').is_some_and(|(before, _)| !before.contains('/'));
    match server {
        Some(server) => format!("{server}={name}"),
        None if looks_like_one() => format!("./{name}"),
        None => name.to_owned(),
    }
}

/// Reads a log on from where it has been brought in, and sends what comes: how many lines of it have no time, and whether the
/// service took it all.
fn bring_on(
    file: &Found,
    import: &Import,
    service: &Service,
    asked: &impl Fn(Begun) -> Asked,
) -> Result<(u64, Result<(), Failure>), Failure> {
    let from = if import.incomplete { 0 } else { import.octets };
    let asked = asked(Begun { file: file.clone(), read: from });
    let progress = Progress::of(&asked.files);
    let (sender, stretches) = sync_channel(WAITING);
    let (read, sent) = std::thread::scope(|scope| {
        let sent = scope.spawn(move || send_all(&stretches, service, import));
        let read = reading::read(&asked, Projection::everything(), &progress, || {
            Bringing::new(from, file.server.clone(), sender.clone())
        });
        drop(sender);
        (read, sent.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    Ok((read?.made.iter().sum(), sent))
}

/// The import of this log that there was before, if there was one.
fn of_before(path: &Path, site: &str, imports: &[Import]) -> std::io::Result<Option<Import>> {
    for import in imports.iter().filter(|import| import.site == site) {
        let Ok(known) = serde_json::from_str::<Known>(&import.known) else { continue };
        if known.is(path)? {
            return Ok(Some(import.clone()));
        }
    }
    Ok(None)
}

/// A stretch, ready to be sent.
struct Packed {
    from: u64,
    until: u64,
    unread: u64,
    octets: Result<Vec<u8>, StoreError>,
}

fn send_all(stretches: &Receiver<Packed>, service: &Service, import: &Import) -> Result<(), Failure> {
    for Packed { from, until, unread, octets } in stretches {
        let call = format!("imports/{}/requests?from={from}&until={until}&unread={unread}", import.id);
        let _: Import = service.send_octets(&call, octets?)?;
    }
    Ok(())
}

/// Gathers requests until there are enough to be sent.
struct Bringing {
    from: u64,
    until: u64,
    batch: RequestBatch,
    /// What did not fit into that one.
    full: RequestBatch,
    texts: Dictionaries,
    /// Lines that could not be read: in all, and of stretches that were sent.
    unread: (u64, u64),
    /// Requests without a time, which the records have no place for.
    undated: u64,
    /// The machine that wrote the log, where it is known: it stands in no line.
    server: Option<String>,
    sender: Option<SyncSender<Packed>>,
}

impl Bringing {
    fn new(from: u64, server: Option<String>, sender: SyncSender<Packed>) -> Self {
        let (batch, full, texts) = Default::default();
        let sender = Some(sender);
        Bringing { from, until: from, batch, full, texts, unread: (0, 0), undated: 0, server, sender }
    }

    fn send(&mut self) {
        if self.until == self.from {
            return;
        }
        self.full.append_same(&self.batch);
        if let Some(server) = &self.server {
            let code = self.texts.of_mut(TextColumn::Server).code(server);
            *self.full.codes_mut(TextColumn::Server) = vec![code; self.full.rows()];
        }
        let octets = match self.full.is_empty() {
            true => Ok(Vec::new()),
            false => wire::pack(&self.full, &self.texts),
        };
        // Whoever sends has ended where it failed, and says why.
        if let Some(sender) = &self.sender {
            let unread = self.unread.0 - self.unread.1;
            let stretch = Packed { from: self.from, until: self.until, unread, octets };
            if sender.send(stretch).is_err() {
                self.sender = None;
            }
        }
        self.from = self.until;
        self.unread.1 = self.unread.0;
        self.batch.clear();
        self.full.clear();
        if self.texts.are_full() {
            self.texts = Dictionaries::default();
        }
    }
}

impl Sink for Bringing {
    type Made = u64;

    fn take(&mut self, _: Place, read: impl FnOnce(&mut RequestBatch, &mut Dictionaries) -> usize) -> usize {
        if self.batch.is_full() {
            self.full.append_same(&self.batch);
            self.batch.clear();
        }
        let octets = read(&mut self.batch, &mut self.texts);
        let before = self.batch.rows();
        self.batch.retain(|batch, row| batch.time[row] != NO_TIME);
        self.undated += (before - self.batch.rows()) as u64;
        octets
    }

    fn has_read(&mut self, until: u64, unread: u64) {
        self.until = until;
        self.unread.0 = unread;
        if self.full.rows() + self.batch.rows() >= TOGETHER {
            self.send();
        }
    }

    fn finish(mut self) -> u64 {
        self.send();
        self.undated
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A machine is named by whoever imports, and never by what a file happens to be called.
    #[rstest]
    #[case("logs/quay.log", Some("quay"), "quay=logs/quay.log")]
    #[case("logs/a=b.log", None, "logs/a=b.log")]
    #[case("a=b.log", None, "./a=b.log")]
    #[case("access.log", None, "access.log")]
    fn a_log_is_called_as_a_source_is_written(
        #[case] name: &str,
        #[case] server: Option<&str>,
        #[case] called: &str,
    ) {
        assert_eq!(named(name, server), called);
    }
}
