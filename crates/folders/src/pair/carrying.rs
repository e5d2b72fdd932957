//! Carrying changes from one copy to the other: many are under way at a time, since each answer may take long to come.

use std::io;
use std::sync::mpsc;
use std::thread;

use cavrith_core::synced::What;
use cavrith_core::synced::plan::Change;
use cavrith_core::synced::wire::{Ask, Outcome, Part, Tell};

use crate::far::Far;

/// Files that are asked for before the first of them is there.
const AHEAD: usize = 64;

/// Whether a change needs the content of a file.
fn needs_content(change: &Change) -> bool {
    let Some(wanted) = &change.wanted else { return false };
    matches!(wanted.what, What::File { .. }) && change.expected.as_ref().is_none_or(|entry| entry.what != wanted.what)
}

/// Makes changes in a copy with what the other one has, in their order. Says what came of each; nothing when what was
/// to be carried over is gone, or something else: that will be told.
///
/// # Errors
/// When one of the copies is gone, or says what means nothing.
pub(super) fn carry(changes: Vec<Change>, from: &Far, to: &Far) -> io::Result<Vec<(Change, Option<Outcome>)>> {
    if changes.is_empty() {
        return Ok(Vec::new());
    }
    let (asked, may_ask) = mpsc::sync_channel::<()>(AHEAD);
    let (sent, answers) = mpsc::channel::<bool>();
    let outcomes = thread::scope(|scope| {
        let changes = &changes;
        let asking = scope.spawn(move || {
            for change in changes.iter().filter(|change| needs_content(change)) {
                // Waits while too many are under way.
                if asked.try_send(()).is_err() {
                    from.flush()?;
                    if asked.send(()).is_err() {
                        break;
                    }
                }
                from.ask(&Ask::Get(change.path.clone()))?;
            }
            from.flush()
        });
        let collecting = scope.spawn(move || {
            let mut outcomes = Vec::new();
            while let Ok(is_sent) = answers.recv() {
                outcomes.push(match is_sent.then(|| to.answer()).transpose()? {
                    None => None,
                    Some(Tell::Done(outcome)) => Some(outcome),
                    Some(_) => return Err(io::ErrorKind::InvalidData.into()),
                });
            }
            io::Result::Ok(outcomes)
        });
        let passing = (|| {
            for change in changes {
                let is_sent =
                    if needs_content(change) { pass(change, from, to, &may_ask)? } else { order(change, to)? };
                if sent.send(is_sent).is_err() {
                    break;
                }
            }
            to.flush()
        })();
        drop((sent, may_ask));
        let collected = collecting.join().unwrap_or_else(|_| Err(io::ErrorKind::Other.into()));
        let asked = asking.join().unwrap_or_else(|_| Err(io::ErrorKind::Other.into()));
        passing.and(asked).and(collected)
    })?;
    Ok(changes.into_iter().zip(outcomes).collect())
}

/// Orders what needs no content.
fn order(change: &Change, to: &Far) -> io::Result<bool> {
    let path = change.path.clone();
    to.ask(&match (&change.expected, &change.wanted) {
        (Some(expected), None) => Ask::Remove { path, expected: expected.clone() },
        (Some(expected), Some(wanted)) if expected.what == wanted.what => {
            Ask::Dress { path, expected: expected.clone(), wanted: wanted.clone() }
        }
        (expected, Some(wanted)) => Ask::Put { path, expected: expected.clone(), wanted: wanted.clone() },
        (None, None) => return Ok(false),
    })?;
    Ok(true)
}

/// Passes a file on, as it is there now; false when it is gone, or something else.
fn pass(change: &Change, from: &Far, to: &Far, may_ask: &mpsc::Receiver<()>) -> io::Result<bool> {
    // Both ends have something to do while nothing comes.
    let answer = from.answer_after(|| to.flush())?;
    let _ = may_ask.recv();
    let wanted = match answer {
        Tell::Gone => return Ok(false),
        Tell::Is(entry) if matches!(entry.what, What::File { .. }) => entry,
        // What it is now will be told.
        Tell::Is(_) => return Ok(false),
        _ => return Err(io::ErrorKind::InvalidData.into()),
    };
    to.ask(&Ask::Put { path: change.path.clone(), expected: change.expected.clone(), wanted })?;
    loop {
        let Tell::Part(part) = from.answer_after(|| to.flush())? else { return Err(io::ErrorKind::InvalidData.into()) };
        let is_last = !matches!(part, Part::Bytes(_));
        to.ask(&Ask::Part(part))?;
        if is_last {
            return Ok(true);
        }
    }
}
