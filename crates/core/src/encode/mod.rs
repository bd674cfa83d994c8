//! Content codings (RFC 9110 §8.4.1), behind one face.

use std::io::Write;

/// A content coding that answers can be sent in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Codec {
    /// Brotli (RFC 7932).
    Brotli,
    /// gzip (RFC 1952).
    Gzip,
}

/// How hard a codec tries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effort {
    /// While somebody waits.
    Quick,
}

impl Codec {
    /// All of them.
    pub const ALL: [Codec; 2] = [Codec::Brotli, Codec::Gzip];

    /// The name in `Content-Encoding`.
    pub fn name(self) -> &'static str {
        match self {
            Codec::Brotli => "br",
            Codec::Gzip => "gzip",
        }
    }

    /// A writer that passes on what it is given, encoded, to another. Dropping it ends the stream, but
    /// [`Encoder::finish`] says whether that worked.
    pub fn encoder<W: Write>(self, effort: Effort, out: W) -> Encoder<W> {
        let Effort::Quick = effort;
        match self {
            Codec::Brotli => Encoder::Brotli(Box::new(brotli::CompressorWriter::new(out, 16 << 10, 4, 20))),
            Codec::Gzip => {
                Encoder::Gzip(Box::new(flate2::write::GzEncoder::new(out, flate2::Compression::new(5))))
            }
        }
    }

    /// A whole body, encoded.
    pub fn encode(self, effort: Effort, body: &[u8]) -> std::io::Result<Vec<u8>> {
        let mut encoder = self.encoder(effort, Vec::with_capacity(body.len() / 3 + 64));
        encoder.write_all(body)?;
        encoder.finish()
    }
}

/// A codec at work.
pub enum Encoder<W: Write> {
    /// Brotli.
    Brotli(Box<brotli::CompressorWriter<W>>),
    /// gzip.
    Gzip(Box<flate2::write::GzEncoder<W>>),
}

impl<W: Write> Encoder<W> {
    /// The writer that encoded octets go to.
    pub fn get_mut(&mut self) -> &mut W {
        match self {
            Encoder::Brotli(encoder) => encoder.get_mut(),
            Encoder::Gzip(encoder) => encoder.get_mut(),
        }
    }

    /// Writes what is left and gives the other writer back.
    pub fn finish(self) -> std::io::Result<W> {
        match self {
            Encoder::Brotli(mut encoder) => {
                encoder.flush()?;
                Ok(encoder.into_inner())
            }
            Encoder::Gzip(encoder) => encoder.finish(),
        }
    }
}

impl<W: Write> Write for Encoder<W> {
    fn write(&mut self, octets: &[u8]) -> std::io::Result<usize> {
        match self {
            Encoder::Brotli(encoder) => encoder.write(octets),
            Encoder::Gzip(encoder) => encoder.write(octets),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        match self {
            Encoder::Brotli(encoder) => encoder.flush(),
            Encoder::Gzip(encoder) => encoder.flush(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    #[test]
    fn bodies_come_back() {
        let body = "tide table, high and low water at Port Lindry\n".repeat(500).into_bytes();
        for codec in Codec::ALL {
            let encoded = codec.encode(Effort::Quick, &body).unwrap();
            assert!(encoded.len() < body.len() / 10, "{codec:?}: {}", encoded.len());
            let mut decoded = Vec::new();
            match codec {
                Codec::Brotli => {
                    brotli::Decompressor::new(&encoded[..], 4096).read_to_end(&mut decoded).unwrap()
                }
                Codec::Gzip => flate2::read::GzDecoder::new(&encoded[..]).read_to_end(&mut decoded).unwrap(),
            };
            assert!(decoded == body, "{codec:?}");
        }
    }
}
