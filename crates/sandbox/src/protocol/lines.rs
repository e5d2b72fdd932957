//! Lines of a stream that comes in pieces, without the colours that some programs write wherever they write.

use std::borrow::Cow;
use std::collections::VecDeque;

/// Cuts a stream into lines. What is no UTF-8 is shown by replacement characters, and endless lines are cut.
#[derive(Debug, Default)]
pub struct Lines {
    unfinished: Vec<u8>,
}

impl Lines {
    const LONGEST: usize = 16 * 1024;

    /// Takes what came, and gives out the lines that are complete.
    pub fn take(&mut self, bytes: &[u8], on_line: &mut dyn FnMut(&str)) {
        for byte in bytes {
            let complete = *byte == b'\n';
            if !complete {
                self.unfinished.push(*byte);
            }
            if complete || self.unfinished.len() >= Self::LONGEST {
                on_line(&without_colors(&String::from_utf8_lossy(&self.unfinished)));
                self.unfinished.clear();
            }
        }
    }

    /// Gives out what came after the last newline.
    pub fn finish(&mut self, on_line: &mut dyn FnMut(&str)) {
        if !self.unfinished.is_empty() {
            on_line(&without_colors(&String::from_utf8_lossy(&self.unfinished)));
            self.unfinished.clear();
        }
    }
}

/// A line without changes of colour (ECMA-48, SGR: ESC [, numbers, `m`).
fn without_colors(line: &str) -> Cow<'_, str> {
    if !line.contains("\x1b[") {
        return Cow::Borrowed(line);
    }
    let mut parts = line.split("\x1b[");
    let mut plain = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        match part.trim_start_matches(|letter: char| letter.is_ascii_digit() || letter == ';').strip_prefix('m') {
            Some(rest) => plain.push_str(rest),
            None => plain.extend(["\x1b[", part]),
        }
    }
    Cow::Owned(plain)
}

/// The last few of many lines.
#[derive(Debug, Default)]
pub struct LastLines {
    lines: VecDeque<String>,
}

impl LastLines {
    /// How many there are at most.
    pub const MOST: usize = 20;

    /// Adds a line, and forgets the first when there are too many.
    pub fn push(&mut self, line: &str) {
        if self.lines.len() == Self::MOST {
            self.lines.pop_front();
        }
        self.lines.push_back(line.to_owned());
    }

    /// Forgets all.
    pub fn clear(&mut self) {
        self.lines.clear();
    }

    /// The lines, the earliest first.
    pub fn to_vec(&self) -> Vec<String> {
        self.lines.iter().cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn colors_go_and_nothing_else_does() {
        assert_eq!(without_colors("\x1b[0m\x1b[1;31m[ERROR]\x1b[m it [0m\x1b[2J"), "[ERROR] it [0m\x1b[2J");
        assert_eq!(without_colors("plain"), "plain");
    }

    #[test]
    fn lines_are_cut_wherever_the_pieces_end() {
        let mut lines = Lines::default();
        let mut got = Vec::new();
        for piece in ["lo", "w\n\nhi", "gh\ntide"] {
            lines.take(piece.as_bytes(), &mut |line| got.push(line.to_owned()));
        }
        lines.finish(&mut |line| got.push(line.to_owned()));
        assert_eq!(got, ["low", "", "high", "tide"]);
        let mut count = 0;
        lines.take(&vec![b'x'; 3 * Lines::LONGEST], &mut |_| count += 1);
        assert_eq!(count, 3);
    }
}
