//! Weighing: every codec at every effort on a site's own files.
//!
//! - [`sample`]: which files, chosen fairly where there are many
//! - [`measure`]: encoding them on several threads
//!
//! What follows from the measurements is worked out in [`exedra_answering::encode::weighing`]. It is used by `exedra weigh` and by the
//! console.

mod measure;
mod sample;

use crate::content::encodings::MOST_TO_SETTLE;
use exedra_answering::encode::weighing::{Curve, OfType, PAYING, Recommendation, Weighing};
use serde::Serialize;
use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::time::Instant;
use utoipa::ToSchema;

/// What was weighed, and what came of it.
#[derive(Debug, Serialize, ToSchema)]
pub struct Weighed {
    /// The site or folder.
    pub what: String,
    /// Files that a site would serve.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How many of them were encoded.
    pub sampled_files: u64,
    /// The bytes of those.
    pub sampled_bytes: u64,
    /// How many threads encoded.
    pub threads: usize,
    /// How long it took.
    pub seconds: f64,
    /// The part by which a step to a higher effort must make files smaller for each doubling of its time.
    pub paying: f64,
    /// What remains of all files, by codec and effort.
    pub curves: Vec<Curve>,
    /// The same for each media type.
    pub types: BTreeMap<String, WeighedType>,
    /// What follows for the configuration.
    pub recommended: Recommendation,
}

/// The files of one type.
#[derive(Debug, Serialize, ToSchema)]
pub struct WeighedType {
    /// How many there are, and were encoded.
    #[serde(flatten)]
    pub of_type: OfType,
    /// Whether compressing them is worth it.
    pub worthwhile: bool,
    /// What remains of them, by codec and effort.
    pub curves: Vec<Curve>,
}

/// How much is encoded, and by how many threads.
#[derive(Debug, Clone, Copy)]
pub struct Size {
    /// Bytes that are encoded at most; where there is more, files are chosen at random, the same ones each time.
    pub sample: u64,
    /// Bytes of one file at most: its beginning stands for it.
    pub of_each: u64,
    /// Threads that encode.
    pub threads: usize,
}

impl Size {
    /// As files are when they are served: nothing larger than this is settled.
    pub const WHOLE: u64 = MOST_TO_SETTLE;
}

/// What hears of the work, and may end it: how many parts of how many are done, and whether it is still wanted. It is asked between any
/// two encodings.
pub type Progress<'p> = &'p (dyn Fn(u64, u64) -> io::Result<()> + Sync);

/// Encodes a folder's files, or a sample of them. An error when the folder cannot be read, has no files, or `progress` ends it.
pub fn weigh(what: &str, folder: &Path, size: Size, progress: Progress<'_>) -> io::Result<Weighed> {
    let began = Instant::now();
    let threads = size.threads.max(1);
    let (mut weighing, samples) = sample::choose(folder, size)?;
    if weighing.types.is_empty() {
        let words = format!("there are no files in {} that a site would serve", folder.display());
        return Err(io::Error::new(io::ErrorKind::NotFound, words));
    }
    measure::measure(&mut weighing, &samples, threads, progress)?;
    Ok(Weighed::new(what.to_owned(), &weighing, threads, began.elapsed().as_secs_f64()))
}

impl Weighed {
    /// What follows from measurements that took so many threads so many seconds.
    pub fn new(what: String, weighing: &Weighing, threads: usize, seconds: f64) -> Self {
        let sum = |of: fn(&OfType) -> u64| weighing.types.values().map(of).sum();
        let types = weighing.types.iter().map(|(name, of_type)| {
            let curves = weighing.curves(Some(name));
            (name.clone(), WeighedType { of_type: of_type.clone(), worthwhile: of_type.gains(), curves })
        });
        Weighed {
            what,
            files: sum(|of| of.files),
            bytes: weighing.bytes(),
            sampled_files: sum(|of| of.sampled_files),
            sampled_bytes: sum(|of| of.sampled_bytes),
            threads,
            seconds,
            paying: PAYING,
            curves: weighing.curves(None),
            types: types.collect(),
            recommended: weighing.recommend(),
        }
    }
}
