//! Errors of filling a depot.

use std::path::PathBuf;

use cavrith_core::path::BadPath;
use cavrith_core::version::BadVersion;

/// What can go wrong while a depot is made or added to.
#[derive(Debug, thiserror::Error)]
pub enum DepotError {
    /// A depot is to be made where something is.
    #[error("{} has something in it already; name another folder", .0.display())]
    NotEmpty(PathBuf),
    /// The index cannot be read as one.
    #[error("{}:{line}: {why}", path.display())]
    Index {
        /// The index.
        path: PathBuf,
        /// The line, from 1.
        line: usize,
        /// The reason, in words.
        why: String,
    },
    /// What was described would make an index that cannot be read.
    #[error("{0}")]
    Entry(String),
    /// A version that is none.
    #[error(transparent)]
    Version(#[from] BadVersion),
    /// A path that is none.
    #[error(transparent)]
    Path(#[from] BadPath),
    /// The depot has it.
    #[error("the depot has {0} already")]
    There(String),
    /// A part of a toolchain that the depot does not have.
    #[error("add {toolchain} itself before its part {part}")]
    PartFirst {
        /// Name and version of the toolchain.
        toolchain: String,
        /// The part.
        part: String,
    },
    /// The toolchain has such a part.
    #[error("{toolchain} has a part {part} already")]
    PartThere {
        /// Name and version of the toolchain.
        toolchain: String,
        /// The part.
        part: String,
    },
    /// A file's name that is not text.
    #[error("the name of {} is not written in UTF-8", .0.display())]
    FileName(PathBuf),
    /// An extension whose description lacks something.
    #[error("{path} in {name} {why}")]
    Description {
        /// The description's path in the extension.
        path: &'static str,
        /// The extension's file.
        name: String,
        /// What is wrong with it.
        why: String,
    },
    /// Neither a package nor an extension.
    #[error("{0} is neither a package nor an extension; describe a toolchain with --name, --release and --probe")]
    Unknown(String),
}
