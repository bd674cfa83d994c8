//! A file as it was before it was compressed, found by how it begins and not by its name.

use std::fs::File;
use std::io::{self, Cursor, Read, Seek, SeekFrom};

/// Unpacks what is compressed with gzip (RFC 1952), Zstandard (RFC 8878), bzip2 or xz; leaves the rest as it is.
pub fn unpacked<'r>(mut input: impl Read + Send + 'r) -> io::Result<Box<dyn Read + Send + 'r>> {
    let mut beginning = Vec::new();
    input.by_ref().take(6).read_to_end(&mut beginning)?;
    let kind = kind(&beginning);
    let whole = Cursor::new(beginning).chain(input);
    Ok(match kind {
        Some(Kind::Gzip) => Box::new(flate2::read::MultiGzDecoder::new(whole)),
        Some(Kind::Zstandard) => Box::new(zstd::Decoder::new(whole)?),
        Some(Kind::Bzip2) => Box::new(bzip2::read::MultiBzDecoder::new(whole)),
        Some(Kind::Xz) => Box::new(liblzma::read::XzDecoder::new_multi_decoder(whole)),
        None => Box::new(whole),
    })
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
}

fn kind(beginning: &[u8]) -> Option<Kind> {
    match beginning {
        [0x1f, 0x8b, ..] => Some(Kind::Gzip),
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Some(Kind::Zstandard),
        [b'B', b'Z', b'h', b'1'..=b'9', 0x31, 0x41] => Some(Kind::Bzip2),
        [0xfd, b'7', b'z', b'X', b'Z', 0] => Some(Kind::Xz),
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
    }
}
