//! Drawing: the one place where data becomes words on a terminal.

pub mod drift;
pub mod failure;
pub mod history;
pub mod mistakes;
pub mod progress;
pub mod roster;
pub mod roster_page;
pub mod runtime;
pub mod unlike;
pub mod verdict;
