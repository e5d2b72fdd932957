//! What is known here of a copy that somebody watches over, near or far.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{self, BufReader, BufWriter, Write as _};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError, mpsc};
use std::thread;
use std::time::Instant;

use cavrith_core::path::RootPath;
use cavrith_core::synced::wire::{Ask, Outcome, Tell};
use cavrith_core::synced::{Entries, set};
use cavrith_sandbox::locked;

use crate::frames;

/// Answers that wait to be taken; whoever sends more has to wait.
const ANSWERS: usize = 32;

/// Rings when something is to be done.
#[derive(Debug, Default)]
pub(crate) struct Bell {
    rung: Mutex<bool>,
    condition: Condvar,
}

impl Bell {
    pub fn ring(&self) {
        *locked(&self.rung) = true;
        self.condition.notify_all();
    }

    /// Waits for the next ring, or until then.
    pub fn wait(&self, until: Option<Instant>) {
        let mut rung = locked(&self.rung);
        while !*rung {
            rung = match until.map(|until| until.saturating_duration_since(Instant::now())) {
                Some(rest) if rest.is_zero() => return,
                Some(rest) => self.condition.wait_timeout(rung, rest).unwrap_or_else(PoisonError::into_inner).0,
                None => self.condition.wait(rung).unwrap_or_else(PoisonError::into_inner),
            };
        }
        *rung = false;
    }
}

/// What a copy is known to hold.
#[derive(Debug, Default)]
pub(crate) struct Mirror {
    pub entries: Entries,
    /// Where it has become otherwise since somebody asked.
    pub touched: BTreeSet<RootPath>,
    /// All of it was told; this is its number.
    pub listed: Option<String>,
    /// Paths that cannot be carried over, and why.
    pub troubles: BTreeMap<RootPath, String>,
    /// It is not there any more, and why.
    pub gone: Option<String>,
}

/// A copy, from here.
#[derive(Debug)]
pub(crate) struct Far {
    out: Mutex<BufWriter<UnixStream>>,
    mirror: Arc<Mutex<Mirror>>,
    answers: Mutex<mpsc::Receiver<Tell>>,
}

impl Far {
    /// Listens to whoever watches over the copy.
    pub fn new(stream: UnixStream, bell: Arc<Bell>) -> io::Result<Self> {
        let (mirror, out) = (Arc::<Mutex<Mirror>>::default(), stream.try_clone()?);
        let (answer, answers) = mpsc::sync_channel(ANSWERS);
        let hearing = Arc::clone(&mirror);
        thread::Builder::new().name("mirror".to_owned()).spawn(move || {
            let why = hear(BufReader::with_capacity(1 << 16, stream), &hearing, &answer, &bell);
            locked(&hearing).gone = Some(why);
            bell.ring();
        })?;
        let out = Mutex::new(BufWriter::with_capacity(1 << 16, out));
        Ok(Self { out, mirror, answers: Mutex::new(answers) })
    }

    pub fn mirror(&self) -> MutexGuard<'_, Mirror> {
        locked(&self.mirror)
    }

    /// Asks for something, with what is asked next.
    pub fn ask(&self, ask: &Ask) -> io::Result<()> {
        frames::send(ask, &mut *locked(&self.out))
    }

    /// Has it hear what was asked up to now.
    pub fn flush(&self) -> io::Result<()> {
        locked(&self.out).flush()
    }

    /// The next answer; before it is waited for, `before` is done.
    pub fn answer_after(&self, before: impl FnOnce() -> io::Result<()>) -> io::Result<Tell> {
        let answers = locked(&self.answers);
        if let Ok(answer) = answers.try_recv() {
            return Ok(answer);
        }
        before()?;
        answers.recv().map_err(|_| io::ErrorKind::UnexpectedEof.into())
    }

    /// The next answer.
    pub fn answer(&self) -> io::Result<Tell> {
        self.answer_after(|| Ok(()))
    }

    /// Asks for something that is answered by its being done.
    pub fn ask_ready(&self, ask: &Ask) -> io::Result<()> {
        self.ask(ask)?;
        self.flush()?;
        match self.answer()? {
            Tell::Ready => Ok(()),
            Tell::Done(Outcome::Failed(why)) => Err(io::Error::other(why)),
            _ => Err(io::ErrorKind::InvalidData.into()),
        }
    }
}

impl Drop for Far {
    fn drop(&mut self) {
        let _ = locked(&self.out).get_ref().shutdown(std::net::Shutdown::Both);
    }
}

/// Listens until the other end is gone, and says why it is.
fn hear(
    mut from: BufReader<UnixStream>,
    mirror: &Mutex<Mirror>,
    answer: &mpsc::SyncSender<Tell>,
    bell: &Bell,
) -> String {
    loop {
        match frames::receive(&mut from) {
            Ok(Some(Tell::Are(all))) => {
                let mut mirror = locked(mirror);
                for (path, entry) in all {
                    mirror.touched.insert(path.clone());
                    set(&mut mirror.entries, path, entry);
                }
            }
            Ok(Some(Tell::Listed(number))) => locked(mirror).listed = Some(number),
            Ok(Some(Tell::Trouble(path, why))) => {
                let mut mirror = locked(mirror);
                match why {
                    Some(why) => drop(mirror.troubles.insert(path, why)),
                    None => {
                        mirror.troubles.remove(&path);
                        mirror.touched.insert(path);
                    }
                }
            }
            Ok(Some(other)) => {
                if answer.send(other).is_err() {
                    return "it is not needed any more".to_owned();
                }
                continue;
            }
            Ok(None) => return "its other end is gone".to_owned(),
            Err(error) => return error.to_string(),
        }
        bell.ring();
    }
}
