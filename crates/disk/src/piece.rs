//! What a disk is written from, piece by piece, so that nothing of it has to be in memory at once.

use cavrith_core::path::RootPath;

/// A part of a disk, in the order of its bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'a> {
    /// These bytes.
    Known(&'a [u8]),
    /// So many zero bytes, which need not be written to a sparse file.
    Zeros(u64),
    /// The whole content of a file of the tree, of this length.
    Content(&'a RootPath, u64),
}

/// Gets the pieces.
pub type OnPiece<'f, E> = &'f mut dyn FnMut(Piece<'_>) -> Result<(), E>;

/// Zero bytes up to the next multiple of `unit`.
pub(crate) fn padding(size: u64, unit: u64) -> u64 {
    size.next_multiple_of(unit) - size
}
