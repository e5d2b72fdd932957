//! A tree of digests over a root, by which the kernel proves each block when it is read (kernel documentation,
//! admin-guide/device-mapper/verity): version 1, SHA-256, without a superblock. The tree's levels lie behind the root,
//! the highest first.

use sha2::{Digest as _, Sha256};

use crate::piece::Piece;

/// Bytes of a block, of the root as of the tree.
const BLOCK: usize = 4096;

/// A root that is being proved, block by block.
#[derive(Debug)]
pub struct Verity {
    salt: [u8; 32],
    block: Vec<u8>,
    digests: Vec<[u8; 32]>,
}

/// What proves a root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proof {
    /// The tree, as it lies behind the root.
    pub tree: Vec<u8>,
    /// The digest of its top.
    pub root: [u8; 32],
    /// What is before each block when its digest is made.
    pub salt: [u8; 32],
    /// Blocks of the root.
    pub blocks: u64,
}

/// Bytes as digits.
fn digits(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

impl Proof {
    /// The digest of the top, as digits.
    pub fn top(&self) -> String {
        digits(&self.root)
    }

    /// As it stands on a kernel's command line, for the first process: the top's digest, the salt, the root's blocks.
    pub fn words(&self) -> String {
        format!("cavrith.verity={}:{}:{}", digits(&self.root), digits(&self.salt), self.blocks)
    }
}

impl Verity {
    /// Nothing yet, with a salt that follows from the image.
    pub fn new(salt: [u8; 32]) -> Self {
        Self { salt, block: Vec::with_capacity(BLOCK), digests: Vec::new() }
    }

    fn digest(&self, block: &[u8]) -> [u8; 32] {
        Sha256::new().chain_update(self.salt).chain_update(block).finalize().into()
    }

    /// Takes the next bytes.
    pub fn take(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            let count = bytes.len().min(BLOCK - self.block.len());
            self.block.extend_from_slice(&bytes[..count]);
            bytes = &bytes[count..];
            if self.block.len() == BLOCK {
                let digest = self.digest(&self.block);
                self.digests.push(digest);
                self.block.clear();
            }
        }
    }

    /// Takes a piece whose bytes are known.
    pub fn piece(&mut self, piece: Piece<'_>) {
        match piece {
            Piece::Known(bytes) => self.take(bytes),
            Piece::Zeros(count) => {
                let zeros = [0; BLOCK];
                let mut left = count as usize;
                while left > 0 {
                    let some = left.min(BLOCK);
                    self.take(&zeros[..some]);
                    left -= some;
                }
            }
            // Whoever has its bytes gives them by `take`.
            Piece::Content(..) => {}
        }
    }

    /// The tree over all whole blocks that were taken.
    pub fn finish(self) -> Proof {
        let blocks = self.digests.len() as u64;
        let mut level = self.digests.clone();
        let mut levels: Vec<Vec<u8>> = Vec::new();
        // Over a single block there is no tree: its digest is the top.
        while level.len() != 1 {
            let mut bytes = level.concat();
            bytes.resize(bytes.len().next_multiple_of(BLOCK).max(BLOCK), 0);
            level = bytes.chunks(BLOCK).map(|block| self.digest(block)).collect();
            levels.push(bytes);
        }
        levels.reverse();
        Proof { tree: levels.concat(), root: level[0], salt: self.salt, blocks }
    }
}
