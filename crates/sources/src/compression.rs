//! Compressed streams, recognised by their first bytes.

use std::io::{self, BufRead, BufReader, Read};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::bounds::Bounded;

/// Memory that decompressing xz may take; what `xz -9` needs, and some.
const XZ_MEMORY: u64 = 100 << 20;
/// Largest window of zstd as a power of two: 128 MiB. RFC 8878, section 3.1.1.1.2, asks for 8 MiB at least; archives
/// packed for size use more.
const ZSTD_WINDOW_LOG: u32 = 27;

/// Dictionaries up to this size are unpacked as many at once as there are threads.
const SMALL_DICTIONARY: u64 = 16 << 20;

/// Held by the one who unpacks with a large dictionary, which may be 64 MiB: one at a time, or memory would be twice as
/// much with two threads.
static LARGE: Mutex<()> = Mutex::new(());

fn wait_for_turn() -> MutexGuard<'static, ()> {
    LARGE.lock().unwrap_or_else(PoisonError::into_inner)
}

struct InTurn<R> {
    inner: R,
    _turn: Option<MutexGuard<'static, ()>>,
}

impl<R: Read> Read for InTurn<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.inner.read(buffer)
    }
}

/// Bytes of the dictionary of an xz stream's first block, which is what it takes to unpack it (The .xz File Format
/// 1.2.1, sections 2.1.1, 3.1, 5.3.1); `None` for what has other filters than LZMA2 alone, or no block.
fn xz_dictionary(head: &[u8]) -> Option<u64> {
    let mut block = head.get(12..)?.iter().copied();
    let (size, flags) = (block.next()?, block.next()?);
    if size == 0 || flags & 0b11 != 0 {
        return None;
    }
    // A number of the format: seven bits in each byte, and one that says that more follow.
    let mut number = || block.by_ref().find(|byte| byte & 0x80 == 0);
    if flags & 0x40 != 0 {
        number()?;
    }
    if flags & 0x80 != 0 {
        number()?;
    }
    if (number()?, number()?) != (0x21, 1) {
        return None;
    }
    let bits = u32::from(block.next()? & 0x3f);
    Some(if bits >= 40 { u64::from(u32::MAX) } else { (2 | u64::from(bits & 1)) << (bits / 2 + 11) })
}

/// The bytes of a raw stream of DEFLATE (RFC 1951), without a bound of its own.
pub fn inflate<'a>(from: impl Read + 'a) -> impl Read + 'a {
    flate2::read::DeflateDecoder::new(from)
}

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
        let turn = xz_dictionary(head).is_some_and(|bytes| bytes > SMALL_DICTIONARY).then(wait_for_turn);
        let stream = liblzma::stream::Stream::new_stream_decoder(XZ_MEMORY, liblzma::stream::CONCATENATED)?;
        Box::new(InTurn { inner: liblzma::bufread::XzDecoder::new_stream(from, stream), _turn: turn })
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
    fn the_dictionary_of_a_stream_is_told_by_its_header() {
        let with = |preset| {
            let mut xz = liblzma::write::XzEncoder::new(Vec::new(), preset);
            xz.write_all(b"ten past six").unwrap();
            xz_dictionary(&xz.finish().unwrap())
        };
        // As xz(1) has them.
        assert_eq!([with(0), with(6), with(9)], [Some(256 << 10), Some(8 << 20), Some(64 << 20)]);
        assert_eq!([xz_dictionary(b""), xz_dictionary(&[0; 40])], [None, None]);
    }

    #[test]
    fn streams_with_large_dictionaries_are_unpacked_one_after_the_other() {
        let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 9);
        xz.write_all(b"ten past six").unwrap();
        let bytes = xz.finish().unwrap();
        let first = unpack(bytes.as_slice(), 1 << 20).unwrap();
        std::thread::scope(|scope| {
            let second = scope.spawn(|| read(&bytes).unwrap());
            std::thread::sleep(std::time::Duration::from_millis(50));
            assert!(!second.is_finished());
            drop(first);
            assert_eq!(second.join().unwrap(), b"ten past six");
        });
    }

    #[test]
    fn a_bomb_in_any_compression_is_stopped() {
        // Zeros pack to less than a 200th.
        let zeros = vec![0; 320 << 20];
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
            assert!(total < 320 << 20);
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
