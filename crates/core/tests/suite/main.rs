//! What the core computes, by its public interface alone.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod arrangement;
mod kinds;
mod lock_and_plan;
mod nondeterminism;
mod oci;
mod packages;
mod parts_of_a_spec;
mod pure;
mod services;
mod spec;
mod team;
mod variants;
mod wrong;
