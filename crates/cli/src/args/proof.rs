//! What can be typed to seal, to verify, and to say who is the same.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args as Arguments, Subcommand};

use super::{Report, duration};

#[derive(Debug, Arguments)]
pub struct Seal {
    /// Sign the seal with your SSH key, as a lead of the team
    #[arg(long)]
    pub sign: bool,
    #[command(flatten)]
    pub key: SigningKey,
    /// Share the finished layers in the cache that the spec or config.toml names
    #[arg(long)]
    pub publish: bool,
    /// Where both builds differ, tell every reason, the bytes, and what to do
    #[arg(long)]
    pub why: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Verify {
    /// Do not read layers that look, by size and times, as when they were last read whole
    #[arg(long, conflicts_with = "report")]
    pub quick: bool,
    /// Go on measuring, at 1 % of a processor at most, and tell what becomes another
    #[arg(long, conflicts_with = "report")]
    pub watch: bool,
    /// Sign a report of it, keep it, and put it where the spec's team.reports and team.registry say
    #[arg(long)]
    pub report: bool,
    /// Make no report, although the spec or your configuration says that every verify reports
    #[arg(long, conflicts_with = "report")]
    pub no_report: bool,
    /// Put the report into this folder, or attach it to this image in a registry (registry/name:tag), instead
    #[arg(long, value_name = "PLACE", requires = "report")]
    pub to: Option<String>,
    /// Name neither yourself nor your machine in the report
    #[arg(long, requires = "report")]
    pub anonymous: bool,
    #[command(flatten)]
    pub key: SigningKey,
    #[command(flatten)]
    pub answer: Report,
}

#[derive(Debug, Arguments)]
pub struct Roster {
    /// Folders, images in a registry (registry/name:tag), addresses of git; else, what the spec's team says
    #[arg(value_name = "SOURCE")]
    pub sources: Vec<String>,
    /// End with 1 unless everybody is the same
    #[arg(long)]
    pub check: bool,
    /// Reports that are older than this are stale: 12 h, 30 d
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub longest: Option<Duration>,
    /// As comma-separated values
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Write one self-contained page for a browser
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Hold the reports of two people, or two files, against each other, without a seal
    #[arg(long, num_args = 2, value_names = ["ONE", "OTHER"], conflicts_with_all = ["csv", "html", "check"])]
    pub compare: Option<Vec<String>>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Team {
    #[command(subcommand)]
    pub command: Option<TeamCommand>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Subcommand)]
pub enum TeamCommand {
    /// Sign the team that the spec describes, as a lead of the team as it was before
    Sign(TeamSign),
    /// Write what OpenSSH needs to check the seal without Cavrith
    Proof(TeamProof),
    /// Forget what this machine knows of the team, after it really began anew
    Forget(Report),
}

#[derive(Debug, Arguments)]
pub struct TeamSign {
    #[command(flatten)]
    pub key: SigningKey,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct TeamProof {
    /// The folder for the three files
    pub dir: PathBuf,
    #[command(flatten)]
    pub report: Report,
}

// A comment and no documentation, as above.
// Which key signs.
#[derive(Debug, Clone, Default, Arguments)]
pub struct SigningKey {
    /// Sign with the key in this file; the SSH agent and ~/.ssh are searched when left out
    #[arg(long = "key", value_name = "FILE")]
    pub file: Option<PathBuf>,
}
