//! What several rooms need of the operating system.
//!
//! - [`clock`]: one that costs nothing to read; [`counters`]: what is counted while the service runs
//! - [`threads`]: threads that go on when they fail; [`background`]: work that nobody waits for
//! - [`lock`]: one service to a state folder; [`whole`]: files that are put in place as a whole

pub mod background;
pub mod clock;
pub mod counters;
pub mod lock;
pub mod threads;
pub mod whole;

pub use clock::Clock;
pub use counters::{Counter, Counters};
