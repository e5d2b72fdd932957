//! The file in which Java looks for the authorities that it believes, in the format that every Java reads: "JKS", as
//! OpenJDK documents it where it implements it (`sun.security.provider.JavaKeyStore`). All numbers are big-endian.

use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY};

const MAGIC: u32 = 0xfeed_feed;
const VERSION: u32 = 2;
/// An entry that is a certificate to be believed.
const BELIEVED: u32 = 2;
/// The password that stores of this kind have everywhere; it protects nothing.
const PASSWORD: &str = "changeit";
/// What is hashed between the password and the store.
const WHITENER: &[u8] = b"Mighty Aphrodite";

/// A store with certificates, each given as DER.
pub fn with<T: AsRef<[u8]>>(certificates: &[T]) -> Vec<u8> {
    let text = |store: &mut Vec<u8>, text: &str| {
        store.extend((text.len() as u16).to_be_bytes());
        store.extend(text.as_bytes());
    };
    let mut store = Vec::new();
    for number in [MAGIC, VERSION, certificates.len() as u32] {
        store.extend(number.to_be_bytes());
    }
    for (number, der) in certificates.iter().map(AsRef::as_ref).enumerate() {
        store.extend(BELIEVED.to_be_bytes());
        text(&mut store, &if number == 0 { "step".to_owned() } else { format!("step-{number}") });
        // When it was made: nobody asks.
        store.extend(0_u64.to_be_bytes());
        text(&mut store, "X.509");
        store.extend((der.len() as u32).to_be_bytes());
        store.extend(der);
    }
    let mut digest = Context::new(&SHA1_FOR_LEGACY_USE_ONLY);
    PASSWORD.encode_utf16().for_each(|unit| digest.update(&unit.to_be_bytes()));
    digest.update(WHITENER);
    digest.update(&store);
    store.extend(digest.finish().as_ref());
    store
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_store_is_laid_out_as_java_reads_it() {
        let store = with(&[b"certificate"]);
        let end = store.len() - 20;
        assert_eq!(&store[..16], b"\xfe\xed\xfe\xed\0\0\0\x02\0\0\0\x01\0\0\0\x02");
        assert!(store[..end].ends_with(b"\0\x05X.509\0\0\0\x0bcertificate"));
        // As `sha1sum` has it of the password in UTF-16, the whitener, and what stands before.
        let shown: String = store[end..].iter().map(|byte| format!("{byte:02x}")).collect();
        assert_eq!(shown, "d1fd4509f23c3f41bacda405e5c6547aa3f245dd");
    }
}
