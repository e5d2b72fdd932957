//! What this machine offers and lacks for sandboxes, found by trying.

use std::fs;
use std::path::Path;

use serde::Serialize;

use crate::host::groups::Groups;
use crate::host::ids::{self, Identity};
use crate::parent::process::SandboxProcess;
use crate::parent::runtime::Runtime as _;
use crate::protocol::job::{CommandJob, Job, Purpose};
use crate::{SandboxError, Session};

/// How something stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It is there.
    There,
    /// It is not, and something is done another way, or less well.
    Limited,
    /// It is not, and Cavrith cannot work without it.
    Lacking,
}

/// One thing that was examined.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct HostCheck {
    /// The name that is used.
    pub name: String,
    /// Its state.
    pub standing: Standing,
    /// What was found.
    pub found: String,
    /// What to do about it; empty when nothing has to be done.
    pub remedy: String,
}

impl HostCheck {
    /// Something that is there.
    pub fn there(name: &str, found: impl Into<String>) -> Self {
        Self { name: name.to_owned(), standing: Standing::There, found: found.into(), remedy: String::new() }
    }

    /// Something that is not as it should be.
    pub fn short(name: &str, standing: Standing, found: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self { name: name.to_owned(), standing, found: found.into(), remedy: remedy.into() }
    }
}

/// What can be found out without making anything: the kernel, control groups, programs.
pub fn look() -> Vec<HostCheck> {
    vec![kernel(), user_namespaces(), control_groups()]
}

/// The kernel's release as it names itself.
pub fn release() -> String {
    kernel_release().0
}

/// The kernel's release as it names itself, and the first two numbers of it.
/// What a machine has, as far as it says.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Resources {
    /// Bytes of memory (proc_meminfo(5), `MemTotal`).
    pub memory: Option<u64>,
    /// Processors that this process may use.
    pub processors: Option<u32>,
    /// Bytes that an ordinary user can still write where the path lies, or its nearest directory that is there.
    pub disk: Option<u64>,
}

/// Looks at what this machine has.
pub fn resources(disk_at: &Path) -> Resources {
    let text = fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("MemTotal:"));
    let kibibytes = line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
    let there = disk_at.ancestors().find(|path| path.is_dir());
    let free = there.and_then(|path| rustix::fs::statvfs(path).ok());
    Resources {
        memory: kibibytes.map(|kibibytes| kibibytes * 1024),
        processors: std::thread::available_parallelism().ok().and_then(|count| u32::try_from(count.get()).ok()),
        disk: free.map(|free| free.f_bavail * free.f_frsize),
    }
}

pub(crate) fn kernel_release() -> (String, (u32, u32)) {
    let release = rustix::system::uname().release().to_string_lossy().into_owned();
    let mut numbers =
        release.split(|letter: char| !letter.is_ascii_digit()).map(|part| part.parse::<u32>().unwrap_or(0));
    let version = (numbers.next().unwrap_or(0), numbers.next().unwrap_or(0));
    (release, version)
}

fn kernel() -> HostCheck {
    let (release, version) = kernel_release();
    let name = "kernel";
    match version {
        (0..5, _) | (5, 0..11) => HostCheck::short(
            name,
            Standing::Lacking,
            format!("Linux {release}"),
            "upgrade to Linux 5.11 or newer; overlay mounts of ordinary users begin there",
        ),
        (5, 11) => HostCheck::short(
            name,
            Standing::Limited,
            format!("Linux {release}"),
            "with Linux 5.12 or newer root's folders get their owners right",
        ),
        _ => HostCheck::there(name, format!("Linux {release}")),
    }
}

fn user_namespaces() -> HostCheck {
    let name = "user namespaces";
    match SandboxProcess::hold_ids() {
        Ok(_) => HostCheck::there(name, "an ordinary user may make them"),
        Err(error) => HostCheck::short(
            name,
            Standing::Lacking,
            error.to_string(),
            "let an administrator run: sysctl user.max_user_namespaces=15000 (and kernel.unprivileged_userns_clone=1, kernel.apparmor_restrict_unprivileged_userns=0 where those exist)",
        ),
    }
}

/// What a workspace's limits would be kept by.
fn control_groups() -> HostCheck {
    let name = "limits";
    let groups = Groups::make_here(&format!("doctor-{}", std::process::id()), &|_| ());
    let kept = groups.kept;
    let lacking: Vec<_> = [
        ("memory", kept.memory),
        ("processors", kept.cpus),
        ("processes", kept.processes),
        ("freezing", kept.freezing),
    ]
    .into_iter()
    .filter_map(|(what, kept)| (!kept).then_some(what))
    .collect();
    if lacking.is_empty() {
        return HostCheck::there(name, "memory, processors and processes of a workspace, all together");
    }
    HostCheck::short(
        name,
        Standing::Limited,
        format!("no control group for {}; it is done process by process", lacking.join(", ")),
        "have systemd hand out control groups to users (Delegate=yes of user@.service), on a machine with the unified hierarchy",
    )
}

/// Who we are, as far as owners go. Must be called before the process has a second thread.
pub fn identity() -> (HostCheck, Option<Identity>) {
    let name = "owners of files";
    let lacking = ids::lacks_range();
    match ids::enter() {
        Ok(Identity::Root) => (HostCheck::there(name, "root has all of them"), Some(Identity::Root)),
        Ok(Identity::Range) => (HostCheck::there(name, "a range of subordinate ids"), Some(Identity::Range)),
        Ok(Identity::Single) => {
            let (found, remedy) = match lacking {
                Some(SandboxError::Lacks { what, remedy }) => (what, remedy),
                _ => ("no subordinate ids".to_owned(), "nothing has to be done".to_owned()),
            };
            let found = format!("one, and all others are written beside the files ({found})");
            let remedy = format!("images come out the same; to have real owners inside, {remedy}");
            (HostCheck::short(name, Standing::Limited, found, remedy), Some(Identity::Single))
        }
        Err(SandboxError::Lacks { what, remedy }) => (HostCheck::short(name, Standing::Lacking, what, remedy), None),
        Err(error) => (HostCheck::short(name, Standing::Lacking, error.to_string(), "see the message"), None),
    }
}

/// Builds a sandbox with nothing in it over `overlay_scratch` (as [`Job::overlay_scratch`]) and an empty layer, and
/// asks for a command that is not there: then everything but the command works.
pub fn try_sandbox(identity: Identity, layer: &Path, overlay_scratch: &Path) -> Vec<HostCheck> {
    let name = "a whole sandbox";
    let job = Job::new(Purpose::Build, vec![layer.to_owned()], overlay_scratch.to_owned(), "cavrith");
    let session = match Session::begin(job, identity) {
        Ok(session) => session,
        Err(error) => {
            let remedy =
                "what is refused is named in the message; a security module or a container around us may be the reason";
            return vec![HostCheck::short(name, Standing::Lacking, error.to_string(), remedy)];
        }
    };
    let mut traits: Vec<_> = session
        .notes()
        .iter()
        .map(|note| HostCheck::short("limits", Standing::Limited, note.clone(), "a newer kernel does it"))
        .collect();
    let command = CommandJob {
        argv: vec!["/no-such-program".to_owned()],
        env: Default::default(),
        directory: "/".to_owned(),
        user: 0,
        group: 0,
        ..CommandJob::default()
    };
    let asked = session.run(&command, std::time::Duration::from_secs(10), &mut |_| ());
    traits.insert(
        0,
        match asked {
            Err(SandboxError::NotStarted { missing: true, .. }) => {
                HostCheck::there(name, "namespaces, overlay, mounts, and a filter of system calls")
            }
            Ok(_) => HostCheck::short(
                name,
                Standing::Limited,
                "a program that is not there ran",
                "tell us: this is a mistake",
            ),
            Err(error) => {
                HostCheck::short(name, Standing::Lacking, error.to_string(), "what is refused is named in the message")
            }
        },
    );
    traits
}
