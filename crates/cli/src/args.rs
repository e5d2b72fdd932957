//! What can be typed. What has to do with a workspace in use is in [`runtime`].

mod depot;
mod outgoing;
mod proof;
mod revisions;
mod runtime;

use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args as Arguments, Parser, Subcommand, ValueEnum};

use crate::completing;

pub use depot::{Depot, DepotAdd, DepotDir, DepotFill, Editor, EditorAdd, EditorPlaces};
pub use outgoing::{Compress, DiskFormat, Export, ExportDisk, ExportTo, KeyFiles, Pack, Pull, Push};
pub use proof::{Roster, Seal, SigningKey, Team, TeamCommand, TeamProof, TeamSign, Verify};
pub use revisions::{At, History, Pinpoint};
pub use runtime::{
    Apply, Copy, Drift, Drop, Enter, Folder, FolderBackup, FolderRemove, FolderRestore, FolderSettle, FolderShow,
    Freeze, Invite, Logs, Names, Open, Run, Speak, SshConfig, SshProxy, Start, Stop, Visit, Which, WhichReport,
};

/// Describe a development workspace once, build it the same everywhere, prove it.
#[derive(Debug, Parser)]
#[command(name = "cavrith", version, max_term_width = 100)]
pub struct Args {
    #[command(flatten)]
    pub general: General,
    #[command(subcommand)]
    pub command: Command,
}

/// The heading of options that every command takes.
const EVERYWHERE: &str = "Options of every command";

// What every command takes; no documentation, which clap would take as the help of each.
#[derive(Debug, Clone, Arguments)]
pub struct General {
    /// The project's folder, or one inside it
    #[arg(long, short = 'C', global = true, help_heading = EVERYWHERE, value_name = "DIR")]
    project: Option<PathBuf>,
    /// The variant of the spec; its default one when left out
    #[arg(long, global = true, help_heading = EVERYWHERE, value_name = "NAME", add = completing::variants())]
    pub variant: Option<String>,
    /// Let the project use this file or folder outside its own; remembered for this project and path
    #[arg(long, global = true, help_heading = EVERYWHERE, value_name = "PATH")]
    pub allow_outside: Vec<PathBuf>,
    /// Say only what went wrong
    #[arg(long, short, global = true, help_heading = EVERYWHERE, conflicts_with = "verbose")]
    pub quiet: bool,
    /// Say more: every line that a step writes
    #[arg(long, short, global = true, help_heading = EVERYWHERE)]
    pub verbose: bool,
    /// When to use colours
    #[arg(long, global = true, help_heading = EVERYWHERE, value_name = "WHEN", default_value = "auto")]
    pub color: Color,
}

impl General {
    /// The same, with more that may be used outside.
    pub fn allowing(&self, more: Vec<PathBuf>) -> Self {
        let allow_outside = self.allow_outside.iter().cloned().chain(more).collect();
        Self { allow_outside, ..self.clone() }
    }

    /// Where the project is looked for: here, unless a folder was typed.
    pub fn project(&self) -> &Path {
        self.project.as_deref().unwrap_or(Path::new("."))
    }

    /// Whether it was typed.
    pub fn project_typed(&self) -> bool {
        self.project.is_some()
    }
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

// `cavrith contents`
#[derive(Debug, Arguments)]
pub struct Contents {
    /// As what
    #[arg(long, value_name = "FORMAT", default_value = "table")]
    pub format: ContentsFormat,
    /// Say where this path of the image is from, and why it is there
    #[arg(long, value_name = "PATH", conflicts_with = "format")]
    pub why: Option<String>,
    #[command(flatten)]
    pub report: Report,
}

/// Forms of a bill of materials.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ContentsFormat {
    /// Lines for people
    Table,
    /// SPDX 2.3 as JSON
    SpdxJson,
    /// CycloneDX 1.5 as JSON
    CyclonedxJson,
}

// Most commands start and end within moments, in which the arguments of all the others are not worth building.
#[derive(Debug, Subcommand)]
#[command(defer = true)]
pub enum Command {
    /// Bring a project here, get its image, start it, and verify it against the seal
    #[command(
        after_help = "Examples:\n  cavrith join https://git.example/brindle/timetable.git\n  cavrith join registry.example/brindle/workshop:1 timetable\n  cavrith join timetable.parcel --open"
    )]
    Join(Join),
    /// Print a link to this project and a place in it, for cavrith join
    #[command(after_help = "Examples:\n  cavrith link src/tides.rs:40")]
    Link(Link),
    /// Write a first spec from the project's own files
    #[command(
        after_help = "Examples:\n  cavrith init\n  cavrith init --suite bookworm\n  cavrith init --from ../timetable"
    )]
    Init(Init),
    /// Find every mistake in the spec and its depots
    #[command(after_help = "Examples:\n  cavrith check\n  cavrith check --json")]
    Check(Check),
    /// Explain a mistake, a failure, or a key of the spec
    #[command(after_help = "Examples:\n  cavrith explain CV0113\n  cavrith explain services.ready\n  cavrith explain")]
    Explain(Explain),
    /// Print the spec with all includes, and the origin of each value
    Show(Report),
    /// Print the JSON Schema of the spec, for editors
    Schema,
    /// Pin every input: write cavrith.lock
    #[command(
        after_help = "Examples:\n  cavrith lock\n  cavrith lock --outdated\n  cavrith lock --update python\n  cavrith lock --record"
    )]
    Lock(Lock),
    /// Run steps that fetch, and pin what came
    #[command(after_help = "Examples:\n  cavrith record\n  cavrith record \"install packages\"")]
    Record(Record),
    /// Build the image, unless the store has it
    #[command(after_help = "Examples:\n  cavrith build\n  cavrith build --fresh")]
    Build(Build),
    /// Start the workspace in the background: steps, services, ports
    #[command(after_help = "Examples:\n  cavrith start --wait\n  cavrith start --watch")]
    Start(Start),
    /// Stop the workspace: services first, in order
    #[command(after_help = "Examples:\n  cavrith stop\n  cavrith stop --all")]
    Stop(Stop),
    /// Stop the workspace and start it again
    Restart(Start),
    /// Freeze every process of the workspace
    #[command(after_help = "Examples:\n  cavrith freeze\n  cavrith freeze --to-disk")]
    Freeze(Freeze),
    /// Let a frozen workspace continue
    Thaw(WhichReport),
    /// Open a shell in the workspace; start it if necessary
    Enter(Enter),
    /// Run a command in the workspace; start it if necessary
    #[command(after_help = "Examples:\n  cavrith run -- make test\n  cavrith run --account root -- sh")]
    Run(Run),
    /// Show the state of the workspace and its pending changes
    Status(WhichReport),
    /// List all workspaces on this machine
    List(Report),
    /// Show the output of services and steps
    #[command(after_help = "Examples:\n  cavrith logs site --follow\n  cavrith logs --since 10m")]
    Logs(Logs),
    /// Apply pending changes with the least effort
    Apply(Apply),
    /// Tell what was changed by hand inside; bring it into the spec, or take it back
    #[command(
        after_help = "Examples:\n  cavrith drift\n  cavrith drift --adopt\n  cavrith drift --undo /etc/tide.conf"
    )]
    Drift(Drift),
    /// Copy files into the workspace or out of it
    #[command(subcommand)]
    #[command(
        after_help = "Examples:\n  cavrith copy in tides.csv /srv/tides.csv\n  cavrith copy out /srv/report.txt ."
    )]
    Copy(Copy),
    /// List, back up, restore and remove kept folders
    #[command(subcommand)]
    Folder(Folder),
    /// Show the workspace's host names, or write them to the hosts file
    Names(Names),
    /// Open a file or the project with your editor
    Open(Open),
    /// Run a language server or debugger inside for an editor outside
    Speak(Speak),
    /// Let a colleague into the workspace for a while
    Invite(Invite),
    /// Visit a colleague's workspace, by the link that they gave you
    Visit(Visit),
    /// Show or write the SSH configuration by which clients reach your workspaces
    SshConfig(SshConfig),
    /// Speak SSH at standard input and output: the proxy command of ssh-config
    #[command(hide = true)]
    SshProxy(SshProxy),
    /// Remove the workspace's scratch and logs; kept folders and the project stay
    Drop(Drop),
    /// Build twice under different conditions, and record what must come out
    #[command(after_help = "Examples:\n  cavrith seal --sign\n  cavrith seal --why")]
    Seal(Seal),
    /// Show who is in the team and who let them in; sign changes of it
    #[command(args_conflicts_with_subcommands = true)]
    #[command(after_help = "Examples:\n  cavrith team\n  cavrith team sign")]
    Team(Team),
    /// Measure this machine's image and workspace against the seal
    #[command(
        after_help = "Examples:\n  cavrith verify\n  cavrith verify --quick\n  cavrith verify --report --to ../reports"
    )]
    Verify(Verify),
    /// Lay the reports of all members side by side: who is the same, who is not, and in what
    #[command(
        after_help = "Examples:\n  cavrith roster\n  cavrith roster registry.example/brindle/timetable:1\n  cavrith roster --html roster.html"
    )]
    Roster(Roster),
    /// Show when spec, pins and seals changed, in what, and by whom
    #[command(after_help = "Examples:\n  cavrith history --last 5\n  cavrith history cavrith.toml /usr/bin/quill")]
    History(History),
    /// Start the workspace of another revision beside the present one
    #[command(after_help = "Examples:\n  cavrith at v1.2 -- make test\n  cavrith at v1.2 --remove")]
    At(At),
    /// Find the change of the workspace since which a command fails
    #[command(after_help = "Examples:\n  cavrith pinpoint v1.2 -- make test")]
    Pinpoint(Pinpoint),
    /// List the contents of the image: versions, origins, digests, licences
    Contents(Contents),
    /// Write the image in an open format: a container image, or a root filesystem
    #[command(subcommand)]
    Export(Export),
    /// Push the image to a registry, with its bill of materials and its seal
    #[command(after_help = "Examples:\n  cavrith push registry.example/brindle/timetable:1")]
    Push(Push),
    /// Pack the project and its image into one file, which cavrith join takes
    #[command(
        after_help = "Examples:\n  cavrith pack timetable.parcel\n  cavrith pack --work --for tove.pub timetable.parcel"
    )]
    Pack(Pack),
    /// Fetch a parcel from a registry into a file
    Pull(Pull),
    /// Make and fill depots: a team's own sources
    #[command(subcommand)]
    Depot(Depot),
    /// Change the editor's extensions in the spec
    #[command(subcommand)]
    Editor(Editor),
    /// List, check, repair and collect the store
    #[command(subcommand)]
    Store(Store),
    /// Check what this machine offers and lacks
    Doctor(Report),
    /// Play the whole story in a folder, without a network
    Demo(Demo),
    /// Print completions for a shell
    Completions(Completions),
    /// Write manual pages into a folder
    Manual(Manual),
}

#[derive(Debug, Arguments)]
pub struct Init {
    /// The depot for toolchains and templates: its path, relative to the project, or its address
    #[arg(long, value_name = "DEPOT")]
    pub depot: Option<String>,
    /// The suite of the Debian archive for the base; the one that fits the project best when left out
    #[arg(long, value_name = "NAME", value_parser = ["trixie", "bookworm", "bullseye"], conflicts_with = "from")]
    pub suite: Option<String>,
    /// Do not ask: where no suite has every version that is asked for, take the one that fits best
    #[arg(long)]
    pub yes: bool,
    /// Begin with a template of the depot, a workspace, or whatever cavrith join takes; lists templates
    #[arg(long, value_name = "SOURCE", num_args = 0..=1)]
    pub from: Option<Option<String>>,
    /// With the name of a workspace: also write what was changed by hand in it into the spec
    #[arg(long, requires = "from")]
    pub drift: bool,
    #[command(flatten)]
    pub keys: KeyFiles,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Join {
    /// A folder or an address of git, with #REVISION for an older one; a parcel, or its registry/name:tag; or a link
    pub source: String,
    /// The folder for it; the source's name in this folder when left out
    pub dir: Option<PathBuf>,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    /// Open what to read first: with $VISUAL or $EDITOR inside, or on the desktop
    #[arg(long)]
    pub open: bool,
    #[command(flatten)]
    pub keys: KeyFiles,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Link {
    /// Where to start reading: a file of the project, with :LINE if it is not the beginning
    pub place: Option<String>,
    /// Where colleagues get the project from; the address that it was cloned from when left out
    #[arg(long, value_name = "SOURCE")]
    pub source: Option<String>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Explain {
    /// A code such as CV0107 or CF0202, or a key such as steps.run; all are listed when it is left out
    #[arg(add = completing::topics())]
    pub topic: Option<String>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Subcommand)]
pub enum Store {
    /// List the contents of the store with the time of their last use
    List(Report),
    /// Read every byte, and name what is damaged
    Check(Report),
    /// Remove what is damaged; the next build makes it again
    Repair(Report),
    /// Remove what has not been used for a while, or exceeds a size
    Collect(Collect),
}

#[derive(Debug, Arguments)]
pub struct Collect {
    /// Remove what has not been used for this long: 90 min, 12 h, 30 d
    #[arg(long, value_name = "TIME", default_value = "30 d", value_parser = duration)]
    pub unused_for: Duration,
    /// Then remove the least recently used until this much is left: 500 MiB, 20 GiB
    #[arg(long, value_name = "SIZE", value_parser = bytes)]
    pub down_to: Option<u64>,
    /// Dry run: only list what would be removed
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub report: Report,
}

/// A whole number and a unit.
fn measure(text: &str, units: &[(&str, u64)]) -> Result<u64, String> {
    let names: Vec<_> = units.iter().map(|(name, _)| *name).collect();
    cavrith_core::spec::measure(text, units)
        .ok_or_else(|| format!("write a whole number and one of {}", names.join(", ")))
}

/// The name of a workspace, which is also that of a directory.
fn workspace_name(text: &str) -> Result<String, String> {
    let good = |letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit() || letter == '-';
    let begins = text.starts_with(|letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit());
    if begins && text.len() <= 63 && text.chars().all(good) {
        return Ok(text.to_owned());
    }
    Err("use at most 63 lower-case letters, digits and -".to_owned())
}

fn duration(text: &str) -> Result<Duration, String> {
    // `m` is what many a program takes for minutes; the words of the refusal name the others.
    let units = [("s", 1), ("min", 60), ("h", 3600), ("d", 86_400)];
    let text = text.strip_suffix('m').map_or_else(|| text.to_owned(), |number| format!("{number} min"));
    measure(&text, &units).map(Duration::from_secs)
}

fn bytes(text: &str) -> Result<u64, String> {
    measure(text, &[("B", 1), ("KiB", 1 << 10), ("MiB", 1 << 20), ("GiB", 1 << 30), ("TiB", 1 << 40)])
}

#[derive(Debug, Arguments)]
pub struct Check {
    /// Check what your own config.toml adds to this project's workspace, instead of the spec
    #[arg(long)]
    pub personal: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Completions {
    /// The shell
    pub shell: clap_complete::Shell,
}

#[derive(Debug, Arguments)]
pub struct Manual {
    /// The folder
    pub dir: PathBuf,
}

#[derive(Debug, Arguments)]
pub struct Report {
    /// Answer in JSON
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, Arguments)]
pub struct Lock {
    /// Update pins to the newest versions that the spec allows: all, or the named ones
    #[arg(long, value_name = "NAME", num_args = 0.., conflicts_with = "outdated", add = completing::pins())]
    pub update: Option<Vec<String>>,
    /// Pin what you add to the image of this project yourself, in a file beside your config.toml
    #[arg(long, conflicts_with_all = ["outdated", "trust_changed", "record"])]
    pub personal: bool,
    /// Only list pins that could be updated
    #[arg(long)]
    pub outdated: bool,
    /// Accept archives and downloads that changed since they were locked
    #[arg(long)]
    pub trust_changed: bool,
    /// Record what steps fetch, where that is missing or was recorded for something else
    #[arg(long, conflicts_with = "outdated")]
    pub record: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Record {
    /// Steps; all that fetch when left out
    #[arg(add = completing::fetching_steps())]
    pub step: Vec<String>,
    /// Record nothing: say what changed from one record to another, each a file
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"], conflicts_with = "step")]
    pub review: Option<Vec<PathBuf>>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Build {
    /// Build every layer again
    #[arg(long)]
    pub fresh: bool,
    /// Share the finished layers in the cache that the spec or config.toml names
    #[arg(long)]
    pub publish: bool,
    /// With --publish: sign for what came out, as a publisher of the team, so that members take it unsealed
    #[arg(long, requires = "publish")]
    pub vouch: bool,
    /// Take the layers that the seal names from this parcel, as far as it has them
    #[arg(long, value_name = "FILE", conflicts_with = "fresh")]
    pub parcel: Option<PathBuf>,
    #[command(flatten)]
    pub keys: KeyFiles,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Demo {
    /// A folder that does not exist yet
    #[arg(default_value = "brindle-ferry")]
    pub dir: PathBuf,
    /// Remove an earlier demo from that folder first
    #[arg(long)]
    pub again: bool,
    /// Add a line to a file of a store, as the owner of its files
    #[arg(long, hide = true, value_name = "FILE")]
    pub spoil: Option<PathBuf>,
    /// Only remove an earlier demo, as the owner of its files
    #[arg(long, hide = true)]
    pub clear: bool,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::Args;

    /// Words of a line, of which those in quotes have blanks.
    fn words(line: &str) -> Vec<String> {
        let parts = line.split('"').enumerate();
        let words = parts.flat_map(|(number, part)| match number % 2 {
            0 => part.split_whitespace().map(str::to_owned).collect::<Vec<_>>(),
            _ => vec![part.to_owned()],
        });
        words.collect()
    }

    #[test]
    fn every_example_in_the_help_can_be_typed() {
        let mut tried = 0;
        for command in Args::command().get_subcommands() {
            let help = command.get_after_help().map(ToString::to_string).unwrap_or_default();
            for line in help.lines().filter(|line| line.starts_with("  ")) {
                let parsed = Args::command().try_get_matches_from(words(line));
                assert!(parsed.is_ok(), "{line}: {}", parsed.err().unwrap());
                assert!(line.starts_with(&format!("  cavrith {}", command.get_name())), "{line}");
                tried += 1;
            }
        }
        assert!(tried > 35, "{tried}");
    }
}
