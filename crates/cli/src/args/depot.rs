//! What can be typed to put things into depots, and extensions into a spec.

use std::path::PathBuf;

use cavrith_core::depot::Language;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args as Arguments, Subcommand};

use super::Report;
use crate::completing;

#[derive(Debug, Subcommand)]
pub enum Depot {
    /// Create an empty depot
    New(DepotNew),
    /// Add a file: a Debian package, an editor extension, or a toolchain's archive
    Add(Box<DepotAdd>),
    /// Check every file of a depot against its index
    Check(DepotDir),
    /// List what a depot offers
    List(DepotDir),
    /// Copy everything that the project's lock needs into a depot
    Fill(DepotFill),
}

#[derive(Debug, Arguments)]
pub struct DepotNew {
    /// The folder
    pub dir: PathBuf,
    /// A description in one line
    #[arg(long)]
    pub about: Option<String>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct DepotDir {
    /// The depot's folder
    pub dir: PathBuf,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct DepotFill {
    /// The depot's folder
    pub dir: PathBuf,
    /// Only what the project's steps fetched
    #[arg(long)]
    pub fetched: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct DepotAdd {
    /// The depot's folder
    pub dir: PathBuf,
    /// The file; it is copied
    #[arg(required_unless_present = "editor")]
    pub file: Option<PathBuf>,
    #[command(flatten)]
    pub profile: EditorPlaces,
    /// The file is a spec for others to begin with, under this name
    #[arg(long, value_name = "NAME", requires = "about", conflicts_with_all = ["name", "release", "part", "probe", "place"])]
    pub template: Option<String>,
    /// One line about the template
    #[arg(long, value_name = "TEXT", requires = "template")]
    pub about: Option<String>,
    /// A toolchain's name
    #[arg(long, requires = "release")]
    pub name: Option<String>,
    /// A toolchain's version
    #[arg(long, value_name = "VERSION")]
    pub release: Option<String>,
    /// The name of the part of the toolchain that the archive is
    #[arg(long, requires = "name", conflicts_with = "probe")]
    pub part: Option<String>,
    /// How many leading directories of the archive to drop
    #[arg(long, default_value_t = 0)]
    pub strip: usize,
    /// Where the toolchain lies inside; /opt/NAME/VERSION when left out
    #[arg(long)]
    pub place: Option<String>,
    /// A directory of the toolchain's programs
    #[arg(long, value_name = "DIR", default_value = "bin")]
    pub path: Vec<String>,
    /// The command that tells the toolchain's version; NAME --version when left out
    #[arg(long, value_name = "CMD")]
    pub probe: Option<String>,
    /// What that command answers; NAME VERSION when left out
    #[arg(long, value_name = "TEXT", requires = "probe")]
    pub answer: Option<String>,
    #[command(flatten)]
    pub report: Report,
}

/// An editor's profile.
#[derive(Debug, Arguments)]
pub struct EditorPlaces {
    /// Add no file, but the profile of an editor, under this name
    #[arg(long, value_name = "NAME", requires_all = ["extensions", "settings"], conflicts_with_all = ["file", "template", "name", "release"])]
    pub editor: Option<String>,
    /// Where the editor looks for an extension inside; {home}, {id} and {version} are filled in
    #[arg(long, value_name = "PLACE", requires = "editor")]
    pub extensions: Option<String>,
    /// The editor's settings file inside
    #[arg(long, value_name = "PLACE", requires = "editor")]
    pub settings: Option<String>,
    /// The file that says how to start the project's programs
    #[arg(long, value_name = "PLACE", requires = "editor")]
    pub launch: Option<String>,
    /// What these files are written in
    #[arg(long, value_name = "LANGUAGE", requires = "editor", default_value = "json", value_parser = languages())]
    pub language: Language,
    /// The launch file is in the terms of the Debug Adapter Protocol
    #[arg(long, requires = "launch")]
    pub debug_adapter: bool,
    /// A word of the command by which it opens a place from outside; {host}, {path}, {file} and {line} are filled in
    #[arg(long, value_name = "WORD", requires = "editor", allow_hyphen_values = true)]
    pub opens: Vec<String>,
}

/// Languages by their names in an index.
fn languages() -> impl TypedValueParser<Value = Language> {
    let named = |name: String| serde_json::from_value(name.into());
    PossibleValuesParser::new(["json", "vim-script", "emacs-lisp"]).try_map(named)
}

#[derive(Debug, Subcommand)]
pub enum Editor {
    /// Add an extension to the spec
    Add(EditorAdd),
}

#[derive(Debug, Arguments)]
pub struct EditorAdd {
    /// The extension's id: publisher.name; a list to choose from when left out
    #[arg(add = completing::extensions())]
    pub id: Option<String>,
    /// The version, or its beginning; the newest that the depots offer when left out
    pub release: Option<String>,
    #[command(flatten)]
    pub report: Report,
}
