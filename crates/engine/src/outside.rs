//! What a project takes from outside its own tree, and its member's word for it.
//!
//! A spec may be a stranger's, since it comes with a clone. So what it names counts as the project's own only where it
//! really lies, all links followed: in the work tree of its version control, or in its folder where there is none. For
//! anything else the member has to say yes, once for each project and path; that is remembered in `allowed.toml` beside
//! their configuration. Some places no spec gets, whatever anybody says: the whole disk, the system's own directories,
//! a home as a whole, Cavrith's own, and where keys are kept.
//!
//! A path that was judged is used without links ([`reading::open_real`] and the sandbox's own opening), so it cannot
//! lead elsewhere later.

use std::env;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use cavrith_core::spec::{Action, At, Base, ImageOrigin, OciBase, Origin, Provenance, Spec, Text};
use cavrith_store::reading;

use crate::error::{EngineError, ProjectError, file_error};
use crate::findings::OutsideUse;
use crate::home::Home;
use crate::remembered::List;

/// The system's own directories, with all that is in them.
const SYSTEM: [&str; 18] = [
    "/bin",
    "/boot",
    "/dev",
    "/etc",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/proc",
    "/run",
    "/sbin",
    "/sys",
    "/usr",
    "/var/lib",
    "/var/log",
    "/var/cache",
    "/var/spool",
    "/var/mail",
];
/// Directories that are too much as a whole, whatever is in them.
const TOO_MUCH: [&str; 9] = ["/", "/home", "/media", "/mnt", "/opt", "/root", "/srv", "/tmp", "/var"];
/// Where keys are kept, in a home.
const KEYS: [&str; 9] = [
    ".ssh",
    ".gnupg",
    ".aws",
    ".pki",
    ".netrc",
    ".git-credentials",
    ".password-store",
    ".local/share/keyrings",
    ".config/cavrith",
];

/// What the member has allowed, as `allowed.toml` has it.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
struct Allowed {
    allowed: Vec<Permission>,
}

/// That a project may use a path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Permission {
    project: PathBuf,
    path: PathBuf,
}

/// Where a project's own files end.
#[derive(Debug, Clone)]
pub struct Bounds {
    /// Its folder, without links.
    dir: PathBuf,
    /// The top of its tree.
    top: PathBuf,
    /// What the member allowed it besides, without links.
    allowed: Vec<PathBuf>,
}

impl Bounds {
    /// Of a project, with what its member has allowed it.
    ///
    /// # Errors
    /// When the member's list cannot be read.
    pub fn of(dir: &Path) -> Result<Self, EngineError> {
        let allowed = read_allowed()?.allowed;
        Ok(Self::with(dir, allowed.into_iter().filter(|one| one.project == *dir).map(|one| one.path).collect()))
    }

    /// Of a project that was allowed these paths.
    pub fn with(dir: &Path, allowed: Vec<PathBuf>) -> Self {
        let homes = homes();
        // A home or the whole disk under version control is still a home.
        let top = versioned(dir).filter(|top| too_much(top, &homes).is_none()).unwrap_or(dir);
        Self { dir: dir.to_owned(), top: top.to_owned(), allowed }
    }

    /// The top of the tree that a path of the project's lies in: the project's own, or what was allowed.
    pub(crate) fn top_of<'a>(&'a self, real: &'a Path) -> &'a Path {
        let allowed = self.allowed.iter().filter(|allowed| real.starts_with(allowed));
        let outside = || allowed.min_by_key(|allowed| allowed.as_os_str().len()).map(PathBuf::as_path);
        if real.starts_with(&self.top) { &self.top } else { outside().unwrap_or(real) }
    }

    /// The project's folder.
    pub fn dir(&self) -> &Path {
        &self.dir
    }

    /// What it was allowed besides its own.
    pub fn allowed(&self) -> &[PathBuf] {
        &self.allowed
    }

    /// Where something that the project names really lies.
    ///
    /// # Errors
    /// When it is not there, or lies outside and is not allowed.
    pub fn real(&self, named: &str) -> Result<PathBuf, EngineError> {
        let path = self.dir.join(named);
        let real = path.canonicalize().map_err(file_error("use", &path))?;
        self.inside(named, real)
    }

    /// As [`Self::real`], of something that is taken as it is: a link itself, and not what it leads to.
    ///
    /// # Errors
    /// As [`Self::real`].
    pub fn real_entry(&self, named: &str) -> Result<PathBuf, EngineError> {
        let path = self.dir.join(named);
        let (Some(above), Some(name)) = (path.parent(), path.file_name()) else { return self.real(named) };
        let above = above.canonicalize().map_err(file_error("use", &path))?;
        self.inside(named, above.join(name))
    }

    fn inside(&self, named: &str, real: PathBuf) -> Result<PathBuf, EngineError> {
        if self.has(&real) {
            return Ok(real);
        }
        let never = never(&real, &homes());
        Err(self.refusal(vec![OutsideUse { what: on_one_line(named), path: real, span: 0..0, never }]))
    }

    /// The project's own, or allowed.
    fn has(&self, real: &Path) -> bool {
        real.starts_with(&self.top) || self.allowed.iter().any(|allowed| real.starts_with(allowed))
    }

    fn refusal(&self, uses: Vec<OutsideUse>) -> EngineError {
        EngineError::Project(ProjectError::Outside { project: self.dir.clone(), uses })
    }

    /// Everything that a spec takes from outside and may not, or not yet. What is not there is for others to tell.
    pub fn missing(&self, spec: &Spec) -> Vec<OutsideUse> {
        let homes = homes();
        let named = named(spec);
        let outside = named.into_iter().filter_map(|(what, at, mounted)| {
            let what = format!("{what} {}", on_one_line(&at.value));
            let path = self.dir.join(&at.value).canonicalize().ok()?;
            // What is mounted can be written to and seen as a whole, the project's own folder too.
            let never = match (path.starts_with(&self.top), mounted) {
                (false, _) => never(&path, &homes),
                // Where the project itself lies was the member's choice.
                (true, true) => too_much(&path, &homes),
                (true, false) => None,
            };
            (never.is_some() || !self.has(&path)).then_some(OutsideUse { what, path, span: at.span.clone(), never })
        });
        outside.collect()
    }

    /// Sees to it that a spec takes nothing that it may not.
    ///
    /// # Errors
    /// [`ProjectError::Outside`].
    pub fn check(&self, spec: &Spec) -> Result<(), EngineError> {
        let missing = self.missing(spec);
        if missing.is_empty() { Ok(()) } else { Err(self.refusal(missing)) }
    }
}

/// The top of the work tree that a folder lies in, when it is under version control.
pub(crate) fn versioned(dir: &Path) -> Option<&Path> {
    dir.ancestors().find(|above| above.join(".git").symlink_metadata().is_ok())
}

/// A text of a spec, or a name on the disk, as it stands in a question: on one line, so that it cannot look like more
/// of the question, and whole.
fn on_one_line(text: &str) -> String {
    if text.chars().any(char::is_control) { format!("{text:?}") } else { text.to_owned() }
}

impl OutsideUse {
    /// Where it really lies, on one line.
    pub fn place(&self) -> String {
        on_one_line(&self.path.to_string_lossy())
    }
}

/// What a spec names of this machine: what it is, as it is written, and whether it is mounted.
fn named(spec: &Spec) -> Vec<(&'static str, &At<String>, bool)> {
    let mut named = Vec::new();
    for folder in &spec.folders {
        if let Some(at) = folder.outside() {
            named.push(("the folder", at, true));
        }
    }
    named.extend(files(spec).into_iter().map(|(what, at)| (what, at, false)));
    named
}

/// Files that a spec names.
fn files(spec: &Spec) -> Vec<(&'static str, &At<String>)> {
    let mut files = Vec::new();
    for step in &spec.steps {
        match &step.action {
            Action::Copy(copy) => files.push(("the file or folder", &copy.from)),
            Action::Write(write) => {
                if let Text::Template(file) = &write.text {
                    files.push(("the template", file));
                }
            }
            Action::Run(_) | Action::Take(_) => {}
        }
    }
    match &spec.base {
        Base::Archive { origin: Origin::Path(path), .. } => files.push(("the archive", path)),
        Base::Oci(OciBase { origin: ImageOrigin::Path(path, _), .. }) => files.push(("the image", path)),
        _ => {}
    }
    files.extend(
        spec.team.iter().filter_map(|team| team.signers.as_ref()).map(|at| ("the file of allowed signers", at)),
    );
    for wanted in spec.toolchains.values() {
        if let Provenance::Archive { origin: Origin::Path(path), .. } = &wanted.value.from {
            files.push(("the archive", path));
        }
    }
    files
}

/// Why no spec gets a path, when none does.
fn never(real: &Path, homes: &[PathBuf]) -> Option<String> {
    if let Some(system) = SYSTEM.iter().find(|system| real.starts_with(system)) {
        return Some(format!("{system} is the system's own"));
    }
    too_much(real, homes)
}

/// Why even a project that lies there does not get a path.
fn too_much(real: &Path, homes: &[PathBuf]) -> Option<String> {
    let beneath = |top: &Path| real.starts_with(top);
    if TOO_MUCH.iter().any(|much| real == Path::new(much)) {
        return Some("it is too much of this machine".to_owned());
    }
    let own = Home::find().map(|home| home.root().to_owned());
    if own.iter().any(|own| beneath(own) || own.starts_with(real)) {
        return Some("Cavrith keeps its own there (CAVRITH_HOME moves it)".to_owned());
    }
    for home in homes {
        if home == real {
            return Some("it is a home as a whole".to_owned());
        }
        if KEYS.iter().any(|keys| beneath(&home.join(keys))) {
            return Some("keys are kept there".to_owned());
        }
        if home.starts_with(real) {
            return Some("a home lies in it".to_owned());
        }
    }
    None
}

/// Homes of this machine's people, without links.
fn homes() -> Vec<PathBuf> {
    let own = env::var_os("HOME").filter(|home| !home.is_empty()).map(PathBuf::from);
    let passwd = reading::text(Path::new("/etc/passwd")).unwrap_or_default();
    let people = passwd.lines().filter_map(|line| {
        let mut fields = line.split(':');
        let number: u32 = fields.nth(2)?.parse().ok()?;
        let home = fields.nth(2)?;
        (number == 0 || (1000..65_534).contains(&number)).then(|| PathBuf::from(home))
    });
    let all = own.into_iter().chain(people).filter_map(|home| home.canonicalize().ok());
    all.filter(|home| home != Path::new("/")).collect()
}

const ALLOWED: List = List {
    name: "allowed.toml",
    head: "# What projects may use outside their own folders. Written by cavrith when its member allowed it; a part that is taken out is asked for again.",
};

fn read_allowed() -> Result<Allowed, EngineError> {
    ALLOWED.read()
}

/// Remembers that a project may use a path, and all that lies in it.
///
/// # Errors
/// When nobody gets that path, it is not there, or the disk refuses.
pub fn allow(dir: &Path, path: &Path) -> Result<PathBuf, EngineError> {
    let real = path.canonicalize().map_err(file_error("allow", path))?;
    let bounds = Bounds::with(dir, Vec::new());
    if let Some(why) = never(&real, &homes()) {
        let what = path.display().to_string();
        return Err(bounds.refusal(vec![OutsideUse { what, path: real, span: 0..0, never: Some(why) }]));
    }
    let permission = Permission { project: dir.to_owned(), path: real.clone() };
    if ALLOWED.path().is_none() {
        let missing = io::Error::new(io::ErrorKind::NotFound, "there is no HOME in the environment");
        return Err(file_error("remember what is allowed in", "allowed.toml")(missing));
    }
    ALLOWED.change(|all: &mut Allowed| {
        let is_new = !all.allowed.contains(&permission);
        if is_new {
            all.allowed.push(permission);
        }
        Ok(is_new)
    })?;
    Ok(real)
}

/// Forgets what projects in a folder that is gone were allowed.
///
/// # Errors
/// When the list cannot be read or written.
pub fn forget_in(folder: &Path) -> Result<bool, EngineError> {
    ALLOWED.change(|all: &mut Allowed| {
        let before = all.allowed.len();
        all.allowed.retain(|permission| !permission.project.starts_with(folder));
        Ok(all.allowed.len() != before)
    })
}

#[cfg(test)]
mod tests {
    use super::{never, too_much};
    use std::path::{Path, PathBuf};

    #[test]
    fn some_places_nobody_gets() {
        let homes = [PathBuf::from("/home/tove"), PathBuf::from("/work/people/ida")];
        for path in [
            "/",
            "/etc",
            "/etc/ssl/private",
            "/proc/self",
            "/usr/share",
            "/home",
            "/home/tove",
            "/home/tove/.ssh",
            "/home/tove/.ssh/id_ed25519",
            "/work/people",
            "/work",
            "/work/people/ida",
            "/var",
            "/var/lib/dpkg",
            "/run/user/1000",
        ] {
            assert!(never(Path::new(path), &homes).is_some(), "{path}");
        }
        for path in ["/home/tove/harbour", "/srv/timetable", "/opt/charts", "/home/tove/.config/lantern", "/data"] {
            assert_eq!(never(Path::new(path), &homes), None, "{path}");
        }
        // A project may lie anywhere, but is not mounted with a home, or with keys.
        assert_eq!(too_much(Path::new("/var/lib/builder/timetable"), &homes), None);
        assert!(too_much(Path::new("/home/tove"), &homes).is_some());
        assert!(too_much(Path::new("/home/tove/.ssh"), &homes).is_some());
    }
}
