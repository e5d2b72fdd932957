//! What a member adds to an image: packages of its archive and settings of the team's editor, as layers over it;
//! toolchains and extensions, as layers beneath it. The image stays what it is: its layers are the same, and what is
//! measured is measured without these. Whatever both have is the team's, unless the spec leaves it to members.
//!
//! What was chosen stays: it is pinned in a file of the member's, beside the configuration, and moves when that is
//! asked for, or when the image does not go with it any more.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::FileTypeExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use cavrith_core::debian::parse_alternative;
use cavrith_core::derive::plan::{Content, Plan, PlannedLayer, Stage};
use cavrith_core::derive::setup::program_directories;
use cavrith_core::digest::{ContentDigest, TreeDigest};
use cavrith_core::encode::Encoder;
use cavrith_core::lock::choose::{Offer, Update, choose};
use cavrith_core::lock::suites::{ArchivePackage, DebianPin, StagePin};
use cavrith_core::lock::{ExtensionPin, Lock, PackagePin, ToolchainPin};
use cavrith_core::mistake::{Mistake, Weight};
use cavrith_core::path::RootPath;
use cavrith_core::spec::personal::MembersChoice;
use cavrith_core::spec::{At, Base, Depot, Origin, Provenance, Spec, Wanted};
use cavrith_core::tree::Tree;
use cavrith_core::verdict::count;
use cavrith_core::version::Version;
use cavrith_store::records::ImageRecord;

use crate::context::BuildContext;
use crate::error::{EngineError, file_error};
use crate::findings::Findings;
use crate::layer_cache::LayerCache;
use crate::member::{self, PersonalConfig};
use crate::project::Project;
use crate::stages::Maker;
use crate::survey;
use crate::{build, choosing};

/// What dpkg and the packages' scripts keep for all packages together: it is theirs to write, and whoever has more
/// packages has more in it.
const RECORDS: [&str; 10] = [
    "var/lib",
    "var/cache",
    "var/log",
    "etc/ld.so.cache",
    "etc/passwd",
    "etc/group",
    "etc/shadow",
    "etc/gshadow",
    "etc/shells",
    "usr/share/info/dir",
];

/// The pins of one project, in a member's file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
struct Pins {
    /// The project's folder, for people.
    project: String,
    /// What the packages were chosen for: the wishes and the base.
    packages_for: String,
    /// What toolchains and extensions were chosen for: the wishes and those of the team.
    tools_for: String,
    /// Files of packages that the image has otherwise.
    gave_way: Vec<String>,
    packages: BTreeMap<String, ArchivePackage>,
    /// Packages of a base that comes from a depot.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    of_depots: Vec<PackagePin>,
    toolchains: Vec<ToolchainPin>,
    extensions: Vec<ExtensionPin>,
}

/// What is added to an image.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OnTop {
    /// Layers beneath it, the lowest first.
    pub beneath: Vec<TreeDigest>,
    /// Layers over it, the lowest first.
    pub above: Vec<TreeDigest>,
    /// Directories of the toolchains' programs.
    pub path: Vec<String>,
    /// What it is, in words: `package tidewatch 1.2-1`.
    pub what: Vec<String>,
    /// What cannot be had, or gives way to the team's.
    pub notes: Vec<String>,
}

/// Whether a package is one of those that are wished for.
fn wishes_for(own: &PersonalConfig, package: &str) -> bool {
    own.packages.iter().any(|wish| parse_alternative(wish).name == package)
}

/// Whether a configuration wants anything of the kind.
pub fn is_wanted(own: &PersonalConfig) -> bool {
    !(own.packages.is_empty() && own.toolchains.is_empty() && own.extensions.is_empty() && own.settings.is_empty())
}

/// Makes what a member adds to the image of a project, or finds it made. With `update`, what was chosen earlier moves.
///
/// # Errors
/// When something that was chosen cannot be had or made. What cannot be chosen is told in the notes.
pub fn make(
    context: BuildContext<'_>,
    (project, lock): (&Project, &Lock),
    image: &ImageRecord,
    own: &PersonalConfig,
    update: &Update,
) -> Result<OnTop, EngineError> {
    let mut found = OnTop::default();
    if !is_wanted(own) {
        return Ok(found);
    }
    let file = pins_path(project);
    let before = file.as_deref().map(read).unwrap_or_default();
    let mut pins = Pins { project: project.dir.display().to_string(), ..before.clone() };
    let mut wanted = Wishes { project: project.clone(), lock: lock.clone(), notes: Vec::new() };
    wanted.tools(context, own, &mut pins, update);
    wanted.packages(context, own, &mut pins, update);
    let Wishes { project: wished, lock: wished_lock, notes } = wanted;
    found.notes = notes;
    let of_image: Vec<TreeDigest> = image.layers.iter().map(|layer| layer.tree).collect();
    let beneath = Beneath { context, layers: &of_image, digest: image.tree };
    let plan = Plan::new(&wished.spec, &wished_lock);
    for planned in build::loose(&plan) {
        if pins.brings(&planned.content) {
            found.beneath.push(build::loose_layer(context, &wished, &wished_lock, &plan, planned)?);
        }
    }
    if !pins.of_depots.is_empty() {
        let name = format!("your packages {}", own.packages.join(", "));
        let planned = PlannedLayer { name, content: Content::Packages(pins.of_depots.clone()), time: lock.epoch };
        // Beneath all of the team's, with whatever both have.
        found.beneath.insert(0, build::loose_layer(context, &wished, &wished_lock, &plan, &planned)?);
        found.what.extend(pins.of_depots.iter().map(|pin| format!("package {} {}", pin.name, pin.version)));
    }
    for pin in &pins.toolchains {
        found.what.push(format!("toolchain {} {}", pin.name, pin.version));
        found.path.extend(if pin.also { Vec::new() } else { program_directories(pin) });
    }
    found.what.extend(pins.extensions.iter().map(|pin| format!("extension {} {}", pin.id, pin.version)));
    if !pins.packages.is_empty() {
        let choice = &project.spec.personal;
        let layer = above(context, own, (&wished, lock, &plan), &beneath, choice, &mut pins)?;
        found.above.push(layer);
        let (wished, needed): (Vec<_>, Vec<_>) = pins.packages.iter().partition(|(name, _)| wishes_for(own, name));
        found.what.extend(wished.iter().map(|(name, package)| format!("package {name} {}", package.version)));
        if let (Some(last), 1..) = (found.what.last_mut(), needed.len()) {
            *last += &format!(", with {} that these need", count(needed.len(), "package"));
        }
    }
    let of_team = Plan::new(&project.spec, lock);
    for planned in plan.layers.iter().filter(|layer| matches!(layer.content, Content::Settings { .. })) {
        // What is the same as in the image is there already.
        let key = plan.key(planned, None);
        if !of_team.layers.iter().any(|one| one.name == planned.name && plan.key(one, None) == key) {
            let cache = LayerCache::new(context, &plan);
            let make = || {
                let tree = beneath.tree()?;
                build::own_layer(context, planned, &tree, &of_image)
            };
            found.above.push(cache.layer(planned, Some(&image.tree), make)?.outcome.tree);
            found.what.push(planned.name.clone());
        }
    }
    if !pins.gave_way.is_empty() && !pins.packages.is_empty() {
        let few = pins.gave_way.iter().take(3).cloned().collect::<Vec<_>>().join(", ");
        let more =
            if pins.gave_way.len() > 3 { format!(" and {} more", pins.gave_way.len() - 3) } else { String::new() };
        found.notes.push(format!("your packages have another {few}{more}; the team's stays"));
    }
    if let Some(file) = file.filter(|_| pins != before) {
        write(&file, &pins)?;
    }
    Ok(found)
}

impl Pins {
    /// Whether a layer is one of these.
    fn brings(&self, content: &Content) -> bool {
        match content {
            Content::Toolchain(placed) => self.toolchains.iter().any(|pin| pin.place == placed.place),
            Content::Extension(one) => self.extensions.contains(one),
            _ => false,
        }
    }
}

/// A project with what a member wishes for as well.
struct Wishes {
    project: Project,
    lock: Lock,
    notes: Vec<String>,
}

fn nowhere<T>(value: T) -> At<T> {
    At { value, span: 0..0 }
}

impl Wishes {
    /// Toolchains, extensions and settings.
    fn tools(&mut self, context: BuildContext<'_>, own: &PersonalConfig, pins: &mut Pins, update: &Update) {
        let team = self.project.spec.clone();
        let spec = &mut self.project.spec;
        for folder in &own.depots {
            let path = crate::secret_values::expanded(folder).display().to_string();
            spec.depots.insert(folder.clone(), nowhere(Depot { origin: Origin::Path(nowhere(path)) }));
        }
        let mut notes = Vec::new();
        for (name, version) in &own.toolchains {
            let Some(version) = version_of(name, version, &mut notes) else { continue };
            if team.toolchains.contains_key(name) {
                notes.push(format!("your toolchain {name} does not count: the team has one"));
                continue;
            }
            let from = Provenance::Depot(None);
            let wanted = Wanted { from, probe: None, answer: None, version, also: Vec::new(), parts: None };
            spec.toolchains.insert(name.clone(), nowhere(wanted));
        }
        match &mut spec.editor {
            None if own.extensions.is_empty() && own.settings.is_empty() => {}
            None => notes.push("your extensions and settings are for nothing: the spec has no editor".to_owned()),
            Some(editor) => {
                for (id, version) in &own.extensions {
                    let Some(version) = version_of(id, version, &mut notes) else { continue };
                    if editor.extensions.contains_key(id) {
                        notes.push(format!("your extension {id} does not count: the team has one"));
                        continue;
                    }
                    editor.extensions.insert(id.clone(), version);
                }
                for (name, value) in &own.settings {
                    if editor.settings.get(name).is_some_and(|theirs| theirs != value)
                        && !team.personal.settings.contains(name)
                    {
                        notes.push(format!("your setting {name} does not count: the team has one"));
                        continue;
                    }
                    editor.settings.insert(name.clone(), value.clone());
                }
            }
        }
        if let Base::Packages { packages, .. } = &mut spec.base {
            let names = own.packages.iter().filter(|name| !packages.iter().any(|known| known.value == **name));
            let more: Vec<_> = names.map(|name| nowhere(name.clone())).collect();
            packages.extend(more);
        }
        let team_s = (&self.lock.toolchains, &self.lock.extensions, &self.lock.packages);
        let wished = (&own.toolchains, &own.extensions, &own.depots, &own.packages, team_s);
        let chosen_for = digest_of(&wished);
        if pins.tools_for != chosen_for || *update != Update::Nothing {
            self.choose_tools(context, &team, pins, update, &mut notes);
            pins.tools_for = chosen_for;
        }
        self.lock.toolchains.extend(pins.toolchains.iter().cloned());
        self.lock.extensions.extend(pins.extensions.iter().cloned());
        self.notes.extend(notes);
    }

    /// Chooses from what the depots offer. What they do not have is told, and left out.
    fn choose_tools(
        &mut self,
        context: BuildContext<'_>,
        team: &Spec,
        pins: &mut Pins,
        update: &Update,
        notes: &mut Vec<String>,
    ) {
        let spec = &self.project.spec;
        let is_more = |name: &str| !team.toolchains.contains_key(name);
        let of_team = |id: &str| team.editor.as_ref().is_some_and(|editor| editor.extensions.contains_key(id));
        let before = std::mem::take(&mut pins.toolchains);
        let (extensions, packages) = (std::mem::take(&mut pins.extensions), std::mem::take(&mut pins.of_depots));
        let more_extensions = spec.editor.iter().flat_map(|editor| editor.extensions.keys()).any(|id| !of_team(id));
        let count = |base: &Base| if let Base::Packages { packages, .. } = base { packages.len() } else { 0 };
        let more_packages = count(&spec.base) > count(&team.base);
        if !spec.toolchains.keys().any(|name| is_more(name)) && !more_extensions && !more_packages {
            return;
        }
        let mut findings = Findings { sources: Default::default(), mistakes: Vec::new() };
        let offers: BTreeMap<String, Offer> =
            survey::offered(&self.project.dir, spec, context.web, Some(context.store), &mut findings);
        let mut previous = self.lock.clone();
        previous.toolchains.extend(before);
        previous.extensions.extend(extensions);
        previous.packages.extend(packages);
        let (chosen, mistakes) = choose(spec, &offers, Some(&previous), update);
        notes.extend(findings.mistakes.iter().chain(&mistakes).filter_map(told));
        pins.toolchains = chosen.toolchains.into_iter().filter(|pin| is_more(&pin.name)).collect();
        pins.extensions = chosen.extensions.into_iter().filter(|pin| !of_team(&pin.id)).collect();
        let of_team = |name: &str| self.lock.packages.iter().any(|pin| pin.name == name);
        pins.of_depots = chosen.packages.into_iter().filter(|pin| !of_team(&pin.name)).collect();
    }

    /// Packages of the base's archive.
    fn packages(&mut self, context: BuildContext<'_>, own: &PersonalConfig, pins: &mut Pins, update: &Update) {
        if own.packages.is_empty() || matches!(self.project.spec.base, Base::Packages { .. }) {
            pins.packages = BTreeMap::new();
            pins.packages_for = String::new();
            return;
        }
        let Some(base) = self.lock.debian.clone() else {
            self.notes.push(
                "your packages are not there: the base comes neither from the Debian archive nor from a depot"
                    .to_owned(),
            );
            pins.packages = BTreeMap::new();
            return;
        };
        let Base::Debian(suite) = &mut self.project.spec.base else { return };
        if suite.keep.is_some() {
            self.notes.push("your packages are not there: the base keeps some packages only, and no dpkg".to_owned());
            pins.packages = BTreeMap::new();
            return;
        }
        suite.packages.extend(own.packages.iter().map(|package| nowhere(package.clone())));
        let chosen_for = digest_of(&(&own.packages, &base));
        if pins.packages_for == chosen_for && *update == Update::Nothing {
            return;
        }
        let suite = suite.clone();
        let mut before = base.clone();
        pins.packages.retain(|name, _| base.package(name).is_none() && !update.moves(name));
        if !pins.packages.is_empty() {
            before.stages.push(StagePin { packages: pins.packages.clone() });
        }
        // What is there was chosen for other wishes, so that it is held against these.
        before.wishes = Vec::new();
        let chosen = choosing::choose(context.supply(), &self.project, &suite, Some(&before), &Update::Nothing);
        match chosen.map(|chosen| (chosen.pin, chosen.mistakes)) {
            Ok((Some(pin), _)) => match more_than(&base, &pin) {
                Ok(more) => {
                    pins.packages = more;
                    pins.packages_for = chosen_for;
                    pins.gave_way = Vec::new();
                }
                Err(why) => self.without_packages(pins, &why),
            },
            Ok((None, mistakes)) => {
                let why: Vec<_> = mistakes.iter().filter_map(told).collect();
                self.without_packages(pins, &why.join("; "));
            }
            Err(error) => self.without_packages(pins, &error.to_string()),
        }
    }

    fn without_packages(&mut self, pins: &mut Pins, why: &str) {
        self.notes.push(format!("your packages are not there: {why}"));
        pins.packages = BTreeMap::new();
        pins.packages_for = String::new();
    }
}

/// A mistake in one sentence; a warning is for whoever wrote the spec.
fn told(mistake: &Mistake) -> Option<String> {
    (mistake.weight != Weight::Warning).then(|| format!("{}; {}", mistake.message, mistake.remedy))
}

fn version_of(name: &str, version: &str, notes: &mut Vec<String>) -> Option<At<Version>> {
    match Version::new(version) {
        Ok(version) => Some(nowhere(version)),
        Err(error) => {
            notes.push(format!("your {name} is not there: {error}"));
            None
        }
    }
}

/// The packages that a choice has beside those of a base; why it cannot be, when it has some of the base's otherwise.
fn more_than(base: &DebianPin, chosen: &DebianPin) -> Result<BTreeMap<String, ArchivePackage>, String> {
    let moved = base.packages().find_map(|(name, package)| match chosen.package(name) {
        Some(other) if other.sha256 == package.sha256 => None,
        Some(other) => Some(format!("they need {name} {}, and the team has {}", other.version, package.version)),
        None => Some(format!("they do not go together with {name}, which the team has")),
    });
    match moved {
        Some(why) => Err(why),
        None => {
            let more = chosen.packages().filter(|(name, _)| base.package(name).is_none());
            Ok(more.map(|(name, package)| (name.clone(), package.clone())).collect())
        }
    }
}

fn digest_of<T: Serialize>(value: &T) -> String {
    ContentDigest::of(&serde_json::to_vec(value).unwrap_or_default()).to_string()
}

/// An image that something is made over.
struct Beneath<'a> {
    context: BuildContext<'a>,
    layers: &'a [TreeDigest],
    digest: TreeDigest,
}

impl Beneath<'_> {
    /// All that is in it; read only when something has to be made.
    fn tree(&self) -> Result<Arc<Tree>, EngineError> {
        let trees = self.layers.iter().map(|layer| self.context.store.layer_tree(layer));
        Ok(Arc::new(Tree::merged(&trees.collect::<Result<Vec<_>, _>>()?)))
    }
}

/// The layer of packages over an image.
fn above(
    context: BuildContext<'_>,
    own: &PersonalConfig,
    (project, lock, plan): (&Project, &Lock, &Plan),
    image: &Beneath<'_>,
    choice: &MembersChoice,
    pins: &mut Pins,
) -> Result<TreeDigest, EngineError> {
    let base = lock.debian.as_ref();
    let stage = Stage {
        number: base.map_or(1, |base| base.stages.len()),
        packages: pins.packages.clone(),
        beneath: base.iter().flat_map(|base| base.packages()).map(|(_, package)| package.sha256).collect(),
        left_out: Vec::new(),
    };
    let wished: Vec<_> = pins.packages.keys().filter(|name| wishes_for(own, name)).map(String::as_str).collect();
    let name = format!("your packages {}", wished.join(", "));
    let planned = PlannedLayer { name, content: Content::Stage(stage.clone()), time: lock.epoch };
    let mut beneath = Encoder::new("cavrith on top 1");
    beneath.fixed(image.digest.as_bytes()).list(choice.files.iter().map(RootPath::as_bytes));
    let cache = LayerCache::new(context, plan);
    let maker = Maker { cache, context, project, epoch: lock.epoch };
    let mut gave_way = None;
    let ready = cache.layer(&planned, Some(&TreeDigest::from_bytes(beneath.digest())), || {
        let tree = image.tree()?;
        maker.over(&planned.name, &stage, (image.layers, &tree), |dir| {
            gave_way = Some(give_way(&dir.join("root"), &tree, choice)?);
            Ok(())
        })
    })?;
    if let Some(gave_way) = gave_way {
        pins.gave_way = gave_way;
    }
    Ok(ready.outcome.tree)
}

/// Takes out of an upper directory whatever the image has at the same path, apart from records and what is a member's
/// choice. Gives the paths.
fn give_way(root: &Path, image: &Tree, choice: &MembersChoice) -> Result<Vec<String>, EngineError> {
    let mut gone = Vec::new();
    let mut open = vec![PathBuf::new()];
    while let Some(dir) = open.pop() {
        let at = root.join(&dir);
        let entries = fs::read_dir(&at).map_err(file_error("list", &at))?;
        for entry in entries {
            let entry = entry.map_err(file_error("list", &at))?;
            let inner = dir.join(entry.file_name());
            let kind = entry.file_type().map_err(file_error("look at", entry.path()))?;
            let Ok(path) = RootPath::from_archive(inner.as_os_str().as_encoded_bytes()) else { continue };
            let theirs = image.get(&path);
            if kind.is_dir() && theirs.is_none_or(|theirs| theirs.kind.is_directory()) {
                open.push(inner);
                continue;
            }
            let is_record = RECORDS.iter().any(|record| inner.starts_with(record));
            if theirs.is_none() || is_record || choice.has(&path) {
                continue;
            }
            // A mark that something is gone is one, too.
            let is_mark = kind.is_char_device();
            cavrith_store::removing::remove(&entry.path())?;
            if !is_mark {
                gone.push(format!("/{}", cavrith_core::path::shown(path.as_bytes())));
            }
        }
    }
    gone.sort();
    Ok(gone)
}

/// The file with a member's pins for a project.
pub fn pins_path(project: &Project) -> Option<PathBuf> {
    let config = member::config_path()?;
    let whole = format!("{}\0{}", project.dir.display(), project.spec.variant);
    let mark = ContentDigest::of(whole.as_bytes()).to_string();
    let name = format!("{}-{}.lock", project.spec.name(), &mark[..8]);
    Some(config.parent()?.join("personal").join(name))
}

fn read(file: &Path) -> Pins {
    // What cannot be read is chosen anew.
    let text = cavrith_store::reading::text(file).unwrap_or_default();
    toml::from_str(&text).unwrap_or_default()
}

fn write(file: &Path, pins: &Pins) -> Result<(), EngineError> {
    let dir = file.parent().unwrap_or(file);
    fs::create_dir_all(dir).map_err(file_error("make", dir))?;
    let text = toml::to_string(pins).unwrap_or_else(|error| panic!("BUG: pins cannot be written: {error}"));
    let head =
        "# What you add to this project's workspace, pinned. Written by Cavrith; cavrith lock --personal moves it.\n";
    Ok(cavrith_store::atomic::write(file, format!("{head}{text}").as_bytes())?)
}
