//! Archives that somebody made to do harm, and archives that a disk or a network has damaged.

use std::fs;
use std::io::{Cursor, Read, Write as _};
use std::path::Path;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::path::RootPath;
use cavrith_sources::checked::{self, Checked};
use cavrith_sources::tarball::{self, Laying, Rights};
use cavrith_sources::{SourceError, compression, deb, zipball};
use cavrith_store::owners::Ownership;
use cavrith_store::writer::{LayerWriter, Links};
use proptest::prelude::*;

fn check(dir: &Path, bytes: &[u8]) -> Checked {
    let from = dir.join("a.file");
    fs::write(&from, bytes).unwrap();
    checked::check(&from, bytes.len() as u64, Sha256Digest::of(bytes), &dir.join("copy")).unwrap()
}

fn writer(dir: &Path) -> LayerWriter {
    let layer = dir.join("layer");
    fs::create_dir(&layer).unwrap();
    LayerWriter::new(layer, 1_700_000_000, Links::Follow, Ownership::Real).unwrap()
}

fn plain() -> Laying {
    Laying { strip: 0, place: RootPath::from_absolute("/opt/tool").unwrap(), rights: Rights::Plain }
}

fn unzip(bytes: &[u8]) -> Result<(), SourceError> {
    let dir = tempfile::tempdir().unwrap();
    zipball::unpack(&mut check(dir.path(), bytes), &plain(), &mut writer(dir.path()))
}

fn untar(bytes: &[u8]) -> Result<(), SourceError> {
    let dir = tempfile::tempdir().unwrap();
    let stream = compression::unpack(bytes, bytes.len() as u64)
        .map_err(|error| SourceError::Damaged { name: "a".to_owned(), why: error.to_string() })?;
    tarball::unpack(stream, "a", &plain(), &mut writer(dir.path())).map(drop)
}

fn undeb(bytes: &[u8]) -> Result<(), SourceError> {
    let dir = tempfile::tempdir().unwrap();
    deb::unpack(&mut check(dir.path(), bytes), &mut writer(dir.path())).map(drop)
}

fn zip(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, content) in entries {
        archive.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        archive.write_all(content).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

fn tar(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut archive = tar::Builder::new(Vec::new());
    for (name, content) in entries {
        let mut header = tar::Header::new_ustar();
        header.set_size(content.len() as u64);
        header.set_mode(0o644);
        archive.append_data(&mut header, name, *content).unwrap();
    }
    archive.into_inner().unwrap()
}

#[test]
fn a_zip_whose_two_directories_disagree_is_refused() {
    let good = zip(&[("harmless.txt", b"x"), ("other", b"y")]);
    unzip(&good).unwrap();
    for (old, new) in [(&b"harmless.txt"[..], &b"harmful!.txt"[..]), (b"other", b"../..")] {
        let at = good.windows(old.len()).position(|part| part == old).unwrap();
        let mut lying = good.clone();
        lying[at..at + old.len()].copy_from_slice(new);
        let error = unzip(&lying).unwrap_err().to_string();
        assert!(error.contains("its central directory calls"), "{error}");
    }
}

#[test]
fn a_zip_that_unpacks_to_ten_gibibytes_is_stopped() {
    // 320 MiB of zeros, packed once to 320 KiB, and listed 40 times by the central directory.
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    archive.start_file("zeros-00", zip::write::SimpleFileOptions::default()).unwrap();
    std::io::copy(&mut std::io::repeat(0).take(320 << 20), &mut archive).unwrap();
    let bytes = archive.finish().unwrap().into_inner();
    // One honest entry of that size is stopped by what its archive's own length allows.
    let error = unzip(&bytes).unwrap_err().to_string();
    assert!(error.contains("far more than its size allows"), "{error}");
    let central = bytes.windows(4).rposition(|part| part == b"PK\x01\x02").unwrap();
    let end = bytes.windows(4).rposition(|part| part == b"PK\x05\x06").unwrap();
    let mut bomb = bytes[..central].to_vec();
    for number in 0..40 {
        let mut entry = bytes[central..end].to_vec();
        let name = entry.windows(8).position(|part| part == b"zeros-00").unwrap();
        entry[name + 6..name + 8].copy_from_slice(format!("{number:02}").as_bytes());
        bomb.extend(entry);
    }
    let size = (bomb.len() - central) as u32;
    let mut tail = bytes[end..].to_vec();
    tail[8..10].copy_from_slice(&40u16.to_le_bytes());
    tail[10..12].copy_from_slice(&40u16.to_le_bytes());
    tail[12..16].copy_from_slice(&size.to_le_bytes());
    bomb.extend(tail);
    let error = unzip(&bomb).unwrap_err().to_string();
    assert!(error.contains("its central directory calls zeros-01 what calls itself zeros-00"), "{error}");
}

/// The same header again and again, without end.
struct Endless {
    header: Vec<u8>,
    at: usize,
}

impl Read for Endless {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        for byte in buffer.iter_mut() {
            *byte = self.header[self.at];
            self.at = (self.at + 1) % self.header.len();
        }
        Ok(buffer.len())
    }
}

#[test]
fn more_than_a_million_entries_are_too_many() {
    let header = tar(&[("x", b"")])[..512].to_vec();
    let error = tarball::newest(Endless { header, at: 0 }, "many").unwrap_err().to_string();
    assert!(error.contains("more than 1000000 entries"), "{error}");
}

#[test]
fn an_ar_archive_with_lying_sizes_is_refused() {
    let member = |name: &str, size: &str| format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{size:<10}`\n", 0, 0, 0, 100_644);
    for size in ["-1", "99999999", "18446744", "4 4", "0x4", "", "5"] {
        let lying = format!("!<arch>\n{}2.0\n", member("debian-binary", size));
        assert!(undeb(lying.as_bytes()).is_err(), "{size} was taken");
    }
}

const PACKAGE: &[u8] = include_bytes!("../../../../demo/depot/packages/busybox-static_1.35.0-4+deb12u1+b1_amd64.deb");

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn damaged_archives_are_refused_or_read_and_never_worse(position in any::<prop::sample::Index>(), bit in 0..8u8, cut in any::<prop::sample::Index>()) {
        let content = b"ten past six\n".repeat(200);
        let entries: &[(&str, &[u8])] = &[("bin/run", &content), ("lib/very/deep/file", b"x"), ("empty", b"")];
        let tarred = tar(entries);
        for whole in [tarred.clone(), zip(entries)] {
            let mut flipped = whole.clone();
            flipped[position.index(whole.len())] ^= 1 << bit;
            for bytes in [&flipped[..], &whole[..cut.index(whole.len())]] {
                let _ = untar(bytes);
                let _ = unzip(bytes);
                let _ = undeb(bytes);
            }
        }
        // The head of a real package, where all its structure is, and none of its bulk.
        let mut head = PACKAGE[..2048].to_vec();
        head[position.index(2048)] ^= 1 << bit;
        let _ = undeb(&head);
    }

    #[test]
    fn noise_is_refused(bytes in prop::collection::vec(any::<u8>(), 1..2000)) {
        let _ = untar(&bytes);
        prop_assert!(unzip(&bytes).is_err());
        prop_assert!(undeb(&bytes).is_err());
    }
}
