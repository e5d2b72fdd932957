//! Partitions, what firmware reads, what is written to, and what a kernel starts from: read back, and given to the
//! system's own checkers where they are.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

use std::io::{Seek as _, SeekFrom, Write as _};
use std::path::Path;
use std::process::Command;

use cavrith_disk::cpio::Cpio;
use cavrith_disk::ext4::{Ext4, GROUP_BYTES};
use cavrith_disk::fat::Fat;
use cavrith_disk::gpt::{self, Guid, Partition, Purpose, SECTOR};
use cavrith_disk::piece::Piece;
use cavrith_disk::qcow2::{CLUSTER, Qcow2};
use cavrith_disk::unified::{self, BadStub};
use cavrith_disk::verity::Verity;
use cavrith_disk::{module, piece};
use proptest::prelude::*;

/// Writes pieces into a sparse file, and gives how many bytes they are.
fn file(
    pieces: impl FnOnce(piece::OnPiece<'_, std::io::Error>) -> std::io::Result<()>,
) -> (tempfile::NamedTempFile, u64) {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    let mut at = 0;
    pieces(&mut |piece| {
        match piece {
            Piece::Known(bytes) => {
                file.as_file_mut().seek(SeekFrom::Start(at))?;
                file.write_all(bytes)?;
                at += bytes.len() as u64;
            }
            Piece::Zeros(count) => at += count,
            Piece::Content(path, _) => panic!("{path} is not known here"),
        }
        Ok(())
    })
    .unwrap();
    file.as_file().set_len(at).unwrap();
    (file, at)
}

/// Runs a checker, when it is here.
fn checked(program: &str, arguments: &[&str], path: &Path) {
    if let Ok(output) = Command::new(program).args(arguments).arg(path).output() {
        assert!(output.status.success(), "{program}: {output:?}");
    }
}

fn number(bytes: &[u8], at: usize, length: usize) -> u64 {
    let mut whole = [0; 8];
    whole[..length].copy_from_slice(&bytes[at..at + length]);
    u64::from_le_bytes(whole)
}

#[test]
fn what_firmware_reads_is_read_back_from_its_chains() {
    let large: Vec<u8> = (0..3_000_001_u32).map(|byte| (byte * 31) as u8).collect();
    let files: [(&[&str], &[u8]); 3] =
        [(&["EFI", "BOOT", "BOOTX64.EFI"], &large), (&["EFI", "NOTE.TXT"], b"high water"), (&["EMPTY"], b"")];
    let fat = Fat::new(&files, 0x1234_5678, 1_709_213_862);
    let (disk, size) = file(|on_piece| fat.pieces(on_piece));
    assert_eq!(size, fat.sectors() * SECTOR);
    checked("fsck.vfat", &["-n"], disk.path());
    let bytes = std::fs::read(disk.path()).unwrap();
    let reserved = number(&bytes, 14, 2);
    let table = number(&bytes, 36, 4);
    let data = (reserved + 2 * table) * SECTOR;
    let chain = |first: u64| {
        let mut content = Vec::new();
        let mut cluster = first;
        while (2..0x0FFF_FFF8).contains(&cluster) {
            let at = (data + (cluster - 2) * SECTOR) as usize;
            content.extend_from_slice(&bytes[at..at + SECTOR as usize]);
            cluster = number(&bytes, (reserved * SECTOR + cluster * 4) as usize, 4);
        }
        content
    };
    let find = |directory: &[u8], name: &[u8; 11]| {
        let entry = directory.chunks(32).find(|entry| &entry[..11] == name).unwrap();
        (number(entry, 26, 2) | number(entry, 20, 2) << 16, number(entry, 28, 4) as usize)
    };
    let root = chain(number(&bytes, 44, 4));
    assert_eq!(find(&root, b"EMPTY      "), (0, 0));
    let efi = chain(find(&root, b"EFI        ").0);
    let (note, length) = find(&efi, b"NOTE    TXT");
    assert_eq!(&chain(note)[..length], b"high water");
    let boot = chain(find(&efi, b"BOOT       ").0);
    let (program, length) = find(&boot, b"BOOTX64 EFI");
    assert!(chain(program)[..length] == large);
    // The second table is as the first.
    let tables = (reserved * SECTOR) as usize;
    let one = (table * SECTOR) as usize;
    assert!(bytes[tables..tables + one] == bytes[tables + one..tables + 2 * one]);
}

#[test]
fn an_empty_file_system_is_sound_whatever_its_size_and_almost_all_of_it_is_zero() {
    for groups in [1, 2, 4, 10, 80] {
        let made = Ext4::new(groups * GROUP_BYTES + 4096, [3; 16], [4; 16], 1_700_000_000);
        assert_eq!(made.size(), groups * GROUP_BYTES);
        let mut known = 0;
        let (disk, size) = file(|on_piece| {
            made.pieces(&mut |piece| {
                if let Piece::Known(bytes) = piece {
                    known += bytes.len() as u64;
                }
                on_piece(piece)
            })
        });
        assert_eq!(size, made.size());
        assert!(known < (20 + 4 * groups) * 4096, "{known}");
        checked("fsck.ext4", &["-f", "-n"], disk.path());
        let mut head = vec![0; 8192];
        std::io::Read::read_exact(&mut std::fs::File::open(disk.path()).unwrap(), &mut head).unwrap();
        let superblock = &head[1024..2048];
        assert_eq!((number(superblock, 56, 2), number(superblock, 4, 4)), (0xEF53, groups * 32768));
        assert_eq!(superblock[104..120], [3; 16]);
    }
}

#[test]
fn a_table_of_partitions_is_found_from_both_ends() {
    let sectors = 40_960;
    let part = |purpose, first, name: &str| Partition {
        purpose,
        guid: Guid::of(name, b"image"),
        first,
        sectors: 2048,
        name: name.to_owned(),
    };
    let partitions =
        [part(Purpose::Efi, 2048, "efi-1"), part(Purpose::Root, 4096, "root-1"), part(Purpose::Data, 6144, "data-1")];
    let (begin, end) = gpt::tables(sectors, Guid::of("disk", b"image"), &partitions);
    let (disk, size) = file(|on_piece| {
        on_piece(Piece::Known(&begin))?;
        on_piece(Piece::Zeros(sectors * SECTOR - (begin.len() + end.len()) as u64))?;
        on_piece(Piece::Known(&end))
    });
    assert_eq!(size, sectors * SECTOR);
    checked("sgdisk", &["-v"], disk.path());
    let bytes = std::fs::read(disk.path()).unwrap();
    let headers = [SECTOR as usize, bytes.len() - SECTOR as usize];
    for (header, other) in [(headers[0], headers[1]), (headers[1], headers[0])] {
        assert_eq!(&bytes[header..header + 8], b"EFI PART");
        assert_eq!(number(&bytes, header + 32, 8) as usize, other / SECTOR as usize);
        let table = number(&bytes, header + 72, 8) as usize * SECTOR as usize;
        let mut alone = bytes[header..header + 92].to_vec();
        alone[16..20].fill(0);
        assert_eq!(number(&bytes, header + 16, 4), u64::from(crc32fast::hash(&alone)));
        assert_eq!(number(&bytes, header + 88, 4), u64::from(crc32fast::hash(&bytes[table..table + 16_384])));
        assert_eq!((number(&bytes, table + 128 + 32, 8), number(&bytes, table + 128 + 40, 8)), (4096, 6143));
        assert_eq!(&bytes[table + 128 + 56..table + 128 + 60], b"r\0o\0");
    }
    // Identifiers follow from what they are of, and say so (RFC 9562).
    let (one, other) = (Guid::of("root", b"image"), Guid::of("root", b"another"));
    assert_ne!(one, other);
    assert_eq!((one, one.to_string().len(), &one.to_string()[14..15]), (Guid::of("root", b"image"), 36, "8"));
}

#[test]
fn the_first_file_system_is_an_archive_that_others_read() {
    let mut archive = Cpio::new(1_000_000_000);
    archive.directory("dev");
    archive.device("dev/console", 0o600, (5, 1));
    archive.file("init", 0o755, b"\x7fELF");
    let bytes = archive.finish();
    let (mut at, mut found) = (0, Vec::new());
    loop {
        let field = |number: usize| {
            let text = std::str::from_utf8(&bytes[at + 6 + number * 8..at + 14 + number * 8]).unwrap();
            usize::from_str_radix(text, 16).unwrap()
        };
        assert_eq!(&bytes[at..at + 6], b"070701");
        let (size, length) = (field(6), field(11));
        let name = std::str::from_utf8(&bytes[at + 110..at + 109 + length]).unwrap().to_owned();
        let content = (at + 110 + length).next_multiple_of(4);
        found.push((name.clone(), field(1), (field(9), field(10)), bytes[content..content + size].to_vec()));
        at = (content + size).next_multiple_of(4);
        if name == "TRAILER!!!" {
            break;
        }
    }
    let names: Vec<_> = found.iter().map(|(name, ..)| name.as_str()).collect();
    assert_eq!(names, ["dev", "dev/console", "init", "TRAILER!!!"]);
    assert_eq!((found[1].1, found[1].2), (0o020_600, (5, 1)));
    assert_eq!((found[2].1, found[2].3.as_slice()), (0o100_755, b"\x7fELF".as_slice()));
    assert_eq!(bytes.len() % 512, 0);
}

/// The smallest program that is a stub: a head with one section, and room for five more.
fn stub() -> Vec<u8> {
    let mut stub = vec![0; 2048];
    stub[..2].copy_from_slice(b"MZ");
    stub[0x3C] = 0x80;
    stub[0x80..0x84].copy_from_slice(b"PE\0\0");
    stub[0x86] = 1;
    stub[0x94] = 240;
    let optional = 0x98;
    stub[optional..optional + 2].copy_from_slice(&0x20B_u16.to_le_bytes());
    stub[optional + 32..optional + 36].copy_from_slice(&4096_u32.to_le_bytes());
    stub[optional + 36..optional + 40].copy_from_slice(&512_u32.to_le_bytes());
    stub[optional + 60..optional + 64].copy_from_slice(&1024_u32.to_le_bytes());
    let section = optional + 240;
    for (at, value) in [(8, 700_u32), (12, 4096), (16, 1024), (20, 1024)] {
        stub[section + at..section + at + 4].copy_from_slice(&value.to_le_bytes());
    }
    stub
}

#[test]
fn sections_are_added_behind_those_of_the_stub() {
    let made = unified::image(&stub(), &[(".cmdline", b"quiet"), (".linux", &[7; 5000])]).unwrap();
    let table = 0x98 + 240;
    assert_eq!(number(&made, 0x86, 2), 3);
    for (number_of, name, size, address) in [(1, ".cmdline", 5, 8192), (2, ".linux", 5000, 12_288)] {
        let at = table + number_of * 40;
        assert!(made[at..].starts_with(name.as_bytes()));
        assert_eq!((number(&made, at + 8, 4), number(&made, at + 12, 4)), (size, address));
        let raw = number(&made, at + 20, 4) as usize;
        assert_eq!(raw % 512, 0);
        assert!(made[raw] == if number_of == 1 { b'q' } else { 7 });
    }
    assert_eq!(number(&made, 0x98 + 56, 4), 20_480);
    let many = [(".x", b"y".as_slice()); 20];
    assert_eq!(unified::image(&stub(), &many), Err(BadStub::NoRoom));
    assert_eq!(unified::image(b"MZ", &[]), Err(BadStub::NotOne));
}

proptest! {
    #[test]
    fn whatever_a_package_brings_is_refused_or_read(
        noise in proptest::collection::vec(any::<u8>(), 0..3000), changed in proptest::collection::vec((0_usize..600, any::<u8>()), 1..20)
    ) {
        let _ = unified::image(&noise, &[(".linux", b"x")]);
        let _ = module::needed(&noise);
        let mut bent = stub();
        changed.iter().for_each(|(at, byte)| bent[*at] = *byte);
        let _ = unified::image(&bent, &[(".linux", b"x")]);
        let mut object = vec![0; 600];
        object[..6].copy_from_slice(b"\x7fELF\x02\x01");
        changed.iter().for_each(|(at, byte)| object[*at] = *byte);
        let _ = module::needed(&object);
    }
}

#[test]
fn a_root_is_proved_by_a_tree_that_others_accept() {
    for blocks in [1_u64, 2, 128, 129, 16_385] {
        let content: Vec<u8> = (0..blocks * 4096).map(|byte| (byte / 4096 + byte) as u8).collect();
        let mut verity = Verity::new([9; 32]);
        // In pieces of any length.
        for (number, part) in content.chunks(7001).enumerate() {
            if number % 2 == 0 { verity.take(part) } else { verity.piece(Piece::Known(part)) }
        }
        let proof = verity.finish();
        let levels = std::iter::successors(Some(blocks), |below| (*below > 1).then(|| below.div_ceil(128)));
        assert_eq!((proof.blocks, proof.tree.len() as u64 / 4096), (blocks, levels.skip(1).sum()));
        let mut changed = Verity::new([9; 32]);
        changed.take(&content[..content.len() - 4096]);
        changed.piece(Piece::Zeros(4096));
        assert_ne!(changed.finish().root, proof.root);
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(&content).unwrap();
        file.write_all(&proof.tree).unwrap();
        let words = proof.words();
        let parts: Vec<_> = words.strip_prefix("cavrith.verity=").unwrap().split(':').collect();
        let path = file.path().to_str().unwrap();
        let mut check = Command::new("veritysetup");
        check.args(["verify", path, path, parts[0], "--no-superblock", "--hash=sha256"]);
        check.arg(format!("--hash-offset={}", blocks * 4096)).arg(format!("--data-blocks={blocks}"));
        if let Ok(output) = check.arg(format!("--salt={}", parts[1])).output() {
            assert!(output.status.success(), "{blocks}: {output:?}");
        }
    }
}

#[test]
fn what_is_zero_takes_no_room_in_a_packed_disk_and_others_read_it() {
    let clusters = 9000;
    let content = |cluster: u64| vec![if cluster % 1000 == 7 { cluster as u8 | 1 } else { 0 }; CLUSTER as usize];
    let mut packed = Qcow2::new(clusters * CLUSTER - 512);
    let mut file = tempfile::NamedTempFile::new().unwrap();
    for cluster in 0..clusters {
        let bytes = content(cluster);
        if let Some(at) = packed.place(cluster, &bytes) {
            file.as_file_mut().seek(SeekFrom::Start(at)).unwrap();
            file.write_all(&bytes).unwrap();
        }
    }
    file.as_file_mut().seek(SeekFrom::Start(0)).unwrap();
    file.write_all(&packed.head()).unwrap();
    assert_eq!(file.as_file().metadata().unwrap().len(), packed.file_size());
    assert!(packed.file_size() < 20 * CLUSTER, "{}", packed.file_size());
    checked("qemu-img", &["check", "-q"], file.path());
    // What a table says of a cluster is where it is.
    let bytes = std::fs::read(file.path()).unwrap();
    let big = |at: usize| u64::from_be_bytes(bytes[at..at + 8].try_into().unwrap());
    let first = big(40) as usize;
    let second = (big(first) & !(1 << 63)) as usize;
    let place = (big(second + 7 * 8) & !(1 << 63)) as usize;
    assert_eq!(bytes[place..place + CLUSTER as usize], content(7));
    assert_eq!(big(second + 8 * 8), 0);
}
