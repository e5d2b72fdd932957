//! Compressed streams, recognised by their first bytes.

use std::io::{self, BufRead, BufReader, Read};

use crate::bounds::Bounded;

/// Memory that decompressing xz may take; what `xz -9` needs, and some.
const XZ_MEMORY: u64 = 100 << 20;
/// Largest window of zstd as a power of two: 128 MiB. RFC 8878, section 3.1.1.1.2, asks for 8 MiB at least; archives
/// packed for size use more.
const ZSTD_WINDOW_LOG: u32 = 27;

/// The bytes of a stream that is gzip (RFC 1952), xz, zstd (RFC 8878) or not compressed at all, bounded by what
/// `packed` bytes may unpack to.
///
/// # Errors
/// When the beginning cannot be read.
pub fn unpack<'a>(from: impl Read + 'a, packed: u64) -> io::Result<Box<dyn Read + 'a>> {
    let mut from = BufReader::with_capacity(64 * 1024, from);
    let head = from.fill_buf()?;
    let inner: Box<dyn Read + 'a> = if head.starts_with(&[0x1f, 0x8b]) {
        Box::new(flate2::bufread::MultiGzDecoder::new(from))
    } else if head.starts_with(&[0xfd, b'7', b'z', b'X', b'Z', 0]) {
        let stream = liblzma::stream::Stream::new_stream_decoder(XZ_MEMORY, liblzma::stream::CONCATENATED)?;
        Box::new(liblzma::bufread::XzDecoder::new_stream(from, stream))
    } else if head.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let mut decoder = zstd::stream::read::Decoder::with_buffer(from)?;
        decoder.window_log_max(ZSTD_WINDOW_LOG)?;
        Box::new(decoder)
    } else {
        Box::new(from)
    };
    Ok(Box::new(Bounded::new(inner, crate::bounds::unpacked(packed))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::Write as _;

    fn packed(text: &[u8]) -> [Vec<u8>; 4] {
        let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        gz.write_all(text).unwrap();
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
        xz.write_all(text).unwrap();
        let mut zst = zstd::Encoder::new(Vec::new(), 1).unwrap();
        // Without it (it may be left out) a frame does not tell damage; the digest of the whole file does.
        zst.include_checksum(true).unwrap();
        zst.write_all(text).unwrap();
        [text.to_vec(), gz.finish().unwrap(), xz.finish().unwrap(), zst.finish().unwrap()]
    }

    fn read(bytes: &[u8]) -> io::Result<Vec<u8>> {
        let mut out = Vec::new();
        unpack(bytes, bytes.len() as u64)?.read_to_end(&mut out)?;
        Ok(out)
    }

    #[test]
    fn every_form_is_recognised_by_itself() {
        for bytes in packed(b"ten past six") {
            assert_eq!(read(&bytes).unwrap(), b"ten past six");
        }
        assert_eq!(read(b"").unwrap(), b"");
    }

    #[test]
    fn a_bomb_in_any_compression_is_stopped() {
        // 256 MiB of zeros pack to less than a 200th.
        let zeros = vec![0; 256 << 20];
        for bytes in &packed(&zeros)[1..] {
            let mut total = 0;
            let mut stream = unpack(bytes.as_slice(), bytes.len() as u64).unwrap();
            let mut buffer = vec![0; 1 << 20];
            let error = loop {
                match stream.read(&mut buffer) {
                    Ok(0) => panic!("it was unpacked whole"),
                    Ok(count) => total += count,
                    Err(error) => break error,
                }
            };
            assert!(error.to_string().contains("far more"), "{error}");
            assert!(total < 200 << 20);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        #[test]
        fn truncated_and_damaged_streams_never_pass_for_the_text(at in any::<prop::sample::Index>(), cut in any::<bool>(), bit in 0..8) {
            let text: Vec<u8> = (0..2000u32).flat_map(|number| number.to_string().into_bytes()).collect();
            // The plain form has nothing to tell damage by; its digest does.
            for mut bytes in packed(&text).into_iter().skip(1) {
                let at = at.index(bytes.len());
                if cut { bytes.truncate(at) } else { bytes[at] ^= 1u8 << bit }
                // Header fields that do not matter (a time stamp, an operating system) may change.
                if let Ok(out) = read(&bytes) {
                    prop_assert!(out == text || out == bytes, "{} bytes came out", out.len());
                }
            }
        }
    }
}
