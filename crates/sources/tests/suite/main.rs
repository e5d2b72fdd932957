//! Bytes from outside: as they should be, and as they should not.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod archives;
mod hostile;
#[path = "../support/openpgp.rs"]
mod openpgp;
mod signatures;
