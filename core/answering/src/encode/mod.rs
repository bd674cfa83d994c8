//! Content codings (RFC 9110 §8.4.1), behind one face.
//!
//! - [`weighing`]: what each of them is worth, at each effort, on a site's own files
//!
//! ```
//! use exedra_answering::encode::{Codec, Effort};
//! let page = "<p>High water at seven.</p>".repeat(50);
//! for codec in Codec::ALL {
//!     assert!(codec.encode(Effort::Thorough, page.as_bytes()).unwrap().len() < page.len() / 5);
//! }
//! ```

pub mod weighing;

use std::io::Write;

/// Types that are compressed where nothing else is said.
pub const COMPRESSED_TYPES: &[&str] = &[
    "text/*",
    "*+xml",
    "*+json",
    "application/javascript",
    "application/json",
    "application/sql",
    "application/toml",
    "application/vnd.ms-fontobject",
    "application/wasm",
    "application/x-ndjson",
    "application/xml",
    "application/yaml",
    "font/collection",
    "font/otf",
    "font/ttf",
    "image/bmp",
    "image/x-icon",
    "model/mtl",
    "model/obj",
];

/// A content coding that answers can be sent in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Codec {
    /// Brotli (RFC 7932).
    Brotli,
    /// Zstandard (RFC 8878).
    Zstd,
    /// gzip (RFC 1952).
    Gzip,
    /// The zlib format, which RFC 9110 §8.4.1.2 calls deflate (RFC 1950).
    Deflate,
}

/// How hard a codec tries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effort {
    /// While somebody waits.
    Quick,
    /// In the background, once.
    Thorough,
    /// As hard as the codec's own number says.
    Level(u32),
}

impl Codec {
    /// All of them.
    pub const ALL: [Codec; 4] = [Codec::Brotli, Codec::Zstd, Codec::Gzip, Codec::Deflate];

    /// The name in `Content-Encoding`.
    pub fn name(self) -> &'static str {
        match self {
            Codec::Brotli => "br",
            Codec::Zstd => "zstd",
            Codec::Gzip => "gzip",
            Codec::Deflate => "deflate",
        }
    }

    /// The extension of a file that was encoded beforehand, where that is done.
    pub fn extension(self) -> Option<&'static str> {
        match self {
            Codec::Brotli => Some("br"),
            Codec::Zstd => Some("zst"),
            Codec::Gzip => Some("gz"),
            Codec::Deflate => None,
        }
    }

    /// The codec's number for an effort, in the codec's own scale.
    pub fn level(self, effort: Effort) -> u32 {
        match (self, effort) {
            // Below it, tables that have to be cleared cost a small body more than searching does.
            (Codec::Brotli, Effort::Quick) => 5,
            (Codec::Brotli, Effort::Thorough) => 11,
            (Codec::Zstd, Effort::Quick) => 3,
            (Codec::Zstd, Effort::Thorough) => 19,
            (Codec::Gzip | Codec::Deflate, Effort::Quick) => 5,
            (Codec::Gzip | Codec::Deflate, Effort::Thorough) => 9,
            (_, Effort::Level(level)) => level.clamp(*self.efforts().start(), *self.efforts().end()),
        }
    }

    /// The codec's own scale of efforts. Zstandard ends where browsers' memory does: above 19 a window may
    /// exceed the 8 MB that RFC 9659 allows.
    pub fn efforts(self) -> std::ops::RangeInclusive<u32> {
        match self {
            Codec::Brotli => 0..=11,
            Codec::Zstd => 1..=19,
            Codec::Gzip | Codec::Deflate => 1..=9,
        }
    }

    /// A writer that passes on what it is given, encoded, to another; [`Encoder::finish`] ends the stream.
    pub fn encoder<W: Write>(self, effort: Effort, out: W) -> std::io::Result<Encoder<W>> {
        self.encoder_for(effort, None, out)
    }

    /// The same for a body of so many bytes: a small one needs little memory, and clearing it is what takes
    /// longest about small bodies.
    fn encoder_for<W: Write>(
        self,
        effort: Effort,
        size: Option<usize>,
        out: W,
    ) -> std::io::Result<Encoder<W>> {
        let level = self.level(effort);
        let flate = flate2::Compression::new(level);
        Ok(match self {
            Codec::Brotli => {
                let widest = if level <= 5 { 20 } else { 22 };
                // Up to 16 another way of searching is taken, whose tables cost more than a small body.
                let needed = size.map_or(widest, |size| size.max(1).ilog2() as i32 + 1);
                let params = brotli::enc::BrotliEncoderParams {
                    quality: level as i32,
                    lgwin: needed.clamp(17, widest),
                    // What is searched at a time, where that takes memory by its size: smaller costs next to nothing.
                    lgblock: if level > 9 { 16 } else { 0 },
                    size_hint: size.unwrap_or(0),
                    ..Default::default()
                };
                Encoder::Brotli(Box::new(brotli::CompressorWriter::with_params(out, 16 << 10, &params)))
            }
            Codec::Zstd => {
                let mut encoder = zstd::Encoder::new(out, level as i32)?;
                encoder.set_pledged_src_size(size.map(|size| size as u64))?;
                Encoder::Zstd(encoder)
            }
            Codec::Gzip => Encoder::Gzip(Box::new(flate2::write::GzEncoder::new(out, flate))),
            Codec::Deflate => Encoder::Deflate(Box::new(flate2::write::ZlibEncoder::new(out, flate))),
        })
    }

    /// A whole body, encoded.
    pub fn encode(self, effort: Effort, body: &[u8]) -> std::io::Result<Vec<u8>> {
        let mut encoder =
            self.encoder_for(effort, Some(body.len()), Vec::with_capacity(body.len() / 3 + 64))?;
        encoder.write_all(body)?;
        encoder.finish()
    }
}

/// A codec at work.
pub enum Encoder<W: Write> {
    /// Brotli.
    Brotli(Box<brotli::CompressorWriter<W>>),
    /// Zstandard.
    Zstd(zstd::Encoder<'static, W>),
    /// gzip.
    Gzip(Box<flate2::write::GzEncoder<W>>),
    /// zlib.
    Deflate(Box<flate2::write::ZlibEncoder<W>>),
}

impl<W: Write> Encoder<W> {
    /// The writer that encoded octets go to.
    pub fn get_mut(&mut self) -> &mut W {
        match self {
            Encoder::Brotli(encoder) => encoder.get_mut(),
            Encoder::Zstd(encoder) => encoder.get_mut(),
            Encoder::Gzip(encoder) => encoder.get_mut(),
            Encoder::Deflate(encoder) => encoder.get_mut(),
        }
    }

    /// Writes what is left and gives the other writer back.
    pub fn finish(self) -> std::io::Result<W> {
        match self {
            Encoder::Brotli(mut encoder) => {
                encoder.flush()?;
                Ok(encoder.into_inner())
            }
            Encoder::Zstd(encoder) => encoder.finish(),
            Encoder::Gzip(encoder) => encoder.finish(),
            Encoder::Deflate(encoder) => encoder.finish(),
        }
    }

    fn writer(&mut self) -> &mut dyn Write {
        match self {
            Encoder::Brotli(encoder) => encoder,
            Encoder::Zstd(encoder) => encoder,
            Encoder::Gzip(encoder) => encoder,
            Encoder::Deflate(encoder) => encoder,
        }
    }
}

impl<W: Write> Write for Encoder<W> {
    fn write(&mut self, octets: &[u8]) -> std::io::Result<usize> {
        self.writer().write(octets)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.writer().flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read;

    #[test]
    fn bodies_come_back() {
        let body = "tide table, high and low water at Port Lindry\n".repeat(500).into_bytes();
        for (codec, effort) in
            Codec::ALL.into_iter().flat_map(|codec| [(codec, Effort::Quick), (codec, Effort::Thorough)])
        {
            let encoded = codec.encode(effort, &body).unwrap();
            assert!(encoded.len() < body.len() / 10, "{codec:?}: {}", encoded.len());
            let mut decoded = Vec::new();
            match codec {
                Codec::Brotli => {
                    brotli::Decompressor::new(&encoded[..], 4096).read_to_end(&mut decoded).unwrap()
                }
                Codec::Zstd => zstd::Decoder::new(&encoded[..]).unwrap().read_to_end(&mut decoded).unwrap(),
                Codec::Gzip => flate2::read::GzDecoder::new(&encoded[..]).read_to_end(&mut decoded).unwrap(),
                Codec::Deflate => {
                    flate2::read::ZlibDecoder::new(&encoded[..]).read_to_end(&mut decoded).unwrap()
                }
            };
            assert!(decoded == body, "{codec:?}");
        }
    }
}
