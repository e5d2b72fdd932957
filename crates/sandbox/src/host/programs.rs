//! Programs of this machine.

use std::path::PathBuf;

/// A program of this machine: in `PATH`, or where administrators' programs lie. Parts of `PATH` that are no absolute
/// path are passed over, since they stand for wherever the member happens to be, which may be a stranger's clone.
pub fn find_program(name: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let places = std::env::split_paths(&path).chain(["/usr/sbin", "/sbin", "/usr/bin"].map(PathBuf::from));
    places.filter(|place| place.is_absolute()).map(|place| place.join(name)).find(|program| program.is_file())
}

/// The first process of machines, a program without any library (`machine/first.rs`); empty where there is none for
/// this architecture.
pub static FIRST_PROCESS: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/first"));
