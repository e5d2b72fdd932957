//! One type for each kind of digest, so that none is taken for another by accident.
//!
//! All of them are 32 bytes and are written as 64 lower-case hexadecimal digits. [`Sha256Digest`] is used where an
//! open format demands SHA-256 (archives, packages); everything of our own is BLAKE3.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use sha2::Digest as _;

/// A text that is not 64 lower-case hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("a digest is 64 lower-case hexadecimal digits, and {0:?} is not")]
pub struct BadDigest(pub String);

macro_rules! digest_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name([u8; 32]);

        impl $name {
            /// Takes the 32 bytes of a digest that was computed elsewhere.
            pub const fn from_bytes(bytes: [u8; 32]) -> Self {
                Self(bytes)
            }

            /// The 32 bytes.
            pub const fn as_bytes(&self) -> &[u8; 32] {
                &self.0
            }

            /// The first 64 bits as four pronounceable words; see [`spoken`].
            pub fn spoken(&self) -> String {
                spoken(&self.0)
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
            }
        }

        impl fmt::Debug for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                write!(f, "{}({self})", stringify!($name))
            }
        }

        impl FromStr for $name {
            type Err = BadDigest;

            fn from_str(text: &str) -> Result<Self, BadDigest> {
                parse_hex(text).map(Self).ok_or_else(|| BadDigest(text.to_owned()))
            }
        }

        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = String::deserialize(deserializer)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}

digest_type! {
    /// BLAKE3 of the bytes of one regular file.
    ContentDigest
}
digest_type! {
    /// BLAKE3 of the canonical encoding of a [`crate::tree::Tree`].
    TreeDigest
}
digest_type! {
    /// BLAKE3 of what is signed of a change of a team ([`crate::team::history::text`]), and so of all before it.
    TeamDigest
}
digest_type! {
    /// What a layer is made of, before it is made: the name under which a finished layer is found again.
    LayerKey
}
digest_type! {
    /// What a whole image is made of, before it is made.
    ImageKey
}
digest_type! {
    /// Identity of an image: its merged tree and its epoch, however it was cut into layers.
    ImageFingerprint
}
digest_type! {
    /// Identity of a workspace: its image and all that is the team's own choice around it.
    WorkspaceFingerprint
}
digest_type! {
    /// Meaning of a spec: its values, not its comments or its layout.
    SpecDigest
}
digest_type! {
    /// The pinned inputs of a lock, without its seal.
    PinsDigest
}
digest_type! {
    /// SHA-256, for what open formats name by it.
    Sha256Digest
}

impl ContentDigest {
    /// The digest of bytes that are in memory.
    pub fn of(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }
}

impl Sha256Digest {
    /// The digest of bytes that are in memory.
    pub fn of(bytes: &[u8]) -> Self {
        Self(sha2::Sha256::digest(bytes).into())
    }
}

fn parse_hex(text: &str) -> Option<[u8; 32]> {
    let digits = text.as_bytes();
    if digits.len() != 64 {
        return None;
    }
    let nibble = |digit: u8| match digit {
        b'0'..=b'9' => Some(digit - b'0'),
        b'a'..=b'f' => Some(digit - b'a' + 10),
        _ => None,
    };
    let mut bytes = [0; 32];
    for (byte, pair) in bytes.iter_mut().zip(digits.chunks_exact(2)) {
        *byte = nibble(pair[0])? << 4 | nibble(pair[1])?;
    }
    Some(bytes)
}

/// The first 64 bits of a digest as four five-letter words, so that two people can compare them aloud.
///
/// The coding is proquint (D. S. Wilkerson, "A Proposal for Proquints", arXiv:0901.4016): each 16 bits, most
/// significant first, become consonant, vowel, consonant, vowel, consonant, with 4, 2, 4, 2 and 4 bits.
///
/// ```
/// let mut bytes = [0; 32];
/// bytes[..4].copy_from_slice(&[127, 0, 0, 1]);
/// assert_eq!(cavrith_core::digest::spoken(&bytes), "lusab-babad-babab-babab");
/// ```
pub fn spoken(bytes: &[u8; 32]) -> String {
    const CONSONANTS: &[u8; 16] = b"bdfghjklmnprstvz";
    const VOWELS: &[u8; 4] = b"aiou";
    let word = |pair: &[u8]| {
        let bits = usize::from(u16::from_be_bytes([pair[0], pair[1]]));
        [
            CONSONANTS[bits >> 12 & 15],
            VOWELS[bits >> 10 & 3],
            CONSONANTS[bits >> 6 & 15],
            VOWELS[bits >> 4 & 3],
            CONSONANTS[bits & 15],
        ]
        .map(char::from)
        .iter()
        .collect::<String>()
    };
    bytes[..8].chunks_exact(2).map(word).collect::<Vec<_>>().join("-")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hexadecimal_digits_survive_the_round_trip() {
        let digest = ContentDigest::of(b"low tide");
        assert_eq!(digest.to_string().parse(), Ok(digest));
    }

    #[test]
    fn upper_case_short_and_foreign_digits_are_refused() {
        for text in ["", "00", &"A".repeat(64), &"g".repeat(64), &"0".repeat(65)] {
            assert!(text.parse::<TreeDigest>().is_err(), "{text:?} was taken");
        }
    }

    #[test]
    fn the_spoken_form_reads_the_bits_most_significant_first() {
        let mut bytes = [0; 32];
        bytes[..8].copy_from_slice(&[63, 84, 220, 193, 0xff, 0xff, 0, 1]);
        assert_eq!(spoken(&bytes), "gutih-tugad-zuzuz-babad");
    }
}
