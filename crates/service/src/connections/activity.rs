//! What the client of a connection is doing, and since when: the ground for every time-out.
//!
//! A timer for each request would cost more than the request. Instead each connection writes down what
//! happens to it, by a clock that only ticks a few times a second, and its worker looks at all of them at
//! every tick.

use crate::request::connection::Connection;
use crate::system::Clock;
use exedra_answering::config::Limits;
use futures_util::task::AtomicWaker;
use parking_lot::{MappedMutexGuard, Mutex, MutexGuard};
use std::net::IpAddr;
use std::sync::Arc;
use std::task::Waker;
use std::time::Duration;

/// How often the clock ticks and time-outs are looked for.
pub const TICK: Duration = Duration::from_millis(100);
/// How long nothing must have happened before a connection gives back what it needs for HTTP.
const BEFORE_HIBERNATION: Duration = TICK;
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

/// Whether a connection has what HTTP needs, or hibernates.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Hibernation {
    /// It has it.
    Awake,
    /// It has it, and should give it back when nothing is under way.
    Wanted,
    /// It hibernates.
    Hibernating,
}

/// What the client of one connection is doing.
///
/// The connection itself writes it down; its worker looks at it at every tick, and whoever needs room for another connection
/// looks at all.
#[derive(Debug)]
pub struct Activity {
    /// Address of whoever connected.
    pub peer: IpAddr,
    clock: Arc<Clock>,
    waker: AtomicWaker,
    state: Mutex<State>,
}

/// All that is known of a connection: one state, so that whoever looks never sees half of a change.
#[derive(Debug)]
struct State {
    phase: Phase,
    /// When that began, or octets last went, by the clock.
    since: u64,
    /// Whether octets wait that the client does not take.
    is_stuck: bool,
    has_expired: bool,
    /// Whether the service stops, so that the request under way is the last.
    is_ending: bool,
    hibernation: Hibernation,
    /// What has come in of the head of the request, as far as it is kept.
    head: Vec<u8>,
    /// Whether the first line of the head has come to its end.
    has_line: bool,
    /// The refusal of something that never became a request: its status, and the octets of its body.
    refused: Option<(u16, u64)>,
    requests: u64,
    /// Whether the head has come in since the last request.
    is_fresh: bool,
    /// Whether every request so far was exactly what came in for it, with nothing before or after.
    is_alone: bool,
    /// Whether everything that was to go out has gone.
    is_flushed: bool,
    /// Whether requests come beside each other (HTTP/2), so that octets say nothing of any one of them.
    is_shared: bool,
    /// How many are being answered.
    under_way: u64,
}

impl State {
    fn enter(&mut self, phase: Phase, now: u64) {
        (self.phase, self.since) = (phase, now);
    }

    /// Asks a connection that has what HTTP needs to hibernate. Gives whether it was not asked before.
    fn want_hibernation(&mut self) -> bool {
        let may = !self.is_shared && self.hibernation == Hibernation::Awake;
        if may {
            self.hibernation = Hibernation::Wanted;
        }
        may
    }

    fn idle_since(&self) -> Option<u64> {
        (self.phase == Phase::Idle && !self.is_stuck && !self.has_expired).then_some(self.since)
    }
}

impl Activity {
    /// The activity of a connection that has just been opened.
    pub fn new(clock: Arc<Clock>, peer: IpAddr) -> Arc<Self> {
        let state = State {
            phase: Phase::Idle,
            since: clock.now(),
            is_stuck: false,
            has_expired: false,
            is_ending: false,
            hibernation: Hibernation::Hibernating,
            head: Vec::new(),
            has_line: false,
            refused: None,
            requests: 0,
            is_fresh: false,
            is_alone: true,
            is_flushed: true,
            is_shared: false,
            under_way: 0,
        };
        Arc::new(Activity { peer, clock, waker: AtomicWaker::new(), state: Mutex::new(state) })
    }

    /// What it is doing.
    pub fn phase(&self) -> Phase {
        self.state.lock().phase
    }

    /// From now on requests come beside each other. What has come in so far was the announcement of that.
    pub fn share(&self) {
        let state = &mut *self.state.lock();
        (state.is_shared, state.is_alone) = (true, false);
        state.enter(Phase::Idle, self.clock.now());
        state.head = Vec::new();
    }

    /// Octets have come in.
    pub fn came(&self, octets: &[u8]) {
        let state = &mut *self.state.lock();
        if state.is_shared {
            return;
        }
        match state.phase {
            Phase::Idle => {
                state.enter(Phase::Head, self.clock.now());
                state.is_fresh = true;
                state.head.clear();
                keep(&mut state.head, octets);
                state.has_line = octets.contains(&b'\n');
            }
            Phase::Head => {
                keep(&mut state.head, octets);
                state.has_line |= octets.contains(&b'\n');
            }
            Phase::Answering => state.is_alone = false,
        }
    }

    /// Whether what comes in now can only be the beginning of a request, and nobody else is at work on this
    /// connection, which may bring so many requests.
    pub fn is_between_requests(&self, most: u64) -> bool {
        let state = &*self.state.lock();
        state.phase == Phase::Idle
            && state.is_alone
            && state.is_flushed
            && state.requests + 1 < most
            && !state.has_expired
    }

    /// A request was answered without anybody else hearing of it. The next may well be, too.
    pub fn answered_at_once(&self) {
        let state = &mut *self.state.lock();
        state.want_hibernation();
        state.requests += 1;
        (state.is_stuck, state.since) = (false, self.clock.now());
    }

    /// Everything that was to go out has gone, or something is about to.
    pub fn set_flushed(&self, flushed: bool) {
        self.state.lock().is_flushed = flushed;
    }

    /// An answer beside others has given something, or waits for us.
    pub fn moved(&self) {
        self.state.lock().since = self.clock.now();
    }

    /// Since when a connection has held its place without anything to show for it: nothing has been going on, a head or a
    /// handshake has not been finished, or the client takes nothing. It makes room for others when there is none.
    pub fn spare_since(&self) -> Option<u64> {
        let state = &*self.state.lock();
        let is_held_up = match state.phase {
            Phase::Idle | Phase::Head => true,
            Phase::Answering => {
                let still = Duration::from_millis(self.clock.now().saturating_sub(state.since));
                state.is_stuck || state.is_shared && still > HELD_BACK
            }
        };
        (is_held_up && !state.has_expired).then_some(state.since)
    }

    /// Octets have gone out, or the client takes some again.
    pub fn went(&self) {
        let state = &mut *self.state.lock();
        (state.is_stuck, state.since) = (false, self.clock.now());
    }

    /// Whether what is about to go out is the refusal of something that is no request: its head has come in, every answer
    /// before it has gone, and nobody was asked for another.
    pub fn is_refusing(&self) -> bool {
        let state = &*self.state.lock();
        state.phase == Phase::Head && state.refused.is_none() && state.is_flushed
    }

    /// What came in was refused, by a body of so many octets.
    pub fn refuse(&self, status: u16, bytes: u64) {
        self.state.lock().refused = Some((status, bytes));
    }

    /// What came in behind other requests was refused, in words that went out with their answers; of it nothing was kept.
    pub fn refuse_behind_others(&self, status: u16) {
        let state = &mut *self.state.lock();
        (state.head, state.refused) = (Vec::new(), Some((status, 0)));
    }

    /// Whether what came in was refused.
    pub fn has_refused(&self) -> bool {
        self.state.lock().refused.is_some()
    }

    /// What has come in of a head that was refused, and whether its first line was all there.
    pub fn refused_head(&self) -> (Vec<u8>, bool) {
        let state = &*self.state.lock();
        (state.head.clone(), state.has_line)
    }

    /// The client takes nothing for now.
    pub fn stuck(&self) {
        let state = &mut *self.state.lock();
        if !std::mem::replace(&mut state.is_stuck, true) {
            state.since = self.clock.now();
        }
    }

    /// Whoever waits for octets is woken when time is up.
    pub fn waits(&self, waker: &Waker) {
        self.waker.register(waker);
    }

    /// What is under way is the last, as the service stops.
    pub fn end(&self) {
        self.state.lock().is_ending = true;
        self.waker.wake();
    }

    /// Whether what is under way is the last.
    pub fn is_ending(&self) -> bool {
        self.state.lock().is_ending
    }

    /// From now on the connection has what HTTP needs.
    pub fn wakes_up(&self) {
        self.state.lock().hibernation = Hibernation::Awake;
    }

    /// Gives whether a connection that has what HTTP needs should do without now. It begins afresh then: what
    /// comes in next is the beginning of a request.
    pub fn hibernates(&self) -> bool {
        let state = &mut *self.state.lock();
        if state.hibernation != Hibernation::Wanted {
            return false;
        }
        let hibernates = state.idle_since().is_some() && state.is_flushed && !state.is_ending;
        state.hibernation = if hibernates { Hibernation::Hibernating } else { Hibernation::Awake };
        if hibernates {
            (state.is_alone, state.head) = (true, Vec::new());
        }
        hibernates
    }

    /// Whether time is up.
    pub fn has_expired(&self) -> bool {
        self.state.lock().has_expired
    }

    /// Since when nothing has been going on, if that is so.
    pub fn idle_since(&self) -> Option<u64> {
        self.state.lock().idle_since()
    }

    /// Ends the connection if the client has used up its time; lets it hibernate if it has been idle for a moment.
    pub fn judge(&self, limits: &Limits) {
        let is_woken = {
            let state = &mut *self.state.lock();
            let allowed = match (state.phase, state.is_stuck) {
                (Phase::Head, false) => limits.head_time,
                (Phase::Idle, false) => limits.idle_time,
                (_, true) => limits.body_time,
                // We are the slow ones.
                (Phase::Answering, false) => return,
            };
            let spent = Duration::from_millis(self.clock.now().saturating_sub(state.since));
            if spent > allowed {
                state.has_expired = true;
            }
            spent > allowed
                || spent > BEFORE_HIBERNATION && state.idle_since().is_some() && state.want_hibernation()
        };
        if is_woken {
            self.waker.wake();
        }
    }

    /// Ends the connection.
    pub fn expire(&self) {
        self.state.lock().has_expired = true;
        self.waker.wake();
    }

    /// What came in that never became a request, with the status it was answered with: nothing when the
    /// connection ended between requests. With it the octets of the body that said so.
    pub fn unfinished(&self) -> Option<(u16, u64, Vec<u8>)> {
        let state = &mut *self.state.lock();
        let (status, bytes) = match (state.refused, state.phase) {
            (Some(refused), _) => refused,
            (None, Phase::Head) if state.has_expired => (408, 0),
            (None, Phase::Head) => (400, 0),
            (None, _) => return None,
        };
        Some((status, bytes, std::mem::take(&mut state.head)))
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
        let state = &mut *self.state.lock();
        state.enter(Phase::Answering, self.clock.now());
        state.under_way += 1;
        state.is_flushed = false;
        if !std::mem::take(&mut state.is_fresh) || !is_one_head(&state.head) {
            state.is_alone = false;
        }
        state.requests += 1;
        state.requests
    }

    fn is_shared(&self) -> bool {
        self.state.lock().is_shared
    }

    fn own_head(&self) -> Option<MappedMutexGuard<'_, Vec<u8>>> {
        let state = self.state.lock();
        state.is_alone.then(|| MutexGuard::map(state, |state| &mut state.head))
    }

    fn has_more(&self) {
        self.state.lock().is_alone = false;
    }

    fn answered(&self) {
        let state = &mut *self.state.lock();
        state.under_way = state.under_way.saturating_sub(1);
        if state.under_way == 0 {
            state.enter(Phase::Idle, self.clock.now());
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
