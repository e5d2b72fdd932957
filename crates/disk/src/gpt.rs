//! A partition table (UEFI Specification 2.10, section 5.3), with the record before it that protects it (5.2.3).

use sha2::{Digest as _, Sha256};

/// Bytes of a sector.
pub const SECTOR: u64 = 512;
/// Entries of a table, and bytes of each.
const ENTRIES: usize = 128;
const ENTRY: usize = 128;
/// Sectors that a table takes, without its header.
const TABLE: u64 = (ENTRIES * ENTRY) as u64 / SECTOR;
/// The first sector that a partition may have.
pub const FIRST: u64 = 2048;
/// Sectors at the end that no partition may have.
pub const LAST: u64 = TABLE + 1;

/// A globally unique identifier, as people write it, from the left to the right.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Guid(pub [u8; 16]);

impl Guid {
    /// One that follows from something and from what it is for (RFC 9562, section 5.8).
    pub fn of(what: &str, from: &[u8]) -> Self {
        let digest = Sha256::new().chain_update(what).chain_update([0]).chain_update(from).finalize();
        let mut bytes = [0; 16];
        bytes.copy_from_slice(&digest[..16]);
        bytes[6] = bytes[6] & 0x0F | 0x80;
        bytes[8] = bytes[8] & 0x3F | 0x80;
        Self(bytes)
    }

    /// As it is on a disk (UEFI Specification 2.10, appendix A).
    fn encoded(self) -> [u8; 16] {
        let [a, b, c, d, e, f, g, h, rest @ ..] = self.0;
        let mut bytes = [0; 16];
        bytes[..8].copy_from_slice(&[d, c, b, a, f, e, h, g]);
        bytes[8..].copy_from_slice(&rest);
        bytes
    }
}

impl std::fmt::Display for Guid {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (number, byte) in self.0.iter().enumerate() {
            if matches!(number, 4 | 6 | 8 | 10) {
                f.write_str("-")?;
            }
            write!(f, "{byte:02x}")?;
        }
        Ok(())
    }
}

/// What a partition is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// What firmware starts.
    Efi,
    /// The root of an x86-64 Linux system (Discoverable Partitions Specification).
    Root,
    /// Linux data.
    Data,
}

impl Purpose {
    fn guid(self) -> Guid {
        Guid(match self {
            Self::Efi => 0xC12A7328_F81F_11D2_BA4B_00A0C93EC93B_u128.to_be_bytes(),
            Self::Root => 0x4F68BCE3_E8CD_4DB1_96E7_FBCAF984B709_u128.to_be_bytes(),
            Self::Data => 0x0FC63DAF_8483_4772_8E79_3D69D8477DE4_u128.to_be_bytes(),
        })
    }
}

/// A partition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// What it is for.
    pub purpose: Purpose,
    /// Its identifier.
    pub guid: Guid,
    /// The first sector.
    pub first: u64,
    /// How many sectors.
    pub sectors: u64,
    /// Its name: 36 letters at most.
    pub name: String,
}

/// What comes before all partitions, and what comes after them, on a disk of so many sectors.
pub fn tables(sectors: u64, disk: Guid, partitions: &[Partition]) -> (Vec<u8>, Vec<u8>) {
    let mut entries = vec![0; ENTRIES * ENTRY];
    for (partition, entry) in partitions.iter().zip(entries.chunks_mut(ENTRY)) {
        entry[..16].copy_from_slice(&partition.purpose.guid().encoded());
        entry[16..32].copy_from_slice(&partition.guid.encoded());
        entry[32..40].copy_from_slice(&partition.first.to_le_bytes());
        entry[40..48].copy_from_slice(&(partition.first + partition.sectors - 1).to_le_bytes());
        for (unit, place) in partition.name.encode_utf16().take(36).zip(entry[56..].chunks_mut(2)) {
            place.copy_from_slice(&unit.to_le_bytes());
        }
    }
    let header = |own: u64, other: u64, table: u64| {
        let mut header = vec![0; SECTOR as usize];
        header[..8].copy_from_slice(b"EFI PART");
        header[8..12].copy_from_slice(&0x0001_0000_u32.to_le_bytes());
        header[12..16].copy_from_slice(&92_u32.to_le_bytes());
        header[24..32].copy_from_slice(&own.to_le_bytes());
        header[32..40].copy_from_slice(&other.to_le_bytes());
        header[40..48].copy_from_slice(&(2 + TABLE).to_le_bytes());
        header[48..56].copy_from_slice(&(sectors - LAST - 1).to_le_bytes());
        header[56..72].copy_from_slice(&disk.encoded());
        header[72..80].copy_from_slice(&table.to_le_bytes());
        header[80..84].copy_from_slice(&(ENTRIES as u32).to_le_bytes());
        header[84..88].copy_from_slice(&(ENTRY as u32).to_le_bytes());
        header[88..92].copy_from_slice(&crc32fast::hash(&entries).to_le_bytes());
        let sum = crc32fast::hash(&header[..92]);
        header[16..20].copy_from_slice(&sum.to_le_bytes());
        header
    };
    let mut begin = protective(sectors);
    begin.extend(header(1, sectors - 1, 2));
    begin.extend_from_slice(&entries);
    begin.resize((FIRST * SECTOR) as usize, 0);
    let mut end = entries.clone();
    end.extend(header(sectors - 1, 1, sectors - LAST));
    (begin, end)
}

/// The first sector: for whoever knows the older table only, the disk is one partition that is none of theirs.
fn protective(sectors: u64) -> Vec<u8> {
    let mut record = vec![0; SECTOR as usize];
    let entry = &mut record[446..462];
    entry[1..4].copy_from_slice(&[0, 2, 0]);
    entry[4] = 0xEE;
    entry[5..8].copy_from_slice(&[0xFF; 3]);
    entry[8..12].copy_from_slice(&1_u32.to_le_bytes());
    entry[12..16].copy_from_slice(&u32::try_from(sectors - 1).unwrap_or(u32::MAX).to_le_bytes());
    record[510..].copy_from_slice(&[0x55, 0xAA]);
    record
}
