//! A root with Debian's busybox in it, without a spec or a store.

use std::fs;
use std::path::{Path, PathBuf};

use cavrith_core::digest::Sha256Digest;
use cavrith_sources::{checked, deb};
use cavrith_store::owners::Ownership;
use cavrith_store::writer::{LayerWriter, Links};

const PACKAGE: &str =
    concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/depot/packages/busybox-static_1.35.0-4+deb12u1+b1_amd64.deb");

/// Unpacks it beneath a directory, with the places where something is mounted.
pub fn layer(dir: &Path) -> PathBuf {
    let made = dir.join("layer");
    fs::create_dir(&made).unwrap();
    let mut writer = LayerWriter::new(made.clone(), 0, Links::Follow, Ownership::Real).unwrap();
    let bytes = fs::read(PACKAGE).unwrap();
    let copy = dir.join("copy");
    let package = checked::check(PACKAGE.as_ref(), bytes.len() as u64, Sha256Digest::of(&bytes), &copy);
    deb::unpack(&mut package.unwrap(), &mut writer).unwrap();
    drop(writer.finish().unwrap());
    for name in ["dev", "proc", "run", "sys", "tmp"] {
        fs::create_dir(made.join("root").join(name)).unwrap();
    }
    made.join("root")
}
