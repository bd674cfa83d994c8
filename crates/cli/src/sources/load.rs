//! Standing back where a machine has enough to do: logs are read where they are written.

/// What is added to the niceness of this process (POSIX: the higher, the later its turn).
const BACK: i32 = 10;

/// Lets others go first when more wants to run than there are processors. What cannot be found out changes nothing.
pub fn stand_back_when_high() {
    let load = std::fs::read_to_string("/proc/loadavg").unwrap_or_default();
    let processors = std::thread::available_parallelism().map_or(1, usize::from);
    if is_high(&load, processors) {
        let _ = rustix::process::nice(BACK);
    }
}

/// Whether the mean of the last minute says that more wants to run than can.
fn is_high(load: &str, processors: usize) -> bool {
    let minute = load.split_whitespace().next().and_then(|mean| mean.parse::<f64>().ok());
    minute.is_some_and(|mean| mean > processors as f64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("0.10 0.20 0.30 1/200 4711", 2, false)]
    #[case("2.00 9.00 9.00 1/200 4711", 2, false)]
    #[case("2.01 0.20 0.30 3/200 4711", 2, true)]
    #[case("", 1, false)]
    #[case("much 1 1", 1, false)]
    fn loads(#[case] load: &str, #[case] processors: usize, #[case] expected: bool) {
        assert_eq!(is_high(load, processors), expected);
    }
}
