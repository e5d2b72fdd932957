//! The parent's side of a sandbox: it starts one, gives it orders, and lends it terminals and ports.

pub(crate) mod folder;
pub mod net;
pub mod perturbed;
pub(crate) mod process;
pub mod runtime;
pub mod session;
pub mod terminal;
