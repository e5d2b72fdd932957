//! What a keeper keeps on disk and says at its door, on directories of their own.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod places;
