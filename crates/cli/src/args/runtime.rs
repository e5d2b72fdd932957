//! What can be typed to start, look into and change a workspace in use.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as Arguments, Subcommand};

use super::{Report, duration, workspace_name};
use crate::completing;

// A comment and no documentation: clap would take it as the help of every command that it is part of.
// Which workspace is meant.
#[derive(Debug, Clone, Default, Arguments)]
pub struct Which {
    /// The workspace's name; a new name makes another workspace of this project
    #[arg(long, short, value_name = "NAME", value_parser = workspace_name, add = completing::workspaces())]
    pub name: Option<String>,
}

#[derive(Debug, Arguments)]
pub struct Stop {
    #[command(flatten)]
    pub which: Which,
    /// Stop all your workspaces on this machine
    #[arg(long, conflicts_with = "name")]
    pub all: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct WhichReport {
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Freeze {
    /// Write a virtual machine's memory to the disk, so that it takes none; cavrith thaw goes on from there
    #[arg(long)]
    pub to_disk: bool,
    #[command(flatten)]
    pub which: WhichReport,
}

#[derive(Debug, Arguments)]
pub struct Start {
    /// Wait until every service is ready, however long it takes
    #[arg(long)]
    pub wait: bool,
    /// Stay, measure it against the seal again and again, and tell what becomes another, as verify --watch does
    #[arg(long)]
    pub watch: bool,
    /// Start it though this machine does not offer all that the spec asks of it
    #[arg(long)]
    pub anyway: bool,
    /// Start without what config.toml adds of your own: dotfiles, aliases, variables
    #[arg(long)]
    pub plain: bool,
    /// Run it in the virtual machine that the spec describes, and not in namespaces
    #[arg(long, overrides_with = "no_machine")]
    pub machine: bool,
    /// Run it in namespaces again, when --machine was the choice before
    #[arg(long)]
    pub no_machine: bool,
    /// Its member knows what it gets of this machine
    #[arg(long, hide = true)]
    pub known: bool,
    /// For cavrith join: lay out the scratch of this parcel first, if the workspace has none
    #[arg(long, hide = true, value_name = "FILE")]
    pub parcel: Option<PathBuf>,
    /// For cavrith join: what the project's own workspace is called on this machine
    #[arg(long, hide = true, value_name = "NAME")]
    pub called: Option<String>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Enter {
    /// Run as this account of the image
    #[arg(long, value_name = "ACCOUNT", add = completing::accounts())]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct Logs {
    /// A service or a step of the start; all of them when left out
    #[arg(add = completing::sources())]
    pub source: Vec<String>,
    /// Follow: also print new lines as they come
    #[arg(long, short)]
    pub follow: bool,
    /// Only lines that are not older than this: 90 s, 10 min, 2 h, 1 d
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub since: Option<Duration>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Apply {
    /// Start with an empty scratch if the image changes, without asking
    #[arg(long)]
    pub fresh: bool,
    /// Dry run: only list what would be done
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Drift {
    /// Names, paths, or packages, files, accounts, variables, services; everything when left out
    pub what: Vec<String>,
    /// Write it into the spec, lock and build, and show that the image has it
    #[arg(long)]
    pub adopt: bool,
    /// Take it back: what the image has is there again
    #[arg(long, conflicts_with = "adopt")]
    pub undo: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Subcommand)]
pub enum Copy {
    /// Copy a file or folder from this machine into the workspace
    In(CopyIn),
    /// Copy a file or folder from the workspace to this machine
    Out(CopyOut),
}

#[derive(Debug, Arguments)]
pub struct CopyIn {
    /// The file or folder
    pub outside: PathBuf,
    /// The target inside; in a directory it keeps its name
    pub inside: String,
    /// Copy as this account of the image
    #[arg(long, value_name = "ACCOUNT", add = completing::accounts())]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct CopyOut {
    /// The file or folder inside
    pub inside: String,
    /// The target; in a directory it keeps its name
    #[arg(default_value = ".")]
    pub outside: PathBuf,
    /// Copy as this account of the image
    #[arg(long, value_name = "ACCOUNT", add = completing::accounts())]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Subcommand)]
pub enum Folder {
    /// List kept folders
    List(WhichReport),
    /// List the files of a kept folder
    Show(FolderShow),
    /// Write a backup of a kept folder to a file
    Backup(FolderBackup),
    /// Replace a kept folder's files by those of a backup
    Restore(FolderRestore),
    /// Remove a kept folder with its files
    Remove(FolderRemove),
    /// Show how synced folders stand, and what both sides changed
    Synced(WhichReport),
    /// Say which side counts where both changed something
    Settle(FolderSettle),
}

#[derive(Debug, Arguments)]
pub struct FolderSettle {
    /// The file or directory, by its path inside or on this machine
    pub path: PathBuf,
    #[command(flatten)]
    pub counts: Counts,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
#[group(required = true, multiple = false)]
pub struct Counts {
    /// What lies on this machine counts; what lies inside goes
    #[arg(long)]
    pub outside: bool,
    /// What lies inside counts; what lies on this machine goes
    #[arg(long)]
    pub inside: bool,
}

#[derive(Debug, Arguments)]
pub struct FolderShow {
    /// The folder's name
    #[arg(add = completing::kept_folders())]
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
    #[arg(add = completing::kept_folders())]
    pub folder: String,
    /// The file, which is a compressed tar archive
    pub file: PathBuf,
    /// Back up while the workspace runs; files that are being written may be incomplete
    #[arg(long)]
    pub while_running: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct FolderRestore {
    /// The folder's name
    #[arg(add = completing::kept_folders())]
    pub folder: String,
    /// The file
    pub file: PathBuf,
    /// Replace the folder's files without asking
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct FolderRemove {
    /// The folder's name
    #[arg(add = completing::kept_folders())]
    pub folder: String,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Names {
    /// Write them to the hosts file, in a block of their own
    #[arg(long, conflicts_with = "remove")]
    pub apply: bool,
    /// Remove that block
    #[arg(long)]
    pub remove: bool,
    /// The hosts file to use
    #[arg(long, value_name = "FILE")]
    pub file: Option<PathBuf>,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct SshConfig {
    /// Write the block to the configuration
    #[arg(long, conflicts_with = "remove")]
    pub apply: bool,
    /// Remove the block
    #[arg(long)]
    pub remove: bool,
    /// The configuration to use; ~/.ssh/config when left out
    #[arg(long, value_name = "FILE")]
    pub file: Option<PathBuf>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Invite {
    /// Whom: somebody of the team, or any name with --key; lists who is invited when left out
    pub person: Option<String>,
    /// They run programs and change files, as you do with cavrith enter
    #[arg(long, conflicts_with_all = ["read_only", "end"])]
    pub shell: bool,
    /// They look at files, and change none
    #[arg(long, conflicts_with = "end")]
    pub read_only: bool,
    /// They connect to this port inside: its name in the spec, or its number
    #[arg(long, value_name = "PORT", conflicts_with = "end")]
    pub port: Vec<String>,
    /// They see the pages of this port with a browser: you give them an address with a token, and no key is needed
    #[arg(long, value_name = "PORT", conflicts_with_all = ["shell", "read_only", "port", "key", "look", "end"])]
    pub pages: Option<String>,
    /// How long: 30 min, 2 h, 3 d
    #[arg(long = "for", value_name = "TIME", default_value = "1 h", value_parser = duration)]
    pub for_: std::time::Duration,
    /// Their public key: the line, or its file; that of the team when left out
    #[arg(long, value_name = "KEY")]
    pub key: Option<String>,
    /// The address of this machine at which they come, and perhaps its port
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1")]
    pub at: String,
    /// The host and port under which they reach that, when it is another: a jump host's
    #[arg(long, value_name = "HOST:PORT")]
    pub reached_at: Option<String>,
    /// Look at the terminal that they have open, and type there with them; Ctrl-] leaves it
    #[arg(long, conflicts_with_all = ["shell", "read_only", "port", "end"])]
    pub look: bool,
    /// Take the invitation back, and end their connections
    #[arg(long)]
    pub end: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Visit {
    /// The link that you were given
    pub link: String,
    /// Your private key, when it is none that SSH tries by itself
    #[arg(long, value_name = "FILE")]
    pub key: Option<PathBuf>,
    /// Fetch and look at files, instead of a shell
    #[arg(long)]
    pub files: bool,
    /// Have this port of the workspace here, under the same number, instead of a shell
    #[arg(long, value_name = "PORT", conflicts_with = "files")]
    pub port: Option<u16>,
    /// Run this instead of a shell
    #[arg(last = true, value_name = "CMD", conflicts_with_all = ["files", "port"])]
    pub command: Vec<String>,
}

#[derive(Debug, Arguments)]
pub struct Open {
    /// The file or folder, outside or inside, and perhaps :LINE; the project when left out
    pub place: Option<String>,
    /// The editor: one of config.toml, the team's, or vim, neovim, emacs, nano, vi inside
    #[arg(long, value_name = "EDITOR")]
    pub with: Option<String>,
    #[command(flatten)]
    pub which: Which,
}

#[derive(Debug, Arguments)]
pub struct Speak {
    #[command(flatten)]
    pub which: Which,
    /// The server and its arguments
    #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "CMD")]
    pub command: Vec<String>,
}

#[derive(Debug, Arguments)]
pub struct SshProxy {
    /// The workspace's name, with or without .cavrith
    pub host: String,
}

#[derive(Debug, Arguments)]
pub struct Drop {
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    /// Set aside the account's home, too, instead of keeping it for the next start
    #[arg(long)]
    pub home: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Run {
    /// Run as this account of the image
    #[arg(long, value_name = "ACCOUNT", add = completing::accounts())]
    pub account: Option<String>,
    #[command(flatten)]
    pub which: Which,
    /// Program and arguments
    #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "CMD")]
    pub command: Vec<String>,
}
