//! One quick encoding for all who wait for it: whoever comes while it is made reads along.
//!
//! A burst on a page that has not settled would otherwise encode it once for each request. What has been encoded is held in
//! memory until the last reader has gone, so only files that settle are shared; that bounds it.

use bytes::Bytes;
use exedra_answering::encode::{Codec, Effort};
use parking_lot::Mutex;
use std::fs::File;
use std::io::{self, Read, Write};
use std::sync::Arc;
use std::task::{Context, Poll, Waker};

/// How much of a file is encoded before what came out is passed on.
const STEP: usize = 64 << 10;

/// An encoding that is being made.
#[derive(Default)]
pub struct Shared {
    progress: Mutex<Progress>,
}

#[derive(Default)]
struct Progress {
    pieces: Vec<Bytes>,
    ended: Option<Result<(), Arc<io::Error>>>,
    waiting: Vec<Waker>,
}

/// One who reads along.
pub struct Reader {
    shared: Arc<Shared>,
    next: usize,
}

impl Shared {
    /// Encodes a file of a known size for everybody. Blocks. Gives the whole.
    pub fn make(&self, mut file: &File, size: u64, codec: Codec, effort: Effort) -> io::Result<Bytes> {
        let made = self.encode(&mut file, size, codec, effort);
        let (ended, whole) = match made {
            Ok(()) => (Ok(()), Ok(self.progress.lock().pieces.concat().into())),
            Err(error) => {
                let error = Arc::new(error);
                (Err(Arc::clone(&error)), Err(io::Error::new(error.kind(), error)))
            }
        };
        self.advance(None, Some(ended));
        whole
    }
    fn encode(&self, file: &mut &File, size: u64, codec: Codec, effort: Effort) -> io::Result<()> {
        let mut encoder = codec.encoder(effort, Vec::new())?;
        let mut buffer = vec![0; STEP];
        let mut left = size;
        while left > 0 {
            let most = usize::try_from(left).map_or(STEP, |left| left.min(STEP));
            file.read_exact(&mut buffer[..most])?;
            left -= most as u64;
            encoder.write_all(&buffer[..most])?;
            let piece = std::mem::take(encoder.get_mut());
            if !piece.is_empty() {
                self.advance(Some(piece.into()), None);
            }
        }
        self.advance(Some(encoder.finish()?.into()), None);
        Ok(())
    }

    fn advance(&self, piece: Option<Bytes>, ended: Option<Result<(), Arc<io::Error>>>) {
        let mut progress = self.progress.lock();
        progress.pieces.extend(piece.filter(|piece| !piece.is_empty()));
        // The first end counts.
        progress.ended = progress.ended.take().or(ended);
        let waiting = std::mem::take(&mut progress.waiting);
        drop(progress);
        waiting.into_iter().for_each(Waker::wake);
    }

    /// Says that nobody makes it after all, so that nobody waits for ever.
    pub fn give_up(&self) {
        let error = io::Error::other("the encoding was not made");
        self.advance(None, Some(Err(Arc::new(error))));
    }

    /// Reads along from the beginning.
    pub fn reader(self: &Arc<Self>) -> Reader {
        Reader { shared: Arc::clone(self), next: 0 }
    }
}

impl Reader {
    /// The next piece; nothing at the end.
    pub fn poll_next(&mut self, context: &mut Context<'_>) -> Poll<Option<io::Result<Bytes>>> {
        let mut progress = self.shared.progress.lock();
        if let Some(piece) = progress.pieces.get(self.next) {
            self.next += 1;
            return Poll::Ready(Some(Ok(piece.clone())));
        }
        match &progress.ended {
            Some(Ok(())) => Poll::Ready(None),
            Some(Err(error)) => Poll::Ready(Some(Err(io::Error::new(error.kind(), Arc::clone(error))))),
            None => {
                if !progress.waiting.iter().any(|waker| waker.will_wake(context.waker())) {
                    progress.waiting.push(context.waker().clone());
                }
                Poll::Pending
            }
        }
    }

    /// Whether everything has been read.
    pub fn is_over(&self) -> bool {
        let progress = self.shared.progress.lock();
        progress.pieces.len() == self.next && matches!(progress.ended, Some(Ok(())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Seek;
    use std::pin::Pin;

    #[test]
    fn all_who_read_along_get_the_same_whole() {
        let mut file = tempfile::tempfile().unwrap();
        let plain: Vec<u8> =
            (0..400_000u32).flat_map(|number| number.wrapping_mul(number).to_le_bytes()).collect();
        file.write_all(&plain).unwrap();
        file.rewind().unwrap();
        let shared = Arc::new(Shared::default());
        let readers: Vec<_> = (0..3)
            .map(|_| {
                let mut reader = shared.reader();
                std::thread::spawn(move || {
                    let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
                    let mut all = Vec::new();
                    while let Some(piece) =
                        runtime.block_on(std::future::poll_fn(|context| reader.poll_next(context)))
                    {
                        all.extend_from_slice(&piece.unwrap());
                    }
                    assert!(reader.is_over());
                    all
                })
            })
            .collect();
        let whole = shared.make(&file, plain.len() as u64, Codec::Gzip, Effort::Quick).unwrap();
        for reader in readers {
            assert_eq!(reader.join().unwrap(), whole);
        }
        let mut unpacked = Vec::new();
        flate2::read::GzDecoder::new(&whole[..]).read_to_end(&mut unpacked).unwrap();
        assert!(unpacked == plain);
        // A file that is shorter than it was is an error for all.
        let cut = Arc::new(Shared::default());
        file.rewind().unwrap();
        assert!(cut.make(&file, plain.len() as u64 + 1, Codec::Gzip, Effort::Quick).is_err());
        let mut reader = cut.reader();
        let mut context = Context::from_waker(Waker::noop());
        let last = loop {
            match Pin::new(&mut reader).poll_next(&mut context) {
                Poll::Ready(Some(Ok(_))) => {}
                last => break last,
            }
        };
        assert!(matches!(last, Poll::Ready(Some(Err(_)))));
    }
}
