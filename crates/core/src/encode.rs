//! The written encoding under every digest of our own.
//!
//! A digest must not depend on a serializer's habits, so what is digested is spelt out here: integers are little-endian
//! and of fixed width, byte strings and lists carry their length in front as 32 bits, an optional value is one byte 0
//! or 1 and then the value. Each encoding begins with a line that names it and its version. `docs/fingerprint.md` tells
//! the same to somebody who writes it in another language.

/// Collects an encoding.
#[derive(Debug, Default)]
pub struct Encoder {
    out: Vec<u8>,
}

impl Encoder {
    /// Starts with the line that names what is encoded, for example `cavrith tree 1`.
    pub fn new(title: &str) -> Self {
        let mut out = title.as_bytes().to_vec();
        out.push(b'\n');
        Self { out }
    }

    /// Starts without a title: what is encoded is never digested.
    pub fn plain() -> Self {
        Self::default()
    }

    /// One byte.
    pub fn u8(&mut self, value: u8) -> &mut Self {
        self.out.push(value);
        self
    }

    /// 16 bits, little-endian.
    pub fn u16(&mut self, value: u16) -> &mut Self {
        self.out.extend(value.to_le_bytes());
        self
    }

    /// 32 bits, little-endian.
    pub fn u32(&mut self, value: u32) -> &mut Self {
        self.out.extend(value.to_le_bytes());
        self
    }

    /// 64 bits, little-endian.
    pub fn u64(&mut self, value: u64) -> &mut Self {
        self.out.extend(value.to_le_bytes());
        self
    }

    /// A count or length as 32 bits.
    ///
    /// # Panics
    /// When there are more than 2³² − 1: every reader of outside data is bounded far below that.
    pub fn count(&mut self, count: usize) -> &mut Self {
        let count = u32::try_from(count).unwrap_or_else(|_| panic!("BUG: {count} is too long to encode"));
        self.u32(count)
    }

    /// Length, then the bytes.
    pub fn bytes(&mut self, bytes: impl AsRef<[u8]>) -> &mut Self {
        let bytes = bytes.as_ref();
        self.count(bytes.len());
        self.out.extend(bytes);
        self
    }

    /// Bytes of a fixed, known length, without a length in front.
    pub fn fixed(&mut self, bytes: &[u8]) -> &mut Self {
        self.out.extend(bytes);
        self
    }

    /// Count, then each text with its length.
    pub fn list<T: AsRef<[u8]>>(&mut self, items: impl ExactSizeIterator<Item = T>) -> &mut Self {
        self.count(items.len());
        for item in items {
            self.bytes(item);
        }
        self
    }

    /// The encoding so far.
    pub fn into_bytes(self) -> Vec<u8> {
        self.out
    }

    /// BLAKE3 of the encoding so far.
    pub fn digest(&self) -> [u8; 32] {
        *blake3::hash(&self.out).as_bytes()
    }
}

/// Percent-encoding (RFC 3986, section 2.1) of everything but letters, digits, `-._~` and what `kept` has.
pub fn percent_encoded(text: &str, kept: &str) -> String {
    let mut out = String::new();
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) || kept.as_bytes().contains(&byte) {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    out
}

/// The text of percent-encoded bytes (RFC 3986, section 2.1); nothing when it is none.
pub fn percent_decoded(text: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        if byte == b'%' {
            let digits = [rest.next()?, rest.next()?];
            bytes.push(u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?);
        } else {
            bytes.push(byte);
        }
    }
    String::from_utf8(bytes).ok().filter(|text| !text.contains('\0'))
}
