//! What can be typed to ask and to use older revisions of a workspace.

use clap::Args as Arguments;

use super::Report;

#[derive(Debug, Arguments)]
pub struct History {
    /// Files and folders of the project, or absolute paths inside the image; all when left out
    pub paths: Vec<String>,
    /// Only what came after this revision of git
    #[arg(long, value_name = "REVISION")]
    pub since: Option<String>,
    /// Only the newest revisions, this many
    #[arg(long, short = 'l', value_name = "NUMBER")]
    pub last: Option<usize>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct At {
    /// A revision of git: a tag, a branch, a commit, HEAD~3
    pub revision: String,
    /// Remove the workspace of this revision, and its folder
    #[arg(long, conflicts_with = "command")]
    pub remove: bool,
    #[command(flatten)]
    pub report: Report,
    /// Run this in it, and stop it again if it did not run before
    #[arg(last = true)]
    pub command: Vec<String>,
}

#[derive(Debug, Arguments)]
pub struct Pinpoint {
    /// A revision in whose workspace the command succeeds
    pub good: String,
    /// A revision in whose workspace it fails
    #[arg(default_value = "HEAD")]
    pub bad: String,
    /// Take the project's own files of each revision, too, and not of the bad one alone
    #[arg(long)]
    pub whole: bool,
    #[command(flatten)]
    pub report: Report,
    /// The command; it succeeds with 0, fails with anything else, and says with 125 that it cannot tell
    #[arg(last = true, required = true)]
    pub command: Vec<String>,
}
