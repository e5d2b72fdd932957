//! What a keeper's threads share, and what they tell.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError, mpsc};
use std::thread;
use std::time::Duration;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::{ImageKey, TreeDigest};
use cavrith_core::spec::secret::Runs;
use cavrith_engine::error::file_error;
use cavrith_engine::personal::Personal;
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::job::CommandJob;
use cavrith_sandbox::lines::Lines;
use cavrith_sandbox::net::Connector;
use cavrith_sandbox::runtime::{RunningCommand, Runtime};
use cavrith_sandbox::{Identity, SandboxError, locked};

use crate::KeeperError;
use crate::event_log::EventLog;
use crate::git_credentials;
use crate::journal::Journal;
use crate::launch::Launch;
use crate::namespaces::Started;
use crate::place::Place;
use crate::ports::Forward;
use crate::protocol::{Phase, ServiceStatus, WorkspaceEvent};
use crate::record::{FailedStep, Record, Stamp, Standing, boot, now};
use crate::secrets;
use crate::ssh::forward::Sockets;
use crate::state::Frozen;
use crate::synced::Synced;
use crate::visitors::Visitors;

/// How long members' commands have for their end.
const FAREWELL: Duration = Duration::from_secs(2);

/// A keeper at work.
pub(crate) struct Keeper {
    pub place: Place,
    /// What it runs in.
    pub runtime: Box<dyn Runtime>,
    pub connector: Connector,
    /// Folders outside that are inside, live or as a copy, each with where it appears.
    pub crossing: Vec<(PathBuf, PathBuf)>,
    /// Synced folders.
    pub synced: Vec<Synced>,
    pub shell: String,
    pub logs: PathBuf,
    pub guests: AtomicUsize,
    /// Threads that wait at the door; see [`crate::server`].
    pub porters: AtomicUsize,
    pub identity: Identity,
    /// Values of its secrets, which are nowhere else.
    secrets: SecretValues,
    pub personal: Personal,
    /// The member's own files are in place.
    pub placed: Mutex<bool>,
    /// Versions of Ruby's libraries in the image, by which the member's own gems are found.
    pub gems: Vec<String>,
    /// Where clients' agents are asked for inside.
    pub sockets: Sockets,
    /// Who is let in besides the member.
    pub visitors: Visitors,
    /// What no log may have of them.
    pub hidden: Arc<Vec<String>>,
    /// Nothing is recorded of it.
    pub plain: bool,
    pub network: String,
    overlay_scratch: PathBuf,
    layers: Vec<TreeDigest>,
    pub since: u64,
    pub forward: Mutex<Forward>,
    state: Mutex<State>,
    /// Held while everything is halted, let go on, or ended: none of these begins in the middle of another.
    pub turn: Mutex<()>,
    /// Something in the state is otherwise.
    pub changed: Condvar,
    stop: mpsc::Sender<()>,
}

/// What changes while it works.
pub(crate) struct State {
    pub standing: Standing,
    pub arrangement: Arc<Arrangement>,
    pub events: EventLog,
    /// Everything that was started has come to rest, and that was reported.
    pub settled: bool,
    /// Steps are under way.
    pub opening: bool,
    pub services: BTreeMap<String, Supervised>,
    pub failed_step: Option<FailedStep>,
    /// A port of a changed arrangement could not be carried.
    pub lacks_port: bool,
    /// Marks of steps of the first start that are done.
    pub first_done: Vec<String>,
    /// Marks of steps that were run, or left out, in this run.
    pub ran: Vec<String>,
    pub image_key: ImageKey,
    pub stamps: Vec<Stamp>,
    pub notes: Vec<String>,
    pub limits: Vec<String>,
    ended: Option<u64>,
    fell: bool,
}

/// A service that somebody looks after.
pub(crate) struct Supervised {
    pub status: ServiceStatus,
    pub cancel: Arc<Cancel>,
    pub thread: Option<thread::JoinHandle<()>>,
}

/// Tells a thread that it is to end what it looks after.
pub(crate) struct Cancel {
    flag: AtomicBool,
    /// Hangs up when it is meant.
    pub woken: OwnedFd,
    open: Mutex<Option<OwnedFd>>,
}

impl Cancel {
    pub fn new() -> std::io::Result<Self> {
        let (woken, open) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
        Ok(Self { flag: AtomicBool::new(false), woken, open: Mutex::new(Some(open)) })
    }

    pub fn cancel(&self) {
        self.flag.store(true, Ordering::SeqCst);
        drop(locked(&self.open).take());
    }

    pub fn is_meant(&self) -> bool {
        self.flag.load(Ordering::SeqCst)
    }
}

/// The folders of an arrangement that are outside, too, by where they really lie there.
fn crossing(place: &Place, arrangement: &Arrangement) -> Vec<(PathBuf, PathBuf)> {
    let crossing = arrangement.folders.iter().filter_map(|part| {
        Some((place.project.join(part.place.outside()?).canonicalize().ok()?, PathBuf::from(&part.inside)))
    });
    crossing.collect()
}

fn first_done_path(overlay_scratch: &Path) -> PathBuf {
    overlay_scratch.join(crate::place::FIRST_START)
}

impl Keeper {
    pub fn new(
        job: Launch,
        place: Place,
        started: Started,
        (synced, overlay_scratch): (Vec<Synced>, PathBuf),
        stop: mpsc::Sender<()>,
    ) -> Result<Arc<Self>, KeeperError> {
        let connector = started.runtime.connector()?;
        let crossing = crossing(&place, &job.arrangement);
        let forward = Forward::begin_at(&job.arrangement.ports, &job.personal.ports, &connector)?;
        let visitors = Visitors::new(&place.dir);
        let first_done = fs::read(first_done_path(&overlay_scratch)).unwrap_or_default();
        let state = State {
            standing: Standing::Starting,
            arrangement: Arc::new(job.arrangement),
            events: EventLog::default(),
            settled: false,
            opening: true,
            services: BTreeMap::new(),
            failed_step: None,
            lacks_port: false,
            // A record that cannot be read means that the steps are run again, which their guards are for.
            first_done: serde_json::from_slice(&first_done).unwrap_or_default(),
            ran: Vec::new(),
            image_key: job.image_key,
            stamps: job.stamps,
            notes: started.notes,
            limits: started.limits,
            ended: None,
            fell: false,
        };
        Ok(Arc::new(Self {
            logs: place.dir.join("logs"),
            place,
            runtime: started.runtime,
            connector,
            crossing,
            synced,
            shell: job.shell,
            guests: AtomicUsize::new(0),
            porters: AtomicUsize::new(0),
            identity: job.identity,
            hidden: Arc::new(secrets::hidden(&job.secrets)),
            secrets: job.secrets,
            personal: job.personal,
            placed: Mutex::new(false),
            gems: started.gems,
            sockets: started.sockets,
            visitors,
            plain: job.plain,
            network: started.network,
            overlay_scratch,
            layers: job.layers,
            since: now(),
            forward: Mutex::new(forward),
            state: Mutex::new(state),
            turn: Mutex::new(()),
            changed: Condvar::new(),
            stop,
        }))
    }

    pub fn state(&self) -> MutexGuard<'_, State> {
        locked(&self.state)
    }

    /// The arrangement that is run.
    pub fn arrangement(&self) -> Arc<Arrangement> {
        Arc::clone(&self.state().arrangement)
    }

    /// Has an administrator's `kill` end the workspace in order.
    pub fn watch_signals(self: &Arc<Self>) -> Result<(), KeeperError> {
        let mut signals = Signals::new([SIGTERM, SIGINT, SIGHUP]).map_err(file_error("listen for", "signals"))?;
        let keeper = Arc::clone(self);
        thread::spawn(move || {
            for _ in signals.forever() {
                keeper.ask_to_stop();
            }
        });
        Ok(())
    }

    pub fn ask_to_stop(&self) {
        // The main thread is ending already when nobody listens.
        let _ = self.stop.send(());
    }

    /// Whether the workspace's directory is still the one that we hold.
    pub fn is_in_place(&self, held: &File) -> bool {
        let here = fs::metadata(self.place.dir.join("held")).map(|meta| (meta.dev(), meta.ino()));
        let ours = held.metadata().map(|meta| (meta.dev(), meta.ino()));
        matches!((here, ours), (Ok(here), Ok(ours)) if here == ours)
    }

    /// Has the workspace end when what it runs in does, whoever ended that.
    pub fn follow_runtime(self: &Arc<Self>) {
        let keeper = Arc::downgrade(self);
        self.runtime.when_gone(Box::new(move || {
            let Some(keeper) = keeper.upgrade() else { return };
            if keeper.state().standing == Standing::Stopping {
                return;
            }
            keeper.change(|state| state.fell = true);
            let why = keeper.runtime.last_words().unwrap_or_default();
            let line = format!("[cavrith] what the workspace ran in ended, and nobody had asked it to {why}");
            Journal::new(&keeper.logs, "workspace").line(line.trim_end());
            keeper.ask_to_stop();
        }));
    }

    /// Changes the state, and wakes anyone who waits for that.
    pub fn change<T>(&self, how: impl FnOnce(&mut State) -> T) -> T {
        let outcome = how(&mut self.state());
        self.changed.notify_all();
        outcome
    }

    /// Publishes an event.
    pub fn publish(&self, event: WorkspaceEvent) {
        self.change(|state| state.publish(event));
    }

    /// Shows in the status, in the place of an earlier note that begins so.
    pub fn note_anew(&self, beginning: &str, rest: &str) {
        self.change(|state| {
            state.notes.retain(|note| !note.starts_with(beginning));
            state.notes.push(format!("{beginning}{rest}"));
        });
    }

    /// Takes an earlier note that begins so out of the status.
    pub fn forget_note(&self, beginning: &str) {
        if self.state().notes.iter().any(|note| note.starts_with(beginning)) {
            self.change(|state| state.notes.retain(|note| !note.starts_with(beginning)));
        }
    }

    /// Lets in whoever is invited, and nobody else. Where nobody can come is shown in the status.
    pub fn follow_invitations(self: &Arc<Self>) {
        if self.plain {
            return;
        }
        for (address, error) in self.visitors.follow(self) {
            self.note_anew(&format!("nobody can come at {address}: "), &error.to_string());
        }
    }

    /// Lets the member come by a port, when they want that.
    pub fn open_own_door(self: &Arc<Self>) {
        if let Some(own) = self.personal.own_door.as_ref().filter(|_| !self.plain)
            && let Err(error) = self.visitors.open_own(self, own)
        {
            self.note_anew("there is no port for your SSH: ", &error.to_string());
        }
    }

    /// Waits until `until` has an answer, looking whenever the state has changed.
    pub fn wait_until<T>(&self, until: impl Fn(&State) -> Option<T>) -> T {
        let mut state = self.state();
        loop {
            if let Some(answer) = until(&state) {
                return answer;
            }
            let waited = self.changed.wait_timeout(state, Duration::from_millis(500));
            state = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// Sets how a service stands, and tells it.
    pub fn set_service(&self, name: &str, phase: Phase, detail: &str, last_lines: Vec<String>) {
        self.change(|state| {
            let Some(service) = state.services.get_mut(name) else { return };
            let status = &service.status;
            if (status.phase, status.detail.as_str(), &status.last_lines) == (phase, detail, &last_lines) {
                return;
            }
            if service.status.phase != phase {
                service.status.since = now();
            }
            service.status.phase = phase;
            detail.clone_into(&mut service.status.detail);
            service.status.last_lines = last_lines;
            let event = WorkspaceEvent::Service(service.status.clone());
            state.publish(event);
            state.settle();
        });
    }

    /// Records its state. A disk that refuses must not end the workspace.
    pub fn write_record(&self) {
        if self.plain {
            return;
        }
        let record = {
            let ports = locked(&self.forward).carried();
            let state = self.state();
            Record {
                record: 1,
                keeper: std::process::id(),
                boot: boot(),
                since: self.since,
                arrangement: (*state.arrangement).clone(),
                image_key: state.image_key,
                layers: self.layers.clone(),
                personal: self.personal.what.clone(),
                stamps: state.stamps.clone(),
                failed_step: state.failed_step.clone(),
                ports,
                ended: state.ended,
                fell: state.fell,
            }
        };
        if let Err(error) = record.write(&self.place.dir) {
            self.publish(WorkspaceEvent::Note(error.to_string()));
        }
    }

    /// Remembers that a step of the first start is done over this image.
    pub fn remember_first(&self, mark: String) {
        let done = self.change(|state| {
            state.first_done.push(mark);
            state.first_done.clone()
        });
        let bytes = serde_json::to_vec(&done).unwrap_or_default();
        if let Err(error) = cavrith_store::atomic::write(&first_done_path(&self.overlay_scratch), &bytes) {
            self.publish(WorkspaceEvent::Note(format!("a step of the first start may be carried out again: {error}")));
        }
    }

    /// Remembers that steps ran from then till now.
    pub fn remember_opening(&self, from: u64) {
        if let Err(error) = crate::openings::add(&self.overlay_scratch, from, now()) {
            self.publish(WorkspaceEvent::Note(format!("what steps wrote may be told as changed by hand: {error}")));
        }
    }

    /// A command with the workspace's environment, and some variables more.
    pub fn command(
        &self,
        argv: Vec<String>,
        more: &BTreeMap<String, String>,
        (account, who): (Option<String>, Runs<'_>),
    ) -> CommandJob {
        let arrangement = self.arrangement();
        // What the team says counts before what the member adds.
        let mut env = self.personal.everywhere.clone();
        env.extend(git_credentials::variables(false, !self.synced.is_empty()));
        env.extend(arrangement.setup.env.clone());
        env.extend(secrets::variables(&arrangement.secrets, &self.secrets, who));
        env.extend(more.iter().map(|(name, value)| (name.clone(), value.clone())));
        let directory = arrangement.setup.project.clone();
        CommandJob { argv, env, directory, user: ACCOUNT_ID, group: ACCOUNT_ID, account, ..CommandJob::default() }
    }

    /// Starts a command without input, and gives each line that it writes to `on_line`, in a thread of its own.
    pub fn start_piped(
        &self,
        command: &CommandJob,
        mut on_line: impl FnMut(&str) + Send + 'static,
    ) -> Result<(Box<dyn RunningCommand>, thread::JoinHandle<()>), SandboxError> {
        let outside = |doing: &str| {
            let doing = doing.to_owned();
            move |source| SandboxError::Outside { doing, source }
        };
        let nothing = File::open("/dev/null").map_err(outside("open /dev/null"))?;
        let (output, theirs) = std::io::pipe().map_err(outside("make a pipe"))?;
        let running = self.runtime.start(command, [nothing.as_fd(), theirs.as_fd(), theirs.as_fd()])?;
        drop(theirs);
        let hidden = Arc::clone(&self.hidden);
        let reader = thread::spawn(move || {
            let mut on_line = |line: &str| match hidden.is_empty() {
                true => on_line(line),
                false => on_line(&secrets::masked(line, &hidden)),
            };
            let (mut lines, mut output, mut buffer) = (Lines::default(), output, vec![0; 16 * 1024]);
            loop {
                match std::io::Read::read(&mut output, &mut buffer) {
                    Ok(0) => break,
                    Ok(count) => lines.take(&buffer[..count], &mut on_line),
                    Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                    Err(_) => break,
                }
            }
            lines.finish(&mut on_line);
        });
        Ok((running, reader))
    }

    /// Carries over what was changed last in synced folders, while what they are in is there.
    fn end_synced(&self) {
        for line in self.synced.iter().flat_map(Synced::end) {
            Journal::new(&self.logs, "workspace").line(&format!("[cavrith] {line}"));
        }
    }

    /// Carries over what was changed up to now in synced folders.
    pub fn flush_synced(&self) {
        // What is halted tells nothing.
        if self.state().standing != Standing::Frozen {
            self.synced.iter().for_each(Synced::flush);
        }
    }

    /// Ends everything in order: services first, those that others wait for last, then members' commands, then the
    /// inside.
    pub fn end(&self) {
        let turn = locked(&self.turn);
        let frozen = self.state().standing == Standing::Frozen;
        if frozen {
            let _ = self.freeze(Frozen::Not);
        }
        self.change(|state| state.standing = Standing::Stopping);
        drop(turn);
        self.end_services(|_| true);
        for signal in [SIGHUP, SIGTERM] {
            let _ = self.runtime.signal_all(signal);
        }
        let asked = std::time::Instant::now();
        while self.guests.load(Ordering::SeqCst) > 0 && asked.elapsed() < FAREWELL {
            thread::sleep(Duration::from_millis(10));
        }
        self.end_synced();
        // Without ports there is nothing that could be refused.
        let _ = locked(&self.forward).change(&[]);
        self.runtime.end();
        self.change(|state| {
            state.standing = Standing::Stopped;
            state.ended = Some(now());
        });
        // Somebody may have removed the whole directory, which is then not made again.
        if self.place.dir.is_dir() {
            self.write_record();
        }
    }
}

impl State {
    /// Publishes an event. When all has come to rest nobody watches.
    pub fn publish(&mut self, event: WorkspaceEvent) {
        if !self.settled {
            self.events.push(event);
        }
    }

    /// Tells, once, that everything has come to rest.
    pub fn settle(&mut self) {
        if self.settled || self.opening {
            return;
        }
        let stuck = |service: &Supervised| service.status.phase == Phase::Waiting && !service.status.detail.is_empty();
        let rests = self.services.values().all(|service| service.status.phase.is_rest() || stuck(service));
        if !rests {
            return;
        }
        let fine = |service: &Supervised| matches!(service.status.phase, Phase::Ready | Phase::Over | Phase::Stopped);
        let good = self.failed_step.is_none() && !self.lacks_port && self.services.values().all(fine);
        self.publish(WorkspaceEvent::Settled { good });
        self.settled = true;
        if self.standing == Standing::Starting {
            self.standing = Standing::Running;
        }
    }
}
