//! Files in and out of a workspace, running or not.
//!
//! The inner side is done by a process of ours that has become the account ([`Task`]), so owners come out right and no
//! program of the image is needed. What comes out is taken as hostile.

use std::fs::File;
use std::io::Read as _;
use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};
use std::thread;

use cavrith_sandbox::archive;
use cavrith_sandbox::job::Task;
use cavrith_sandbox::runtime::Attended as _;

use crate::WorkspaceError;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::protocol::ExecRequest;

/// Bytes of an answer of the inside that are read.
const LONGEST_ANSWER: u64 = 4 << 20;

pub(crate) fn failed(what: &str) -> impl FnOnce(std::io::Error) -> WorkspaceError {
    let what = what.to_owned();
    move |error| WorkspaceError::Copy { what, why: cavrith_core::path::shown(error.to_string().as_bytes()) }
}

fn base_name(path: &Path, what: &str) -> Result<String, WorkspaceError> {
    let name = path.file_name().and_then(|name| name.to_str());
    name.map(str::to_owned).ok_or_else(|| WorkspaceError::Copy {
        what: what.to_owned(),
        why: "its name is none that can be given inside".to_owned(),
    })
}

/// Copies a file or directory of this machine into a workspace. In a directory that is there it gets its own name.
///
/// # Errors
/// When it cannot be read here or written there.
pub fn copy_in(client: Client, outside: &Path, inside: &str, account: Option<String>) -> Result<(), WorkspaceError> {
    let what = outside.display().to_string();
    let real = outside.canonicalize().map_err(failed(&what))?;
    let name = base_name(&real, &what)?;
    let (stream, ours) = std::io::pipe().map_err(failed(&what))?;
    let task = Task::Unpack { path: inside.to_owned(), name: name.clone() };
    let packing = thread::spawn(move || archive::pack(&real, &name, std::io::BufWriter::new(ours)));
    let outcome = run_task(client, task, account, stream.as_fd(), None, &what);
    drop(stream);
    let packed = packing.join().unwrap_or_else(|_| Err(std::io::Error::other("BUG: packing ended early")));
    // What went wrong inside breaks the packing too; the inner side knows why.
    outcome?;
    packed.map_err(failed(&what))
}

/// Copies a file or directory of a workspace to this machine. In a directory that is there it gets its own name.
/// Returns what it became.
///
/// # Errors
/// When it cannot be read there or written here.
pub fn copy_out(
    client: Client,
    inside: &str,
    outside: &Path,
    account: Option<String>,
) -> Result<PathBuf, WorkspaceError> {
    let name = base_name(Path::new(inside), inside)?;
    let (theirs, stream) = std::io::pipe().map_err(failed(inside))?;
    let task = Task::Pack { path: inside.to_owned(), name: name.clone() };
    let target = outside.to_owned();
    let unpacking = thread::spawn(move || {
        let mut theirs = std::io::BufReader::new(theirs);
        let unpacked = archive::unpack(&mut theirs, &target, &name);
        // The inner side must not wait for a reader that gave up.
        let _ = std::io::copy(&mut theirs, &mut std::io::sink());
        unpacked
    });
    let outcome =
        run_task(client, task, account, File::open("/dev/null").map_err(failed(inside))?.as_fd(), Some(stream), inside);
    let unpacked = unpacking.join().unwrap_or_else(|_| Err(std::io::Error::other("BUG: unpacking ended early")));
    outcome?;
    unpacked.map_err(failed(inside))
}

/// What a task inside writes, as text.
pub(crate) fn answer(client: Client, task: Task, what: &str) -> Result<String, WorkspaceError> {
    Ok(String::from_utf8_lossy(&written(client, task, None, what)?).into_owned())
}

/// The content of a file inside, whosever it is.
pub(crate) fn content(place: &Place, path: &str) -> Result<Vec<u8>, WorkspaceError> {
    let gone = || cavrith_keeper::KeeperError::Gone { name: place.name.clone() };
    let client = Client::new(place).ok_or_else(gone)?;
    written(client, Task::Read(path.to_owned()), Some("root".to_owned()), path)
}

fn written(client: Client, task: Task, account: Option<String>, what: &str) -> Result<Vec<u8>, WorkspaceError> {
    let (mut theirs, stream) = std::io::pipe().map_err(failed(what))?;
    let reading = thread::spawn(move || {
        let mut bytes = Vec::new();
        let read = theirs.by_ref().take(LONGEST_ANSWER).read_to_end(&mut bytes);
        let _ = std::io::copy(&mut theirs, &mut std::io::sink());
        read.map(|_| bytes)
    });
    let outcome =
        run_task(client, task, account, File::open("/dev/null").map_err(failed(what))?.as_fd(), Some(stream), what);
    let bytes = reading.join().unwrap_or_else(|_| Err(std::io::Error::other("BUG: reading ended early")));
    outcome?;
    bytes.map_err(failed(what))
}

/// Has a task done inside; what it says of a failure becomes the error.
fn run_task(
    client: Client,
    task: Task,
    account: Option<String>,
    stdin: std::os::fd::BorrowedFd<'_>,
    stdout: Option<std::io::PipeWriter>,
    what: &str,
) -> Result<(), WorkspaceError> {
    let (mut reader, errors) = std::io::pipe().map_err(failed(what))?;
    let null = File::options().write(true).open("/dev/null").map_err(failed(what))?;
    let visit = ExecRequest { task: Some(task), account, argv: vec!["copy".to_owned()], ..ExecRequest::default() };
    let out = stdout.as_ref().map_or_else(|| null.as_fd(), |stdout| stdout.as_fd());
    let guest = client.run(visit, [stdin, out, errors.as_fd()])?;
    drop((errors, stdout));
    let mut why = String::new();
    reader.read_to_string(&mut why).map_err(failed(what))?;
    let ending = guest.wait()?;
    if ending.is_good() {
        return Ok(());
    }
    // It tells names that somebody chose inside, which may hold what a terminal obeys.
    let why = cavrith_core::path::shown(why.trim().as_bytes());
    let why = if why.is_empty() { ending.to_string() } else { why };
    Err(WorkspaceError::Copy { what: what.to_owned(), why })
}
