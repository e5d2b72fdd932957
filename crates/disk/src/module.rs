//! What a module of the kernel says of itself: the section `.modinfo` of its file (kernel documentation,
//! `include/linux/module.h`; System V ABI, "Object Files").

/// Whether two names mean one module: in names both kinds of stroke are the same.
pub fn same(one: &str, other: &str) -> bool {
    one.replace('-', "_") == other.replace('-', "_")
}

/// The modules that one needs, or wants before itself, in their order. What is no module needs nothing.
pub fn needed(file: &[u8]) -> Vec<String> {
    let Some(information) = section(file, b".modinfo") else { return Vec::new() };
    let mut names = Vec::new();
    for entry in information.split(|byte| *byte == 0).filter_map(|entry| std::str::from_utf8(entry).ok()) {
        if let Some(list) = entry.strip_prefix("depends=") {
            names.extend(list.split(',').filter(|name| !name.is_empty()).map(str::to_owned));
        }
        if let Some(list) = entry.strip_prefix("softdep=pre:") {
            let before = list.split_whitespace().take_while(|word| !word.ends_with(':'));
            names.extend(before.map(str::to_owned));
        }
    }
    names
}

/// A section of a 64-bit little-endian object file.
fn section<'a>(file: &'a [u8], wanted: &[u8]) -> Option<&'a [u8]> {
    let number = |at: usize, length: usize| -> Option<usize> {
        let field = file.get(at..at.checked_add(length)?)?;
        let mut bytes = [0; 8];
        bytes[..length].copy_from_slice(field);
        usize::try_from(u64::from_le_bytes(bytes)).ok()
    };
    if !file.starts_with(b"\x7fELF\x02\x01") {
        return None;
    }
    let (table, size, count, names) = (number(40, 8)?, number(58, 2)?, number(60, 2)?, number(62, 2)?);
    let header = |number: usize| table.checked_add(number.checked_mul(size)?);
    let content = |at: usize| {
        let begin = number(at.checked_add(24)?, 8)?;
        file.get(begin..begin.checked_add(number(at.checked_add(32)?, 8)?)?)
    };
    let names = content(header(names)?)?;
    (0..count).find_map(|one| {
        let at = header(one)?;
        let name = names.get(number(at, 4)?..)?;
        (name.split(|byte| *byte == 0).next()? == wanted).then(|| content(at)).flatten()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_module_needs_nothing() {
        for file in
            [b"".as_slice(), b"\x7fELF\x02\x01", &[0x7f; 200], &[b"\x7fELF\x02\x01".as_slice(), &[0xFF; 100]].concat()]
        {
            assert!(needed(file).is_empty());
        }
        assert!(same("virtio-rng", "virtio_rng") && !same("virtio", "virtio_rng"));
    }
}
