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
    events: VecDeque<WorkspaceEvent>,
}

impl EventLog {
    pub fn push(&mut self, event: WorkspaceEvent) {
        if self.events.len() >= MOST {
            self.events.pop_front();
            self.forgotten += 1;
        }
        self.events.push_back(event);
    }

    /// Forgets everything, since something new is started.
    pub fn clear(&mut self) {
        self.forgotten += self.events.len();
        self.events.clear();
    }

    /// The number that the next telling will have.
    pub fn end(&self) -> usize {
        self.forgotten + self.events.len()
    }

    /// Whether anything from this number on is left to be reported.
    pub fn has(&self, from: usize) -> bool {
        from.max(self.forgotten) < self.end()
    }

    /// What is left of the tellings from this number on.
    pub fn since(&self, from: usize) -> Vec<WorkspaceEvent> {
        self.events.iter().skip(from.saturating_sub(self.forgotten)).cloned().collect()
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
        let mut log = EventLog::default();
        (0..MOST + 5).for_each(|number| log.push(note(number)));
        assert_eq!(log.end(), MOST + 5);
        let all = log.since(0);
        assert_eq!((all.len(), &all[0]), (MOST, &note(5)));
        assert_eq!(log.since(MOST + 3), [note(MOST + 3), note(MOST + 4)]);
        let heard = log.end();
        log.clear();
        assert!(log.since(0).is_empty() && !log.has(0) && !log.has(heard));
        log.push(note(1));
        assert_eq!(log.since(heard), [note(1)]);
        assert!(log.has(0) && log.has(heard) && !log.has(heard + 1));
    }
}
