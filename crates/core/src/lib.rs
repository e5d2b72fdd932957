//! The pure computation of Cavrith: what a spec means, what has to be built for it, and whether what came out is the
//! same.
//!
//! This crate never touches a disk, a clock, a network, a process or a terminal; everything in it can be tested with
//! plain values. The way through it, in the order of a build:
//!
//! 1. [`spec`] reads `cavrith.toml` and reports every [`mistake`] in it.
//! 2. [`depot`] is the index of what a depot offers; [`lock`] chooses from it and pins every input.
//! 3. [`derive::plan`] turns spec and lock into layers, each with the key under which a finished one is found again.
//! 4. [`tree`] is what a layer or an image holds; layers are merged, digested and compared there.
//! 5. [`account`] and [`setup`] say what Cavrith itself adds to an image, and what a workspace is besides its image.
//! 6. [`arrangement`] is what runs in a workspace, and what it takes to follow a changed spec.
//! 7. [`contents`] is what an image is made of, and [`oci::image`] what it is for other programs, in open formats.
//! 8. [`tracked`] says what a colleague gets with a clone.
//! 9. [`seal`] is the record of what must come out; [`mod@verdict`] holds what was measured against it.
//! 10. [`drift`] is what was changed by hand in a workspace, told as a person would.
//! 11. [`team`] is who may sign what, and [`signature`] the arithmetic of it.
//! 12. [`report`] is what a member states of what was measured, and [`roster`] all of a team's side by side.
//!
//! Under all of it: [`digest`] (one type for each kind), [`encode`] (the written encoding behind them), [`path`] (paths
//! that cannot leave a root), [`version`] and [`debian`] (orders of versions).
//!
//! | file | format | owner |
//! |---|---|---|
//! | `cavrith.toml` | `spec = 1` | [`spec`] |
//! | `cavrith.lock` | `lock = 1` | [`lock`] |
//! | `cavrith.team` | `team = 1` | [`team`] |
//! | `cavrith.listing` | `cavrith listing 1` | [`listing`] |
//! | `depot.toml` | `depot = 1` | [`depot`] |
//! | a layer's manifest in the store | `cavrith tree 2` | [`tree::encoding`] |
//!
//! What always holds: the same values give the same result, to the byte; every digest is of an encoding that is written
//! down ([`encode`]); stored data ([`spec`], [`lock`], [`seal`], [`setup`], [`arrangement`]) knows nothing of what is
//! derived from it ([`mod@derive`], [`mod@verdict`]).
#![forbid(unsafe_code)]

pub mod account;
pub mod arrangement;
pub mod contents;
pub mod debian;
pub mod depot;
pub mod derive;
pub mod digest;
pub mod drift;
pub mod editors;
pub mod encode;
pub mod explain;
pub mod failure;
pub mod first_spec;
pub mod hints;
pub mod history;
pub mod leftovers;
pub mod link;
pub mod listing;
pub mod lock;
pub mod mistake;
pub mod nondeterminism;
pub mod oci;
pub mod path;
pub mod provenance;
pub mod record;
pub mod report;
pub mod roster;
pub mod seal;
pub mod secrets;
pub mod setup;
pub mod signature;
pub mod spec;
pub mod speech;
pub mod synced;
pub mod team;
pub mod template;
pub mod tracked;
pub mod tree;
pub mod verdict;
pub mod version;
pub mod visit;
pub mod volatile;
