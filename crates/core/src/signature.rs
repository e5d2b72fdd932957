//! Signatures with the keys that people log in with: SSH keys and the format SSHSIG (OpenSSH, `PROTOCOL.sshsig`).
//!
//! Each kind of text has a *namespace* of its own, so a signature under one is none under another. What is signed is
//! always a whole text that says what it is; see [`crate::seal`] and [`crate::team`].

use std::fmt;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rsa::signature::{SignatureEncoding as _, Signer as _};
use rsa::{BigUint, RsaPrivateKey};
use ssh_key::private::KeypairData;
use ssh_key::public::KeyData;
use ssh_key::{Algorithm, HashAlg, Mpint, PrivateKey, SshSig};

/// Bits that an RSA key must have (NIST SP 800-57 part 1, table 2).
const LEAST_RSA_BITS: usize = 2048;

const BEGIN: &str = "-----BEGIN SSH SIGNATURE-----";
const END: &str = "-----END SSH SIGNATURE-----";

/// A text that is not a public key with which something may be signed here.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadKey {
    /// It is no public key at all.
    #[error("it is not an OpenSSH public key, which is one line such as `ssh-ed25519 AAAA… name`")]
    Unreadable,
    /// It is a private key.
    #[error("it is a private key; never give it to anybody, and write the line of its .pub file here")]
    Private,
    /// Its algorithm proves nothing any more, or is not known.
    #[error("{0} keys are not accepted; use an Ed25519, ECDSA or RSA key, or a security key")]
    Algorithm(String),
    /// It is too short.
    #[error("it is an RSA key of {0} bits, and 2048 are needed")]
    Short(usize),
}

/// What a signature is not.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadSignature {
    /// It cannot be read.
    #[error("the signature cannot be read")]
    Unreadable,
    /// It was made for another purpose.
    #[error("the signature was made for another purpose ({0})")]
    Namespace(String),
    /// Its key is none that may sign.
    #[error("the key of the signature cannot be used: {0}")]
    Key(BadKey),
    /// It is not of this text by this key.
    #[error("the signature does not fit: what it was made for was changed")]
    Wrong,
    /// The security key was not touched.
    #[error("the security key signed without being touched")]
    Untouched,
}

/// Why a private key does not sign.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CannotSign {
    /// It is encrypted.
    #[error("it is encrypted with a passphrase")]
    Encrypted,
    /// It lies in a device.
    #[error("it lies in a security key, which signs through the SSH agent only; add it with ssh-add")]
    Device,
    /// Nobody would accept it.
    #[error("{0}")]
    Key(BadKey),
    /// The arithmetic refuses it.
    #[error("it is damaged")]
    Failed,
}

/// The public half of a key, without its comment.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PublicKey(KeyData);

impl PublicKey {
    /// Reads the line of a `.pub` file (sshd(8), AUTHORIZED_KEYS FILE FORMAT, without options).
    ///
    /// # Errors
    /// When it is none, or of a kind that proves nothing.
    pub fn parse(text: &str) -> Result<Self, BadKey> {
        if text.contains("PRIVATE KEY") {
            return Err(BadKey::Private);
        }
        let key = ssh_key::PublicKey::from_openssh(text.trim()).map_err(|_| BadKey::Unreadable)?;
        Self::of(key.key_data().clone())
    }

    /// A key that was read already.
    ///
    /// # Errors
    /// When it is of a kind that proves nothing.
    pub fn of(data: KeyData) -> Result<Self, BadKey> {
        match &data {
            KeyData::Rsa(key) => {
                // A multiple-precision integer may begin with a byte that only keeps it positive (RFC 4251, section 5).
                let bytes = key.n.as_positive_bytes().unwrap_or_default();
                let bits = bytes.first().map_or(0, |first| bytes.len() * 8 - first.leading_zeros() as usize);
                if bits < LEAST_RSA_BITS {
                    return Err(BadKey::Short(bits));
                }
            }
            KeyData::Ed25519(_) | KeyData::Ecdsa(_) | KeyData::SkEd25519(_) | KeyData::SkEcdsaSha2NistP256(_) => {}
            other => return Err(BadKey::Algorithm(other.algorithm().to_string())),
        }
        Ok(Self(data))
    }

    /// The key itself.
    pub fn data(&self) -> &KeyData {
        &self.0
    }

    /// Its fingerprint as OpenSSH writes it: `SHA256:` and 43 letters.
    pub fn fingerprint(&self) -> String {
        self.0.fingerprint(HashAlg::Sha256).to_string()
    }

    /// Whether the key itself lies in a device that somebody has to touch.
    pub fn is_security_key(&self) -> bool {
        matches!(self.0, KeyData::SkEd25519(_) | KeyData::SkEcdsaSha2NistP256(_))
    }
}

/// The algorithm and the key, as in the line of a `.pub` file without its comment.
impl fmt::Display for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let key = ssh_key::PublicKey::from(self.0.clone());
        f.write_str(&key.to_openssh().map_err(|_| fmt::Error)?)
    }
}

impl serde::Serialize for PublicKey {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> serde::Deserialize<'de> for PublicKey {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = <String as serde::Deserialize>::deserialize(deserializer)?;
        Self::parse(&text).map_err(serde::de::Error::custom)
    }
}

/// The bytes over which a key has to make its signature so that it is one of `text` (`PROTOCOL.sshsig`, section 3).
pub fn to_be_signed(namespace: &str, text: &[u8]) -> Vec<u8> {
    SshSig::signed_data(namespace, HashAlg::Sha512, text).unwrap_or_default()
}

/// A signature in the format SSHSIG, written in base64 without its armour.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(transparent)]
pub struct Signature(String);

impl Signature {
    /// With its armour (`PROTOCOL.sshsig`, section 1), as `ssh-keygen -Y verify` takes it.
    pub fn armoured(&self) -> String {
        let letters: Vec<char> = self.0.chars().collect();
        let lines: Vec<String> = letters.chunks(70).map(|line| line.iter().collect()).collect();
        format!("{BEGIN}\n{}\n{END}\n", lines.join("\n"))
    }

    /// Writes one (`PROTOCOL.sshsig`, section 2). The crate that reads them puts flags and counter of an ECDSA key in a
    /// device inside of the signature's text, where they belong behind it (`PROTOCOL.u2f`, SSH U2F Signatures).
    fn of(signature: &SshSig) -> Self {
        let mut all = b"SSHSIG".to_vec();
        let string = |all: &mut Vec<u8>, bytes: &[u8]| {
            all.extend(u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes());
            all.extend(bytes);
        };
        let (made, algorithm) = (signature.signature_bytes(), signature.algorithm());
        let is_device = matches!(algorithm, Algorithm::SkEd25519 | Algorithm::SkEcdsaSha2NistP256);
        // A byte of flags, and a counter of four.
        let behind = made.len().saturating_sub(if is_device { 5 } else { 0 });
        let mut own = Vec::new();
        string(&mut own, algorithm.as_str().as_bytes());
        string(&mut own, &made[..behind]);
        own.extend(&made[behind..]);
        let key = ssh_key::PublicKey::from(signature.public_key().clone()).to_bytes().unwrap_or_default();
        all.extend(signature.version().to_be_bytes());
        string(&mut all, &key);
        string(&mut all, signature.namespace().as_bytes());
        string(&mut all, signature.reserved());
        string(&mut all, signature.hash_alg().as_str().as_bytes());
        string(&mut all, &own);
        Self(STANDARD.encode(all))
    }

    /// Takes the armour off.
    pub fn of_armoured(text: &str) -> Self {
        Self(text.lines().map(str::trim).filter(|line| !line.starts_with("-----")).collect())
    }
}

/// The signature of what a key made over [`to_be_signed`]; `raw` is a
/// signature as RFC 4253, section 6.6, writes it.
///
/// # Errors
/// When `raw` is none.
pub fn of_raw(key: &PublicKey, namespace: &str, raw: &[u8]) -> Result<Signature, BadSignature> {
    let signature = ssh_key::Signature::try_from(raw).map_err(|_| BadSignature::Unreadable)?;
    let signature =
        SshSig::new(key.0.clone(), namespace, HashAlg::Sha512, signature).map_err(|_| BadSignature::Unreadable)?;
    Ok(Signature::of(&signature))
}

/// Signs a text with a key that lies in a file.
///
/// # Errors
/// When it is still encrypted, cannot sign by itself as those of devices, or is refused by [`PublicKey::of`].
pub fn sign(key: &PrivateKey, namespace: &str, text: &[u8]) -> Result<Signature, CannotSign> {
    let public = PublicKey::of(key.public_key().key_data().clone()).map_err(CannotSign::Key)?;
    if key.is_encrypted() {
        return Err(CannotSign::Encrypted);
    }
    if public.is_security_key() {
        return Err(CannotSign::Device);
    }
    let data = to_be_signed(namespace, text);
    let failed = |_| CannotSign::Failed;
    let raw = match key.key_data() {
        // The crate that reads keys takes one prime for both (version 0.6.7), and then refuses the key.
        KeypairData::Rsa(pair) => {
            let number = |number: &Mpint| BigUint::from_bytes_be(number.as_positive_bytes().unwrap_or_default());
            let (public, private) = (&pair.public, &pair.private);
            let primes = vec![number(&private.p), number(&private.q)];
            let key = RsaPrivateKey::from_components(number(&public.n), number(&public.e), number(&private.d), primes)
                .map_err(|_| CannotSign::Failed)?;
            let signed = rsa::pkcs1v15::SigningKey::<rsa::sha2::Sha512>::new(key).sign(&data);
            let algorithm = Algorithm::Rsa { hash: Some(HashAlg::Sha512) };
            ssh_key::Signature::new(algorithm, signed.to_vec()).map_err(|_| CannotSign::Failed)?
        }
        _ => key.try_sign(&data).map_err(failed)?,
    };
    let signature = SshSig::new(public.0, namespace, HashAlg::Sha512, raw).map_err(|_| CannotSign::Failed)?;
    Ok(Signature::of(&signature))
}

/// Signs a text with an Ed25519 key that is made of these bytes, and is nobody's.
///
/// # Errors
/// As [`sign`].
pub fn sign_once(seed: &[u8; 32], namespace: &str, text: &[u8]) -> Result<(Signature, PublicKey), CannotSign> {
    let key = PrivateKey::from(ssh_key::private::Ed25519Keypair::from_seed(seed));
    let public = PublicKey::of(key.public_key().key_data().clone()).map_err(CannotSign::Key)?;
    Ok((sign(&key, namespace, text)?, public))
}

/// The key that signed a text under a namespace. Whether that key may is for the caller to say.
///
/// # Errors
/// When the signature is none of this text under this namespace.
pub fn signer(armoured: &str, namespace: &str, text: &[u8]) -> Result<PublicKey, BadSignature> {
    let signature = SshSig::from_pem(armoured.trim()).map_err(|_| BadSignature::Unreadable)?;
    // The reader is lenient with lengths and versions; one signature has one text.
    if Signature::of(&signature) != Signature::of_armoured(armoured) || signature.version() != 1 {
        return Err(BadSignature::Unreadable);
    }
    if signature.namespace() != namespace {
        return Err(BadSignature::Namespace(crate::path::shown(signature.namespace().as_bytes())));
    }
    let key = PublicKey::of(signature.public_key().clone()).map_err(BadSignature::Key)?;
    // RSA with SHA-1 is called `ssh-rsa`; SSHSIG forbids it (section 3).
    if matches!(signature.signature().algorithm(), Algorithm::Rsa { hash: None }) {
        return Err(BadSignature::Wrong);
    }
    ssh_key::PublicKey::from(key.0.clone()).verify(namespace, text, &signature).map_err(|_| BadSignature::Wrong)?;
    // The flags before the counter at the end (OpenSSH, `PROTOCOL.u2f`, SSH U2F Signatures); bit 0: somebody was there.
    let flags = signature.signature_bytes().iter().rev().nth(4);
    if key.is_security_key() && flags.is_none_or(|flags| flags & 1 == 0) {
        return Err(BadSignature::Untouched);
    }
    Ok(key)
}
