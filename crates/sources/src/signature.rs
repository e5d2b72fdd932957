//! Clear-signed texts (RFC 9580, section 7) and the keyrings that prove them.
//!
//! A small reader of our own over `ring`'s algorithms, since nothing here is ever signed, encrypted or decrypted:
//! crates that do all of OpenPGP bring a hundred others. What cannot be verified (DSA, other curves, keys before
//! version 4) proves nothing, and that is reported.
//!
//! Nothing that a keyring says of a key counts before the key itself has signed it: how long it lasts, what it may do,
//! which subkeys it has, that it was withdrawn.

mod certificate;
mod cleartext;
mod packets;

use certificate::{Certificate, Judgement};
use cleartext::ClearSigned;
use packets::{Bytes, Signature, tag};

/// Why a text is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unproved {
    /// It is not a clear-signed text, or something stands before or after it.
    #[error("it is not a clear-signed text: {0}")]
    Form(String),
    /// None of the keys that signed it is in the keyring.
    #[error("none of the keys that signed it is in the keyring (signed by {})", .0.join(", "))]
    UnknownKeys(Vec<String>),
    /// A signature does not fit the text.
    #[error("the signature by {0} does not fit: the text was changed after it was signed")]
    Bad(String),
    /// The keys that signed it, or the signatures, are not valid (any more): each with why.
    #[error("{}", .0.join("; "))]
    Invalid(Vec<String>),
}

/// Keys that are trusted.
#[derive(Debug, Default)]
pub struct Keyring {
    keys: Vec<Certificate>,
}

impl Keyring {
    /// Adds the keys of a keyring, armoured or not. What another keyring says of the same key is added to what is known
    /// of it.
    ///
    /// # Errors
    /// When it is not a keyring.
    pub fn add(&mut self, bytes: &[u8]) -> Result<(), String> {
        let plain;
        let bytes = if bytes.trim_ascii_start().starts_with(b"-----BEGIN") {
            plain = cleartext::all_armoured(bytes, cleartext::KEYS)?;
            &plain
        } else {
            bytes
        };
        for certificate in certificate::read(bytes)? {
            match self.keys.iter_mut().find(|known| known.is_of(&certificate)) {
                Some(known) => known.join(certificate),
                None => self.keys.push(certificate),
            }
        }
        Ok(())
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// The text of a clear-signed file, when a key of this ring has signed it and no signature by one of them is wrong.
    /// `now` is in seconds since
    /// 1970. Only what was signed is returned.
    ///
    /// # Errors
    /// What speaks against it.
    pub fn prove(&self, file: &[u8], now: u64) -> Result<String, Unproved> {
        let form = |why: packets::Malformed| Unproved::Form(why.to_owned());
        let ClearSigned { text, signatures } = ClearSigned::read(file).map_err(form)?;
        let (mut good, mut unknown, mut invalid) = (0, Vec::new(), Vec::new());
        let mut packets = Bytes(&signatures);
        while let Some(packet) = packets.packet() {
            let (tag, body) = packet.map_err(form)?;
            if tag != tag::SIGNATURE {
                return Err(form("its signature holds something else"));
            }
            let Some(signature) = Signature::read(body).map_err(form)? else {
                unknown.push("a key of a version that is not verified here".to_owned());
                continue;
            };
            let name = signature.issuer().unwrap_or_else(|| "a key that is not named".to_owned());
            match self.judge(&signature, text.as_bytes(), now) {
                Judgement::Good => good += 1,
                Judgement::Unknown => unknown.push(name),
                Judgement::Bad => return Err(Unproved::Bad(name)),
                Judgement::Invalid(why) => invalid.push(format!("{why} ({name})")),
            }
        }
        match (good, invalid.is_empty()) {
            (0, false) => Err(Unproved::Invalid(invalid)),
            (0, true) => Err(Unproved::UnknownKeys(unknown)),
            _ => Ok(text.replace("\r\n", "\n")),
        }
    }

    /// Several keys may have the same short name; one of them that made the signature is enough.
    fn judge(&self, signature: &Signature, text: &[u8], now: u64) -> Judgement {
        let all = self.keys.iter().map(|key| key.judge(signature, text, now));
        all.max_by_key(|judgement| match judgement {
            Judgement::Unknown => 0,
            Judgement::Bad => 1,
            Judgement::Invalid(_) => 2,
            Judgement::Good => 3,
        })
        .unwrap_or(Judgement::Unknown)
    }
}
