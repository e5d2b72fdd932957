//! Locks whose holder may have panicked.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// What a mutex guards, also after a thread that held it panicked: nothing of ours is left half-changed under a lock.
pub fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
