//! A member's private keys, which decrypt parcels and sign.

use std::path::{Path, PathBuf};

use cavrith_exchange::ExchangeError;
use cavrith_exchange::parcel::encryption::{self, Keys};

use cavrith_engine::signing::KeyChoice;

use crate::args::{KeyFiles, SigningKey};

/// Keys of SSH that can decrypt.
const USUAL: [&str; 2] = [".ssh/id_ed25519", ".ssh/id_rsa"];

/// A parcel that can be read: the file itself, or, when it is encrypted, what it decrypts to, which is written to
/// `plain`.
///
/// # Errors
/// When none of the keys opens it, or it is damaged.
pub fn readable(path: &Path, files: &KeyFiles, plain: &Path) -> Result<PathBuf, ExchangeError> {
    if !encryption::is_encrypted(path) {
        return Ok(path.to_owned());
    }
    let home = std::env::var_os("HOME").filter(|home| !home.is_empty()).map(PathBuf::from);
    let usual = home.iter().flat_map(|home| USUAL.map(|name| home.join(name))).collect();
    Keys { named: files.key.clone(), usual, ask }.decrypt(path, plain)?;
    Ok(plain.to_owned())
}

/// Which key signs.
pub fn choice(key: &SigningKey) -> KeyChoice<'_> {
    chosen(key.file.as_deref())
}

/// As [`choice`], of a file that may be named.
pub fn chosen(named: Option<&Path>) -> KeyChoice<'_> {
    KeyChoice { named, ask }
}

/// Asks for the passphrase of a key, where there is a terminal.
fn ask(key: &str) -> Option<String> {
    rpassword::prompt_password(format!("passphrase of {key}: ")).ok()
}
