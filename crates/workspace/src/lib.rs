//! A member's side of workspaces: starting them, following a changed spec, dropping them; their folders and files; and
//! measuring them against the seal.
//!
//! The way through, from `cavrith start` on: the command finds the workspace's place, makes the arrangement that spec,
//! lock and image describe ([`lifecycle`]), and has a keeper started, which answers at the door from then on. Every
//! other command is a client of the keeper.
//!
//! What always holds: nothing that somebody made by hand is removed without being set aside first ([`backups`]); a
//! project is known by its folder and not by the path that was typed ([`moved`]); nothing here assumes what a workspace
//! runs in.
//!
//! | module | what |
//! |---|---|
//! | [`adding`] | what a member brings to a workspace |
//! | [`lifecycle`] | starting, following a changed spec, dropping |
//! | [`moved`] | which folder a workspace belongs to, whatever its path |
//! | [`beside`] | folders and workspaces of other revisions |
//! | [`backups`] | scratches that were to be removed |
//! | [`reporting`] | a member's signed reports |
//! | [`history`] | what the workspace was at each revision |
//! | [`scratches`] | what was changed inside by hand, read, and carried to another machine |
//! | [`drifting`] | what was changed by hand, told, and taken back |
//! | [`kept`] | kept folders: looked into, backed up, restored |
//! | [`copying`] | files in and out |
//! | [`inviting`] | colleagues who may come in |
//! | [`opening`] | places of a project, opened with an editor |
//! | [`speaking`] | language servers inside for editors outside |
//! | [`ssh_config`] | workspaces as hosts of SSH clients |
//! | [`verifying`] | measures the image and a fresh workspace against the seal |
#![forbid(unsafe_code)]

pub mod adding;
pub mod backups;
pub mod beside;
pub mod copying;
pub mod drifting;
pub mod error;
pub mod history;
pub mod inviting;
pub mod kept;
pub mod lifecycle;
mod machine;
pub mod moved;
pub mod opening;
pub mod reporting;
pub mod scratches;
pub mod speaking;
pub mod ssh_config;
pub mod verifying;

pub use error::WorkspaceError;
