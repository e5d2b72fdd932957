//! Namespaces, mounts, ids and terminals: the wall between outside and inside.
//!
//! This is the only crate with unsafe code and raw system calls. It knows no spec, no store and no image: it is
//! told which directories to lay over each other, what to mount where, and which command to run. Nothing above it
//! may assume that a workspace is a tree of processes.
//!
//! The way through, from a command's start to its end:
//!
//! 1. [`ids::enter`], at the very beginning of the program: an ordinary user steps into a user namespace of their own,
//!    in which all of the image's owners exist; root stays as it is.
//! 2. [`janitor::watch`]: a child that removes the command's unfinished work, however the command ends.
//! 3. [`session::Session::begin`] starts our own executable again ([`child::divert`] sends it here), single-threaded,
//!    and tells it its [`job::Job`] over a socket that is its standard input: nothing about the job goes through
//!    arguments or the environment.
//! 4. That child unshares every namespace, the parent maps the ids, and the child forks PID 1 ([`child::init`]), which
//!    builds the root ([`child::root`]), pivots into it, and waits for orders.
//! 5. [`Runtime::start`] has it run commands ([`child::command`], [`child::program`]), each behind a filter of system
//!    calls ([`child::filter`]).
//! 6. When the session is dropped, or its parent dies in whatever way, PID 1 goes, and with it everything inside: the
//!    kernel ends all processes of a PID namespace, and the mounts go with the last process of the mount namespace.
//!
//! For sealing, [`child::clock`] shows the inside another time of day.
//!
//! What always holds:
//!
//! - Everything of the inside ends with the process that started it, whichever way that ends.
//! - The inside cannot reach the outside's files, processes or network but by what the job names, and never leaves a
//!   set-user-id file outside.
//! - Nothing of an image is touched before the old root is out of reach.
//! - A process that can do more than those inside is not theirs to look into.
//!
//! | room | what |
//! |---|---|
//! | [`protocol`] | jobs, orders and reports, and how they travel |
//! | [`parent`] | a session, its terminals and ports; [`Runtime`], the seam to everything above |
//! | [`child`] | PID 1, the root, commands, the filter, owners on paper |
//! | [`guest`] | the same in a virtual machine |
//! | [`host`] | what this machine offers; owners, control groups, helper processes |

pub mod child;
pub mod guest;
mod host;
mod parent;
mod protocol;

pub use child::{archive, copy_overlay, owners};
pub use host::{background, ground, groups, ids, janitor, machine, programs};
pub use parent::{net, perturbed, runtime, session, terminal};
pub use protocol::{job, lines, wire};

pub use host::ids::Identity;
pub use host::mutex::locked;
pub use parent::runtime::Runtime;
pub use parent::session::Session;

use cavrith_core::failure::FailureCode;

/// What can go wrong at the wall.
#[derive(Debug, thiserror::Error)]
pub enum SandboxError {
    /// This machine lacks something.
    #[error("this machine lacks something that Cavrith needs: {what}; {remedy}")]
    Lacks {
        /// What is missing.
        what: String,
        /// What to do about it.
        remedy: String,
    },
    /// A system call failed outside.
    #[error("cannot {doing}: {source}")]
    Outside {
        /// What was being done.
        doing: String,
        /// Why it failed.
        source: std::io::Error,
    },
    /// A system call failed inside, while the sandbox was being built.
    #[error("the sandbox cannot be built: cannot {0}")]
    Inside(String),
    /// A command inside could not be started.
    #[error("{program}: {why}")]
    NotStarted {
        /// The program.
        program: String,
        /// The reason, in words.
        why: String,
        /// True when there is no such program.
        missing: bool,
    },
    /// The sandbox went away.
    #[error("the sandbox ended unexpectedly; something outside killed it")]
    Gone,
}

impl SandboxError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::Lacks { .. } => FailureCode::SANDBOX_LACKS,
            Self::Outside { .. } | Self::Inside(_) => FailureCode::SANDBOX,
            Self::NotStarted { .. } => FailureCode::NOT_STARTED,
            Self::Gone => FailureCode::SANDBOX_GONE,
        }
    }
}

/// Adds what was being done to the error of a system call outside.
pub(crate) fn outside(doing: impl Into<String>) -> impl FnOnce(std::io::Error) -> SandboxError {
    let doing = doing.into();
    move |source| SandboxError::Outside { doing, source }
}
