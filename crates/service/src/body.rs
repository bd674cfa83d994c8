//! What goes out: something small at once, or a file piece by piece in constant memory.
//!
//! Every body knows the request it answers. When it has been sent, or given up, the line for the log is
//! written: once, whatever became of it.

use crate::access_log::Finished;
use bytes::Bytes;
use exedra_core::answer::Piece;
use exedra_core::encode::{Codec, Effort, Encoder};
use http_body::{Body, Frame, SizeHint};
use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use tokio::task::JoinHandle;

/// How much of a file is read at a time.
const PIECE: usize = 256 << 10;

/// The body of an answer, and the line that its end writes.
pub struct LoggedBody {
    content: Content,
    finished: Option<Finished>,
}

enum Content {
    Whole(Option<Bytes>),
    Pieces { reading: Reading, left: Option<u64> },
}

enum Reading {
    Idle(Option<Box<Pieces>>),
    Busy(JoinHandle<io::Result<(Bytes, Option<Box<Pieces>>)>>),
}

/// A file on its way out, or parts of it.
pub struct Pieces {
    file: File,
    parts: VecDeque<Piece>,
    encoder: Option<Encoder<Vec<u8>>>,
}

impl Pieces {
    /// A file of a known size, perhaps to be encoded on the way.
    pub fn new(file: File, size: u64, codec: Option<Codec>) -> io::Result<Self> {
        let encoder = codec.map(|codec| codec.encoder(Effort::Quick, Vec::new())).transpose()?;
        let parts = if size > 0 { VecDeque::from([Piece::File(0..size)]) } else { VecDeque::new() };
        Ok(Pieces { file, parts, encoder })
    }

    /// Parts of a file, and what stands between them.
    pub fn of_parts(file: File, parts: Vec<Piece>) -> Self {
        Pieces { file, parts: parts.into(), encoder: None }
    }

    /// How many octets there are to come, before any encoding.
    fn left(&self) -> u64 {
        let length = |part: &Piece| match part {
            Piece::Octets(octets) => octets.len() as u64,
            Piece::File(part) => part.end - part.start,
        };
        self.parts.iter().map(length).sum()
    }

    /// The next piece, and what comes after it. Blocks.
    fn next(mut self: Box<Self>) -> io::Result<(Bytes, Option<Box<Self>>)> {
        loop {
            let piece = self.read()?;
            let Some(mut encoder) = self.encoder.take() else {
                let rest = (!self.parts.is_empty()).then_some(self);
                return Ok((piece.into(), rest));
            };
            encoder.write_all(&piece)?;
            if self.parts.is_empty() {
                return Ok((encoder.finish()?.into(), None));
            }
            let ready = std::mem::take(encoder.get_mut());
            self.encoder = Some(encoder);
            if !ready.is_empty() {
                return Ok((ready.into(), Some(self)));
            }
        }
    }

    fn read(&mut self) -> io::Result<Vec<u8>> {
        match self.parts.pop_front() {
            None => Ok(Vec::new()),
            Some(Piece::Octets(octets)) => Ok(octets),
            Some(Piece::File(part)) => {
                let until = part.end.min(part.start + PIECE as u64);
                let mut octets = vec![0; (until - part.start) as usize];
                self.file.read_exact_at(&mut octets, part.start)?;
                if until < part.end {
                    self.parts.push_front(Piece::File(until..part.end));
                }
                Ok(octets)
            }
        }
    }
}

impl LoggedBody {
    /// Something that is all there.
    pub fn whole(content: Bytes, finished: Option<Finished>) -> Self {
        LoggedBody { content: Content::Whole(Some(content)), finished }
    }

    /// A file.
    pub fn pieces(pieces: Pieces, finished: Option<Finished>) -> Self {
        let left = pieces.encoder.is_none().then(|| pieces.left());
        let pieces = (!pieces.parts.is_empty() || pieces.encoder.is_some()).then(|| Box::new(pieces));
        LoggedBody { content: Content::Pieces { reading: Reading::Idle(pieces), left }, finished }
    }

    fn count(&mut self, piece: &Bytes) {
        if let Some(finished) = &mut self.finished {
            finished.bytes += piece.len() as u64;
        }
    }
}

impl Body for LoggedBody {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        let body = self.get_mut();
        let piece = match &mut body.content {
            Content::Whole(content) => match content.take().filter(|content| !content.is_empty()) {
                Some(content) => content,
                None => return Poll::Ready(None),
            },
            Content::Pieces { reading, left } => {
                if let Reading::Idle(pieces) = reading {
                    let Some(pieces) = pieces.take() else { return Poll::Ready(None) };
                    *reading = Reading::Busy(tokio::task::spawn_blocking(move || pieces.next()));
                }
                let Reading::Busy(handle) = reading else { return Poll::Ready(None) };
                let result = ready!(Pin::new(handle).poll(context)).map_err(io::Error::other);
                match result.and_then(|result| result) {
                    Err(error) => {
                        *reading = Reading::Idle(None);
                        return Poll::Ready(Some(Err(error)));
                    }
                    Ok((piece, rest)) => {
                        *reading = Reading::Idle(rest);
                        if let Some(left) = left {
                            *left = left.saturating_sub(piece.len() as u64);
                        }
                        piece
                    }
                }
            }
        };
        body.count(&piece);
        Poll::Ready(Some(Ok(Frame::data(piece))))
    }

    fn is_end_stream(&self) -> bool {
        match &self.content {
            Content::Whole(content) => content.as_ref().is_none_or(Bytes::is_empty),
            Content::Pieces { reading, .. } => matches!(reading, Reading::Idle(None)),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match &self.content {
            Content::Whole(content) => {
                SizeHint::with_exact(content.as_ref().map_or(0, |body| body.len() as u64))
            }
            Content::Pieces { left: Some(left), .. } => SizeHint::with_exact(*left),
            Content::Pieces { left: None, .. } => SizeHint::default(),
        }
    }
}

impl Drop for LoggedBody {
    fn drop(&mut self) {
        if let Some(finished) = self.finished.take() {
            finished.write();
        }
    }
}
