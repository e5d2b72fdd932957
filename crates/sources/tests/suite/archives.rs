//! Archives from outside: what they bring arrives exactly, and what they must not bring does not.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Tree};
use cavrith_sources::checked::{self, Checked};
use cavrith_sources::tarball::{self, Laying, Rights};
use cavrith_sources::{SourceError, deb, zipball};
use cavrith_store::owners::Ownership;
use cavrith_store::writer::{LayerWriter, Links};
use proptest::prelude::*;
use tar::EntryType;

const EPOCH: u64 = 1_700_000_000;

/// An entry whose name is written as it is, however hostile.
fn entry(archive: &mut Vec<u8>, kind: EntryType, name: &[u8], mode: u32, link: &[u8], content: &[u8]) {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(kind);
    header.set_mode(mode);
    header.set_uid(0);
    header.set_gid(0);
    header.set_mtime(EPOCH + 9);
    header.set_size(content.len() as u64);
    for (kind, text) in [(EntryType::GNULongName, name), (EntryType::GNULongLink, link)] {
        if text.len() > 100 {
            entry(archive, kind, b"././@LongLink", 0, b"", text);
        }
    }
    let old = header.as_old_mut();
    (old.name, old.linkname) = ([0; 100], [0; 100]);
    old.name[..name.len().min(100)].copy_from_slice(&name[..name.len().min(100)]);
    old.linkname[..link.len().min(100)].copy_from_slice(&link[..link.len().min(100)]);
    header.set_cksum();
    archive.extend(header.as_bytes());
    archive.extend(content);
    archive.extend(vec![0; content.len().next_multiple_of(512) - content.len()]);
}

fn file(name: &str) -> Vec<u8> {
    let mut archive = Vec::new();
    entry(&mut archive, EntryType::Regular, name.as_bytes(), 0o644, b"", b"x");
    archive
}

struct Unpacked {
    dir: tempfile::TempDir,
    result: Result<Tree, String>,
}

fn unpack_as(archive: &[u8], laying: &Laying, links: Links) -> Unpacked {
    let dir = tempfile::tempdir().unwrap();
    let layer = dir.path().join("layer");
    fs::create_dir(&layer).unwrap();
    let mut writer = LayerWriter::new(layer, EPOCH, links, Ownership::Real).unwrap();
    let result = tarball::unpack(archive, "hostile.tar", laying, &mut writer);
    let result = result.map_err(|error| error.to_string()).map(|_| writer.finish().unwrap().tree().clone());
    Unpacked { dir, result }
}

fn tool() -> Laying {
    Laying { strip: 0, place: RootPath::from_absolute("/opt/tool").unwrap(), rights: Rights::Plain }
}

fn base() -> Laying {
    Laying { strip: 0, place: RootPath::root(), rights: Rights::AsGiven }
}

fn path(text: &str) -> RootPath {
    RootPath::from_absolute(text).unwrap()
}

#[test]
fn paths_that_lead_out_are_refused() {
    for name in ["../x", "/etc/x", "a/../../x", "a/..", "..", "./../x"] {
        let unpacked = unpack_as(&file(name), &tool(), Links::Refuse);
        let error = unpacked.result.unwrap_err();
        assert!(error.contains("hostile.tar is refused"), "{name}: {error}");
    }
}

#[test]
fn no_entry_is_written_through_a_link() {
    let outside = tempfile::tempdir().unwrap();
    let target = outside.path().as_os_str().as_encoded_bytes();
    let mut direct = Vec::new();
    entry(&mut direct, EntryType::Symlink, b"out", 0o777, target, b"");
    entry(&mut direct, EntryType::Regular, b"out/planted", 0o644, b"", b"x");
    let mut in_two_steps = Vec::new();
    entry(&mut in_two_steps, EntryType::Symlink, b"a", 0o777, b"..", b"");
    entry(&mut in_two_steps, EntryType::Symlink, b"b", 0o777, b"a/../../..", b"");
    entry(&mut in_two_steps, EntryType::Regular, b"b/planted", 0o644, b"", b"x");
    let mut swapped = Vec::new();
    entry(&mut swapped, EntryType::Directory, b"d", 0o755, b"", b"");
    entry(&mut swapped, EntryType::Symlink, b"d", 0o777, target, b"");
    entry(&mut swapped, EntryType::Regular, b"d/planted", 0o644, b"", b"x");
    let mut over_a_link = Vec::new();
    entry(&mut over_a_link, EntryType::Symlink, b"l", 0o777, &[target, b"/planted"].concat(), b"");
    entry(&mut over_a_link, EntryType::Regular, b"l", 0o644, b"", b"x");
    for archive in [direct, in_two_steps, swapped, over_a_link] {
        assert!(unpack_as(&archive, &tool(), Links::Refuse).result.is_err());
        // A base may have links on its ways; they are followed inside its own root only.
        let unpacked = unpack_as(&archive, &base(), Links::Follow);
        assert_eq!(fs::read_dir(outside.path()).unwrap().count(), 0);
        drop(unpacked);
    }
}

#[test]
fn a_base_s_own_links_are_followed_inside_its_root() {
    let mut archive = Vec::new();
    entry(&mut archive, EntryType::Directory, b"./usr/bin", 0o755, b"", b"");
    entry(&mut archive, EntryType::Symlink, b"./bin", 0o777, b"usr/bin", b"");
    entry(&mut archive, EntryType::Directory, b"./bin/", 0o755, b"", b"");
    entry(&mut archive, EntryType::Regular, b"./bin/ls", 0o755, b"", b"x");
    entry(&mut archive, EntryType::Symlink, b"./up", 0o777, b"/../../bin/..", b"");
    entry(&mut archive, EntryType::Regular, b"./up/lib", 0o644, b"", b"y");
    let tree = unpack_as(&archive, &base(), Links::Follow).result.unwrap();
    assert!(tree.get(&path("/usr/bin/ls")).is_some());
    assert!(tree.get(&path("/usr/lib")).is_some());
    assert!(matches!(tree.get(&path("/bin")).unwrap().kind, Kind::Symlink { .. }));
    let mut circle = Vec::new();
    entry(&mut circle, EntryType::Symlink, b"a", 0o777, b"b", b"");
    entry(&mut circle, EntryType::Symlink, b"b", 0o777, b"a", b"");
    entry(&mut circle, EntryType::Regular, b"a/x", 0o644, b"", b"x");
    assert!(unpack_as(&circle, &base(), Links::Follow).result.unwrap_err().contains("without an end"));
}

#[test]
fn hard_links_to_outside_devices_and_set_uid_programs_are_refused() {
    let archive = |kind, mode, link: &[u8]| {
        let mut archive = Vec::new();
        entry(&mut archive, kind, b"thing", mode, link, b"");
        archive
    };
    for (what, archive) in [
        ("hard link", archive(EntryType::Link, 0o644, b"/etc/passwd")),
        ("hard link", archive(EntryType::Link, 0o644, b"missing")),
        ("device", archive(EntryType::Char, 0o666, b"")),
        ("device", archive(EntryType::Block, 0o666, b"")),
        ("named pipe", archive(EntryType::Fifo, 0o666, b"")),
        ("set-uid", archive(EntryType::Regular, 0o4755, b"")),
        ("set-uid", archive(EntryType::Regular, 0o2755, b"")),
        ("no usable target", archive(EntryType::Symlink, 0o777, b"")),
    ] {
        let error = unpack_as(&archive, &tool(), Links::Refuse).result.unwrap_err();
        assert!(error.contains(what) || error.contains("absolute"), "{what}: {error}");
    }
    let device = unpack_as(&archive(EntryType::Char, 0o666, b""), &base(), Links::Follow);
    assert!(device.result.unwrap_err().contains("is a device"));
}

#[test]
fn marks_of_overlayfs_cannot_be_smuggled_in() {
    let mut record = b" SCHILY.xattr.user.overlay.opaque=y\n".to_vec();
    record.splice(..0, format!("{}", record.len() + 2).into_bytes());
    let mut archive = Vec::new();
    entry(&mut archive, EntryType::XHeader, b"pax", 0o644, b"", &record);
    entry(&mut archive, EntryType::Directory, b"etc", 0o755, b"", b"");
    let error = unpack_as(&archive, &base(), Links::Follow).result.unwrap_err();
    assert!(error.contains("user.overlay.opaque"), "{error}");
}

#[test]
fn names_that_are_no_text_survive_and_long_ones_are_bounded() {
    let mut archive = Vec::new();
    for name in [&b"new\nline"[..], b"\xff\xfe", b"\x1b[2J", &[b'n'; 255], b"a/b/../c".split_at(3).0] {
        entry(&mut archive, EntryType::Regular, name, 0o644, b"", b"x");
    }
    let tree = unpack_as(&archive, &tool(), Links::Refuse).result.unwrap();
    assert!(tree.get(&path("/opt/tool").join(b"\xff\xfe").unwrap()).is_some());
    assert!(tree.get(&path("/opt/tool").join(b"new\nline").unwrap()).is_some());
    for name in [vec![b'n'; 256], b"deep/".repeat(1000)] {
        let mut archive = Vec::new();
        entry(&mut archive, EntryType::Regular, &name, 0o644, b"", b"x");
        assert!(unpack_as(&archive, &tool(), Links::Refuse).result.unwrap_err().contains("too long"));
    }
}

#[test]
fn what_arrives_is_root_s_readable_and_carries_the_epoch() {
    let mut archive = Vec::new();
    entry(&mut archive, EntryType::Directory, b"t-1", 0o700, b"", b"");
    entry(&mut archive, EntryType::Regular, b"t-1/bin/run", 0o710, b"", b"program");
    entry(&mut archive, EntryType::Regular, b"t-1/data", 0o600, b"", b"data");
    entry(&mut archive, EntryType::Link, b"t-1/same", 0o600, b"t-1/data", b"");
    entry(&mut archive, EntryType::Symlink, b"t-1/latest", 0o777, b"/opt/tool/bin", b"");
    let unpacked = unpack_as(&archive, &Laying { strip: 1, ..tool() }, Links::Refuse);
    let tree = unpacked.result.unwrap();
    let mode = |at: &str| tree.get(&path(at)).unwrap().meta.mode;
    assert_eq!((mode("/opt/tool"), mode("/opt/tool/bin/run"), mode("/opt/tool/data")), (0o755, 0o755, 0o644));
    let root = unpacked.dir.path().join("layer/root");
    for name in ["opt", "opt/tool/bin/run", "opt/tool/latest"] {
        assert_eq!(fs::symlink_metadata(root.join(name)).unwrap().mtime(), EPOCH as i64, "{name}");
    }
    assert_eq!(fs::metadata(root.join("opt/tool/bin/run")).unwrap().permissions().mode() & 0o7777, 0o755);
    let inode = |name: &str| fs::metadata(root.join(name)).unwrap().ino();
    assert_eq!(inode("opt/tool/data"), inode("opt/tool/same"));
}

#[test]
fn truncated_archives_are_refused() {
    let mut archive = Vec::new();
    entry(&mut archive, EntryType::Regular, b"a", 0o644, b"", &[7; 3000]);
    for length in [1, 100, 511, 513, 1000, 3000] {
        assert!(unpack_as(&archive[..length], &tool(), Links::Refuse).result.is_err(), "{length} bytes were taken");
    }
}

fn check(dir: &Path, bytes: &[u8]) -> Checked {
    let from = dir.join("a.file");
    fs::write(&from, bytes).unwrap();
    checked::check(&from, bytes.len() as u64, Sha256Digest::of(bytes), &dir.join("copy")).unwrap()
}

#[test]
fn a_file_that_is_not_what_is_pinned_is_refused_with_both() {
    let dir = tempfile::tempdir().unwrap();
    let from = dir.path().join("quill.tar");
    fs::write(&from, b"other").unwrap();
    let staged = dir.path().join("copy");
    let digest = Sha256Digest::of(b"quill");
    let told = |result: Result<Checked, SourceError>| result.unwrap_err().to_string();
    let error = told(checked::check(&from, 5, digest, &staged));
    assert!(error.contains(&digest.to_string()) && error.contains(&Sha256Digest::of(b"other").to_string()), "{error}");
    assert!(told(checked::check(&from, 4, digest, &staged)).contains("expected 4 bytes, found 5"));
    assert!(told(checked::check(&dir.path().join("none"), 4, digest, &staged)).contains("none"));
    assert!(told(checked::check(dir.path(), 4, digest, &staged)).contains("not a regular file"));
    assert!(!staged.exists(), "a copy was left");
}

fn zipped(entries: &[(&str, &str, u32)]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, content, mode) in entries {
        let options = zip::write::SimpleFileOptions::default().unix_permissions(*mode);
        archive.start_file(*name, options).unwrap();
        archive.write_all(content.as_bytes()).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

fn unzip(bytes: &[u8], strip: usize) -> Result<Tree, String> {
    let dir = tempfile::tempdir().unwrap();
    let mut checked = check(dir.path(), bytes);
    let layer = dir.path().join("layer");
    fs::create_dir(&layer).unwrap();
    let mut writer = LayerWriter::new(layer, EPOCH, Links::Refuse, Ownership::Real).unwrap();
    let laying = Laying { strip, ..tool() };
    zipball::unpack(&mut checked, &laying, &mut writer).map_err(|error| error.to_string())?;
    Ok(writer.finish().unwrap().tree().clone())
}

#[test]
fn an_extension_s_archive_is_laid_out_without_what_lies_beside_it() {
    let bytes =
        zipped(&[("manifest", "m", 0o644), ("extension/package.json", "{}", 0o600), ("extension/run", "r", 0o755)]);
    let tree = unzip(&bytes, 1).unwrap();
    let names: Vec<_> = tree.entries.keys().map(ToString::to_string).collect();
    assert_eq!(names, ["/", "/opt", "/opt/tool", "/opt/tool/package.json", "/opt/tool/run"]);
    assert_eq!(tree.get(&path("/opt/tool/run")).unwrap().meta.mode, 0o755);
}

#[test]
fn hostile_zip_archives_are_refused() {
    for name in ["../x", "/etc/x", "a/../../x"] {
        assert!(unzip(&zipped(&[(name, "x", 0o644)]), 0).is_err(), "{name} was taken");
    }
    // The crate's writer does not write such rights, so they are put into the directory by hand.
    let mut set_uid = zipped(&[("run", "x", 0o755)]);
    let rights = 0o100_755_u16.to_le_bytes();
    let at = set_uid.windows(2).rposition(|pair| pair == rights).unwrap();
    set_uid[at..at + 2].copy_from_slice(&0o104_755_u16.to_le_bytes());
    match unzip(&set_uid, 0) {
        Err(error) => assert!(error.contains("set-uid"), "{error}"),
        Ok(tree) => assert_eq!(tree.get(&path("/opt/tool/run")).unwrap().meta.mode, 0o755),
    }
    let good = zipped(&[("a", &"text ".repeat(500), 0o644)]);
    for length in [0, 10, good.len() / 2, good.len() - 1] {
        assert!(unzip(&good[..length], 0).is_err(), "{length} bytes were taken");
    }
}

fn package(control: &str, data: &[u8]) -> Vec<u8> {
    let mut control_tar = Vec::new();
    entry(&mut control_tar, EntryType::Regular, b"./control", 0o644, b"", control.as_bytes());
    entry(&mut control_tar, EntryType::Regular, b"./conffiles", 0o644, b"", b"/etc/tide.conf\n");
    let mut bytes = b"!<arch>\n".to_vec();
    for (name, content) in [("debian-binary", &b"2.0\n"[..]), ("control.tar", &control_tar), ("data.tar", data)] {
        bytes.extend(format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 100_644, content.len()).bytes());
        bytes.extend(content);
        bytes.extend(vec![b'\n'; content.len() % 2]);
    }
    bytes
}

const CONTROL: &str =
    "Package: tide\nVersion: 1.2-3\nArchitecture: all\nMulti-Arch: same\nDescription: tables\n of the sea\n";

fn tide_data() -> Vec<u8> {
    let mut data = Vec::new();
    entry(&mut data, EntryType::Directory, b"./etc/", 0o755, b"", b"");
    entry(&mut data, EntryType::Regular, b"./etc/tide.conf", 0o640, b"", b"low = 1\n");
    data
}

#[test]
fn a_package_is_laid_out_and_recorded_as_dpkg_records_it() {
    let dir = tempfile::tempdir().unwrap();
    let layer = dir.path().join("layer");
    fs::create_dir(&layer).unwrap();
    let mut writer = LayerWriter::new(layer.clone(), EPOCH, Links::Follow, Ownership::Real).unwrap();
    let mut checked = check(dir.path(), &package(CONTROL, &tide_data()));
    assert_eq!(deb::read_control(&mut checked).unwrap().newest, EPOCH + 9);
    let installed = deb::unpack(&mut checked, &mut writer).unwrap();
    deb::write_database(&[installed], &mut writer).unwrap();
    writer.finish().unwrap();
    let read = |name: &str| fs::read_to_string(layer.join("root").join(name)).unwrap();
    assert_eq!(
        read("var/lib/dpkg/status"),
        "Package: tide\nStatus: install ok installed\nVersion: 1.2-3\nArchitecture: all\nMulti-Arch: same\n\
         Description: tables\n of the sea\nConffiles:\n /etc/tide.conf b70eae0da3d58bdbc8835d60f41647da\n"
    );
    assert_eq!(read("var/lib/dpkg/info/tide:all.list"), "/.\n/etc\n/etc/tide.conf\n");
    assert_eq!(read("etc/tide.conf"), "low = 1\n");
    let listed = deb::parse_status(&read("var/lib/dpkg/status"));
    assert_eq!((listed[0].name.as_str(), listed[0].version.as_str(), listed[0].installed), ("tide", "1.2-3", true));
}

#[test]
fn packages_that_are_none_are_refused() {
    let dir = tempfile::tempdir().unwrap();
    let good = package(CONTROL, &tide_data());
    for (what, bytes) in [
        ("no package", b"just text".to_vec()),
        ("truncated", good[..good.len() / 2].to_vec()),
        (
            "no control file",
            package("", &tide_data()).iter().map(|byte| if *byte == b'.' { b'_' } else { *byte }).collect(),
        ),
        ("no field", package("no colon\n", &tide_data())),
        ("another order", good.iter().rev().copied().collect()),
    ] {
        assert!(deb::read_control(&mut check(dir.path(), &bytes)).is_err(), "{what} was taken");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn damaged_packages_and_archives_are_answered(at in any::<prop::sample::Index>(), byte in any::<u8>(), cut in any::<bool>()) {
        let dir = tempfile::tempdir().unwrap();
        for mut bytes in [package(CONTROL, &tide_data()), zipped(&[("extension/a", "text", 0o644)])] {
            let at = at.index(bytes.len());
            if cut { bytes.truncate(at) } else { bytes[at] = byte }
            let _ = deb::read_control(&mut check(dir.path(), &bytes));
            let _ = unzip(&bytes, 1);
            let _ = unpack_as(&bytes, &base(), Links::Follow);
        }
    }
}
