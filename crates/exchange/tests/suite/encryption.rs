//! Parcels for certain people: who can read them, and who cannot. The keys in `tests/data` were made for these tests by
//! another program; the passphrase of the one that has one is `low water`.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};

use age::secrecy::ExposeSecret as _;
use cavrith_exchange::ExchangeError;
use cavrith_exchange::parcel::encryption::{Keys, Recipients, is_encrypted};
use cavrith_exchange::parcel::{NewParcel, OpenParcel};
use cavrith_store::Store;

fn data(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name)
}

fn public(name: &str) -> String {
    data(&format!("{name}.pub")).to_str().unwrap().to_owned()
}

/// A parcel for these keys, in a folder of its own.
fn packed(recipients: &[String]) -> (tempfile::TempDir, PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("store")).unwrap();
    let staging = store.stage("parcel").unwrap();
    let mut parcel = NewParcel::new(&store, &staging);
    // More than one piece of the format, which has 64 KiB each.
    parcel.annotate("tides", "high water ".repeat(20_000));
    let file = dir.path().join("parcel");
    parcel.write(&Recipients::parse(recipients).unwrap(), &file).unwrap();
    (dir, file)
}

fn keys(named: &[PathBuf]) -> Keys {
    Keys { named: named.to_vec(), usual: Vec::new(), ask: |_| panic!("nobody has to be asked") }
}

#[test]
fn each_of_the_keys_opens_it_and_no_other() {
    let age = age::x25519::Identity::generate();
    let (dir, file) = packed(&[public("ed25519"), public("rsa"), age.to_public().to_string()]);
    assert!(is_encrypted(&file));
    let text = fs::read(&file).unwrap();
    assert!(!text.windows(10).any(|part| part == b"high water"));
    assert!(OpenParcel::open(&file).is_err());

    let own = dir.path().join("age");
    fs::write(&own, format!("# made up\n{}\n", age.to_string().expose_secret())).unwrap();
    for (number, key) in [data("ed25519"), data("rsa"), own].into_iter().enumerate() {
        let plain = dir.path().join(format!("plain-{number}"));
        keys(std::slice::from_ref(&key)).decrypt(&file, &plain).unwrap();
        assert_eq!(fs::metadata(&plain).unwrap().permissions().mode() & 0o777, 0o600);
        let opened = OpenParcel::open(&plain).unwrap();
        assert!(opened.document.annotations["tides"].ends_with("high water "), "{}", key.display());
    }
    let other = dir.path().join("other");
    // A key with a passphrase that opens nothing is not asked for.
    let error = keys(&[data("passphrase")]).decrypt(&file, &other).unwrap_err();
    assert!(matches!(error, ExchangeError::NoKey { .. }) && error.to_string().contains("--key FILE"), "{error}");
    let nobody = Keys { usual: vec!["/nowhere/id_ed25519".into()], ..keys(&[]) };
    assert!(nobody.decrypt(&file, &other).unwrap_err().to_string().contains("no key in ~/.ssh"));
    assert!(!other.exists());
}

#[test]
fn a_passphrase_is_asked_for_once_and_only_where_it_helps() {
    static ASKED: AtomicUsize = AtomicUsize::new(0);
    let (dir, file) = packed(&[public("ed25519"), public("passphrase")]);
    let with = |ask| Keys { ask, ..keys(&[data("passphrase")]) };
    let plain = dir.path().join("plain");
    with(|key| {
        ASKED.fetch_add(1, Ordering::SeqCst);
        assert!(key.ends_with("passphrase"));
        Some("low water".to_owned())
    })
    .decrypt(&file, &plain)
    .unwrap();
    assert_eq!(ASKED.load(Ordering::SeqCst), 1);
    assert!(OpenParcel::open(&plain).is_ok());
    let error = with(|_| Some("high water".to_owned())).decrypt(&file, &dir.path().join("other")).unwrap_err();
    assert!(error.to_string().contains("passphrase does not open"), "{error}");
    let error = with(|_| None).decrypt(&file, &dir.path().join("other")).unwrap_err();
    assert!(error.to_string().contains("no terminal"), "{error}");
}

#[test]
fn what_is_no_public_key_is_refused_before_anything_is_packed() {
    let dir = tempfile::tempdir().unwrap();
    let empty = dir.path().join("empty");
    fs::write(&empty, "# nobody yet\n").unwrap();
    for (text, why) in [
        (data("ed25519").to_str().unwrap().to_owned(), "a private key"),
        (public("ecdsa"), "only ssh-ed25519, ssh-rsa and age1"),
        ("age1tides".to_owned(), "no age key"),
        ("ssh-ed25519 AAAA".to_owned(), "only ssh-ed25519"),
        ("/nowhere/key.pub".to_owned(), "neither a public key nor a file"),
        (empty.to_str().unwrap().to_owned(), "has no key"),
    ] {
        let error = Recipients::parse(std::slice::from_ref(&text)).unwrap_err();
        assert!(matches!(error, ExchangeError::Key { .. }) && error.to_string().contains(why), "{text}: {error}");
    }
}

#[test]
fn a_damaged_or_endless_one_is_answered_and_leaves_no_half() {
    let (dir, file) = packed(&[public("ed25519")]);
    let whole = fs::read(&file).unwrap();
    let mut broken = vec![whole[..whole.len() - 1].to_vec(), whole[..30].to_vec(), whole[..100].to_vec()];
    for at in [40, 150, whole.len() / 2, whole.len() - 3] {
        let mut bytes = whole.clone();
        bytes[at] ^= 1;
        broken.push(bytes);
    }
    let mut endless = b"age-encryption.org/v1\n".to_vec();
    endless.resize(3 << 20, b'x');
    broken.push(endless);
    for (number, bytes) in broken.into_iter().enumerate() {
        let bad = dir.path().join(format!("bad-{number}"));
        fs::write(&bad, bytes).unwrap();
        let plain = dir.path().join(format!("plain-{number}"));
        let error = keys(&[data("ed25519")]).decrypt(&bad, &plain).unwrap_err();
        assert!(matches!(error, ExchangeError::Parcel { .. } | ExchangeError::NoKey { .. }), "{number}: {error}");
        assert!(!plain.exists(), "{number}");
    }
}
