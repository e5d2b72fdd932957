//! The flows: from a project's folder to a checked spec, a lock, an image, a seal.
//!
//! | module | flow |
//! |---|---|
//! | [`project`] | finds and reads a project; every mistake that its files and depots show |
//! | [`locking`] | pins every input |
//! | [`build`] | plan → layers → image, independent layers in parallel |
//! | [`steps`] | one build step, or a toolchain's probe, in the sandbox |
//! | [`sealing`] | builds again under odd conditions, and compares |
//!
//! Flows tell what they do as [`event::Event`]s to an observer, and never print. What can go wrong is an
//! [`error::EngineError`], which says what the user needs to act.
#![forbid(unsafe_code)]

pub mod build;
pub mod error;
pub mod event;
pub mod home;
pub mod locking;
pub mod project;
pub mod sealing;
pub mod steps;

pub use error::EngineError;
