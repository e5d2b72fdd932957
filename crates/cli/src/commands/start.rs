//! `cavrith start` and `cavrith restart`

use std::path::Path;
use std::time::{Duration, Instant};

use cavrith_core::arrangement::Arrangement;
use cavrith_core::lock::Lock;
use cavrith_core::spec::Network;
use cavrith_engine::home::Home;
use cavrith_engine::project::{self, Project};
use cavrith_exchange::parcel::OpenParcel;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::protocol::Status;
use cavrith_keeper::record::{Record, Standing};
use cavrith_store::Store;
use cavrith_workspace::WorkspaceError;
use cavrith_workspace::adding;
use cavrith_workspace::lifecycle::{self, Meant, Pending, Wanted};
use cavrith_workspace::scratches;
use serde_json::json;

use crate::args::{General, Start, Which};
use crate::build_env::{self, BuildEnv};
use crate::commands::stop::bring_down;
use crate::commands::verify::watch::{self as watching, Watched};
use crate::commands::{Outcome, build, desktop};
use crate::failure::Failure;
use crate::render::progress::{Where, seconds};
use crate::render::runtime::EventPrinter;
use crate::screen::{Screen, styled};

/// How long a start waits for services when nobody asked it to.
const MOMENT: Duration = Duration::from_secs(3);

/// Which workspace the arguments mean.
pub fn meant<'a>(general: &'a General, home: &'a Home, which: &'a Which) -> Meant<'a> {
    Meant {
        home,
        project: general.project(),
        project_typed: general.project_typed(),
        name: which.name.as_deref(),
        variant: general.variant.as_deref(),
    }
}

pub fn exec(general: &General, screen: &Screen, command: &Start) -> Outcome {
    let (home, store) = build_env::store()?;
    let (place, project) = meant(general, &home, &command.which).to_start()?;
    // Before anything is started that nothing could be held against.
    if command.watch && project::load_lock(&project)?.seal.is_none() {
        return Err(WorkspaceError::NoSeal.into());
    }
    let code = begin(screen, command, (home, store, place, &project))?;
    watched(general, screen, command, &project, code)
}

/// Goes on watching what was started, when that is wanted.
fn watched(general: &General, screen: &Screen, command: &Start, project: &Project, code: u8) -> Outcome {
    if command.watch && code == 0 {
        return watching::exec(general, screen, Watched { quick: false, json: command.report.json }, project);
    }
    Ok(code)
}

/// Starts it, or tells that it runs.
fn begin(screen: &Screen, command: &Start, (home, store, place, project): (Home, Store, Place, &Project)) -> Outcome {
    let started = Instant::now();
    if let Some(client) = Client::new(&place) {
        let status = client.status()?;
        if status.standing == Standing::Frozen {
            let text = format!("the workspace {} is frozen; cavrith thaw lets it go on", place.name);
            return Err(Failure::Own(3, text));
        }
        let pending = lifecycle::pending(&store, &place, &status.arrangement);
        if !command.report.json {
            let since = crate::render::runtime::clock(status.since);
            screen.say(format_args!("{} runs since {since}", styled(screen.err.strong, &place.name)));
            crate::render::runtime::pending(screen, &pending, true);
        }
        return settle(screen, &place, command, None, Some(pending));
    }
    let place = match &command.called {
        Some(name) if !place.named && !place.dir.exists() => place.with_name(&home, name),
        _ => place,
    };
    let way = Way {
        known: command.known,
        anyway: command.anyway,
        bare: command.plain,
        machine: chosen(command),
        parcel: command.parcel.as_deref(),
        ..Way::default()
    };
    launch(screen, &place, project, way)?;
    settle(screen, &place, command, Some(started), None)
}

pub fn restart(general: &General, screen: &Screen, command: &Start) -> Outcome {
    let started = Instant::now();
    let home = build_env::home()?;
    let (place, _) = meant(general, &home, &command.which).to_start()?;
    if let Some(client) = Client::new(&place) {
        bring_down(screen, &client, &place)?;
    }
    // The spec may have another name for it by now.
    let (place, project) = meant(general, &home, &command.which).to_start()?;
    launch(
        screen,
        &place,
        &project,
        Way {
            known: command.known,
            anyway: command.anyway,
            bare: command.plain,
            machine: chosen(command),
            ..Way::default()
        },
    )?;
    let code = settle(screen, &place, command, Some(started), None)?;
    watched(general, screen, command, &project, code)
}

/// The lock that answers a project's spec.
pub fn lock_of(project: &Project) -> Result<Lock, Failure> {
    let lock = project::load_lock(project)?;
    project::check_files(project, &lock)?;
    Ok(lock)
}

/// What the member chooses to run it in, when they say it.
fn chosen(command: &Start) -> Option<bool> {
    (command.machine || command.no_machine).then_some(command.machine)
}

/// How a workspace is started.
#[derive(Debug, Clone, Copy, Default)]
pub struct Way<'a> {
    /// Without steps, services and ports.
    pub plain: bool,
    /// Its member knows what it gets of this machine, and need not be told at its first start.
    pub known: bool,
    /// Without what the member adds of their own.
    pub bare: bool,
    /// Though this machine does not offer what the spec asks of it.
    pub anyway: bool,
    /// In the machine that the spec describes, or in none, by the member's choice now.
    pub machine: Option<bool>,
    /// A parcel whose scratch is laid out first, when there is none.
    pub parcel: Option<&'a Path>,
}

/// Starts a keeper, over an image that is built when it is not there.
pub fn launch(screen: &Screen, place: &Place, project: &Project, way: Way<'_>) -> Result<(), Failure> {
    let lock = lock_of(project)?;
    let earlier = Record::read(&place.dir);
    if let Some(record) = earlier.as_ref().filter(|record| record.ended.is_none()) {
        screen.say(format_args!("{} {}", place.name, record.standing().words()));
    }
    let build_env = BuildEnv::open()?;
    if !way.anyway {
        lifecycle::check_machine(&build_env::home()?, project, &lock, &build_env.store_session.store)?;
    }
    let brought = if way.plain { None } else { Some(adding::brought(project, &typed, way.bare)?) };
    let built = build::ensure(screen, &build_env, project, &lock)?;
    let added = build::with_progress(screen, &build_env, Where::Aside, false, |context| {
        Ok(brought.map(|brought| brought.over(context, (project, &lock), &built.record)).unwrap_or_default())
    })?;
    let mut wanted = Wanted::new(project, &lock, &built.record);
    match (way.machine, &earlier) {
        (Some(true), _) => wanted.choose_machine(project)?,
        // What a member chose holds for every command that starts it, until they choose otherwise.
        (None, Some(earlier)) => wanted.arrangement.choose_as(&earlier.arrangement, &project.spec),
        (Some(false), _) | (None, None) => {}
    }
    let image = wanted.arrangement.image;
    if let Some(earlier) = earlier.filter(|earlier| earlier.arrangement.image != image)
        && let Some((count, _, path)) = lifecycle::left_behind(place, &earlier.arrangement, 0)
    {
        screen.say(format_args!(
            "the image is another than before, so it has a scratch of its own; what was changed inside earlier ({}) lies in {}",
            cavrith_core::verdict::count(count, "file"),
            path.display()
        ));
    }
    if !place.dir.exists() && !way.known {
        screen.say(format_args!("{} starts here for the first time", styled(screen.err.strong, &place.name)));
        tell_what_it_gets(screen, &place.project, &wanted.arrangement);
    }
    if let Some(path) = way.parcel {
        let parcel = OpenParcel::open(path)?;
        let laid = build::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
            Ok(scratches::lay(context, place, &parcel, &built.record, build_env.identity)?)
        })?;
        if !laid && parcel.document.scratch().is_some() {
            let text = "what was changed by hand elsewhere is not laid out: this workspace has a scratch of its own, or \
                        another image";
            screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
        }
    }
    build::with_progress(screen, &build_env, Where::Aside, false, |context| {
        Ok(wanted.launch(context, (project, &lock), place, (added, way.plain))?)
    })?;
    Ok(())
}

/// A secret that is typed, unseen.
pub fn typed(name: &str) -> Option<String> {
    let is_terminal = std::io::IsTerminal::is_terminal(&std::io::stdin());
    is_terminal.then(|| rpassword::prompt_password(format!("the secret {name}: ")).ok()).flatten()
}

/// What a workspace sees and does of this machine. The spec may have come with a clone.
pub fn tell_what_it_gets(screen: &Screen, project: &Path, arrangement: &Arrangement) {
    let line = |what: &str, text: String| screen.say(format_args!("{} {text}", styled(screen.err.faint, what)));
    for folder in &arrangement.folders {
        if let Some(outside) = folder.place.outside() {
            let real = project.join(outside);
            let real = real.canonicalize().unwrap_or(real);
            line("    reads and writes", format!("{} (as {})", real.display(), folder.inside));
        }
    }
    for port in &arrangement.ports {
        let whose = port.bind.map_or_else(|| "this machine's loopback".to_owned(), |address| address.to_string());
        line("    listens on", format!("{} of {whose} ({})", port.outside, port.name));
    }
    if arrangement.network != Network::None {
        line("    reaches", "other machines, where this one lets it".to_owned());
    }
}

/// Waits for what was started, and shows its state.
fn settle(
    screen: &Screen,
    place: &Place,
    command: &Start,
    started: Option<Instant>,
    pending: Option<Pending>,
) -> Outcome {
    let as_json = command.report.json;
    let good = watch(screen, place, (!command.wait).then_some(MOMENT), started.is_some(), as_json)?;
    let status = client(place)?.status()?;
    if as_json {
        screen.json(&json!({ "name": place.name, "good": good, "status": status_value(&status), "pending": pending }));
    } else if !screen.quiet {
        if let Some(started) = started {
            for port in &status.ports {
                screen.result(crate::render::runtime::port(screen, port));
            }
            let took = seconds(started.elapsed().as_millis() as u64);
            let how = match good {
                Some(true) => styled(screen.out.good, "runs"),
                Some(false) => styled(screen.out.bad, "runs, but something failed"),
                None => styled(screen.out.warning, "runs, and not every service is ready yet"),
            };
            screen.result(format_args!("{} {how}, started in {took}", styled(screen.out.strong, &place.name)));
        }
        if good == Some(true) && started.is_some() {
            open_sites(screen, &status);
        }
    }
    Ok(if good == Some(false) { 5 } else { 0 })
}

/// A connection to a workspace that was just seen running.
pub fn client(place: &Place) -> Result<Client, Failure> {
    let gone = || cavrith_keeper::KeeperError::Gone { name: place.name.clone() };
    Ok(Client::new(place).ok_or_else(gone)?)
}

/// Shows what happens until all has come to rest; whether it went well, when that is known.
pub fn watch(
    screen: &Screen,
    place: &Place,
    linger: Option<Duration>,
    whole: bool,
    silent: bool,
) -> Result<Option<bool>, Failure> {
    let mut teller = EventPrinter::new(screen, silent);
    let good = client(place)?.watch(whole, linger, &mut |event| teller.show(event))?;
    teller.finish();
    Ok(good)
}

/// A status as JSON, without the whole arrangement, which is the spec's.
pub fn status_value(status: &Status) -> serde_json::Value {
    let mut value = serde_json::to_value(status).unwrap_or_default();
    if let Some(map) = value.as_object_mut() {
        map.remove("arrangement");
        map.insert("words".to_owned(), status.image.spoken().into());
    }
    value
}

/// Tells the addresses that the spec wants opened, and opens them where there is a desktop.
pub fn open_sites(screen: &Screen, status: &Status) {
    for part in status.arrangement.ports.iter().filter(|part| part.open) {
        let Some(port) = status.ports.iter().find(|port| port.name == part.name) else { continue };
        let url = port.url();
        screen.result(format_args!("{} {url}", styled(screen.out.strong, format_args!("{} is at", part.name))));
        desktop::open(&url);
    }
}
