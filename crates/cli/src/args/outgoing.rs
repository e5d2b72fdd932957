//! What can be typed to send a workspace or its image elsewhere.

use std::path::PathBuf;

use clap::{Args as Arguments, Subcommand, ValueEnum};

use super::{Report, SigningKey, Which};

#[derive(Debug, Subcommand)]
pub enum Export {
    /// An OCI image layout: a folder, or a tar archive when PATH ends with .tar or is -
    Oci(ExportTo),
    /// The root filesystem as one tar archive; .tar.gz and .tar.zst are compressed
    Root(ExportTo),
    /// A disk from which a machine starts, with a kernel of its own
    Disk(ExportDisk),
}

/// Forms of a disk's file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum DiskFormat {
    /// As it is
    Raw,
    /// As QEMU keeps disks
    Qcow2,
}

#[derive(Debug, Arguments)]
pub struct ExportDisk {
    /// The file; what is zero in it takes no room
    pub path: PathBuf,
    /// The form of the file; by its name's ending, .qcow2 or any other, when left out
    #[arg(long, value_name = "FORM")]
    pub format: Option<DiskFormat>,
    /// Write vmlinuz, initrd and cmdline into this folder, too, for a hypervisor that is handed a kernel
    #[arg(long, value_name = "DIR")]
    pub kernel_files: Option<PathBuf>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct ExportTo {
    /// Where to; - is standard output
    pub path: PathBuf,
    /// How to compress; gzip for the layers of images, and by the name's ending for archives, when left out
    #[arg(long, value_name = "HOW")]
    pub compress: Option<Compress>,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Push {
    /// registry/name:tag
    pub reference: String,
    /// Join it with images for other architectures: the tag stands for an index of all
    #[arg(long)]
    pub index: bool,
    /// Push this parcel instead of the project's image
    #[arg(long, value_name = "FILE", conflicts_with_all = ["index", "compress"])]
    pub parcel: Option<PathBuf>,
    /// Sign where it comes from, as a publisher of the team; done by itself where the team has publishers
    #[arg(long, conflicts_with = "parcel")]
    pub sign: bool,
    /// Push without a publisher's signature, although the team has publishers
    #[arg(long, conflicts_with_all = ["sign", "parcel"])]
    pub unsigned: bool,
    #[command(flatten)]
    pub key: SigningKey,
    /// How to compress the layers
    #[arg(long, value_name = "HOW", default_value = "gzip")]
    pub compress: Compress,
    #[command(flatten)]
    pub report: Report,
}

/// Compression of what goes out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Compress {
    /// Not at all
    None,
    /// RFC 1952, which everything reads
    Gzip,
    /// RFC 8878: smaller and faster
    Zstd,
}

#[derive(Debug, Arguments)]
pub struct Pull {
    /// registry/name:tag
    pub reference: String,
    /// The file
    pub file: PathBuf,
    /// For cavrith join, which says itself what came of it
    #[arg(long, hide = true)]
    pub known: bool,
    #[command(flatten)]
    pub report: Report,
}

#[derive(Debug, Arguments)]
pub struct Pack {
    /// The file
    pub file: PathBuf,
    /// Take work in progress along: the history, the branch, and files that are changed or new
    #[arg(long)]
    pub work: bool,
    /// Take every pinned file along, so that all can be built again without a network
    #[arg(long)]
    pub sources: bool,
    /// Take this kept folder along
    #[arg(long, value_name = "NAME")]
    pub kept: Vec<String>,
    /// Take along what was changed inside the workspace by hand, which nobody sealed
    #[arg(long)]
    pub scratch: bool,
    /// Take this file along though it looks like a secret, or is ignored; one inside by its path there
    #[arg(long, value_name = "PATH")]
    pub include: Vec<PathBuf>,
    /// Encrypt it to this public key (ssh-ed25519, ssh-rsa, age1…), or to those in a file such as id_ed25519.pub
    #[arg(long = "for", value_name = "KEY")]
    pub recipients: Vec<String>,
    /// Take the images of all variants along
    #[arg(long, conflicts_with = "variant")]
    pub all_variants: bool,
    #[command(flatten)]
    pub which: Which,
    #[command(flatten)]
    pub report: Report,
}

// A comment and no documentation: clap would take it as the help of every command that it is part of.
// Which keys decrypt a parcel.
#[derive(Debug, Clone, Default, Arguments)]
pub struct KeyFiles {
    /// Decrypt the parcel with the private key in this file; those in ~/.ssh are tried, too
    #[arg(long, value_name = "FILE")]
    pub key: Vec<PathBuf>,
}
