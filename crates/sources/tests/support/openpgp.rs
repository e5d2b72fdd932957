//! Keys and clear-signed texts for tests (RFC 9580): Ed25519 keys of version 4, made up as a test wants them.
//!
//! It shares nothing with the reader in `src`; what other programs make is in `tests/data`.
#![allow(dead_code, reason = "two test executables take what they need of it")]

use base64::Engine as _;
use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA512, digest};
use ring::rand::SystemRandom;
use ring::signature::{Ed25519KeyPair, KeyPair as _};

/// When all keys and signatures are made, unless a test says otherwise: 1 January 2026.
pub const MADE: u32 = 1_767_225_600;
const SHA512_ID: u8 = 10;
const MAY_CERTIFY: u8 = 1;
pub const MAY_SIGN: u8 = 2;
pub const MAY_ENCRYPT: u8 = 12;

pub struct Key {
    pair: Ed25519KeyPair,
    body: Vec<u8>,
}

impl Key {
    pub fn new() -> Self {
        let pkcs8 = Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).unwrap();
        let pair = Ed25519KeyPair::from_pkcs8(pkcs8.as_ref()).unwrap();
        let mut body = vec![4];
        body.extend(MADE.to_be_bytes());
        body.extend([22, 9, 0x2b, 0x06, 0x01, 0x04, 0x01, 0xda, 0x47, 0x0f, 0x01]);
        let mut point = vec![0x40];
        point.extend(pair.public_key().as_ref());
        integer(&mut body, &point);
        Self { pair, body }
    }

    fn hashed(&self) -> Vec<u8> {
        let mut bytes = vec![0x99];
        bytes.extend(u16::try_from(self.body.len()).unwrap().to_be_bytes());
        bytes.extend(&self.body);
        bytes
    }

    pub fn fingerprint(&self) -> Vec<u8> {
        digest(&SHA1_FOR_LEGACY_USE_ONLY, &self.hashed()).as_ref().to_vec()
    }

    /// The content of a signature packet over `data`, with these subpackets besides the usual ones.
    pub fn sign(&self, kind: u8, data: &[u8], more: &[(u8, Vec<u8>)]) -> Vec<u8> {
        let mut subpackets = Vec::new();
        let mut issuer = vec![4];
        issuer.extend(self.fingerprint());
        let usual = [(33, issuer), (2, MADE.to_be_bytes().to_vec())];
        for (number, content) in usual.iter().chain(more) {
            let length = content.len() + 1;
            if length < 192 {
                subpackets.push(u8::try_from(length).unwrap());
            } else {
                subpackets.extend([(192 + ((length - 192) >> 8)) as u8, (length - 192) as u8]);
            }
            subpackets.push(*number);
            subpackets.extend(content);
        }
        let mut body = vec![4, kind, 22, SHA512_ID];
        body.extend(u16::try_from(subpackets.len()).unwrap().to_be_bytes());
        body.extend(&subpackets);
        let mut message = data.to_vec();
        message.extend(&body);
        message.extend([4, 0xff]);
        message.extend(u32::try_from(body.len()).unwrap().to_be_bytes());
        let digest = digest(&SHA512, &message);
        let made = self.pair.sign(digest.as_ref());
        body.extend([0, 0]);
        body.extend(&digest.as_ref()[..2]);
        let (r, s) = made.as_ref().split_at(32);
        integer(&mut body, r);
        integer(&mut body, s);
        body
    }
}

fn integer(into: &mut Vec<u8>, bytes: &[u8]) {
    let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
    let bytes = &bytes[zeros..];
    let bits = bytes.len() * 8 - bytes.first().map_or(0, |first| first.leading_zeros() as usize);
    into.extend(u16::try_from(bits).unwrap().to_be_bytes());
    into.extend(bytes);
}

pub fn packet(tag: u8, body: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0xc0 | tag, 0xff];
    bytes.extend(u32::try_from(body.len()).unwrap().to_be_bytes());
    bytes.extend(body);
    bytes
}

/// A primary key, perhaps with a subkey that signs for it, and everything that they say of themselves.
pub struct Identity {
    pub primary: Key,
    pub subkey: Option<Key>,
    /// What is added at the end of the keyring's packets: what the last key says besides.
    pub more: Vec<u8>,
    /// Subpackets of the statements about the primary key, and about the subkey.
    pub says: Vec<(u8, Vec<u8>)>,
    pub says_of_subkey: Vec<(u8, Vec<u8>)>,
    /// Leaves out the subkey's own word that it belongs to the primary key.
    pub without_back: bool,
}

impl Identity {
    pub fn new() -> Self {
        Self {
            primary: Key::new(),
            subkey: None,
            more: Vec::new(),
            says: vec![(27, vec![MAY_CERTIFY | MAY_SIGN])],
            says_of_subkey: Vec::new(),
            without_back: false,
        }
    }

    pub fn with_subkey() -> Self {
        let mut identity = Self::new();
        identity.says = vec![(27, vec![MAY_CERTIFY])];
        identity.says_of_subkey = vec![(27, vec![MAY_SIGN])];
        identity.subkey = Some(Key::new());
        identity
    }

    /// Both keys, as statements about the subkey are made over them.
    pub fn both(&self) -> Vec<u8> {
        [self.primary.hashed(), self.subkey.as_ref().unwrap().hashed()].concat()
    }

    /// The packets of its keyring.
    pub fn keyring(&self) -> Vec<u8> {
        let user = b"Brindle Ferry Archive <archive@brindle.example>";
        let mut data = self.primary.hashed();
        data.push(0xb4);
        data.extend(u32::try_from(user.len()).unwrap().to_be_bytes());
        data.extend(user);
        let mut bytes = packet(6, &self.primary.body);
        bytes.extend(packet(13, user));
        bytes.extend(packet(2, &self.primary.sign(0x13, &data, &self.says)));
        if let Some(subkey) = &self.subkey {
            bytes.extend(packet(14, &subkey.body));
            let mut says = self.says_of_subkey.clone();
            if !self.without_back {
                says.push((32, subkey.sign(0x19, &self.both(), &[])));
            }
            bytes.extend(packet(2, &self.primary.sign(0x18, &self.both(), &says)));
        }
        bytes.extend(&self.more);
        bytes
    }

    /// The same, revoked by itself.
    pub fn revoked(&self) -> Vec<u8> {
        let mut bytes = packet(6, &self.primary.body);
        bytes.extend(packet(2, &self.primary.sign(0x20, &self.primary.hashed(), &[])));
        bytes.extend(&self.keyring()[packet(6, &self.primary.body).len()..]);
        bytes
    }

    pub fn armoured(&self) -> String {
        armour("PUBLIC KEY BLOCK", &self.keyring())
    }
}

pub fn armour(kind: &str, bytes: &[u8]) -> String {
    let coded = base64::engine::general_purpose::STANDARD.encode(bytes);
    let lines: Vec<_> = coded.as_bytes().chunks(64).map(|line| std::str::from_utf8(line).unwrap()).collect();
    format!("-----BEGIN PGP {kind}-----\n\n{}\n-----END PGP {kind}-----\n", lines.join("\n"))
}

/// A text, clear-signed by each of these: by the subkey, where there is one.
pub fn clear_signed(text: &str, by: &[&Identity]) -> String {
    let keys: Vec<_> = by.iter().map(|identity| identity.subkey.as_ref().unwrap_or(&identity.primary)).collect();
    clear_signed_by(text, &keys, &[])
}

pub fn clear_signed_by(text: &str, keys: &[&Key], more: &[(u8, Vec<u8>)]) -> String {
    let text = text.strip_suffix('\n').unwrap_or(text);
    let signed: Vec<_> = text.split('\n').map(|line| line.trim_end_matches([' ', '\t', '\r'])).collect();
    let signed = signed.join("\r\n");
    let packets = keys.iter().flat_map(|key| packet(2, &key.sign(1, signed.as_bytes(), more))).collect::<Vec<_>>();
    let escaped: Vec<_> = text
        .split('\n')
        .map(|line| if line.starts_with('-') { format!("- {line}") } else { line.to_owned() })
        .collect();
    format!(
        "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n{}\n{}",
        escaped.join("\n"),
        armour("SIGNATURE", &packets)
    )
}
