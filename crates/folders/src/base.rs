//! What both copies had when they agreed last, on the disk. It is written when both have their part of it on theirs, so
//! it never says more than what is there after a power failure.

use std::io;
use std::path::Path;

use cavrith_core::encode::Encoder;
use cavrith_core::synced::Entries;
use cavrith_core::synced::wire::{BadFrame, put_entry, take_entry, take_path};
use cavrith_core::tree::encoding::Reader;

const TITLE: &str = "cavrith synced folder 1";

/// A base.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Base {
    /// The numbers of the copies, the one outside first. It says nothing of others.
    pub copies: [String; 2],
    /// Nothing was different when it was written: what is inside is outside, too.
    pub in_step: bool,
    /// What both had.
    pub entries: Entries,
}

impl Base {
    /// Reads one; nothing when there is none, or it cannot be understood. Then every difference is told as a conflict,
    /// and nothing is lost.
    pub fn read(path: &Path) -> Option<Self> {
        decode(&std::fs::read(path).ok()?).ok()
    }

    /// Writes it.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn write(&self, path: &Path) -> io::Result<()> {
        let mut encoder = Encoder::new(TITLE);
        encoder.bytes(&self.copies[0]).bytes(&self.copies[1]).u8(u8::from(self.in_step)).count(self.entries.len());
        for (path, entry) in &self.entries {
            encoder.bytes(path.as_bytes());
            put_entry(&mut encoder, entry);
        }
        cavrith_store::atomic::write(path, &encoder.into_bytes()).map_err(io::Error::other)
    }
}

fn decode(bytes: &[u8]) -> Result<Base, BadFrame> {
    let mut reader = Reader::new(bytes, TITLE)?;
    let mut text = || Ok::<_, BadFrame>(String::from_utf8_lossy(reader.bytes()?).into_owned());
    let copies = [text()?, text()?];
    let (in_step, count) = (reader.u8()? == 1, reader.u32()?);
    let mut entries = Entries::new();
    for _ in 0..count {
        entries.insert(take_path(&mut reader)?, take_entry(&mut reader)?);
    }
    reader.end()?;
    Ok(Base { copies, in_step, entries })
}
