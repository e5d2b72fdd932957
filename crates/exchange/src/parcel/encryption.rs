//! Parcels for certain people only: encrypted to their SSH or age keys, in the age format (age-encryption.org/v1).
//!
//! What is inside is the same parcel; the file around it is another one each time, since its key is new.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read as _, Seek as _, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use age::secrecy::SecretString;
use age::{DecryptError, Decryptor, Encryptor, Identity, ssh, x25519};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD};
use cavrith_core::digest::Sha256Digest;
use cavrith_store::reading;

use crate::ExchangeError;
use crate::error::writing;

/// How an encrypted file begins.
const START: &[u8] = b"age-encryption.org/v1\n";
/// How the last line of its header begins.
const LAST_LINE: &[u8] = b"\n--- ";
/// Bytes that its header may have: a few hundred for each key.
const LONGEST_HEADER: u64 = 1 << 20;
/// Bytes of a file of keys.
const LONGEST_KEYS: u64 = 1 << 20;
/// How a key's secret part begins, so that it is not taken for the other one.
const SECRET: [&str; 2] = ["AGE-SECRET-KEY-", "-----BEGIN"];

/// Whose keys a parcel is encrypted to.
#[derive(Default)]
pub struct Recipients(Vec<Box<dyn age::Recipient>>);

impl std::fmt::Debug for Recipients {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Recipients({})", self.0.len())
    }
}

impl Recipients {
    /// Reads public keys: each `text` is one (`ssh-ed25519 …`, `ssh-rsa …`, `age1…`), or names a file with one a line,
    /// as in `authorized_keys`.
    ///
    /// # Errors
    /// When something is not a key that can be encrypted to.
    pub fn parse(texts: &[String]) -> Result<Self, ExchangeError> {
        let mut keys: Vec<Box<dyn age::Recipient>> = Vec::new();
        for text in texts {
            if text.starts_with("age1") || text.starts_with("ssh-") || text.starts_with("ecdsa-") {
                keys.push(recipient(text)?);
                continue;
            }
            let bad = |why: String| ExchangeError::Key { text: text.clone(), why };
            let bytes = reading::bounded(Path::new(text), LONGEST_KEYS)
                .map_err(|error| bad(format!("it is neither a public key nor a file of some: {error}")))?;
            let lines = String::from_utf8_lossy(&bytes);
            let lines = lines.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
            let before = keys.len();
            for line in lines {
                if SECRET.iter().any(|start| line.starts_with(start)) {
                    let why = "it has a private key, which is nobody else's; name the public one, the file that ends with .pub";
                    return Err(bad(why.to_owned()));
                }
                keys.push(recipient(line)?);
            }
            if keys.len() == before {
                return Err(bad("the file has no key".to_owned()));
            }
        }
        Ok(Self(keys))
    }

    /// Whether there are none, so that a parcel is for everybody.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Lets `write` write into `to`, encrypted to these keys; as it is when there are none.
    pub(crate) fn encrypting<T>(
        &self,
        to: &mut dyn Write,
        name: &Path,
        write: impl FnOnce(&mut dyn Write) -> Result<T, ExchangeError>,
    ) -> Result<T, ExchangeError> {
        if self.is_empty() {
            return write(to);
        }
        let encryptor = Encryptor::with_recipients(self.0.iter().map(AsRef::as_ref))
            .map_err(|error| ExchangeError::Work(format!("the keys do not go together: {error}")))?;
        let mut encrypted = encryptor.wrap_output(to).map_err(writing(name))?;
        let outcome = write(&mut encrypted)?;
        encrypted.finish().map_err(writing(name))?;
        Ok(outcome)
    }
}

fn recipient(text: &str) -> Result<Box<dyn age::Recipient>, ExchangeError> {
    let bad = |why: &str| ExchangeError::Key { text: text.to_owned(), why: why.to_owned() };
    if text.starts_with("age1") {
        let key: Result<x25519::Recipient, _> = text.parse();
        return match key {
            Ok(key) => Ok(Box::new(key)),
            Err(why) => Err(bad(&format!("it is no age key: {why}"))),
        };
    }
    match text.parse::<ssh::Recipient>() {
        Ok(key) => Ok(Box::new(key)),
        Err(ssh::ParseRecipientKeyError::RsaModulusTooLarge) => Err(bad("its RSA modulus is longer than 4096 bits")),
        Err(ssh::ParseRecipientKeyError::RsaModulusTooSmall) => Err(bad("its RSA modulus is too short to be safe")),
        Err(_) => Err(bad("only ssh-ed25519, ssh-rsa and age1 keys can be encrypted to")),
    }
}

/// Whether a file is encrypted.
pub fn is_encrypted(path: &Path) -> bool {
    let mut start = [0; START.len()];
    let read = reading::open(path).and_then(|mut file| file.read_exact(&mut start));
    read.is_ok() && starts_encrypted(&start)
}

/// Whether something that begins with these bytes is encrypted.
pub(crate) fn starts_encrypted(start: &[u8]) -> bool {
    start.starts_with(START)
}

/// How the passphrase of a key is asked for, by the name of the key's file.
pub type Ask = fn(&str) -> Option<String>;

type Identities = Vec<Box<dyn Identity>>;

/// A member's private keys.
#[derive(Debug, Clone)]
pub struct Keys {
    /// Files with keys that were named, which have to be there.
    pub named: Vec<PathBuf>,
    /// Files that may be there.
    pub usual: Vec<PathBuf>,
    /// How to ask for a passphrase.
    pub ask: Ask,
}

impl Keys {
    /// Decrypts a file into another one, which nobody else can read and which is not there yet.
    ///
    /// # Errors
    /// When none of the keys opens it, it is damaged, or the disk refuses.
    pub fn decrypt(&self, path: &Path, to: &Path) -> Result<(), ExchangeError> {
        use std::os::unix::fs::OpenOptionsExt as _;
        let bad = |why: String| ExchangeError::Parcel { path: path.to_owned(), why };
        let mut file = reading::open(path).map_err(|error| bad(error.to_string()))?;
        let mut header = Vec::new();
        (&file).take(LONGEST_HEADER).read_to_end(&mut header).map_err(|error| bad(error.to_string()))?;
        if !header.windows(LAST_LINE.len()).any(|part| part == LAST_LINE) {
            return Err(bad("it begins like an encrypted file, and its header has no end".to_owned()));
        }
        file.rewind().map_err(|error| bad(error.to_string()))?;
        let damaged = || bad("it is encrypted, and damaged".to_owned());
        let decryptor = Decryptor::new(io::BufReader::new(file)).map_err(|_| damaged())?;
        if decryptor.is_scrypt() {
            return Err(
                bad("it is encrypted with a passphrase; a parcel is encrypted to keys (pack --for)".to_owned()),
            );
        }
        let asked = Arc::new(Mutex::new(Asked::default()));
        let (identities, tried) = self.identities(&header, &asked)?;
        let decrypted = decryptor.decrypt(identities.iter().map(AsRef::as_ref));
        let mut plain = decrypted.map_err(|error| match error {
            DecryptError::NoMatchingKeys => {
                match asked.lock().unwrap_or_else(PoisonError::into_inner).unanswered.take() {
                    Some(key) => {
                        bad(format!("{key} opens it with its passphrase, and there is no terminal to ask for that"))
                    }
                    None => ExchangeError::NoKey { path: path.to_owned(), tried },
                }
            }
            DecryptError::KeyDecryptionFailed => bad("the passphrase does not open your key".to_owned()),
            DecryptError::Io(error) => bad(error.to_string()),
            _ => damaged(),
        })?;
        let mut out = File::options().write(true).create_new(true).mode(0o600).open(to).map_err(writing(to))?;
        let mut buffer = vec![0; 1 << 16];
        let mut copy = || loop {
            let count = plain.read(&mut buffer).map_err(|_| damaged())?;
            if count == 0 {
                return Ok(());
            }
            out.write_all(&buffer[..count]).map_err(writing(to))?;
        };
        // Half of it is of no use, and need not lie about.
        copy().inspect_err(|_| drop(std::fs::remove_file(to)))
    }

    /// The keys, and where they were looked for.
    fn identities(&self, header: &[u8], asked: &Shared) -> Result<(Identities, Vec<PathBuf>), ExchangeError> {
        let (mut identities, mut tried) = (Vec::new(), Vec::new());
        for path in &self.named {
            identities.extend(self.read(path, header, asked)?);
            tried.push(path.clone());
        }
        for path in self.usual.iter().filter(|path| path.exists()) {
            // One of another kind is for other things.
            identities.extend(self.read(path, header, asked).unwrap_or_default());
            tried.push(path.clone());
        }
        Ok((identities, tried))
    }

    fn read(&self, path: &Path, header: &[u8], asked: &Shared) -> Result<Identities, ExchangeError> {
        let name = path.display().to_string();
        let bad = |why: &str| ExchangeError::Key { text: name.clone(), why: why.to_owned() };
        let bytes = reading::bounded(path, LONGEST_KEYS).map_err(|error| bad(&error.to_string()))?;
        let text = String::from_utf8_lossy(&bytes);
        if text.starts_with("-----BEGIN") {
            let identity = ssh::Identity::from_buffer(bytes.as_slice(), Some(name.clone()))
                .map_err(|error| bad(&format!("it is no private key of SSH: {error}")))?;
            return match identity {
                ssh::Identity::Unsupported(_) => {
                    Err(bad("keys of this kind cannot decrypt; use one of ssh-keygen -t ed25519 or -t rsa"))
                }
                // Nobody is asked for the passphrase of a key that opens nothing.
                ssh::Identity::Encrypted(_) if tag(&text).is_some_and(|tag| !names(header, &tag)) => Ok(Vec::new()),
                identity => {
                    let asking = Asking { ask: self.ask, key: name.clone(), asked: asked.clone() };
                    Ok(vec![Box::new(identity.with_callbacks(asking))])
                }
            };
        }
        let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
        let mut identities: Identities = Vec::new();
        for line in lines {
            let identity: x25519::Identity =
                line.parse().map_err(|_| bad("it has neither a private key of SSH nor one of age"))?;
            identities.push(Box::new(identity));
        }
        if identities.is_empty() { Err(bad("the file has no key")) } else { Ok(identities) }
    }
}

/// What names a key of SSH in a header: the first four bytes of the SHA-256 of its public part (age-encryption.org/v1,
/// "ssh-ed25519 recipient stanza"), which an encrypted private key has in the clear (PROTOCOL.key of OpenSSH).
fn tag(text: &str) -> Option<String> {
    let body: String = text.lines().filter(|line| !line.starts_with("-----")).map(str::trim).collect();
    let bytes = STANDARD.decode(body).ok()?;
    let mut rest = bytes.strip_prefix(b"openssh-key-v1\0")?;
    let mut string = || {
        let (length, after) = rest.split_first_chunk::<4>()?;
        let (string, after) = after.split_at_checked(u32::from_be_bytes(*length) as usize)?;
        rest = after;
        Some(string)
    };
    let (_cipher, _derivation, _options) = (string()?, string()?, string()?);
    let mut rest = rest.get(4..)?;
    let (length, after) = rest.split_first_chunk::<4>()?;
    rest = after.get(..u32::from_be_bytes(*length) as usize)?;
    Some(STANDARD_NO_PAD.encode(&Sha256Digest::of(rest).as_bytes()[..4]))
}

/// Whether a header has something for a key of SSH.
fn names(header: &[u8], tag: &str) -> bool {
    let lines = header.split(|byte| *byte == b'\n').take_while(|line| !line.starts_with(b"---"));
    lines
        .filter_map(|line| line.strip_prefix(b"-> ssh-"))
        .any(|line| line.split(|byte| *byte == b' ').nth(1) == Some(tag.as_bytes()))
}

/// What came of asking for passphrases.
#[derive(Default)]
struct Asked {
    /// By key.
    answers: BTreeMap<String, SecretString>,
    /// A key whose passphrase nobody could be asked for.
    unanswered: Option<String>,
}

type Shared = Arc<Mutex<Asked>>;

/// Asks for the passphrase of one key, once.
#[derive(Clone)]
struct Asking {
    ask: Ask,
    key: String,
    asked: Shared,
}

impl age::Callbacks for Asking {
    fn display_message(&self, _: &str) {}

    fn confirm(&self, _: &str, _: &str, _: Option<&str>) -> Option<bool> {
        None
    }

    fn request_public_string(&self, _: &str) -> Option<String> {
        None
    }

    fn request_passphrase(&self, _: &str) -> Option<SecretString> {
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(answer) = asked.answers.get(&self.key) {
            return Some(answer.clone());
        }
        let Some(answer) = (self.ask)(&self.key) else {
            asked.unanswered = Some(self.key.clone());
            return None;
        };
        let answer = SecretString::from(answer);
        asked.answers.insert(self.key.clone(), answer.clone());
        Some(answer)
    }
}
