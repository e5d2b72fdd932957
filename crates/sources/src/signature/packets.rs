//! OpenPGP packets (RFC 9580, sections 4 and 5), as far as verifying a signature takes: framing, public keys,
//! signatures.

use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA256, digest};

/// What is wrong with the bytes.
pub type Malformed = &'static str;

/// Packet types that are examined (section 5).
pub mod tag {
    pub const SIGNATURE: u8 = 2;
    pub const SECRET_KEY: u8 = 5;
    pub const PUBLIC_KEY: u8 = 6;
    pub const SECRET_SUBKEY: u8 = 7;
    pub const USER_ID: u8 = 13;
    pub const PUBLIC_SUBKEY: u8 = 14;
    pub const USER_ATTRIBUTE: u8 = 17;
}

/// Takes bytes from the front.
#[derive(Clone, Copy)]
pub struct Bytes<'a>(pub &'a [u8]);

impl<'a> Bytes<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], Malformed> {
        let (front, rest) = self.0.split_at_checked(count).ok_or("a packet ends early")?;
        self.0 = rest;
        Ok(front)
    }

    /// A big-endian number of up to four octets.
    fn number(&mut self, octets: usize) -> Result<u32, Malformed> {
        Ok(self.take(octets)?.iter().fold(0, |number, byte| (number << 8) | u32::from(*byte)))
    }

    fn octet(&mut self) -> Result<u8, Malformed> {
        Ok(self.take(1)?[0])
    }

    /// Bytes that follow their own length.
    fn counted(&mut self, octets: usize) -> Result<&'a [u8], Malformed> {
        let length = self.number(octets)?;
        self.take(length as usize)
    }

    /// A multiprecision integer without leading zeros (section 3.2).
    fn integer(&mut self) -> Result<&'a [u8], Malformed> {
        let bits = self.number(2)? as usize;
        let bytes = self.take(bits.div_ceil(8))?;
        let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
        Ok(&bytes[zeros..])
    }

    /// The length of a packet in the present format, or of a subpacket (sections 4.2.1 and 5.2.3.7).
    fn length(&mut self, subpacket: bool) -> Result<u32, Malformed> {
        Ok(match self.octet()? {
            short @ 0..=191 => short.into(),
            255 => self.number(4)?,
            first @ 192.. if subpacket || first < 224 => {
                ((u32::from(first) - 192) << 8) + u32::from(self.octet()?) + 192
            }
            _ => return Err("a packet comes in parts, which keys and signatures may not"),
        })
    }

    /// The next packet: its type and its content.
    pub fn packet(&mut self) -> Option<Result<(u8, &'a [u8]), Malformed>> {
        (!self.0.is_empty()).then(|| {
            let first = self.octet()?;
            if first & 0x80 == 0 {
                return Err("it is no OpenPGP data");
            }
            if first & 0x40 != 0 {
                let length = self.length(false)?;
                return Ok((first & 0x3f, self.take(length as usize)?));
            }
            let length = match first & 3 {
                0 => self.number(1)?,
                1 => self.number(2)?,
                2 => self.number(4)?,
                _ => return Err("a packet has no length, which keys and signatures must have"),
            };
            Ok(((first >> 2) & 0xf, self.take(length as usize)?))
        })
    }
}

/// What a public key consists of.
#[derive(Debug, Clone)]
pub enum Material {
    /// Modulus and exponent.
    Rsa(Vec<u8>, Vec<u8>),
    Ed25519(Vec<u8>),
    /// An uncompressed point.
    P256(Vec<u8>),
    P384(Vec<u8>),
    /// An algorithm or curve that is not verified here, by the algorithm's number (section 9.1).
    Other(u8),
}

/// A public key or subkey (section 5.5.2), version 4 or 6.
#[derive(Debug, Clone)]
pub struct PublicKey {
    pub version: u8,
    /// Seconds since 1970.
    pub created: u64,
    pub material: Material,
    /// SHA-1 of version 4, SHA-256 of version 6 (section 5.5.4).
    pub fingerprint: Vec<u8>,
    body: Vec<u8>,
}

/// Object identifiers of curves (section 9.2).
const ED25519_LEGACY: &[u8] = &[0x2b, 0x06, 0x01, 0x04, 0x01, 0xda, 0x47, 0x0f, 0x01];
const P256: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07];
const P384: &[u8] = &[0x2b, 0x81, 0x04, 0x00, 0x22];

impl PublicKey {
    /// Reads one; `None` for a version that is not verified here.
    pub fn read(body: &[u8]) -> Result<Option<Self>, Malformed> {
        let mut bytes = Bytes(body);
        let version = bytes.octet()?;
        if version != 4 && version != 6 {
            return Ok(None);
        }
        let created = bytes.number(4)?.into();
        let algorithm = bytes.octet()?;
        if version == 6 {
            bytes = Bytes(bytes.counted(4)?);
        }
        let material = match algorithm {
            1 | 3 => Material::Rsa(bytes.integer()?.to_vec(), bytes.integer()?.to_vec()),
            19 => match (bytes.counted(1)?, bytes.integer()?) {
                (P256, point) => Material::P256(point.to_vec()),
                (P384, point) => Material::P384(point.to_vec()),
                _ => Material::Other(algorithm),
            },
            22 => match (bytes.counted(1)?, bytes.integer()?) {
                (ED25519_LEGACY, [0x40, point @ ..]) => Material::Ed25519(point.to_vec()),
                _ => Material::Other(algorithm),
            },
            27 => Material::Ed25519(bytes.take(32)?.to_vec()),
            _ => Material::Other(algorithm),
        };
        let mut key = Self { version, created, material, fingerprint: Vec::new(), body: body.to_vec() };
        let algorithm = if version == 4 { &SHA1_FOR_LEGACY_USE_ONLY } else { &SHA256 };
        let mut whole = Vec::new();
        key.hashed(&mut whole);
        key.fingerprint = digest(algorithm, &whole).as_ref().to_vec();
        Ok(Some(key))
    }

    /// Adds the key as signatures over it take it (section 5.2.4).
    pub fn hashed(&self, into: &mut Vec<u8>) {
        let length = u32::try_from(self.body.len()).unwrap_or(u32::MAX).to_be_bytes();
        if self.version == 4 {
            into.push(0x99);
            into.extend(&length[2..]);
        } else {
            into.push(0x9b);
            into.extend(length);
        }
        into.extend(&self.body);
    }

    /// The eight octets by which signatures may name it.
    pub fn id(&self) -> &[u8] {
        if self.version == 4 { &self.fingerprint[12..] } else { &self.fingerprint[..8] }
    }
}

/// Digest algorithms that are taken (section 9.5). SHA-1 and MD5 are not safe any more, for nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hash {
    Sha256,
    Sha384,
    Sha512,
}

/// Types of signatures that are examined (section 5.2.1).
pub mod kind {
    pub const BINARY: u8 = 0x00;
    pub const TEXT: u8 = 0x01;
    pub const CERTIFICATIONS: std::ops::RangeInclusive<u8> = 0x10..=0x13;
    pub const SUBKEY_BINDING: u8 = 0x18;
    pub const PRIMARY_BINDING: u8 = 0x19;
    pub const DIRECT: u8 = 0x1f;
    pub const KEY_REVOCATION: u8 = 0x20;
    pub const SUBKEY_REVOCATION: u8 = 0x28;
}

/// A signature (section 5.2), version 4 or 6.
#[derive(Debug, Clone)]
pub struct Signature {
    pub kind: u8,
    /// `None` for a digest that is not taken.
    pub hash: Option<Hash>,
    /// The algorithm's number.
    pub algorithm: u8,
    /// What stands after the fields, by algorithm.
    pub material: Vec<u8>,
    /// Seconds since 1970.
    pub created: u64,
    /// Seconds after `created`; 0 for ever.
    pub lasts: u64,
    /// Seconds that the key lasts after it was made; 0 for ever.
    pub key_lasts: u64,
    /// What the key may do (section 5.2.3.29), when it is said.
    pub flags: Option<u8>,
    /// A signature within the signature, which proves itself.
    pub embedded: Option<Box<Signature>>,
    /// Has something that must be understood and is not.
    pub strange: bool,
    issuers: Vec<Vec<u8>>,
    /// What goes into the digest before and after the data.
    salt: Vec<u8>,
    trailer: Vec<u8>,
}

/// The flag of a key that signs data.
const MAY_SIGN: u8 = 0x02;

impl Signature {
    /// Reads one; `None` for a version that is not verified here.
    pub fn read(body: &[u8]) -> Result<Option<Self>, Malformed> {
        Self::read_within(body, 0)
    }

    fn read_within(body: &[u8], depth: u8) -> Result<Option<Self>, Malformed> {
        let mut bytes = Bytes(body);
        let version = bytes.octet()?;
        if version != 4 && version != 6 {
            return Ok(None);
        }
        let octets = if version == 4 { 2 } else { 4 };
        let (kind, algorithm, digest) = (bytes.octet()?, bytes.octet()?, bytes.octet()?);
        let hash = match digest {
            8 => Some(Hash::Sha256),
            9 => Some(Hash::Sha384),
            10 => Some(Hash::Sha512),
            _ => None,
        };
        let hashed = bytes.counted(octets)?;
        let mut trailer = body[..4 + octets + hashed.len()].to_vec();
        let length = u32::try_from(trailer.len()).map_err(|_| "a signature is too long")?;
        trailer.extend([version, 0xff]);
        trailer.extend(length.to_be_bytes());
        let unhashed = bytes.counted(octets)?;
        bytes.take(2)?;
        let salt = if version == 6 { bytes.counted(1)?.to_vec() } else { Vec::new() };
        let mut signature = Self {
            kind,
            hash,
            algorithm,
            material: bytes.0.to_vec(),
            created: 0,
            lasts: 0,
            key_lasts: 0,
            flags: None,
            embedded: None,
            strange: false,
            issuers: Vec::new(),
            salt,
            trailer,
        };
        signature.subpackets(hashed, true, depth)?;
        signature.subpackets(unhashed, false, depth)?;
        Ok(Some(signature))
    }

    /// Reads subpackets (section 5.2.3). Those that nobody signed only say what proves itself: who may have made the
    /// signature, and one within it.
    fn subpackets(&mut self, area: &[u8], hashed: bool, depth: u8) -> Result<(), Malformed> {
        let mut area = Bytes(area);
        while !area.0.is_empty() {
            let length = area.length(true)?;
            let mut content = Bytes(area.take(length as usize)?);
            let first = content.octet()?;
            match (first & 0x7f, hashed) {
                (16, _) => self.issuers.push(content.take(8)?.to_vec()),
                (33, _) => self.issuers.push(content.0.get(1..).unwrap_or_default().to_vec()),
                // One level is enough: it is for the subkey's word that it belongs to its primary key.
                (32, _) if depth == 0 => self.embedded = Self::read_within(content.0, 1)?.map(Box::new),
                (2, true) => self.created = content.number(4)?.into(),
                (3, true) => self.lasts = content.number(4)?.into(),
                (9, true) => self.key_lasts = content.number(4)?.into(),
                (27, true) => self.flags = Some(content.0.first().copied().unwrap_or(0)),
                // What the rest says (preferences, reasons, features) decides nothing here.
                (4..=7 | 10..=12 | 21..=26 | 28..=32 | 34 | 35 | 39, true) => {}
                (_, true) => self.strange |= first & 0x80 != 0,
                (_, false) => {}
            }
        }
        Ok(())
    }

    /// Whether it says that this key made it.
    pub fn names(&self, key: &PublicKey) -> bool {
        self.issuers.iter().any(|issuer| *issuer == key.fingerprint || *issuer == key.id())
    }

    /// The issuer as people compare it: the longest name that the signature has for it.
    pub fn issuer(&self) -> Option<String> {
        let longest = self.issuers.iter().max_by_key(|issuer| issuer.len())?;
        Some(longest.iter().map(|byte| format!("{byte:02X}")).collect())
    }

    /// Everything that the digest is made of, for this data (section 5.2.4).
    pub fn message(&self, data: &[u8]) -> Vec<u8> {
        [&self.salt, data, &self.trailer].concat()
    }

    /// Whether its key may sign data, by what it says of the key.
    pub fn lets_sign(&self) -> bool {
        self.flags.is_none_or(|flags| flags & MAY_SIGN != 0)
    }

    /// The integers that it consists of, `count` of them.
    pub fn integers(&self, count: usize) -> Result<Vec<&[u8]>, Malformed> {
        let mut bytes = Bytes(&self.material);
        (0..count).map(|_| bytes.integer()).collect()
    }
}
