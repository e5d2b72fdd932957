//! Signing with a member's own SSH key: one that their agent holds, or one in a file.
//!
//! Which key is meant is mostly clear without being said: the one that the team names for somebody who may sign this.

use std::env;
use std::io::{self, Read as _, Write as _};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use ssh_key::PrivateKey;

use cavrith_core::signature::{self, PublicKey, Signature};
use cavrith_core::team::{Role, Team};
use cavrith_sandbox::programs::find_program;
use cavrith_store::reading;

use crate::error::{EngineError, TeamError, plain};

/// Bytes of a key's file.
const LONGEST_KEY: u64 = 1 << 20;
/// Bytes of an agent's answer (OpenSSH's own agents keep to this).
const LONGEST_ANSWER: usize = 256 << 10;
/// How long an agent may take; a person may have to touch a device, or to type a PIN.
const PATIENCE: Duration = Duration::from_secs(120);
/// Names of keys in `~/.ssh` (ssh(1), FILES).
const USUAL: [&str; 3] = ["id_ed25519", "id_ecdsa", "id_rsa"];

/// Which key signs.
#[derive(Clone, Copy)]
pub struct KeyChoice<'a> {
    /// A private key's file, or a public one's whose private half is beside it or with the agent.
    pub named: Option<&'a Path>,
    /// Asks for the passphrase of a key, where somebody can be asked.
    pub ask: fn(&str) -> Option<String>,
}

impl std::fmt::Debug for KeyChoice<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "KeyChoice({:?})", self.named)
    }
}

/// Somebody's key that is at hand.
pub struct SigningKey {
    /// Their name in the team.
    pub name: String,
    key: PublicKey,
    place: Place,
}

impl std::fmt::Debug for SigningKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SigningKey({})", self.key.fingerprint())
    }
}

enum Place {
    Agent,
    File(PathBuf, Box<PrivateKey>),
    /// In a file that OpenSSH can read, and we cannot.
    OpenSsh(PathBuf),
}

/// A private key in a file.
enum Held {
    Read(Box<PrivateKey>),
    /// Not by us: an older format, or a number that is shorter than usual (`ssh-key` 0.6.7 refuses those).
    Unread,
}

/// A key of somebody in the team who has a role.
///
/// # Errors
/// When none is at hand, or the named one may not.
pub fn find(team: &Team, role: Role, choice: KeyChoice<'_>) -> Result<SigningKey, EngineError> {
    let may: Vec<_> = team.people.iter().filter(|(_, person)| person.roles.contains(&role)).collect();
    let names = || may.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>().join(", ");
    let owner =
        |key: &PublicKey| may.iter().find(|(_, person)| person.keys.contains(key)).map(|(name, _)| (*name).clone());
    if let Some(path) = choice.named {
        let (key, place) = named(path, choice.ask)?;
        let name = owner(&key).ok_or_else(|| TeamError::NoKey {
            looked: format!("{} is {}", path.display(), key.fingerprint()),
            may: names(),
            named: true,
        })?;
        return Ok(SigningKey { name, key, place });
    }
    let mut looked = Vec::new();
    match agent_keys() {
        Ok(Some(keys)) => {
            if let Some((name, key)) = keys.iter().find_map(|key| Some((owner(key)?, key.clone()))) {
                return Ok(SigningKey { name, key, place: Place::Agent });
            }
            looked.push(format!("the SSH agent has {}", cavrith_core::verdict::count(keys.len(), "key")));
        }
        Ok(None) => looked.push("there is no SSH agent".to_owned()),
        Err(why) => looked.push(format!("the SSH agent cannot be asked ({why})")),
    }
    let folder = env::var_os("HOME").filter(|home| !home.is_empty()).map(|home| PathBuf::from(home).join(".ssh"));
    let files = folder.iter().flat_map(|folder| USUAL.map(|name| folder.join(name))).filter(|path| path.is_file());
    let mut count = 0;
    for path in files {
        let Ok((key, held)) = read_private(&path) else { continue };
        count += 1;
        if let Some(name) = owner(&key) {
            return Ok(SigningKey { name, place: place(&key, held, &path, choice.ask)?, key });
        }
    }
    looked.push(format!("~/.ssh has {}", cavrith_core::verdict::count(count, "key")));
    Err(TeamError::NoKey { looked: looked.join(", "), may: names(), named: false }.into())
}

impl SigningKey {
    /// Signs a text.
    ///
    /// # Errors
    /// When the agent refuses, or the key is damaged.
    pub fn sign(&self, namespace: &str, text: &[u8]) -> Result<Signature, EngineError> {
        let signature = match &self.place {
            Place::Agent => {
                let raw = agent_sign(&self.key, &signature::to_be_signed(namespace, text))
                    .map_err(|why| TeamError::Agent(why.to_string()))?;
                signature::of_raw(&self.key, namespace, &raw).map_err(|why| TeamError::Agent(why.to_string()))?
            }
            Place::File(path, private) => {
                let bad = |why: String| TeamError::Key { key: path.display().to_string(), why };
                signature::sign(private, namespace, text).map_err(|why| bad(why.to_string()))?
            }
            Place::OpenSsh(path) => openssh_sign(path, namespace, text)
                .map_err(|why| EngineError::Team(TeamError::Key { key: path.display().to_string(), why }))?,
        };
        // What nobody could verify is worth nothing: better to hear it now.
        match signature::signer(&signature.armoured(), namespace, text) {
            Ok(key) if key == self.key => Ok(signature),
            Ok(_) => Err(TeamError::Agent("it used another key".to_owned()).into()),
            Err(why) => Err(TeamError::Agent(why.to_string()).into()),
        }
    }

    /// Its public half.
    pub fn public(&self) -> &PublicKey {
        &self.key
    }
}

/// The key that a file names.
fn named(path: &Path, ask: fn(&str) -> Option<String>) -> Result<(PublicKey, Place), EngineError> {
    let bad = |why: String| EngineError::Team(TeamError::Key { key: path.display().to_string(), why });
    let bytes = reading::bounded(path, LONGEST_KEY).map_err(|error| bad(plain(&error)))?;
    let text = String::from_utf8_lossy(&bytes);
    if text.contains("PRIVATE KEY") {
        let (key, held) = read_private(path).map_err(bad)?;
        let place = place(&key, held, path, ask)?;
        return Ok((key, place));
    }
    let key = PublicKey::parse(&text).map_err(|why| bad(why.to_string()))?;
    if agent_keys().ok().flatten().is_some_and(|keys| keys.contains(&key)) {
        return Ok((key, Place::Agent));
    }
    let beside = path.with_extension("");
    match read_private(&beside) {
        Ok((private, held)) if private == key => {
            let place = place(&key, held, &beside, ask)?;
            Ok((key, place))
        }
        _ => {
            Err(bad("it is a public key, and its private half is neither beside it nor with the SSH agent".to_owned()))
        }
    }
}

/// A private key, and its public half, which stands in it unencrypted, or beside it.
fn read_private(path: &Path) -> Result<(PublicKey, Held), String> {
    let bytes = reading::bounded(path, LONGEST_KEY).map_err(|error| plain(&error))?;
    if let Ok(private) = PrivateKey::from_openssh(&bytes) {
        let key = PublicKey::of(private.public_key().key_data().clone()).map_err(|why| why.to_string())?;
        return Ok((key, Held::Read(Box::new(private))));
    }
    let mut beside = path.as_os_str().to_owned();
    beside.push(".pub");
    let public = reading::bounded(Path::new(&beside), LONGEST_KEY).map_err(|_| {
        "it is in a format that takes its .pub file beside it; `ssh-keygen -y -f FILE` prints that".to_owned()
    })?;
    let key = PublicKey::parse(&String::from_utf8_lossy(&public)).map_err(|why| why.to_string())?;
    Ok((key, Held::Unread))
}

/// How a key from a file signs.
fn place(key: &PublicKey, held: Held, path: &Path, ask: fn(&str) -> Option<String>) -> Result<Place, EngineError> {
    Ok(match held {
        // The file of a security key's only says which it is.
        _ if key.is_security_key() => Place::Agent,
        Held::Read(private) => Place::File(path.to_owned(), Box::new(decrypted(*private, path, ask)?)),
        Held::Unread => Place::OpenSsh(path.to_owned()),
    })
}

/// A signature by OpenSSH's own program, which asks for a passphrase itself.
fn openssh_sign(path: &Path, namespace: &str, text: &[u8]) -> Result<Signature, String> {
    let program = find_program("ssh-keygen").ok_or("it takes OpenSSH's ssh-keygen to use it; install that")?;
    let mut command = Command::new(program);
    command.args(["-q", "-Y", "sign", "-n", namespace, "-f"]).arg(path);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let failed = |error: io::Error| format!("ssh-keygen cannot be run: {error}");
    let mut child = command.spawn().map_err(failed)?;
    // It answers only when it has all.
    let fed = child.stdin.take().map(|mut stdin| stdin.write_all(text));
    let output = child.wait_with_output().map_err(failed)?;
    if !output.status.success() || fed.is_none_or(|fed| fed.is_err()) {
        let said = String::from_utf8_lossy(&output.stderr);
        let said = said.lines().next().unwrap_or_default();
        return Err(format!("ssh-keygen refused: {}", cavrith_core::path::shown(said.as_bytes())));
    }
    Ok(Signature::of_armoured(&String::from_utf8_lossy(&output.stdout)))
}

fn decrypted(private: PrivateKey, path: &Path, ask: fn(&str) -> Option<String>) -> Result<PrivateKey, EngineError> {
    if !private.is_encrypted() {
        return Ok(private);
    }
    let bad = |why: &str| EngineError::Team(TeamError::Key { key: path.display().to_string(), why: why.to_owned() });
    let passphrase = ask(&path.display().to_string()).ok_or_else(|| {
        bad("it is encrypted, and there is nobody to ask for its passphrase; add it to the SSH agent")
    })?;
    private.decrypt(passphrase).map_err(|_| bad("that is not its passphrase"))
}

// The protocol of SSH agents (draft-ietf-sshm-ssh-agent, section 3): a length, a number, and what belongs to it.
const REQUEST_IDENTITIES: u8 = 11;
const IDENTITIES_ANSWER: u8 = 12;
const SIGN_REQUEST: u8 = 13;
const SIGN_RESPONSE: u8 = 14;
/// Sign with SHA-512 instead of SHA-1, for RSA keys (section 3.6.1).
const RSA_SHA2_512: u32 = 4;

fn agent(request: &[u8]) -> io::Result<Option<Vec<u8>>> {
    let Some(socket) = env::var_os("SSH_AUTH_SOCK").filter(|socket| !socket.is_empty()) else { return Ok(None) };
    let mut stream = UnixStream::connect(socket)?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    stream.write_all(&(request.len() as u32).to_be_bytes())?;
    stream.write_all(request)?;
    let mut length = [0; 4];
    stream.read_exact(&mut length)?;
    let length = u32::from_be_bytes(length) as usize;
    if length == 0 || length > LONGEST_ANSWER {
        return Err(io::Error::other("its answer is no answer"));
    }
    let mut answer = vec![0; length];
    stream.read_exact(&mut answer)?;
    Ok(Some(answer))
}

/// Takes a text with its length before it off the front.
fn take<'a>(bytes: &mut &'a [u8]) -> Option<&'a [u8]> {
    let (length, rest) = bytes.split_first_chunk::<4>()?;
    let (text, rest) = rest.split_at_checked(u32::from_be_bytes(*length) as usize)?;
    *bytes = rest;
    Some(text)
}

/// The keys that the agent holds; nothing when there is no agent.
fn agent_keys() -> io::Result<Option<Vec<PublicKey>>> {
    let Some(answer) = agent(&[REQUEST_IDENTITIES])? else { return Ok(None) };
    let bad = || io::Error::other("its answer is no list of keys");
    let mut rest = answer.strip_prefix(&[IDENTITIES_ANSWER]).ok_or_else(bad)?;
    let (count, after) = rest.split_first_chunk::<4>().ok_or_else(bad)?;
    rest = after;
    let mut keys = Vec::new();
    for _ in 0..u32::from_be_bytes(*count) {
        let (Some(key), Some(_comment)) = (take(&mut rest), take(&mut rest)) else { return Err(bad()) };
        // Certificates and keys of kinds that nobody accepts are passed over.
        keys.extend(
            ssh_key::PublicKey::from_bytes(key).ok().and_then(|key| PublicKey::of(key.key_data().clone()).ok()),
        );
    }
    Ok(Some(keys))
}

/// The agent's signature of some bytes, as RFC 4253, section 6.6, writes it.
fn agent_sign(key: &PublicKey, data: &[u8]) -> io::Result<Vec<u8>> {
    let blob = ssh_key::PublicKey::from(key.data().clone()).to_bytes().map_err(io::Error::other)?;
    let flags = if key.to_string().starts_with("ssh-rsa ") { RSA_SHA2_512 } else { 0 };
    let mut request = vec![SIGN_REQUEST];
    for part in [&blob, data] {
        request.extend((part.len() as u32).to_be_bytes());
        request.extend(part);
    }
    request.extend(flags.to_be_bytes());
    let answer = agent(&request)?.ok_or_else(|| io::Error::other("there is none"))?;
    let mut rest = answer
        .strip_prefix(&[SIGN_RESPONSE])
        .ok_or_else(|| io::Error::other("it refused; the key may be locked, or its device was not touched"))?;
    take(&mut rest).map(<[u8]>::to_vec).ok_or_else(|| io::Error::other("its answer is no signature"))
}
