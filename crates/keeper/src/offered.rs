//! Sockets inside behind which something of the member's outside answers: their SSH agent, their GPG agent, their
//! credentials for git. Each is there because the member wants it, and each use is shown in the status.

use std::fs;
use std::io;
use std::net::Shutdown;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::Duration;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_engine::personal::{GPG_SOCKET, GitCredentials, Personal};
use cavrith_sandbox::{Identity, locked};

use crate::work::Keeper;
use crate::{agent, git_credentials};

/// Connections at once, of each.
const MOST: usize = 32;

/// What answers.
#[derive(Debug, Clone)]
pub(crate) enum Behind {
    /// The SSH agent at a path.
    SshAgent(PathBuf),
    /// The GPG agent, at the socket that it has for others: by it a key can be used, and not be taken or changed
    /// (gpg-agent(1), `extra-socket`).
    GpgAgent(PathBuf),
    /// git, for these hosts.
    GitCredentials(GitCredentials),
}

/// A socket inside, and what answers there.
#[derive(Debug)]
pub(crate) struct Offered {
    callers: Callers,
    behind: Behind,
}

/// Where those who ask come from.
#[derive(Debug)]
enum Callers {
    /// A socket that we listen at.
    Here(UnixListener),
    /// A machine, where a process of ours listens.
    Machine(Mutex<mpsc::Receiver<UnixStream>>),
}

impl Offered {
    /// What a member wants, in a machine; those who ask there are handed over one by one.
    pub(crate) fn in_machine(personal: &Personal) -> (Vec<Self>, Vec<mpsc::Sender<UnixStream>>) {
        let with_callers = |behind: Behind| {
            let (taker, callers) = mpsc::channel();
            (Self { callers: Callers::Machine(Mutex::new(callers)), behind }, taker)
        };
        Behind::wanted(personal).into_iter().map(with_callers).unzip()
    }

    /// Waits for the next one who asks.
    ///
    /// # Errors
    /// When this process has too many files open, or the machine is gone.
    pub(crate) fn next(&self) -> io::Result<UnixStream> {
        match &self.callers {
            Callers::Here(listener) => listener.accept().map(|(stream, _)| stream),
            Callers::Machine(callers) => locked(callers).recv().map_err(|_| io::ErrorKind::NotConnected.into()),
        }
    }
}

impl Behind {
    fn wanted(personal: &Personal) -> Vec<Self> {
        let mut wanted = Vec::new();
        wanted.extend(personal.agent.clone().map(Self::SshAgent));
        wanted.extend(personal.gpg_agent.clone().map(Self::GpgAgent));
        wanted.extend(personal.git.clone().map(Self::GitCredentials));
        wanted
    }

    fn socket(&self) -> &'static str {
        match self {
            Self::SshAgent(_) => agent::SOCKET,
            Self::GpgAgent(_) => GPG_SOCKET,
            Self::GitCredentials(_) => git_credentials::SOCKET,
        }
    }

    /// One connection, until it ends. `used` gets the beginning of a note, and the rest of it without a number.
    fn attend(&self, stream: UnixStream, mut used: impl FnMut(&str, &str)) -> io::Result<()> {
        match self {
            Self::SshAgent(path) => agent::attend(
                stream,
                || UnixStream::connect(path),
                || used("your SSH agent signed ", "for commands inside"),
            ),
            Self::GpgAgent(path) => {
                let outside = UnixStream::connect(path)?;
                used("your GPG agent was asked ", "by commands inside");
                carry(stream, outside)
            }
            Self::GitCredentials(wish) => git_credentials::attend(stream, wish, |host| {
                used(&format!("your git credentials for {host} were given "), "to commands inside");
            }),
        }
    }
}

/// Carries bytes both ways until both sides have ended.
fn carry(inside: UnixStream, outside: UnixStream) -> io::Result<()> {
    let (mut from, mut to) = (inside.try_clone()?, outside.try_clone()?);
    let there = thread::spawn(move || {
        let _ = io::copy(&mut from, &mut to);
        let _ = to.shutdown(Shutdown::Write);
    });
    let (mut from, mut to) = (outside, inside);
    let carried = io::copy(&mut from, &mut to);
    // Whoever is at the other end of a half may wait for ever.
    let _ = to.shutdown(Shutdown::Both);
    let _ = from.shutdown(Shutdown::Both);
    let _ = there.join();
    carried.map(drop)
}

/// Listens for all that a member wants, in the workspace whose first process this is; nothing else runs there yet.
///
/// # Errors
/// When the sandbox does not let it, with the path inside.
pub(crate) fn listen(
    process: u32,
    personal: &Personal,
    identity: Identity,
) -> Result<Vec<Offered>, (&'static str, io::Error)> {
    let listen = |behind: Behind| {
        let socket = behind.socket();
        let path = PathBuf::from(format!("/proc/{process}/root{socket}"));
        let listener = listen_at(&path, identity).map_err(|error| (socket, error))?;
        Ok(Offered { callers: Callers::Here(listener), behind })
    };
    Behind::wanted(personal).into_iter().map(listen).collect()
}

/// Listens at a path that nobody else can put anything in the place of; the account alone may ask there.
///
/// # Errors
/// When something is there already, or the disk refuses.
pub(crate) fn listen_at(path: &Path, identity: Identity) -> io::Result<UnixListener> {
    let listener = UnixListener::bind(path)?;
    if !identity.records_owners() {
        std::os::unix::fs::lchown(path, Some(ACCOUNT_ID), Some(ACCOUNT_ID))?;
    }
    fs::set_permissions(path, fs::Permissions::from_mode(0o600))?;
    Ok(listener)
}

/// Answers whoever asks, for as long as this process lives.
pub(crate) fn serve(keeper: &Arc<Keeper>, offered: &Offered) {
    let (open, times) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    loop {
        let stream = match offered.next() {
            Ok(stream) => stream,
            Err(error) if error.kind() == io::ErrorKind::NotConnected => return,
            // Out of descriptors, perhaps.
            Err(_) => {
                thread::sleep(Duration::from_millis(50));
                continue;
            }
        };
        if open.load(Ordering::SeqCst) >= MOST {
            continue;
        }
        open.fetch_add(1, Ordering::SeqCst);
        let (keeper, behind) = (Arc::clone(keeper), offered.behind.clone());
        let (open, times) = (Arc::clone(&open), Arc::clone(&times));
        thread::spawn(move || {
            let _ = behind.attend(stream, |beginning, rest| {
                let number = times.fetch_add(1, Ordering::SeqCst) + 1;
                let number = if number == 1 { "once".to_owned() } else { format!("{number} times") };
                keeper.note_anew(beginning, &format!("{number} {rest}"));
            });
            open.fetch_sub(1, Ordering::SeqCst);
        });
    }
}
