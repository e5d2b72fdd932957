//! The outer archive of a package: the common format of ar(5), as deb(5) uses it.

use std::io::{self, Read};

const MAGIC: &[u8; 8] = b"!<arch>\n";

/// One member's header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name, without the padding and the slash that some writers add.
    pub name: String,
    /// Bytes of its content.
    pub size: u64,
}

/// Reads the members of an archive one after the other.
#[derive(Debug)]
pub struct Members<R> {
    from: R,
    /// Content of the member given out last that was not read yet, and its padding.
    unread: u64,
    padding: u64,
    /// Bytes of the archive after what was read.
    left: u64,
}

fn not_a_package(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, why.to_owned())
}

impl<R: Read> Members<R> {
    /// Begins to read an archive of `size` bytes.
    ///
    /// # Errors
    /// When it is not such a archive.
    pub fn new(mut from: R, size: u64) -> io::Result<Self> {
        let mut magic = [0; 8];
        from.read_exact(&mut magic).map_err(|_| not_a_package("it is too short to be a package"))?;
        if magic != *MAGIC {
            return Err(not_a_package("it does not begin like a package"));
        }
        Ok(Self { from, unread: 0, padding: 0, left: size - 8 })
    }

    /// The next member; what was not read of the one before is passed over. `None` at the end.
    ///
    /// # Errors
    /// When a header is damaged, or says more than the archive has.
    pub fn next_member(&mut self) -> io::Result<Option<Member>> {
        let rest = self.unread + self.padding.min(self.left.saturating_sub(self.unread));
        let passed = io::copy(&mut (&mut self.from).take(rest), &mut io::sink())?;
        if passed != rest {
            return Err(not_a_package("it ends in the middle of a member"));
        }
        self.left -= rest;
        if self.left == 0 {
            return Ok(None);
        }
        let mut header = [0; 60];
        self.from.read_exact(&mut header).map_err(|_| not_a_package("it ends in the middle of a header"))?;
        self.left = self.left.checked_sub(60).ok_or_else(|| not_a_package("it ends in the middle of a header"))?;
        if &header[58..] != b"`\n" {
            return Err(not_a_package("a member's header is damaged"));
        }
        let text =
            |range: std::ops::Range<usize>| std::str::from_utf8(&header[range]).map(|text| text.trim_end_matches(' '));
        let name = text(0..16).map_err(|_| not_a_package("a member's name is not a text"))?;
        let size = text(48..58).ok().filter(|digits| digits.bytes().all(|digit| digit.is_ascii_digit()));
        let size: u64 = size
            .and_then(|digits| digits.parse().ok())
            .ok_or_else(|| not_a_package("a member's size is not a number"))?;
        if size > self.left {
            return Err(not_a_package("a member says it is larger than the whole"));
        }
        (self.unread, self.padding) = (size, size % 2);
        Ok(Some(Member { name: name.trim_end_matches('/').to_owned(), size }))
    }

    /// The content of the member given out last.
    pub fn content(&mut self) -> Content<'_, R> {
        Content { members: self }
    }
}

/// Reads the content of one member.
#[derive(Debug)]
pub struct Content<'a, R> {
    members: &'a mut Members<R>,
}

impl<R: Read> Read for Content<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let room = buffer.len().min(usize::try_from(self.members.unread).unwrap_or(usize::MAX));
        if room == 0 {
            return Ok(0);
        }
        let count = self.members.from.read(&mut buffer[..room])?;
        if count == 0 {
            return Err(not_a_package("it ends in the middle of a member"));
        }
        self.members.unread -= count as u64;
        self.members.left -= count as u64;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn archive(members: &[(&str, &[u8])]) -> Vec<u8> {
        let mut bytes = MAGIC.to_vec();
        for (name, content) in members {
            bytes.extend(format!("{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`\n", 0, 0, 0, 100_644, content.len()).bytes());
            bytes.extend(*content);
            bytes.extend(std::iter::repeat_n(b'\n', content.len() % 2));
        }
        bytes
    }

    fn read(bytes: &[u8]) -> io::Result<Vec<(String, Vec<u8>)>> {
        let mut members = Members::new(bytes, bytes.len() as u64)?;
        let mut found = Vec::new();
        while let Some(member) = members.next_member()? {
            let mut content = Vec::new();
            members.content().read_to_end(&mut content)?;
            found.push((member.name, content));
        }
        Ok(found)
    }

    #[test]
    fn members_are_read_with_their_padding_and_unread_ones_are_passed_over() {
        let bytes = archive(&[("debian-binary", b"2.0\n"), ("odd/", b"abc"), ("last", b"z")]);
        let found = read(&bytes).unwrap();
        assert_eq!(found[1], ("odd".to_owned(), b"abc".to_vec()));
        let mut members = Members::new(bytes.as_slice(), bytes.len() as u64).unwrap();
        members.next_member().unwrap();
        members.next_member().unwrap();
        assert_eq!(members.next_member().unwrap().unwrap().name, "last");
    }

    #[test]
    fn a_missing_last_padding_byte_is_no_harm() {
        let mut bytes = archive(&[("a", b"xyz")]);
        bytes.pop();
        assert_eq!(read(&bytes).unwrap().len(), 1);
    }

    #[test]
    fn lying_sizes_are_refused() {
        let good = archive(&[("a", b"xyz"), ("b", b"1")]);
        for size in ["9999999999", "-1", "0x3", "", "200"] {
            let mut bytes = good.clone();
            bytes[8 + 48..8 + 58].copy_from_slice(format!("{size:<10}").as_bytes());
            assert!(read(&bytes).is_err(), "{size:?} was taken");
        }
        assert!(read(b"!<arch>\nshort").is_err());
        assert!(read(b"PK\x03\x04").is_err());
    }

    proptest! {
        #[test]
        fn any_archive_survives_the_round_trip(contents in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..40), 0..5)) {
            let members: Vec<_> = contents.iter().map(|content| ("m", content.as_slice())).collect();
            let found = read(&archive(&members)).unwrap();
            prop_assert!(found.iter().map(|(_, content)| content).eq(contents.iter()));
        }

        #[test]
        fn any_bytes_are_answered(mut bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = read(&bytes);
            bytes.splice(..0, MAGIC.iter().copied());
            let _ = read(&bytes);
        }
    }
}
