//! A file as it was before it was compressed, found by how it begins and not by its name; and as UTF-8, where it was UTF-16.
//!
//! What has been cut off, or has rubbish behind it, gives what can be read of it, and says so.

use std::fs::File;
use std::io::{self, Cursor, Read, Seek, SeekFrom};

/// A file that is unpacked as it is read.
pub struct Unpacked<'r> {
    reader: Box<dyn Read + Send + 'r>,
    octets: u64,
    damage: Option<String>,
}

/// Unpacks what is compressed with gzip (RFC 1952), Zstandard (RFC 8878), bzip2 or xz; leaves the rest as it is.
pub fn unpacked<'r>(mut input: impl Read + Send + 'r) -> io::Result<Unpacked<'r>> {
    let mut beginning = Vec::new();
    input.by_ref().take(6).read_to_end(&mut beginning)?;
    let kind = kind(&beginning);
    let whole = Cursor::new(beginning).chain(input);
    let reader: Box<dyn Read + Send + 'r> = match kind {
        Some(Kind::Gzip) => Box::new(flate2::read::MultiGzDecoder::new(whole)),
        Some(Kind::Zstandard) => Box::new(zstd::Decoder::new(whole)?),
        Some(Kind::Bzip2) => Box::new(bzip2::read::MultiBzDecoder::new(whole)),
        Some(Kind::Xz) => Box::new(liblzma::read::XzDecoder::new_multi_decoder(whole)),
        Some(Kind::Utf16 { is_big }) => {
            Box::new(Utf16 { input: whole, is_big, octets: Vec::new(), text: Cursor::default() })
        }
        None => Box::new(whole),
    };
    Ok(Unpacked { reader, octets: 0, damage: None })
}

impl Unpacked<'_> {
    /// What was wrong with the file, where it ended before its end: in the words of whatever unpacked it.
    pub fn damage(&self) -> Option<&str> {
        self.damage.as_deref()
    }
}

impl Read for Unpacked<'_> {
    fn read(&mut self, octets: &mut [u8]) -> io::Result<usize> {
        if self.damage.is_some() {
            return Ok(0);
        }
        match self.reader.read(octets) {
            Ok(read) => {
                self.octets += read as u64;
                Ok(read)
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => Err(error),
            // What has been read so far is as good as ever.
            Err(error) if self.octets > 0 => {
                self.damage = Some(error.to_string());
                Ok(0)
            }
            Err(error) => Err(error),
        }
    }
}

/// UTF-16 as UTF-8. What is none becomes U+FFFD.
struct Utf16<R> {
    input: R,
    is_big: bool,
    /// Octets that do not make a letter yet.
    octets: Vec<u8>,
    text: Cursor<Vec<u8>>,
}

impl<R: Read> Read for Utf16<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        const MOST: u64 = 64 << 10;
        loop {
            let read = self.text.read(into)?;
            if read > 0 || into.is_empty() {
                return Ok(read);
            }
            let more = self.input.by_ref().take(MOST).read_to_end(&mut self.octets)?;
            if more == 0 && self.octets.is_empty() {
                return Ok(0);
            }
            let unit = |pair: &[u8]| match self.is_big {
                true => u16::from_be_bytes([pair[0], pair[1]]),
                false => u16::from_le_bytes([pair[0], pair[1]]),
            };
            let mut whole = self.octets.len() / 2 * 2;
            // The first half of a pair of surrogates waits for the second.
            let is_half = |at: usize| (0xd800..0xdc00).contains(&unit(&self.octets[at..at + 2]));
            if more > 0 && whole >= 2 && is_half(whole - 2) {
                whole -= 2;
            }
            let units = self.octets[..whole].chunks_exact(2).map(unit);
            let text: String = char::decode_utf16(units).map(|letter| letter.unwrap_or('\u{fffd}')).collect();
            self.octets.drain(..whole);
            if more == 0 {
                self.octets.clear();
            }
            self.text = Cursor::new(text.into_bytes());
        }
    }
}

/// Why what a file begins with is no text of lines, in words; nothing where it may be.
pub fn no_text(beginning: &[u8]) -> Option<&'static str> {
    const LOOKED_AT: usize = 4096;
    match beginning {
        [b'P', b'K', 3 | 5 | 7, 4 | 6 | 8, ..] => {
            Some("is a ZIP archive: unpack it first, or write `unzip -p FILE | exedra report -`")
        }
        octets if octets.get(257..262) == Some(b"ustar") => {
            Some("is a tar archive: unpack it first, or write `tar -xOf FILE | exedra report -`")
        }
        octets if octets[..octets.len().min(LOOKED_AT)].contains(&0) => Some("is a binary file, and no log"),
        _ => None,
    }
}

/// Whether a file is compressed. Leaves it at its beginning.
pub fn is_packed(file: &mut File) -> io::Result<bool> {
    let mut beginning = Vec::new();
    file.by_ref().take(6).read_to_end(&mut beginning)?;
    file.seek(SeekFrom::Start(0))?;
    Ok(kind(&beginning).is_some())
}

#[derive(Clone, Copy)]
enum Kind {
    Gzip,
    Zstandard,
    Bzip2,
    Xz,
    Utf16 { is_big: bool },
}

fn kind(beginning: &[u8]) -> Option<Kind> {
    match beginning {
        [0x1f, 0x8b, ..] => Some(Kind::Gzip),
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Kind::Zstandard),
        [b'B', b'Z', b'h', b'1'..=b'9', 0x31, 0x41] => Some(Kind::Bzip2),
        [0xfd, b'7', b'z', b'X', b'Z', 0] => Some(Kind::Xz),
        [0xff, 0xfe, ..] => Some(Kind::Utf16 { is_big: false }),
        [0xfe, 0xff, ..] => Some(Kind::Utf16 { is_big: true }),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn whatever_it_was_packed_with() {
        let text = "one line\nand another\n".repeat(1000);
        let octets = text.as_bytes();
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gzip.write_all(octets).unwrap();
        let mut bzip2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
        bzip2.write_all(octets).unwrap();
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
        xz.write_all(octets).unwrap();
        let packed = [
            octets.to_vec(),
            gzip.finish().unwrap(),
            zstd::encode_all(octets, 1).unwrap(),
            bzip2.finish().unwrap(),
            xz.finish().unwrap(),
        ];
        for one in &packed {
            // Two of them after another are one log too, as when somebody joins files.
            let twice = [one.as_slice(), one].concat();
            assert_eq!(io::read_to_string(unpacked(&twice[..]).unwrap()).unwrap(), text.repeat(2));
        }
        assert_eq!(io::read_to_string(unpacked(&b"BZ"[..]).unwrap()).unwrap(), "BZ");

        // Cut off, or with rubbish behind it: what is whole is read, and the rest is told of.
        let gzip = &packed[1];
        let cut = &gzip[..gzip.len() - 20];
        let rubbish = [gzip.as_slice(), b"rubbish behind"].concat();
        for (octets, least) in [(cut, 100), (&rubbish[..], text.len())] {
            let mut input = unpacked(octets).unwrap();
            let mut read = String::new();
            input.read_to_string(&mut read).unwrap();
            assert!(text.starts_with(&read) && read.len() >= least, "{}", read.len());
            assert!(input.damage().is_some());
        }
    }

    #[test]
    fn letters_of_two_octets_become_utf_8() {
        let text = "one line\nund noch eine, 短い 🚢\n".repeat(5000);
        for is_big in [false, true] {
            let units = std::iter::once(0xfeff).chain(text.encode_utf16());
            let octets = |unit: u16| if is_big { unit.to_be_bytes() } else { unit.to_le_bytes() };
            let octets: Vec<u8> = units.flat_map(octets).collect();
            let read = io::read_to_string(unpacked(&octets[..]).unwrap()).unwrap();
            assert_eq!(read.trim_start_matches('\u{feff}'), text);
        }
    }

    #[test]
    fn what_is_no_text_has_a_name() {
        assert!(no_text(b"PK\x03\x04rest").is_some_and(|words| words.contains("ZIP")));
        assert!(no_text(b"\x7fELF\0\0").is_some_and(|words| words.contains("binary")));
        assert_eq!(no_text(b"192.0.2.1 - -"), None);
    }
}
