//! Folders and places of workspaces, on directories of their own.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod folders;
mod places;
