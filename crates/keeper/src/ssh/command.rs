//! A session of SSH: a shell, a command, or files (RFC 4254, section 6).

use std::fs::File;
use std::io;
use std::os::fd::{AsFd as _, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use bytes::Bytes;
use russh::server::{Handle, Msg};
use russh::{Channel, ChannelMsg, ChannelReadHalf, ChannelWriteHalf, Pty, Sig};
use rustix::termios::{InputModes, OptionalActions, Winsize};
use signal_hook::consts::{SIGHUP, SIGKILL};
use tokio::io::unix::AsyncFd;
use tokio::io::{AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::sync::{broadcast, mpsc, watch};

use cavrith_sandbox::SandboxError;
use cavrith_sandbox::job::{Ending, Task};
use cavrith_sandbox::runtime::{RunningCommand, SendSignal};

use super::descriptor::{Descriptor, watched};
use super::{Guest, Place};
use crate::protocol::ExecRequest;
use crate::record::Standing;

/// The name of the subsystem of files.
pub(super) const SFTP: &str = "sftp";
/// Variables of the client's that a command gets.
pub(super) const PASSED_ON: [&str; 2] = ["COLORTERM", "GIT_PROTOCOL"];
/// Bytes that are carried at once.
const PIECE: usize = 64 << 10;
/// Pieces of input that wait for a command to take them.
const AHEAD: usize = 16;
/// How long the output of what a command left running is taken after its end.
const LEFTOVERS: Duration = Duration::from_millis(100);
/// How long a terminal that nothing inside has open is left alone.
const CLOSED_PAUSE: Duration = Duration::from_millis(20);
/// What a shell tells when it cannot start something (POSIX, "Exit Status for Commands").
const NOT_FOUND: u32 = 127;
/// What OpenSSH tells when there is no connection.
const NO_CONNECTION: u32 = 255;

/// What was asked for before something runs.
#[derive(Debug, Default)]
struct Asked {
    terminal: Option<Winsize>,
    /// The terminal's input is UTF-8 (RFC 8160).
    utf8: bool,
    env: Vec<(String, String)>,
}

/// What is to run.
#[derive(Debug)]
enum What {
    Shell,
    Command(Vec<u8>),
    Files,
}

/// Attends to a session until it ends.
pub(super) async fn attend(guest: Arc<Guest>, place: Place, channel: Channel<Msg>, handle: Handle) {
    let id = channel.id();
    let (mut read, write) = channel.split();
    let mut asked = Asked::default();
    let what = loop {
        match read.wait().await {
            Some(ChannelMsg::RequestPty { term, col_width, row_height, terminal_modes, .. }) => {
                asked.terminal = Some(size(col_width, row_height));
                asked.utf8 = terminal_modes.iter().any(|(mode, value)| *mode == Pty::IUTF8 && *value != 0);
                asked.env.push(("TERM".to_owned(), term));
            }
            Some(ChannelMsg::WindowChange { col_width, row_height, .. }) => {
                asked.terminal = asked.terminal.map(|_| size(col_width, row_height));
            }
            Some(ChannelMsg::SetEnv { variable_name, variable_value, .. })
                if PASSED_ON.contains(&variable_name.as_str()) =>
            {
                asked.env.push((variable_name, variable_value));
            }
            Some(ChannelMsg::RequestShell { .. }) => break What::Shell,
            Some(ChannelMsg::Exec { command, .. }) => break What::Command(command),
            Some(ChannelMsg::RequestSubsystem { name, .. }) if name == SFTP && guest.rights.files => break What::Files,
            Some(ChannelMsg::Close) | None => return,
            Some(_) => {}
        }
    };
    let ended = match request(&guest, &asked, what) {
        Ok(request) => run(&guest, &asked, request, (&mut read, &write)).await,
        Err(why) => Err((why, NO_CONNECTION)),
    };
    let told = match ended {
        Ok(Some(Ending::Signal(signal))) => {
            let name = signal_name(signal);
            handle.exit_signal_request(id, name, false, String::new(), String::new()).await
        }
        Ok(Some(ending)) => write.exit_status(ending.as_code() as u32).await.map_err(|_| ()),
        // The client has gone, or what it runs in.
        Ok(None) => Ok(()),
        Err((why, code)) => {
            let _ = write.make_writer_ext(Some(1)).write_all(format!("cavrith: {why}\r\n").as_bytes()).await;
            write.exit_status(code).await.map_err(|_| ())
        }
    };
    if told.is_ok() {
        let _ = write.eof().await;
        let _ = write.close().await;
    }
    drop(place);
}

fn size(columns: u32, rows: u32) -> Winsize {
    let number = |value: u32| u16::try_from(value).unwrap_or(u16::MAX);
    Winsize { ws_row: number(rows), ws_col: number(columns), ws_xpixel: 0, ws_ypixel: 0 }
}

/// What the keeper starts for it, or why it does not.
fn request(guest: &Guest, asked: &Asked, what: What) -> Result<ExecRequest, String> {
    let keeper = &guest.keeper;
    let standing = keeper.state().standing;
    if matches!(standing, Standing::Frozen | Standing::Stopping | Standing::Stopped) {
        return Err(format!("the workspace is {}", standing.words()));
    }
    let mut request = ExecRequest {
        env: asked.env.clone(),
        account: guest.account.clone(),
        terminal: [asked.terminal.is_some(); 3],
        guest: !guest.rights.member,
        ..ExecRequest::default()
    };
    if let (Some(agent), None) = (guest.agent.get(), &request.account) {
        request.env.push(("SSH_AUTH_SOCK".to_owned(), agent.path.clone()));
    }
    match what {
        What::Files => {
            guest.log("opened the files");
            request.terminal = [false; 3];
            request.task = Some(Task::Sftp { read_only: guest.rights.read_only });
        }
        _ if !guest.rights.shell => return Err("you were let in without a shell".to_owned()),
        What::Shell => guest.log("opened a shell"),
        What::Command(command) => {
            let command = String::from_utf8(command).map_err(|_| "the command is not UTF-8".to_owned())?;
            guest.log(&format!("ran {command}"));
            request.argv = vec![keeper.shell.clone(), "-c".to_owned(), command];
        }
    }
    Ok(request)
}

/// One of a member's commands, counted while it runs.
struct Counted<'a>(&'a Guest);

impl<'a> Counted<'a> {
    fn new(guest: &'a Guest) -> Self {
        guest.keeper.guests.fetch_add(1, Ordering::SeqCst);
        Self(guest)
    }
}

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.0.keeper.guests.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Ends a command when its client is gone, however that comes about.
struct HangUp {
    send: SendSignal,
    signal: i32,
    is_over: bool,
}

impl HangUp {
    /// As when a terminal hangs up; a visitor's command has no say in it.
    fn new(guest: &Guest, send: SendSignal) -> Self {
        let signal = if guest.rights.member { SIGHUP } else { SIGKILL };
        Self { send, signal, is_over: false }
    }
}

impl Drop for HangUp {
    fn drop(&mut self) {
        if !self.is_over {
            (self.send)(self.signal);
        }
    }
}

/// Our ends of a command's streams.
struct Streams {
    input: Descriptor,
    output: Descriptor,
    errors: Option<Descriptor>,
}

type Failed = (String, u32);

fn broken(error: impl Into<io::Error>) -> Failed {
    (format!("cannot pass on the streams: {}", error.into()), NO_CONNECTION)
}

fn start(guest: &Guest, asked: &Asked, request: &ExecRequest) -> Result<(Box<dyn RunningCommand>, Streams), Failed> {
    let keeper = &guest.keeper;
    let command = keeper.visiting(request);
    let start = |streams| {
        keeper.runtime.start(&command, streams).map_err(|error| match error {
            SandboxError::NotStarted { why, .. } => (why, NOT_FOUND),
            error => (error.to_string(), NO_CONNECTION),
        })
    };
    if let (Some(size), true) = (asked.terminal, request.terminal[0]) {
        let nothing = File::open("/dev/null").map_err(broken)?;
        let running = start([nothing.as_fd(); 3])?;
        let outer = running.terminal().ok_or_else(|| broken(io::ErrorKind::NotFound))?;
        let _ = rustix::termios::tcsetwinsize(outer, size);
        if asked.utf8
            && let Ok(mut modes) = rustix::termios::tcgetattr(outer)
        {
            modes.input_modes |= InputModes::IUTF8;
            let _ = rustix::termios::tcsetattr(outer, OptionalActions::Now, &modes);
        }
        let end = || outer.try_clone().and_then(Descriptor::new).map_err(broken);
        let streams = Streams { input: end()?, output: end()?, errors: None };
        return Ok((running, streams));
    }
    let (their_input, input) = pipe().map_err(broken)?;
    let (output, their_output) = pipe().map_err(broken)?;
    let (errors, their_errors) = pipe().map_err(broken)?;
    let running = start([their_input.as_fd(), their_output.as_fd(), their_errors.as_fd()])?;
    let ours = |fd| Descriptor::new(fd).map_err(broken);
    Ok((running, Streams { input: ours(input)?, output: ours(output)?, errors: Some(ours(errors)?) }))
}

/// A pipe that holds as much as is carried at once, and more.
fn pipe() -> io::Result<(OwnedFd, OwnedFd)> {
    let (reader, writer) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
    // A user may have so much in pipes and no more (pipe(7)); then it stays as it is.
    let _ = rustix::pipe::fcntl_setpipe_size(&writer, 4 * PIECE);
    Ok((reader, writer))
}

/// Runs something, and carries its streams. Nothing: the client has gone, or the workspace has ended.
async fn run(
    guest: &Guest,
    asked: &Asked,
    request: ExecRequest,
    (read, write): (&mut ChannelReadHalf, &ChannelWriteHalf<Msg>),
) -> Result<Option<Ending>, Failed> {
    let _counted = Counted::new(guest);
    let (running, streams) = start(guest, asked, &request)?;
    let terminal = running.terminal().map(OwnedFd::try_clone).transpose().map_err(broken)?;
    let ended = running.ended().try_clone_to_owned().and_then(watched).map_err(broken)?;
    let hang_up = HangUp::new(guest, running.signals());
    let (over, is_over) = watch::channel(false);
    // What a visitor has on their screen, their host can look at.
    let outer = terminal.as_ref().zip(guest.visit.as_ref());
    let shared = match outer {
        Some((outer, visit)) => {
            let outer = outer.try_clone().map_err(broken)?;
            Some(guest.keeper.visitors.terminals.add(visit.name(), outer))
        }
        None => None,
    };
    let seen = shared.as_ref().map(|shared| shared.output());
    let mut outputs = vec![tokio::spawn(pump(streams.output, write.make_writer(), (seen, is_over.clone())))];
    let errors = |errors| tokio::spawn(pump(errors, write.make_writer_ext(Some(1)), (None, is_over)));
    outputs.extend(streams.errors.map(errors));
    let (input, typed) = mpsc::channel(AHEAD);
    let feeding = tokio::spawn(feed(streams.input, typed, terminal.is_some()));
    let is_here = listen(guest, read, input, terminal.as_ref(), &ended, hang_up).await;
    let _ = over.send(true);
    if !is_here {
        feeding.abort();
        outputs.iter().for_each(tokio::task::JoinHandle::abort);
        return Ok(None);
    }
    for output in outputs {
        let _ = output.await;
    }
    feeding.abort();
    running.wait().map(Some).map_err(|_| ("the workspace has ended".to_owned(), NO_CONNECTION))
}

/// Hears the client until the command has ended; false when the client has gone before.
async fn listen(
    guest: &Guest,
    read: &mut ChannelReadHalf,
    input: mpsc::Sender<Bytes>,
    terminal: Option<&OwnedFd>,
    ended: &AsyncFd<OwnedFd>,
    mut hang_up: HangUp,
) -> bool {
    let mut input = Some(input);
    // What the command does not take yet: nothing more is heard meanwhile.
    let mut waiting: Option<Bytes> = None;
    loop {
        let next = match (&input, waiting.take()) {
            (Some(input), Some(data)) => tokio::select! {
                _ = ended.readable() => Next::Ended,
                sent = input.send(data) => Next::Taken(sent.is_ok()),
                () = guest.gone() => Next::Heard(None),
            },
            _ => tokio::select! {
                _ = ended.readable() => Next::Ended,
                message = read.wait() => Next::Heard(message),
            },
        };
        match next {
            Next::Ended => {
                hang_up.is_over = true;
                return true;
            }
            Next::Taken(true) => {}
            // It takes no input any more.
            Next::Taken(false) | Next::Heard(Some(ChannelMsg::Eof)) => input = None,
            Next::Heard(Some(ChannelMsg::Data { data })) => waiting = Some(data),
            Next::Heard(Some(ChannelMsg::WindowChange { col_width, row_height, .. })) => {
                if let Some(terminal) = terminal {
                    let _ = rustix::termios::tcsetwinsize(terminal, size(col_width, row_height));
                }
            }
            Next::Heard(Some(ChannelMsg::Signal { signal })) => {
                if let Some(number) = signal_number(&signal) {
                    (hang_up.send)(number);
                }
            }
            Next::Heard(Some(ChannelMsg::Close) | None) => return false,
            Next::Heard(Some(_)) => {}
        }
    }
}

/// What comes next while a command runs.
enum Next {
    /// The command has ended.
    Ended,
    /// It took its input, or takes none any more.
    Taken(bool),
    /// The client.
    Heard(Option<ChannelMsg>),
}

/// Gives a command what is typed.
async fn feed(mut to: Descriptor, mut typed: mpsc::Receiver<Bytes>, is_terminal: bool) {
    while let Some(data) = typed.recv().await {
        if to.write_all(&data).await.is_err() {
            return;
        }
    }
    if is_terminal {
        // As when somebody types the end of input at an empty line (termios(3)).
        let _ = to.write_all(&[4]).await;
    }
}

/// Carries what a command writes until nobody can write any more; or, once it has ended, until nothing comes.
async fn pump(
    mut from: Descriptor,
    mut to: impl AsyncWrite + Unpin,
    (seen, mut over): (Option<broadcast::Sender<Bytes>>, watch::Receiver<bool>),
) {
    let mut buffer = vec![0; PIECE];
    loop {
        let is_over = *over.borrow();
        let read = if is_over {
            match tokio::time::timeout(LEFTOVERS, from.read(&mut buffer)).await {
                Ok(read) => read,
                Err(_) => return,
            }
        } else {
            tokio::select! {
                read = from.read(&mut buffer) => read,
                _ = over.changed() => continue,
            }
        };
        match read {
            Ok(0) => return,
            Ok(count) => {
                if let Some(seen) = &seen {
                    // Nobody looks, most of the time.
                    let _ = seen.send(Bytes::copy_from_slice(&buffer[..count]));
                }
                if to.write_all(&buffer[..count]).await.is_err() {
                    return;
                }
            }
            // Nothing inside has the terminal open just now.
            Err(error) if error.raw_os_error() == Some(rustix::io::Errno::IO.raw_os_error()) && !is_over => {
                tokio::time::sleep(CLOSED_PAUSE).await;
            }
            Err(_) => return,
        }
    }
}

/// Signals by their names without SIG (RFC 4254, section 6.10).
fn signal_number(signal: &Sig) -> Option<i32> {
    let name = match signal {
        Sig::Custom(name) => name.clone(),
        other => format!("{other:?}"),
    };
    NAMES.iter().find(|(known, _)| *known == name).map(|(_, number)| *number)
}

fn signal_name(number: i32) -> Sig {
    let name = NAMES.iter().find(|(_, known)| *known == number).map_or("TERM", |(name, _)| name);
    match name {
        "ABRT" => Sig::ABRT,
        "ALRM" => Sig::ALRM,
        "FPE" => Sig::FPE,
        "HUP" => Sig::HUP,
        "ILL" => Sig::ILL,
        "INT" => Sig::INT,
        "KILL" => Sig::KILL,
        "PIPE" => Sig::PIPE,
        "QUIT" => Sig::QUIT,
        "SEGV" => Sig::SEGV,
        "TERM" => Sig::TERM,
        "USR1" => Sig::USR1,
        other => Sig::Custom(other.to_owned()),
    }
}

/// Those of the section, and those that are sent by hand.
const NAMES: [(&str, i32); 18] = [
    ("ABRT", 6),
    ("ALRM", 14),
    ("BUS", 7),
    ("CONT", 18),
    ("FPE", 8),
    ("HUP", 1),
    ("ILL", 4),
    ("INT", 2),
    ("KILL", 9),
    ("PIPE", 13),
    ("QUIT", 3),
    ("SEGV", 11),
    ("STOP", 19),
    ("TERM", 15),
    ("TSTP", 20),
    ("USR1", 10),
    ("USR2", 12),
    ("WINCH", 28),
];
