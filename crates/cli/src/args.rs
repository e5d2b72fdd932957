//! What can be typed.

use std::path::PathBuf;

use clap::{Args as Arguments, Parser, Subcommand, ValueEnum};

/// Describe a development workspace once, build it the same everywhere, prove it.
#[derive(Debug, Parser)]
#[command(name = "cavrith", version, max_term_width = 100)]
pub struct Args {
    #[command(flatten)]
    pub general: General,
    #[command(subcommand)]
    pub command: Command,
}

/// What every command takes.
#[derive(Debug, Arguments)]
pub struct General {
    /// The project's folder, or one inside it
    #[arg(long, short = 'C', global = true, value_name = "DIR", default_value = ".")]
    pub project: PathBuf,
    /// Say only what went wrong
    #[arg(long, short, global = true, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Say more: every line that a step writes
    #[arg(long, short, global = true)]
    pub verbose: bool,
    /// When to use colours
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: Color,
}

/// When to use colours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Find every mistake in the spec and its depots
    Check(Report),
    /// Pin every input: write cavrith.lock
    Lock(Lock),
    /// Build the image, or find it built
    Build(Build),
    /// Open a shell in the workspace
    Enter,
    /// Run a command in the workspace
    Run(Run),
    /// Build a second time under other conditions, and record what must come out
    Seal(Report),
    /// Measure this machine's image and a fresh workspace against the seal
    Verify(Report),
    /// Play the whole story in a folder, without a network
    Demo(Demo),
}

#[derive(Debug, Arguments)]
pub struct Report {
    /// Answer in JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, Arguments)]
pub struct Lock {
    /// Take the newest that answers the spec, of everything or of what is named
    #[arg(long, value_name = "NAME", num_args = 0.., conflicts_with = "outdated")]
    pub update: Option<Vec<String>>,
    /// Only show what could be newer
    #[arg(long)]
    pub outdated: bool,
    /// Take an archive or a download that is not what was locked before
    #[arg(long)]
    pub trust_changed: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Build {
    /// Make every layer again, and replace what is in the store
    #[arg(long)]
    pub fresh: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Run {
    /// Program and arguments
    #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "CMD")]
    pub command: Vec<String>,
}

#[derive(Debug, Arguments)]
pub struct Demo {
    /// A folder that is not there yet
    #[arg(default_value = "brindle-ferry")]
    pub dir: PathBuf,
    /// Remove an earlier demo in that folder first
    #[arg(long)]
    pub again: bool,
    /// Add a line to a file of a store, as the owner of its files
    #[arg(long, hide = true, value_name = "FILE")]
    pub spoil: Option<PathBuf>,
    /// Only remove an earlier demo, as the owner of its files
    #[arg(long, hide = true)]
    pub clear: bool,
}
