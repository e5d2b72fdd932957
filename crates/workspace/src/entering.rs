//! Running a command inside, as if it ran here.

use std::path::{Path, PathBuf};

use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
use signal_hook::iterator::Signals;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::lock::Lock;
use cavrith_core::setup::Setup;
use cavrith_engine::build::Workshop;
use cavrith_engine::error::file_error;
use cavrith_engine::event::Event;
use cavrith_engine::home::Home;
use cavrith_engine::project::Project;
use cavrith_engine::steps;
use cavrith_sandbox::job::{CommandJob, Ending, Job, Purpose};
use cavrith_sandbox::{Session, terminal};
use cavrith_store::records::ImageRecord;

use crate::ports::{Carried, Forward};
use crate::{WorkspaceError, folder_mounts, scratch};

/// What of the member's own environment goes inside with a terminal: what it is and which colours it has.
const TERMINAL_VARIABLES: [&str; 2] = ["TERM", "COLORTERM"];

/// Runs a command of the account in a project's workspace, with this process's own standard streams, and waits for it. `argv`: nothing
/// means the account's shell. `tell_ports` hears where the ports are reachable, before the command starts.
///
/// # Errors
/// When the workspace is in use, or cannot be made; when the command cannot be started.
pub fn enter(
    workshop: Workshop<'_>,
    home: &Home,
    project: &Project,
    lock: &Lock,
    record: &ImageRecord,
    argv: &[String],
    tell_ports: &dyn Fn(&[Carried]),
) -> Result<Ending, WorkspaceError> {
    let name = &project.spec.workspace.name.value;
    let scratch = scratch::hold(home, name, &project.dir, &record.image)?;
    let note = |text: String| (workshop.observer)(Event::Note { text });
    if let Some(earlier) = scratch.earlier.last() {
        note(format!(
            "the image is another than before, so it has a scratch of its own; what was changed inside earlier lies in {}",
            earlier.join("root").display()
        ));
    }
    let setup = Setup::new(&project.spec, lock, &record.shell);
    let folders = folder_mounts(&project.dir, &project.spec)?;
    let directory = working_directory(&folders, &setup.project);
    let job = Job {
        layers: steps::layer_roots(workshop.store, record.layers.iter().map(|layer| &layer.tree)),
        bench: scratch.bench.clone(),
        host_name: setup.host_name.clone(),
        folders,
        purpose: Purpose::Workspace,
        oddities: workshop.oddities,
    };
    let session = Session::begin(job, workshop.identity)?;
    session.notes().iter().for_each(|text| note(text.clone()));
    let forward = Forward::begin(&project.spec.ports, &session.connector()?)?;
    tell_ports(&forward.ports);
    let terminals = terminal::own_terminals();
    let mut env = setup.env.clone();
    if terminals.contains(&true) {
        let own = TERMINAL_VARIABLES.iter().filter_map(|name| Some(((*name).to_owned(), std::env::var(name).ok()?)));
        env.extend(own);
    }
    let argv = if argv.is_empty() { vec![record.shell.clone()] } else { argv.to_vec() };
    let command = CommandJob { argv, env, directory, id: ACCOUNT_ID, terminal: terminals };
    attend(&session, &command)
}

/// Starts the command and attends to it: passes on what is typed, shown and signalled.
fn attend(session: &Session, command: &CommandJob) -> Result<Ending, WorkspaceError> {
    let mut signals = Signals::new([SIGHUP, SIGINT, SIGQUIT, SIGTERM]).map_err(file_error("listen for", "signals"))?;
    let listening = signals.handle();
    let streams = [rustix::stdio::stdin(), rustix::stdio::stdout(), rustix::stdio::stderr()];
    let outer = session.start(command, streams)?;
    std::thread::scope(|scope| {
        scope.spawn(|| signals.forever().for_each(|signal| drop(session.signal(signal))));
        let ending = match &outer {
            Some(outer) => terminal::carry(session, outer),
            None => session.wait(),
        };
        listening.close();
        Ok(ending?)
    })
}

/// Where the command begins: the place inside of the directory that the member is in, else the project.
fn working_directory(folders: &[cavrith_sandbox::job::FolderMount], project: &str) -> String {
    let inside = |here: PathBuf| {
        folders.iter().find_map(|folder| {
            let rest = here.strip_prefix(&folder.outside).ok()?;
            let inside = if rest == Path::new("") { folder.inside.clone() } else { folder.inside.join(rest) };
            inside.into_os_string().into_string().ok()
        })
    };
    std::env::current_dir().ok().and_then(inside).unwrap_or_else(|| project.to_owned())
}
