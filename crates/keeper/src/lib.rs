//! The keeper: one process in the background for each workspace that runs.
//!
//! It holds the inside, supervises services, carries ports, and answers at the workspace's door. It is our own
//! executable, started under another name ([`divert`]) in a session of its own, and given its job over a socket that is
//! its standard input, so it depends on no terminal.
//!
//! The way through it: a command calls [`launch()`]; the new process makes what the workspace runs in (a
//! [`cavrith_sandbox::Runtime`], so far always namespaces), opens the door, starts steps and services, and works until
//! it is asked to stop. Every other command is a [`client`], and speaks the [`protocol`].
//!
//! What always holds:
//!
//! - A workspace has one keeper: it holds a lock in the workspace's [`place`] that the kernel releases with it.
//! - Everything inside ends with it, however it ends. What is not a process of the inside (control groups, address
//!   translation, staging) is recorded before it is made, where the keeper's janitor finds it.
//! - What is asked at the door is bounded in time and size, and comes from the member alone: the socket's directory is
//!   closed to others.
//! - Only the namespaces' own module knows that the inside is a tree of processes.
//!
//! | module | what |
//! |---|---|
//! | [`mod@launch`] | starting a keeper, and its life from the first line to the last |
//! | [`namespaces`] | what a workspace runs in: namespaces, control groups, a way to other machines |
//! | [`machine`] | the same in a virtual machine: from outside, and within |
//! | [`furniture`] | what an inside is given before anything runs there |
//! | [`cleanup`] | what has to be removed when a keeper is killed |
//! | [`work`] | what its threads share |
//! | [`state`] | its state: reported, frozen, changed while it runs |
//! | [`service`] | one service: started, watched, restarted, stopped |
//! | [`opening`] | steps and services in their order, at a start and after a change |
//! | [`server`] | requests at the door, and their limits |
//! | [`event_log`] | the events of a start or a change, for those who watch |
//! | [`place`], [`mod@record`], [`journal`] | where a workspace's files are, what ran last, what services wrote |
//! | [`protocol`], [`client`], [`streams`] | requests and answers, and a command's side of them |
//! | [`ssh`] | any editor and any client, by SSH |
//! | [`visitors`] | colleagues who are let in for a while |
//! | [`pages`] | a port's pages for browsers of theirs |
//! | [`dotfiles`] | a member's own files in the home |
//! | [`own_shell`] | a member's shell and aliases |
//! | [`shared_terminal`] | terminals of visitors, seen by their host |
//! | [`mounts`] | folders, as a sandbox mounts them |
//! | [`ports`], [`acceptor`], [`datagrams`], [`splicing`] | connections and datagrams from outside to inside |
//! | [`network`] | the way to other machines |
//! | [`links`] | ways to other workspaces of the member |
//! | [`names`] | host names inside and outside |
#![forbid(unsafe_code)]

mod acceptor;
mod agent;
mod cleanup;
pub mod client;
mod datagrams;
mod dotfiles;
pub mod error;
mod event_log;
pub mod folder_identity;
mod furniture;
mod git_credentials;
pub mod home;
pub mod journal;
mod launch;
mod links;
mod machine;
pub mod mounts;
pub mod names;
mod namespaces;
pub mod network;
mod offered;
mod opening;
pub mod openings;
mod own_shell;
pub mod pages;
pub mod place;
pub mod ports;
pub mod protocol;
pub mod record;
mod secrets;
mod server;
mod service;
mod shared_terminal;
mod splicing;
pub mod ssh;
mod state;
pub mod streams;
pub mod synced;
pub mod visitors;
mod work;

pub use error::KeeperError;
pub use launch::{Launch, divert, launch};

/// Files inside that one of ours lies over; they are made in the scratch where the image has none.
pub const OWN_FILES: [&str; 4] = [names::INSIDE, RESOLVER, APT_SOURCES, APT_ALONE];
/// Whom to ask for the addresses of names (resolv.conf(5)).
const RESOLVER: &str = "/etc/resolv.conf";
/// Where packages come from that somebody installs by hand.
const APT_SOURCES: &str = "/etc/apt/sources.list";
/// Has apt fetch as root where there is no other account to fetch as: only where its user has a single id.
const APT_ALONE: &str = "/etc/apt/apt.conf.d/90single-user";
