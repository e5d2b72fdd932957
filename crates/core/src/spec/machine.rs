//! The table `[machine]`: how the image is run with a kernel of its own.

use std::ops::Range;

use super::reader::{Reader, TableAt};
use super::{At, Base, rules};
use crate::mistake::{Code, Mistake};

/// Bytes of memory when a spec names none.
const MEMORY: u64 = 1 << 30;
/// Bytes of the writable part when a spec names none.
const DISK: u64 = 8 << 30;

/// A machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Machine {
    /// Where the table stands.
    pub span: Range<usize>,
    /// The package of the kernel.
    pub kernel: At<String>,
    /// Bytes of its memory.
    pub memory: u64,
    /// Its processors.
    pub cpus: u32,
    /// Bytes of what can be written to.
    pub disk: u64,
    /// Each block of the root is proved when it is read.
    pub verity: bool,
}

impl Machine {
    /// The packages that it is started from, beside those of the root: the kernel, and what firmware starts it by.
    pub fn wishes(&self) -> [&str; 2] {
        [&self.kernel.value, STUB]
    }
}

/// The package that has what firmware starts.
pub const STUB: &str = "systemd-boot-efi";

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>, base: Option<&Base>) -> Option<Machine> {
    let span = table.span();
    let kernel = reader.text(table, "kernel");
    let memory = reader.text(table, "memory").and_then(|memory| rules::memory(reader, memory));
    let disk = reader.text(table, "disk").and_then(|disk| rules::memory(reader, disk));
    let cpus = reader.number(table, "cpus").and_then(|cpus| rules::amount(reader, "cpus", cpus, 255));
    let verity = reader.flag(table, "verity");
    let Some(Base::Debian(suite)) = base else {
        // A base that could not be read is reported already.
        if base.is_some() {
            let message = "`machine` takes its kernel from the Debian archive, and the base is from elsewhere";
            let remedy = "leave [machine] out, or take the base from there: [base] with debian = \"trixie\"";
            reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, remedy));
        }
        return None;
    };
    let usual = || At { value: format!("linux-image-cloud-{}", suite.architecture.value), span: span.clone() };
    Some(Machine {
        kernel: kernel.unwrap_or_else(usual),
        memory: memory.unwrap_or(MEMORY),
        cpus: cpus.unwrap_or(1),
        disk: disk.unwrap_or(DISK),
        verity,
        span,
    })
}
