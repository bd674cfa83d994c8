//! Encodings that settle: quick while somebody waits, thorough from then on.
//!
//! The first request for a file gets a quick encoding. A thread of its own makes the thorough one and keeps
//! it: in memory, bounded, and on disk, named by what was encoded, so that a restart finds it again. What
//! does not get smaller is remembered too, and sent as it is from then on.
//!
//! - [`shared`]: one quick encoding for all who wait for it

pub mod shared;

use crate::access::descriptors::FilePermit;
use crate::content::disk::{Disk, Kept};
use crate::content::thread_cache::{CacheOwner, MOST_COPIED, ThreadCache};
use crate::system::background::step_back;
use crate::system::threads::keep_on;
use bytes::Bytes;
use exedra_answering::answer::{Encoded, FileFacts, Question};
use exedra_answering::config::{Compress, Config, SiteId};
use exedra_answering::encode::{Codec, Effort};
use parking_lot::Mutex;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use sha2::{Digest, Sha256};
use shared::{Reader, Shared};
use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Weak};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// The largest file whose encoding settles: above it, thorough work would take too long.
pub const MOST_TO_SETTLE: u64 = 4 << 20;
/// How much memory kept encodings may take together.
const MEMORY: u64 = 128 << 20;
/// How much disk they may take together; the oldest go at the next start.
const DISK: u64 = 1 << 30;
/// How many files that are too large to settle are encoded at a time; others are sent as they are meanwhile.
const MOST_STREAMS: usize = 4;
/// How many files may wait for their thorough encoding; the others come with a later request.
const MOST_WAITING: usize = 512;

/// One file, as it was at some time, in one coding.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Key {
    question: Question,
    facts: FileFacts,
    codec: Codec,
}

#[derive(Clone)]
enum Form {
    Quick(Bytes),
    Settled(Bytes),
    NoGain,
}

#[derive(Clone)]
struct Weight;

impl Weighter<Key, Form> for Weight {
    fn weight(&self, key: &Key, form: &Form) -> u64 {
        let body = match form {
            Form::Quick(body) | Form::Settled(body) => body.len(),
            Form::NoGain => 0,
        };
        (160 + key.question.path.as_str().len() + body) as u64
    }
}

/// What a quick encoding came to.
#[derive(Clone)]
pub enum Quick {
    /// This.
    Body(Bytes),
    /// More is known now: decide again.
    Decided,
    /// It could not be made.
    Failed,
}

/// A quick encoding of a small file that is being made, for all who wait for it.
type Making = tokio::sync::OnceCell<Quick>;

/// The encodings of all sites' files.
pub struct Encodings {
    kept: Cache<Key, Form, Weight>,
    folder: PathBuf,
    busy: Mutex<HashSet<Key>>,
    /// Quick encodings under way, of small files and of others.
    making: Mutex<HashMap<Key, Weak<Making>>>,
    shared: Mutex<HashMap<Key, Weak<Shared>>>,
    /// How many more files that are too large to be shared may be encoded at a time.
    streams: Arc<Semaphore>,
    jobs: SyncSender<Key>,
    /// How each site compresses.
    compress: Vec<Compress>,
    /// Codecs that each site uses, as bits: its own, and those that rules and folders were seen to ask for.
    used: Vec<AtomicU8>,
    owner: CacheOwner,
}

thread_local! {
    /// Copies of this thread's own, of what no longer changes.
    static LOCAL: RefCell<ThreadCache<Key, Form>> = RefCell::default();
}

impl Encodings {
    /// Opens the folder of kept encodings and starts the thread that makes them. It ends when this is dropped.
    pub fn open(folder: PathBuf, disk: Arc<Disk>, config: &Config) -> io::Result<Arc<Self>> {
        std::fs::create_dir_all(&folder)?;
        trim(&folder)?;
        let (jobs, waiting) = sync_channel(MOST_WAITING);
        let kept = Cache::with_weighter(10_000, MEMORY, Weight);
        let compress: Vec<Compress> = config.sites.iter().map(|site| site.compress.clone()).collect();
        let bits = |site: &Compress| site.codecs.iter().fold(0, |bits, codec| bits | bit(*codec));
        let used = compress.iter().map(|site| AtomicU8::new(bits(site))).collect();
        let owner = CacheOwner::another();
        let encodings = Encodings {
            kept,
            folder,
            busy: Mutex::default(),
            making: Mutex::default(),
            shared: Mutex::default(),
            streams: Arc::new(Semaphore::new(MOST_STREAMS)),
            jobs,
            compress,
            used,
            owner,
        };
        let encodings = Arc::new(encodings);
        let worker = Arc::downgrade(&encodings);
        keep_on("encodings", move || {
            step_back();
            settle_all(&waiting, &disk, || worker.upgrade());
        })?;
        Ok(encodings)
    }

    /// Whether these are made as a configuration says.
    pub fn is_of(&self, config: &Config) -> bool {
        self.compress.iter().eq(config.sites.iter().map(|site| &site.compress))
    }

    /// How hard a codec tries while somebody waits. From then on the site is known to use it.
    pub fn quick_effort(&self, site: SiteId, codec: Codec) -> Effort {
        self.used[site.0].fetch_or(bit(codec), Ordering::Relaxed);
        self.compress[site.0].effort[codec as usize].map_or(Effort::Quick, Effort::Level)
    }

    /// How hard it tries for what is kept.
    fn kept_effort(&self, site: SiteId, codec: Codec) -> Effort {
        self.compress[site.0].effort[codec as usize].map_or(Effort::Thorough, Effort::Level)
    }

    /// What is known of a file's encodings.
    pub fn known(
        &self,
        question: &Question,
        kept: &Kept,
        facts: FileFacts,
    ) -> exedra_answering::answer::Encodings {
        let used = self.used[question.site.0].load(Ordering::Relaxed);
        Codec::ALL.map(|codec| match kept.ready(codec) {
            Some(beside) => Encoded::Ready(beside),
            None if used & bit(codec) == 0 => Encoded::Unknown,
            // Where too many such are encoded already, one more is sent as it is.
            None if facts.size > MOST_TO_SETTLE => match self.streams.available_permits() {
                0 => Encoded::NoGain,
                _ => Encoded::Unknown,
            },
            None => match self.form(key(question, facts, codec)) {
                Some(Form::Settled(body)) => Encoded::Settled(body.len() as u64),
                Some(Form::NoGain) => Encoded::NoGain,
                Some(Form::Quick(_)) | None => Encoded::Unknown,
            },
        })
    }

    /// What is in memory. What has settled stays as it is, so that a copy is as good.
    fn form(&self, key: Key) -> Option<Form> {
        LOCAL.with_borrow_mut(|cache| {
            if let Some(form) = cache.get(self.owner, &key) {
                return Some(form.clone());
            }
            let form = self.kept.get(&key)?;
            let copy = match &form {
                Form::Settled(body) if body.len() <= MOST_COPIED => {
                    Form::Settled(Bytes::copy_from_slice(body))
                }
                Form::NoGain => Form::NoGain,
                Form::Settled(_) | Form::Quick(_) => return Some(form),
            };
            let octets = match &copy {
                Form::Settled(body) => 300 + body.len(),
                Form::NoGain | Form::Quick(_) => 300,
            };
            cache.keep(self.owner, key, copy, octets);
            Some(form)
        })
    }

    /// The settled encoding, if it is still in memory.
    pub fn settled(&self, question: &Question, facts: FileFacts, codec: Codec) -> Option<Bytes> {
        match self.form(key(question, facts, codec)) {
            Some(Form::Settled(body)) => Some(body),
            _ => None,
        }
    }

    /// The quick encoding of a file that has been asked for before.
    pub fn quick(&self, question: &Question, facts: FileFacts, codec: Codec) -> Option<Bytes> {
        match self.kept.get(&key(question, facts, codec)) {
            Some(Form::Quick(body)) => Some(body),
            _ => None,
        }
    }

    /// The quick encoding of a small file: made once for all who wait for it meanwhile.
    pub async fn quick_once(
        self: &Arc<Self>,
        question: &Question,
        facts: FileFacts,
        codec: Codec,
        plain: Bytes,
    ) -> Quick {
        let key = key(question, facts, codec);
        if let Some(Form::Quick(body)) = self.kept.get(&key) {
            return Quick::Body(body);
        }
        let making = one_of(&self.making, &key);
        let make = || async {
            let (encodings, question) = (Arc::clone(self), question.clone());
            let made = move || encodings.make_quick(&question, facts, codec, &plain).unwrap_or(Quick::Failed);
            tokio::task::spawn_blocking(made).await.unwrap_or(Quick::Failed)
        };
        let made = making.get_or_init(make).await.clone();
        drop(making);
        let mut all = self.making.lock();
        all.retain(|_, making| making.strong_count() > 0);
        made
    }

    /// Reads along while a file that is not small is encoded for somebody else.
    pub fn along(&self, question: &Question, facts: FileFacts, codec: Codec) -> Option<Reader> {
        let shared = self.shared.lock();
        Some(shared.get(&key(question, facts, codec))?.upgrade()?.reader())
    }

    /// Has a file that is not small encoded for all who come meanwhile, and reads along.
    pub fn encode_for_all(
        self: &Arc<Self>,
        question: &Question,
        facts: FileFacts,
        codec: Codec,
        (file, permit): (File, FilePermit),
    ) -> Reader {
        let key = key(question, facts, codec);
        let mut all = self.shared.lock();
        if let Some(made) = all.get(&key).and_then(Weak::upgrade) {
            return made.reader();
        }
        all.retain(|_, shared| shared.strong_count() > 0);
        let shared = Arc::new(Shared::default());
        all.insert(key.clone(), Arc::downgrade(&shared));
        drop(all);
        let reader = shared.reader();
        let (encodings, effort) = (Arc::clone(self), self.quick_effort(question.site, codec));
        tokio::task::spawn_blocking(move || {
            let _permit = permit;
            let made = GivesUp(&shared);
            if let Ok(whole) = made.0.make(&file, facts.size, codec, effort) {
                let form = if whole.len() as u64 >= facts.size { Form::NoGain } else { Form::Quick(whole) };
                // What has settled meanwhile is better.
                if encodings.kept.get(&key).is_none() {
                    encodings.kept.insert(key, form);
                }
            }
        });
        reader
    }

    /// Leave to encode a file that is too large to be shared.
    pub fn stream(&self) -> Option<OwnedSemaphorePermit> {
        Arc::clone(&self.streams).try_acquire_owned().ok()
    }

    /// Encodes a small file quickly, unless the thorough encoding turns up on disk. Blocks.
    pub fn make_quick(
        &self,
        question: &Question,
        facts: FileFacts,
        codec: Codec,
        plain: &[u8],
    ) -> io::Result<Quick> {
        let key = key(question, facts, codec);
        if let Some(form) = self.read_kept(&name_of(plain, codec, self.kept_effort(question.site, codec))) {
            self.kept.insert(key, form);
            return Ok(Quick::Decided);
        }
        let body = Bytes::from(codec.encode(self.quick_effort(question.site, codec), plain)?);
        if body.len() >= plain.len() {
            self.kept.insert(key, Form::NoGain);
            return Ok(Quick::Decided);
        }
        self.kept.insert(key, Form::Quick(body.clone()));
        Ok(Quick::Body(body))
    }

    /// The codecs that a site uses of whose encodings nothing is known yet.
    pub fn unsettled(
        &self,
        site: SiteId,
        known: &exedra_answering::answer::Encodings,
    ) -> impl Iterator<Item = Codec> {
        let known = *known;
        let used = self.used[site.0].load(Ordering::Relaxed);
        Codec::ALL
            .into_iter()
            .filter(move |&codec| used & bit(codec) != 0 && known[codec as usize] == Encoded::Unknown)
    }

    /// Has thorough encodings made, or fetched from the disk, of which nothing is known yet: by all codecs of the
    /// site, because only then is it seen which one is smallest.
    pub fn settle(&self, question: &Question, facts: FileFacts, known: &exedra_answering::answer::Encodings) {
        if facts.size > MOST_TO_SETTLE {
            return;
        }
        for codec in self.unsettled(question.site, known) {
            let key = key(question, facts, codec);
            if self.busy.lock().insert(key.clone()) && self.jobs.try_send(key.clone()).is_err() {
                self.busy.lock().remove(&key);
            }
        }
    }

    fn settle_one(&self, key: &Key, disk: &Disk) -> io::Result<()> {
        let (file, facts) = disk.open_file(&key.question)?;
        if facts != key.facts {
            // It has changed since; whoever asks for it now will have the new one made.
            return Ok(());
        }
        let mut plain = Vec::with_capacity(facts.size as usize);
        file.take(facts.size + 1).read_to_end(&mut plain)?;
        if plain.len() as u64 != facts.size {
            return Ok(());
        }
        let effort = self.kept_effort(key.question.site, key.codec);
        let name = name_of(&plain, key.codec, effort);
        let form = match self.read_kept(&name) {
            Some(form) => form,
            None => {
                let body = key.codec.encode(effort, &plain)?;
                let body = if body.len() < plain.len() { body } else { Vec::new() };
                if let Err(error) = self.write_kept(&name, &body) {
                    tracing::warn!("an encoding could not be kept on disk and stays in memory only: {error}");
                }
                form_of(body)
            }
        };
        self.kept.insert(key.clone(), form);
        Ok(())
    }

    fn read_kept(&self, name: &str) -> Option<Form> {
        std::fs::read(self.folder.join(name)).ok().map(form_of)
    }

    fn write_kept(&self, name: &str, body: &[u8]) -> io::Result<()> {
        let fresh = self.folder.join(format!("{name}.new"));
        std::fs::write(&fresh, body)?;
        std::fs::rename(fresh, self.folder.join(name))
    }
}

/// Lets nobody wait for what a thread that failed does not make.
struct GivesUp<'s>(&'s Shared);

impl Drop for GivesUp<'_> {
    fn drop(&mut self) {
        self.0.give_up();
    }
}

/// The one of a key, made where there is none.
fn one_of<T: Default>(all: &Mutex<HashMap<Key, Weak<T>>>, key: &Key) -> Arc<T> {
    let mut all = all.lock();
    if let Some(one) = all.get(key).and_then(Weak::upgrade) {
        return one;
    }
    let one = Arc::new(T::default());
    all.insert(key.clone(), Arc::downgrade(&one));
    one
}

fn bit(codec: Codec) -> u8 {
    1 << codec as u8
}

fn key(question: &Question, facts: FileFacts, codec: Codec) -> Key {
    let question = Question { want: exedra_answering::answer::Want::Entry, ..question.clone() };
    Key { question, facts, codec }
}

/// What is kept on disk of a file's encodings, for whoever asks without running the service. Blocks.
pub fn kept_on_disk(
    folder: &Path,
    site: &exedra_answering::config::Site,
    plain: &[u8],
) -> exedra_answering::answer::Encodings {
    Codec::ALL.map(|codec| {
        let effort = site.compress.effort[codec as usize].map_or(Effort::Thorough, Effort::Level);
        match std::fs::metadata(folder.join(name_of(plain, codec, effort))) {
            Ok(kept) if kept.len() == 0 => Encoded::NoGain,
            Ok(kept) => Encoded::Settled(kept.len()),
            Err(_) => Encoded::Unknown,
        }
    })
}

/// Nothing gained is kept as an empty file.
fn form_of(body: Vec<u8>) -> Form {
    if body.is_empty() { Form::NoGain } else { Form::Settled(body.into()) }
}

/// The name of an encoding on disk: what was encoded, how, and how hard.
fn name_of(plain: &[u8], codec: Codec, effort: Effort) -> String {
    let digest: String = Sha256::digest(plain).iter().map(|octet| format!("{octet:02x}")).collect();
    format!("{digest}.{}-{}", codec.name(), codec.level(effort))
}

fn settle_all(waiting: &Receiver<Key>, disk: &Disk, encodings: impl Fn() -> Option<Arc<Encodings>>) {
    while let Ok(key) = waiting.recv() {
        let Some(encodings) = encodings() else { return };
        if let Err(error) = encodings.settle_one(&key, disk) {
            tracing::debug!(path = %key.question.path, "no thorough encoding was made: {error}");
        }
        encodings.busy.lock().remove(&key);
    }
}

/// Removes the oldest kept encodings where there are too many.
fn trim(folder: &Path) -> io::Result<()> {
    let mut files = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let found = entry.metadata()?;
        files.push((found.modified()?, found.len(), entry.path()));
    }
    files.sort_by_key(|file| std::cmp::Reverse(file.0));
    let mut total = 0;
    for (_, size, path) in files {
        total += size;
        if total > DISK {
            std::fs::remove_file(path)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::system::clock::Clock;
    use exedra_answering::answer::Want;
    use exedra_answering::answer::path::resolve;
    use exedra_answering::config::understand;
    use std::time::{Duration, Instant};

    /// A site with a page that gets smaller and a picture that does not, and its encodings.
    struct TestSite {
        place: tempfile::TempDir,
        config: Config,
        disk: Arc<Disk>,
    }

    impl TestSite {
        fn new() -> Self {
            let place = tempfile::tempdir().unwrap();
            std::fs::create_dir(place.path().join("site")).unwrap();
            std::fs::write(place.path().join("site/page.html"), page()).unwrap();
            std::fs::write(place.path().join("site/noise.txt"), noise()).unwrap();
            let text = "[[listener]]\naddress = \"127.0.0.1:0\"\n[[site]]\nname = \"harbour\"\nhosts = [\"h.example\"]\n\
                        folder = \"site\"\n[site.compress]\ncodecs = [\"br\", \"gzip\"]\n";
            let config = understand(text, place.path()).unwrap();
            let disk = Arc::new(Disk::open(&config, Clock::new()).unwrap());
            TestSite { place, config, disk }
        }

        fn encodings(&self) -> Arc<Encodings> {
            let folder = self.place.path().join("encodings");
            Encodings::open(folder, Arc::clone(&self.disk), &self.config).unwrap()
        }

        fn asked(&self, path: &str) -> (Question, Arc<Kept>, FileFacts) {
            let question =
                Question { site: SiteId(0), path: resolve(path).unwrap().place, want: Want::Entry };
            let kept = self.disk.look(&question);
            let exedra_answering::answer::Entry::File(facts) = kept.entry else {
                panic!("{path} is no file")
            };
            (question, kept, facts)
        }
    }

    fn page() -> String {
        "<p>High water at seven, low water at one.</p>\n".repeat(200)
    }

    /// What no codec makes smaller.
    fn noise() -> Vec<u8> {
        let mut state = 1u64;
        let mut next = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as u8
        };
        (0..4000).map(|_| next()).collect()
    }

    /// Waits for the thread that makes thorough encodings.
    fn until(mut holds: impl FnMut() -> bool) {
        let began = Instant::now();
        while !holds() {
            assert!(began.elapsed() < Duration::from_secs(30), "in vain");
            std::thread::yield_now();
        }
    }

    #[test]
    fn encodings_are_quick_first_thorough_from_then_on_and_there_after_a_restart() {
        let kitchen = TestSite::new();
        let (question, kept, facts) = kitchen.asked("/page.html");
        let encodings = kitchen.encodings();
        assert_eq!(encodings.known(&question, &kept, facts)[Codec::Brotli as usize], Encoded::Unknown);
        let quick = encodings.make_quick(&question, facts, Codec::Brotli, page().as_bytes()).unwrap();
        let Quick::Body(quick) = quick else { panic!("a quick encoding") };
        assert_eq!(encodings.quick(&question, facts, Codec::Brotli).unwrap(), quick);
        // Nobody counts on it: it gets better.
        let known = encodings.known(&question, &kept, facts);
        assert_eq!(known[Codec::Brotli as usize], Encoded::Unknown);

        encodings.settle(&question, facts, &known);
        let settled = |encodings: &Encodings, codec| encodings.settled(&question, facts, codec);
        until(|| settled(&encodings, Codec::Brotli).is_some() && settled(&encodings, Codec::Gzip).is_some());
        let thorough = settled(&encodings, Codec::Brotli).unwrap();
        assert!(thorough.len() <= quick.len());
        assert!(encodings.quick(&question, facts, Codec::Brotli).is_none());
        // A codec that the site does not use is not tried.
        assert!(settled(&encodings, Codec::Zstd).is_none());
        until(|| encodings.busy.lock().is_empty());

        let later = kitchen.encodings();
        let found = later.make_quick(&question, facts, Codec::Brotli, page().as_bytes()).unwrap();
        assert!(matches!(found, Quick::Decided));
        assert_eq!(settled(&later, Codec::Brotli).unwrap(), thorough);
        let folder = kitchen.place.path().join("encodings");
        let on_disk = kept_on_disk(&folder, &kitchen.config.sites[0], page().as_bytes());
        assert_eq!(on_disk[Codec::Brotli as usize], Encoded::Settled(thorough.len() as u64));
        assert_eq!(on_disk[Codec::Zstd as usize], Encoded::Unknown);
    }

    #[test]
    fn what_does_not_get_smaller_is_known_as_that() {
        let kitchen = TestSite::new();
        let (question, kept, facts) = kitchen.asked("/noise.txt");
        let encodings = kitchen.encodings();
        let known = encodings.known(&question, &kept, facts);
        encodings.settle(&question, facts, &known);
        let now = || encodings.known(&question, &kept, facts)[Codec::Gzip as usize];
        until(|| now() == Encoded::NoGain);
        assert!(encodings.settled(&question, facts, Codec::Gzip).is_none());
    }

    #[test]
    fn a_file_that_has_changed_has_encodings_of_its_own() {
        let kitchen = TestSite::new();
        let (question, _, before) = kitchen.asked("/page.html");
        let encodings = kitchen.encodings();
        encodings.make_quick(&question, before, Codec::Gzip, page().as_bytes()).unwrap();
        std::fs::write(kitchen.place.path().join("site/page.html"), page() + "<p>Gale warning.</p>").unwrap();
        let (_, _, after) = kitchen.asked("/page.html");
        assert_ne!(before, after);
        assert!(encodings.quick(&question, after, Codec::Gzip).is_none());
    }
}
