//! What parent and child say to each other, and how.

pub mod job;
pub mod lines;
pub mod wire;
