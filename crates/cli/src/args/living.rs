//! What can be typed to start, look into and change a workspace in use.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as Arguments, Subcommand};

use super::{Report, duration, workspace_name};

/// Which workspace is meant.
#[derive(Debug, Clone, Default, Arguments)]
pub struct Which {
    /// The workspace's name: any on this machine, or a new one for another workspace of this project
    #[arg(long, short, value_name = "NAME", value_parser = workspace_name)]
    pub name: Option<String>,
}

#[derive(Debug, Arguments)]
pub struct Stop {
    #[command(flatten)]
    pub which: Which,
    /// Stop every workspace of this machine that is yours
    #[arg(long, conflicts_with = "name")]
    pub all: bool,
}

#[derive(Debug, Arguments)]
pub struct WhichReport {
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Start {
    /// Wait until every service is ready, however long it takes
    #[arg(long)]
    pub wait: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Enter {
    /// Be this account inside, and not the workspace's
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct Logs {
    /// A service, or a step of the start; all when left out
    pub source: Vec<String>,
    /// Go on with what is written from now on
    #[arg(long, short)]
    pub follow: bool,
    /// Only what was written so long ago or less: 90 s, 10 min, 2 h, 1 d
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub since: Option<Duration>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Apply {
    /// Begin with an empty scratch where the image is another one, without asking
    #[arg(long)]
    pub fresh: bool,
    /// Only say what would be done
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Subcommand)]
pub enum Copy {
    /// Copy a file or folder of this machine into the workspace
    In(CopyIn),
    /// Copy a file or folder of the workspace to this machine
    Out(CopyOut),
}

#[derive(Debug, Arguments)]
pub struct CopyIn {
    /// What
    pub outside: PathBuf,
    /// Where to, inside; in a directory it keeps its name
    pub inside: String,
    /// As this account, and not the workspace's
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct CopyOut {
    /// What, inside
    pub inside: String,
    /// Where to; in a directory it keeps its name
    #[arg(default_value = ".")]
    pub outside: PathBuf,
    /// As this account, and not the workspace's
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Subcommand)]
pub enum Folder {
    /// List kept folders
    List(WhichReport),
    /// List what lies in one
    Show(FolderShow),
    /// Write all of one into a file
    Backup(FolderBackup),
    /// Put what such a file holds in the place of one
    Restore(FolderRestore),
    /// Remove one with all that it holds
    Remove(FolderRemove),
}

#[derive(Debug, Arguments)]
pub struct FolderShow {
    /// The folder's name
    pub folder: String,
    /// A directory in it
    #[arg(default_value = ".")]
    pub path: PathBuf,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct FolderBackup {
    /// The folder's name
    pub folder: String,
    /// The file, which is a compressed tar archive
    pub file: PathBuf,
    /// Also while the workspace runs: what is written meanwhile may be half in it
    #[arg(long)]
    pub while_running: bool,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct FolderRestore {
    /// The folder's name
    pub folder: String,
    /// The file
    pub file: PathBuf,
    /// Replace what is in the folder, without asking
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct FolderRemove {
    /// The folder's name
    pub folder: String,
    /// Without asking
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct Names {
    /// Keep them in the hosts file, in a block of their own
    #[arg(long, conflicts_with = "remove")]
    pub apply: bool,
    /// Take that block out
    #[arg(long)]
    pub remove: bool,
    /// Another hosts file
    #[arg(long, value_name = "FILE")]
    pub file: Option<PathBuf>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Drop {
    /// Without asking
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct Run {
    /// Be this account inside, and not the workspace's
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
    /// Program and arguments
    #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "CMD")]
    pub command: Vec<String>,
}
