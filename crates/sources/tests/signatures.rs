//! Clear-signed texts and keyrings.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

use cavrith_sources::signature::{Keyring, Unproved};
use pgp::composed::{
    ArmorOptions, CleartextSignedMessage, KeyType, SecretKeyParamsBuilder, SignedSecretKey, SubkeyParamsBuilder,
};
use pgp::ser::Serialize as _;
use pgp::types::Password;
use proptest::prelude::*;

const TEXT: &str = "Suite: tide\n- a line with a dash\nDate: today\n";

fn key(subkey: bool) -> SignedSecretKey {
    let mut builder = SecretKeyParamsBuilder::default();
    builder.key_type(KeyType::Ed25519Legacy).can_certify(true).can_sign(!subkey);
    builder.primary_user_id("Archive <archive@brindle.example>".to_owned());
    if subkey {
        let subkey = SubkeyParamsBuilder::default().key_type(KeyType::Ed25519Legacy).can_sign(true).build().unwrap();
        builder.subkeys(vec![subkey]);
    }
    builder.build().unwrap().generate(rand::thread_rng()).unwrap()
}

fn signed(text: &str, keys: &[&SignedSecretKey]) -> String {
    let none = Password::empty();
    let message = CleartextSignedMessage::new_many(text, |text| {
        let mut all = Vec::new();
        for key in keys {
            let one = match key.secret_subkeys.first() {
                Some(subkey) => CleartextSignedMessage::sign(rand::thread_rng(), TEXT, &subkey.key, &none)?,
                None => CleartextSignedMessage::sign(rand::thread_rng(), TEXT, &key.primary_key, &none)?,
            };
            assert!(!text.is_empty());
            all.extend(one.signatures().iter().cloned());
        }
        Ok(all)
    });
    message.unwrap().to_armored_string(ArmorOptions::default()).unwrap()
}

fn ring(keys: &[&SignedSecretKey], armoured: bool) -> Keyring {
    let mut ring = Keyring::default();
    for key in keys {
        let public = key.to_public_key();
        let bytes = if armoured {
            public.to_armored_string(ArmorOptions::default()).unwrap().into_bytes()
        } else {
            public.to_bytes().unwrap()
        };
        ring.add(&bytes).unwrap();
    }
    ring
}

fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs()
}

#[test]
fn one_trusted_signature_is_enough_and_only_what_was_signed_comes_out() {
    let (ours, stranger) = (key(false), key(false));
    let file = signed(TEXT, &[&stranger, &ours]);
    for armoured in [true, false] {
        let text = ring(&[&ours], armoured).prove(file.as_bytes(), now()).unwrap();
        assert_eq!(text.trim_end(), "Suite: tide\n- a line with a dash\nDate: today");
    }
    let error = ring(&[&key(false)], true).prove(file.as_bytes(), now()).unwrap_err();
    assert!(matches!(error, Unproved::UnknownKeys(keys) if keys.len() == 2));
}

#[test]
fn a_key_beneath_a_key_may_sign() {
    let ours = key(true);
    let file = signed(TEXT, &[&ours]);
    ring(&[&ours], true).prove(file.as_bytes(), now()).unwrap();
}

#[test]
fn one_wrong_signature_of_a_trusted_key_is_too_many() {
    let (ours, other) = (key(false), key(false));
    let file = signed(TEXT, &[&ours, &other]).replace("tide", "ebb ");
    let error = ring(&[&ours], true).prove(file.as_bytes(), now()).unwrap_err();
    assert!(matches!(error, Unproved::Bad(_)), "{error}");
}

#[test]
fn no_keyring_is_told() {
    let mut ring = Keyring::default();
    assert!(ring.add(b"-----BEGIN PGP PUBLIC KEY BLOCK-----\nnonsense").is_err());
    assert!(ring.add(b"\x99nonsense").is_err() || ring.is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn no_change_of_a_signed_file_gives_another_text(at in any::<prop::sample::Index>(), byte in any::<u8>(), insert in any::<bool>()) {
        use std::sync::OnceLock;
        static MADE: OnceLock<(SignedSecretKey, String)> = OnceLock::new();
        let (ours, file) = MADE.get_or_init(|| {
            let ours = key(false);
            let file = signed(TEXT, &[&ours]);
            (ours, file)
        });
        let mut bytes = file.clone().into_bytes();
        let at = at.index(bytes.len());
        if insert { bytes.insert(at, byte) } else { bytes[at] = byte }
        if let Ok(text) = ring(&[ours], true).prove(&bytes, now()) {
            prop_assert_eq!(text.trim_end(), "Suite: tide\n- a line with a dash\nDate: today");
        }
    }
}

/// Files that another program has made: a key for one day, the same one withdrawn, and what it signed when it was new.
fn of_another_program(keyring: &str, later: u64) -> Result<String, Unproved> {
    let file = |name: &str| std::fs::read(format!("{}/tests/data/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap();
    let mut ring = Keyring::default();
    ring.add(&file(keyring)).unwrap();
    ring.prove(&file("signed.txt"), MADE + later)
}

/// When they were made.
const MADE: u64 = 1795446317;

#[test]
fn a_key_that_has_expired_or_was_withdrawn_proves_nothing() {
    assert_eq!(of_another_program("key-for-a-day.asc", 60).unwrap().trim_end(), "Suite: tide");
    let error = of_another_program("key-for-a-day.asc", 2 * 86_400).unwrap_err();
    assert!(error.to_string().contains("the key has expired"), "{error}");
    let error = of_another_program("key-withdrawn.asc", 60).unwrap_err();
    assert!(error.to_string().contains("withdrawn by its owner"), "{error}");
}
