//! A language server or debugger inside for an editor outside: messages are carried, and what names a file is rewritten
//! on the way. Folders that are live are the same on both sides. Everything else of the inside is shown outside as
//! copies that nobody may write to, each made when a message first names it.

use std::collections::HashSet;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::os::fd::AsFd as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::thread;

use cavrith_core::arrangement::{Arrangement, FolderPart};
use cavrith_core::speech::{self, BadMessage, Folders, Places};
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::protocol::{ExecRequest, Status};
use cavrith_sandbox::ground::{Dress, Ground};
use cavrith_sandbox::job::{Ending, Task};
use cavrith_sandbox::locked;
use cavrith_sandbox::runtime::Attended as _;
use cavrith_store::private;

use crate::WorkspaceError;
use crate::copying::failed;

/// The directory of copies, beside the workspace.
const COPIES: &str = "sources";
/// Bytes of a file that is shown outside.
const LONGEST_FILE: u64 = 32 << 20;
/// Bytes of an answer about files.
const LONGEST_ANSWER: usize = 1 << 20;
/// Files that are copied for one message; more are told by their paths alone.
const COPIES_AT_ONCE: usize = 64;
/// What an editor or a server is called in a message about it.
const CARRYING: &str = "the messages";

/// Both directions of the paths.
#[derive(Debug, Clone)]
struct Walls {
    inward: Folders,
    outward: Folders,
    /// Directories of live folders that do not cross the wall, by their paths inside.
    except: Vec<String>,
    copies: String,
}

impl Walls {
    fn new(place: &Place, status: &Status) -> Result<Self, WorkspaceError> {
        let copies = place.dir.join(COPIES);
        private::directory(&copies)?;
        let copies = text(&copies)?;
        let (mut inward, mut outward) = (vec![(copies.clone(), String::new())], Vec::new());
        let mut except = Vec::new();
        for (path, folder) in live_folders(place, &status.arrangement)? {
            let (outside, inside) = (text(&path)?, folder.inside.clone());
            except.extend(folder.except.iter().map(|name| format!("{inside}/{name}")));
            // An editor has the path that it was given, links and all.
            if let Some(seen) = by_links(&path) {
                inward.push((seen, inside.clone()));
            }
            inward.push((outside.clone(), inside.clone()));
            outward.push((inside, outside));
        }
        Ok(Self { inward: Folders::new(inward), outward: Folders::new(outward), except, copies })
    }

    /// Where a path inside is outside, when its file crosses the wall.
    fn live(&self, path: &str) -> Option<String> {
        let stays = |except: &String| {
            path.strip_prefix(except.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        if self.except.iter().any(stays) { None } else { self.outward.there(path) }
    }
}

/// The folders of the member's disk that a workspace has, live or as a copy, each with where it really lies outside.
///
/// # Errors
/// When one is not there.
pub(crate) fn live_folders<'a>(
    place: &Place,
    arrangement: &'a Arrangement,
) -> Result<Vec<(PathBuf, &'a FolderPart)>, WorkspaceError> {
    let mut found = Vec::new();
    for folder in &arrangement.folders {
        if let Some(outside) = folder.place.outside() {
            let path = place.project.join(outside);
            found.push((path.canonicalize().map_err(failed(&path.display().to_string()))?, folder));
        }
    }
    Ok(found)
}

fn text(path: &Path) -> Result<String, WorkspaceError> {
    path.to_str().map(str::to_owned).ok_or_else(|| WorkspaceError::Copy {
        what: path.display().to_string(),
        why: "its path is not UTF-8, and the protocols have no other".to_owned(),
    })
}

/// A directory by the path of which we are in it, or in one that holds it or that it holds, when that has links in it.
fn by_links(path: &Path) -> Option<String> {
    let here = PathBuf::from(std::env::var_os("PWD")?);
    let real = here.canonicalize().ok()?;
    if real == here {
        return None;
    }
    let seen = match (real.strip_prefix(path), path.strip_prefix(&real)) {
        (Ok(below), _) => here.ancestors().nth(below.components().count())?.to_owned(),
        (_, Ok(more)) => here.join(more),
        _ => return None,
    };
    (seen.canonicalize().ok()?.as_path() == path).then(|| seen.to_str().map(str::to_owned)).flatten()
}

/// What the editor sends.
impl Places for Walls {
    fn of_address(&mut self, path: &str) -> Option<String> {
        self.inward.there(path)
    }

    fn of_path(&mut self, path: &str, _: &[u8]) -> Option<String> {
        self.inward.there(path)
    }
}

/// What the server sends. It may be anything, so no path of it leads anywhere but into live folders and copies.
struct Outward<'a> {
    walls: &'a Walls,
    copies: &'a mut Copies,
    /// Copies that this message may still have made.
    left: usize,
}

impl Places for Outward<'_> {
    fn of_address(&mut self, path: &str) -> Option<String> {
        let path = speech::normal(path);
        if let Some(there) = self.walls.live(&path) {
            return Some(there);
        }
        self.left = self.left.saturating_sub(1);
        if self.left > 0 {
            self.copies.bring(&path);
        }
        Some(format!("{}{path}", self.walls.copies))
    }

    fn of_path(&mut self, path: &str, key: &[u8]) -> Option<String> {
        // Of a source in the Debug Adapter Protocol; elsewhere a path may be that of a program, which stays inside.
        if key == b"path" {
            return self.of_address(path);
        }
        self.walls.live(&speech::normal(path))
    }
}

/// Copies of files of the inside, fetched through one process there (version 3 of SFTP, as `cavrith_sandbox` answers).
struct Copies {
    to: io::PipeWriter,
    from: io::PipeReader,
    ground: Arc<Ground>,
    here: HashSet<String>,
}

/// A file of the inside, read as it comes.
struct Reading<'a> {
    copies: &'a mut Copies,
    handle: Vec<u8>,
    at: u64,
    waiting: Vec<u8>,
}

impl Copies {
    fn open(client: Client, dir: &Path) -> io::Result<Self> {
        let ((theirs, to), (from, answers)) = (io::pipe()?, io::pipe()?);
        let nothing = File::options().write(true).open("/dev/null")?;
        let request = ExecRequest { task: Some(Task::Sftp { read_only: true }), ..ExecRequest::default() };
        let running = client.run(request, [theirs.as_fd(), answers.as_fd(), nothing.as_fd()]);
        // It ends when its input does; nobody waits for it, but it hangs up when its door closes.
        let running = running.map_err(io::Error::other)?;
        thread::spawn(move || drop(running.wait()));
        let mut copies = Self { to, from, ground: Arc::new(Ground::open(dir)?), here: HashSet::new() };
        copies.to.write_all(&[0, 0, 0, 5, 1, 0, 0, 0, 3])?;
        copies.answer()?;
        Ok(copies)
    }

    /// The kind and the rest of the next answer.
    fn answer(&mut self) -> io::Result<(u8, Vec<u8>)> {
        let mut length = [0; 4];
        self.from.read_exact(&mut length)?;
        // The process inside is the account's to meddle with.
        let length = u32::from_be_bytes(length) as usize;
        if !(5..=LONGEST_ANSWER).contains(&length) {
            return Err(io::ErrorKind::InvalidData.into());
        }
        let mut body = vec![0; length];
        self.from.read_exact(&mut body)?;
        let rest = body.split_off(5);
        Ok((body[0], rest))
    }

    fn ask(&mut self, kind: u8, parts: &[&[u8]]) -> io::Result<(u8, Vec<u8>)> {
        let body = [&[kind, 0, 0, 0, 0][..], &parts.concat()].concat();
        self.to.write_all(&[&(body.len() as u32).to_be_bytes()[..], &body].concat())?;
        self.answer()
    }

    /// Makes the copy of a file, once; what is none is left out.
    fn bring(&mut self, path: &str) {
        if self.here.insert(path.to_owned()) {
            // One that is not there, or not the account's to read, is one that the editor cannot open either.
            let _ = self.try_bring(path);
        }
    }

    fn try_bring(&mut self, path: &str) -> io::Result<()> {
        let name = string(path.as_bytes());
        // To be read, and nothing of its attributes said.
        let (kind, handle) = self.ask(3, &[&name, &1_u32.to_be_bytes(), &0_u32.to_be_bytes()])?;
        if kind != 102 {
            return Ok(());
        }
        let relative = PathBuf::from(path.trim_start_matches('/'));
        let dress = |mode| Dress { mode, owner: None, modified: 0 };
        let ground = Arc::clone(&self.ground);
        let mut reading = Reading { copies: self, handle, at: 0, waiting: Vec::new() };
        let made = ground.make_way(&relative, &dress(0o755));
        let made = made.and_then(|()| ground.file(&relative, &mut reading, &dress(0o444)));
        let handle = std::mem::take(&mut reading.handle);
        self.ask(4, &[&handle])?;
        made
    }
}

fn string(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_be_bytes()[..], bytes].concat()
}

impl Read for Reading<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.waiting.is_empty() && self.at < LONGEST_FILE {
            let handle = self.handle.clone();
            let (at, length) = (self.at.to_be_bytes(), (64_u32 << 10).to_be_bytes());
            match self.copies.ask(5, &[&handle, &at, &length])? {
                (103, data) => self.waiting = data.get(4..).unwrap_or_default().to_vec(),
                // The end, or a directory.
                _ => return Ok(0),
            }
            self.at += self.waiting.len() as u64;
        }
        let count = buffer.len().min(self.waiting.len());
        buffer[..count].copy_from_slice(&self.waiting[..count]);
        self.waiting.drain(..count);
        Ok(count)
    }
}

/// Carries messages until there are no more.
fn carry(
    mut from: impl Read,
    mut to: impl Write,
    mut rewrite: impl FnMut(&[u8]) -> Vec<u8>,
) -> io::Result<Option<BadMessage>> {
    let mut bytes = Vec::new();
    let mut buffer = vec![0; 64 << 10];
    loop {
        let wanted = loop {
            match speech::first_message(&bytes) {
                Ok(Some((head, body))) if bytes.len() >= head + body => {
                    let message = rewrite(&bytes[head..head + body]);
                    to.write_all(&message)?;
                    to.flush()?;
                    bytes.drain(..head + body);
                }
                Ok(Some((head, body))) => break head + body,
                Ok(None) => break 0,
                Err(bad) => return Ok(Some(bad)),
            }
        };
        bytes.reserve(wanted.saturating_sub(bytes.len()));
        // The head of a long message is not read again for every piece of it.
        loop {
            match from.read(&mut buffer) {
                Ok(0) => return Ok(None),
                Ok(count) => bytes.extend(&buffer[..count]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error),
            }
            if bytes.len() >= wanted {
                break;
            }
        }
    }
}

/// Runs a server inside for the editor at our standard input and output, and waits for its end. What either says that
/// is no message ends it, and is returned.
///
/// # Errors
/// When the server cannot be started, or the workspace ends.
pub fn speak(place: &Place, argv: &[String]) -> Result<(Ending, Option<BadMessage>), WorkspaceError> {
    let connect = || Client::new(place).ok_or_else(|| WorkspaceError::NeverRan(place.name.clone()));
    let walls = Walls::new(place, &connect()?.status()?)?;
    let mut copies = Copies::open(connect()?, Path::new(&walls.copies)).map_err(failed(CARRYING))?;
    let (theirs, input) = io::pipe().map_err(failed(CARRYING))?;
    let (output, answers) = io::pipe().map_err(failed(CARRYING))?;
    let request = ExecRequest { argv: argv.to_vec(), here: std::env::current_dir().ok(), ..ExecRequest::default() };
    let server = connect()?.run(request, [theirs.as_fd(), answers.as_fd(), io::stderr().as_fd()])?;
    drop((theirs, answers));
    let bad = Arc::new(Mutex::new(None));
    let (mut inward, heard) = (walls.clone(), Arc::clone(&bad));
    let end = server.signals();
    thread::spawn(move || {
        let stdin = io::stdin().lock();
        match carry(stdin, input, |body| speech::message(body, &mut inward)) {
            Ok(None) => {}
            Ok(Some(message)) => {
                *locked(&heard) = Some(message);
                end(signal_hook::consts::SIGTERM);
            }
            // The server has ended, which is noticed elsewhere.
            Err(_) => {}
        }
    });
    let outcome = carry(output, io::stdout().lock(), |body| {
        speech::message(body, &mut Outward { walls: &walls, copies: &mut copies, left: COPIES_AT_ONCE })
    });
    // An editor that has gone takes its server along.
    if !matches!(outcome, Ok(None)) {
        server.signals()(signal_hook::consts::SIGTERM);
    }
    drop(copies);
    let ending = server.wait()?;
    let said = outcome.ok().flatten().or_else(|| locked(&bad).take());
    let _ = fs::remove_dir(&walls.copies);
    Ok((ending, said))
}
