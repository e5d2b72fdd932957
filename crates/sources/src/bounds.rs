//! How much an archive may unpack to.

use std::io::{self, Read};

/// Entries that one archive may have.
pub const MAX_ENTRIES: usize = 1_000_000;

/// Bytes that one archive may unpack to, however large it is.
const MAX_BYTES: u64 = 16 << 30;

/// Real archives pack to a tenth, rarely to a thirtieth; what packs to less than this is made to fill a disk.
const MAX_RATIO: u64 = 100;
/// Bytes that any archive may unpack to: tables of numbers, of which there are Debian packages, pack to very little.
const ALWAYS: u64 = 256 << 20;

/// Bytes that an archive of `packed` bytes may unpack to.
pub fn unpacked(packed: u64) -> u64 {
    packed.saturating_mul(MAX_RATIO).saturating_add(ALWAYS).min(MAX_BYTES)
}

/// A reader that fails, instead of ending, when more comes than may come.
#[derive(Debug)]
pub struct Bounded<R> {
    inner: R,
    left: u64,
}

impl<R: Read> Bounded<R> {
    /// Lets `limit` bytes through.
    pub fn new(inner: R, limit: u64) -> Self {
        Self { inner, left: limit }
    }
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(buffer)?;
        match self.left.checked_sub(count as u64) {
            Some(left) => self.left = left,
            None => {
                return Err(io::Error::other("it unpacks to far more than its size allows"));
            }
        }
        Ok(count)
    }
}
