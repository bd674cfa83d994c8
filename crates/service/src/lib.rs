//! The service: sockets in front, the core in the middle, disk behind.
//!
//! - [`configuration`]: reading it; [`checking`]: what is wrong with it; [`changes`]: bringing it into force
//! - [`preflight`]: what must be there before it starts
//! - [`running`]: starting and stopping everything in order; [`house`]: what stays while configurations come and go;
//!   [`sockets`]: what is listened on
//! - [`connections`]: workers, time-outs; [`forwarded`]: whose word is believed; [`certificates`]: how HTTPS is secured
//! - [`guards`], [`limits`]: who may go where, and how often; [`countries`]: where addresses are
//! - [`respond`]: one request; [`attempt`]: answering it from memory, or saying what is lacking; [`site`]: what that
//!   needs; [`authority`]: which host is asked
//! - [`folders`]: what folders say of themselves; [`disk`]: the sites' folders, and small files in memory; [`encodings`]: their encodings, which settle;
//!   [`near`]: copies that threads keep for themselves; [`memory`]: whole answers, by the octets they answer
//! - [`body`]: what goes out, by way of [`buffers`]; [`finished`]: what is written down when it has gone
//! - [`lock`]: one service to a state folder; [`whole`]: files that are put in place as a whole
//! - [`descriptors`]: how many there are, and who may have them
//! - [`background`]: work that nobody waits for
//! - [`journal`]: files that lines are written to; [`access_log`], [`error_log`]: what those lines say
//! - [`explaining`]: why a request is answered as it is; [`exposure`]: what strangers could reach and should not
//! - [`ingest`]: the lines into the records
//! - [`console`]: the console, its API and who may use them

pub mod access_log;
pub mod attempt;
pub mod authority;
pub mod background;
pub mod body;
pub mod buffers;
pub mod certificates;
pub mod changes;
pub mod checking;
pub mod configuration;
pub mod connections;
pub mod console;
pub mod countries;
pub mod descriptors;
pub mod disk;
pub mod encodings;
pub mod error_log;
pub mod explaining;
pub mod exposure;
pub mod folders;
pub mod forwarded;
pub mod guards;
pub mod house;
pub mod in_flight;
pub mod ingest;
pub mod journal;
pub mod limits;
pub mod lock;
pub mod memory;
pub mod preflight;
pub mod respond;
pub mod running;
pub mod site;
pub mod sockets;
pub mod thread_cache;
pub mod threads;
pub mod whole;

pub use preflight::{preflight, raise_open_files};
pub use running::{Running, StartError, start};

use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, PoisonError};

/// What is counted while the service runs. Each worker counts for itself.
#[derive(Debug, Default)]
pub struct Counters {
    all: Mutex<Vec<Arc<Counter>>>,
}

/// What one worker counts.
#[derive(Debug, Default)]
#[repr(align(128))]
pub struct Counter {
    answered: AtomicU64,
    sent: AtomicU64,
}

impl Counters {
    /// A counter for one worker.
    pub fn add(&self) -> Arc<Counter> {
        let counter = Arc::new(Counter::default());
        self.all.lock().unwrap_or_else(PoisonError::into_inner).push(Arc::clone(&counter));
        counter
    }

    /// Requests answered, and body bytes sent.
    pub fn sum(&self) -> (u64, u64) {
        let all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        let sum =
            |of: fn(&Counter) -> &AtomicU64| all.iter().map(|one| of(one).load(Ordering::Relaxed)).sum();
        (sum(|one| &one.answered), sum(|one| &one.sent))
    }
}

impl Counter {
    /// Counts one request, and the bytes of its body.
    pub fn count(&self, bytes: u64) {
        self.answered.fetch_add(1, Ordering::Relaxed);
        self.sent.fetch_add(bytes, Ordering::Relaxed);
    }
}
