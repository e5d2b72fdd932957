//! Clear-signed texts (RFC 9580, section 7) and the keyrings that prove them.

use std::io::Cursor;

use pgp::composed::{CleartextSignedMessage, Deserializable as _, SignedPublicKey};
use pgp::crypto::hash::HashAlgorithm;
use pgp::packet::Signature;
use pgp::types::{KeyDetails as _, KeyId};

/// How a clear-signed text begins.
const BEGIN: &[u8] = b"-----BEGIN PGP SIGNED MESSAGE-----";

/// Why a text is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unproved {
    /// It is no clear-signed text, or something stands before or after it.
    #[error("it is no clear-signed text: {0}")]
    Form(String),
    /// None of the keys that signed it is in the keyring.
    #[error("none of the keys that signed it is in the keyring (signed by {})", .0.join(", "))]
    UnknownKeys(Vec<String>),
    /// A signature does not fit the text.
    #[error("the signature by {0} does not fit: the text was changed after it was signed")]
    Bad(String),
    /// The keys that signed it have expired or were withdrawn, or the signatures have expired.
    #[error("{}", .0.join("; "))]
    Expired(Vec<String>),
}

/// Keys that are trusted.
#[derive(Debug, Default)]
pub struct Keyring {
    keys: Vec<SignedPublicKey>,
}

impl Keyring {
    /// Adds the keys of a keyring, armoured or not.
    ///
    /// # Errors
    /// When it is no keyring.
    pub fn add(&mut self, bytes: &[u8]) -> Result<(), String> {
        let armoured = bytes.trim_ascii_start().starts_with(b"-----BEGIN");
        let read: Result<Vec<_>, _> = if armoured {
            SignedPublicKey::from_armor_many(Cursor::new(bytes)).and_then(|(keys, _)| keys.collect())
        } else {
            SignedPublicKey::from_bytes_many(Cursor::new(bytes)).and_then(Iterator::collect)
        };
        self.keys.extend(read.map_err(|error| error.to_string())?);
        Ok(())
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// The text of a clear-signed file, when a key of this ring has signed it and no signature by one of them is wrong. `now` is in seconds since
    /// 1970. Only what was signed is returned.
    ///
    /// # Errors
    /// What speaks against it.
    pub fn prove(&self, file: &[u8], now: u64) -> Result<String, Unproved> {
        // What stands before or after the signed part would be read by others as if it were part of it.
        if !file.starts_with(BEGIN) {
            return Err(Unproved::Form("it does not begin with its signed part".to_owned()));
        }
        let form = |error: pgp::errors::Error| Unproved::Form(error.to_string().to_lowercase());
        let (message, _) = CleartextSignedMessage::from_armor(Cursor::new(file)).map_err(form)?;
        // Signatures are made over lines that end with CR LF (RFC 9580, section 5.2.4).
        let signed = message.signed_text();
        let (mut good, mut unknown, mut expired) = (0, Vec::new(), Vec::new());
        for signature in message.signatures() {
            let name = issuer(signature);
            match self.judge(signature, signed.as_bytes(), now) {
                Judgement::Good => good += 1,
                Judgement::Unknown => unknown.push(name),
                Judgement::Bad => return Err(Unproved::Bad(name)),
                Judgement::Expired(why) => expired.push(format!("{why} ({name})")),
            }
        }
        match (good, expired.is_empty()) {
            (0, false) => Err(Unproved::Expired(expired)),
            (0, true) => Err(Unproved::UnknownKeys(unknown)),
            _ => Ok(signed.replace("\r\n", "\n")),
        }
    }

    fn judge(&self, signature: &Signature, text: &[u8], now: u64) -> Judgement {
        let ids = signature.issuer_key_id();
        let fingerprints = signature.issuer_fingerprint();
        let made_by = |key: &dyn Fn() -> (KeyId, pgp::types::Fingerprint)| {
            let (id, fingerprint) = key();
            ids.contains(&&id) || fingerprints.contains(&&fingerprint)
        };
        let weak = [HashAlgorithm::Md5, HashAlgorithm::Sha1, HashAlgorithm::Ripemd160];
        for key in &self.keys {
            let primary = made_by(&|| (key.legacy_key_id(), key.fingerprint()));
            let subkey = key.public_subkeys.iter().find(|subkey| {
                made_by(&|| (subkey.key.legacy_key_id(), subkey.key.fingerprint()))
                    && subkey.signatures.iter().any(|binding| binding.key_flags().sign())
                    && subkey.verify_bindings(&key.primary_key).is_ok()
            });
            if !primary && subkey.is_none() {
                continue;
            }
            let fits = match subkey {
                Some(subkey) => signature.verify(&subkey.key, text),
                None => signature.verify(&key.primary_key, text),
            };
            if fits.is_err() {
                return Judgement::Bad;
            }
            if signature.hash_alg().is_none_or(|hash| weak.contains(&hash)) {
                return Judgement::Expired("the signature is made with a digest that is not safe any more".to_owned());
            }
            let made = signature.created().map_or(0, |time| u64::from(time.as_secs()));
            let lasts = signature.signature_expiration_time().map_or(0, seconds);
            if lasts > 0 && made + lasts < now {
                return Judgement::Expired("the signature has expired".to_owned());
            }
            let revoked = |revocation: &Signature| revocation.verify_key(&key.primary_key).is_ok();
            if key.details.revocation_signatures.iter().any(revoked) {
                return Judgement::Expired("the key was withdrawn by its owner".to_owned());
            }
            let ends = [Some(primary_end(key)), subkey.map(subkey_end)];
            if ends.into_iter().flatten().flatten().any(|end| end < now) {
                return Judgement::Expired("the key has expired".to_owned());
            }
            return Judgement::Good;
        }
        Judgement::Unknown
    }
}

enum Judgement {
    Good,
    Unknown,
    Bad,
    Expired(String),
}

fn seconds(duration: pgp::types::Duration) -> u64 {
    std::time::Duration::from(duration).as_secs()
}

fn issuer(signature: &Signature) -> String {
    let fingerprint = signature.issuer_fingerprint().first().map(|fingerprint| fingerprint.to_string().to_uppercase());
    let id = || signature.issuer_key_id().first().map(|id| id.to_string().to_uppercase());
    fingerprint.or_else(id).unwrap_or_else(|| "a key that is not named".to_owned())
}

/// When a primary key expires, by the newest of its own statements; `None` for never.
fn primary_end(key: &SignedPublicKey) -> Option<u64> {
    let own = key.details.users.iter().flat_map(|user| {
        user.signatures.iter().filter(|signature| {
            signature.verify_certification(&key.primary_key, pgp::types::Tag::UserId, &user.id).is_ok()
        })
    });
    let direct =
        key.details.direct_signatures.iter().filter(|signature| signature.verify_key(&key.primary_key).is_ok());
    let newest = own.chain(direct).max_by_key(|signature| signature.created().map(|time| time.as_secs()))?;
    let lasts = newest.key_expiration_time().map_or(0, seconds);
    (lasts > 0).then(|| u64::from(key.created_at().as_secs()) + lasts)
}

fn subkey_end(subkey: &pgp::composed::SignedPublicSubKey) -> Option<u64> {
    let newest = subkey.signatures.iter().max_by_key(|signature| signature.created().map(|time| time.as_secs()))?;
    let lasts = newest.key_expiration_time().map_or(0, seconds);
    (lasts > 0).then(|| u64::from(subkey.key.created_at().as_secs()) + lasts)
}
