//! What a member's machine must offer.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::At;
use super::reader::{Reader, TableAt};
use super::rules;
use crate::mistake::{Code, Mistake};
use crate::verdict::{Difference, count};

/// Architectures that machines are told apart by, as uname(1) has them.
const ARCHITECTURES: [&str; 6] = ["x86_64", "aarch64", "riscv64", "ppc64le", "s390x", "armv7l"];

/// A version of the kernel: 6.1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Kernel(pub u32, pub u32);

impl Kernel {
    /// The first two numbers of a release: `6.1.0-18-amd64`.
    pub fn of_release(release: &str) -> Option<Self> {
        let mut numbers = release.split(|letter: char| !letter.is_ascii_digit()).map(str::parse);
        Some(Self(numbers.next()?.ok()?, numbers.next().and_then(Result::ok).unwrap_or(0)))
    }
}

impl fmt::Display for Kernel {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{}", self.0, self.1)
    }
}

/// What a spec asks of a machine.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Host {
    /// Bytes of memory that it has.
    pub memory: Option<u64>,
    /// Processors that it has.
    pub processors: Option<u32>,
    /// Bytes that are free where images and workspaces lie, before the image is there.
    pub disk: Option<u64>,
    /// The oldest kernel.
    pub kernel: Option<Kernel>,
    /// Its architecture, one of these; any when empty.
    pub architectures: Vec<String>,
}

/// What a machine is, as far as it could be found out.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Machine {
    /// Bytes of memory.
    pub memory: Option<u64>,
    /// Processors.
    pub processors: Option<u32>,
    /// Bytes that are free; nothing when the image is there already, and needs no more.
    pub disk: Option<u64>,
    /// The kernel's release.
    pub release: String,
    /// The architecture.
    pub architecture: String,
}

impl Host {
    /// Whether nothing is asked.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What of it a machine does not offer. What could not be found out is not held against it.
    pub fn lacking(&self, machine: &Machine) -> Vec<Difference> {
        let mut found = Vec::new();
        let mut compare = |what: &str, wanted: Option<u64>, here: Option<u64>, shown: &dyn Fn(u64) -> String| {
            if let (Some(wanted), Some(here)) = (wanted, here)
                && here < wanted
            {
                found.push(Difference::new(what, format!("at least {}", shown(wanted)), shown(here)));
            }
        };
        // What a machine is sold with is never there whole: the kernel keeps some for itself.
        let kept = self.memory.map(|bytes| bytes - bytes / 16);
        let enough = matches!((kept, machine.memory), (Some(kept), Some(here)) if here >= kept);
        compare("memory", self.memory.filter(|_| !enough), machine.memory, &binary);
        let processors = |number: u64| count(number as usize, "processor");
        compare("processors", self.processors.map(u64::from), machine.processors.map(u64::from), &processors);
        compare("free disk", self.disk, machine.disk, &binary);
        if let (Some(wanted), Some(here)) = (self.kernel, Kernel::of_release(&machine.release))
            && here < wanted
        {
            found.push(Difference::new(
                "kernel",
                format!("Linux {wanted} or newer"),
                format!("Linux {}", machine.release),
            ));
        }
        if !self.architectures.is_empty() && !self.architectures.contains(&machine.architecture) {
            found.push(Difference::new("architecture", self.architectures.join(" or "), machine.architecture.clone()));
        }
        found
    }
}

/// Bytes as specs have them: `1.5 GiB`.
fn binary(bytes: u64) -> String {
    match bytes {
        0..0x4000_0000 => format!("{} MiB", bytes >> 20),
        _ if bytes.trailing_zeros() >= 30 => format!("{} GiB", bytes >> 30),
        _ => format!("{:.1} GiB", bytes as f64 / (1u64 << 30) as f64),
    }
}

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Host {
    let memory = reader.text(table, "memory").and_then(|memory| rules::memory(reader, memory));
    let processors = reader.number(table, "processors");
    let processors = processors.and_then(|number| rules::amount(reader, "processors", number, 4096));
    let disk = reader.text(table, "disk").and_then(|disk| rules::memory(reader, disk));
    let kernel = reader.text(table, "kernel").and_then(|text| kernel(reader, text));
    let texts = reader.texts(table, "architectures").map_or_else(Vec::new, |texts| texts.value);
    for text in &texts {
        rules::one_of(reader, "architectures", text, &ARCHITECTURES);
    }
    let architectures = texts.into_iter().map(|text| text.value).collect();
    Host { memory, processors, disk, kernel, architectures }
}

fn kernel(reader: &mut Reader<'_>, text: At<String>) -> Option<Kernel> {
    let mut numbers = text.value.split('.').map(str::parse);
    if let (Some(Ok(major)), Some(Ok(minor)), None) = (numbers.next(), numbers.next(), numbers.next()) {
        return Some(Kernel(major, minor));
    }
    let message = format!("{:?} is not a version of a kernel", text.value);
    reader.push(Mistake::new(Code::BAD_AMOUNT, text.span, message, "write two numbers, like \"5.15\""));
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_machine_lacks_is_told_with_what_it_has() {
        let host = Host {
            memory: Some(8 << 30),
            processors: Some(4),
            disk: Some(20 << 30),
            kernel: Some(Kernel(5, 15)),
            architectures: vec!["x86_64".to_owned()],
        };
        let enough = Machine {
            // Of 8 GiB, as `MemTotal` has it.
            memory: Some(7_900 << 20),
            processors: Some(4),
            disk: Some(30 << 30),
            release: "6.1.0-18-amd64".to_owned(),
            architecture: "x86_64".to_owned(),
        };
        assert!(host.lacking(&enough).is_empty());
        let small = Machine {
            memory: Some(4 << 30),
            processors: Some(1),
            disk: Some(700 << 20),
            release: "5.4.0".to_owned(),
            architecture: "aarch64".to_owned(),
        };
        let told: Vec<_> = host
            .lacking(&small)
            .into_iter()
            .map(|one| format!("{}: {}, {}", one.what, one.expected, one.here))
            .collect();
        assert_eq!(
            told,
            [
                "memory: at least 8 GiB, 4 GiB",
                "processors: at least 4 processors, 1 processor",
                "free disk: at least 20 GiB, 700 MiB",
                "kernel: Linux 5.15 or newer, Linux 5.4.0",
                "architecture: x86_64, aarch64",
            ]
        );
        assert!(host.lacking(&Machine { architecture: "x86_64".to_owned(), ..Machine::default() }).is_empty());
    }
}
