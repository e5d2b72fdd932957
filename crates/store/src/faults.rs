//! A seam at which tests let the disk fail: builds for development count what the store is about to write, and
//! `CAVRITH_FAULT` makes one of them fail.
//!
//! `error:N` makes the N-th of them an error (as on a disk that is full), `short:N` lets the N-th write take half of
//! what it was given and the next one fail, `kill:N` ends the process there. In a release nothing of it exists.

use std::io;

/// To be called before the disk is changed.
pub(crate) fn before(doing: &str) -> io::Result<()> {
    before_call(doing, 0).map(|_| ())
}

/// To be called before bytes are written: how many of them may be.
pub(crate) fn before_write(bytes: usize) -> io::Result<usize> {
    before_call("write", bytes)
}

#[cfg(not(debug_assertions))]
fn before_call(_doing: &str, bytes: usize) -> io::Result<usize> {
    Ok(bytes)
}

#[cfg(debug_assertions)]
fn before_call(doing: &str, bytes: usize) -> io::Result<usize> {
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicU64, Ordering};

    /// What is to happen, and at which call.
    static WANTED: OnceLock<Option<(String, u64)>> = OnceLock::new();
    static COUNT: AtomicU64 = AtomicU64::new(0);
    let wanted = WANTED.get_or_init(|| {
        let value = std::env::var("CAVRITH_FAULT").ok()?;
        let (what, number) = value.split_once(':')?;
        Some((what.to_owned(), number.parse().ok()?))
    });
    let Some((what, number)) = wanted else { return Ok(bytes) };
    let count = COUNT.fetch_add(1, Ordering::SeqCst) + 1;
    let full = || io::Error::new(io::ErrorKind::StorageFull, format!("a test let call {number} fail ({doing})"));
    match (what.as_str(), count) {
        ("short", count) if count == *number => Ok(bytes.div_ceil(2)),
        ("short", count) if count == *number + 1 => Err(full()),
        ("error", count) if count == *number => Err(full()),
        ("kill", count) if count == *number => {
            let _ = rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::KILL);
            Err(full())
        }
        _ => Ok(bytes),
    }
}
