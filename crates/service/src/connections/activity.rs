//! What the client of a connection is doing, and since when: the ground for every time-out.
//!
//! A timer for each request would cost more than the request. Instead each connection writes down what
//! happens to it, by a clock that only ticks a few times a second, and its worker looks at all of them at
//! every tick.

use crate::request::connection::Connection;
use crate::system::Clock;
use exedra_answering::config::Limits;
use futures_util::task::AtomicWaker;
use parking_lot::{Mutex, MutexGuard};
use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU16, AtomicU64, Ordering};
use std::task::Waker;
use std::time::Duration;

/// How often the clock ticks and time-outs are looked for.
pub const TICK: Duration = Duration::from_millis(100);
/// How long nothing must have happened before a connection gives back what it needs for HTTP.
const TIRED: Duration = TICK;
/// How long none of a connection's answers must have moved before it makes room for others.
const HELD_BACK: Duration = Duration::from_secs(2);
/// How much of a request's head is kept for the log, in case nothing can be made of it.
const KEPT_HEAD: usize = 2048;

/// What a connection is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// Nothing: the next request has not begun.
    Idle,
    /// A request's head is coming in.
    Head,
    /// A request is being answered.
    Answering,
}

/// Whether a connection has what HTTP needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Rest {
    /// It has.
    None,
    /// It has, and should give it back when nothing is under way.
    Wanted,
    /// It has not.
    Taken,
}

/// What the client of one connection is doing.
#[derive(Debug)]
pub struct Activity {
    /// Address of whoever connected.
    pub peer: IpAddr,
    clock: Arc<Clock>,
    phase: AtomicU8,
    since: AtomicU64,
    /// Whether octets wait that the client does not take.
    stuck: AtomicBool,
    expired: AtomicBool,
    /// Whether the service stops, so that the request under way is the last.
    ending: AtomicBool,
    rest: AtomicU8,
    waker: AtomicWaker,
    head: Mutex<Vec<u8>>,
    /// Whether the first line of the head has come to its end.
    line_ended: AtomicBool,
    /// The status of the refusal of something that never became a request, and the octets of its body.
    refused: AtomicU16,
    refused_bytes: AtomicU64,
    requests: AtomicU64,
    /// Whether the head has come in since the last request.
    fresh: AtomicBool,
    /// Whether every request so far was exactly what came in for it, with nothing before or after.
    alone: AtomicBool,
    /// Whether everything that was to go out has gone.
    flushed: AtomicBool,
    /// Whether requests come beside each other (HTTP/2), so that octets say nothing of any one of them.
    is_shared: AtomicBool,
    /// How many are being answered.
    under_way: AtomicU64,
}

impl Activity {
    /// The activity of a connection that has just been opened.
    pub fn new(clock: Arc<Clock>, peer: IpAddr) -> Arc<Self> {
        let since = AtomicU64::new(clock.now());
        Arc::new(Activity {
            peer,
            clock,
            phase: AtomicU8::new(Phase::Idle as u8),
            since,
            stuck: AtomicBool::new(false),
            expired: AtomicBool::new(false),
            ending: AtomicBool::new(false),
            rest: AtomicU8::new(Rest::Taken as u8),
            waker: AtomicWaker::new(),
            head: Mutex::default(),
            line_ended: AtomicBool::new(false),
            refused: AtomicU16::new(0),
            refused_bytes: AtomicU64::new(0),
            requests: AtomicU64::new(0),
            fresh: AtomicBool::new(false),
            alone: AtomicBool::new(true),
            flushed: AtomicBool::new(true),
            is_shared: AtomicBool::new(false),
            under_way: AtomicU64::new(0),
        })
    }

    /// What it is doing.
    pub fn phase(&self) -> Phase {
        match self.phase.load(Ordering::Relaxed) {
            0 => Phase::Idle,
            1 => Phase::Head,
            _ => Phase::Answering,
        }
    }

    fn enter(&self, phase: Phase) {
        self.phase.store(phase as u8, Ordering::Relaxed);
        self.since.store(self.clock.now(), Ordering::Relaxed);
    }

    /// From now on requests come beside each other. What has come in so far was the announcement of that.
    pub fn share(&self) {
        self.is_shared.store(true, Ordering::Relaxed);
        self.alone.store(false, Ordering::Relaxed);
        self.enter(Phase::Idle);
        *self.head.lock() = Vec::new();
    }

    /// Octets have come in.
    pub fn came(&self, octets: &[u8]) {
        if self.is_shared() {
            return;
        }
        match self.phase() {
            Phase::Idle => {
                self.enter(Phase::Head);
                self.fresh.store(true, Ordering::Relaxed);
                let mut head = self.head.lock();
                head.clear();
                keep(&mut head, octets);
                self.line_ended.store(octets.contains(&b'\n'), Ordering::Relaxed);
            }
            Phase::Head => {
                keep(&mut self.head.lock(), octets);
                if octets.contains(&b'\n') {
                    self.line_ended.store(true, Ordering::Relaxed);
                }
            }
            Phase::Answering => self.alone.store(false, Ordering::Relaxed),
        }
    }

    /// Whether what comes in now can only be the beginning of a request, and nobody else is at work on this
    /// connection, which may bring so many requests.
    pub fn is_between_requests(&self, most: u64) -> bool {
        self.phase() == Phase::Idle
            && self.alone.load(Ordering::Relaxed)
            && self.flushed.load(Ordering::Relaxed)
            && self.requests.load(Ordering::Relaxed) + 1 < most
            && !self.has_expired()
    }

    /// A request was answered without anybody else hearing of it. The next may well be, too.
    pub fn answered_at_once(&self) {
        self.tire();
        self.requests.fetch_add(1, Ordering::Relaxed);
        self.stuck.store(false, Ordering::Relaxed);
        self.since.store(self.clock.now(), Ordering::Relaxed);
    }

    /// Everything that was to go out has gone, or something is about to.
    pub fn set_flushed(&self, flushed: bool) {
        self.flushed.store(flushed, Ordering::Relaxed);
    }

    /// An answer beside others has given something, or waits for us.
    pub fn moved(&self) {
        self.since.store(self.clock.now(), Ordering::Relaxed);
    }

    /// Since when a connection has held its place without anything to show for it: nothing has been going on, a head or a
    /// handshake has not been finished, or the client takes nothing. It makes room for others when there is none.
    pub fn spare_since(&self) -> Option<u64> {
        let is_held_up = match self.phase() {
            Phase::Idle | Phase::Head => true,
            Phase::Answering => {
                let still = self.clock.now().saturating_sub(self.since.load(Ordering::Relaxed));
                self.stuck.load(Ordering::Relaxed)
                    || self.is_shared() && Duration::from_millis(still) > HELD_BACK
            }
        };
        (is_held_up && !self.has_expired()).then(|| self.since.load(Ordering::Relaxed))
    }

    /// Octets have gone out.
    pub fn went(&self) {
        self.stuck.store(false, Ordering::Relaxed);
        self.since.store(self.clock.now(), Ordering::Relaxed);
    }

    /// Whether what is about to go out is the refusal of something that is no request: its head has come in, every answer
    /// before it has gone, and nobody was asked for another.
    pub fn is_refusing(&self) -> bool {
        self.phase() == Phase::Head && !self.has_refused() && self.flushed.load(Ordering::Relaxed)
    }

    /// What came in was refused, by a body of so many octets.
    pub fn refuse(&self, status: u16, bytes: u64) {
        self.refused.store(status, Ordering::Relaxed);
        self.refused_bytes.store(bytes, Ordering::Relaxed);
    }

    /// What came in behind other requests was refused, in words that went out with their answers; of it nothing was kept.
    pub fn refuse_behind_others(&self, status: u16) {
        *self.head.lock() = Vec::new();
        self.refuse(status, 0);
    }

    /// Whether what came in was refused.
    pub fn has_refused(&self) -> bool {
        self.refused.load(Ordering::Relaxed) != 0
    }

    /// What has come in of a head that was refused, and whether its first line was all there.
    pub fn refused_head(&self) -> (Vec<u8>, bool) {
        (self.head.lock().clone(), self.line_ended.load(Ordering::Relaxed))
    }

    /// The client takes nothing for now.
    pub fn stuck(&self) {
        if !self.stuck.swap(true, Ordering::Relaxed) {
            self.since.store(self.clock.now(), Ordering::Relaxed);
        }
    }

    /// The client takes something again.
    pub fn unstuck(&self) {
        self.stuck.store(false, Ordering::Relaxed);
        self.since.store(self.clock.now(), Ordering::Relaxed);
    }

    /// Whoever waits for octets is woken when time is up.
    pub fn waits(&self, waker: &Waker) {
        self.waker.register(waker);
    }

    /// What is under way is the last, as the service stops.
    pub fn end(&self) {
        self.ending.store(true, Ordering::Relaxed);
        self.waker.wake();
    }

    /// Whether what is under way is the last.
    pub fn is_ending(&self) -> bool {
        self.ending.load(Ordering::Relaxed)
    }

    /// From now on the connection has what HTTP needs.
    pub fn wakes_up(&self) {
        self.rest.store(Rest::None as u8, Ordering::Relaxed);
    }

    /// Gives whether a connection that has what HTTP needs should do without now. It begins afresh then: what
    /// comes in next is the beginning of a request.
    pub fn takes_rest(&self) -> bool {
        if self.rest.load(Ordering::Relaxed) != Rest::Wanted as u8 {
            return false;
        }
        let takes = self.idle_since().is_some() && self.flushed.load(Ordering::Relaxed) && !self.is_ending();
        self.rest.store(if takes { Rest::Taken } else { Rest::None } as u8, Ordering::Relaxed);
        if takes {
            self.alone.store(true, Ordering::Relaxed);
            *self.head.lock() = Vec::new();
        }
        takes
    }

    /// Asks a connection that has what HTTP needs to do without.
    fn tire(&self) -> bool {
        let (had, wanted) = (Rest::None as u8, Rest::Wanted as u8);
        !self.is_shared()
            && self.rest.compare_exchange(had, wanted, Ordering::Relaxed, Ordering::Relaxed).is_ok()
    }

    /// Whether time is up.
    pub fn has_expired(&self) -> bool {
        self.expired.load(Ordering::Relaxed)
    }

    /// Since when nothing has been going on, if that is so.
    pub fn idle_since(&self) -> Option<u64> {
        let idle = self.phase() == Phase::Idle && !self.stuck.load(Ordering::Relaxed) && !self.has_expired();
        idle.then(|| self.since.load(Ordering::Relaxed))
    }

    /// Ends the connection if the client has used up its time; lets it rest if it has been idle for a moment.
    pub fn judge(&self, limits: &Limits) {
        let allowed = match (self.phase(), self.stuck.load(Ordering::Relaxed)) {
            (Phase::Head, false) => limits.head_time,
            (Phase::Idle, false) => limits.idle_time,
            (_, true) => limits.body_time,
            // We are the slow ones.
            (Phase::Answering, false) => return,
        };
        let spent = self.clock.now().saturating_sub(self.since.load(Ordering::Relaxed));
        if Duration::from_millis(spent) > allowed {
            self.expire();
        } else if Duration::from_millis(spent) > TIRED && self.idle_since().is_some() && self.tire() {
            self.waker.wake();
        }
    }

    /// Ends the connection.
    pub fn expire(&self) {
        self.expired.store(true, Ordering::Relaxed);
        self.waker.wake();
    }

    /// What came in that never became a request, with the status it was answered with: nothing when the
    /// connection ended between requests. With it the octets of the body that said so.
    pub fn unfinished(&self) -> Option<(u16, u64, Vec<u8>)> {
        let refused = self.refused.load(Ordering::Relaxed);
        let status = match (self.phase(), refused) {
            (Phase::Head, 0) if self.has_expired() => 408,
            (Phase::Head, 0) => 400,
            (_, 0) => return None,
            (_, refused) => refused,
        };
        let bytes = self.refused_bytes.load(Ordering::Relaxed);
        Some((status, bytes, std::mem::take(&mut *self.head.lock())))
    }
}

/// Whether some octets are one whole head and nothing else. One that was too long to be kept is not.
fn is_one_head(octets: &[u8]) -> bool {
    let end = memchr::memmem::find(octets, b"\r\n\r\n");
    octets.len() < KEPT_HEAD && end.is_some_and(|end| end + 4 == octets.len())
}

fn keep(head: &mut Vec<u8>, octets: &[u8]) {
    let room = KEPT_HEAD.saturating_sub(head.len());
    head.extend_from_slice(&octets[..room.min(octets.len())]);
}

/// What answering needs of it.
impl Connection for Activity {
    fn answering(&self) -> u64 {
        self.enter(Phase::Answering);
        self.under_way.fetch_add(1, Ordering::Relaxed);
        self.flushed.store(false, Ordering::Relaxed);
        if !self.fresh.swap(false, Ordering::Relaxed) || !is_one_head(&self.head.lock()) {
            self.alone.store(false, Ordering::Relaxed);
        }
        self.requests.fetch_add(1, Ordering::Relaxed) + 1
    }

    fn is_shared(&self) -> bool {
        self.is_shared.load(Ordering::Relaxed)
    }

    fn own_head(&self) -> Option<MutexGuard<'_, Vec<u8>>> {
        self.alone.load(Ordering::Relaxed).then(|| self.head.lock())
    }

    fn has_more(&self) {
        self.alone.store(false, Ordering::Relaxed);
    }

    fn answered(&self) {
        if self.under_way.fetch_sub(1, Ordering::Relaxed) <= 1 {
            self.enter(Phase::Idle);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOBODY: IpAddr = IpAddr::V4(std::net::Ipv4Addr::LOCALHOST);

    fn at(clock: &Clock, milliseconds: u64) {
        clock.put(milliseconds);
    }

    #[test]
    fn a_head_that_trickles_in_runs_out_of_time() {
        let limits = Limits { head_time: Duration::from_secs(2), ..Limits::default() };
        let clock = Clock::new();
        let activity = Activity::new(Arc::clone(&clock), NOBODY);
        for second in 0..=2 {
            at(&clock, second * 1000);
            activity.came(b"GE");
            activity.judge(&limits);
            assert!(!activity.has_expired(), "after {second} s");
        }
        at(&clock, 2001);
        activity.judge(&limits);
        assert!(activity.has_expired());
        assert_eq!(activity.unfinished(), Some((408, 0, b"GEGEGE".to_vec())));
    }

    #[test]
    fn a_client_that_takes_something_now_and_then_may_stay() {
        let limits = Limits { body_time: Duration::from_secs(5), ..Limits::default() };
        let clock = Clock::new();
        let activity = Activity::new(Arc::clone(&clock), NOBODY);
        activity.came(b"GET / HTTP/1.1\r\n\r\n");
        assert_eq!(activity.answering(), 1);
        for second in [4, 8, 12] {
            activity.stuck();
            at(&clock, second * 1000);
            activity.judge(&limits);
            activity.went();
        }
        activity.stuck();
        at(&clock, 17_001);
        assert!(!activity.has_expired());
        activity.judge(&limits);
        assert!(activity.has_expired() && activity.unfinished().is_none());
    }

    #[test]
    fn while_we_are_slow_no_time_runs() {
        let clock = Clock::new();
        let activity = Activity::new(Arc::clone(&clock), NOBODY);
        activity.came(b"GET");
        activity.answering();
        at(&clock, 10_000_000);
        activity.judge(&Limits::default());
        assert!(!activity.has_expired() && activity.idle_since().is_none());
        activity.answered();
        assert_eq!(activity.idle_since(), Some(10_000_000));
    }
}
