//! What services and steps write, kept with the time of each line.
//!
//! A line of a log is milliseconds since 1970, a blank, and what was written. A log that has grown to [`LARGEST`]
//! becomes the earlier one, in the place of the one before, so each source has twice as much at most.

use std::fs::{self, File};
use std::io::{self, BufRead as _, BufReader, Read as _, Write as _};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use cavrith_core::encode::percent_encoded;

use crate::record::now;

/// Bytes of a log before it is put aside.
pub const LARGEST: u64 = 4 << 20;
const ENDING: &str = ".log";
const EARLIER: &str = ".log.1";

/// The log of one source, which is written.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    open: Mutex<Option<(File, u64)>>,
}

fn path_of(logs: &Path, source: &str, ending: &str) -> PathBuf {
    logs.join(format!("{}{ending}", percent_encoded(source, "")))
}

impl Journal {
    /// The log of a source; it is made with its first line.
    pub fn new(logs: &Path, source: &str) -> Self {
        Self { path: path_of(logs, source, ENDING), open: Mutex::new(None) }
    }

    /// Adds a line. A disk that refuses must not stop what writes it, so errors are not told.
    pub fn line(&self, text: &str) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let _ = self.try_line(&mut open, text);
    }

    fn try_line(&self, open: &mut Option<(File, u64)>, text: &str) -> io::Result<()> {
        if open.as_ref().is_some_and(|(_, bytes)| *bytes > LARGEST) {
            *open = None;
            fs::rename(&self.path, self.path.with_extension("log.1"))?;
        }
        if open.is_none() {
            let file = File::options().append(true).create(true).open(&self.path)?;
            let bytes = file.metadata()?.len();
            *open = Some((file, bytes));
        }
        if let Some((file, bytes)) = open {
            let line = format!("{} {text}\n", now());
            file.write_all(line.as_bytes())?;
            *bytes += line.len() as u64;
        }
        Ok(())
    }
}

/// One line of a log.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Line {
    /// Milliseconds since 1970.
    pub at: u64,
    /// Who wrote it.
    pub source: String,
    /// The line.
    pub text: String,
}

fn parse(source: &str, line: &str) -> Option<Line> {
    let (at, text) = line.split_once(' ')?;
    Some(Line { at: at.parse().ok()?, source: source.to_owned(), text: text.to_owned() })
}

/// The sources that have logs.
pub fn sources(logs: &Path) -> Vec<String> {
    let entries = fs::read_dir(logs).into_iter().flatten().flatten();
    let mut sources: Vec<_> = entries
        .filter_map(|entry| {
            let name = entry.file_name().into_string().ok()?;
            Some(percent_decoded(name.strip_suffix(EARLIER).or_else(|| name.strip_suffix(ENDING))?))
        })
        .collect();
    sources.sort();
    sources.dedup();
    sources
}

fn percent_decoded(text: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        let code = (*first == b'%').then(|| std::str::from_utf8(after.get(..2)?).ok()).flatten();
        match code.and_then(|code| u8::from_str_radix(code, 16).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[2..];
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

fn lines_of(file: File, source: &str) -> impl Iterator<Item = Line> {
    let read = BufReader::new(file).split(b'\n').map_while(Result::ok);
    read.filter_map(move |line| parse(source, &String::from_utf8_lossy(&line)))
}

/// All lines of some sources since a time, in the order of their times.
pub fn read(logs: &Path, sources: &[String], since: u64) -> Vec<Line> {
    let mut lines = Vec::new();
    for source in sources {
        for ending in [EARLIER, ENDING] {
            let Ok(file) = File::open(path_of(logs, source, ending)) else { continue };
            lines.extend(lines_of(file, source).filter(|line| line.at >= since));
        }
    }
    lines.sort_by_key(|line| line.at);
    lines
}

/// How a line begins that the keeper itself wrote.
pub const OWN: &str = "[cavrith] ";

/// The last lines that a source itself wrote since a time.
pub fn last(logs: &Path, source: &str, since: u64, most: usize) -> Vec<String> {
    let mut lines = read(logs, &[source.to_owned()], since);
    lines.retain(|line| !line.text.starts_with(OWN));
    lines.iter().skip(lines.len().saturating_sub(most)).map(|line| line.text.clone()).collect()
}

/// Follows a log as it grows, and into the next one when it is put aside.
#[derive(Debug)]
pub struct Follower {
    path: PathBuf,
    source: String,
    open: Option<(File, u64)>,
    unfinished: Vec<u8>,
}

impl Follower {
    /// All that a source has written, and what follows its log from there on, so that no line comes twice.
    pub fn with_earlier(logs: &Path, source: &str) -> (Vec<Line>, Self) {
        let mut follower = Self::new(logs, source);
        let earlier = Self::open(&path_of(logs, source, EARLIER));
        let followed = follower.open.as_ref().map(|(_, inode)| *inode);
        // The log may have been put aside just now; then its lines come with the news.
        let earlier = earlier.filter(|(_, inode)| Some(*inode) != followed);
        let mut lines: Vec<_> = earlier.into_iter().flat_map(|(file, _)| lines_of(file, source)).collect();
        lines.extend(follower.news());
        (lines, follower)
    }

    /// From the first line of a source's log on.
    pub fn new(logs: &Path, source: &str) -> Self {
        let path = path_of(logs, source, ENDING);
        Self { open: Self::open(&path), path, source: source.to_owned(), unfinished: Vec::new() }
    }

    fn open(path: &Path) -> Option<(File, u64)> {
        let file = File::open(path).ok()?;
        let inode = file.metadata().ok()?.ino();
        Some((file, inode))
    }

    /// What was written since.
    pub fn news(&mut self) -> Vec<Line> {
        let mut lines = Vec::new();
        self.take(&mut lines);
        let there = fs::metadata(&self.path).ok().map(|meta| meta.ino());
        if there.is_some() && there != self.open.as_ref().map(|(_, inode)| *inode) {
            self.open = Self::open(&self.path);
            self.take(&mut lines);
        }
        lines
    }

    fn take(&mut self, lines: &mut Vec<Line>) {
        let Some((file, _)) = &mut self.open else { return };
        let mut bytes = Vec::new();
        let _ = file.read_to_end(&mut bytes);
        self.unfinished.extend(bytes);
        while let Some(end) = self.unfinished.iter().position(|byte| *byte == b'\n') {
            let line: Vec<u8> = self.unfinished.drain(..=end).collect();
            lines.extend(parse(&self.source, String::from_utf8_lossy(&line[..end]).as_ref()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_log_is_put_aside_when_it_has_grown_and_is_followed_over_that() {
        let dir = tempfile::tempdir().unwrap();
        let journal = Journal::new(dir.path(), "draw the pages/1");
        journal.line("first");
        assert_eq!(sources(dir.path()), ["draw the pages/1"]);
        let (lines, mut follower) = Follower::with_earlier(dir.path(), "draw the pages/1");
        assert_eq!(lines.iter().map(|line| line.text.as_str()).collect::<Vec<_>>(), ["first"]);
        let long = "x".repeat(1 << 20);
        for _ in 0..9 {
            journal.line(&long);
        }
        journal.line("last");
        let bytes: u64 = fs::read_dir(dir.path()).unwrap().map(|entry| entry.unwrap().metadata().unwrap().len()).sum();
        assert!(bytes <= 2 * LARGEST + (2 << 20), "{bytes}");
        assert_eq!(last(dir.path(), "draw the pages/1", 0, 1), ["last"]);
        let (all, mut later) = Follower::with_earlier(dir.path(), "draw the pages/1");
        assert_eq!(all, read(dir.path(), &sources(dir.path()), 0));
        assert!(later.news().is_empty());
        let news = follower.news();
        assert_eq!(news.last().map(|line| line.text.as_str()), Some("last"));
        journal.line("later");
        assert_eq!(follower.news().iter().map(|line| line.text.as_str()).collect::<Vec<_>>(), ["later"]);
        assert!(read(dir.path(), &sources(dir.path()), now() + 1000).is_empty());
    }
}
