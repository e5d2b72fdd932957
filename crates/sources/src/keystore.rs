//! Java's store of trusted certificates, as its tools write it: every entry has the time at which it was put in.
//!
//! The format is that of `sun.security.provider.JavaKeyStore` ("JKS"): the number FEEDFEED, the version 2, the number
//! of entries; for each its kind (2 a trusted certificate), its alias, milliseconds since 1970, the certificate's type
//! and bytes; and in the end a SHA-1 over the password, the words "Mighty Aphrodite" and all that came before. Numbers
//! are big-endian; texts have their length in two bytes before them. Debian's store has the password that Java's tools
//! take when nobody says another one.

use ring::digest;

const MAGIC: u32 = 0xFEED_FEED;
const VERSION: u32 = 2;
const TRUSTED: u32 = 2;
const PASSWORD: &str = "changeit";
const SALT: &[u8] = b"Mighty Aphrodite";
const SUM: usize = 20;

struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.rest.split_at_checked(count)?;
        self.rest = rest;
        Some(taken)
    }

    fn number(&mut self) -> Option<u32> {
        Some(u32::from_be_bytes(self.take(4)?.try_into().ok()?))
    }

    fn text(&mut self) -> Option<&'a [u8]> {
        let length = u16::from_be_bytes(self.take(2)?.try_into().ok()?);
        self.take(length.into())
    }
}

fn sum(bytes: &[u8]) -> digest::Digest {
    let mut context = digest::Context::new(&digest::SHA1_FOR_LEGACY_USE_ONLY);
    PASSWORD.encode_utf16().for_each(|unit| context.update(&unit.to_be_bytes()));
    context.update(SALT);
    context.update(bytes);
    context.finish()
}

/// The same store with its entries in the order of their aliases and all put in at one time, in seconds since 1970;
/// `None` for anything but a whole store of trusted certificates under the usual password.
pub fn normalized(bytes: &[u8], time: u64) -> Option<Vec<u8>> {
    let (body, given) = bytes.split_at_checked(bytes.len().checked_sub(SUM)?)?;
    if sum(body).as_ref() != given {
        return None;
    }
    let mut reader = Reader { rest: body };
    if (reader.number()?, reader.number()?) != (MAGIC, VERSION) {
        return None;
    }
    let count = reader.number()?;
    let mut entries = Vec::new();
    for _ in 0..count {
        if reader.number()? != TRUSTED {
            return None;
        }
        let alias = reader.text()?;
        reader.take(8)?;
        let kind = reader.text()?;
        let length = reader.number()?;
        entries.push((alias, kind, reader.take(length as usize)?));
    }
    if !reader.rest.is_empty() {
        return None;
    }
    entries.sort_unstable();
    let mut out = [MAGIC, VERSION, count].map(u32::to_be_bytes).concat();
    for (alias, kind, certificate) in entries {
        out.extend(TRUSTED.to_be_bytes());
        out.extend((alias.len() as u16).to_be_bytes());
        out.extend(alias);
        out.extend(time.saturating_mul(1000).to_be_bytes());
        out.extend((kind.len() as u16).to_be_bytes());
        out.extend(kind);
        out.extend((certificate.len() as u32).to_be_bytes());
        out.extend(certificate);
    }
    let sum = sum(&out);
    out.extend(sum.as_ref());
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn store(entries: &[(&str, u64, &[u8])]) -> Vec<u8> {
        let mut out = [MAGIC, VERSION, entries.len() as u32].map(u32::to_be_bytes).concat();
        for (alias, millis, certificate) in entries {
            out.extend(TRUSTED.to_be_bytes());
            out.extend((alias.len() as u16).to_be_bytes());
            out.extend(alias.as_bytes());
            out.extend(millis.to_be_bytes());
            out.extend(5u16.to_be_bytes());
            out.extend(b"X.509");
            out.extend((certificate.len() as u32).to_be_bytes());
            out.extend(*certificate);
        }
        let sum = sum(&out);
        out.extend(sum.as_ref());
        out
    }

    #[test]
    fn two_stores_of_the_same_certificates_become_one() {
        let one = store(&[("debian:a.pem", 1, b"first"), ("debian:b.pem", 2, b"second")]);
        let other = store(&[("debian:b.pem", 7, b"second"), ("debian:a.pem", 8, b"first")]);
        let normal = normalized(&one, 1_700_000_000).unwrap();
        assert_eq!(normalized(&other, 1_700_000_000), Some(normal.clone()));
        assert_eq!(normalized(&normal, 1_700_000_000), Some(normal.clone()));
        assert_ne!(normalized(&one, 1_700_000_001), Some(normal));
        assert_eq!(normalized(&store(&[]), 0), Some(store(&[])));
    }

    #[test]
    fn what_is_damaged_or_something_else_is_left_alone() {
        let whole = store(&[("debian:a.pem", 1, b"first")]);
        for at in 0..whole.len() {
            let mut bytes = whole.clone();
            bytes[at] ^= 1;
            assert_eq!(normalized(&bytes, 0), None, "{at}");
        }
        assert_eq!(normalized(&whole[..whole.len() - 1], 0), None);
        assert_eq!(normalized(b"", 0), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(mut bytes in proptest::collection::vec(any::<u8>(), 0..100)) {
            let sum = sum(&bytes);
            bytes.extend(sum.as_ref());
            let _ = normalized(&bytes, 0);
        }
    }
}
