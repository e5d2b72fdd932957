//! A FAT32 file system with a few files, as firmware reads it (Microsoft FAT Specification, 2005; UEFI Specification
//! 2.10, section 13.3). A cluster is a sector.

use crate::gpt::SECTOR;
use crate::piece::{OnPiece, Piece, padding};

/// Sectors before the first table.
const RESERVED: u64 = 32;
/// Tables of clusters.
const TABLES: u64 = 2;
/// Clusters that there must be more of for this to be FAT32, with some to spare.
const LEAST: u64 = 65_525 + 16;
/// Room for more files, in sectors.
const SPARE: u64 = 8192;
/// The last cluster of a file.
const END: u32 = 0x0FFF_FFFF;
/// Bytes of an entry of a directory.
const ENTRY: usize = 32;

/// A file system to be written.
#[derive(Debug)]
pub struct Fat<'a> {
    files: &'a [(&'a [&'a str], &'a [u8])],
    serial: u32,
    /// When everything was made: the time and date of FAT.
    time: (u16, u16),
    clusters: u64,
    table: u64,
}

/// A directory on its way.
struct Directory<'a> {
    path: Vec<&'a str>,
    cluster: u32,
    above: u32,
    entries: Vec<u8>,
}

impl<'a> Fat<'a> {
    /// Files by the names on their way: each of eight capital letters or digits at most, and three after a dot.
    pub fn new(files: &'a [(&'a [&'a str], &'a [u8])], serial: u32, epoch: u64) -> Self {
        let content: u64 = files.iter().map(|(_, content)| (content.len() as u64).div_ceil(SECTOR)).sum();
        let clusters = (content + SPARE).max(LEAST).next_multiple_of(2048);
        let table = ((clusters + 2) * 4).div_ceil(SECTOR);
        Self { files, serial, time: fat_time(epoch), clusters, table }
    }

    /// Sectors of the whole.
    pub fn sectors(&self) -> u64 {
        RESERVED + TABLES * self.table + self.clusters
    }

    /// Gives all pieces, in the order of their bytes.
    ///
    /// # Errors
    /// The first one of `on_piece`.
    pub fn pieces<E>(&self, on_piece: OnPiece<'_, E>) -> Result<(), E> {
        let (directories, files, chains) = self.laid();
        on_piece(Piece::Known(&self.reserved(chains.len() as u64 - 2)))?;
        let table: Vec<u8> = chains.iter().flat_map(|next| next.to_le_bytes()).collect();
        for _ in 0..TABLES {
            on_piece(Piece::Known(&table))?;
            on_piece(Piece::Zeros(self.table * SECTOR - table.len() as u64))?;
        }
        let mut used = 0;
        for content in directories.iter().map(|one| one.entries.as_slice()).chain(files) {
            let padding = padding(content.len() as u64, SECTOR);
            on_piece(Piece::Known(content))?;
            on_piece(Piece::Zeros(padding))?;
            used += content.len() as u64 + padding;
        }
        on_piece(Piece::Zeros(self.clusters * SECTOR - used))
    }

    /// Directories, each of one cluster, then files, and for each cluster the next of its chain.
    fn laid(&self) -> (Vec<Directory<'a>>, Vec<&'a [u8]>, Vec<u32>) {
        let mut chains = vec![0x0FFF_FFF8, END];
        let mut take = |count: u64| {
            let first = chains.len() as u32;
            chains.extend((1..count as u32).map(|next| first + next));
            chains.push(END);
            first
        };
        let root = Directory { path: Vec::new(), cluster: take(1), above: 0, entries: Vec::new() };
        let mut directories = vec![root];
        for (path, _) in self.files {
            for length in 1..path.len() {
                if directories.iter().any(|one| one.path == path[..length]) {
                    continue;
                }
                let cluster = take(1);
                let above = directories.iter_mut().find(|one| one.path == path[..length - 1]);
                let Some(above) = above else { continue };
                above.entries.extend(self.entry(&short(path[length - 1]), true, cluster, 0));
                // To the root itself one refers by no number.
                let up = if length == 1 { 0 } else { above.cluster };
                directories.push(Directory { path: path[..length].to_vec(), cluster, above: up, entries: Vec::new() });
            }
        }
        for one in directories.iter_mut().skip(1) {
            let own = [
                self.entry(b".          ", true, one.cluster, 0),
                self.entry(b"..         ", true, one.above, 0),
                std::mem::take(&mut one.entries),
            ];
            one.entries = own.concat();
        }
        let mut files = Vec::new();
        for (path, content) in self.files {
            let count = (content.len() as u64).div_ceil(SECTOR);
            let cluster = if count == 0 { 0 } else { take(count) };
            let (name, above) = path.split_last().unwrap_or((&"", &[]));
            if let Some(directory) = directories.iter_mut().find(|one| one.path == above) {
                directory.entries.extend(self.entry(&short(name), false, cluster, content.len() as u32));
            }
            files.push(*content);
        }
        (directories, files, chains)
    }

    fn entry(&self, name: &[u8; 11], is_directory: bool, cluster: u32, size: u32) -> Vec<u8> {
        let mut entry = vec![0; ENTRY];
        entry[..11].copy_from_slice(name);
        entry[11] = if is_directory { 0x10 } else { 0x20 };
        let (time, date) = self.time;
        for at in [14, 22] {
            entry[at..at + 2].copy_from_slice(&time.to_le_bytes());
        }
        for at in [16, 18, 24] {
            entry[at..at + 2].copy_from_slice(&date.to_le_bytes());
        }
        entry[20..22].copy_from_slice(&((cluster >> 16) as u16).to_le_bytes());
        entry[26..28].copy_from_slice(&(cluster as u16).to_le_bytes());
        entry[28..].copy_from_slice(&size.to_le_bytes());
        entry
    }

    /// The sectors before the tables: what the system is, how much is free, and both once more.
    fn reserved(&self, used: u64) -> Vec<u8> {
        let mut boot = vec![0; SECTOR as usize];
        let mut put = |at: usize, field: &[u8]| boot[at..at + field.len()].copy_from_slice(field);
        put(0, &[0xEB, 0x58, 0x90]);
        put(3, b"CAVRITH ");
        put(11, &(SECTOR as u16).to_le_bytes());
        put(13, &[1]);
        put(14, &(RESERVED as u16).to_le_bytes());
        put(16, &[TABLES as u8]);
        put(21, &[0xF8]);
        put(24, &63_u16.to_le_bytes());
        put(26, &255_u16.to_le_bytes());
        put(32, &(self.sectors() as u32).to_le_bytes());
        put(36, &(self.table as u32).to_le_bytes());
        put(44, &2_u32.to_le_bytes());
        put(48, &1_u16.to_le_bytes());
        put(50, &6_u16.to_le_bytes());
        put(64, &[0x80, 0, 0x29]);
        put(67, &self.serial.to_le_bytes());
        put(71, b"NO NAME    FAT32   ");
        put(510, &[0x55, 0xAA]);
        let mut information = vec![0; SECTOR as usize];
        let mut put = |at: usize, field: u32| information[at..at + 4].copy_from_slice(&field.to_le_bytes());
        put(0, 0x4161_5252);
        put(484, 0x6141_7272);
        put(488, (self.clusters - used) as u32);
        put(492, used as u32 + 2);
        put(508, 0xAA55_0000);
        let mut sectors = boot.clone();
        sectors.extend_from_slice(&information);
        sectors.resize(6 * SECTOR as usize, 0);
        sectors.extend_from_slice(&boot);
        sectors.extend_from_slice(&information);
        sectors.resize((RESERVED * SECTOR) as usize, 0);
        sectors
    }
}

/// A name as it is in a directory: filled up with spaces, without the dot.
fn short(name: &str) -> [u8; 11] {
    let mut field = *b"           ";
    let (name, ending) = name.split_once('.').unwrap_or((name, ""));
    for (place, letter) in field[..8].iter_mut().zip(name.bytes()) {
        *place = letter;
    }
    for (place, letter) in field[8..].iter_mut().zip(ending.bytes()) {
        *place = letter;
    }
    field
}

/// Seconds since 1970 as FAT writes times: no earlier than 1980, and even seconds only.
fn fat_time(epoch: u64) -> (u16, u16) {
    let seconds = epoch.max(315_532_800);
    let (days, rest) = (seconds / 86_400, seconds % 86_400);
    let time = (rest / 3600) << 11 | (rest / 60 % 60) << 5 | (rest % 60 / 2);
    // The civil date of a day (Hinnant, "chrono-Compatible Low-Level Date Algorithms", civil_from_days).
    let shifted = days + 719_468;
    let (era, of_era) = (shifted / 146_097, shifted % 146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
    let year = year_of_era + era * 400 + u64::from(month <= 2);
    let date = (year - 1980).min(127) << 9 | month << 5 | day;
    (time as u16, date as u16)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_those_of_the_calendar() {
        // 2024-02-29 13:37:42
        assert_eq!(fat_time(1_709_213_862), (13 << 11 | 37 << 5 | 21, 44 << 9 | 2 << 5 | 29));
        assert_eq!(fat_time(0), (0, 1 << 5 | 1));
        assert_eq!(short("BOOTX64.EFI"), *b"BOOTX64 EFI");
    }
}
