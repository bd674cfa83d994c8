//! Buffers that files are read into on their way out. They come back when what was in them has been sent, so
//! that nobody has to clear memory for every piece.

use bytes::Bytes;
use std::cell::RefCell;

/// Octets in a buffer: small enough that what was read is still in the processor's cache when it is sent.
pub const SIZE: usize = 128 << 10;
/// How many buffers a thread keeps for the next file.
const MOST_KEPT: usize = 32;

thread_local! {
    static KEPT: RefCell<Vec<Box<[u8]>>> = const { RefCell::new(Vec::new()) };
}

/// A buffer of [`SIZE`] octets, whatever they are.
pub fn take() -> Box<[u8]> {
    KEPT.with_borrow_mut(Vec::pop).unwrap_or_else(|| vec![0; SIZE].into_boxed_slice())
}

/// A buffer that is no longer needed.
pub fn give_back(buffer: Box<[u8]>) {
    KEPT.with_borrow_mut(|kept| {
        if kept.len() < MOST_KEPT {
            kept.push(buffer);
        }
    });
}

/// The first octets of a buffer, which comes back when they are dropped.
pub fn piece(buffer: Box<[u8]>, length: usize) -> Bytes {
    Bytes::from_owner(Lent { buffer, length })
}

struct Lent {
    buffer: Box<[u8]>,
    length: usize,
}

impl AsRef<[u8]> for Lent {
    fn as_ref(&self) -> &[u8] {
        &self.buffer[..self.length]
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        give_back(std::mem::take(&mut self.buffer));
    }
}
