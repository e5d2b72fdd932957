//! What a keeper tells while something begins: kept for anyone who comes late, and never more of it than anybody would
//! read.

use std::collections::VecDeque;

use crate::protocol::WorkspaceEvent;

/// Tellings that are kept: a step may write for hours, and its log has all of it.
const MOST: usize = 50_000;

/// What was reported since something was started last. Each telling has a number that it keeps while earlier ones are
/// forgotten.
#[derive(Debug, Default)]
pub(crate) struct EventLog {
    forgotten: usize,
    told: VecDeque<WorkspaceEvent>,
}

impl EventLog {
    pub fn push(&mut self, told: WorkspaceEvent) {
        if self.told.len() >= MOST {
            self.told.pop_front();
            self.forgotten += 1;
        }
        self.told.push_back(told);
    }

    /// Forgets everything, since something new is started.
    pub fn clear(&mut self) {
        self.forgotten += self.told.len();
        self.told.clear();
    }

    /// The number that the next telling will have.
    pub fn end(&self) -> usize {
        self.forgotten + self.told.len()
    }

    /// Whether anything from this number on is left to be reported.
    pub fn has(&self, from: usize) -> bool {
        from.max(self.forgotten) < self.end()
    }

    /// What is left of the tellings from this number on.
    pub fn since(&self, from: usize) -> Vec<WorkspaceEvent> {
        self.told.iter().skip(from.saturating_sub(self.forgotten)).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn note(number: usize) -> WorkspaceEvent {
        WorkspaceEvent::Note(number.to_string())
    }

    #[test]
    fn late_comers_hear_the_newest_and_nobody_hears_anything_twice() {
        let mut tale = EventLog::default();
        (0..MOST + 5).for_each(|number| tale.push(note(number)));
        assert_eq!(tale.end(), MOST + 5);
        let all = tale.since(0);
        assert_eq!((all.len(), &all[0]), (MOST, &note(5)));
        assert_eq!(tale.since(MOST + 3), [note(MOST + 3), note(MOST + 4)]);
        let heard = tale.end();
        tale.clear();
        assert!(tale.since(0).is_empty() && !tale.has(0) && !tale.has(heard));
        tale.push(note(1));
        assert_eq!(tale.since(heard), [note(1)]);
        assert!(tale.has(0) && tale.has(heard) && !tale.has(heard + 1));
    }
}
