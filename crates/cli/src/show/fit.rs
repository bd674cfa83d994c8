//! Texts cut to fit a terminal.

use exedra_common::text::clean_value;
use unicode_width::UnicodeWidthStr;

/// A text cut in its middle to fit some columns of a terminal.
pub fn shorten(text: &str, room: usize) -> String {
    let clean = clean_value(text);
    if clean.width() <= room {
        return clean.into_owned();
    }
    let letters: Vec<char> = clean.chars().collect();
    let mut keep = letters.len();
    loop {
        keep -= 1;
        let head = keep.div_ceil(2);
        let cut: String =
            letters[..head].iter().chain(&['…']).chain(&letters[letters.len() - (keep - head)..]).collect();
        if cut.width() <= room || keep == 0 {
            return cut;
        }
    }
}

/// The width to write for: the terminal's, but no wider than reads well, and 100 where there is none.
pub fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0).clamp(60, 100))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_names_are_cut_in_the_middle() {
        assert_eq!(shorten("/notices/2026/harbour.html", 12), "/notic….html");
        assert_eq!(shorten("/短い/道", 20), "/短い/道");
        assert_eq!(shorten("a\u{1b}[2Jb\nc", 20), "a\\x1b[2Jb\\nc");
    }
}
