//! One file for each command: what it does is elsewhere, here it is called and its outcome shown.

pub mod apply;
pub mod at;
pub mod build;
pub mod check;
pub mod contents;
pub mod copy;
pub mod depot;
pub mod desktop;
pub mod doctor;
pub mod drift;
pub mod editor;
pub mod enter;
pub mod explain;
pub mod export;
pub mod folder;
pub mod history;
pub mod init;
pub mod invite;
pub mod join;
pub mod link;
pub mod lock;
pub mod logs;
pub mod names;
pub mod open;
mod own;
pub mod pack;
pub mod pages;
pub mod pinpoint;
pub mod pull;
pub mod push;
pub mod record;
pub mod roster;
pub mod seal;
pub mod show;
pub mod speak;
pub mod ssh;
pub mod start;
pub mod status;
pub mod stop;
pub mod store;
pub mod team;
pub mod verify;

use cavrith_core::lock::Lock;
use cavrith_engine::project::{self, Project};

use crate::args::General;
use crate::failure::Failure;

/// The exit code of a command, or why it failed.
pub type Outcome = Result<u8, Failure>;

/// Refuses `--variant` for a command that deals with all variants.
pub fn for_all_variants(general: &General, command: &str) -> Result<(), Failure> {
    match &general.variant {
        None => Ok(()),
        Some(_) => Err(Failure::Own(2, format!("cavrith {command} is for all variants at once; leave --variant out"))),
    }
}

/// The project and its lock, which has to answer it.
pub fn locked_project(general: &General) -> Result<(Project, Lock), Failure> {
    let project = project::load(&project::find(general.project())?, general.variant.as_deref())?;
    let lock = project::load_lock(&project)?;
    project::check_files(&project, &lock)?;
    Ok((project, lock))
}
