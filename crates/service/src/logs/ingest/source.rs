//! A generation of a log, read from where reading stopped, compressed or not.

use crate::logs::journal::generations::Generation;
use flate2::bufread::MultiGzDecoder;
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::os::unix::fs::FileExt;
use std::sync::Arc;

/// An open generation.
pub enum Source {
    /// As it was written; the file is shared with whoever still writes to it.
    Plain(Arc<File>),
    /// Compressed since.
    Packed {
        /// What unpacks it.
        decoder: Box<MultiGzDecoder<BufReader<File>>>,
        /// What has been unpacked and may be asked for again: a line that a block's end cut off.
        unpacked: Vec<u8>,
        /// Where that begins.
        begins: u64,
    },
}

impl Source {
    /// Opens a generation, unless it is open already because it is written.
    pub fn open(generation: &Generation, written: Option<Arc<File>>) -> io::Result<Self> {
        if let Some(file) = written.filter(|_| !generation.packed) {
            return Ok(Source::Plain(file));
        }
        let file = File::open(&generation.path)?;
        if !generation.packed {
            return Ok(Source::Plain(Arc::new(file)));
        }
        let decoder = Box::new(MultiGzDecoder::new(BufReader::with_capacity(256 << 10, file)));
        Ok(Source::Packed { decoder, unpacked: Vec::new(), begins: 0 })
    }

    /// Fills a block from an offset on, as far as there is anything; gives how many octets that was. What is
    /// compressed can only be read forwards.
    pub fn read_at(&mut self, block: &mut [u8], offset: u64) -> io::Result<usize> {
        match self {
            Source::Plain(file) => {
                let mut filled = 0;
                while filled < block.len() {
                    match file.read_at(&mut block[filled..], offset + filled as u64)? {
                        0 => break,
                        read => filled += read,
                    }
                }
                Ok(filled)
            }
            Source::Packed { decoder, unpacked, begins } => {
                let skip = offset.checked_sub(*begins);
                let skip =
                    skip.ok_or_else(|| io::Error::other("a compressed log cannot be read backwards"))?;
                let held = unpacked.len().min(usize::try_from(skip).unwrap_or(usize::MAX));
                unpacked.drain(..held);
                io::copy(&mut decoder.by_ref().take(skip - held as u64), &mut io::sink())?;
                *begins = offset;
                let lacking = block.len().saturating_sub(unpacked.len());
                decoder.by_ref().take(lacking as u64).read_to_end(unpacked)?;
                let filled = unpacked.len().min(block.len());
                block[..filled].copy_from_slice(&unpacked[..filled]);
                Ok(filled)
            }
        }
    }

    /// Octets of a file that may still be written; `None` for one that is compressed.
    pub fn length(&self) -> io::Result<Option<u64>> {
        match self {
            Source::Plain(file) => Ok(Some(file.metadata()?.len())),
            Source::Packed { .. } => Ok(None),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use flate2::Compression;
    use flate2::write::GzEncoder;
    use std::io::Write;

    #[test]
    fn compressed_and_plain_read_alike_from_anywhere_on() {
        let folder = tempfile::tempdir().unwrap();
        let text: Vec<u8> = (0..20_000).flat_map(|number| format!("line {number}\n").into_bytes()).collect();
        let plain = Generation {
            number: 1,
            name: "a.000001.log".to_owned(),
            path: folder.path().join("a.000001.log"),
            packed: false,
        };
        std::fs::write(&plain.path, &text).unwrap();
        let packed = Generation { path: plain.packed_path(), packed: true, ..plain.clone() };
        let mut encoder = GzEncoder::new(File::create(&packed.path).unwrap(), Compression::fast());
        encoder.write_all(&text).unwrap();
        encoder.finish().unwrap();
        assert!(packed.is_whole(text.len() as u64) && plain.is_whole(text.len() as u64));

        let (mut plain, mut packed) =
            (Source::open(&plain, None).unwrap(), Source::open(&packed, None).unwrap());
        let mut at = 0;
        let (mut one, mut other) = (vec![0; 1000], vec![0; 1000]);
        for step in [0, 990, 1, 999, 30_000, 7, 100_000, 100_000_000] {
            at += step;
            let read = plain.read_at(&mut one, at).unwrap();
            assert_eq!(packed.read_at(&mut other, at).unwrap(), read, "at {at}");
            assert!(one[..read] == other[..read], "at {at}");
        }
        assert!(packed.read_at(&mut other, 0).is_err());
    }
}
