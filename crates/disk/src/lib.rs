//! Disks of machines as bytes, computed from a tree: the root as a file system, partitions around it, and what a
//! machine's firmware starts. Nothing here reads or writes a file: whoever writes a disk gets its pieces in their order
//! ([`piece::Piece`]), and fetches the content of files when it is their turn.
//!
//! Every identifier is given or follows from the content, so the same tree gives the same bits everywhere.
//!
//! | module | what |
//! |---|---|
//! | [`erofs`] | the root, for reading only |
//! | [`ext4`] | what the machine writes, empty at first |
//! | [`verity`] | what proves the root, block by block |
//! | [`gpt`] | partitions |
//! | [`fat`] | what firmware reads |
//! | [`qcow2`] | a disk whose zeros take no room in any file |
//! | [`unified`] | the program that it starts: a kernel with all that it needs at first |
//! | [`module`] | what modules of the kernel need |
//! | [`cpio`] | the kernel's first file system |
#![forbid(unsafe_code)]

pub mod cpio;
pub mod erofs;
pub mod ext4;
pub mod fat;
pub mod gpt;
pub mod module;
pub mod piece;
pub mod qcow2;
pub mod unified;
pub mod verity;
