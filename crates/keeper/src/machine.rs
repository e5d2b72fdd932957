//! What a workspace runs in, made of a virtual machine: a hypervisor, its monitor, and a process of ours within.
//!
//! The layers are the root of the machine, in a file of their own; what is written lies on a disk of the workspace's. The
//! process within ([`inside`]) furnishes the inside as [`crate::namespaces`] does here, and reports what PID 1 says.

mod folder;
mod fuse;
pub(crate) mod inside;
mod telling;
mod watching;

use std::collections::HashMap;
use std::fs;
use std::io::{self, Read as _};
use std::os::fd::BorrowedFd;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::Child;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::encode::percent_encoded;
use cavrith_core::spec::Network;
use cavrith_engine::personal::Personal;
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::groups::{GroupLimits, Kept};
use cavrith_sandbox::guest::hypervisor::{self, Hypervisor, Parts};
use cavrith_sandbox::guest::monitor::Monitor;
use cavrith_sandbox::guest::outer::{Outer, Said};
use cavrith_sandbox::job::CommandJob;
use cavrith_sandbox::net::Connector;
use cavrith_sandbox::runtime::{Measured, ReadChanges, RunningCommand, Runtime};
use cavrith_sandbox::{Identity, SandboxError, Session, locked};

use crate::KeeperError;
use crate::cleanup::CleanupList;
use crate::home::ImageHome;
use crate::mounts::{self, FolderRoots};
use crate::namespaces::{Started, Wanted};
use crate::network::{self, WayOut};
use crate::offered::Offered;
use crate::record::boot;
use crate::ssh::forward::Sockets;
use folder::Folder;
use watching::Changed;

/// What both ends have to be.
const VERSION: &str = env!("CARGO_PKG_VERSION");
/// How long a machine has until the process within says something, when its processor is this machine's own.
const FAST: Duration = Duration::from_secs(10);
/// The same, when the processor is emulated.
const EMULATED: Duration = Duration::from_secs(180);
/// How long the process within has to furnish the inside.
const FURNISHING: Duration = Duration::from_secs(120);
/// How long it has for a small thing.
const MOMENT: Duration = Duration::from_secs(20);
/// How long a machine has to end.
const END: Duration = Duration::from_secs(30);
/// How long the memory of a machine may take to be written.
const SAVING: Duration = Duration::from_secs(300);
/// Where it is noted that this kernel's way to run machines does not work.
const NOT_FAST: &str = "emulated";

/// What the keeper says to the process within.
#[derive(Debug, Serialize, Deserialize)]
enum Wish {
    Begin(Box<Begin>),
    WriteFile {
        inside: String,
        text: String,
    },
    Limit(GroupLimits),
    /// Read what was changed over the root.
    ReadChanges {
        lower: String,
        is_whole: bool,
    },
    /// Tell programs what was changed outside in the live folder with this number.
    Changed {
        folder: usize,
        changes: Vec<Changed>,
    },
    /// Say nothing more after the answer: the machine is halted then.
    Hold,
    /// Go on; the time of day is so many milliseconds since 1970.
    GoOn {
        now: u64,
    },
    End,
}

/// A folder of the inside, an outer one before what lies in it.
#[derive(Debug, Serialize, Deserialize)]
struct InsideFolder {
    /// Where it appears.
    #[serde(with = "cavrith_sandbox::wire::path")]
    inside: PathBuf,
    /// Where its files are.
    place: InsidePlace,
}

/// Where the files of a folder are.
#[derive(Debug, Serialize, Deserialize)]
enum InsidePlace {
    /// Outside.
    Live,
    /// On the machine's disk, under a name; what the image has there comes first.
    Except(String),
    /// On the machine's disk, under a name; when it is new, it belongs to this account.
    Kept(String, Option<String>),
}

/// What the inside is made from.
#[derive(Debug, Serialize, Deserialize)]
struct Begin {
    arrangement: Arrangement,
    apt_sources: Option<String>,
    secrets: SecretValues,
    personal: Personal,
    home: Option<ImageHome>,
    network: bool,
    folders: Vec<InsideFolder>,
    /// What was changed before is set aside, but for kept folders and the home.
    fresh: bool,
}

/// What the process within says.
#[derive(Debug, Serialize, Deserialize)]
enum Answer {
    /// It is there, of this version.
    Here { version: String },
    /// The inside stands.
    Begun { notes: Vec<String>, limits: Vec<String>, kept: Kept, gems: Vec<String> },
    /// What was changed.
    Changes(ReadChanges),
    /// It is done.
    Done,
    /// It could not be done.
    Failed(String),
    /// Somebody asks one of the member's agents; the connection comes with it.
    Caller(usize),
    /// A live folder will be mounted; what its kernel is told unasked goes by what comes with it. It waits for whoever is
    /// in the middle of a request, so no answer may go the same way.
    Notices(usize),
    /// A live folder is mounted; what its kernel asks comes with it. The thread that tells programs what was changed has
    /// this number.
    Folder { number: usize, teller: u32 },
}

fn ended(doing: &str, source: io::Error) -> SandboxError {
    SandboxError::Outside { doing: doing.to_owned(), source }
}

/// Starts the machine and what is in it.
pub(crate) fn start(
    mut parts: Parts,
    wanted: &Wanted<'_>,
    home: Option<ImageHome>,
    cleanup: &CleanupList,
) -> Result<Started, KeeperError> {
    let Wanted { place, arrangement, identity, apt_sources, secrets, personal, .. } = wanted;
    let roots = FolderRoots { project: &place.project, except: &place.dir.join("except"), kept: &place.kept };
    let (folders, live) = folders(&arrangement.folders, roots)?;
    if hypervisor::program().is_none() {
        let what = "a hypervisor: qemu-system-x86_64".to_owned();
        let remedy = "install the package qemu-system-x86, or start it without --machine".to_owned();
        return Err(SandboxError::Lacks { what, remedy }.into());
    }
    parts.network = arrangement.network != Network::None;
    let mut notes = Vec::new();
    let booted = boot_machine(&mut parts, &mut notes)?;
    let Booted { child, monitor, outer, session, says } = booted;
    let note = |table: &str| cleanup.note(&format!("table {table}"));
    let way = network::open(arrangement.network, child.id(), *identity, &note);
    if let Some(lacks) = &way.lacks {
        notes.push(format!("the workspace reaches no other machine: {lacks}"));
    }
    let mut own = (*personal).clone();
    if let Some(git) = &mut own.git {
        // Whoever answers is outside.
        git.env.clear();
    }
    let begin = Begin {
        arrangement: (*arrangement).clone(),
        apt_sources: apt_sources.map(str::to_owned),
        secrets: (*secrets).clone(),
        personal: own,
        home,
        network: way.lacks.is_none() && parts.network,
        folders,
        fresh: parts.fresh,
    };
    let (offered, takers) = Offered::in_machine(personal);
    let telling = Arc::clone(&outer);
    thread::spawn(move || attend(&telling, &says, &live, &takers));
    let machine = Machine {
        session,
        outer,
        runs: Mutex::new(Runs { child, monitor, way: None, on_disk: false, _held: None }),
        identity: *identity,
        network: arrangement.network,
        cleanup: cleanup.clone(),
        frozen: AtomicBool::new(false),
        kept: Mutex::default(),
        console: parts.dir.join("console"),
        parts: parts.clone(),
    };
    let begun = machine.ask::<Answer>(&Wish::Begin(Box::new(begin)), FURNISHING);
    let (more, limits, kept, gems) = match begun.map_err(|error| ended("furnish the machine", error))? {
        Answer::Begun { notes, limits, kept, gems } => (notes, limits, kept, gems),
        Answer::Failed(why) => return Err(SandboxError::Inside(why).into()),
        other => return Err(SandboxError::Inside(format!("go on: the machine said {other:?}")).into()),
    };
    if parts.fresh {
        let _ = fs::remove_file(parts.dir.join(hypervisor::FRESH));
    }
    *locked(&machine.kept) = kept;
    notes.extend(more);
    if let Some(resolver) = way.resolver() {
        machine.write_file(crate::RESOLVER, &resolver).map_err(|error| ended("write the resolver's file", error))?;
    }
    let network = if parts.network { way.how.clone() } else { "none".to_owned() };
    locked(&machine.runs).way = Some(way);
    Ok(Started { runtime: Box::new(machine), notes, limits, network, offered, gems, sockets: Sockets::none() })
}

/// The folders of an arrangement as the process within gets them, and where the live ones are here.
fn folders(parts: &[FolderPart], roots: FolderRoots<'_>) -> Result<(Vec<InsideFolder>, Vec<PathBuf>), KeeperError> {
    let (mut all, mut live) = (Vec::new(), Vec::new());
    for part in parts {
        let inside = PathBuf::from(&part.inside);
        let place = match &part.place {
            FilesPlace::Live(_) => {
                // Places for what is mounted in it are made as anywhere.
                let mounts = mounts::folders(std::slice::from_ref(part), roots)?;
                live.extend(mounts.first().map(|mount| mount.outside.clone()));
                InsidePlace::Live
            }
            FilesPlace::Kept(name, owner) => InsidePlace::Kept(name.clone(), owner.clone()),
        };
        all.push(InsideFolder { inside: inside.clone(), place });
        for except in &part.except {
            let inside = inside.join(except);
            let name = percent_encoded(inside.to_string_lossy().trim_matches('/'), "");
            all.push(InsideFolder { inside, place: InsidePlace::Except(name) });
        }
    }
    Ok((all, live))
}

/// Attends to what the machine says unasked, for as long as it is there.
fn attend(outer: &Arc<Outer>, says: &mpsc::Receiver<Said>, live: &[PathBuf], takers: &[mpsc::Sender<UnixStream>]) {
    let mut notices = HashMap::new();
    while let Ok(Said { what, stream }) = says.recv() {
        match (serde_json::from_value(what), stream) {
            (Ok(Answer::Caller(number)), Some(stream)) => {
                let _ = takers.get(number).map(|taker| taker.send(stream.into()));
            }
            (Ok(Answer::Notices(number)), Some(socket)) => {
                notices.insert(number, socket);
            }
            (Ok(Answer::Folder { number, teller }), Some(socket)) => {
                let (Some(path), Some(notices)) = (live.get(number).cloned(), notices.remove(&number)) else {
                    continue;
                };
                let outer = Arc::clone(outer);
                let tell = Box::new(move |changes| {
                    let wish = serde_json::to_value(Wish::Changed { folder: number, changes });
                    let _ = wish.map(|wish| outer.ask(wish, MOMENT));
                });
                thread::spawn(move || Folder::serve(&path, &socket, teller, (notices, tell)));
            }
            _ => {}
        }
    }
}

/// A machine in which the process within has said that it is there.
struct Booted {
    child: Child,
    monitor: Monitor,
    outer: Arc<Outer>,
    session: Session,
    says: mpsc::Receiver<Said>,
}

/// By the kernel where that works, and emulated where it does not.
fn boot_machine(parts: &mut Parts, notes: &mut Vec<String>) -> Result<Booted, KeeperError> {
    let mark = parts.dir.join(NOT_FAST);
    let is_known = fs::read_to_string(&mark).is_ok_and(|known| known == boot());
    parts.is_fast = hypervisor::may_be_fast() && !is_known;
    if parts.is_fast {
        match attempt(parts, FAST) {
            Ok(booted) => return Ok(booted),
            Err(_) => {
                parts.is_fast = false;
                // Until this machine is started anew nobody has to wait for it again.
                let _ = fs::write(&mark, boot());
            }
        }
    }
    notes.push("the processor is emulated: /dev/kvm is not there, closed to you, or does not work".to_owned());
    Ok(attempt(parts, EMULATED)?)
}

fn attempt(parts: &Parts, limit: Duration) -> Result<Booted, SandboxError> {
    let console = parts.dir.join("console");
    let _ = fs::remove_file(&console);
    let Hypervisor { mut child, port, monitor } =
        hypervisor::start(parts).map_err(|error| ended("start the hypervisor", error))?;
    let outcome = (|| {
        let monitor = Monitor::greet(monitor).map_err(|error| ended("talk to the hypervisor", error))?;
        let (outer, socket, says) = Outer::attend(port).map_err(|error| ended("talk to the machine", error))?;
        let started = Instant::now();
        loop {
            match says.recv_timeout(Duration::from_millis(50)) {
                Ok(said) => match serde_json::from_value(said.what) {
                    Ok(Answer::Here { version }) if version == VERSION => break,
                    _ => return Err(SandboxError::Inside("trust the machine: another version is in it".to_owned())),
                },
                Err(mpsc::RecvTimeoutError::Disconnected) => return Err(SandboxError::Gone),
                Err(mpsc::RecvTimeoutError::Timeout) if outer.is_gone() => return Err(SandboxError::Gone),
                Err(mpsc::RecvTimeoutError::Timeout) if started.elapsed() > limit => {
                    return Err(ended("start the machine", io::ErrorKind::TimedOut.into()));
                }
                Err(mpsc::RecvTimeoutError::Timeout) => {}
            }
        }
        let session = Session::in_machine(Arc::clone(&outer), &socket)?;
        Ok((monitor, outer, session, says))
    })();
    match outcome {
        Ok((monitor, outer, session, says)) => Ok(Booted { child, monitor, outer, session, says }),
        Err(error) => {
            let _ = child.kill();
            let mut said = String::new();
            if let Some(mut stderr) = child.stderr.take() {
                let _ = stderr.read_to_string(&mut said);
            }
            let _ = child.wait();
            let said = format!("{said}{}", last_lines(&console));
            Err(match said.trim() {
                "" => error,
                said => SandboxError::Inside(format!("start the machine: {error}; it said last: {said}")),
            })
        }
    }
}

/// What the machine's console showed last: from where its kernel gave up, if it did.
fn last_lines(console: &Path) -> String {
    let text = cavrith_store::reading::bytes(console).unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    // What firmware writes clears a screen that is not there.
    let lines: Vec<_> = text.lines().filter(|line| !line.trim().is_empty() && !line.contains('\u{1b}')).collect();
    let signs = ["Kernel panic", "BUG: ", "cavrith: ", "Out of memory"];
    let told = lines.iter().rev().find(|line| signs.iter().any(|sign| line.contains(sign)));
    told.or(lines.last()).map(|line| line.trim().to_owned()).unwrap_or_default()
}

/// A machine that runs.
#[derive(Debug)]
struct Machine {
    session: Session,
    outer: Arc<Outer>,
    runs: Mutex<Runs>,
    parts: Parts,
    identity: Identity,
    network: Network,
    cleanup: CleanupList,
    frozen: AtomicBool,
    kept: Mutex<Kept>,
    console: PathBuf,
}

/// The hypervisor, as long as there is one.
#[derive(Debug)]
struct Runs {
    child: Child,
    monitor: Monitor,
    way: Option<WayOut>,
    /// It is on the disk, and has no hypervisor.
    on_disk: bool,
    /// The thread that started the hypervisor, with which it would end, waits for the other end of this.
    _held: Option<mpsc::Sender<()>>,
}

impl Runs {
    fn end(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        drop(self.way.take());
    }
}

impl Machine {
    /// Has the process within go on, by a new port where there is one.
    fn go_on(&self, port: Option<UnixStream>) -> io::Result<()> {
        let wish = serde_json::to_value(Wish::GoOn { now: crate::record::now() })?;
        self.outer.go_on(port, wish, MOMENT).map(drop)
    }

    /// Starts a hypervisor that goes on from the disk.
    fn resume(&self, runs: &mut Runs) -> io::Result<()> {
        let parts = Parts { resume: true, ..self.parts.clone() };
        let ((told, started), (held, holding)) = (mpsc::channel(), mpsc::channel::<()>());
        thread::spawn(move || {
            let _ = told.send(hypervisor::start(&parts));
            // It is killed when the thread ends that started it.
            let _ = holding.recv();
        });
        let Hypervisor { mut child, port, monitor } = started.recv().map_err(io::Error::other)??;
        let monitor = match Monitor::greet(monitor) {
            Ok(monitor) => monitor,
            Err(error) => {
                let _ = child.kill();
                let mut said = String::new();
                let _ = child.stderr.take().map(|mut stderr| stderr.read_to_string(&mut said));
                let _ = child.wait();
                return Err(io::Error::other(format!("{error} {}", said.trim())));
            }
        };
        let note = |table: &str| self.cleanup.note(&format!("table {table}"));
        let way = network::open(self.network, child.id(), self.identity, &note);
        *runs = Runs { child, monitor, way: Some(way), on_disk: false, _held: Some(held) };
        self.go_on(Some(port))
    }

    fn ask<T: DeserializeOwned>(&self, wish: &Wish, limit: Duration) -> io::Result<T> {
        let said = self.outer.ask(serde_json::to_value(wish)?, limit)?;
        Ok(serde_json::from_value(said.what)?)
    }

    fn do_inside(&self, wish: &Wish) -> io::Result<()> {
        match self.ask(wish, MOMENT)? {
            Answer::Failed(why) => Err(io::Error::other(why)),
            _ => Ok(()),
        }
    }
}

impl Runtime for Machine {
    fn start(&self, command: &CommandJob, stdio: [BorrowedFd<'_>; 3]) -> Result<Box<dyn RunningCommand>, SandboxError> {
        self.session.start(command, stdio)
    }

    fn connector(&self) -> Result<Connector, SandboxError> {
        self.session.connector()
    }

    fn changed(&self, path: &str) -> Result<Option<u64>, SandboxError> {
        self.session.changed(path)
    }

    fn signal_all(&self, signal: i32) -> Result<(), SandboxError> {
        self.session.signal_all(signal)
    }

    fn kill_marked(&self, mark: &str) -> Result<(), SandboxError> {
        self.session.kill_marked(mark)
    }

    fn measure(&self) -> Measured {
        if self.frozen.load(Ordering::SeqCst) { Measured::default() } else { self.session.measure() }
    }

    fn freeze(&self, frozen: bool) -> Result<(), SandboxError> {
        let mut runs = locked(&self.runs);
        if runs.on_disk && !frozen {
            self.resume(&mut runs).map_err(|error| ended("let the machine go on from the disk", error))?;
        } else if !runs.on_disk {
            let doing = if frozen { "halt the machine" } else { "let the machine go on" };
            runs.monitor.halt(frozen).map_err(|error| ended(doing, error))?;
        }
        self.frozen.store(frozen, Ordering::SeqCst);
        drop(runs);
        if !frozen {
            // Its clock stood still.
            let _ = self.do_inside(&Wish::GoOn { now: crate::record::now() });
        }
        Ok(())
    }

    fn suspend(&self) -> Result<(), SandboxError> {
        let mut runs = locked(&self.runs);
        let hold = serde_json::to_value(Wish::Hold).map_err(io::Error::from);
        let held = hold.and_then(|hold| self.outer.ask_last(hold, MOMENT));
        held.map_err(|error| ended("have the machine hold still", error))?;
        let saved = runs.monitor.halt(true).and_then(|()| runs.monitor.save(hypervisor::SAVED, SAVING));
        if let Err(error) = saved {
            let _ = runs.monitor.halt(false);
            let _ = self.go_on(None);
            return Err(ended("write the machine to the disk", error));
        }
        runs.end();
        runs.on_disk = true;
        self.frozen.store(true, Ordering::SeqCst);
        Ok(())
    }

    fn limit(&self, limits: GroupLimits) -> io::Result<()> {
        self.do_inside(&Wish::Limit(limits))
    }

    fn kept(&self) -> Kept {
        *locked(&self.kept)
    }

    fn write_file(&self, inside: &str, text: &str) -> io::Result<()> {
        self.do_inside(&Wish::WriteFile { inside: inside.to_owned(), text: text.to_owned() })
    }

    fn when_gone(&self, then: Box<dyn FnOnce() + Send>) {
        self.session.when_gone(then);
    }

    fn read_changes(&self, lower: &str, is_whole: bool) -> Option<io::Result<ReadChanges>> {
        let wish = Wish::ReadChanges { lower: lower.to_owned(), is_whole };
        Some(match self.ask(&wish, FURNISHING) {
            Ok(Answer::Changes(changes)) => Ok(changes),
            Ok(Answer::Failed(why)) => Err(io::Error::other(why)),
            Ok(_) => Err(io::ErrorKind::InvalidData.into()),
            Err(error) => Err(error),
        })
    }

    fn last_words(&self) -> Option<String> {
        Some(last_lines(&self.console)).filter(|lines| !lines.is_empty())
    }

    fn end(&self) {
        if self.frozen.load(Ordering::SeqCst) {
            let _ = self.freeze(false);
        }
        // What was written is on its disk when it has gone.
        let asked = self.do_inside(&Wish::End);
        let mut runs = locked(&self.runs);
        let until = Instant::now() + if asked.is_ok() { END } else { Duration::ZERO };
        while matches!(runs.child.try_wait(), Ok(None)) && Instant::now() < until {
            thread::sleep(Duration::from_millis(10));
        }
        runs.end();
        self.outer.give_up();
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        locked(&self.runs).end();
    }
}
