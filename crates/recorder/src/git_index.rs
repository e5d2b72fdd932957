//! The index of a git repository (`.git/index`, "Git index format" in git's own documentation), relieved of what git
//! notes there of the disk that it works on: times, device, inode and owner of each file. Git looks at a file whose
//! notes do not fit, and notes them anew.

use ring::digest::{Algorithm, SHA1_FOR_LEGACY_USE_ONLY, SHA256, digest};

/// What an index begins with.
const SIGNATURE: &[u8] = b"DIRC";
const HEADER: usize = 12;
/// Change time, modification time, device, inode; then the mode; then owner and group; then the length.
const BEFORE_MODE: usize = 24;
const OWNERS: std::ops::Range<usize> = 28..36;
const BEFORE_OBJECT: usize = 40;
/// There is a second word of flags (version 3).
const EXTENDED: u16 = 0x4000;

/// The index without its notes; nothing when it is none that is understood, or has none.
pub fn without_notes(index: &[u8]) -> Option<Vec<u8>> {
    let number = |at: usize| Some(u32::from_be_bytes(index.get(at..at + 4)?.try_into().ok()?));
    let (version, count) = (number(4)?, number(8)?);
    if !index.starts_with(SIGNATURE) || !(2..=4).contains(&version) {
        return None;
    }
    // What stands at the end is the checksum, in the repository's own kind of digest.
    let kind = [&SHA1_FOR_LEGACY_USE_ONLY, &SHA256].into_iter().find(|kind| {
        let end = index.len().checked_sub(kind.output_len()).filter(|end| *end >= HEADER);
        end.is_some_and(|end| digest(kind, &index[..end]).as_ref() == &index[end..])
    })?;
    let mut plain = index[..index.len() - kind.output_len()].to_vec();
    let mut at = HEADER;
    for _ in 0..count {
        let end = entry_end(&plain, at, version, kind)?;
        plain[at..at + BEFORE_MODE].fill(0);
        plain[at + OWNERS.start..at + OWNERS.end].fill(0);
        at = end;
    }
    let sum = digest(kind, &plain);
    plain.extend(sum.as_ref());
    (plain != index).then_some(plain)
}

/// Where an entry ends.
fn entry_end(plain: &[u8], at: usize, version: u32, kind: &Algorithm) -> Option<usize> {
    let flags_at = at + BEFORE_OBJECT + kind.output_len();
    let flags = u16::from_be_bytes(plain.get(flags_at..flags_at + 2)?.try_into().ok()?);
    let mut name = flags_at + 2 + if flags & EXTENDED != 0 && version > 2 { 2 } else { 0 };
    if version == 4 {
        // How much of the name before is dropped: a number in as many bytes as it takes.
        while *plain.get(name)? & 0x80 != 0 {
            name += 1;
        }
        name += 1;
    }
    let length = plain.get(name..)?.iter().position(|byte| *byte == 0)?;
    let end = name + length + 1;
    // Entries begin at multiples of eight bytes from the beginning of the first but for the last version.
    let end = if version == 4 { end } else { at + (end - at).next_multiple_of(8) };
    (end <= plain.len()).then_some(end)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An index of two files, as git lays it out.
    fn index(version: u32, noise: u8) -> Vec<u8> {
        let mut bytes = SIGNATURE.to_vec();
        bytes.extend(version.to_be_bytes());
        bytes.extend(2_u32.to_be_bytes());
        for name in ["tides.txt", "harbour/tides.txt"] {
            let begin = bytes.len();
            bytes.extend([noise; BEFORE_MODE]);
            bytes.extend(0o100_644_u32.to_be_bytes());
            bytes.extend([noise; 8]);
            bytes.extend(5_u32.to_be_bytes());
            bytes.extend([7; 20]);
            bytes.extend((name.len() as u16).to_be_bytes());
            if version == 4 {
                bytes.push(0);
            }
            bytes.extend(name.as_bytes());
            bytes.push(0);
            if version < 4 {
                bytes.resize(begin + (bytes.len() - begin).next_multiple_of(8), 0);
            }
        }
        bytes.extend(b"TREE\0\0\0\x02xy");
        let sum = digest(&SHA1_FOR_LEGACY_USE_ONLY, &bytes);
        bytes.extend(sum.as_ref());
        bytes
    }

    #[test]
    fn two_indexes_of_the_same_files_come_out_the_same() {
        for version in [2, 3, 4] {
            let plain = without_notes(&index(version, 9)).unwrap();
            assert_eq!(plain, index(version, 0), "version {version}");
            assert_eq!(without_notes(&plain), None, "there is nothing left to take");
        }
    }

    #[test]
    fn what_is_no_index_stays_what_it_is() {
        let good = index(2, 9);
        for end in 0..good.len() {
            assert_eq!(without_notes(&good[..end]), None, "{end}");
        }
        let mut counted = good[..good.len() - 20].to_vec();
        counted[11] = 200;
        let sum = digest(&SHA1_FOR_LEGACY_USE_ONLY, &counted);
        counted.extend(sum.as_ref());
        assert_eq!(without_notes(&counted), None, "more entries than there are");
    }
}
