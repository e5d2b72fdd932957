//! What the machine offers, and what is needed on both sides of the wall: owners, control groups, programs, helper
//! processes.

pub(crate) mod attributes;
pub mod background;
pub mod ground;
pub mod groups;
pub mod ids;
pub mod janitor;
pub mod machine;
pub mod mutex;
pub(crate) mod own_processes;
pub mod programs;
