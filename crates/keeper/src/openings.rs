//! When a workspace's own steps ran over a scratch, so that what they wrote is told from what was changed by hand.
//!
//! A file `openings` in the scratch has a line for each time: when the steps began and when they were over, in
//! milliseconds since 1970.

use std::path::Path;

use cavrith_engine::error::file_error;
use cavrith_store::{atomic, reading};

use crate::KeeperError;

const FILE: &str = "openings";
/// The kernel's stamps come from a clock that is a tick behind (time(7), at most 10 ms).
const TICK: u64 = 10;
/// Times that are remembered; over the longest life of a scratch, the oldest are the least likely to matter.
const MOST: usize = 1000;

/// A time in which steps ran, both ends included, in milliseconds since 1970.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Opening {
    from: u64,
    to: u64,
}

impl Opening {
    /// Whether something happened meanwhile.
    pub fn contains(&self, millis: u64) -> bool {
        (self.from.saturating_sub(TICK)..=self.to.saturating_add(TICK)).contains(&millis)
    }
}

/// The times that are recorded in a scratch. A line that is damaged is none.
pub fn read(scratch: &Path) -> Vec<Opening> {
    let text = reading::text(&scratch.join(FILE)).unwrap_or_default();
    let line = |line: &str| {
        let (from, to) = line.split_once(' ')?;
        Some(Opening { from: from.parse().ok()?, to: to.parse().ok()? })
    };
    text.lines().filter_map(line).collect()
}

/// Writes one more down.
///
/// # Errors
/// When the disk refuses.
pub fn add(scratch: &Path, from: u64, to: u64) -> Result<(), KeeperError> {
    let mut all = read(scratch);
    all.push(Opening { from, to });
    let text: String = all.iter().rev().take(MOST).rev().map(|Opening { from, to }| format!("{from} {to}\n")).collect();
    let path = scratch.join(FILE);
    atomic::write(&path, text.as_bytes())
        .map_err(|error| file_error("write", &path)(std::io::Error::other(error)).into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_happened_while_steps_ran_is_told_from_what_came_later() {
        let dir = tempfile::tempdir().unwrap();
        assert_eq!(read(dir.path()), []);
        add(dir.path(), 1000, 2000).unwrap();
        add(dir.path(), 5000, 5500).unwrap();
        let all = read(dir.path());
        let during = |millis| all.iter().any(|opening| opening.contains(millis));
        assert_eq!(
            [995, 1500, 2010, 2011, 4989, 5000, 6000].map(during),
            [true, true, true, false, false, true, false]
        );
    }
}
