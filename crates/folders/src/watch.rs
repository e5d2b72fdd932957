//! Watching over one copy: tells what lies in it, as soon as it changes, and makes changes in it.
//!
//! Every directory is watched (inotify(7)). An event only says where to look: what is told is what is there. Our own
//! changes are known when their events come, so they are told once, with the answer.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::{self, BufReader, BufWriter, Write as _};
use std::mem::MaybeUninit;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};
use std::thread;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};
use rustix::io::Errno;

use cavrith_core::path::RootPath;
use cavrith_core::synced::wire::{Ask, MANY, Outcome, Part, Tell};
use cavrith_core::synced::{Entry, Rules, TEMPORARY, What, subtree};
use cavrith_sandbox::locked;

use crate::copy::{self, Coming, Copy, Given, Made, Peeked, Seen, Target};
use crate::frames;

/// How long events are gathered before anybody looks.
const GATHERED: Duration = Duration::from_millis(10);
/// How often everything is looked at where not every directory can be watched.
const ROUND: Duration = Duration::from_secs(2);
/// When a file is looked at again that was being written.
const AGAIN: Duration = Duration::from_millis(30);
/// A file that takes long to read is left alone for so many times as long.
const REST: u32 = 4;
/// Files that are read at the same time.
const READERS: usize = 4;

/// A copy that is watched over.
#[derive(Debug)]
pub struct Watch {
    copy: Copy,
    /// What tells this copy from all others.
    number: String,
    /// What was seen is remembered here, so that an unchanged file is not read again at the next start.
    memory: PathBuf,
    inotify: OwnedFd,
    state: Mutex<State>,
    out: Mutex<BufWriter<UnixStream>>,
}

#[derive(Debug, Default)]
struct State {
    seen: BTreeMap<RootPath, Seen>,
    watched: HashMap<i32, RootPath>,
    /// The same, the other way around. A directory that was removed is in neither, also when another one has its name
    /// and the number of its file by now.
    watches: HashMap<RootPath, i32>,
    /// Looked at later, and when.
    later: BTreeMap<RootPath, Instant>,
    /// Paths that cannot be read.
    troubled: BTreeSet<RootPath>,
    /// Not every directory could be watched.
    unwatched: bool,
}

impl Watch {
    /// Watches over a copy with this number, and does what is asked over the stream, until the other end is gone. What
    /// it has seen is remembered in a file.
    ///
    /// # Errors
    /// When the copy is no directory, or the other end says something that means nothing.
    pub fn serve(dir: &Path, (number, memory): (String, PathBuf), rules: Rules, stream: UnixStream) -> io::Result<()> {
        let inotify = inotify::init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK)?;
        let out = Mutex::new(BufWriter::with_capacity(1 << 16, stream.try_clone()?));
        let watch =
            Arc::new(Self { copy: Copy::open(dir, rules)?, number, memory, inotify, state: Mutex::default(), out });
        watch.begin()?;
        let (following, hangs_up) = (Arc::clone(&watch), stream.try_clone()?);
        thread::Builder::new().name("watching".to_owned()).spawn(move || following.follow(&hangs_up))?;
        let outcome = watch.answer(&mut BufReader::with_capacity(1 << 16, stream.try_clone()?));
        let _ = stream.shutdown(std::net::Shutdown::Both);
        outcome
    }

    /// Tells something, with what is told next.
    fn tell(&self, what: &Tell) -> io::Result<()> {
        frames::send(what, &mut *locked(&self.out))
    }

    fn flush(&self) -> io::Result<()> {
        locked(&self.out).flush()
    }

    /// Tells everything that is there.
    fn begin(&self) -> io::Result<()> {
        let mut state = locked(&self.state);
        // It counts for what it says: of a file that has any other time, length or number, nothing is believed.
        let remembered = std::fs::read(&self.memory).map(|bytes| copy::decode(&bytes)).unwrap_or_default();
        self.look_with(&mut state, &BTreeSet::from([RootPath::root()]), remembered)?;
        self.tell(&Tell::Listed(self.number.clone()))?;
        self.flush()
    }

    /// Looks whenever something has changed.
    fn follow(&self, stream: &UnixStream) {
        loop {
            let wait = {
                let state = locked(&self.state);
                let next = state.later.values().min().map(|at| at.saturating_duration_since(Instant::now()));
                if state.unwatched { Some(next.unwrap_or(ROUND).min(ROUND)) } else { next }
            };
            match wait_for(&self.inotify, stream, wait) {
                Woken::Gone => return,
                Woken::Event => thread::sleep(GATHERED),
                Woken::Time => {}
            }
            let mut state = locked(&self.state);
            if self.catch_up(&mut state, false).is_err() {
                return;
            }
        }
    }

    /// Looks wherever something has changed up to now; with `all`, also where that was put off.
    fn catch_up(&self, state: &mut State, all: bool) -> io::Result<()> {
        let mut paths = self.drain(state);
        let now = Instant::now();
        paths.extend(state.later.iter().filter(|(_, at)| all || **at <= now).map(|(path, _)| path.clone()));
        if !all {
            // What was put off stays so, though it has changed again.
            let waits = |path: &RootPath| state.later.get(path).is_some_and(|at| *at > now);
            paths.retain(|path| !waits(path));
        }
        if state.unwatched {
            paths.insert(RootPath::root());
        }
        if paths.is_empty() { Ok(()) } else { self.look(state, &paths) }
    }

    /// Where something has happened.
    fn drain(&self, state: &mut State) -> BTreeSet<RootPath> {
        let mut buffer = [MaybeUninit::uninit(); 64 << 10];
        let mut reader = inotify::Reader::new(&self.inotify, &mut buffer);
        let mut paths = BTreeSet::new();
        loop {
            match reader.next() {
                Ok(event) if event.events().contains(ReadFlags::QUEUE_OVERFLOW) => {
                    paths.insert(RootPath::root());
                }
                Ok(event) if event.events().contains(ReadFlags::IGNORED) => {
                    if let Some(path) = state.watched.remove(&event.wd())
                        && state.watches.get(&path) == Some(&event.wd())
                    {
                        state.watches.remove(&path);
                    }
                }
                Ok(event) => {
                    let directory = state.watched.get(&event.wd());
                    let name = event.file_name().map(std::ffi::CStr::to_bytes);
                    // Files on their way are told when they are there.
                    let name = name.filter(|name| !name.starts_with(TEMPORARY.as_bytes()));
                    paths.extend(directory.zip(name).and_then(|(directory, name)| directory.join(name).ok()));
                }
                Err(Errno::INTR) => {}
                Err(_) => return paths,
            }
        }
    }

    /// Looks at some paths, and tells what is otherwise than it was.
    fn look(&self, state: &mut State, paths: &BTreeSet<RootPath>) -> io::Result<()> {
        self.look_with(state, paths, HashMap::new())
    }

    fn look_with(&self, state: &mut State, paths: &BTreeSet<RootPath>, moved: HashMap<u64, Seen>) -> io::Result<()> {
        let mut look = Look { watch: self, state, found: Vec::new(), gone: Vec::new(), files: Vec::new(), moved };
        for path in paths {
            look.state.later.remove(path);
            look.visit(path);
        }
        look.read_files();
        look.tell()
    }

    /// Does what is asked, one after the other.
    fn answer(&self, from: &mut BufReader<UnixStream>) -> io::Result<()> {
        loop {
            // Answers go together while there is more to do.
            if from.buffer().is_empty() {
                self.flush()?;
            }
            let Some(ask) = frames::receive::<Ask>(from)? else { return Ok(()) };
            match ask {
                Ask::Get(path) => self.give(&path)?,
                Ask::Put { path, expected, wanted } if matches!(wanted.what, What::File { .. }) => {
                    let made = self.receive(from, &path, expected.as_ref(), &wanted)?;
                    self.made(made.0, path, made.1)?;
                }
                Ask::Put { path, expected, wanted } => {
                    let expected = expected.as_ref();
                    self.change(path, expected, |target| self.copy.put(target, &wanted))?;
                }
                Ask::Remove { path, expected } => {
                    self.change(path, Some(&expected), |target| self.copy.remove(target))?;
                }
                Ask::Dress { path, expected, wanted } => {
                    self.change(path, Some(&expected), |target| self.copy.dress(target, &wanted))?;
                }
                Ask::Flush => {
                    self.catch_up(&mut locked(&self.state), true)?;
                    self.tell(&Tell::Ready)?;
                }
                Ask::Persist => {
                    self.persisted()?;
                }
                Ask::Finish => {
                    let seen = copy::encode(locked(&self.state).seen.values());
                    // Without it, the files are read again.
                    let _ = cavrith_store::atomic::write(&self.memory, &seen);
                    self.persisted()?;
                }
                Ask::Part(_) => return Err(io::ErrorKind::InvalidData.into()),
            }
        }
    }

    fn give(&self, path: &RootPath) -> io::Result<()> {
        let mut began = false;
        let outcome = self.copy.give(path, &mut |given| {
            began = true;
            self.tell(&match given {
                Given::Is(entry) => Tell::Is(entry),
                Given::Part(part) => Tell::Part(part),
            })
        });
        match outcome {
            Ok(true) => Ok(()),
            // It had begun only when the other end is gone.
            Err(error) if began => Err(error),
            Ok(false) | Err(_) => self.tell(&Tell::Gone),
        }
    }

    fn change(
        &self,
        path: RootPath,
        expected: Option<&Entry>,
        make: impl FnOnce(Target<'_>) -> io::Result<Made>,
    ) -> io::Result<()> {
        let state = locked(&self.state);
        let seen = state.seen.get(&path).cloned();
        let made = make(Target { path: &path, expected, seen: seen.as_ref() });
        self.made(state, path, made)
    }

    /// Says whether everything is on the disk: what is not must not be taken for agreed.
    fn persisted(&self) -> io::Result<()> {
        self.tell(&match self.copy.persist() {
            Ok(()) => Tell::Ready,
            Err(error) => Tell::Done(Outcome::Failed(error.to_string())),
        })
    }

    /// Takes in a file, and puts it in its place.
    fn receive(
        &self,
        from: &mut impl io::Read,
        path: &RootPath,
        expected: Option<&Entry>,
        wanted: &Entry,
    ) -> io::Result<(MutexGuard<'_, State>, io::Result<Made>)> {
        let mut coming: io::Result<Coming> = self.copy.begin(path);
        loop {
            match frames::receive::<Ask>(from)? {
                Some(Ask::Part(Part::Bytes(bytes))) => {
                    // All of it is taken from the stream, wherever it ends up.
                    if let Ok(file) = &mut coming
                        && let Err(error) = file.take(&bytes)
                    {
                        coming = Err(error);
                    }
                }
                Some(Ask::Part(Part::End(size, digest))) => {
                    let state = locked(&self.state);
                    let seen = state.seen.get(path).cloned();
                    let target = Target { path, expected, seen: seen.as_ref() };
                    let made = match coming {
                        Ok(coming) => self.copy.put_file(coming, target, wanted, (size, digest)),
                        Err(error) => Err(error),
                    };
                    return Ok((state, made));
                }
                Some(Ask::Part(Part::Broken)) => return Ok((locked(&self.state), Ok(Made::Otherwise))),
                _ => return Err(io::ErrorKind::InvalidData.into()),
            }
        }
    }

    /// Tells what came of a change: what is there, and then that it is done.
    fn made(&self, mut state: MutexGuard<'_, State>, path: RootPath, made: io::Result<Made>) -> io::Result<()> {
        let outcome = match made {
            Ok(Made::Made(seen)) => {
                let entry = seen.as_ref().map(|seen| seen.entry.clone());
                match seen {
                    Some(seen) => {
                        if seen.entry.what.is_directory() {
                            // What is gone again is told by the directory that it was in.
                            let _ = self.watch(&mut state, &path);
                        }
                        if seen.is_unsettled() {
                            state.later.insert(path.clone(), Instant::now() + AGAIN);
                        }
                        state.seen.insert(path.clone(), seen);
                    }
                    None => drop(state.seen.remove(&path)),
                }
                self.tell(&Tell::Are(vec![(path, entry)]))?;
                Outcome::Made
            }
            Ok(Made::Holds) => {
                self.look(&mut state, &BTreeSet::from([path]))?;
                Outcome::Holds
            }
            // Its directory may be the one that is gone.
            Ok(Made::Otherwise) => self.otherwise(&mut state, path)?,
            Err(error) if crate::is_absent(&error) => self.otherwise(&mut state, path)?,
            Err(error) => Outcome::Failed(error.to_string()),
        };
        self.tell(&Tell::Done(outcome))
    }

    fn otherwise(&self, state: &mut State, path: RootPath) -> io::Result<Outcome> {
        let above = path.ancestors().into_iter().filter(|above| !above.is_root());
        let paths = above.chain([path.clone()]).collect();
        self.look(state, &paths)?;
        Ok(Outcome::Otherwise)
    }

    /// Watches a directory, and gives it.
    fn watch(&self, state: &mut State, path: &RootPath) -> io::Result<OwnedFd> {
        let directory = self.copy.directory(path)?;
        let named = format!("/proc/self/fd/{}", directory.as_raw_fd());
        let events = WatchFlags::CREATE | WatchFlags::DELETE | WatchFlags::MOVED_FROM | WatchFlags::MOVED_TO;
        let events = events | WatchFlags::MODIFY | WatchFlags::ATTRIB | WatchFlags::ONLYDIR;
        match inotify::add_watch(&self.inotify, named.as_str(), events) {
            Ok(number) => {
                state.watches.insert(path.clone(), number);
                if let Some(before) = state.watched.insert(number, path.clone()).filter(|before| before != path) {
                    state.watches.remove(&before);
                }
            }
            Err(_) => state.unwatched = true,
        }
        Ok(directory)
    }
}

/// One look around.
struct Look<'a> {
    watch: &'a Watch,
    state: &'a mut State,
    /// What was found otherwise.
    found: Vec<(RootPath, Seen)>,
    gone: Vec<RootPath>,
    /// Files that have to be read.
    files: Vec<(RootPath, u64)>,
    /// What is gone from its place, by the number of its file: it may be in another one.
    moved: HashMap<u64, Seen>,
}

impl Look<'_> {
    fn visit(&mut self, path: &RootPath) {
        if path.is_root() {
            return self.enter(path);
        }
        let rules = &self.watch.copy.rules;
        if path.ancestors().iter().all(|above| above.is_root() || rules.crosses(above, true)) {
            self.visit_found(path, self.watch.copy.peek(path), false);
        }
    }

    /// Looks at what was found at a path; with `all`, also in a directory that is watched.
    fn visit_found(&mut self, path: &RootPath, found: io::Result<Option<Peeked>>, all: bool) {
        let there = match found {
            Ok(Some(there)) => there,
            Ok(None) => return self.leave(path),
            Err(error) => return self.trouble(path, &error),
        };
        let seen = self.state.seen.get(path);
        let Some(directory) = Seen::directory(&there) else {
            if !seen.is_some_and(|seen| !seen.entry.what.is_directory() && seen.is_still(&there)) {
                self.files.push((path.clone(), there.inode()));
            }
            return;
        };
        let is_same = seen.is_some_and(|seen| seen.entry.what.is_directory() && seen.inode() == directory.inode());
        if seen.is_none_or(|seen| seen.entry != directory.entry) || !is_same {
            self.found.push((path.clone(), directory));
        }
        let is_watched = self.state.unwatched || self.state.watches.contains_key(path);
        if all || !is_same || !is_watched {
            self.enter(path);
        }
    }

    /// Looks at everything in a directory.
    fn enter(&mut self, path: &RootPath) {
        let directory = match self.watch.watch(self.state, path) {
            Ok(directory) => directory,
            Err(error) if crate::is_absent(&error) => return self.leave(path),
            Err(error) => return self.trouble(path, &error),
        };
        let listed = rustix::fs::Dir::read_from(&directory).map_err(io::Error::from);
        let names = listed.and_then(|listing| {
            let names = listing.map(|entry| Ok(entry?.file_name().to_bytes().to_vec()));
            names.collect::<io::Result<Vec<_>>>()
        });
        let names = match names {
            Ok(names) => names,
            Err(error) => return self.trouble(path, &error),
        };
        let mut there = BTreeMap::new();
        for name in names.iter().filter(|name| *name != b"." && *name != b"..") {
            self.watch.copy.clear(&directory, name);
            if let Ok(path) = path.join(name) {
                let found = self.watch.copy.peek_in(&directory, name, &path);
                there.insert(path, found);
            }
        }
        // Not held while what is in it is looked at, which may be deep.
        drop(directory);
        self.untroubled_itself(path);
        let known = subtree(&self.state.seen, path).map(|(known, _)| known);
        let known = known.filter(|known| known.parent().as_ref() == Some(path) && !there.contains_key(*known));
        let gone: Vec<_> = known.cloned().collect();
        gone.iter().for_each(|path| self.leave(path));
        for (path, found) in there {
            self.visit_found(&path, found, true);
        }
    }

    /// Nothing is there any more.
    fn leave(&mut self, path: &RootPath) {
        let lost: Vec<_> = subtree(&self.state.seen, path).map(|(path, _)| path.clone()).collect();
        for path in &lost {
            if let Some(seen) = self.state.seen.remove(path) {
                self.moved.insert(seen.inode(), seen);
            }
        }
        if !lost.is_empty() {
            self.gone.push(path.clone());
        }
        self.state.later.retain(|later, _| !later.lies_in(path));
        self.untroubled(path);
    }

    /// What cannot be read stays what it was.
    fn trouble(&mut self, path: &RootPath, error: &io::Error) {
        if !path.is_root() && self.state.troubled.insert(path.clone()) {
            let _ = self.watch.tell(&Tell::Trouble(path.clone(), Some(error.to_string())));
        }
    }

    fn untroubled_itself(&mut self, path: &RootPath) {
        if self.state.troubled.remove(path) {
            let _ = self.watch.tell(&Tell::Trouble(path.clone(), None));
        }
    }

    /// Nothing is wrong any more at a path and below it.
    fn untroubled(&mut self, path: &RootPath) {
        let over: Vec<_> = self.state.troubled.iter().filter(|one| one.lies_in(path)).cloned().collect();
        for path in over {
            self.state.troubled.remove(&path);
            let _ = self.watch.tell(&Tell::Trouble(path, None));
        }
    }

    /// Reads the files, some at a time.
    fn read_files(&mut self) {
        let files = std::mem::take(&mut self.files);
        let next = std::sync::atomic::AtomicUsize::new(0);
        let (watch, state, moved) = (self.watch, &*self.state, &self.moved);
        let read = || {
            let mut all = Vec::new();
            while let Some((path, inode)) = files.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed)) {
                let seen = state.seen.get(path).or_else(|| moved.get(inode));
                let began = Instant::now();
                all.push((path, watch.copy.look(path, seen), began.elapsed()));
            }
            all
        };
        let found: Vec<_> = if files.len() < 2 * READERS {
            read()
        } else {
            thread::scope(|scope| {
                let threads: Vec<_> = (0..READERS).map(|_| scope.spawn(read)).collect();
                threads.into_iter().filter_map(|thread| thread.join().ok()).flatten().collect()
            })
        };
        for (path, outcome, took) in found {
            match outcome {
                Ok(Some(there)) => {
                    self.untroubled(path);
                    if there.is_unsettled() {
                        self.state.later.insert(path.clone(), Instant::now() + (took * REST).max(AGAIN));
                    }
                    let seen = self.state.seen.get(path);
                    if seen.is_none_or(|seen| seen.entry != there.entry) {
                        self.found.push((path.clone(), there));
                    } else {
                        self.state.seen.insert(path.clone(), there);
                    }
                }
                Ok(None) => self.leave(path),
                Err(error) => self.trouble(path, &error),
            }
        }
    }

    /// Tells what is otherwise: first what is gone.
    fn tell(self) -> io::Result<()> {
        let mut all: Vec<(RootPath, Option<Entry>)> = self.gone.into_iter().map(|path| (path, None)).collect();
        let mut found = self.found;
        found.sort_by(|(one, _), (other, _)| one.cmp(other));
        for (path, seen) in found {
            if !seen.entry.what.is_directory() {
                // It was a directory, perhaps.
                let below: Vec<_> = subtree(&self.state.seen, &path).map(|(below, _)| below.clone()).collect();
                below.iter().for_each(|below| drop(self.state.seen.remove(below)));
            }
            all.push((path.clone(), Some(seen.entry.clone())));
            self.state.seen.insert(path, seen);
        }
        while !all.is_empty() {
            let rest = all.split_off(all.len().min(MANY));
            self.watch.tell(&Tell::Are(all))?;
            all = rest;
        }
        self.watch.flush()
    }
}

enum Woken {
    Event,
    Time,
    Gone,
}

/// Waits for an event, for some time, or until the other end is gone.
fn wait_for(inotify: &OwnedFd, stream: &UnixStream, time: Option<Duration>) -> Woken {
    let until = time.map(|time| Instant::now() + time);
    loop {
        let mut watched = [PollFd::new(inotify, PollFlags::IN), PollFd::new(stream, PollFlags::RDHUP)];
        let rest = until.map(|until| until.saturating_duration_since(Instant::now()));
        let limit = rest.and_then(|rest| Timespec::try_from(rest).ok());
        match poll(&mut watched, limit.as_ref()) {
            Ok(0) => return Woken::Time,
            Ok(_) => {}
            Err(Errno::INTR) => continue,
            Err(_) => return Woken::Gone,
        }
        if !watched[1].revents().is_empty() {
            return Woken::Gone;
        }
        if !watched[0].revents().is_empty() {
            return Woken::Event;
        }
    }
}
