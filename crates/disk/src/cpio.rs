//! The first file system of a kernel: a cpio archive of the kind `newc` (kernel documentation,
//! driver-api/early-userspace/buffer-format).

/// An archive on its way.
#[derive(Debug)]
pub struct Cpio {
    bytes: Vec<u8>,
    next: u32,
    time: u32,
}

impl Cpio {
    /// An empty one, whose entries have this time.
    pub fn new(epoch: u64) -> Self {
        Self { bytes: Vec::new(), next: 1, time: u32::try_from(epoch).unwrap_or(u32::MAX) }
    }

    /// Adds a directory.
    pub fn directory(&mut self, path: &str) {
        self.entry(path, 0o040_755, (0, 0), &[]);
    }

    /// Adds a file.
    pub fn file(&mut self, path: &str, mode: u32, content: &[u8]) {
        self.entry(path, 0o100_000 | mode, (0, 0), content);
    }

    /// Adds a character device.
    pub fn device(&mut self, path: &str, mode: u32, numbers: (u32, u32)) {
        self.entry(path, 0o020_000 | mode, numbers, &[]);
    }

    fn entry(&mut self, path: &str, mode: u32, (major, minor): (u32, u32), content: &[u8]) {
        let links = if mode & 0o170_000 == 0o040_000 { 2 } else { 1 };
        let fields = [
            self.next,
            mode,
            0,
            0,
            links,
            self.time,
            content.len() as u32,
            0,
            0,
            major,
            minor,
            path.len() as u32 + 1,
            0,
        ];
        self.next += 1;
        self.bytes.extend_from_slice(b"070701");
        fields.iter().for_each(|field| self.bytes.extend_from_slice(format!("{field:08x}").as_bytes()));
        self.bytes.extend_from_slice(path.as_bytes());
        self.bytes.push(0);
        self.align();
        self.bytes.extend_from_slice(content);
        self.align();
    }

    fn align(&mut self) {
        self.bytes.resize(self.bytes.len().next_multiple_of(4), 0);
    }

    /// The whole archive.
    pub fn finish(mut self) -> Vec<u8> {
        self.next = 0;
        self.time = 0;
        self.entry("TRAILER!!!", 0, (0, 0), &[]);
        self.bytes.resize(self.bytes.len().next_multiple_of(512), 0);
        self.bytes
    }
}
