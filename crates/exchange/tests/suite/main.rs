//! Archives of trees, read back by another program's reader; parcels, packed and laid out again.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod archives;
mod encryption;
mod parcels;
