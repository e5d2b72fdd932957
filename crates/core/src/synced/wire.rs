//! What the two ends of a synced folder say to each other: one who keeps watch over a copy, and one who asks.
//!
//! The first byte of a frame says what it is; the rest is in the terms of [`crate::encode`]. Whoever sends one says
//! before it how long it is. Answers come in the order of the requests; what lies where is told at any time.

use super::{Entry, What};
use crate::digest::ContentDigest;
use crate::encode::Encoder;
use crate::path::RootPath;
use crate::tree::encoding::{BadTree, Reader};

/// Bytes of content that one frame carries at most.
pub const PIECE: usize = 256 << 10;
/// Bytes that a frame may have.
pub const LONGEST: u32 = 4 << 20;
/// Entries that are told in one frame.
pub const MANY: usize = 500;

/// From the one who asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ask {
    /// Say what is in the file, directory or link at this path.
    Get(RootPath),
    /// Put something where something expected is. A file's content follows, as [`Part`]s.
    Put {
        /// Where.
        path: RootPath,
        /// What is there.
        expected: Option<Entry>,
        /// What is to be there; of a file, size and digest are those that [`Part::End`] tells.
        wanted: Entry,
    },
    /// Remove what is expected there.
    Remove {
        /// Where.
        path: RootPath,
        /// What is there.
        expected: Entry,
    },
    /// Give what is there the rights and the time of this entry, which is alike otherwise.
    Dress {
        /// Where.
        path: RootPath,
        /// What is there.
        expected: Entry,
        /// What is to be there.
        wanted: Entry,
    },
    /// Tell everything that has changed up to now.
    Flush,
    /// Have everything on the disk.
    Persist,
    /// The same, and remember what was seen for the next time: there will be no more.
    Finish,
    /// A part of a file's content.
    Part(Part),
}

/// A part of a file's content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// Bytes.
    Bytes(Vec<u8>),
    /// That was all: how much it was, and the digest of it.
    End(u64, ContentDigest),
    /// There will be no more, and it is not whole.
    Broken,
}

/// From the one who keeps watch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tell {
    /// What lies where now. Where there is nothing, or no directory, nothing is below.
    Are(Vec<(RootPath, Option<Entry>)>),
    /// Everything that is there was told; this copy is the one with this number, and no other.
    Listed(String),
    /// Answers [`Ask::Get`]: what is there; of a file, the content follows.
    Is(Entry),
    /// Answers [`Ask::Get`]: nothing that crosses.
    Gone,
    /// A part of a file's content.
    Part(Part),
    /// Answers a change.
    Done(Outcome),
    /// Answers [`Ask::Flush`], [`Ask::Persist`] and [`Ask::Finish`].
    Ready,
    /// A path that cannot be carried over as it is, and why; nothing when that is over.
    Trouble(RootPath, Option<String>),
}

/// What came of a change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// It is made.
    Made,
    /// Something else is there than was expected; what, was told before.
    Otherwise,
    /// A directory holds what does not cross, and stays.
    Holds,
    /// The disk refuses.
    Failed(String),
}

/// A frame that means nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the other end of a synced folder said something strange: {0}")]
pub struct BadFrame(String);

fn bad(why: impl std::fmt::Display) -> BadFrame {
    BadFrame(why.to_string())
}

impl From<BadTree> for BadFrame {
    fn from(error: BadTree) -> Self {
        bad(error)
    }
}

/// Writes an entry.
pub fn put_entry(encoder: &mut Encoder, entry: &Entry) {
    match &entry.what {
        What::Directory => encoder.u8(1),
        What::File { size, content } => encoder.u8(2).u64(*size).fixed(content.as_bytes()),
        What::Link { target } => encoder.u8(3).bytes(target),
    };
    encoder.u16(entry.mode).u64(entry.modified.cast_unsigned());
}

/// Reads an entry.
///
/// # Errors
/// When it is none.
pub fn take_entry(reader: &mut Reader<'_>) -> Result<Entry, BadFrame> {
    let what = match reader.u8()? {
        1 => What::Directory,
        2 => What::File { size: reader.u64()?, content: ContentDigest::from_bytes(reader.fixed()?) },
        3 => What::Link { target: reader.bytes()?.to_vec() },
        other => return Err(bad(format_args!("an entry of kind {other}"))),
    };
    Ok(Entry { what, mode: reader.u16()? & 0o777, modified: reader.u64()?.cast_signed() })
}

fn put_maybe(encoder: &mut Encoder, entry: Option<&Entry>) {
    encoder.u8(u8::from(entry.is_some()));
    entry.into_iter().for_each(|entry| put_entry(encoder, entry));
}

fn take_maybe(reader: &mut Reader<'_>) -> Result<Option<Entry>, BadFrame> {
    (reader.u8()? == 1).then(|| take_entry(reader)).transpose()
}

/// Reads a path, which is never the folder itself.
///
/// # Errors
/// When it is none.
pub fn take_path(reader: &mut Reader<'_>) -> Result<RootPath, BadFrame> {
    let path = RootPath::from_plain(reader.bytes()?).map_err(bad)?;
    if path.is_root() { Err(bad("the folder itself")) } else { Ok(path) }
}

fn take_text(reader: &mut Reader<'_>) -> Result<String, BadFrame> {
    Ok(String::from_utf8_lossy(reader.bytes()?).into_owned())
}

fn put_part(encoder: &mut Encoder, part: &Part) {
    match part {
        Part::Bytes(bytes) => encoder.u8(20).bytes(bytes),
        Part::End(size, digest) => encoder.u8(21).u64(*size).fixed(digest.as_bytes()),
        Part::Broken => encoder.u8(22),
    };
}

fn take_part(kind: u8, reader: &mut Reader<'_>) -> Result<Part, BadFrame> {
    Ok(match kind {
        20 => Part::Bytes(reader.bytes()?.to_vec()),
        21 => Part::End(reader.u64()?, ContentDigest::from_bytes(reader.fixed()?)),
        22 => Part::Broken,
        other => return Err(bad(format_args!("a frame of kind {other}"))),
    })
}

/// What goes over the wire.
pub trait Frame: Sized {
    /// Writes it.
    fn put(&self, encoder: &mut Encoder);
    /// Reads it.
    ///
    /// # Errors
    /// When it is none.
    fn take(reader: &mut Reader<'_>) -> Result<Self, BadFrame>;

    /// Its bytes.
    fn encode(&self) -> Vec<u8> {
        let mut encoder = Encoder::plain();
        self.put(&mut encoder);
        encoder.into_bytes()
    }

    /// What some bytes say.
    ///
    /// # Errors
    /// When they say nothing, or more.
    fn decode(bytes: &[u8]) -> Result<Self, BadFrame> {
        let mut reader = Reader::plain(bytes);
        let frame = Self::take(&mut reader)?;
        reader.end()?;
        Ok(frame)
    }
}

impl Frame for Ask {
    fn put(&self, encoder: &mut Encoder) {
        match self {
            Self::Get(path) => drop(encoder.u8(1).bytes(path.as_bytes())),
            Self::Put { path, expected, wanted } => {
                encoder.u8(2).bytes(path.as_bytes());
                put_maybe(encoder, expected.as_ref());
                put_entry(encoder, wanted);
            }
            Self::Remove { path, expected } => {
                encoder.u8(3).bytes(path.as_bytes());
                put_entry(encoder, expected);
            }
            Self::Dress { path, expected, wanted } => {
                encoder.u8(4).bytes(path.as_bytes());
                put_entry(encoder, expected);
                put_entry(encoder, wanted);
            }
            Self::Flush => drop(encoder.u8(5)),
            Self::Persist => drop(encoder.u8(6)),
            Self::Finish => drop(encoder.u8(7)),
            Self::Part(part) => put_part(encoder, part),
        }
    }

    fn take(reader: &mut Reader<'_>) -> Result<Self, BadFrame> {
        Ok(match reader.u8()? {
            1 => Self::Get(take_path(reader)?),
            2 => Self::Put { path: take_path(reader)?, expected: take_maybe(reader)?, wanted: take_entry(reader)? },
            3 => Self::Remove { path: take_path(reader)?, expected: take_entry(reader)? },
            4 => Self::Dress { path: take_path(reader)?, expected: take_entry(reader)?, wanted: take_entry(reader)? },
            5 => Self::Flush,
            6 => Self::Persist,
            7 => Self::Finish,
            kind => Self::Part(take_part(kind, reader)?),
        })
    }
}

impl Frame for Tell {
    fn put(&self, encoder: &mut Encoder) {
        match self {
            Self::Are(all) => {
                encoder.u8(10).count(all.len());
                for (path, entry) in all {
                    encoder.bytes(path.as_bytes());
                    put_maybe(encoder, entry.as_ref());
                }
            }
            Self::Listed(number) => drop(encoder.u8(11).bytes(number)),
            Self::Is(entry) => {
                encoder.u8(12);
                put_entry(encoder, entry);
            }
            Self::Gone => drop(encoder.u8(13)),
            Self::Done(outcome) => {
                encoder.u8(14);
                match outcome {
                    Outcome::Made => encoder.u8(0),
                    Outcome::Otherwise => encoder.u8(1),
                    Outcome::Holds => encoder.u8(2),
                    Outcome::Failed(why) => encoder.u8(3).bytes(why),
                };
            }
            Self::Ready => drop(encoder.u8(15)),
            Self::Trouble(path, why) => {
                encoder.u8(16).bytes(path.as_bytes()).u8(u8::from(why.is_some()));
                if let Some(why) = why {
                    encoder.bytes(why);
                }
            }
            Self::Part(part) => put_part(encoder, part),
        }
    }

    fn take(reader: &mut Reader<'_>) -> Result<Self, BadFrame> {
        Ok(match reader.u8()? {
            10 => {
                let count = reader.u32()?;
                // One at a time: a count alone takes no memory.
                let mut all = Vec::new();
                for _ in 0..count {
                    all.push((take_path(reader)?, take_maybe(reader)?));
                }
                Self::Are(all)
            }
            11 => Self::Listed(take_text(reader)?),
            12 => Self::Is(take_entry(reader)?),
            13 => Self::Gone,
            14 => Self::Done(match reader.u8()? {
                0 => Outcome::Made,
                1 => Outcome::Otherwise,
                2 => Outcome::Holds,
                _ => Outcome::Failed(take_text(reader)?),
            }),
            15 => Self::Ready,
            16 => {
                let path = take_path(reader)?;
                Self::Trouble(path, (reader.u8()? == 1).then(|| take_text(reader)).transpose()?)
            }
            kind => Self::Part(take_part(kind, reader)?),
        })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn entry() -> impl Strategy<Value = Entry> {
        let file = (any::<u64>(), any::<[u8; 32]>());
        let what = prop_oneof![
            Just(What::Directory),
            file.prop_map(|(size, bytes)| What::File { size, content: ContentDigest::from_bytes(bytes) }),
            any::<Vec<u8>>().prop_map(|target| What::Link { target }),
        ];
        (what, 0u16..0o1000, any::<i64>()).prop_map(|(what, mode, modified)| Entry { what, mode, modified })
    }

    fn path() -> impl Strategy<Value = RootPath> {
        let name = prop::collection::vec(1u8..=255, 1..9);
        prop::collection::vec(name, 1..4)
            .prop_filter_map("a path", |names| RootPath::from_plain(&names.join(&b'/')).ok())
            .prop_filter("not the folder", |path| !path.is_root())
    }

    fn returns<T: Frame + PartialEq + std::fmt::Debug>(frame: &T) {
        let bytes = frame.encode();
        assert_eq!(T::decode(&bytes).as_ref(), Ok(frame));
        assert!(T::decode(&bytes[..bytes.len() - 1]).is_err());
        assert!(T::decode(&[bytes.as_slice(), b"x"].concat()).is_err());
    }

    proptest! {
        #[test]
        fn what_is_said_is_heard(path in path(), one in entry(), other in entry(), why in ".{0,9}") {
            returns(&Ask::Get(path.clone()));
            returns(&Ask::Put { path: path.clone(), expected: None, wanted: one.clone() });
            returns(&Ask::Put { path: path.clone(), expected: Some(one.clone()), wanted: other.clone() });
            returns(&Ask::Remove { path: path.clone(), expected: one.clone() });
            returns(&Ask::Dress { path: path.clone(), expected: one.clone(), wanted: other });
            returns(&Ask::Part(Part::Bytes(why.clone().into_bytes())));
            returns(&Tell::Are(vec![(path.clone(), Some(one.clone())), (path.clone(), None)]));
            returns(&Tell::Listed(why.clone()));
            returns(&Tell::Is(one));
            returns(&Tell::Trouble(path, Some(why.clone())));
            returns(&Tell::Done(Outcome::Failed(why)));
            returns(&Tell::Part(Part::End(7, ContentDigest::of(b"7"))));
        }

        #[test]
        fn nonsense_is_refused_and_takes_no_memory(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            for heard in [Ask::decode(&bytes).map(drop), Tell::decode(&bytes).map(drop)] {
                if let Err(error) = heard {
                    prop_assert!(error.to_string().contains("strange"), "{}", error);
                }
            }
        }
    }
}
