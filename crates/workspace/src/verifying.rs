//! Measuring this machine's image, a fresh workspace of it, and what was changed in the project's own workspace,
//! against the seal.
//!
//! | module | what |
//! |---|---|
//! | [`image`] | the image on disk |
//! | [`ports`] | which ports carry |
//! | [`running`] | what runs now, against the spec |
//! | [`scratch`] | what was changed inside the project's own workspaces |

mod image;
mod kept;
mod ports;
mod running;
mod scratch;

use std::collections::BTreeMap;
use std::time::Duration;

use cavrith_core::arrangement::{Arrangement, FolderPart, Place as FilesPlace};
use cavrith_core::derive::fit;
use cavrith_core::derive::plan::{Plan, RULES};
use cavrith_core::digest::PinsDigest;
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::seal::Seal;
use cavrith_core::setup::Setup;
use cavrith_core::verdict::{self, Aspect, Difference, Measured, NOTHING, Verdict, count, workspace_aspects};
use cavrith_engine::EngineError;
use cavrith_engine::context::BuildContext;
use cavrith_engine::error::TeamError;
use cavrith_engine::event::Event;
use cavrith_engine::home::Home;
use cavrith_engine::probe::{account_command, ask, fresh_session};
use cavrith_engine::project::Project;
use cavrith_engine::team::{self, Standing};
use cavrith_sandbox::Runtime;
use cavrith_sandbox::job::{CommandJob, Task};
use cavrith_store::records::ImageRecord;

use crate::{WorkspaceError, lifecycle};
use cavrith_keeper::mounts::{self, FolderRoots};
use image::Image;

/// How long a measuring command inside may take.
const LIMIT: Duration = Duration::from_secs(60);

/// The environment of whoever reads it (proc_pid_environ(5)).
const ENVIRONMENT: &str = "/proc/self/environ";

/// How thoroughly is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Every byte of the image is read, and a fresh workspace is started and measured.
    Full,
    /// Of layers that look as when they were last read whole, by size and times, nothing is read; no fresh workspace is
    /// started.
    Quick,
}

/// Measures everything.
///
/// # Errors
/// When there is no seal, or something cannot be measured at all.
pub fn verify(
    context: BuildContext<'_>,
    home: &Home,
    project: &Project,
    lock: &Lock,
    depth: Depth,
) -> Result<Verdict, WorkspaceError> {
    let seal = lock.seal.as_ref().ok_or(WorkspaceError::NoSeal)?;
    let mut aspects = vec![spec_and_lock(project, lock, seal)];
    aspects.extend(signature(project, lock)?);
    aspects.extend(this_machine(home, project));
    let plan = Plan::new(&project.spec, lock);
    let Some(record) = context.store.image_for(&plan.image_key)? else {
        let difference = Difference::new("image", seal.words.clone(), "not built here; run cavrith build");
        aspects.push(Aspect::new("image", NOTHING, vec![difference]));
        return Ok(Verdict { aspects });
    };
    let quick = depth == Depth::Quick;
    let reading = if quick { "looking through" } else { "reading every byte of" };
    (context.observer)(Event::Stage { text: format!("{reading} {}", count(record.layers.len(), "layer")) });
    let image = Image::measure(context, &record, quick)?;
    aspects.push(image.aspect(&project.dir, seal)?);
    // Where no layer has changed, neither have dpkg's records.
    if !image.all_trusted {
        aspects.push(image.packages(&project.spec, lock)?);
    }
    if !quick {
        (context.observer)(Event::Stage { text: "measuring a fresh workspace".to_owned() });
        let measured = measure_workspace(context, project, lock, &record, &image)?;
        aspects.extend(workspace_aspects(seal, &measured));
    }
    aspects.extend(scratch::aspects(context, home, (project, lock), &image, seal, quick));
    Ok(Verdict { aspects })
}

fn spec_and_lock(project: &Project, lock: &Lock, seal: &Seal) -> Aspect {
    let mut differences = Vec::new();
    if seal.rules != RULES {
        let rules = |number| format!("made by the rules of version {number}");
        differences.push(Difference::new("the seal", rules(RULES), rules(seal.rules)));
    }
    let pins: PinsDigest = lock.pins_digest();
    for (what, expected, here) in [
        ("the spec's meaning", seal.spec.spoken(), project.spec.digest.spoken()),
        ("the lock's pins", seal.pins.spoken(), pins.spoken()),
    ] {
        if expected != here {
            differences.push(Difference::new(what, expected, here));
        }
    }
    differences.extend(
        fit::misfits(&project.spec, lock)
            .into_iter()
            .map(|misfit| Difference::new(misfit.what, misfit.spec, misfit.lock)),
    );
    Aspect::new("spec and lock", "the spec's meaning, the lock's pins", differences)
}

/// What the spec asks of a member's machine; nothing of one that asks nothing.
fn this_machine(home: &Home, project: &Project) -> Option<Aspect> {
    let asked = &project.spec.workspace.host;
    // The image's space is taken already, or will be asked for when it is built.
    let lacking = lifecycle::machine_lacks(home, project, true);
    (!asked.is_empty()).then(|| Aspect::new("this machine", "what the spec asks of it", lacking))
}

/// Whether the seal is one that the team stands for; nothing of a project that has no team.
fn signature(project: &Project, lock: &Lock) -> Result<Option<Aspect>, WorkspaceError> {
    let wanted = "signed by a lead of the team";
    let not = |here: &str| Aspect::new("signature", NOTHING, vec![Difference::new("the seal", wanted, here)]);
    Ok(match team::judge(&project.dir, lock) {
        Ok(Standing::NoSeal | Standing::NoTeam) => None,
        Ok(Standing::Signed { signer, change, known }) => {
            let of = if change < known { format!(" of {known} known here") } else { String::new() };
            Some(Aspect::new("signature", format!("{}, by change {change} of the team{of}", signer.name), Vec::new()))
        }
        Ok(Standing::Unsigned) => Some(not("nobody signed it")),
        Ok(Standing::TeamGone) => {
            let why = "the project had a team when it was last seen here, and this revision has no cavrith.team";
            let aspect = Aspect::new("signature", NOTHING, Vec::new());
            Some(Aspect { unmeasured: vec![why.to_owned()], ..aspect })
        }
        Err(EngineError::Team(TeamError::Seal { why, .. })) => Some(not(&why.to_string())),
        Err(EngineError::Team(TeamError::History(why))) => Some(not(&why.to_string())),
        Err(error) => return Err(error.into()),
    })
}

/// Starts a workspace with an empty scratch, and measures what it shows.
fn measure_workspace(
    context: BuildContext<'_>,
    project: &Project,
    lock: &Lock,
    record: &ImageRecord,
    image: &Image<'_>,
) -> Result<Measured, WorkspaceError> {
    let spec = &project.spec;
    let described = Setup::new(spec, lock, &record.shell);
    let arrangement = Arrangement::new(spec, lock, record.image, &record.shell);
    let folder_roots =
        FolderRoots { project: &project.dir, except: &context.staging.new_dir()?, kept: &context.staging.new_dir()? };
    let folders = mounts::folders(&live(&arrangement.folders), folder_roots)?;
    let session = fresh_session(context, record, &described, folders)?;
    let probes = ask(&session, &described, lock)?;
    let ports = ports::measure(&arrangement, &session.connector()?);
    let mut unmeasured: Vec<_> = ports.unmeasured.into_iter().map(|why| ("ports", why)).collect();
    let mut or_described = |aspect: &'static str, found: Result<_, String>, described: String| {
        found.unwrap_or_else(|why| {
            unmeasured.push((aspect, why));
            described
        })
    };
    let host_name = measured_file(&session, &described, "/proc/sys/kernel/hostname");
    let host_name = host_name.map(|name| name.trim_end().to_owned());
    let host_name = or_described("account", host_name, described.host_name.clone());
    let env = measured_env(&session, &described).unwrap_or_else(|why| {
        unmeasured.push(("environment", why));
        described.env.clone()
    });
    let folders = measured_folders(&session, &described).unwrap_or_else(|why| {
        unmeasured.push(("folders", why));
        described.folders.clone()
    });
    let setup = Setup {
        account: described.account.clone(),
        project: described.project.clone(),
        host_name,
        env,
        folders,
        ports: ports.carried,
        extensions: lock
            .extensions
            .iter()
            .filter_map(|pin| Some((pin.id.clone(), extension_version(image, pin)?)))
            .collect(),
        settings: measured_settings(image, lock, &described),
        // A fresh workspace is measured before anything in it is started; what would be is what its arrangement says.
        runtime: described.runtime.clone(),
    };
    let identity = passwd_identity(image, &described.account);
    Ok(Measured { setup, identity, probes, unmeasured })
}

/// The content of a file as the account sees it inside.
fn measured_file(session: &dyn Runtime, setup: &Setup, path: &str) -> Result<String, String> {
    let cat = account_command(setup, vec!["cat".to_owned(), path.to_owned()]);
    // An image without `cat` is asked by a process of ours. That one is no program of the image, so what the kernel has
    // of it as its environment says nothing.
    let task = if path == ENVIRONMENT { Task::Environment } else { Task::Read(path.to_owned()) };
    let own = CommandJob { task: Some(task), ..account_command(setup, Vec::new()) };
    match output(session, &cat, path) {
        Err(None) => output(session, &own, path).map_err(|why| why.unwrap_or_default()),
        Err(Some(why)) => Err(why),
        Ok(content) => Ok(content),
    }
}

/// What a command writes, or in words why it cannot be had; nothing when there is no such program.
fn output(session: &dyn Runtime, command: &CommandJob, path: &str) -> Result<String, Option<String>> {
    let mut content = Vec::new();
    let failed = |how: String| format!("{path} cannot be read inside: {how}");
    match session.run(command, LIMIT, &mut |bytes| content.extend(bytes)) {
        Ok(Some(ending)) if ending.is_good() => Ok(String::from_utf8_lossy(&content).into_owned()),
        Ok(Some(ending)) => Err(Some(failed(ending.to_string()))),
        Ok(None) => Err(Some(failed(format!("no answer within {} s", LIMIT.as_secs())))),
        Err(cavrith_sandbox::SandboxError::NotStarted { missing: true, .. }) => Err(None),
        Err(error) => Err(Some(failed(error.to_string()))),
    }
}

/// The environment as the kernel has it of a process of the account.
fn measured_env(session: &dyn Runtime, setup: &Setup) -> Result<BTreeMap<String, String>, String> {
    let text = measured_file(session, setup, ENVIRONMENT)?;
    let pairs = text.split('\0').filter_map(|pair| pair.split_once('='));
    Ok(pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).collect())
}

/// Which of the setup's folders really are mounts inside (proc_pid_mountinfo(5), field 5).
fn measured_folders(session: &dyn Runtime, setup: &Setup) -> Result<Vec<String>, String> {
    let mounts = measured_file(session, setup, "/proc/self/mountinfo")?;
    Ok(mounted(&mounts, &setup.folders).into_iter().cloned().collect())
}

/// The folders that are mounts, by the kernel's list of them.
fn mounted<'a>(mounts: &str, folders: &'a [String]) -> Vec<&'a String> {
    let unescape = |text: &str| text.replace("\\040", " ").replace("\\011", "\t").replace("\\134", "\\");
    let points: Vec<_> = mounts.lines().filter_map(|line| line.split(' ').nth(4).map(unescape)).collect();
    let is_mounted = |folder: &&String| {
        let (inside, except) = folder.split_once(" except ").unwrap_or((folder, ""));
        let inside = inside.split_once(" kept as ").map_or(inside, |(inside, _)| inside);
        let mut except = except.split(", ").filter(|name| !name.is_empty()).map(|name| format!("{inside}/{name}"));
        points.iter().any(|point| point == inside) && except.all(|place| points.contains(&place))
    };
    folders.iter().filter(is_mounted).collect()
}

/// The version that an extension's own description gives; where it has none, that its files are there.
fn extension_version(image: &Image<'_>, pin: &cavrith_core::lock::ExtensionPin) -> Option<String> {
    let place = RootPath::from_absolute(&pin.place).ok()?;
    if image.merged.under(&place).count() < 2 {
        return None;
    }
    let description = image.read(&format!("{}/package.json", pin.place.trim_start_matches('/')));
    let version = description.and_then(|text| {
        let value: serde_json::Value = serde_json::from_slice(&text).ok()?;
        Some(value.get("version")?.as_str()?.to_owned())
    });
    Some(version.unwrap_or_else(|| pin.version.to_string()))
}

fn measured_settings(image: &Image<'_>, lock: &Lock, setup: &Setup) -> String {
    let Some(profile) = &lock.editor else {
        return String::new();
    };
    let place = profile.settings_place(&cavrith_core::account::home(&setup.account));
    let text = image.read(place.trim_start_matches('/')).unwrap_or_default();
    String::from_utf8_lossy(&text).into_owned()
}

/// What `/etc/passwd` inside says of the account.
fn passwd_identity(image: &Image<'_>, account: &str) -> String {
    let passwd = image.read("etc/passwd").unwrap_or_default();
    let passwd = String::from_utf8_lossy(&passwd).into_owned();
    let line = passwd.lines().find(|line| line.split(':').next() == Some(account));
    let found = line.and_then(|line| {
        let fields: Vec<_> = line.split(':').collect();
        Some(format!("{}:{} {}", fields.get(2)?, fields.get(3)?, fields.get(5)?))
    });
    found.unwrap_or_else(|| verdict::NOTHING.to_owned())
}

/// Synced folders as live ones: nothing in the folder outside is changed by what measures, and no copy is needed.
fn live(folders: &[FolderPart]) -> Vec<FolderPart> {
    let mut folders = folders.to_vec();
    for folder in &mut folders {
        if let FilesPlace::Synced(outside, _) = &folder.place {
            folder.place = FilesPlace::Live(outside.clone());
        }
    }
    folders
}
