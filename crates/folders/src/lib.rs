//! Synced folders: two copies of the same files, watched and brought together, whichever of them is near.
//!
//! Each copy has a [`watch::Watch`], which tells what lies in it and makes changes there, over a stream; so it may be
//! in this process, in a machine, or on another computer. [`pair::Pair`] asks both. What follows from what they say
//! is computed by [`cavrith_core::synced`].
//!
//! Whoever changes files meanwhile, and whatever links lie in the way, nothing is written or removed that is not what
//! the plan was made for ([`copy`]): what was there is moved aside first, looked at, and moved back when it is
//! something else. Nothing leads out of a copy, and nothing in it becomes set-uid.
#![forbid(unsafe_code)]

pub mod base;
pub mod copy;
mod far;
mod frames;
pub mod pair;
pub mod watch;

use std::io;

/// Whether an error means that nothing is there.
fn is_absent(error: &io::Error) -> bool {
    // A name on the way that is a link or a file now: then the path is not there either.
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory | io::ErrorKind::InvalidInput)
}
