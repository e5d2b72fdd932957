//! Several threads that share the pieces of one task.

use std::sync::atomic::{AtomicUsize, Ordering};

/// How many threads this machine runs at once.
pub fn processors() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Calls `work` once for each number below `count`, on up to `threads` threads, the caller's among them. After an error
/// no further piece is started.
///
/// # Errors
/// The first error of a piece, by thread.
///
/// # Panics
/// When a piece panics.
pub fn each<E: Send>(count: usize, threads: usize, work: impl Fn(usize) -> Result<(), E> + Sync) -> Result<(), E> {
    each_beside(count, threads, work, None::<fn() -> Result<(), E>>)
}

/// As [`each`], while `beside` runs on a thread of its own.
///
/// # Errors
/// As [`each`], and that of `beside`.
///
/// # Panics
/// As [`each`].
pub fn each_beside<E: Send>(
    count: usize,
    threads: usize,
    work: impl Fn(usize) -> Result<(), E> + Sync,
    beside: Option<impl FnOnce() -> Result<(), E> + Send>,
) -> Result<(), E> {
    let next = AtomicUsize::new(0);
    let run = || -> Result<(), E> {
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            if number >= count {
                return Ok(());
            }
            if let Err(error) = work(number) {
                next.store(count, Ordering::Relaxed);
                return Err(error);
            }
        }
    };
    std::thread::scope(|scope| {
        let mut helpers: Vec<_> = (1..threads.min(count)).map(|_| scope.spawn(run)).collect();
        helpers.extend(beside.map(|beside| scope.spawn(beside)));
        let own = run();
        let joined =
            helpers.into_iter().map(|helper| helper.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        joined.fold(own, Result::and)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Mutex;

    #[test]
    fn every_piece_is_done_once_and_none_after_an_error() {
        let done = Mutex::new(Vec::new());
        each(100, 4, |number| -> Result<(), ()> {
            done.lock().unwrap().push(number);
            Ok(())
        })
        .unwrap();
        let mut done = done.into_inner().unwrap();
        done.sort_unstable();
        assert_eq!(done, (0..100).collect::<Vec<_>>());
        let started = AtomicUsize::new(0);
        let failed = each(1000, 1, |number| {
            started.fetch_add(1, Ordering::Relaxed);
            if number == 3 { Err("three") } else { Ok(()) }
        });
        assert_eq!((failed, started.into_inner()), (Err("three"), 4));
        assert_eq!(each_beside(0, 4, |_| Ok(()), Some(|| Err("beside"))), Err("beside"));
    }
}
