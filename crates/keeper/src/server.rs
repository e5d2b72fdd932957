//! The door, and requests at it.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, BorrowedFd, OwnedFd};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::thread;
use std::time::{Duration, Instant};

use cavrith_core::spec::secret::Runs;
use cavrith_engine::error::file_error;
use cavrith_sandbox::job::{CommandJob, Ending};
use cavrith_sandbox::{SandboxError, wire};

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::git_credentials;
use crate::place::give_to_member;
use crate::protocol::{Answer, ExecRequest, Meanwhile, Opening, PROTOCOL, Request, WorkspaceEvent};
use crate::record::Standing;
use crate::state::Frozen;
use crate::work::Keeper;
use crate::{KeeperError, client, own_shell, ssh};
use cavrith_sandbox::locked;

/// Threads that wait at the door when nobody comes, at most.
const PORTERS: usize = 4;
/// How long somebody at the door has to say what they want.
const OPENING: Duration = Duration::from_secs(10);
/// How long somebody has to take what is said to them.
const TAKING: Duration = Duration::from_secs(30);

/// The door, which is closed when this value is dropped.
pub(crate) struct OpenDoor {
    path: PathBuf,
    listener: UnixListener,
}

impl Drop for OpenDoor {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
        let _ = rustix::net::shutdown(self.listener.as_fd(), rustix::net::Shutdown::Both);
    }
}

impl Keeper {
    /// Listens at the door. Each request has a thread for itself.
    pub fn open_door(self: &Arc<Self>) -> Result<OpenDoor, KeeperError> {
        let dir = &self.place.dir;
        let path = dir.join(client::DOOR);
        // A keeper that was killed left its socket.
        let _ = fs::remove_file(&path);
        let opened = File::open(dir).map_err(file_error("open", dir))?;
        let short = Path::new("/proc/self/fd").join(opened.as_raw_fd().to_string()).join(client::DOOR);
        let listener = UnixListener::bind(&short).map_err(file_error("listen at", &path))?;
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600))
            .map_err(file_error("change the rights of", &path))?;
        give_to_member(&path, self.identity)?;
        let accepting = Arc::new(listener.try_clone().map_err(file_error("listen at", &path))?);
        for _ in 0..2 {
            self.add_porter(Arc::clone(&accepting));
        }
        Ok(OpenDoor { path, listener })
    }

    /// A thread more that takes anyone who comes to the door. Some always wait there: making one takes longer than many
    /// a request.
    fn add_porter(self: &Arc<Self>, door: Arc<UnixListener>) {
        let keeper = Arc::clone(self);
        keeper.porters.fetch_add(1, Ordering::SeqCst);
        let made = thread::Builder::new().name("porter".to_owned()).spawn(move || keeper.attend_all(&door));
        if made.is_err() {
            // Anyone who comes waits for one that is busy.
            self.porters.fetch_sub(1, Ordering::SeqCst);
        }
    }

    fn attend_all(self: &Arc<Self>, door: &Arc<UnixListener>) {
        loop {
            match door.accept() {
                Ok((guest, _)) => {
                    if self.porters.fetch_sub(1, Ordering::SeqCst) == 1 {
                        self.add_porter(Arc::clone(door));
                    }
                    // One that goes away, or talks nonsense, ends its own request only.
                    let _ = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| self.attend(&guest)));
                    drop(guest);
                    if self.porters.fetch_add(1, Ordering::SeqCst) >= PORTERS {
                        self.porters.fetch_sub(1, Ordering::SeqCst);
                        return;
                    }
                }
                // The door was closed.
                Err(error) if error.kind() == std::io::ErrorKind::InvalidInput => return,
                // Too many descriptors, or somebody who went away again; the next may fare better.
                Err(_) => thread::sleep(Duration::from_millis(20)),
            }
        }
    }

    /// Attends to one connection.
    pub fn attend(self: &Arc<Self>, guest: &UnixStream) -> io::Result<()> {
        // Anyone who says nothing, or takes nothing, keeps a thread and descriptors; not for ever.
        guest.set_read_timeout(Some(OPENING))?;
        guest.set_write_timeout(Some(TAKING))?;
        let Some((opening, fds)) = wire::receive::<Opening<serde_json::Value>>(guest)? else { return Ok(()) };
        // What comes later is a signal, at any time or never.
        guest.set_read_timeout(None)?;
        if opening.protocol != PROTOCOL {
            return wire::send(guest, &Answer::OtherProtocol { protocol: PROTOCOL }, &[]);
        }
        match serde_json::from_value(opening.request)? {
            Request::Run(visit) => self.host(guest, &visit, fds),
            Request::Ssh { host_key } => {
                let Ok(ends) = <[OwnedFd; 2]>::try_from(fds) else { return Err(io::ErrorKind::InvalidData.into()) };
                match ssh::attend_member(self, &host_key, ends) {
                    Ok(()) => wire::send(guest, &Answer::Done, &[]),
                    Err(error) => wire::send(guest, &Answer::Refused(error.to_string()), &[]),
                }
            }
            Request::Look { name } => {
                let Some(shared) = self.visitors.terminals.of(&name) else {
                    return wire::send(guest, &Answer::Refused(format!("{name} has no terminal open")), &[]);
                };
                let (ours, theirs) = UnixStream::pair()?;
                wire::send(guest, &Answer::Started, &[theirs.as_fd()])?;
                drop(theirs);
                shared.show(ours)?;
                wire::send(guest, &Answer::Ended(Ending::Code(0)), &[])
            }
            Request::Dial { port } => match self.connector.connect(port) {
                Ok(socket) => wire::send(guest, &Answer::Started, &[socket.as_fd()]),
                Err(error) => wire::send(guest, &Answer::Refused(error.to_string()), &[]),
            },
            Request::Admit => {
                let failed = self.visitors.follow(self);
                let why = failed.iter().map(|(address, error)| format!("nobody can come at {address}: {error}"));
                match why.collect::<Vec<_>>() {
                    why if why.is_empty() => wire::send(guest, &Answer::Done, &[]),
                    why => wire::send(guest, &Answer::Refused(why.join("; ")), &[]),
                }
            }
            Request::ReadChanges { lower, is_whole } => match self.runtime.read_changes(&lower, is_whole).transpose() {
                Ok(changes) => wire::send(guest, &Answer::Changes(changes), &[]),
                Err(error) => wire::send(guest, &Answer::Refused(error.to_string()), &[]),
            },
            Request::Settle { path, side } => {
                let settled = self.synced.iter().find_map(|folder| folder.settle(&path, side));
                match settled {
                    Some(Ok(())) => wire::send(guest, &Answer::Done, &[]),
                    Some(Err(why)) => wire::send(guest, &Answer::Refused(why), &[]),
                    None => wire::send(guest, &Answer::Refused(format!("{path} is in no synced folder")), &[]),
                }
            }
            Request::Status => wire::send(guest, &Answer::Status(Box::new(self.status())), &[]),
            Request::Watch { whole, linger } => self.report(guest, whole, linger.map(Duration::from_millis)),
            Request::Freeze => self.set_frozen(guest, Frozen::InMemory),
            Request::Suspend => self.set_frozen(guest, Frozen::OnDisk),
            Request::Thaw => self.set_frozen(guest, Frozen::Not),
            Request::Stop => {
                self.ask_to_stop();
                // The connection is closed by the end of this process, which is what the other side waits for.
                self.wait_until(|state| (state.standing == Standing::Stopped).then_some(()));
                wire::send(guest, &Answer::Done, &[])
            }
            Request::Apply(followed) => match self.follow(*followed) {
                Ok(()) => wire::send(guest, &Answer::Done, &[]),
                Err(why) => wire::send(guest, &Answer::Refused(why), &[]),
            },
        }
    }

    fn set_frozen(&self, guest: &UnixStream, how: Frozen) -> io::Result<()> {
        let _turn = locked(&self.turn);
        let standing = self.state().standing;
        let answer = match (standing, how != Frozen::Not) {
            (Standing::Frozen, true) => {
                Answer::WorkspaceEvent(WorkspaceEvent::Note("it was frozen already".to_owned()))
            }
            (Standing::Running | Standing::Starting, false) => {
                Answer::WorkspaceEvent(WorkspaceEvent::Note("it was not frozen".to_owned()))
            }
            (Standing::Running, true) | (Standing::Frozen, false) => match self.freeze(how) {
                Ok(None) => Answer::Done,
                Ok(Some(note)) => Answer::WorkspaceEvent(WorkspaceEvent::Note(note)),
                Err(why) => Answer::Refused(why),
            },
            (other, true) => Answer::Refused(format!("the workspace is {}; wait until it runs", other.words())),
            (other, false) => Answer::Refused(format!("the workspace is not frozen; it is {}", other.words())),
        };
        wire::send(guest, &answer, &[])
    }

    /// Sends events until everything has come to rest, or long enough after all was started.
    fn report(&self, guest: &UnixStream, whole: bool, linger: Option<Duration>) -> io::Result<()> {
        let mut next = {
            let state = self.state();
            if whole || state.settled { 0 } else { state.events.end() }
        };
        let mut deadline = None;
        loop {
            let is_late = || deadline.is_some_and(|deadline| Instant::now() >= deadline);
            let (news, heard) = self.wait_until(|state| {
                let gone = matches!(state.standing, Standing::Stopping | Standing::Stopped) || has_left(guest);
                (state.events.has(next) || gone || is_late()).then(|| (state.events.since(next), state.events.end()))
            });
            if news.is_empty() {
                let answer =
                    if is_late() { Answer::Done } else { Answer::Refused("the workspace is being stopped".to_owned()) };
                return wire::send(guest, &answer, &[]);
            }
            next = heard;
            for event in news {
                let last = matches!(event, WorkspaceEvent::Settled { .. });
                if matches!(event, WorkspaceEvent::Opened) {
                    deadline = linger.map(|linger| Instant::now() + linger);
                }
                wire::send(guest, &Answer::WorkspaceEvent(event), &[])?;
                if last {
                    return Ok(());
                }
            }
        }
    }

    /// Has a member's command run, and says how it ended.
    fn host(&self, guest: &UnixStream, visit: &ExecRequest, fds: Vec<OwnedFd>) -> io::Result<()> {
        let standing = self.state().standing;
        if matches!(standing, Standing::Frozen | Standing::Stopping | Standing::Stopped) {
            let remedy = if standing == Standing::Frozen { "; cavrith thaw lets it go on" } else { "" };
            let why = format!("the workspace is {}{remedy}", standing.words());
            return wire::send(guest, &Answer::Refused(why), &[]);
        }
        let [stdin, stdout, stderr] = fds.as_slice() else { return Err(io::ErrorKind::InvalidData.into()) };
        self.guests.fetch_add(1, Ordering::SeqCst);
        // What the member wrote right before is there.
        self.flush_synced();
        let outcome = self.host_counted(guest, visit, [stdin.as_fd(), stdout.as_fd(), stderr.as_fd()]);
        self.guests.fetch_sub(1, Ordering::SeqCst);
        outcome
    }

    fn host_counted(&self, guest: &UnixStream, visit: &ExecRequest, streams: [BorrowedFd<'_>; 3]) -> io::Result<()> {
        let running = match self.runtime.start(&self.visiting(visit), streams) {
            Ok(running) => running,
            Err(SandboxError::NotStarted { why, missing, .. }) => {
                return wire::send(guest, &Answer::NotStarted { why, missing }, &[]);
            }
            Err(error) => return wire::send(guest, &Answer::Refused(error.to_string()), &[]),
        };
        let terminal: Vec<BorrowedFd<'_>> = running.terminal().into_iter().map(OwnedFd::as_fd).collect();
        // A guest that has ended already is noticed below, where its command is ended.
        let _ = wire::send(guest, &Answer::Started, &terminal);
        let send_signal = running.signals();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                while let Ok(Some((Meanwhile::Signal(signal), _))) = wire::receive(guest) {
                    send_signal(signal);
                }
                // The guest has ended, with its command's end or without: as when a terminal hangs up.
                send_signal(signal_hook::consts::SIGHUP);
            });
            let ending = running.wait().map_err(io::Error::other);
            // And so is what the command wrote, when it is said to be over.
            self.flush_synced();
            let event = ending.and_then(|ending| wire::send(guest, &Answer::Ended(ending), &[]));
            // In any case: the thread above, and the guest, wait for it.
            let _ = guest.shutdown(std::net::Shutdown::Both);
            event
        })
    }

    /// A member's command, or a visitor's, as the runtime takes it.
    pub fn visiting(&self, visit: &ExecRequest) -> CommandJob {
        let is_own = visit.account.is_none() && !visit.guest;
        let argv = match (visit.argv.is_empty(), is_own) {
            (false, _) => visit.argv.clone(),
            (true, true) => own_shell::command(&self.personal, &self.shell),
            (true, false) => vec![self.shell.clone()],
        };
        let mut more: BTreeMap<_, _> = visit.env.iter().cloned().collect();
        if visit.task.is_none() && is_own {
            self.add_own(&mut more);
        }
        let mut command = self.command(argv, &more, (visit.account.clone(), Runs::Command));
        if visit.guest {
            command.env = self.arrangement().setup.env.clone();
            command.env.extend(more);
            // What a visitor starts does not outlast the visit.
            command.whole = true;
        }
        if let Some(inside) = visit.here.as_deref().and_then(|here| self.inside_of(here)) {
            command.directory = inside;
        }
        command.terminal = visit.terminal;
        command.task.clone_from(&visit.task);
        command
    }

    /// Adds what is the member's own to the variables of one of their commands: what their configuration says, and the
    /// places of tools that they installed for themselves, behind the team's.
    fn add_own(&self, variables: &mut BTreeMap<String, String>) {
        let arrangement = self.arrangement();
        let team = &arrangement.setup.env;
        let home = cavrith_core::account::home(&arrangement.setup.account);
        let mut own = self.personal.own.clone();
        if self.personal.agent.is_some() {
            own.insert("SSH_AUTH_SOCK".to_owned(), crate::agent::SOCKET.to_owned());
        }
        own.extend(git_credentials::variables(self.personal.git.is_some(), !self.synced.is_empty()));
        // By itself it installs where root alone may write.
        own.entry("npm_config_prefix".to_owned()).or_insert_with(|| format!("{home}/.local"));
        if let Some(path) = team.get("PATH") {
            let member = self.personal.path.iter();
            let member =
                member.map(|own| own.strip_prefix('~').map_or_else(|| own.clone(), |rest| format!("{home}{rest}")));
            let known = [".local/bin", ".cargo/bin"].map(|own| format!("{home}/{own}"));
            let gems = self.gems.iter().map(|version| format!("{home}/.local/share/gem/ruby/{version}/bin"));
            let all = std::iter::once(path.clone()).chain(member).chain(known).chain(gems);
            let all = all.collect::<Vec<_>>().join(":");
            variables.entry("PATH".to_owned()).or_insert(all);
        }
        let counts = |name: &String| !team.contains_key(name) || self.personal.before_team.contains(name);
        for (name, value) in own.into_iter().filter(|(name, _)| counts(name)) {
            variables.entry(name).or_insert(value);
        }
    }

    /// The place inside of a directory outside: in the innermost folder that it lies in.
    fn inside_of(&self, here: &Path) -> Option<String> {
        let of = self.crossing.iter().filter_map(|folder| Some((folder, here.strip_prefix(&folder.0).ok()?)));
        let ((_, inside), rest) = of.max_by_key(|(folder, _)| folder.0.as_os_str().len())?;
        let inside = if rest == Path::new("") { inside.clone() } else { inside.join(rest) };
        inside.into_os_string().into_string().ok()
    }
}

/// Whether somebody at the door has gone away.
fn has_left(guest: &UnixStream) -> bool {
    let mut watched = [PollFd::new(guest, PollFlags::RDHUP)];
    let now = Timespec { tv_sec: 0, tv_nsec: 0 };
    matches!(poll(&mut watched, Some(&now)), Ok(1..))
}
