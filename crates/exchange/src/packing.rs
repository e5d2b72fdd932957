//! Compressing a stream on all processors, to the same bytes whatever their number.
//!
//! The stream is cut into pieces of one size, and each is compressed by itself. For gzip (RFC 1952) the pieces are
//! joined to one deflate stream (RFC 1951: every piece but the last ends at a byte, by an empty stored block), so that
//! readers that expect a single member are content; for Zstandard (RFC 8878) each is a frame.

use std::io::{self, Write};
use std::sync::mpsc::{self, Receiver, SyncSender};
use std::sync::{Arc, Mutex, PoisonError};

use flate2::{Compress, Compression as Level, Crc, FlushCompress, Status};

use cavrith_core::digest::Sha256Digest;
use cavrith_core::oci::image::Compression;
use cavrith_store::hashing::Sha256;
use cavrith_store::workers;

/// Bytes that are compressed by themselves.
const PIECE: usize = 1 << 20;
/// gzip's usual level.
const GZIP_LEVEL: u32 = 6;
/// Zstandard's usual level.
const ZSTD_LEVEL: i32 = 3;
/// The header of a gzip member: deflate, no name, no time, made on an unknown system.
const GZIP_HEADER: [u8; 10] = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0xff];

/// What was packed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packed {
    /// SHA-256 of what went in.
    pub plain: Sha256Digest,
    /// Bytes that went in.
    pub plain_size: u64,
    /// SHA-256 of what came out.
    pub packed: Sha256Digest,
    /// Bytes that came out.
    pub packed_size: u64,
}

/// A piece in its packed form, and the sum of what it was.
type Squeezed = io::Result<(Vec<u8>, Crc)>;

/// A piece on its way, and where its packed form goes.
struct Piece {
    bytes: Vec<u8>,
    last: bool,
    done: SyncSender<Squeezed>,
}

/// Gives what `produce` writes, compressed, to `to`.
///
/// # Errors
/// When `produce` fails, or writing does.
pub fn pack(
    compression: Compression,
    to: &mut (dyn Write + Send),
    produce: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> io::Result<Packed> {
    let threads = workers::processors();
    let (pieces, waiting) = mpsc::sync_channel::<Piece>(threads);
    let (order, ordered) = mpsc::sync_channel(2 * threads);
    let waiting = Arc::new(Mutex::new(waiting));
    std::thread::scope(|scope| {
        for _ in 0..threads {
            let waiting = Arc::clone(&waiting);
            scope.spawn(move || {
                loop {
                    let piece = waiting.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok(piece) = piece else { return };
                    // The writer has stopped when nobody takes it.
                    let _ = piece.done.send(squeeze(compression, &piece.bytes, piece.last));
                }
            });
        }
        // Without this one, sending fails as soon as all threads have gone.
        drop(waiting);
        let writer = scope.spawn(move || collect(compression, to, &ordered));
        let mut cutter = Cutter { pieces, order, piece: Vec::with_capacity(PIECE), sha256: Sha256::default(), size: 0 };
        let produced = produce(&mut cutter).and_then(|()| cutter.send(true));
        let Cutter { pieces, order, sha256, size, .. } = cutter;
        drop((pieces, order));
        let written = writer.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        // When writing failed, producing did because of it.
        let (packed, packed_size) = written?;
        produced?;
        Ok(Packed { plain: sha256.finish(), plain_size: size, packed, packed_size })
    })
}

/// Cuts a stream into pieces.
struct Cutter {
    pieces: SyncSender<Piece>,
    order: SyncSender<Receiver<Squeezed>>,
    piece: Vec<u8>,
    sha256: Sha256,
    size: u64,
}

impl Cutter {
    fn send(&mut self, last: bool) -> io::Result<()> {
        let bytes = std::mem::replace(&mut self.piece, Vec::with_capacity(if last { 0 } else { PIECE }));
        self.sha256.update(&bytes);
        self.size += bytes.len() as u64;
        let (done, result) = mpsc::sync_channel(1);
        let gone = || io::Error::from(io::ErrorKind::BrokenPipe);
        self.order.send(result).map_err(|_| gone())?;
        self.pieces.send(Piece { bytes, last, done }).map_err(|_| gone())
    }
}

impl Write for Cutter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // A full piece waits for one byte more, since the last one is marked.
        if self.piece.len() == PIECE {
            self.send(false)?;
        }
        let count = bytes.len().min(PIECE - self.piece.len());
        self.piece.extend_from_slice(&bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Writes packed pieces in their order.
fn collect(
    compression: Compression,
    to: &mut (dyn Write + Send),
    ordered: &Receiver<Receiver<Squeezed>>,
) -> io::Result<(Sha256Digest, u64)> {
    let (mut sha256, mut size, mut crc) = (Sha256::default(), 0_u64, Crc::new());
    let mut put = |bytes: &[u8]| -> io::Result<()> {
        sha256.update(bytes);
        size += bytes.len() as u64;
        to.write_all(bytes)
    };
    if compression == Compression::Gzip {
        put(&GZIP_HEADER)?;
    }
    while let Ok(result) = ordered.recv() {
        // A piece that was never begun belongs to a stream that broke off, which is told by who produced it.
        let Ok(result) = result.recv() else { continue };
        let (bytes, sum) = result?;
        put(&bytes)?;
        crc.combine(&sum);
    }
    if compression == Compression::Gzip {
        put(&crc.sum().to_le_bytes())?;
        put(&crc.amount().to_le_bytes())?;
    }
    to.flush()?;
    Ok((sha256.finish(), size))
}

/// Compresses one piece.
fn squeeze(compression: Compression, bytes: &[u8], last: bool) -> Squeezed {
    let mut crc = Crc::new();
    let packed = match compression {
        Compression::None => bytes.to_vec(),
        Compression::Zstd => zstd::bulk::compress(bytes, ZSTD_LEVEL)?,
        Compression::Gzip => {
            crc.update(bytes);
            deflate(bytes, if last { FlushCompress::Finish } else { FlushCompress::Sync })?
        }
    };
    Ok((packed, crc))
}

fn deflate(bytes: &[u8], flush: FlushCompress) -> io::Result<Vec<u8>> {
    let mut compress = Compress::new(Level::new(GZIP_LEVEL), false);
    let mut packed = Vec::with_capacity(bytes.len() / 2 + 64);
    loop {
        let consumed = compress.total_in() as usize;
        let status = compress.compress_vec(&bytes[consumed..], &mut packed, flush).map_err(io::Error::other)?;
        let all = compress.total_in() as usize == bytes.len();
        let done = match flush {
            FlushCompress::Finish => status == Status::StreamEnd,
            // Room that is left says that the flush is complete.
            _ => all && packed.len() < packed.capacity(),
        };
        if done {
            return Ok(packed);
        }
        packed.reserve(64 * 1024);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Read as _;

    fn sample(length: usize) -> Vec<u8> {
        (0..length).map(|number| (number / 7 % 251) as u8 ^ (number / 4096) as u8).collect()
    }

    #[test]
    fn what_is_packed_is_unpacked_by_others_and_is_always_the_same() {
        for length in [0, 1, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE + 17] {
            let bytes = sample(length);
            for compression in [Compression::None, Compression::Gzip, Compression::Zstd] {
                let mut packed = Vec::new();
                let report = pack(compression, &mut packed, |to| to.write_all(&bytes)).unwrap();
                let mut read = Vec::new();
                match compression {
                    Compression::None => read.clone_from(&packed),
                    // A reader of one member only, to the end of the bytes.
                    Compression::Gzip => {
                        let mut decoder = flate2::bufread::GzDecoder::new(packed.as_slice());
                        decoder.read_to_end(&mut read).unwrap();
                        assert!(decoder.into_inner().is_empty());
                    }
                    Compression::Zstd => read = zstd::decode_all(packed.as_slice()).unwrap(),
                }
                assert!(read == bytes, "{compression:?} {length}");
                assert_eq!(report.plain, Sha256Digest::of(&bytes));
                assert_eq!((report.packed, report.packed_size), (Sha256Digest::of(&packed), packed.len() as u64));
                let mut again = Vec::new();
                // Written in crumbs, it is the same.
                pack(compression, &mut again, |to| bytes.chunks(997).try_for_each(|crumb| to.write_all(crumb)))
                    .unwrap();
                assert!(again == packed, "{compression:?} {length}");
            }
        }
    }

    #[test]
    fn failures_of_both_sides_come_back() {
        struct Full;
        impl Write for Full {
            fn write(&mut self, _: &[u8]) -> io::Result<usize> {
                Err(io::ErrorKind::StorageFull.into())
            }
            fn flush(&mut self) -> io::Result<()> {
                Ok(())
            }
        }
        let bytes = sample(40 * PIECE);
        let error = pack(Compression::Gzip, &mut Full, |to| to.write_all(&bytes)).unwrap_err();
        assert_eq!(error.kind(), io::ErrorKind::StorageFull);
        let error = pack(Compression::Gzip, &mut Vec::new(), |to| {
            to.write_all(&bytes)?;
            Err(io::ErrorKind::NotFound.into())
        });
        assert_eq!(error.unwrap_err().kind(), io::ErrorKind::NotFound);
    }
}
