//! Clear-signed texts and keyrings.

use crate::openpgp::{Identity, MADE, MAY_ENCRYPT, MAY_SIGN, clear_signed, clear_signed_by, packet};
use cavrith_sources::signature::{Keyring, Unproved};
use proptest::prelude::*;

const TEXT: &str = "Suite: tide\n- a line with a dash\nDate: today\n";
const PROVED: &str = "Suite: tide\n- a line with a dash\nDate: today";
const DAY: u64 = 86_400;

fn ring(keyring: &[u8]) -> Keyring {
    let mut ring = Keyring::default();
    ring.add(keyring).unwrap();
    ring
}

fn now() -> u64 {
    u64::from(MADE) + 60
}

/// What is said of a text signed by this identity, by a ring that holds it.
fn said(identity: &Identity, later: u64) -> Result<String, Unproved> {
    ring(&identity.keyring()).prove(clear_signed(TEXT, &[identity]).as_bytes(), u64::from(MADE) + later)
}

fn refused(said: Result<String, Unproved>, why: &str) {
    match said {
        Err(Unproved::Invalid(all)) => assert!(all[0].contains(why), "{all:?}"),
        other => panic!("{other:?}, where `{why}` was expected"),
    }
}

#[test]
fn one_trusted_signature_is_enough_and_only_what_was_signed_comes_out() {
    let (ours, stranger) = (Identity::new(), Identity::new());
    let file = clear_signed(TEXT, &[&stranger, &ours]);
    for keyring in [ours.keyring(), ours.armoured().into_bytes()] {
        assert_eq!(ring(&keyring).prove(file.as_bytes(), now()).unwrap(), PROVED);
    }
    let error = ring(&Identity::new().keyring()).prove(file.as_bytes(), now()).unwrap_err();
    assert!(matches!(error, Unproved::UnknownKeys(keys) if keys.len() == 2));
}

#[test]
fn a_key_beneath_a_key_may_sign() {
    let ours = Identity::with_subkey();
    assert_eq!(said(&ours, 60).unwrap(), PROVED);
    let file = clear_signed_by(TEXT, &[&ours.primary], &[]);
    refused(ring(&ours.keyring()).prove(file.as_bytes(), now()), "the key may not sign data");
}

#[test]
fn one_wrong_signature_of_a_trusted_key_is_too_many() {
    let (ours, other) = (Identity::new(), Identity::new());
    let file = clear_signed(TEXT, &[&ours, &other]).replace("tide", "ebb ");
    let error = ring(&ours.keyring()).prove(file.as_bytes(), now()).unwrap_err();
    assert!(matches!(error, Unproved::Bad(_)), "{error}");
}

#[test]
fn a_subkey_proves_nothing_once_it_is_withdrawn_expired_or_not_bound_by_both() {
    let mut ours = Identity::with_subkey();
    ours.more = packet(2, &ours.primary.sign(0x28, &ours.both(), &[]));
    refused(said(&ours, 60), "the subkey was withdrawn");

    // A stranger's word withdraws nothing, lengthens nothing, and binds nothing.
    let (mut ours, stranger) = (Identity::with_subkey(), Identity::new());
    ours.more = packet(2, &stranger.primary.sign(0x28, &ours.both(), &[]));
    said(&ours, 60).unwrap();
    ours.says_of_subkey.push((9, 86_400_u32.to_be_bytes().to_vec()));
    let forever = [(27, vec![MAY_SIGN]), (2, (MADE + 9).to_be_bytes().to_vec())];
    ours.more = packet(2, &stranger.primary.sign(0x18, &ours.both(), &forever));
    said(&ours, 60).unwrap();
    refused(said(&ours, 2 * DAY), "the subkey has expired");

    let mut ours = Identity::with_subkey();
    ours.without_back = true;
    refused(said(&ours, 60), "the subkey may not sign data");
    let mut ours = Identity::with_subkey();
    ours.says_of_subkey = vec![(27, vec![MAY_ENCRYPT])];
    refused(said(&ours, 60), "the subkey may not sign data");

    // A subkey of somebody else, put beneath a trusted key.
    let (mut ours, mut stranger) = (Identity::new(), Identity::with_subkey());
    let stolen = stranger.keyring();
    // Of the same keys, since numbers without their leading zeros are not all of one length.
    let subkey = stranger.subkey.take();
    let primary_and_user = stranger.keyring().len();
    stranger.subkey = subkey;
    ours.more = stolen[primary_and_user..].to_vec();
    let file = clear_signed(TEXT, &[&stranger]);
    refused(ring(&ours.keyring()).prove(file.as_bytes(), now()), "nothing valid binds the subkey");
}

#[test]
fn what_another_keyring_says_of_a_key_counts_too() {
    let ours = Identity::new();
    let file = clear_signed(TEXT, &[&ours]);
    let mut both = ring(&ours.keyring());
    both.add(&ours.revoked()).unwrap();
    refused(both.prove(file.as_bytes(), now()), "withdrawn by its owner");
}

#[test]
fn a_signature_that_has_expired_or_cannot_be_understood_proves_nothing() {
    let ours = Identity::new();
    let made = |more: &[(u8, Vec<u8>)], later| {
        let file = clear_signed_by(TEXT, &[&ours.primary], more);
        ring(&ours.keyring()).prove(file.as_bytes(), u64::from(MADE) + later)
    };
    let day = (3, 86_400_u32.to_be_bytes().to_vec());
    made(std::slice::from_ref(&day), 60).unwrap();
    refused(made(&[day], 2 * DAY), "the signature has expired");
    refused(made(&[(0x80 | 20, b"from a later time".to_vec())], 60), "of a kind that is not known here");
    refused(made(&[(2, (MADE - 9).to_be_bytes().to_vec())], 60), "older than its key");
}

#[test]
fn nothing_stands_before_or_after_the_signed_part() {
    let ours = Identity::new();
    let file = clear_signed(TEXT, &[&ours]);
    let keys = ring(&ours.keyring());
    let forms = [
        format!("Suite: ebb\n{file}"),
        format!("{file}Suite: ebb\n"),
        file.replace("Hash: SHA512\n", "Hash: SHA512\nSuite: ebb\n"),
        file.replace("- - a line", "- a line\n-another"),
        file.replace("-----END PGP SIGNATURE-----", ""),
        file.replace("-----BEGIN PGP SIGNATURE-----", "-----BEGIN PGP MESSAGE-----"),
    ];
    for form in forms {
        let error = keys.prove(form.as_bytes(), now()).unwrap_err();
        assert!(matches!(error, Unproved::Form(_)), "{error}\n{form}");
    }
}

#[test]
fn no_keyring_is_told() {
    let mut ring = Keyring::default();
    assert!(ring.add(b"-----BEGIN PGP PUBLIC KEY BLOCK-----\nnonsense").is_err());
    assert!(ring.add(b"\x99nonsense").is_err());
    assert!(ring.add(b"").is_err());
    assert!(ring.add(&packet(5, b"secret")).unwrap_err().contains("secret keys"));
    assert!(ring.is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn no_change_of_a_signed_file_gives_another_text(at in any::<prop::sample::Index>(), byte in any::<u8>(), insert in any::<bool>()) {
        use std::sync::OnceLock;
        static MADE: OnceLock<(Vec<u8>, String)> = OnceLock::new();
        let (keyring, file) = MADE.get_or_init(|| {
            let ours = Identity::with_subkey();
            (ours.keyring(), clear_signed(TEXT, &[&ours]))
        });
        let mut bytes = file.clone().into_bytes();
        let at = at.index(bytes.len());
        if insert { bytes.insert(at, byte) } else { bytes[at] = byte }
        if let Ok(text) = ring(keyring).prove(&bytes, now()) {
            prop_assert_eq!(text, PROVED);
        }
    }

    #[test]
    fn no_change_of_a_keyring_makes_a_strangers_key_trusted(at in any::<prop::sample::Index>(), byte in any::<u8>()) {
        use std::sync::OnceLock;
        static MADE: OnceLock<(Vec<u8>, String)> = OnceLock::new();
        let (keyring, file) = MADE.get_or_init(|| (Identity::with_subkey().keyring(), clear_signed(TEXT, &[&Identity::new()])));
        let mut bytes = keyring.clone();
        let at = at.index(bytes.len());
        bytes[at] = byte;
        let mut ring = Keyring::default();
        let _ = ring.add(&bytes);
        prop_assert!(ring.prove(file.as_bytes(), now()).is_err());
    }
}

/// What is said of a text by another program's keyring and signature, `later` seconds after they were made.
fn of_another_program(keyring: &str, signed: &str, later: u64) -> Result<String, Unproved> {
    let file = |name: &str| std::fs::read(format!("{}/tests/data/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap();
    ring(&file(keyring)).prove(&file(signed), ANOTHER_MADE + later)
}

/// When they were made.
const ANOTHER_MADE: u64 = 1_795_446_317;

#[test]
fn a_key_that_has_expired_or_was_withdrawn_proves_nothing() {
    assert_eq!(of_another_program("key-for-a-day.asc", "signed.txt", 60).unwrap(), "Suite: tide");
    refused(of_another_program("key-for-a-day.asc", "signed.txt", 2 * DAY), "the key has expired");
    refused(of_another_program("key-withdrawn.asc", "signed.txt", 60), "withdrawn by its owner");
}

#[test]
fn what_another_program_signs_with_each_algorithm_is_proved() {
    for name in ["rsa", "p256", "p384"] {
        let (keyring, signed) = (format!("key-{name}.asc"), format!("signed-{name}.txt"));
        let text = of_another_program(&keyring, &signed, 60).unwrap();
        assert_eq!(text, "Suite: tide\n- a line with a dash\nblanks at the end", "{name}");
    }
    refused(of_another_program("key-rsa.asc", "signed-rsa.txt", 400 * DAY), "the subkey has expired");
    let withdrawn = of_another_program("key-withdrawn-subkey.asc", "signed-withdrawn-subkey.txt", 60);
    refused(withdrawn, "the subkey was withdrawn");
    refused(of_another_program("key-sha1.asc", "signed-sha1.txt", 60), "a digest that is not safe any more");
}
