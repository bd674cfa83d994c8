//! How bad a line says that it is.

/// How bad an event is, by the words in use (RFC 5424 §6.2.1 and the short forms of servers), the worst first.
pub const LEVELS: [(&str, &[&str]); 5] = [
    ("fatal", &["fatal", "emerg", "emergency", "alert", "panic"]),
    ("critical", &["crit", "critical", "severe"]),
    ("error", &["error", "err", "e"]),
    ("warning", &["warn", "warning", "w"]),
    ("notice", &["notice", "info", "information", "debug", "trace", "n", "i", "d"]),
];

/// The level that a word stands for, if it is the word for one.
pub fn level(word: &str) -> Option<&'static str> {
    let is_word = |known: &&str| known.eq_ignore_ascii_case(word);
    LEVELS.iter().find(|(_, words)| words.iter().any(is_word)).map(|(level, _)| *level)
}
