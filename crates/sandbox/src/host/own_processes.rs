//! Processes inside that are Cavrith's own helpers, and not anybody's who works there.

use std::collections::BTreeSet;
use std::sync::Mutex;

use crate::host::mutex::locked;

/// Their numbers, as PID 1 knows them.
static OURS: Mutex<BTreeSet<i32>> = Mutex::new(BTreeSet::new());

pub(crate) fn add(process: i32) {
    locked(&OURS).insert(process);
}

pub(crate) fn remove(process: i32) {
    locked(&OURS).remove(&process);
}

/// Whether a process is a helper of ours.
pub(crate) fn is_ours(process: i32) -> bool {
    locked(&OURS).contains(&process)
}
