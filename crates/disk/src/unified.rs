//! A kernel with its command line and its first file system in one program of the firmware: sections that are added to
//! a stub (UAPI Group Specification 5, "Unified Kernel Image"; Microsoft PE Format).

/// Why a stub is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadStub {
    /// It is no such program, or is cut off.
    #[error("it is no program of the firmware (PE32+)")]
    NotOne,
    /// Its head has no room for further sections.
    #[error("its head has no room for further sections")]
    NoRoom,
}

/// Bytes of an entry of the table of sections.
const SECTION: usize = 40;
/// Initialised data that is read.
const READ_DATA: u32 = 0x4000_0040;

fn number<const N: usize>(bytes: &[u8], at: usize) -> Result<usize, BadStub> {
    let field = bytes.get(at..at.checked_add(N).ok_or(BadStub::NotOne)?).ok_or(BadStub::NotOne)?;
    let mut whole = [0; 8];
    whole[..N].copy_from_slice(field);
    usize::try_from(u64::from_le_bytes(whole)).map_err(|_| BadStub::NotOne)
}

/// Adds sections to a stub, in their order. The kernel's own (`.linux`) has to be the last: what the firmware has
/// behind it is where it unpacks itself.
///
/// # Errors
/// When the stub is none, or has no room.
pub fn image(stub: &[u8], sections: &[(&str, &[u8])]) -> Result<Vec<u8>, BadStub> {
    let head = number::<4>(stub, 0x3C)?;
    let optional = head.checked_add(24).ok_or(BadStub::NotOne)?;
    if !stub.starts_with(b"MZ") || stub.get(head..head + 4) != Some(b"PE\0\0") || number::<2>(stub, optional)? != 0x20B
    {
        return Err(BadStub::NotOne);
    }
    let (count, table) = (number::<2>(stub, head + 6)?, optional + number::<2>(stub, head + 20)?);
    let (unit, file_unit) = (number::<4>(stub, optional + 32)?, number::<4>(stub, optional + 36)?);
    let header = number::<4>(stub, optional + 60)?;
    // What is written to has to be there.
    number::<4>(stub, optional + 64)?;
    if !unit.is_power_of_two() || !file_unit.is_power_of_two() || unit > 1 << 24 || file_unit > 1 << 24 || count > 96 {
        return Err(BadStub::NotOne);
    }
    let (mut end, mut first) = (0, usize::MAX);
    for section in 0..count {
        let at = table + section * SECTION;
        let (size, address) = (number::<4>(stub, at + 8)?, number::<4>(stub, at + 12)?);
        end = end.max(address + size);
        first = first.min(number::<4>(stub, at + 20)?);
    }
    let own = table + count * SECTION;
    if own + sections.len() * SECTION > header.min(first).min(stub.len()) {
        return Err(BadStub::NoRoom);
    }
    let mut image = stub.to_vec();
    image.resize(image.len().next_multiple_of(file_unit), 0);
    for (number, (name, content)) in sections.iter().enumerate() {
        let (address, raw) = (end.next_multiple_of(unit), image.len());
        end = address + content.len();
        image.extend_from_slice(content);
        image.resize(image.len().next_multiple_of(file_unit), 0);
        let size = image.len() - raw;
        let mut entry = [0; SECTION];
        for (place, letter) in entry[..8].iter_mut().zip(name.bytes()) {
            *place = letter;
        }
        for (at, field) in [(8, content.len()), (12, address), (16, size), (20, raw), (36, READ_DATA as usize)] {
            entry[at..at + 4].copy_from_slice(&(field as u32).to_le_bytes());
        }
        image[own + number * SECTION..own + (number + 1) * SECTION].copy_from_slice(&entry);
    }
    let mut put = |at: usize, field: &[u8]| image[at..at + field.len()].copy_from_slice(field);
    put(head + 6, &((count + sections.len()) as u16).to_le_bytes());
    // When it was put together is nobody's to know, and would be another time each time.
    put(head + 8, &[0; 4]);
    put(optional + 56, &(end.next_multiple_of(unit) as u32).to_le_bytes());
    put(optional + 64, &[0; 4]);
    Ok(image)
}
