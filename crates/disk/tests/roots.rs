//! Roots as EROFS: read back by a reader that knows the format only, by the system's own checker, and by the kernel.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

use std::collections::BTreeMap;
use std::io::Write as _;
use std::process::Command;

use cavrith_core::digest::ContentDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Entry, Kind, LinkGroup, Meta, Tree};
use cavrith_disk::erofs::{Erofs, Refused};
use cavrith_disk::piece::Piece;
use proptest::prelude::*;

type Contents = BTreeMap<RootPath, Vec<u8>>;

fn path(text: &str) -> RootPath {
    RootPath::from_archive(text.as_bytes()).unwrap()
}

fn written(tree: &Tree, contents: &Contents) -> Vec<u8> {
    let laid = Erofs::new(tree, [7; 16], 1_000_000_000).unwrap();
    let mut bytes = Vec::new();
    laid.pieces::<()>(&mut |piece| {
        match piece {
            Piece::Known(known) => bytes.extend_from_slice(known),
            Piece::Zeros(count) => bytes.resize(bytes.len() + count as usize, 0),
            Piece::Content(path, size) => {
                assert_eq!(contents[path].len() as u64, size);
                bytes.extend_from_slice(&contents[path]);
            }
        }
        Ok(())
    })
    .unwrap();
    assert_eq!(bytes.len() as u64, laid.size());
    bytes
}

/// What a reader finds: kind and rights, owner, time, device or content, attributes, number of the inode, links.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Found {
    mode: u16,
    owner: (u32, u32),
    time: u64,
    device: u32,
    content: Vec<u8>,
    xattrs: BTreeMap<Vec<u8>, Vec<u8>>,
    number: u64,
    links: u32,
}

struct Reader<'a>(&'a [u8]);

impl Reader<'_> {
    fn number<const N: usize>(&self, at: usize) -> u64 {
        let mut bytes = [0; 8];
        bytes[..N].copy_from_slice(&self.0[at..at + N]);
        u64::from_le_bytes(bytes)
    }

    fn inode(&self, number: u64) -> Found {
        let at = self.number::<4>(1024 + 40) as usize * 4096 + number as usize * 32;
        let format = self.number::<2>(at);
        assert_eq!(format & 1, 1);
        let (count, size) = (self.number::<2>(at + 2) as usize, self.number::<8>(at + 8) as usize);
        let mode = self.number::<2>(at + 4) as u16;
        let length = if count == 0 { 0 } else { 12 + 4 * (count - 1) };
        let own = self.number::<4>(at + 16) as u32;
        let is_device = matches!(mode & 0o170_000, 0o020_000 | 0o060_000);
        let begin = if format >> 1 == 2 { at + 64 + length } else { own as usize * 4096 };
        if format >> 1 == 2 {
            assert_eq!(begin / 4096, (begin + size - 1) / 4096, "what follows an inode lies in one block");
        }
        let content = if is_device || size == 0 { Vec::new() } else { self.0[begin..begin + size].to_vec() };
        let (mut xattrs, mut next) = (BTreeMap::new(), at + 64 + 12);
        while length > 0 && next < at + 64 + length {
            let (name, index) = (self.0[next] as usize, self.0[next + 1]);
            let value = self.number::<2>(next + 2) as usize;
            let prefix: &[u8] = match index {
                1 => b"user.",
                4 => b"trusted.",
                6 => b"security.",
                other => panic!("prefix {other}"),
            };
            let name_at = next + 4;
            let whole = [prefix, &self.0[name_at..name_at + name]].concat();
            xattrs.insert(whole, self.0[name_at + name..name_at + name + value].to_vec());
            next = (name_at + name + value).next_multiple_of(4);
        }
        Found {
            mode,
            owner: (self.number::<4>(at + 24) as u32, self.number::<4>(at + 28) as u32),
            time: self.number::<8>(at + 32),
            device: if is_device { own } else { 0 },
            content,
            xattrs,
            number,
            links: self.number::<4>(at + 44) as u32,
        }
    }

    fn names(&self, directory: &Found) -> Vec<(Vec<u8>, u64)> {
        let mut names = Vec::new();
        for block in directory.content.chunks(4096) {
            let entry = |number: usize| &block[12 * number..12 * number + 12];
            let name_at = |number: usize| u16::from_le_bytes([entry(number)[8], entry(number)[9]]) as usize;
            let count = name_at(0) / 12;
            for number in 0..count {
                let end = if number + 1 < count { name_at(number + 1) } else { block.len() };
                let name = &block[name_at(number)..end];
                let name = name.split(|byte| *byte == 0).next().unwrap();
                names.push((name.to_vec(), u64::from_le_bytes(entry(number)[..8].try_into().unwrap())));
            }
        }
        assert!(names.is_sorted_by(|one, other| one.0 < other.0), "{names:?}");
        names
    }

    fn walk(&self, number: u64, above: u64, at: &[u8], found: &mut BTreeMap<Vec<u8>, Found>) {
        let inode = self.inode(number);
        if inode.mode & 0o170_000 == 0o040_000 {
            let names = self.names(&inode);
            assert!(names.contains(&(b".".to_vec(), number)) && names.contains(&(b"..".to_vec(), above)));
            for (name, inner) in names.iter().filter(|(name, _)| !matches!(name.as_slice(), b"." | b"..")) {
                let path = if at.is_empty() { name.clone() } else { [at, b"/", name].concat() };
                self.walk(*inner, number, &path, found);
            }
        }
        found.insert(at.to_vec(), inode);
    }
}

fn check(tree: &Tree, contents: &Contents) {
    let bytes = written(tree, contents);
    assert_eq!(bytes, written(tree, contents));
    let reader = Reader(&bytes);
    let root = reader.number::<2>(1024 + 14);
    let mut found = BTreeMap::new();
    reader.walk(root, root, b"", &mut found);
    assert_eq!(found.len(), tree.entries.len());
    let mut groups: BTreeMap<LinkGroup, Vec<u64>> = BTreeMap::new();
    for (path, entry) in &tree.entries {
        let there = &found[path.as_bytes()];
        let (kind, content) = match &entry.kind {
            Kind::Directory { .. } => (0o040_000, None),
            Kind::File { links, .. } => {
                links.iter().for_each(|group| groups.entry(*group).or_default().push(there.number));
                (0o100_000, Some(contents[path].clone()))
            }
            Kind::Symlink { target } => (0o120_000, Some(target.clone())),
            Kind::Fifo => (0o010_000, None),
            Kind::CharDevice { major, minor } => {
                assert_eq!(there.device, (minor & 0xFF) | (major << 8) | ((minor >> 8) << 20));
                (0o020_000, None)
            }
            Kind::BlockDevice { .. } => (0o060_000, None),
            Kind::Whiteout => unreachable!(),
        };
        assert_eq!(there.mode, kind | entry.meta.mode);
        assert_eq!((there.owner, there.time), ((entry.meta.uid, entry.meta.gid), entry.meta.time));
        assert_eq!(there.xattrs, entry.meta.xattrs);
        content.into_iter().for_each(|content| assert_eq!(there.content, content));
    }
    for numbers in groups.values() {
        assert!(numbers.iter().all(|number| number == &numbers[0]));
        let inode = reader.inode(numbers[0]);
        assert_eq!(inode.links as usize, numbers.len());
    }
}

/// A tree from a list of what to put where.
fn made(wanted: &[(Vec<u8>, u8, usize, Meta)]) -> (Tree, Contents) {
    let (mut tree, mut contents) = (Tree::with_root(), Contents::new());
    for (number, (name, kind, size, meta)) in wanted.iter().enumerate() {
        let path = RootPath::from_archive(name);
        let Ok(path) = path else { continue };
        let is_taken = path.ancestors().iter().any(|above| tree.get(above).is_some_and(|one| !one.kind.is_directory()));
        if path.is_root() || is_taken || tree.get(&path).is_some() {
            continue;
        }
        for above in path.ancestors().into_iter().filter(|above| *above != path) {
            let directory = Entry { kind: Kind::DIRECTORY, meta: Meta::root(0o755) };
            tree.entries.entry(above).or_insert(directory);
        }
        let content: Vec<u8> = (0..*size).map(|byte| (byte * 7 + number) as u8).collect();
        let kind = match kind % 7 {
            0 | 1 => {
                contents.insert(path.clone(), content.clone());
                Kind::File { size: *size as u64, content: ContentDigest::of(&content), links: None }
            }
            2 => Kind::DIRECTORY,
            3 => Kind::Symlink { target: vec![b'x'; size % 4096 + 1] },
            4 => Kind::Fifo,
            5 => Kind::CharDevice { major: (*size % 4096) as u32, minor: *size as u32 },
            _ => Kind::BlockDevice { major: 8, minor: 1 },
        };
        tree.entries.insert(path, Entry { kind, meta: meta.clone() });
    }
    // Two names of one file, in another directory.
    let file = contents.keys().next().cloned();
    if let Some(file) = file {
        let mut entry = tree.entries[&file].clone();
        if let Kind::File { links, .. } = &mut entry.kind {
            *links = Some(LinkGroup(1));
        }
        let other = path("zz");
        if tree.get(&other).is_none() {
            contents.insert(other.clone(), contents[&file].clone());
            tree.entries.insert(file, entry.clone());
            tree.entries.insert(other, entry);
        }
    }
    (tree, contents)
}

fn meta() -> impl Strategy<Value = Meta> {
    let xattrs = proptest::collection::btree_map(
        "(user|trusted|security)\\.[a-z]{1,40}",
        proptest::collection::vec(any::<u8>(), 0..300),
        0..4,
    );
    (0_u16..0o10000, any::<u32>(), any::<u32>(), 0_u64..1 << 40, xattrs).prop_map(|(mode, uid, gid, time, xattrs)| {
        let xattrs = xattrs.into_iter().map(|(name, value)| (name.into_bytes(), value)).collect();
        Meta { mode, uid, gid, time, xattrs }
    })
}

fn name() -> impl Strategy<Value = Vec<u8>> {
    let part = "[-+!.a-zA-Z0-9]{1,3}|[a-c]|[x-z]{200,255}";
    proptest::collection::vec(part, 1..4).prop_map(|parts| parts.join("/").into_bytes())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn what_is_written_is_read_back(
        wanted in proptest::collection::vec((name(), any::<u8>(), prop_oneof![0_usize..5000, 4000_usize..4200, 0_usize..3], meta()), 0..60)
    ) {
        let (tree, contents) = made(&wanted);
        check(&tree, &contents);
    }
}

/// A tree with what roots have: full directories, large files, attributes, names that sort before a dot.
fn usual() -> (Tree, Contents) {
    let plain = Meta::root(0o644);
    let mut wanted: Vec<(Vec<u8>, u8, usize, Meta)> = (0..3000)
        .map(|number| (format!("usr/share/tides/{number:05}-level").into_bytes(), 0, number % 9000, plain.clone()))
        .collect();
    wanted.extend((0..30).map(|number| (format!("usr/share/{number}").into_bytes(), 2, 0, Meta::root(0o755))));
    wanted.push((b"usr/bin/large".to_vec(), 0, 3_000_000, Meta::root(0o4755)));
    let mut capable = Meta::owned(0o755, 1000, 1000);
    capable
        .xattrs
        .insert(b"security.capability".to_vec(), vec![1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
    capable.xattrs.insert(b"user.note".to_vec(), b"high water".to_vec());
    wanted.push((b"usr/bin/capable".to_vec(), 0, 100, capable));
    wanted.push((b"-first".to_vec(), 0, 10, plain.clone()));
    wanted.push((b"lib".to_vec(), 3, 6, plain.clone()));
    wanted.push((b"dev/console".to_vec(), 5, 261, Meta::root(0o600)));
    wanted.push((b"run/pipe".to_vec(), 4, 0, Meta::root(0o600)));
    made(&wanted)
}

#[test]
fn a_usual_root_is_read_back_and_what_has_no_place_is_refused() {
    let (tree, contents) = usual();
    check(&tree, &contents);
    let (empty, nothing) = made(&[]);
    check(&empty, &nothing);
    let refused = |name: &[u8], value: usize| {
        let mut bad = Meta::root(0o644);
        bad.xattrs.insert(name.to_vec(), vec![0; value]);
        let (tree, _) = made(&[(b"a".to_vec(), 0, 1, bad)]);
        Erofs::new(&tree, [0; 16], 0).unwrap_err()
    };
    assert!(matches!(refused(b"other.name", 1), Refused::Xattr { .. }));
    assert!(matches!(refused(b"user.name", 70_000), Refused::Xattr { .. }));
    let (mut tree, _) = made(&[]);
    tree.entries.insert(path("gone"), Entry { kind: Kind::Whiteout, meta: Meta::default() });
    assert_eq!(Erofs::new(&tree, [0; 16], 0).unwrap_err(), Refused::Deletion("gone".to_owned()));
}

#[test]
fn the_system_s_own_checker_and_the_kernel_find_the_same_where_they_are() {
    let (tree, contents) = usual();
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(&written(&tree, &contents)).unwrap();
    if let Ok(output) = Command::new("fsck.erofs").arg("--extract").arg(file.path()).output() {
        assert!(output.status.success(), "{output:?}");
    }
    let place = tempfile::tempdir().unwrap();
    let script = "mount -t erofs -o loop,ro \"$1\" \"$2\" || exit 77; cd \"$2\"; find . -printf '%P %y %m %U:%G %n %T@ %l\\n' | LC_ALL=C sort; find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum | sha256sum; stat -c '%t:%T' dev/console";
    let output = Command::new("unshare")
        .args(["--mount", "sh", "-c", script, "sh"])
        .args([file.path(), place.path()])
        .output()
        .unwrap();
    // Whoever may not mount has the reader above.
    if !output.status.success() {
        return;
    }
    let said = String::from_utf8(output.stdout).unwrap();
    let lines: Vec<_> = said.lines().collect();
    assert_eq!(lines.len(), tree.entries.len() + 2);
    for line in [
        "usr/bin/capable f 755 1000:1000 1 0.0000000000 ",
        "usr/bin/large f 4755 0:0 1 0.0000000000 ",
        "lib l 777 0:0 1 0.0000000000 xxxxxxx",
        "run/pipe p 600 0:0 1 0.0000000000 ",
        "zz f 644 0:0 2 0.0000000000 ",
    ] {
        // A link's rights are shown as they are stored.
        let begin = line.split(' ').take(2).collect::<Vec<_>>().join(" ");
        let there = lines.iter().find(|one| one.starts_with(&format!("{begin} "))).copied().unwrap_or_default();
        assert!(there == line || begin == "lib l", "{there} and not {line}");
    }
    assert_eq!(lines[lines.len() - 1], "105:105");
}
