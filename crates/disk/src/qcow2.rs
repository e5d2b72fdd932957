//! A disk as a hypervisor keeps it when zeros are to take no room: QEMU's format of version 3 (QEMU,
//! docs/interop/qcow2). All tables come first, for the whole disk, and then what is not zero, in its order; so the same
//! disk gives the same bytes.

/// Bytes of a cluster.
pub const CLUSTER: u64 = 65_536;
/// Entries of a table of the second level.
const ENTRIES: u64 = CLUSTER / 8;
/// Clusters whose counts are in one cluster.
const COUNTED: u64 = CLUSTER / 2;
/// The cluster is there, and nobody else has it.
const COPIED: u64 = 1 << 63;

/// Where each cluster of a disk is.
#[derive(Debug, Clone)]
pub struct Qcow2 {
    size: u64,
    /// For each cluster of the disk where it is in the file; zero where it is zero.
    places: Vec<u64>,
    next: u64,
}

impl Qcow2 {
    /// For a disk of so many bytes, of which nothing is known yet.
    pub fn new(size: u64) -> Self {
        let clusters = size.div_ceil(CLUSTER);
        let mut made = Self { size, places: vec![0; clusters as usize], next: 0 };
        made.next = made.front() * CLUSTER;
        made
    }

    /// Clusters of tables of the second level, and of the first.
    fn tables(&self) -> (u64, u64) {
        let second = (self.places.len() as u64).div_ceil(ENTRIES);
        (second, second.div_ceil(ENTRIES).max(1))
    }

    /// Clusters with counts, and of the table of those: enough for everything that there can be.
    fn counts(&self) -> (u64, u64) {
        let (second, first) = self.tables();
        let others = 1 + second + first + self.places.len() as u64;
        // They are counted, too.
        let blocks = (others + others / COUNTED + 3).div_ceil(COUNTED);
        (blocks, blocks.div_ceil(ENTRIES))
    }

    /// Clusters before the first one with content.
    fn front(&self) -> u64 {
        let ((second, first), (blocks, table)) = (self.tables(), self.counts());
        1 + table + blocks + first + second
    }

    /// Where a cluster of the disk is to be written; nothing when it is zero.
    pub fn place(&mut self, cluster: u64, content: &[u8]) -> Option<u64> {
        if content.iter().all(|byte| *byte == 0) {
            return None;
        }
        let at = self.next;
        *self.places.get_mut(cluster as usize)? = at;
        self.next += CLUSTER;
        Some(at)
    }

    /// What comes before the clusters, once all are known.
    pub fn head(&self) -> Vec<u8> {
        let ((second, first), (blocks, table)) = (self.tables(), self.counts());
        let mut head = vec![0; (self.front() * CLUSTER) as usize];
        let mut put = |at: u64, field: &[u8]| head[at as usize..at as usize + field.len()].copy_from_slice(field);
        let counts = (1 + table) * CLUSTER;
        let first_at = counts + blocks * CLUSTER;
        let second_at = first_at + first * CLUSTER;
        put(0, b"QFI\xfb");
        let shorts: [(u64, u32); 7] = [
            (4, 3),
            (20, 16),
            (36, second as u32),
            (56, table as u32),
            // Counts of 16 bits.
            (96, 4),
            (100, 104),
            (32, 0),
        ];
        shorts.iter().for_each(|(at, field)| put(*at, &field.to_be_bytes()));
        for (at, field) in [(24, self.size), (40, first_at), (48, CLUSTER)] {
            put(at, &u64::to_be_bytes(field));
        }
        for block in 0..blocks {
            put(CLUSTER + block * 8, &(counts + block * CLUSTER).to_be_bytes());
        }
        for cluster in 0..self.next / CLUSTER {
            put(counts + cluster * 2, &1_u16.to_be_bytes());
        }
        for one in 0..second {
            put(first_at + one * 8, &((second_at + one * CLUSTER) | COPIED).to_be_bytes());
        }
        for (cluster, place) in self.places.iter().enumerate().filter(|(_, place)| **place > 0) {
            put(second_at + cluster as u64 * 8, &(place | COPIED).to_be_bytes());
        }
        head
    }

    /// Bytes of the whole file.
    pub fn file_size(&self) -> u64 {
        self.next
    }
}
