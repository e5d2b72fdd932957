//! One key with all that is said of it (RFC 9580, section 10.1), and what it says of a signature.

use ring::digest::{SHA256, SHA384, SHA512, digest};
use ring::signature as algorithms;
use ring::signature::{RsaPublicKeyComponents, UnparsedPublicKey};

use super::packets::{Bytes, Hash, Malformed, Material, PublicKey, Signature, kind, tag};

/// What a key says of a signature.
#[derive(Debug)]
pub enum Judgement {
    Good,
    /// The key did not make it.
    Unknown,
    /// The key is said to have made it, and did not make it for this text.
    Bad,
    /// It made it, and that counts for nothing; why.
    Invalid(String),
}

/// A primary key, its users and its subkeys, each with the signatures that stand after it.
#[derive(Debug)]
pub struct Certificate {
    primary: PublicKey,
    direct: Vec<Signature>,
    /// What the digest of a signature over the user begins with (section 5.2.4), and the signatures.
    users: Vec<(Vec<u8>, Vec<Signature>)>,
    subkeys: Vec<(PublicKey, Vec<Signature>)>,
}

/// All certificates of a keyring. Keys of versions that are not verified here are passed over, with what belongs to
/// them.
pub fn read(bytes: &[u8]) -> Result<Vec<Certificate>, Malformed> {
    let mut all: Vec<Certificate> = Vec::new();
    // Where signatures belong: to the last thing before them, unless that was passed over.
    let mut after = None;
    let mut packets = Bytes(bytes);
    while let Some(packet) = packets.packet() {
        let (tag, body) = packet?;
        match (tag, all.last_mut()) {
            (tag::SECRET_KEY | tag::SECRET_SUBKEY, _) => {
                return Err("it holds secret keys, which belong in no keyring");
            }
            (tag::PUBLIC_KEY, _) => {
                after = PublicKey::read(body)?.map(|primary| {
                    all.push(Certificate { primary, direct: Vec::new(), users: Vec::new(), subkeys: Vec::new() });
                    tag
                });
            }
            (tag::USER_ID | tag::USER_ATTRIBUTE, Some(last)) if after.is_some() => {
                let length = u32::try_from(body.len()).map_err(|_| "a user's name is too long")?;
                let mut hashed = vec![if tag == tag::USER_ID { 0xb4 } else { 0xd1 }];
                hashed.extend(length.to_be_bytes());
                hashed.extend(body);
                last.users.push((hashed, Vec::new()));
                after = Some(tag);
            }
            (tag::PUBLIC_SUBKEY, Some(last)) if after.is_some() => match PublicKey::read(body)? {
                Some(subkey) => {
                    last.subkeys.push((subkey, Vec::new()));
                    after = Some(tag);
                }
                None => after = Some(0),
            },
            (tag::SIGNATURE, Some(last)) => {
                let Some(signature) = Signature::read(body)? else { continue };
                match after {
                    Some(tag::PUBLIC_KEY) => last.direct.push(signature),
                    Some(tag::USER_ID | tag::USER_ATTRIBUTE) => {
                        last.users.last_mut().into_iter().for_each(|user| user.1.push(signature.clone()));
                    }
                    Some(tag::PUBLIC_SUBKEY) => {
                        last.subkeys.last_mut().into_iter().for_each(|subkey| subkey.1.push(signature.clone()));
                    }
                    _ => {}
                }
            }
            // What programs note for themselves, paddings, marks.
            _ => {}
        }
    }
    if all.is_empty() { Err("it holds no public keys of version 4 or 6") } else { Ok(all) }
}

impl Certificate {
    /// Whether it is of the same key.
    pub fn is_of(&self, other: &Self) -> bool {
        self.primary.fingerprint == other.primary.fingerprint
    }

    /// Takes in what another keyring says of the key.
    pub fn join(&mut self, other: Self) {
        self.direct.extend(other.direct);
        self.users.extend(other.users);
        for (subkey, signatures) in other.subkeys {
            match self.subkeys.iter_mut().find(|(known, _)| known.fingerprint == subkey.fingerprint) {
                Some((_, known)) => known.extend(signatures),
                None => self.subkeys.push((subkey, signatures)),
            }
        }
    }

    /// What this key says of a signature over a text. `now` is in seconds since 1970.
    pub fn judge(&self, signature: &Signature, text: &[u8], now: u64) -> Judgement {
        let subkey = self.subkeys.iter().find(|(subkey, _)| signature.names(subkey));
        let key = match subkey {
            Some((subkey, _)) => subkey,
            None if signature.names(&self.primary) => &self.primary,
            None => return Judgement::Unknown,
        };
        if !matches!(signature.kind, kind::BINARY | kind::TEXT) || signature.strange {
            return invalid("the signature is of a kind that is not known here");
        }
        if signature.hash.is_none() {
            return invalid("the signature is made with a digest that is not safe any more");
        }
        match fits(key, signature, text) {
            Fit::Yes => {}
            Fit::No => return Judgement::Bad,
            Fit::Unknown(algorithm) => {
                return Judgement::Invalid(format!(
                    "the signature is made with algorithm {algorithm}, which is not verified here"
                ));
            }
        }
        if over(signature, now) {
            return invalid("the signature has expired");
        }
        let checks = [Some(self.primary_stands(now, subkey.is_none())), subkey.map(|one| self.subkey_stands(one, now))];
        match checks.into_iter().flatten().find_map(Result::err) {
            Some(why) => invalid(why),
            None if signature.created < key.created => invalid("the signature says that it is older than its key"),
            None => Judgement::Good,
        }
    }

    /// Whether the primary key still stands, and whether it may sign, if it is to.
    fn primary_stands(&self, now: u64, signs: bool) -> Result<(), &'static str> {
        let mut key = Vec::new();
        self.primary.hashed(&mut key);
        let own = |signature: &&Signature, data: &[u8]| matches!(fits(&self.primary, signature, data), Fit::Yes);
        if self.direct.iter().any(|one| one.kind == kind::KEY_REVOCATION && own(&one, &key)) {
            return Err("the key was withdrawn by its owner");
        }
        let direct = self.direct.iter().filter(|one| one.kind == kind::DIRECT && own(one, &key));
        let users = self.users.iter().flat_map(|(user, signatures)| {
            let data = [key.as_slice(), user].concat();
            signatures.iter().filter(move |one| kind::CERTIFICATIONS.contains(&one.kind) && own(one, &data))
        });
        let statements = direct.chain(users).filter(|one| !one.strange && !over(one, now));
        let newest = statements
            .max_by_key(|one| one.created)
            .ok_or("the key says nothing of itself that is valid: its keyring is too old, or not whole")?;
        if ended(&self.primary, newest, now) {
            return Err("the key has expired");
        }
        if signs && !newest.lets_sign() { Err("the key may not sign data") } else { Ok(()) }
    }

    /// Whether a subkey belongs to the primary key, by the word of both, and still stands.
    fn subkey_stands(&self, (subkey, signatures): &(PublicKey, Vec<Signature>), now: u64) -> Result<(), &'static str> {
        let mut both = Vec::new();
        self.primary.hashed(&mut both);
        subkey.hashed(&mut both);
        let own: Vec<_> = signatures.iter().filter(|one| matches!(fits(&self.primary, one, &both), Fit::Yes)).collect();
        if own.iter().any(|one| one.kind == kind::SUBKEY_REVOCATION) {
            return Err("the subkey was withdrawn by its owner");
        }
        let bindings = own.into_iter().filter(|one| one.kind == kind::SUBKEY_BINDING && !one.strange);
        let newest = bindings
            .filter(|one| !over(one, now))
            .max_by_key(|one| one.created)
            .ok_or("nothing valid binds the subkey to its key")?;
        if ended(subkey, newest, now) {
            return Err("the subkey has expired");
        }
        let back = newest.embedded.as_deref().filter(|back| {
            back.kind == kind::PRIMARY_BINDING && !back.strange && matches!(fits(subkey, back, &both), Fit::Yes)
        });
        if newest.flags.is_some() && newest.lets_sign() && back.is_some() {
            Ok(())
        } else {
            Err("the subkey may not sign data")
        }
    }
}

fn invalid(why: &str) -> Judgement {
    Judgement::Invalid(why.to_owned())
}

/// Whether a signature has expired.
fn over(signature: &Signature, now: u64) -> bool {
    signature.lasts > 0 && signature.created + signature.lasts < now
}

/// Whether a key has expired, by this statement.
fn ended(key: &PublicKey, statement: &Signature, now: u64) -> bool {
    statement.key_lasts > 0 && key.created + statement.key_lasts < now
}

enum Fit {
    Yes,
    No,
    /// Made with this algorithm, which is not verified here.
    Unknown(u8),
}

/// Whether a key made a signature over data.
fn fits(key: &PublicKey, signature: &Signature, data: &[u8]) -> Fit {
    let Some(hash) = signature.hash else { return Fit::No };
    let message = signature.message(data);
    let result = match (&key.material, signature.algorithm) {
        (Material::Rsa(n, e), 1 | 3) => rsa(n, e, hash, &message, signature),
        (Material::Ed25519(point), 22 | 27) => ed25519(point, hash, &message, signature),
        // Other digests with these curves are allowed, and made by nobody.
        (Material::P256(point), 19) if hash == Hash::Sha256 => {
            ecdsa(&algorithms::ECDSA_P256_SHA256_FIXED, 32, point, &message, signature)
        }
        (Material::P384(point), 19) if hash == Hash::Sha384 => {
            ecdsa(&algorithms::ECDSA_P384_SHA384_FIXED, 48, point, &message, signature)
        }
        (Material::P256(_) | Material::P384(_), 19) => return Fit::Unknown(19),
        (Material::Other(algorithm), other) if *algorithm == other => return Fit::Unknown(*algorithm),
        _ => None,
    };
    if result.is_some() { Fit::Yes } else { Fit::No }
}

fn rsa(n: &[u8], e: &[u8], hash: Hash, message: &[u8], signature: &Signature) -> Option<()> {
    let parameters = match hash {
        Hash::Sha256 => &algorithms::RSA_PKCS1_2048_8192_SHA256,
        Hash::Sha384 => &algorithms::RSA_PKCS1_2048_8192_SHA384,
        Hash::Sha512 => &algorithms::RSA_PKCS1_2048_8192_SHA512,
    };
    let made = padded(signature.integers(1).ok()?[0], n.len())?;
    RsaPublicKeyComponents { n, e }.verify(parameters, message, &made).ok()
}

/// OpenPGP signs the digest with Ed25519, not the message (section 5.2.3.3).
fn ed25519(point: &[u8], hash: Hash, message: &[u8], signature: &Signature) -> Option<()> {
    let algorithm = match hash {
        Hash::Sha256 => &SHA256,
        Hash::Sha384 => &SHA384,
        Hash::Sha512 => &SHA512,
    };
    let made = if signature.algorithm == 27 { signature.material.clone() } else { pair(signature, 32)? };
    UnparsedPublicKey::new(&algorithms::ED25519, point).verify(digest(algorithm, message).as_ref(), &made).ok()
}

fn ecdsa(
    algorithm: &'static algorithms::EcdsaVerificationAlgorithm,
    octets: usize,
    point: &[u8],
    message: &[u8],
    signature: &Signature,
) -> Option<()> {
    UnparsedPublicKey::new(algorithm, point).verify(message, &pair(signature, octets)?).ok()
}

/// A signature of two integers, as numbers of fixed size one after the other.
fn pair(signature: &Signature, octets: usize) -> Option<Vec<u8>> {
    let integers = signature.integers(2).ok()?;
    Some([padded(integers[0], octets)?, padded(integers[1], octets)?].concat())
}

/// An integer with the zeros in front that OpenPGP leaves out.
fn padded(integer: &[u8], octets: usize) -> Option<Vec<u8>> {
    let zeros = octets.checked_sub(integer.len())?;
    Some([vec![0; zeros], integer.to_vec()].concat())
}
