//! A path inside a root filesystem.

use std::cmp::Ordering;
use std::ffi::OsStr;
use std::fmt;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;
use std::sync::Arc;

/// Bytes that a path may have at most: one page with room left for the directory it is unpacked into.
pub const MAX_PATH: usize = 3072;
/// Bytes that one name in a path may have at most (`NAME_MAX` of every Linux filesystem).
pub const MAX_NAME: usize = 255;

/// A path inside a root: bytes, relative to the root, without `.`, `..`, empty names or NUL.
///
/// It cannot leave the root by its own text. (Whether a *link* on the way leads out is for the code that walks
/// it.) The empty path is the root itself. The order is by names, so that what lies in a directory follows it at once,
/// before any sibling whose name merely begins the same.
///
/// Copies share their bytes: one path stands in several trees. The root is `None`, and nothing else is.
#[derive(Clone, PartialEq, Eq, Hash, Default)]
pub struct RootPath(Option<Arc<[u8]>>);

/// Why some bytes are no path inside a root.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadPath {
    /// It begins with a slash where a relative path is wanted.
    #[error("{0} is absolute")]
    Absolute(String),
    /// It does not begin with a slash where an absolute path is wanted.
    #[error("{0} is not absolute; it has to begin with /")]
    Relative(String),
    /// It has a `..`.
    #[error("{0} has a .. in it")]
    Upwards(String),
    /// It has a byte 0.
    #[error("{0} has a zero byte in it")]
    Nul(String),
    /// It, or one name in it, is too long.
    #[error("{0} is too long ({MAX_PATH} bytes for a path, {MAX_NAME} for a name in it)")]
    TooLong(String),
    /// It has `.` or empty names where a plain path is wanted.
    #[error("{0} is not written plainly; leave out . and doubled or trailing slashes")]
    NotPlain(String),
}

impl RootPath {
    /// The root itself.
    pub const fn root() -> Self {
        Self(None)
    }

    /// Takes a path as archives carry it: `./usr/bin`, `usr/bin/`, `usr//bin` are the same.
    ///
    /// # Errors
    /// Absolute paths, `..`, NUL, over-long paths and names.
    pub fn from_archive(bytes: &[u8]) -> Result<Self, BadPath> {
        if bytes.first() == Some(&b'/') {
            return Err(BadPath::Absolute(shown(bytes)));
        }
        Self::collect(bytes)
    }

    /// Takes an absolute path that a person wrote, for example `/opt/quill`.
    ///
    /// # Errors
    /// As for [`Self::from_archive`], and when it is not absolute or not written plainly.
    pub fn from_absolute(text: &str) -> Result<Self, BadPath> {
        let bytes = text.as_bytes();
        let Some(rest) = bytes.strip_prefix(b"/") else {
            return Err(BadPath::Relative(shown(bytes)));
        };
        let path = Self::collect(rest)?;
        if path.as_bytes() == rest { Ok(path) } else { Err(BadPath::NotPlain(shown(bytes))) }
    }

    /// Takes a path that was written by [`crate::tree`]: relative and plain.
    ///
    /// # Errors
    /// Anything that is not exactly in that form.
    pub fn from_plain(bytes: &[u8]) -> Result<Self, BadPath> {
        let path = Self::from_archive(bytes)?;
        if path.as_bytes() == bytes { Ok(path) } else { Err(BadPath::NotPlain(shown(bytes))) }
    }

    fn collect(bytes: &[u8]) -> Result<Self, BadPath> {
        let mut path = Vec::with_capacity(bytes.len());
        for name in bytes.split(|byte| *byte == b'/') {
            match name {
                b"" | b"." => continue,
                b".." => return Err(BadPath::Upwards(shown(bytes))),
                _ if name.contains(&0) => return Err(BadPath::Nul(shown(bytes))),
                _ if name.len() > MAX_NAME => return Err(BadPath::TooLong(shown(bytes))),
                _ => {}
            }
            if !path.is_empty() {
                path.push(b'/');
            }
            path.extend(name);
        }
        if path.len() > MAX_PATH { Err(BadPath::TooLong(shown(bytes))) } else { Ok(Self::of(&path)) }
    }

    /// Bytes that are known to be a path.
    fn of(bytes: &[u8]) -> Self {
        Self((!bytes.is_empty()).then(|| bytes.into()))
    }

    /// The bytes, without a slash in front.
    pub fn as_bytes(&self) -> &[u8] {
        self.0.as_deref().unwrap_or_default()
    }

    /// True for the root itself.
    pub fn is_root(&self) -> bool {
        self.0.is_none()
    }

    /// The path as a relative [`Path`], to be joined to the place where a root lies on disk.
    pub fn as_relative(&self) -> &Path {
        Path::new(OsStr::from_bytes(self.as_bytes()))
    }

    /// The names from the root downwards.
    pub fn names(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        self.as_bytes().split(|byte| *byte == b'/').filter(|name| !name.is_empty())
    }

    /// How many names it has.
    pub fn depth(&self) -> usize {
        self.names().count()
    }

    /// The last name; `None` for the root.
    pub fn name(&self) -> Option<&[u8]> {
        self.names().next_back()
    }

    /// The directory it lies in; `None` for the root.
    pub fn parent(&self) -> Option<Self> {
        if self.is_root() {
            return None;
        }
        let end = self.as_bytes().iter().rposition(|byte| *byte == b'/').unwrap_or(0);
        Some(Self::of(&self.as_bytes()[..end]))
    }

    /// All directories above it, the root first, itself not included.
    pub fn ancestors(&self) -> Vec<Self> {
        let mut found: Vec<_> = std::iter::successors(self.parent(), Self::parent).collect();
        found.reverse();
        found
    }

    /// The path of one entry in this directory. `name` must be one plain name.
    ///
    /// # Errors
    /// When `name` is not a plain name or the whole gets too long.
    pub fn join(&self, name: &[u8]) -> Result<Self, BadPath> {
        if name.contains(&b'/') || name.is_empty() || name == b"." {
            return Err(BadPath::NotPlain(shown(name)));
        }
        let mut bytes = self.as_bytes().to_vec();
        if !bytes.is_empty() {
            bytes.push(b'/');
        }
        bytes.extend(name);
        Self::from_plain(&bytes)
    }

    /// `other` laid under this path.
    ///
    /// # Errors
    /// When the whole gets too long.
    pub fn join_path(&self, other: &Self) -> Result<Self, BadPath> {
        if self.is_root() || other.is_root() {
            return Ok(if self.is_root() { other.clone() } else { self.clone() });
        }
        Self::from_plain(&[self.as_bytes(), b"/", other.as_bytes()].concat())
    }

    /// The rest of the path after its first `count` names; `None` when it has no more than that.
    pub fn strip(&self, count: usize) -> Option<Self> {
        let names: Vec<_> = self.names().skip(count).collect();
        if names.is_empty() { None } else { Some(Self::of(&names.join(&b'/'))) }
    }

    /// True when this is `above` or lies somewhere under it.
    pub fn lies_in(&self, above: &Self) -> bool {
        above.is_root() || {
            let (own, above) = (self.as_bytes(), above.as_bytes());
            own.starts_with(above) && matches!(own.get(above.len()), None | Some(b'/'))
        }
    }
}

impl Ord for RootPath {
    fn cmp(&self, other: &Self) -> Ordering {
        // Paths beside each other begin alike, which is passed over a machine word at a time.
        const WORD: usize = 8;
        let (ours, theirs) = (self.as_bytes(), other.as_bytes());
        let alike = ours.chunks_exact(WORD).zip(theirs.chunks_exact(WORD)).take_while(|(a, b)| a == b).count() * WORD;
        // No name holds a byte 0, so reading the slash as 0 sorts by names.
        let key = |byte: &u8| if *byte == b'/' { 0 } else { *byte };
        ours[alike..].iter().map(key).cmp(theirs[alike..].iter().map(key))
    }
}

impl PartialOrd for RootPath {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for RootPath {
    /// With a slash in front; bytes that are no printable text are escaped.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "/{}", shown(self.as_bytes()))
    }
}

impl fmt::Debug for RootPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "RootPath({self})")
    }
}

/// Bytes as text that is safe on a terminal: control characters and bytes that are no UTF-8 are escaped, and what is
/// very long is cut.
pub fn shown(bytes: &[u8]) -> String {
    const LONGEST: usize = 200;
    let mut text = String::new();
    for chunk in bytes[..bytes.len().min(LONGEST)].utf8_chunks() {
        for letter in chunk.valid().chars() {
            if letter.is_control() || letter == '\\' {
                text.extend(letter.escape_default());
            } else {
                text.push(letter);
            }
        }
        for byte in chunk.invalid() {
            text.push_str(&format!("\\x{byte:02x}"));
        }
    }
    if bytes.len() > LONGEST {
        text.push('…');
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn path(text: &str) -> RootPath {
        RootPath::from_archive(text.as_bytes()).unwrap()
    }

    #[test]
    fn archive_spellings_of_one_path_are_equal() {
        for spelling in ["usr/bin", "./usr/bin", "usr//bin/", "././usr/./bin"] {
            assert_eq!(path(spelling), path("usr/bin"));
        }
        assert!(path("./").is_root());
    }

    #[test]
    fn paths_that_lead_out_are_refused() {
        for text in ["/etc", "..", "a/../b", "a/..", "a\0b"] {
            assert!(RootPath::from_archive(text.as_bytes()).is_err(), "{text:?} was taken");
        }
        assert!(RootPath::from_archive(&[b'a'; 256]).is_err());
        assert!(RootPath::from_archive(&b"abcdefgh/".repeat(600)).is_err());
    }

    #[test]
    fn a_directory_sorts_right_before_what_it_holds() {
        let mut paths = ["a-b", "a/b", "a", "a.b", "a/b/c", "b"].map(path);
        paths.sort();
        assert_eq!(paths, ["a", "a/b", "a/b/c", "a-b", "a.b", "b"].map(path));
    }

    #[test]
    fn a_sibling_with_the_same_beginning_lies_outside() {
        assert!(path("opt/quill/bin").lies_in(&path("opt/quill")));
        assert!(!path("opt/quill2").lies_in(&path("opt/quill")));
    }

    #[test]
    fn hostile_names_are_shown_escaped() {
        assert_eq!(RootPath::from_archive(b"a\x1b[2Jb\n\xff").unwrap().to_string(), "/a\\u{1b}[2Jb\\n\\xff");
    }

    proptest! {
        #[test]
        fn no_bytes_make_a_path_that_leaves_the_root(bytes in proptest::collection::vec(any::<u8>(), 0..64)) {
            if let Ok(path) = RootPath::from_archive(&bytes) {
                prop_assert!(!path.as_relative().is_absolute());
                prop_assert!(path.names().all(|name| !matches!(name, b"" | b"." | b"..")));
                prop_assert_eq!(RootPath::from_plain(path.as_bytes()), Ok(path));
            }
        }

        #[test]
        fn order_is_the_order_of_the_lists_of_names(a in "[a-c./-]{0,8}", b in "[a-c./-]{0,8}") {
            if let (Ok(a), Ok(b)) = (RootPath::from_archive(a.as_bytes()), RootPath::from_archive(b.as_bytes())) {
                let names = |path: &RootPath| path.names().map(<[u8]>::to_vec).collect::<Vec<_>>();
                prop_assert_eq!(a.cmp(&b), names(&a).cmp(&names(&b)));
            }
        }
    }
}
