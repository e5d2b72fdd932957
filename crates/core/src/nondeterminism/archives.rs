//! What archives and other files with a structure are made of, in one shape: the properties of the whole, and members
//! with properties and a content. Everything is read with bounds; what does not hold to its format is not opened.

use super::{Explainer, Finding, Kind, Packing, Unpack, excerpt, finding, order, time, tokens};

/// Members that are looked at.
const MOST_MEMBERS: usize = 20_000;

/// A file that was opened.
pub(super) struct Archive {
    /// `a zip`, `an ELF file`.
    pub format: &'static str,
    header: Vec<Property>,
    members: Vec<Member>,
}

/// What a format writes down beside the content.
struct Property {
    kind: Kind,
    form: &'static str,
    value: String,
}

struct Member {
    name: String,
    header: Vec<Property>,
    content: Vec<u8>,
}

fn property(kind: Kind, form: &'static str, value: impl ToString) -> Property {
    Property { kind, form, value: value.to_string() }
}

/// Opens what has a structure.
pub(super) fn open(bytes: &[u8], unpack: Unpack<'_>) -> Option<Archive> {
    if bytes.starts_with(&[0x1f, 0x8b]) {
        gzip(bytes, unpack)
    } else if bytes.starts_with(b"\xfd7zXZ\0") || bytes.starts_with(&[0x28, 0xb5, 0x2f, 0xfd]) {
        let content = unpack(Packing::Stream, bytes)?;
        let format = if bytes[0] == 0xfd { "xz" } else { "zstd" };
        Some(Archive { format, header: Vec::new(), members: vec![member("content", Vec::new(), content)] })
    } else if bytes.starts_with(b"PK\x03\x04") || bytes.starts_with(b"PK\x05\x06") {
        zip(bytes, unpack)
    } else if bytes.starts_with(b"!<arch>\n") {
        ar(bytes)
    } else if bytes.get(257..262) == Some(b"ustar") {
        tar(bytes)
    } else if bytes.starts_with(b"\x7fELF") {
        elf(bytes)
    } else if bytes.starts_with(b"SQLite format 3\0") {
        let rest = bytes.get(100..)?;
        Some(Archive {
            format: "SQLite",
            header: Vec::new(),
            members: vec![member("its pages", Vec::new(), rest.to_vec())],
        })
    } else if bytes.get(2..4) == Some(b"\r\n") && bytes.len() >= 16 {
        bytecode(bytes)
    } else {
        None
    }
}

fn member(name: &str, header: Vec<Property>, content: Vec<u8>) -> Member {
    Member { name: name.to_owned(), header, content }
}

/// Why two archives of a format differ.
pub(super) fn compare(
    explainer: &Explainer<'_>,
    path: &str,
    ours: &Archive,
    theirs: &Archive,
    depth: u32,
) -> Vec<Finding> {
    let mut found = properties(explainer, &ours.header, &theirs.header);
    let names = |archive: &Archive| archive.members.iter().map(|one| one.name.clone()).collect::<Vec<_>>();
    let (first, second) = (names(ours), names(theirs));
    if first != second {
        let what = match ours.format {
            "tar" => "the order of members of a tar",
            "zip" => "the order of members of a zip",
            "ar" => "the order of members of an ar library",
            _ => "the order of sections",
        };
        match order::of_entries(explainer, &first, &second, what) {
            Some(one) => found.push(one),
            None => {
                let gone: Vec<_> = first.iter().filter(|name| !second.contains(name)).collect();
                let come: Vec<_> = second.iter().filter(|name| !first.contains(name)).collect();
                for at in 0..gone.len().max(come.len()).min(super::MOST_FINDINGS) {
                    found.push(match (gone.get(at), come.get(at)) {
                        (Some(a), Some(b)) => tokens::classify(explainer, a, b, path),
                        (a, b) => {
                            let text = |name: Option<&&String>| name.map_or("", |name| name.as_str()).to_owned();
                            tokens::lone(explainer, path, &text(a), &text(b))
                        }
                    });
                }
            }
        }
    }
    let mut others = 0;
    for one in &ours.members {
        let Some(other) = theirs.members.iter().find(|other| other.name == one.name) else { continue };
        let mut inner = properties(explainer, &one.header, &other.header);
        if one.content != other.content {
            if ours.format == "ELF" && matches!(one.name.as_str(), ".note.gnu.build-id" | ".gnu_debuglink") {
                continue;
            }
            others += 1;
            inner.extend(match processor_code(ours.format, one, other) {
                Some(one) => vec![one],
                None => explainer.bytes(&one.name, &one.content, &other.content, depth + 1),
            });
        }
        let named = match ours.format {
            "ELF" => format!("section {}", one.name),
            "gzip" | "xz" | "zstd" => format!("{} content", ours.format),
            _ => one.name.clone(),
        };
        found.extend(inner.into_iter().map(|mut inner| {
            inner.inside.insert(0, named.clone());
            inner
        }));
        if found.len() > 4 * super::MOST_FINDINGS {
            break;
        }
    }
    let content = |archive: &Archive, name: &str| {
        archive.members.iter().find(|one| one.name == name).map(|one| one.content.clone())
    };
    if ours.format == "ELF" && content(ours, ".note.gnu.build-id") != content(theirs, ".note.gnu.build-id") {
        let text = |archive: &Archive| excerpt(&content(archive, ".note.gnu.build-id").unwrap_or_default(), 16);
        let one = match others {
            0 => finding(Kind::Random, "a build id that is new each time", &text(ours), &text(theirs)),
            _ => finding(Kind::Follows, "the build id, a digest of the rest", &text(ours), &text(theirs)),
        };
        found.push(Finding { inside: vec!["section .note.gnu.build-id".to_owned()], ..one });
    }
    if found.is_empty() && others == 0 && first == second {
        // The same was packed in another way.
        let [one, other] = explainer.around;
        return match ours.format {
            "xz" | "zstd" if one.processors != other.processors => {
                vec![finding(Kind::Processors, "blocks, one for each thread that compressed", "", "")]
            }
            "gzip" | "xz" | "zstd" | "zip" => {
                vec![finding(
                    Kind::CompressionHeader,
                    &format!("the same content, packed by {} in another way", ours.format),
                    "",
                    "",
                )]
            }
            _ => Vec::new(),
        };
    }
    found
}

fn properties(explainer: &Explainer<'_>, ours: &[Property], theirs: &[Property]) -> Vec<Finding> {
    let differ = ours.iter().filter_map(|one| {
        let other = theirs.iter().find(|other| other.form == one.form)?;
        (one.value != other.value).then_some((one, other))
    });
    differ
        .map(|(one, other)| match one.kind {
            Kind::Umask => Finding { form: one.form.to_owned(), ..explainer.mode(&one.value, &other.value) },
            kind => finding(kind, one.form, &one.value, &other.value),
        })
        .collect()
}

/// Code for one processor, and for another one: one side has many more instructions with the prefixes VEX or EVEX
/// (Intel SDM volume 2, section 2.3 and 2.7).
fn processor_code(format: &str, ours: &Member, theirs: &Member) -> Option<Finding> {
    if format != "ELF" || !ours.name.starts_with(".text") {
        return None;
    }
    let count = |bytes: &[u8]| {
        let wide = |pair: &&[u8]| {
            (pair[0] == 0xc5 && pair[1] & 0x78 == 0x78)
                || (pair[0] == 0xc4 && matches!(pair[1] & 0x1f, 1..=3))
                || (pair[0] == 0x62 && matches!(pair[1] & 0x0f, 1..=3))
        };
        bytes.windows(2).filter(wide).count()
    };
    let (a, b) = (count(&ours.content), count(&theirs.content));
    let (few, many) = (a.min(b), a.max(b));
    (many > 3 * few + 4).then(|| {
        let said = |count: usize| format!("{count} instructions of AVX");
        finding(Kind::CpuFeatures, "instructions that not every processor has", &said(a), &said(b))
    })
}

fn number(bytes: &[u8], at: usize, long: usize) -> Option<u64> {
    let part = bytes.get(at..at.checked_add(long)?)?;
    Some(part.iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte)))
}

fn place(bytes: &[u8], at: usize, long: usize) -> Option<usize> {
    usize::try_from(number(bytes, at, long)?).ok()
}

/// RFC 1952, section 2.3.
fn gzip(bytes: &[u8], unpack: Unpack<'_>) -> Option<Archive> {
    let flags = *bytes.get(3)?;
    let mut header = vec![
        property(Kind::CompressionHeader, "the time in a gzip header", number(bytes, 4, 4)?),
        property(Kind::CompressionHeader, "the level in a gzip header", bytes.get(8)?),
        property(Kind::CompressionHeader, "the system in a gzip header", bytes.get(9)?),
    ];
    let mut at = 10;
    if flags & 4 != 0 {
        at += 2 + place(bytes, at, 2)?;
    }
    if flags & 8 != 0 {
        let name = bytes.get(at..)?.split(|byte| *byte == 0).next()?;
        header.push(property(
            Kind::CompressionHeader,
            "the file's name in a gzip header",
            String::from_utf8_lossy(name),
        ));
    }
    let content = unpack(Packing::Stream, bytes)?;
    Some(Archive { format: "gzip", header, members: vec![member("content", Vec::new(), content)] })
}

/// APPNOTE 6.3.10, sections 4.3.7, 4.3.12, 4.3.16 and 4.5.
fn zip(bytes: &[u8], unpack: Unpack<'_>) -> Option<Archive> {
    let from = bytes.len().saturating_sub(65_557);
    let end = from + bytes[from..].windows(4).rposition(|four| four == b"PK\x05\x06")?;
    let (count, mut at) = (place(bytes, end + 10, 2)?, place(bytes, end + 16, 4)?);
    let mut members = Vec::new();
    for _ in 0..count.min(MOST_MEMBERS) {
        if bytes.get(at..at.checked_add(4)?)? != b"PK\x01\x02" {
            return None;
        }
        let (name_long, extra_long, note_long) =
            (place(bytes, at + 28, 2)?, place(bytes, at + 30, 2)?, place(bytes, at + 32, 2)?);
        let name = bytes.get(at + 46..at + 46 + name_long)?;
        let extra = bytes.get(at + 46 + name_long..at + 46 + name_long + extra_long)?;
        let stamp: [u8; 4] = bytes.get(at + 12..at + 16)?.try_into().ok()?;
        let mut header = vec![
            property(Kind::Time, "a member's time in a zip", shown_time(time::dos(stamp))),
            property(Kind::Umask, "a member's rights in a zip", format!("{:o}", number(bytes, at + 38, 4)? >> 16)),
        ];
        let mut field = 0;
        while let (Some(id), Some(long)) = (number(extra, field, 2), place(extra, field + 2, 2)) {
            let Some(value) = extra.get(field + 4..field + 4 + long) else { break };
            let value: String = value.iter().map(|byte| format!("{byte:02x}")).collect();
            header.push(match id {
                0x5455 | 0x000a => property(Kind::Time, "a member's finer time in a zip", value),
                0x7875 | 0x7855 => property(Kind::HostOrUser, "an owner in a zip", value),
                _ => property(Kind::Unknown, "another field of a zip", value),
            });
            field += 4 + long;
        }
        let (local, packed) = (place(bytes, at + 42, 4)?, place(bytes, at + 20, 4)?);
        let data = local + 30 + place(bytes, local + 26, 2)? + place(bytes, local + 28, 2)?;
        let data = bytes.get(data..data.checked_add(packed)?)?;
        let content = match number(bytes, at + 10, 2)? {
            8 => unpack(Packing::Deflate, data)?,
            _ => data.to_vec(),
        };
        members.push(member(&String::from_utf8_lossy(name), header, content));
        at += 46 + name_long + extra_long + note_long;
    }
    Some(Archive { format: "zip", header: Vec::new(), members })
}

/// A time for people.
fn shown_time(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).map_or_else(|_| seconds.to_string(), |time| time.to_string())
}

/// ar(5), with GNU's long names.
fn ar(bytes: &[u8]) -> Option<Archive> {
    let (mut at, mut members, mut long_names) = (8, Vec::new(), &[][..]);
    while at < bytes.len() && members.len() < MOST_MEMBERS {
        let head = std::str::from_utf8(bytes.get(at..at + 60)?).ok()?;
        let part = |range: std::ops::Range<usize>| head.get(range).map(str::trim_end);
        let size: usize = part(48..58)?.parse().ok()?;
        let content = bytes.get(at + 60..(at + 60).checked_add(size)?)?;
        let name = part(0..16)?;
        match name {
            "//" => long_names = content,
            _ => {
                let long = name.strip_prefix('/').and_then(|digits| digits.parse::<usize>().ok());
                let name = match long.and_then(|from| long_names.get(from..)) {
                    Some(rest) => String::from_utf8_lossy(rest.split(|byte| *byte == b'\n').next()?).into_owned(),
                    None => name.to_owned(),
                };
                // The table of symbols follows from the others, but for its own time.
                let content = if name == "/" { Vec::new() } else { content.to_vec() };
                let header = vec![
                    property(Kind::Time, "a member's time in an ar library", part(16..28)?),
                    property(
                        Kind::HostOrUser,
                        "an owner in an ar library",
                        format!("{} {}", part(28..34)?, part(34..40)?),
                    ),
                    property(Kind::Umask, "a member's rights in an ar library", part(40..48)?),
                ];
                members.push(member(name.trim_end_matches('/'), header, content));
            }
        }
        at += 60 + size + size % 2;
    }
    Some(Archive { format: "ar", header: Vec::new(), members })
}

/// POSIX.1-2017, pax, "ustar Interchange Format" and "pax Extended Header"; GNU tar's long names.
fn tar(bytes: &[u8]) -> Option<Archive> {
    let (mut at, mut members, mut next_name, mut next_time) = (0, Vec::new(), None, None);
    while members.len() < MOST_MEMBERS {
        let Some(block) = bytes.get(at..at + 512).filter(|block| block.iter().any(|byte| *byte != 0)) else { break };
        let text = |range: std::ops::Range<usize>| {
            let field = block[range].split(|byte| *byte == 0).next().unwrap_or_default();
            String::from_utf8_lossy(field).trim().to_owned()
        };
        let size = usize::from_str_radix(&text(124..136), 8).ok()?;
        let content = bytes.get(at + 512..(at + 512).checked_add(size)?)?;
        at += 512 + size.div_ceil(512) * 512;
        match block[156] {
            b'L' => next_name = Some(String::from_utf8_lossy(content).trim_end_matches('\0').to_owned()),
            b'x' => {
                let records = String::from_utf8_lossy(content);
                let value = |key: &str| {
                    let mark = format!(" {key}=");
                    records.lines().find_map(|line| Some(line.split_once(&mark)?.1.to_owned()))
                };
                next_name = value("path").or(next_name);
                next_time = value("mtime");
            }
            b'g' => {}
            _ => {
                let prefix = text(345..500);
                let own = if prefix.is_empty() { text(0..100) } else { format!("{prefix}/{}", text(0..100)) };
                let seconds = i64::from_str_radix(&text(136..148), 8).unwrap_or_default();
                let header = vec![
                    property(
                        Kind::Time,
                        "a member's time in a tar",
                        next_time.take().unwrap_or_else(|| shown_time(seconds)),
                    ),
                    property(Kind::Umask, "a member's rights in a tar", text(100..108)),
                    property(
                        Kind::HostOrUser,
                        "an owner in a tar",
                        format!("{} {} {} {}", text(108..116), text(116..124), text(265..297), text(297..329)),
                    ),
                ];
                members.push(member(&next_name.take().unwrap_or(own), header, content.to_vec()));
            }
        }
    }
    Some(Archive { format: "tar", header: Vec::new(), members })
}

/// Sections of an ELF file (System V ABI, chapter 4, "Sections"), of 32 or 64 bits, little-endian.
fn elf(bytes: &[u8]) -> Option<Archive> {
    let wide = *bytes.get(4)? == 2;
    if *bytes.get(5)? != 1 {
        return None;
    }
    let (table, each, count, names) = match wide {
        true => (place(bytes, 40, 8)?, place(bytes, 58, 2)?, place(bytes, 60, 2)?, place(bytes, 62, 2)?),
        false => (place(bytes, 32, 4)?, place(bytes, 46, 2)?, place(bytes, 48, 2)?, place(bytes, 50, 2)?),
    };
    let section = |index: usize| -> Option<(usize, u64, &[u8])> {
        let at = table.checked_add(index.checked_mul(each)?)?;
        let (from, long) = match wide {
            true => (place(bytes, at.checked_add(24)?, 8)?, place(bytes, at.checked_add(32)?, 8)?),
            false => (place(bytes, at.checked_add(16)?, 4)?, place(bytes, at.checked_add(20)?, 4)?),
        };
        let kind = number(bytes, at.checked_add(4)?, 4)?;
        // SHT_NOBITS has no bytes in the file.
        let content = if kind == 8 { &[][..] } else { bytes.get(from..from.checked_add(long)?)? };
        Some((place(bytes, at, 4)?, kind, content))
    };
    let strings = section(names)?.2;
    let mut members = Vec::new();
    for index in 1..count.min(MOST_MEMBERS) {
        let (name, _, content) = section(index)?;
        let name = String::from_utf8_lossy(strings.get(name..)?.split(|byte| *byte == 0).next()?).into_owned();
        members.push(member(&name, Vec::new(), content.to_vec()));
    }
    Some(Archive { format: "ELF", header: Vec::new(), members })
}

/// Compiled Python (PEP 552): a mark, flags, and either the time and size of the source or a hash of it.
fn bytecode(bytes: &[u8]) -> Option<Archive> {
    let of_source = match number(bytes, 4, 4)? & 1 {
        0 => property(Kind::Time, "the source's time in Python bytecode", number(bytes, 8, 4)?),
        _ => property(Kind::Follows, "the digest of the source in Python bytecode", number(bytes, 8, 8)?),
    };
    Some(Archive {
        format: "Python bytecode",
        header: vec![of_source],
        members: vec![member("its code", Vec::new(), bytes[16..].to_vec())],
    })
}
