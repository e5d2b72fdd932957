//! Running a command inside, as if it ran here.

use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use signal_hook::iterator::Signals;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::lock::Lock;
use cavrith_core::setup::Setup;
use cavrith_core::verdict::count;
use cavrith_engine::build::Workshop;
use cavrith_engine::error::file_error;
use cavrith_engine::event::Event;
use cavrith_engine::home::Home;
use cavrith_engine::project::Project;
use cavrith_engine::steps;
use cavrith_sandbox::job::{CommandJob, Ending, FolderMount, Job, Purpose};
use cavrith_sandbox::session::Attended;
use cavrith_sandbox::{Session, terminal};
use cavrith_store::records::ImageRecord;

use crate::door::{self, Door};
use crate::ports::{Carried, Forward};
use crate::{WorkspaceError, except_mounts, folder_mounts, scratch};

/// What of the member's own environment goes inside with a terminal: what it is and which colours it has.
const TERMINAL_VARIABLES: [&str; 2] = ["TERM", "COLORTERM"];

/// What is to run where.
#[derive(Clone, Copy)]
pub struct Visit<'a> {
    /// This machine's home of Cavrith.
    pub home: &'a Home,
    /// The project.
    pub project: &'a Project,
    /// Its lock.
    pub lock: &'a Lock,
    /// Its image.
    pub record: &'a ImageRecord,
    /// Program and arguments; nothing means the account's shell.
    pub argv: &'a [String],
    /// Hears where the ports are reachable, right before the command starts.
    pub tell_ports: &'a dyn Fn(&[Carried]),
}

/// Runs a command of the account in a project's workspace, with this process's own standard streams, and waits for it. When another
/// command holds the workspace already, this one goes into the same.
///
/// # Errors
/// When the workspace cannot be made or gone into; when the command cannot be started.
pub fn enter(workshop: Workshop<'_>, visit: Visit<'_>) -> Result<Ending, WorkspaceError> {
    let Visit { project, record, .. } = visit;
    let name = &project.spec.workspace.name.value;
    let setup = Setup::new(&project.spec, visit.lock, &record.shell);
    let folders = folder_mounts(&project.dir, &project.spec)?;
    let command = command(visit, &setup, &folders);
    let scratch = match scratch::hold(visit.home, name, &project.dir, &record.image) {
        Ok(scratch) => scratch,
        Err(WorkspaceError::InUse { name, holder, dir }) => {
            let signals = listen()?;
            (visit.tell_ports)(&[]);
            let guest = door::knock(&name, &dir, record.image, &command, own_streams())?;
            let guest = guest.ok_or(WorkspaceError::InUse { name, holder, dir })?;
            return attend(&guest, guest.terminal.as_ref(), signals, || ());
        }
        Err(error) => return Err(error),
    };
    let note = |text: String| (workshop.observer)(Event::Note { text });
    if let Some(earlier) = scratch.earlier.last() {
        let place = earlier.join("root");
        note(format!(
            "the image is another than before, so it has a scratch of its own; what was changed inside earlier lies in {}",
            place.display()
        ));
    }
    let mut folders = folders;
    folders.extend(except_mounts(&project.spec, &folders, &scratch.dir.join("except"))?);
    let layers = steps::layer_roots(workshop.store, record.layers.iter().map(|layer| &layer.tree));
    let mut job = Job::new(Purpose::Workspace, layers, scratch.bench.clone(), &setup.host_name);
    (job.folders, job.oddities, job.only) = (folders, workshop.oddities, (ACCOUNT_ID, ACCOUNT_ID));
    let session = Session::begin(job, workshop.identity)?;
    session.notes().iter().for_each(|text| note(text.clone()));
    let forward = Forward::begin(&project.spec.ports, &session.connector()?)?;
    let door = Door::open(&scratch.dir, record.image)?;
    let signals = listen()?;
    (visit.tell_ports)(&forward.ports);
    std::thread::scope(|scope| {
        door.serve(scope, &session);
        let outcome = session.start(&command, own_streams()).map_err(WorkspaceError::from).and_then(|running| {
            attend(&running, running.terminal.as_ref(), signals, || match door.close() {
                0 => {}
                guests => note(format!(
                    "waiting for {} that others run in this workspace; interrupt to end all",
                    count(guests, "command")
                )),
            })
        });
        door.close();
        outcome
    })
}

fn own_streams() -> [BorrowedFd<'static>; 3] {
    [rustix::stdio::stdin(), rustix::stdio::stdout(), rustix::stdio::stderr()]
}

fn command(visit: Visit<'_>, setup: &Setup, folders: &[FolderMount]) -> CommandJob {
    let terminal = terminal::own_terminals();
    let mut env = setup.env.clone();
    if terminal.contains(&true) {
        let own = TERMINAL_VARIABLES.iter().filter_map(|name| Some(((*name).to_owned(), std::env::var(name).ok()?)));
        env.extend(own);
    }
    let argv = if visit.argv.is_empty() { vec![visit.record.shell.clone()] } else { visit.argv.to_vec() };
    CommandJob {
        argv,
        env,
        directory: working_directory(folders, &setup.project),
        user: ACCOUNT_ID,
        group: ACCOUNT_ID,
        terminal,
    }
}

/// Listens for the signals that are a command's. From here on none is lost: those that come before the command runs wait.
fn listen() -> Result<Signals, WorkspaceError> {
    Ok(Signals::new([SIGHUP, SIGINT, SIGQUIT, SIGTERM]).map_err(file_error("listen for", "signals"))?)
}

/// Attends to a command: passes on what is typed, shown and signalled. `ended` is called when it has ended; from then on a
/// signal ends this process, and with it everything that it holds.
fn attend(
    command: &dyn Attended,
    terminal: Option<&OwnedFd>,
    mut signals: Signals,
    ended: impl FnOnce(),
) -> Result<Ending, WorkspaceError> {
    let (send_signal, over) = (command.signals(), Arc::new(AtomicBool::new(false)));
    let is_over = Arc::clone(&over);
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if is_over.load(Ordering::SeqCst) {
                std::process::exit(130);
            }
            send_signal(signal);
        }
    });
    let ending = match terminal {
        Some(outer) => terminal::carry(command, outer),
        None => command.wait(),
    };
    over.store(true, Ordering::SeqCst);
    ended();
    Ok(ending?)
}

/// Where the command begins: the place inside of the directory that the member is in, else the project.
fn working_directory(folders: &[FolderMount], project: &str) -> String {
    let inside = |here: PathBuf| {
        folders.iter().find_map(|folder| {
            let rest = here.strip_prefix(&folder.outside).ok()?;
            let inside = if rest == Path::new("") { folder.inside.clone() } else { folder.inside.join(rest) };
            inside.into_os_string().into_string().ok()
        })
    };
    std::env::current_dir().ok().and_then(inside).unwrap_or_else(|| project.to_owned())
}
