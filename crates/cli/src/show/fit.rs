//! Texts cut to fit a terminal.

use exedra_common::text::clean_value;
use std::sync::OnceLock;
use unicode_width::UnicodeWidthStr;

/// A text cut in its middle to fit some columns of a terminal.
pub fn shorten(text: &str, room: usize) -> String {
    let clean = clean_value(text);
    if clean.width() <= room {
        return clean.into_owned();
    }
    let letters: Vec<char> = clean.chars().collect();
    // However long it is, no more than that can fit.
    let mut keep = letters.len().min(room + 1);
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

/// The width that was asked for with `--width`.
static ASKED: OnceLock<usize> = OnceLock::new();
/// Nothing reads well that is narrower.
const NARROWEST: usize = 40;

/// From now on this is the width to write for.
pub fn ask_for(width: usize) {
    let _ = ASKED.set(width.max(NARROWEST));
}

/// The width there is, where there is one: what was asked for, the terminal's, or what `COLUMNS` says (POSIX).
pub fn room() -> Option<usize> {
    let of_terminal = || {
        let (width, _) = terminal_size::terminal_size().filter(|_| crate::out::is_at_terminal())?;
        Some(usize::from(width.0).max(NARROWEST))
    };
    let said = || std::env::var("COLUMNS").ok()?.parse::<usize>().ok().map(|width| width.max(NARROWEST));
    ASKED.get().copied().or_else(of_terminal).or_else(said)
}

/// The width to write for: what there is, but of a terminal no more than reads well, and 100 where nobody says.
pub fn width() -> usize {
    match ASKED.get() {
        Some(asked) => *asked,
        None => room().unwrap_or(100).clamp(NARROWEST, 100),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_names_are_cut_in_the_middle() {
        assert_eq!(shorten("/notices/2026/harbour.html", 12), "/notic….html");
        assert_eq!(shorten("/短い/道", 20), "/短い/道");
        assert_eq!(shorten("a\u{1b}[2Jb\nc", 20), "a\\x1b[2Jb\\nc");
        // Looking at each letter of it for each letter that is left out would take hours.
        assert_eq!(shorten(&"/a".repeat(1 << 20), 9), "/a/a…/a/a");
    }

    proptest::proptest! {
        /// A law: what is cut fits, and has the beginning and the end of what it was.
        #[test]
        fn what_is_cut_fits(text in "[a-z/道\\u{301}é]{0,60}", room in 1_usize..40) {
            let cut = shorten(&text, room);
            proptest::prop_assert!(cut.width() <= room, "{}", cut);
            match cut.split_once('…') {
                Some((head, tail)) => {
                    proptest::prop_assert!(text.width() > room && text.starts_with(head) && text.ends_with(tail));
                    // No letter is wider than two columns: where more would fit, more is shown.
                    proptest::prop_assert!(text.contains('\u{301}') || cut.width() + 2 >= room, "{}", cut);
                }
                None => proptest::prop_assert_eq!(cut, text),
            }
        }
    }
}
