//! What stands in a log before the place from which it is read on: its first lines, by which its layout is known, and the lines that
//! say something about those that follow.
//!
//! A log that is read on from its middle must be read as if it had been read from its beginning: a heading that names the columns,
//! or `#Fields` (W3C extended log file format), stands there once.

use super::blocks::Blocks;
use super::bookmark::open_from;
use std::io::{self, Read};
use std::path::Path;
use std::sync::Arc;

/// What stands before a place in a log.
#[derive(Debug, Clone, Default)]
pub struct Beginning {
    /// Its first lines, whole.
    pub first: Vec<u8>,
    /// The last lines before that place which say something about those after it.
    pub directives: Arc<[Vec<u8>]>,
}

/// How much of a log is looked at for its layout, in octets.
const FIRST: usize = 256 << 10;

/// Looks at a log that is read on from an octet (of what it was before any compression).
pub fn before(path: &Path, read: u64) -> io::Result<Beginning> {
    if read == 0 {
        return Ok(Beginning::default());
    }
    let mut input = open_from(path, 0)?.take(read);
    let mut blocks = Blocks::new(false);
    let mut first = Vec::new();
    let mut spare = Vec::new();
    while let Some(block) = blocks.next(&mut input, spare)? {
        blocks.note(&block);
        if first.is_empty() {
            let end = block.len().min(FIRST);
            let end = memchr::memrchr(b'\n', &block[..end]).map_or(end, |last| last + 1);
            first = block[..end].to_vec();
            // Only a log that begins so has such lines elsewhere.
            if !first.starts_with(b"#") {
                break;
            }
        }
        spare = block;
    }
    Ok(Beginning { first, directives: blocks.directives() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_fields_before_a_place_count() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.log");
        let text = "#Fields: time c-ip\n05:12:40 192.0.2.1\n#Fields: c-ip time\n192.0.2.1 05:12:41\n";
        std::fs::write(&path, text).unwrap();
        let at = |place: &str| before(&path, text.find(place).unwrap() as u64).unwrap().directives;
        assert_eq!(*at("05:12:40"), [b"#Fields: time c-ip".to_vec()]);
        assert_eq!(*at("192.0.2.1 05:12:41"), [b"#Fields: c-ip time".to_vec()]);
        assert_eq!(before(&path, 0).unwrap().first, b"");
    }
}
