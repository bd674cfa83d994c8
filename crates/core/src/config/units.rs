//! Sizes written out: `"256 bytes"`, `"50 MB"`.

/// A size in bytes. Units are powers of 1000 (`kB`, `MB`, `GB`) or of 1024 (`KiB`, `MiB`, `GiB`).
pub fn size(text: &str) -> Option<u64> {
    let plain = text.trim();
    let plain = plain.strip_suffix("bytes").or_else(|| plain.strip_suffix("byte")).unwrap_or(plain);
    plain.trim().parse::<bytesize::ByteSize>().ok().map(|size| size.as_u64())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("256 bytes", Some(256))]
    #[case("1 byte", Some(1))]
    #[case("50 MB", Some(50_000_000))]
    #[case("2 KiB", Some(2048))]
    #[case("many", None)]
    #[case("-1 MB", None)]
    fn sizes(#[case] text: &str, #[case] expected: Option<u64>) {
        assert_eq!(size(text), expected);
    }
}
