//! The flows: from a project's folder to a checked spec, a lock, an image, a seal.
//!
//! | module | flow |
//! |---|---|
//! | [`project`] | finds and reads a project |
//! | [`survey`] | every mistake that its files, depots and surroundings show |
//! | `surroundings` | mistakes that folders, files, lock and version control show |
//! | [`init_spec`] | writes a first spec from what a project's files tell |
//! | [`adopting`] | the lines of a spec for what was changed by hand |
//! | [`editing`] | changes a spec as people would, keeping their comments |
//! | [`depots`] | makes, fills and checks depots |
//! | [`locking`] | pins every input |
//! | [`supply`] | gets hold of the bytes: depots, addresses, what the store has of them |
//! | [`member`] | what is this member's own: depots, mirrors, ways into registries |
//! | [`suites`] | suites of the Debian archive: fetched, proved, read |
//! | `choosing` | which of their packages a base has |
//! | [`project_files`] | files of the project that steps take |
//! | [`build`] | plan → layers → image, independent layers in parallel |
//! | `stages` | a base from the Debian archive: packages laid and configured, stage by stage |
//! | `images` | bases that are OCI images |
//! | `step_layer` | one step: asked whether it is needed, run, taken as a layer |
//! | `step_network` | what a step that fetches is given for it |
//! | `outward` | the way of a step's requests to the web: mirrors and credentials of the member's |
//! | [`recording`] | runs steps that fetch, and pins what came |
//! | `layer_cache` | a layer that the store has, or that its maker makes; knows no kind of layer |
//! | [`overlay_scratch`] | directories that a sandbox works in |
//! | [`probe`] | asks toolchains for their versions, in a sandbox over the image |
//! | [`contents`] | what the image is made of |
//! | [`sealing`] | builds again under odd conditions, and compares |
//! | [`listing`] | the list of a sealed image's files, beside the lock |
//! | [`sealed`] | layers of a sealed image from somebody who has them |
//! | [`vouched`] | layers of an image that is not sealed, on a publisher's word |
//! | [`team`] | who may sign, and whether a seal is signed by one of them |
//! | [`signing`] | signing with a member's own SSH key |
//! | [`registries`] | how this member's registries are reached |
//!
//! Flows say what they do as [`event::Event`]s to an observer, and never print. What can go wrong is an
//! [`error::EngineError`]: a small type for each operation, with what the user needs to act.
//!
//! What always holds: nothing of a project is run outside; no file is used before its digest fits; whatever is asked
//! for is checked where it is used, not somewhere before.
#![forbid(unsafe_code)]

pub mod adopting;
pub mod bodies;
pub mod bringing;
pub mod build;
mod choosing;
pub mod contents;
pub mod context;
pub mod culprit;
pub mod depots;
pub mod diagnosing;
pub mod dotfiles;
pub mod editing;
pub mod editors;
pub mod error;
pub mod event;
pub mod findings;
pub mod home;
mod images;
pub mod init_spec;
pub mod kernels;
mod layer_cache;
pub mod listing;
pub mod locking;
mod looking;
pub mod member;
pub mod on_top;
pub mod outside;
mod outward;
pub mod overlay_scratch;
pub mod personal;
pub mod probe;
pub mod project;
pub mod project_files;
pub mod recording;
pub mod registries;
mod remembered;
mod scripts;
pub mod sealed;
pub mod sealing;
pub mod secret_values;
pub mod signing;
mod stages;
mod step_layer;
mod step_network;
pub mod suites;
pub mod supply;
mod surroundings;
pub mod survey;
pub mod team;
mod tidying;
pub mod trimming;
pub mod vouched;

pub use error::EngineError;
