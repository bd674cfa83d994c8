//! How well layouts read some lines, and which of them does best.

use super::cutter::Cutter;
use super::layout::Layout;

/// How well a layout reads some lines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fit {
    /// Place of the layout in the list that was tried.
    pub layout: usize,
    /// Lines it reads.
    pub lines: usize,
    /// Fields it read in all of them together.
    pub fields: usize,
}

/// Tries every layout on some lines: the one that reads the most fields from the most lines, if any reads one.
pub fn best_fit(layouts: &[Layout], lines: &[&[u8]]) -> Option<Fit> {
    let mut best: Option<Fit> = None;
    for (layout, tried) in layouts.iter().enumerate() {
        let mut cutter = Cutter::new(tried);
        let (mut read, mut fields) = (0, 0);
        for line in lines {
            if line.starts_with(b"#") {
                cutter.directive(line);
            } else if cutter.run(&cutter.unwrapped(line)).is_ok() {
                read += 1;
                fields += cutter.fields();
            }
        }
        let fit = Fit { layout, lines: read, fields };
        if read > 0 && best.as_ref().is_none_or(|best| fit.fields > best.fields) {
            best = Some(fit);
        }
    }
    best
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const COMMON: &str = r#"192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] "GET / HTTP/1.1" 200 512"#;
    const COMBINED: &str =
        r#"192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] "GET / HTTP/1.1" 200 512 "-" "Boat/1""#;
    const HOST: &str =
        r#"a.example 192.0.2.1 - ann [14/Nov/2026:05:12:40 +0000] "GET / HTTP/1.1" 200 512 "-" "Boat/1""#;
    const FULL: &str = r#"192.0.2.1 - - [14/Nov/2026:05:12:40 +0000] "GET / HTTP/1.1" 200 512 "-" "Boat/1" http a.example 90 - 512 "-" 1794633160000"#;

    #[rstest]
    #[case::common(&[COMMON], Some("common"))]
    #[case::combined(&[COMBINED], Some("combined"))]
    #[case::full(&[FULL], Some("full"))]
    #[case::host(&[HOST, HOST], Some("combined with host"))]
    #[case::json(&[r#"{"ts":1794633160,"request":{"method":"GET","uri":"/"},"status":200}"#], Some("json"))]
    #[case::extended(&["#Version: 1.0", "#Fields: date time c-ip cs-uri-stem", "2026-11-14 05:12:40 192.0.2.1 /"], Some("extended"))]
    #[case::most_lines_win(&[COMBINED, COMBINED, FULL], Some("combined"))]
    #[case::another_kind(&["Nov 14 05:12:40 lamp keeper[812]: hello", "{}"], None)]
    #[case::nothing(&[], None)]
    fn finds(#[case] lines: &[&str], #[case] expected: Option<&str>) {
        let lines: Vec<&[u8]> = lines.iter().map(|line| line.as_bytes()).collect();
        let layouts = Layout::all_named();
        let found = best_fit(&layouts, &lines).map(|fit| layouts[fit.layout].name.as_str());
        assert_eq!(found, expected);
    }
}
