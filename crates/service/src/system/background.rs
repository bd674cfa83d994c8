//! Work that nobody waits for: it steps behind what somebody does wait for.

/// What is added to the niceness of a thread (the higher, the later its turn).
const BACK: i32 = 10;

/// Lets threads that answer requests go before this one. On Linux niceness is a thread's; where it is the whole
/// process's, as POSIX has it, nothing is changed.
pub fn step_back() {
    if cfg!(target_os = "linux") {
        // Not being allowed to changes nothing but the order of work.
        let _ = rustix::process::nice(BACK);
    }
}
