//! Which files version control tracks, by git's index (gitformat-index(5), versions 2 to 4).
//!
//! Read by our own code, since git itself runs what a repository's own configuration names, and a clone is a
//! stranger's. Nothing of the repository but the index is examined, and of that only the names.

/// Paths from the top of the work tree, in the order of the index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tracked {
    paths: Vec<Vec<u8>>,
}

/// The mode of an entry that stands for all files of a directory (a sparse index).
const DIRECTORY: u32 = 0o40_000;
/// Bytes of an entry before its object's name.
const STAT: usize = 40;

impl Tracked {
    /// Reads an index. `None` when it is none, is of a version that is not known, or is only a part of one (a split
    /// index).
    pub fn read(index: &[u8]) -> Option<Self> {
        // Objects are named by SHA-1, or by SHA-256; only the configuration says which, and only one of them makes
        // sense of the whole file.
        [20, 32].into_iter().find_map(|digest| read(index, digest))
    }

    /// Whether a file is tracked.
    pub fn has(&self, path: &[u8]) -> bool {
        self.paths.iter().any(|known| match known.strip_suffix(b"/") {
            Some(_) => path.starts_with(known),
            None => known == path,
        })
    }
}

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

fn read(index: &[u8], digest: usize) -> Option<Tracked> {
    let version = number(index, 4)?;
    if !index.starts_with(b"DIRC") || !(2..=4).contains(&version) {
        return None;
    }
    let (mut at, mut last, mut paths) = (12, Vec::<u8>::new(), Vec::new());
    for _ in 0..number(index, 8)? {
        let begin = at;
        let mode = number(index, at + 24)?;
        at += STAT + digest;
        let flags = u16::from_be_bytes(index.get(at..at + 2)?.try_into().ok()?);
        // Bit 14 says that there are more flags, which version 2 does not have.
        at += if flags & 0x4000 != 0 && version > 2 { 4 } else { 2 };
        let mut path = if version == 4 {
            let (remove, behind) = varint(index, at)?;
            at = behind;
            last[..last.len().checked_sub(remove)?].to_vec()
        } else {
            Vec::new()
        };
        let length = index.get(at..)?.iter().position(|byte| *byte == 0)?;
        path.extend(&index[at..at + length]);
        at += length + 1;
        if version < 4 {
            // Entries are filled up with one to eight zeros to a multiple of eight.
            let padded = begin + (at - begin).next_multiple_of(8);
            if index.get(at..padded)?.iter().any(|byte| *byte != 0) {
                return None;
            }
            at = padded;
        }
        // In the order of their bytes, which a file that is read wrongly does not keep.
        if path.is_empty() || path < last {
            return None;
        }
        last.clone_from(&path);
        if mode == DIRECTORY && !path.ends_with(b"/") {
            path.push(b'/');
        }
        paths.push(path);
    }
    // Extensions follow, and a checksum that proves nothing here.
    while at + digest < index.len() {
        let name = index.get(at..at + 4)?;
        // The rest of the entries is in another file, or something is needed that is not known.
        if name == b"link" || (name[0].is_ascii_lowercase() && name != b"sdir") {
            return None;
        }
        at = (at + 8).checked_add(number(index, at + 4)? as usize)?;
    }
    (at + digest == index.len()).then_some(Tracked { paths })
}

/// A number as git packs offsets: seven bits a byte, the highest first, with one added for each byte that follows.
fn varint(bytes: &[u8], mut at: usize) -> Option<(usize, usize)> {
    let mut byte = *bytes.get(at)?;
    let mut value = usize::from(byte & 0x7f);
    while byte & 0x80 != 0 {
        at += 1;
        byte = *bytes.get(at)?;
        value = value.checked_add(1)?.checked_mul(128)?.checked_add(usize::from(byte & 0x7f))?;
    }
    Some((value, at + 1))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn index(version: u32, digest: usize, entries: &[(&str, u32)], extensions: &[u8]) -> Vec<u8> {
        let mut bytes = b"DIRC".to_vec();
        bytes.extend(version.to_be_bytes());
        bytes.extend(u32::try_from(entries.len()).unwrap().to_be_bytes());
        let mut last = "";
        for (path, mode) in entries {
            let begin = bytes.len();
            let mut stat = [0; STAT];
            stat[24..28].copy_from_slice(&mode.to_be_bytes());
            bytes.extend(stat);
            bytes.extend(vec![7; digest]);
            bytes.extend(u16::try_from(path.len()).unwrap().to_be_bytes());
            let shared = if version == 4 {
                let shared = path.bytes().zip(last.bytes()).take_while(|(one, other)| one == other).count();
                bytes.push(u8::try_from(last.len() - shared).unwrap());
                shared
            } else {
                0
            };
            bytes.extend(&path.as_bytes()[shared..]);
            bytes.push(0);
            while version < 4 && !(bytes.len() - begin).is_multiple_of(8) {
                bytes.push(0);
            }
            last = path;
        }
        bytes.extend(extensions);
        bytes.extend(vec![9; digest]);
        bytes
    }

    #[test]
    fn every_version_and_both_digests_are_read() {
        let entries =
            [("cavrith.lock", 0o100_644), ("cavrith.toml", 0o100_644), ("pages", DIRECTORY), ("x", 0o120_000)];
        for version in 2..=4 {
            for digest in [20, 32] {
                let tracked = Tracked::read(&index(version, digest, &entries, b"TREE\0\0\0\x01x")).unwrap();
                assert!(tracked.has(b"cavrith.toml") && tracked.has(b"x") && tracked.has(b"pages/deep/tide.csv"));
                assert!(!tracked.has(b"cavrith") && !tracked.has(b"pages") && !tracked.has(b"pagesX"));
            }
        }
        assert_eq!(Tracked::read(&index(2, 20, &entries, b"link\0\0\0\0")), None);
        assert_eq!(Tracked::read(b"DIRC"), None);
        assert_eq!(Tracked::read(b""), None);
    }

    proptest! {
        #[test]
        fn whatever_the_bytes_are_it_ends(bytes in proptest::collection::vec(any::<u8>(), 0..300), version in 2u8..=4, count in any::<u32>()) {
            let mut index = b"DIRC\0\0\0".to_vec();
            index.push(version);
            index.extend(count.to_be_bytes());
            index.extend(bytes);
            let _ = Tracked::read(&index);
        }
    }
}
