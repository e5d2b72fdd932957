//! Why two builds of the same thing differ: told from the bytes of both, and from what was different around them.
//!
//! What is packed is looked into ([`archives`]): a difference in a compressed archive is one of its header, of its
//! order, of a member's header or of a member's content, and so on down. What cannot be opened is compared as text or
//! as bytes ([`content`]), each place that differs is cut out whole ([`tokens`]), and its two sides are held against
//! the forms that a time of day has ([`time`]) and against what is known of the two builds.

mod advice;
mod archives;
mod content;
mod order;
mod time;
mod tokens;

use std::collections::HashMap;
use std::ops::Range;

use base64::Engine as _;
use base64::prelude::{BASE64_STANDARD_NO_PAD as STANDARD_NO_PAD, BASE64_URL_SAFE_NO_PAD as URL_SAFE_NO_PAD};
use serde::{Deserialize, Serialize};
use sha2::Digest as _;

use crate::path::{RootPath, shown};
use crate::tree::diff::{Change, Field, What};

/// Findings that are told of one file; what repeats says nothing new.
const MOST_FINDINGS: usize = 8;
/// Archives in archives that are opened.
const DEPTH: u32 = 4;
/// Bytes that are shown to the left and right of a difference.
const AROUND: usize = 24;
/// What stands before digests in manifests.
const DIGEST_PREFIXES: [&str; 6] = ["sha256-", "sha512-", "sha256:", "sha512:", "md5:", "blake3:"];

/// What made two builds differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// The time of day, in any form, or how long something took.
    Time,
    /// Where it was built.
    BuildPath,
    /// The name of the machine or of a user.
    HostOrUser,
    /// The number of a process.
    ProcessId,
    /// A random number, or an order that follows from one.
    Random,
    /// The order in which a directory listed its entries.
    DirectoryOrder,
    /// The order, or the form of numbers and words, of a locale.
    Locale,
    /// How many processors there are.
    Processors,
    /// What the processor can do.
    CpuFeatures,
    /// Which of several things done at once was first.
    ParallelOrder,
    /// What a compressor writes beside the data.
    CompressionHeader,
    /// The umask.
    Umask,
    /// What the network answered.
    Network,
    /// It follows from another file that differs.
    Follows,
    /// None of these, as far as can be seen.
    Unknown,
}

impl Kind {
    /// In words, after `by`: `the time of day`.
    pub fn words(self) -> &'static str {
        match self {
            Self::Time => "the time of day",
            Self::BuildPath => "where it was built",
            Self::HostOrUser => "the name of the host or user",
            Self::ProcessId => "a process id",
            Self::Random => "something random",
            Self::DirectoryOrder => "the order of a directory",
            Self::Locale => "the locale",
            Self::Processors => "the number of processors",
            Self::CpuFeatures => "the features of the processor",
            Self::ParallelOrder => "the order of what ran in parallel",
            Self::CompressionHeader => "the header of a compressor",
            Self::Umask => "the umask",
            Self::Network => "the network",
            Self::Follows => "another file that differs",
            Self::Unknown => "something unknown",
        }
    }
}

/// One reason for which a file differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// The kind of reason.
    pub kind: Kind,
    /// The form in which it got in: `seconds since 1970, 32 bits, little-endian`.
    pub form: String,
    /// Where in the file, from the outside in: members of archives, sections.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub inside: Vec<String>,
    /// The first byte that differs there, where bytes were compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<u64>,
    /// What the first build has there: text, or bytes in hexadecimal.
    pub first: String,
    /// What the second one has.
    pub second: String,
    /// What to do.
    pub remedy: String,
}

/// What was around a build.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Surroundings {
    /// Seconds since 1970 between which it ran, by each clock that it saw: what the kernel puts on files need not be
    /// what a program is told.
    pub clocks: Vec<Range<i64>>,
    /// Process ids that it can have had.
    pub pids: Range<u64>,
    /// Processors that it could use.
    pub processors: u64,
    /// Names of the machine.
    pub hosts: Vec<String>,
    /// Names of users.
    pub users: Vec<String>,
    /// Directories that were its own.
    pub paths: Vec<String>,
    /// Its umask.
    pub umask: u32,
}

/// How bytes are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// A stream of gzip, xz or zstd, which its first bytes tell.
    Stream,
    /// A raw stream of RFC 1951, as zip archives have.
    Deflate,
}

/// Unpacks bytes, as far as it can and may; the core has no decompressor of its own.
pub type Unpack<'a> = &'a dyn Fn(Packing, &[u8]) -> Option<Vec<u8>>;

/// What is at a path on one side.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side<'a> {
    /// Nothing.
    Nothing,
    /// A file with this content.
    File(&'a [u8]),
    /// A symbolic link.
    Link(&'a str),
    /// Something else, or something that was not read.
    Other,
}

/// What is known of two builds.
pub struct Explainer<'a> {
    /// The first build and the second one.
    around: &'a [Surroundings; 2],
    unpack: Unpack<'a>,
    /// Digests of files that differ, in hexadecimal, and whose they are.
    digests: HashMap<String, String>,
    /// Names that one side alone has.
    lone: [Vec<RootPath>; 2],
}

impl<'a> Explainer<'a> {
    /// Begins with what was around both builds.
    pub fn new(around: &'a [Surroundings; 2], unpack: Unpack<'a>) -> Self {
        Self { around, unpack, digests: HashMap::new(), lone: [Vec::new(), Vec::new()] }
    }

    /// Takes note of something that differs, before anything is explained: others may follow from it.
    pub fn remember(&mut self, change: &Change, sides: [Side<'_>; 2]) {
        match change.what {
            What::Missing => self.lone[0].push(change.path.clone()),
            What::Extra => self.lone[1].push(change.path.clone()),
            What::Changed { .. } => {}
        }
        for side in sides {
            if let Side::File(bytes) = side {
                let [short, long] = [sha2::Sha256::digest(bytes).to_vec(), sha2::Sha512::digest(bytes).to_vec()];
                let forms = [
                    hexadecimal(&short),
                    hexadecimal(&long),
                    hexadecimal(&md5::Md5::digest(bytes)),
                    hexadecimal(blake3::hash(bytes).as_bytes()),
                    STANDARD_NO_PAD.encode(&short),
                    STANDARD_NO_PAD.encode(&long),
                    URL_SAFE_NO_PAD.encode(&short),
                ];
                self.digests.extend(forms.map(|form| (form, change.path.to_string())));
            }
        }
    }

    /// The file that a word is the digest of.
    fn digest_of(&self, word: &str) -> Option<&str> {
        let plain = DIGEST_PREFIXES.iter().find_map(|prefix| word.strip_prefix(prefix)).unwrap_or(word);
        self.digests.get(plain).or_else(|| self.digests.get(&plain.to_ascii_lowercase())).map(String::as_str)
    }

    /// As [`Self::digest_of`], of a digest as it is.
    fn raw_digest_of(&self, bytes: &[u8]) -> Option<&str> {
        self.digests.get(&hexadecimal(bytes)).map(String::as_str)
    }

    /// Why something differs; never nothing.
    pub fn explain(&self, change: &Change, sides: [Side<'_>; 2]) -> Vec<Finding> {
        let mut found = match &change.what {
            What::Missing => self.lone_name(&change.path, 0),
            What::Extra => self.lone_name(&change.path, 1),
            What::Changed { fields } => {
                let mut found = match sides {
                    [Side::File(first), Side::File(second)] if first != second => {
                        self.bytes(&change.path.to_string(), first, second, 0)
                    }
                    [Side::Link(first), Side::Link(second)] if first != second => {
                        vec![tokens::classify(self, first, second, &change.path.to_string())]
                    }
                    _ => Vec::new(),
                };
                found.extend(fields.iter().filter_map(|field| self.field(field)));
                found
            }
        };
        distinct(&mut found);
        if found.is_empty() {
            found.push(finding(Kind::Unknown, "", "", ""));
        }
        found
    }

    /// A property of an entry that differs, other than its content.
    fn field(&self, field: &Field) -> Option<Finding> {
        let (first, second) = (&field.expected, &field.here);
        match field.name.as_str() {
            "content" | "size" | "target" => None,
            "mode" | "rights" => Some(self.mode(first, second)),
            "owner" | "user" | "group" => Some(finding(Kind::HostOrUser, "an owner", first, second)),
            _ => None,
        }
    }

    /// Rights that differ: by the umask when each side lacks nothing but what its umask takes.
    fn mode(&self, first: &str, second: &str) -> Finding {
        let number = |text: &str| u32::from_str_radix(text.trim_start_matches("0o"), 8).ok();
        let by_umask = match (number(first), number(second)) {
            (Some(first), Some(second)) => {
                let differ = first ^ second;
                let taken = (self.around[0].umask ^ self.around[1].umask) | 0o077;
                differ & !taken == 0
            }
            _ => false,
        };
        finding(if by_umask { Kind::Umask } else { Kind::Unknown }, "rights of a file", first, second)
    }

    /// A name that one side alone has: what is in the place of it on the other side tells why.
    fn lone_name(&self, path: &RootPath, side: usize) -> Vec<Finding> {
        let name = String::from_utf8_lossy(path.name().unwrap_or_default()).into_owned();
        let others = self.lone[1 - side].iter().filter(|other| other.parent() == path.parent());
        let nearest = others
            .map(|other| String::from_utf8_lossy(other.name().unwrap_or_default()).into_owned())
            .max_by_key(|other| common(&name, other));
        let whole = path.to_string();
        let found = match nearest.filter(|other| common(&name, other) > 0 || name.len() == other.len()) {
            Some(other) if side == 0 => tokens::classify(self, &name, &other, &whole),
            Some(other) => tokens::classify(self, &other, &name, &whole),
            // A directory above it may be the one whose name differs.
            None if path.parent().is_some_and(|above| self.lone[side].contains(&above)) => {
                return path.parent().map(|above| self.lone_name(&above, side)).unwrap_or_default();
            }
            None => {
                let (first, second) = if side == 0 { (name.as_str(), "") } else { ("", name.as_str()) };
                tokens::lone(self, &whole, first, second)
            }
        };
        vec![Finding {
            form: "a name".to_owned() + if found.form.is_empty() { "" } else { ": " } + &found.form,
            ..found
        }]
    }

    /// Why the bytes of a file, or of a member of an archive, differ.
    fn bytes(&self, path: &str, first: &[u8], second: &[u8], depth: u32) -> Vec<Finding> {
        let opened = (depth < DEPTH)
            .then(|| Some((archives::open(first, self.unpack)?, archives::open(second, self.unpack)?)))
            .flatten();
        if let Some((ours, theirs)) = opened.filter(|(ours, theirs)| ours.format == theirs.format) {
            let mut found = archives::compare(self, path, &ours, &theirs, depth);
            if !found.is_empty() {
                distinct(&mut found);
                return found;
            }
        }
        let mut found = content::compare(self, path, first, second);
        distinct(&mut found);
        found
    }
}

/// Characters that two names share at their beginning and end.
fn common(first: &str, second: &str) -> usize {
    let start = first.chars().zip(second.chars()).take_while(|(a, b)| a == b).count();
    let end = first.chars().rev().zip(second.chars().rev()).take_while(|(a, b)| a == b).count();
    (start + end).min(first.chars().count())
}

/// Keeps one finding of each kind and form, the first, known ones before unknown ones, and not too many.
fn distinct(found: &mut Vec<Finding>) {
    let mut kept: Vec<Finding> = Vec::new();
    for one in found.drain(..) {
        if !kept.iter().any(|known| known.kind == one.kind && known.form == one.form) {
            kept.push(one);
        }
    }
    kept.sort_by_key(|one| match one.kind {
        Kind::Unknown => 2,
        Kind::Follows => 1,
        _ => 0,
    });
    // Beside what is known, a place that nothing is known of is most often its consequence.
    if kept.iter().any(|one| one.kind != Kind::Unknown) {
        kept.retain(|one| one.kind != Kind::Unknown || one.inside.is_empty());
    }
    kept.truncate(MOST_FINDINGS);
    *found = kept;
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A finding without a place.
fn finding(kind: Kind, form: &str, first: &str, second: &str) -> Finding {
    Finding {
        kind,
        form: form.to_owned(),
        inside: Vec::new(),
        at: None,
        first: first.to_owned(),
        second: second.to_owned(),
        remedy: advice::remedy(kind, form).to_owned(),
    }
}

/// The bytes around a place: text when they are, else in hexadecimal.
fn excerpt(bytes: &[u8], at: usize) -> String {
    let near = &bytes[at.saturating_sub(AROUND).min(bytes.len())..bytes.len().min(at.saturating_add(AROUND))];
    let printable = near.iter().filter(|byte| matches!(byte, b'\t' | b'\n' | b' '..=b'~')).count();
    if printable * 10 >= near.len() * 9 {
        let from =
            bytes[..at.min(bytes.len())].iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
        let from = from.max(at.saturating_sub(AROUND)).min(bytes.len());
        let line = &bytes[from..bytes.len().min(at.saturating_add(2 * AROUND))];
        return shown(line.split(|byte| *byte == b'\n').next().unwrap_or_default());
    }
    let near = &bytes[at.saturating_sub(4).min(bytes.len())..bytes.len().min(at.saturating_add(12))];
    near.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(" ")
}
