//! Charts of letters: columns that stand side by side, in eighths of a letter's height.

const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// Columns of a height in letters, top line first. Something is never nothing: the least is one eighth.
pub fn columns(values: &[u64], height: usize) -> Vec<String> {
    let most = values.iter().copied().max().unwrap_or(0).max(1);
    let eighths = |value: u64| match value {
        0 => 0,
        value => ((value as f64 / most as f64 * (height * 8) as f64).round() as usize).max(1),
    };
    let line = |row: usize| {
        values.iter().map(|&value| EIGHTHS[eighths(value).saturating_sub(row * 8).min(8)]).collect()
    };
    (0..height).rev().map(line).collect()
}

/// A bar that lies, of a length in letters.
pub fn bar(value: u64, most: u64, length: usize) -> String {
    const PARTS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = (value as f64 / most.max(1) as f64 * (length * 8) as f64).round() as usize;
    let eighths = if value > 0 { eighths.max(1) } else { 0 };
    format!("{}{}", "█".repeat(eighths / 8), PARTS[eighths % 8])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heights_and_lengths() {
        assert_eq!(columns(&[0, 1, 8, 16], 2), ["   █", " ▁██"]);
        assert_eq!(bar(12, 16, 4), "███");
        assert_eq!(bar(1, 1000, 4), "▏");
        assert_eq!(bar(0, 0, 4), "");
    }
}
