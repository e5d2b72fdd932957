//! An empty ext4 file system with a journal, for what a machine writes (kernel documentation, filesystems/ext4).
//! Without checksums of its tables, so that nothing has to be written where there is nothing yet: almost all of it is
//! zero.

use crate::piece::{OnPiece, Piece};

/// Bytes of a block.
const BLOCK: u64 = 4096;
/// Blocks of a group: as many as a block has bits.
const GROUP: u64 = BLOCK * 8;
/// Bytes of a group; a file system has whole groups.
pub const GROUP_BYTES: u64 = GROUP * BLOCK;
/// Inodes of a group: one for each 16 KiB.
const INODES: u64 = GROUP / 4;
/// Bytes of an inode.
const INODE: u64 = 256;
/// Blocks of a group's inodes.
const TABLE: u64 = INODES * INODE / BLOCK;
/// Bytes of a group's descriptor.
const DESCRIPTOR: u64 = 32;
/// Blocks of the journal.
const JOURNAL: u64 = 8192;
/// The first inode that is not reserved: `lost+found`.
const FIRST_INODE: u32 = 11;
/// The inodes of the root and of the journal.
const ROOT: u32 = 2;
const JOURNAL_INODE: u32 = 8;

/// A file system to be written.
#[derive(Debug, Clone, Copy)]
pub struct Ext4 {
    groups: u64,
    uuid: [u8; 16],
    seed: [u8; 16],
    epoch: u32,
}

/// Bytes, with fields put at places.
struct Fields(Vec<u8>);

impl Fields {
    fn new(length: u64) -> Self {
        Self(vec![0; length as usize])
    }

    fn put(&mut self, at: usize, field: &[u8]) -> &mut Self {
        self.0[at..at + field.len()].copy_from_slice(field);
        self
    }

    fn short(&mut self, at: usize, number: u64) -> &mut Self {
        self.put(at, &(number as u16).to_le_bytes())
    }

    fn long(&mut self, at: usize, number: u64) -> &mut Self {
        self.put(at, &(number as u32).to_le_bytes())
    }
}

impl Ext4 {
    /// One of so many bytes, in whole groups: one at least, 16 TiB at most. Its identifiers are given.
    pub fn new(bytes: u64, uuid: [u8; 16], seed: [u8; 16], epoch: u64) -> Self {
        let groups = (bytes / GROUP_BYTES).clamp(1, u64::from(u32::MAX) / GROUP);
        Self { groups, uuid, seed, epoch: u32::try_from(epoch).unwrap_or(u32::MAX) }
    }

    /// Bytes of the whole.
    pub fn size(&self) -> u64 {
        self.groups * GROUP_BYTES
    }

    /// Blocks of all descriptors.
    fn descriptors(&self) -> u64 {
        (self.groups * DESCRIPTOR).div_ceil(BLOCK)
    }

    /// Blocks before a group's bitmaps: copies of the superblock and the descriptors, in some groups.
    fn copies(&self, group: u64) -> u64 {
        if has_copy(group) { 1 + self.descriptors() } else { 0 }
    }

    /// Blocks of a group that are used.
    fn used(&self, group: u64) -> u64 {
        let own = self.copies(group) + 2 + TABLE;
        // The root, lost+found, and the journal after them.
        if group == 0 { own + 2 + JOURNAL } else { own }
    }

    /// Where the root's block is; lost+found's is the next, and then the journal's come.
    fn data(&self) -> u64 {
        self.copies(0) + 2 + TABLE
    }

    /// Gives all pieces, in the order of their bytes.
    ///
    /// # Errors
    /// The first one of `on_piece`.
    pub fn pieces<E>(&self, on_piece: OnPiece<'_, E>) -> Result<(), E> {
        let mut descriptors = Fields::new(self.descriptors() * BLOCK);
        for group in 0..self.groups {
            let (at, begin) = ((group * DESCRIPTOR) as usize, group * GROUP + self.copies(group));
            let inodes = if group == 0 { u64::from(FIRST_INODE) } else { 0 };
            descriptors.long(at, begin).long(at + 4, begin + 1).long(at + 8, begin + 2);
            descriptors.short(at + 12, GROUP - self.used(group)).short(at + 14, INODES - inodes);
            descriptors.short(at + 16, if group == 0 { 2 } else { 0 });
        }
        for group in 0..self.groups {
            if has_copy(group) {
                let superblock = self.superblock(group);
                // Before the first one is room for what starts a machine.
                let before = if group == 0 { 1024 } else { 0 };
                on_piece(Piece::Zeros(before))?;
                on_piece(Piece::Known(&superblock))?;
                on_piece(Piece::Zeros(BLOCK - before - superblock.len() as u64))?;
                on_piece(Piece::Known(&descriptors.0))?;
            }
            on_piece(Piece::Known(&bitmap(self.used(group))))?;
            let inodes = if group == 0 { u64::from(FIRST_INODE) } else { 0 };
            let mut of_inodes = bitmap(inodes);
            // What is behind the last inode is not free.
            of_inodes[(INODES / 8) as usize..].fill(0xFF);
            on_piece(Piece::Known(&of_inodes))?;
            if group > 0 {
                on_piece(Piece::Zeros((GROUP - self.copies(group) - 2) * BLOCK))?;
                continue;
            }
            let table = self.inodes();
            on_piece(Piece::Known(&table))?;
            on_piece(Piece::Zeros(TABLE * BLOCK - table.len() as u64))?;
            on_piece(Piece::Known(&directory(&[(ROOT, "."), (ROOT, ".."), (FIRST_INODE, "lost+found")])))?;
            on_piece(Piece::Known(&directory(&[(FIRST_INODE, "."), (ROOT, "..")])))?;
            on_piece(Piece::Known(&self.journal()))?;
            on_piece(Piece::Zeros((GROUP - self.data() - 3) * BLOCK))?;
        }
        Ok(())
    }

    /// The superblock, as the copy of a group.
    fn superblock(&self, group: u64) -> Vec<u8> {
        let mut block = Fields::new(1024);
        let used: u64 = (0..self.groups).map(|group| self.used(group)).sum();
        block.long(0, self.groups * INODES).long(4, self.groups * GROUP).long(12, self.groups * GROUP - used);
        block.long(16, self.groups * INODES - u64::from(FIRST_INODE));
        // The first block of data, and the sizes of blocks and clusters as powers of two over 1 KiB.
        block.long(20, 0).long(24, 2).long(28, 2);
        block.long(32, GROUP).long(36, GROUP).long(40, INODES);
        block.long(48, self.epoch.into());
        // Mounted as often as one likes; what it is; it is sound; errors make it read-only.
        block.short(54, 0xFFFF).short(56, 0xEF53).short(58, 1).short(60, 2);
        block.long(64, self.epoch.into()).long(76, 1);
        block.long(84, FIRST_INODE.into()).short(88, INODE).short(90, group);
        // A journal, extended attributes; kinds in directories, extents; few copies, large files, inodes with more.
        block.long(92, 0x4 | 0x8).long(96, 0x2 | 0x40).long(100, 0x1 | 0x2 | 0x8 | 0x20 | 0x40);
        block.put(104, &self.uuid).put(120, b"written");
        block.long(224, JOURNAL_INODE.into()).put(236, &self.seed).put(252, &[1]);
        // Access control lists and attributes of users are there when it is mounted.
        block.long(256, 0xC).long(264, self.epoch.into()).short(348, 32).short(350, 32);
        block.0
    }

    /// The inodes up to lost+found.
    fn inodes(&self) -> Vec<u8> {
        let mut table = Vec::new();
        for number in 1..=FIRST_INODE {
            let (mode, links, size, block, blocks) = match number {
                ROOT => (0o040_755, 3, BLOCK, self.data(), 1),
                JOURNAL_INODE => (0o100_600, 1, JOURNAL * BLOCK, self.data() + 2, JOURNAL),
                FIRST_INODE => (0o040_700, 2, BLOCK, self.data() + 1, 1),
                _ => {
                    table.resize(table.len() + INODE as usize, 0);
                    continue;
                }
            };
            let mut inode = Fields::new(INODE);
            inode.short(0, mode).long(4, size).short(26, links).long(28, blocks * BLOCK / 512);
            for at in [8, 12, 16, 144] {
                inode.long(at, self.epoch.into());
            }
            // It is mapped by extents: here by one, in the inode itself.
            inode.long(32, 0x8_0000).short(40, 0xF30A).short(42, 1).short(44, 4);
            inode.short(56, blocks).long(60, block).short(128, 32);
            table.extend(inode.0);
        }
        table
    }

    /// The first block of the journal (JBD2), which is empty.
    fn journal(&self) -> Vec<u8> {
        let mut block = Fields::new(BLOCK);
        let numbers = [(0, 0xC03B_3998), (4, 4), (12, BLOCK as u32), (16, JOURNAL as u32), (20, 1), (24, 1), (64, 1)];
        for (at, number) in numbers {
            block.put(at, &u32::to_be_bytes(number));
        }
        block.put(48, &self.uuid);
        block.0
    }
}

/// Whether a group has copies: the first two, and powers of three, five and seven (`sparse_super`).
fn has_copy(group: u64) -> bool {
    let is_power = |of: u64| {
        std::iter::successors(Some(of), |power| power.checked_mul(of))
            .take_while(|power| *power <= group)
            .any(|power| power == group)
    };
    group <= 1 || is_power(3) || is_power(5) || is_power(7)
}

/// A block in which so many bits from the first on are set.
fn bitmap(set: u64) -> Vec<u8> {
    let mut bytes = vec![0; BLOCK as usize];
    bytes[..(set / 8) as usize].fill(0xFF);
    if !set.is_multiple_of(8) {
        bytes[(set / 8) as usize] = (1 << (set % 8)) - 1;
    }
    bytes
}

/// A block with entries for directories.
fn directory(entries: &[(u32, &str)]) -> Vec<u8> {
    let mut block = Fields::new(BLOCK);
    let mut at = 0;
    for (number, (inode, name)) in entries.iter().enumerate() {
        let own = (8 + name.len() as u64).next_multiple_of(4);
        // The last one takes what is left.
        let length = if number + 1 == entries.len() { BLOCK - at } else { own };
        let begin = at as usize;
        block.long(begin, (*inode).into()).short(begin + 4, length).put(begin + 6, &[name.len() as u8, 2]);
        block.put(begin + 8, name.as_bytes());
        at += length;
    }
    block.0
}
