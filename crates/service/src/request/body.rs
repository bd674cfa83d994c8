//! What goes out: something small at once, or a file piece by piece in constant memory.
//!
//! Every body knows the request it answers. When it has been sent, or given up, the line for the log is
//! written: once, whatever became of it.

use super::progress::{Progress, note};
use crate::access::descriptors::FilePermit;
use crate::content::encodings::shared::Reader;
use crate::request::buffers;
use crate::request::in_flight::{Failure, InFlight};
use bytes::Bytes;
use exedra_answering::answer::Piece;
use exedra_answering::encode::{Codec, Effort, Encoder};
use http_body::{Body, Frame, SizeHint};
use rustix::io::{ReadWriteFlags, preadv2};
use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, IoSliceMut, Write};
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;
use tokio::sync::OwnedSemaphorePermit;
use tokio::task::JoinHandle;
use tokio::time::{Instant, Sleep};

/// How much of a file is read for a client that may never take it.
const BEGINNING: usize = 4096;

/// The body of an answer, and the request that its end finishes.
pub struct LoggedBody {
    content: Content,
    in_flight: Option<Box<InFlight>>,
    pace: Option<Box<Pace>>,
}

/// How fast a body may go out.
struct Pace {
    /// Bytes a second.
    speed: u64,
    began: Instant,
    /// Bytes that have gone.
    gone: u64,
    /// What has been read, and waits for its time.
    rest: Bytes,
    pause: Pin<Box<Sleep>>,
}

impl Pace {
    fn new(speed: u64) -> Self {
        Pace {
            speed,
            began: Instant::now(),
            gone: 0,
            rest: Bytes::new(),
            pause: Box::pin(tokio::time::sleep(Duration::ZERO)),
        }
    }

    /// How much goes out at a time: about a tenth of a second's worth.
    fn step(&self) -> usize {
        usize::try_from(self.speed / 10).unwrap_or(usize::MAX).max(512)
    }

    /// So much has gone: the rest waits for as long as that should have taken.
    fn went(&mut self, bytes: usize) {
        self.gone += bytes as u64;
        let due = self.began + Duration::from_secs_f64(self.gone as f64 / self.speed as f64);
        self.pause.as_mut().reset(due);
    }
}

/// What a body consists of.
pub enum Content {
    /// Something that is all there.
    Whole(Bytes),
    /// What is encoded for several at once.
    Shared(Reader),
    /// A file, or parts of it, read on the way.
    Pieces {
        /// What is read next, or being read.
        reading: Reading,
        /// Octets to come, where that is known.
        left: Option<u64>,
    },
}

/// A file on its way.
pub enum Reading {
    /// Nobody reads.
    Idle(Option<Box<Pieces>>),
    /// A thread that may block reads.
    Busy(JoinHandle<io::Result<(Bytes, Option<Box<Pieces>>)>>),
}

/// A file that is open, or will be.
pub enum Opening {
    /// It is, by somebody's leave.
    Open(File, FilePermit),
    /// It will be when there is something to send.
    Later(Reopen),
}

/// Opens a file that was looked at before, if it is still the same. Blocks.
pub type Reopen = Box<dyn Fn() -> io::Result<(File, FilePermit)> + Send>;

impl Opening {
    /// Reads what stands at a place. Blocks. A client that may never take anything is sent a beginning, for which the file
    /// is open only now; it stays open once that has been taken.
    fn read(&mut self, part: &Range<u64>, buffer: &mut [u8], is_beginning: bool) -> io::Result<usize> {
        let most = usize::try_from(part.end - part.start).unwrap_or(usize::MAX).min(buffer.len());
        if let Opening::Later(open) = self {
            let (file, permit) = open()?;
            if is_beginning {
                let length = most.min(BEGINNING);
                file.read_exact_at(&mut buffer[..length], part.start)?;
                return Ok(length);
            }
            *self = Opening::Open(file, permit);
        }
        let Opening::Open(file, _) = self else { return Ok(0) };
        file.read_exact_at(&mut buffer[..most], part.start)?;
        Ok(most)
    }
}

/// A file on its way out, or parts of it.
pub struct Pieces {
    file: Opening,
    parts: VecDeque<Piece>,
    encoder: Option<Encoder<Vec<u8>>>,
    /// Whether anything has been read.
    has_begun: bool,
    /// Leave to encode, held until it has gone.
    _leave: Option<OwnedSemaphorePermit>,
}

impl Pieces {
    /// A file of a known size, perhaps to be encoded on the way.
    pub fn new(file: Opening, size: u64, coding: Option<(Codec, Effort)>) -> io::Result<Self> {
        let encoder = coding.map(|(codec, effort)| codec.encoder(effort, Vec::new())).transpose()?;
        let parts = if size > 0 { VecDeque::from([Piece::File(0..size)]) } else { VecDeque::new() };
        Ok(Pieces { file, parts, encoder, has_begun: false, _leave: None })
    }

    /// Parts of a file, and what stands between them.
    pub fn of_parts(file: Opening, parts: Vec<Piece>) -> Self {
        Pieces { file, parts: parts.into(), encoder: None, has_begun: false, _leave: None }
    }

    /// The same, by somebody's leave.
    #[must_use]
    pub fn with_leave(self, leave: OwnedSemaphorePermit) -> Self {
        Pieces { _leave: Some(leave), ..self }
    }

    /// How many octets there are to come, before any encoding.
    fn left(&self) -> u64 {
        let length = |part: &Piece| match part {
            Piece::Octets(octets) => octets.len() as u64,
            Piece::File(part) => part.end - part.start,
        };
        self.parts.iter().map(length).sum()
    }

    /// The next piece, if it is to be had without waiting for the disk: the system has it in memory.
    fn next_at_once(&mut self) -> Option<Bytes> {
        let (Opening::Open(file, _), None) = (&self.file, &self.encoder) else { return None };
        match self.parts.front_mut()? {
            Piece::Octets(octets) => {
                let octets = std::mem::take(octets);
                self.parts.pop_front();
                Some(octets.into())
            }
            Piece::File(part) => {
                let length = buffers::SIZE.min(usize::try_from(part.end - part.start).unwrap_or(usize::MAX));
                let mut buffer = buffers::take();
                let room = &mut [IoSliceMut::new(&mut buffer[..length])];
                let read =
                    preadv2(file, room, part.start, ReadWriteFlags::NOWAIT).ok().filter(|read| *read > 0);
                let Some(read) = read else {
                    buffers::give_back(buffer);
                    return None;
                };
                part.start += read as u64;
                if part.start == part.end {
                    self.parts.pop_front();
                }
                Some(buffers::piece(buffer, read))
            }
        }
    }

    /// The next piece, and what comes after it. Blocks.
    fn next(mut self: Box<Self>) -> io::Result<(Bytes, Option<Box<Self>>)> {
        loop {
            let piece = self.read()?;
            let Some(mut encoder) = self.encoder.take() else {
                let rest = (!self.parts.is_empty()).then_some(self);
                return Ok((piece, rest));
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

    fn read(&mut self) -> io::Result<Bytes> {
        match self.parts.pop_front() {
            None => Ok(Bytes::new()),
            Some(Piece::Octets(octets)) => Ok(octets.into()),
            Some(Piece::File(part)) => {
                let mut buffer = buffers::take();
                let is_beginning = !std::mem::replace(&mut self.has_begun, true) && self.encoder.is_none();
                let length = match self.file.read(&part, &mut buffer[..buffers::SIZE], is_beginning) {
                    Ok(length) => length,
                    Err(error) => {
                        buffers::give_back(buffer);
                        return Err(error);
                    }
                };
                let until = part.start + length as u64;
                if until < part.end {
                    self.parts.push_front(Piece::File(until..part.end));
                }
                if length > BEGINNING {
                    return Ok(buffers::piece(buffer, length));
                }
                // A large buffer is not kept for little.
                let piece = Bytes::copy_from_slice(&buffer[..length]);
                buffers::give_back(buffer);
                Ok(piece)
            }
        }
    }
}

impl Content {
    /// Nothing.
    pub fn none() -> Self {
        Content::Whole(Bytes::new())
    }

    /// A file.
    pub fn pieces(pieces: Pieces) -> Self {
        let left = pieces.encoder.is_none().then(|| pieces.left());
        let pieces = (!pieces.parts.is_empty() || pieces.encoder.is_some()).then(|| Box::new(pieces));
        Content::Pieces { reading: Reading::Idle(pieces), left }
    }

    /// Octets to come, where that is known.
    pub fn length(&self) -> Option<u64> {
        match self {
            Content::Whole(content) => Some(content.len() as u64),
            Content::Shared(_) => None,
            Content::Pieces { left, .. } => *left,
        }
    }

    fn is_over(&self) -> bool {
        match self {
            Content::Whole(content) => content.is_empty(),
            Content::Shared(reader) => reader.is_over(),
            Content::Pieces { reading, .. } => matches!(reading, Reading::Idle(None)),
        }
    }
}

impl LoggedBody {
    /// The body of an answer to a request.
    pub fn new(content: Content, in_flight: Box<InFlight>) -> Self {
        let speed = in_flight.permit.as_ref().and_then(|permit| permit.speed);
        LoggedBody {
            content,
            in_flight: Some(in_flight),
            pace: speed.map(|speed| Box::new(Pace::new(speed))),
        }
    }

    /// What goes out of a piece that has been read: all of it, or as much as its time has come for.
    fn send_next(&mut self, piece: Bytes) -> Bytes {
        let piece = match &mut self.pace {
            None => piece,
            Some(pace) => {
                if pace.rest.is_empty() {
                    pace.rest = piece;
                }
                let step = pace.step().min(pace.rest.len());
                let piece = pace.rest.split_to(step);
                pace.went(piece.len());
                piece
            }
        };
        if let Some(in_flight) = &mut self.in_flight {
            in_flight.bytes += piece.len() as u64;
        }
        piece
    }

    /// Bytes that have been read and wait for their time.
    fn waiting(&self) -> u64 {
        self.pace.as_ref().map_or(0, |pace| pace.rest.len() as u64)
    }

    fn failed(&mut self, error: &io::Error) {
        if let Some(in_flight) = &mut self.in_flight {
            let cause = format!(
                "after {} bytes the disk failed, or the file was shortened: {error}",
                in_flight.bytes
            );
            in_flight.failure = Some(Failure { file: None, cause });
        }
    }
}

impl Body for LoggedBody {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        let polled = self.get_mut().poll_next(context);
        match &polled {
            Poll::Pending => note(Progress::Waits),
            Poll::Ready(_) => note(Progress::Moved),
        }
        polled
    }

    fn is_end_stream(&self) -> bool {
        self.content.is_over() && self.waiting() == 0
    }

    fn size_hint(&self) -> SizeHint {
        let length = self.content.length().map(|length| length + self.waiting());
        length.map_or_else(SizeHint::default, SizeHint::with_exact)
    }
}

impl LoggedBody {
    fn poll_next(&mut self, context: &mut Context<'_>) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        let body = self;
        if let Some(pace) = &mut body.pace {
            ready!(pace.pause.as_mut().poll(context));
            if !pace.rest.is_empty() {
                return Poll::Ready(Some(Ok(Frame::data(body.send_next(Bytes::new())))));
            }
        }
        let piece = match &mut body.content {
            Content::Whole(content) if content.is_empty() => return Poll::Ready(None),
            Content::Whole(content) => std::mem::take(content),
            Content::Shared(reader) => match ready!(reader.poll_next(context)) {
                None => return Poll::Ready(None),
                Some(Ok(piece)) => piece,
                Some(Err(error)) => {
                    body.failed(&error);
                    return Poll::Ready(Some(Err(error)));
                }
            },
            Content::Pieces { reading, left } => {
                let piece = match ready!(reading.poll_next(context)) {
                    None => return Poll::Ready(None),
                    Some(Ok(piece)) => piece,
                    Some(Err(error)) => {
                        body.failed(&error);
                        return Poll::Ready(Some(Err(error)));
                    }
                };
                if let Some(left) = left {
                    *left = left.saturating_sub(piece.len() as u64);
                }
                piece
            }
        };
        Poll::Ready(Some(Ok(Frame::data(body.send_next(piece)))))
    }
}

impl Reading {
    fn poll_next(&mut self, context: &mut Context<'_>) -> Poll<Option<io::Result<Bytes>>> {
        if let Reading::Idle(pieces) = self {
            let Some(mut whole) = pieces.take() else { return Poll::Ready(None) };
            if let Some(piece) = whole.next_at_once() {
                *pieces = (!whole.parts.is_empty()).then_some(whole);
                return Poll::Ready(Some(Ok(piece)));
            }
            *self = Reading::Busy(tokio::task::spawn_blocking(move || whole.next()));
        }
        let Reading::Busy(handle) = self else { return Poll::Ready(None) };
        let result =
            ready!(Pin::new(handle).poll(context)).map_err(io::Error::other).and_then(|result| result);
        let (piece, rest) = match result {
            Ok((piece, rest)) => (Ok(piece), rest),
            Err(error) => (Err(error), None),
        };
        *self = Reading::Idle(rest);
        Poll::Ready(Some(piece))
    }
}

impl Drop for LoggedBody {
    fn drop(&mut self) {
        if let Some(in_flight) = self.in_flight.take() {
            in_flight.write();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::descriptors::OpenFiles;
    use std::io::Read;
    use std::net::{IpAddr, Ipv4Addr};
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    fn permit() -> FilePermit {
        let files = Arc::new(OpenFiles::default());
        files.allow(8);
        files.permit(IpAddr::V4(Ipv4Addr::LOCALHOST)).unwrap()
    }

    /// Octets of which no stretch is like another one nearby.
    fn octets(length: usize) -> Vec<u8> {
        (0..length).map(|at| (at * at / 7 + at) as u8).collect()
    }

    fn file_of(octets: &[u8]) -> File {
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(octets).unwrap();
        file
    }

    /// All that comes, piece by piece.
    fn all(mut pieces: Option<Box<Pieces>>) -> io::Result<Vec<u8>> {
        let mut whole = Vec::new();
        while let Some(one) = pieces {
            let (piece, rest) = one.next()?;
            whole.extend_from_slice(&piece);
            pieces = rest;
        }
        Ok(whole)
    }

    #[test]
    fn parts_and_what_stands_between_them_come_in_order_by_either_way() {
        let content = octets(200_000);
        let parts = || {
            vec![
                Piece::Octets(b"--begin".to_vec()),
                Piece::File(5..150_000),
                Piece::Octets(b"--between".to_vec()),
                Piece::File(199_999..200_000),
            ]
        };
        let expected = [b"--begin", &content[5..150_000], b"--between", &content[199_999..]].concat();
        let opened = || Opening::Open(file_of(&content), permit());
        let pieces = Pieces::of_parts(opened(), parts());
        assert_eq!(pieces.left(), expected.len() as u64);
        assert_eq!(all(Some(Box::new(pieces))).unwrap(), expected);

        let mut at_once = Pieces::of_parts(opened(), parts());
        let mut whole = Vec::new();
        while let Some(piece) = at_once.next_at_once() {
            whole.extend_from_slice(&piece);
        }
        // Where the system would have to fetch it from the disk, the rest comes by the other way.
        let rest = (!at_once.parts.is_empty()).then(|| Box::new(at_once));
        whole.extend(all(rest).unwrap());
        assert_eq!(whole, expected);
    }

    #[test]
    fn what_is_encoded_on_the_way_is_the_file_again() {
        let content = octets(300_000);
        let opening = Opening::Open(file_of(&content), permit());
        let pieces = Pieces::new(opening, content.len() as u64, Some((Codec::Gzip, Effort::Quick))).unwrap();
        let encoded = all(Some(Box::new(pieces))).unwrap();
        let mut plain = Vec::new();
        flate2::read::GzDecoder::new(&encoded[..]).read_to_end(&mut plain).unwrap();
        assert!(plain == content && encoded.len() < content.len());
    }

    #[test]
    fn a_file_that_was_shortened_meanwhile_is_an_error_and_not_a_short_answer() {
        let file = file_of(&octets(1000));
        let pieces = Pieces::new(Opening::Open(file, permit()), 2000, None).unwrap();
        assert_eq!(all(Some(Box::new(pieces))).unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
    }

    #[test]
    fn a_file_stays_open_only_for_who_has_taken_its_beginning() {
        let content = octets(100_000);
        let opened = Arc::new(AtomicUsize::new(0));
        let count = Arc::clone(&opened);
        let again = content.clone();
        let open: Reopen = Box::new(move || {
            count.fetch_add(1, Ordering::Relaxed);
            Ok((file_of(&again), permit()))
        });
        let pieces = Pieces::new(Opening::Later(open), content.len() as u64, None).unwrap();
        assert_eq!(opened.load(Ordering::Relaxed), 0);
        let (beginning, rest) = Box::new(pieces).next().unwrap();
        assert_eq!((&beginning[..], opened.load(Ordering::Relaxed)), (&content[..BEGINNING], 1));
        assert!(matches!(rest.as_ref().unwrap().file, Opening::Later(_)));
        assert_eq!([&beginning, &all(rest).unwrap()[..]].concat(), content);
        assert_eq!(opened.load(Ordering::Relaxed), 2);
    }

    #[test]
    fn a_length_is_known_but_for_what_is_encoded_on_the_way() {
        let open = || Opening::Open(file_of(&octets(50)), permit());
        let coded = |coding| Content::pieces(Pieces::new(open(), 50, coding).unwrap());
        assert_eq!(coded(None).length(), Some(50));
        assert_eq!(coded(Some((Codec::Gzip, Effort::Quick))).length(), None);
        let empty = Content::pieces(Pieces::new(open(), 0, None).unwrap());
        assert!(empty.is_over() && empty.length() == Some(0) && Content::none().is_over());
    }
}
