//! Archives of trees, read back by another program's reader.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod archives;
