//! Digests of what a reader gives.

use std::cell::Cell;
use std::fs::File;
use std::io::{self, Read, Write as _};

use cavrith_core::digest::{ContentDigest, Sha256Digest};
use ring::digest::{Context, SHA256};

const BUFFER: usize = 128 * 1024;

thread_local! {
    /// Kept from call to call: an image has many small files.
    static SPARE: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

/// SHA-256 of a stream, by ring: it is twice as fast as a plain one where the processor has no instructions for it.
#[derive(Clone)]
pub struct Sha256(Context);

impl std::fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Sha256")
    }
}

impl Default for Sha256 {
    fn default() -> Self {
        Self(Context::new(&SHA256))
    }
}

impl Sha256 {
    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of all that came.
    pub fn finish(self) -> Sha256Digest {
        let mut digest = [0; 32];
        digest.copy_from_slice(self.0.finish().as_ref());
        Sha256Digest::from_bytes(digest)
    }
}

/// Which side of copying failed.
#[derive(Debug)]
pub enum CopyFault {
    /// The reader.
    Read(io::Error),
    /// The file that is written.
    Write(io::Error),
}

impl From<CopyFault> for io::Error {
    fn from(fault: CopyFault) -> Self {
        let (CopyFault::Read(error) | CopyFault::Write(error)) = fault;
        error
    }
}

/// Gives every piece of what a reader gives to `on_piece`, after writing it to `copy`. Returns how many bytes it was.
fn pieces(from: &mut dyn Read, mut copy: Option<&mut File>, on_piece: &mut dyn FnMut(&[u8])) -> Result<u64, CopyFault> {
    let mut buffer = SPARE.take();
    buffer.resize(BUFFER, 0);
    let mut size = 0;
    let outcome = loop {
        let count = match from.read(&mut buffer) {
            Ok(0) => break Ok(size),
            Ok(count) => count,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => break Err(CopyFault::Read(error)),
        };
        on_piece(&buffer[..count]);
        if let Some(Err(error)) = copy.as_mut().map(|copy| copy.write_all(&buffer[..count])) {
            break Err(CopyFault::Write(error));
        }
        size += count as u64;
    };
    SPARE.set(buffer);
    outcome
}

/// Length and digest of what a reader gives, which is written to `copy` on the way.
///
/// # Errors
/// When reading or writing fails.
pub fn content(from: &mut dyn Read, copy: Option<&mut File>) -> Result<(u64, ContentDigest), CopyFault> {
    let mut hasher = blake3::Hasher::new();
    let size = pieces(from, copy, &mut |piece| {
        hasher.update(piece);
    })?;
    Ok((size, ContentDigest::from_bytes(*hasher.finalize().as_bytes())))
}

/// Length and SHA-256 of what a reader gives, which is written to `copy` on the way.
///
/// # Errors
/// When reading or writing fails.
pub fn sha256(from: &mut dyn Read, copy: Option<&mut File>) -> io::Result<(u64, Sha256Digest)> {
    let mut hasher = Sha256::default();
    let size = pieces(from, copy, &mut |piece| hasher.update(piece))?;
    Ok((size, hasher.finish()))
}

/// Copies what a reader gives. Returns how many bytes it was.
///
/// # Errors
/// When reading or writing fails.
pub fn copy(from: &mut dyn Read, to: &mut File) -> Result<u64, CopyFault> {
    pieces(from, Some(to), &mut |_| ())
}
