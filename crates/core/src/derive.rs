//! What follows from stored data: pure functions of a spec, a lock, and what runs.
//!
//! | module | computes |
//! |---|---|
//! | [`plan`] | the layers of an image, and the key of each |
//! | [`setup`] | the team's part of a workspace, and the environment of its commands |
//! | `arrangement`, `runtime` | what runs in a workspace |
//! | [`changes`] | pending changes: what it takes to get from one arrangement to another |
//! | [`fit`] | where a lock does not match its spec |
//!
//! Stored data ([`crate::spec`], [`crate::lock`], [`crate::seal`], [`crate::setup`], [`crate::arrangement`]) knows
//! nothing of this module.

mod arrangement;
pub mod changes;
pub mod fit;
pub mod plan;
mod runtime;
pub mod setup;
