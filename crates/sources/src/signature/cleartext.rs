//! Texts that carry OpenPGP data: armour (RFC 9580, section 6) and the cleartext signature framework (section 7).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use super::packets::Malformed;

/// How a clear-signed text begins.
const SIGNED: &str = "-----BEGIN PGP SIGNED MESSAGE-----";
const SIGNATURE: &str = "SIGNATURE";
/// What the armour of a keyring is called.
pub const KEYS: &str = "PUBLIC KEY BLOCK";

/// A clear-signed file, taken apart.
pub struct ClearSigned {
    /// The text as it was signed: without blanks at the ends of lines, which end with CR LF.
    pub text: String,
    /// The packets of its signatures.
    pub signatures: Vec<u8>,
}

impl ClearSigned {
    /// Takes a file apart, which must have nothing before or after its signed part: others would read that as part of
    /// it.
    pub fn read(file: &[u8]) -> Result<Self, Malformed> {
        let file = std::str::from_utf8(file).map_err(|_| "it is not UTF-8")?;
        let mut lines = file.split('\n').map(|line| line.trim_end_matches([' ', '\t', '\r']));
        if lines.next() != Some(SIGNED) {
            return Err("it does not begin with its signed part");
        }
        for line in lines.by_ref().take_while(|line| !line.is_empty()) {
            if !line.starts_with("Hash:") {
                return Err("it has a header that is not `Hash`");
            }
        }
        let mut text = Vec::new();
        let armour = begin(SIGNATURE);
        loop {
            match lines.next() {
                None => return Err("it has no signature"),
                Some(line) if line == armour => break,
                Some(line) => text.push(match line.strip_prefix('-') {
                    None => line,
                    Some(rest) => rest.strip_prefix(' ').ok_or("a line begins with a dash that is not escaped")?,
                }),
            }
        }
        let signatures = armoured(&mut lines, SIGNATURE)?;
        match lines.all(str::is_empty) {
            true => Ok(Self { text: text.join("\r\n"), signatures }),
            false => Err("something stands after its signature"),
        }
    }
}

fn begin(kind: &str) -> String {
    format!("-----BEGIN PGP {kind}-----")
}

/// The bytes of an armour whose first line was read. Its checksum proves nothing and is not needed (section 6.1).
fn armoured<'a>(lines: &mut impl Iterator<Item = &'a str>, kind: &str) -> Result<Vec<u8>, Malformed> {
    let end = format!("-----END PGP {kind}-----");
    let mut coded = String::new();
    let mut headers = true;
    for line in lines {
        if line == end {
            return STANDARD.decode(coded).map_err(|_| "its armour is damaged");
        }
        if headers && line.contains(": ") {
            continue;
        }
        headers = false;
        if !line.starts_with('=') {
            coded.push_str(line);
        }
    }
    Err("its armour has no end")
}

/// The bytes of all armours of this kind in a text; whatever stands between them is nobody's.
pub fn all_armoured(text: &[u8], kind: &str) -> Result<Vec<u8>, Malformed> {
    let text = std::str::from_utf8(text).map_err(|_| "it is not UTF-8")?;
    let mut lines = text.lines().map(str::trim_end);
    let (begin, mut bytes, mut found) = (begin(kind), Vec::new(), false);
    while let Some(line) = lines.next() {
        if line == begin {
            bytes.extend(armoured(&mut lines, kind)?);
            found = true;
        }
    }
    if found { Ok(bytes) } else { Err("it holds no public keys") }
}
