//! From spec and lock to layers: a pure function.
//!
//! | layer | what its key takes in | built |
//! |---|---|---|
//! | toolchain, each of its parts | archive's SHA-256, strip, place | alone, beside the others |
//! | extension | archive's SHA-256, strip, place | alone, beside the others |
//! | download | its SHA-256, place, and strip or mode | alone, beside the others |
//! | base | SHA-256 of each package, in order; or of the archive, and strip | alone, beside the others |
//! | layer of an OCI image | SHA-256 of its packed form, and of those beneath | after the layer beneath |
//! | trimmed base | the packages that are kept, and all stages | after its stages |
//! | stage of a base | SHA-256 of each package of it and of the stages beneath | after the stage beneath |
//! | account | account, inside paths of folders, tree of the base | after the base |
//! | settings, launch | account, place, text, tree of the base | after the base |
//! | step | guards, environment, account, tree of all that lies beneath, and | one after the other |
//! | … that runs | its command | |
//! | … that writes | place, mode, owner, and the text; or the template's tree and all that it may name | |
//! | … that copies | place, owner, tree of the files | |
//! | … that fetches | SHA-256 of its record | |
//! | … that is given files | tree of the files, and where they are laid | |
//! | … that takes from a variant | place, owner, path and patterns, key of that variant's image | |
//!
//! Every key also takes in the kind of layer, the epoch, and [`RULES`], the version of the rules by which layers are
//! made. Left out on purpose: names of steps, toolchains and depots (they do not change what comes out), where a file
//! was fetched from (its digest is there), and everything of this machine. Because a step's key has the *tree* beneath
//! and not its key, a change below that comes out the same reuses everything above.
//!
//! Lowest first, an image is: toolchains, extensions, downloads, base, account, settings, steps. Toolchains lie beneath
//! the base so that the directories above their places (`/`, `/opt`) keep the rights that the base gives them.

mod keys;

use std::collections::BTreeMap;

use super::setup;
use crate::depot::EditorProfile;
use crate::digest::{ImageKey, LayerKey, Sha256Digest, TreeDigest};
use crate::editors;
use crate::encode::Encoder;
use crate::lock::{
    ArchivePackage, ArchivePin, DebianPin, DownloadPin, ExtensionPin, Lock, OciLayerPin, PackagePin, RecordPin, Source,
};
use crate::path::RootPath;
use crate::spec::{Action, Base, Editor, Run, Spec, Step, Text};
use crate::template::Names;

/// Version of the rules by which layers are made. Raise it when the same inputs would come out differently, so that
/// nothing made by older rules is taken for the same.
pub const RULES: u32 = 5;

/// Version of what a step that fetches is given and relieved of besides its record. Raise it likewise; a test of
/// [`crate::leftovers`] knows which rules this one is of.
pub const RECORDED_RULES: u32 = 7;

/// All layers of an image, the lowest first.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The layers.
    pub layers: Vec<PlannedLayer>,
    /// Key of the whole.
    pub image_key: ImageKey,
}

/// One layer to be.
#[derive(Debug, Clone)]
pub struct PlannedLayer {
    /// A name for people: `toolchain quill 2.4.1`.
    pub name: String,
    /// What it is made of.
    pub content: Content,
    /// The time stamp of what it brings, in seconds since 1970: the lock's epoch, and for a step one second more for
    /// each step up to it, so that what a later step wrote is newer than what an earlier one did.
    pub time: u64,
}

/// What a layer is made of.
#[derive(Debug, Clone)]
pub enum Content {
    /// An archive of a toolchain.
    Toolchain(Placed),
    /// An extension's archive.
    Extension(ExtensionPin),
    /// A file from the web.
    Download {
        /// The file.
        pin: DownloadPin,
        /// Where it lies.
        place: RootPath,
        /// How the download becomes files.
        laying: Laid,
    },
    /// Packages of the base.
    Packages(Vec<PackagePin>),
    /// The base as one archive.
    Archive(ArchivePin),
    /// One layer of an OCI image.
    OciLayer(OciLayer),
    /// One stage of a base from the Debian archive.
    Stage(Stage),
    /// What stays of all stages of a base when only some packages are kept.
    Trimmed(Trimmed),
    /// The account and the mount points of every system; those of folders are made when a workspace starts.
    Account {
        /// Its name.
        account: String,
    },
    /// A file of the editor's.
    Settings {
        /// The account.
        account: String,
        /// The file.
        place: RootPath,
        /// Its text.
        text: String,
    },
    /// A build step.
    Step(Box<StepContent>),
}

/// Packages of the Debian archive that are laid over those of earlier stages and configured together.
#[derive(Debug, Clone)]
pub struct Stage {
    /// Its number, from 0.
    pub number: usize,
    /// The packages of this stage, by name.
    pub packages: BTreeMap<String, ArchivePackage>,
    /// SHA-256 of the packages of all stages beneath, in their order.
    pub beneath: Vec<Sha256Digest>,
    /// What is not in it, whatever scripts make; of a directory, what is in it.
    pub left_out: Vec<RootPath>,
}

/// A base of which only some packages are kept, and what they need.
#[derive(Debug, Clone)]
pub struct Trimmed {
    /// The stages of the whole base, with their names.
    pub stages: Vec<(String, Stage)>,
    /// The packages, sorted.
    pub keep: Vec<String>,
}

/// One layer of a base that is an OCI image.
#[derive(Debug, Clone)]
pub struct OciLayer {
    /// The layer.
    pub layer: OciLayerPin,
    /// SHA-256 of the layers beneath, in their order.
    pub beneath: Vec<Sha256Digest>,
}

/// An archive of a toolchain, and where it lies.
#[derive(Debug, Clone)]
pub struct Placed {
    /// The archive.
    pub source: Source,
    /// How many leading directories are dropped from its paths.
    pub strip: usize,
    /// Where it lies.
    pub place: String,
    /// It is a part, which may lie over its toolchain's own archive.
    pub part: bool,
}

/// How a download is laid.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Laid {
    /// As a file with these rights.
    File(u16),
    /// Unpacked, without so many leading directories.
    Unpacked(usize),
}

/// A build step.
#[derive(Debug, Clone)]
pub struct StepContent {
    /// What it does.
    pub work: Work,
    /// A command that, when it succeeds, leaves the step out.
    pub unless: Option<Run>,
    /// A path that, when it is there, leaves the step out.
    pub creates: Option<RootPath>,
    /// Its environment, but for what depends on the account.
    pub env: BTreeMap<String, String>,
    /// Who carries it out.
    pub account: String,
    /// Seconds that it may take. Not in the key: it does not change what comes out.
    pub limit: u64,
    /// Folders that last from one build to the next. Not in the key: what comes out has to be the same without them.
    pub caches: Vec<String>,
    /// What it is answered when it fetches.
    pub record: Option<PlannedRecord>,
    /// Files of the project that it is given.
    pub files: Option<PlannedFiles>,
}

/// Files of the project that a command is given.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedFiles {
    /// The files, relative to the project.
    pub names: Vec<String>,
    /// Where they are laid, and the command is started.
    pub place: RootPath,
    /// What the lock says that they are.
    pub tree: TreeDigest,
}

/// The record of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedRecord {
    /// Its name in the directory of records.
    pub file: String,
    /// Its SHA-256; of nothing, when there is none yet.
    pub sha256: Sha256Digest,
}

/// What a build step does.
#[derive(Debug, Clone)]
pub enum Work {
    /// It runs a command.
    Run(Run),
    /// It writes a file.
    Write {
        /// The file.
        place: RootPath,
        /// What stands in it.
        text: Written,
        /// Its rights.
        mode: u16,
        /// Who it belongs to.
        owner: String,
    },
    /// It copies what another variant's image has.
    Take {
        /// The variant.
        variant: String,
        /// Key of its image, which is part of this layer's.
        image: ImageKey,
        /// File or directory of it.
        from: RootPath,
        /// What to leave out.
        except: Vec<String>,
        /// What it becomes.
        place: RootPath,
        /// Who it belongs to.
        owner: String,
    },
    /// It copies files of the project.
    Copy {
        /// File or folder, relative to the project.
        from: String,
        /// What to leave out.
        except: Vec<String>,
        /// Whether what git ignores is taken, too.
        ignored: bool,
        /// What it becomes.
        place: RootPath,
        /// Who it belongs to.
        owner: String,
        /// What the lock says that it is.
        tree: TreeDigest,
    },
}

/// What stands in a written file.
#[derive(Debug, Clone)]
pub enum Written {
    /// This.
    Content(String),
    /// What becomes of a template.
    Template {
        /// The template, relative to the project.
        file: String,
        /// What the lock says that it is.
        tree: TreeDigest,
        /// What it may name.
        names: Names,
    },
}

/// Seconds that a step may take when the spec says nothing.
pub const STEP_LIMIT: u64 = 3600;

/// What a layer's making examines besides its own content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Needs {
    /// Nothing: it can be made at any time.
    Nothing,
    /// The stages of the base beneath it.
    Stages,
    /// The base.
    Base,
    /// Everything beneath.
    Beneath,
}

impl Content {
    /// What has to be there before it can be made.
    pub fn needs(&self) -> Needs {
        match self {
            Self::Toolchain(_) | Self::Extension(_) | Self::Download { .. } | Self::Packages(_) | Self::Archive(_) => {
                Needs::Nothing
            }
            Self::Stage(_) | Self::OciLayer(_) | Self::Trimmed(_) => Needs::Stages,
            Self::Account { .. } | Self::Settings { .. } => Needs::Base,
            Self::Step(_) => Needs::Beneath,
        }
    }

    /// True for the base, in any form, and for each of its stages.
    pub fn is_base(&self) -> bool {
        matches!(self, Self::Packages(_) | Self::Archive(_) | Self::OciLayer(_) | Self::Stage(_) | Self::Trimmed(_))
    }
}

impl Plan {
    /// The plan of a spec and a lock that fits it.
    pub fn new(spec: &Spec, lock: &Lock) -> Self {
        let mut layers = Vec::new();
        let mut add = |name: String, content: Content| layers.push(PlannedLayer { name, content, time: 0 });
        for pin in &lock.toolchains {
            let placed = |source: &Source, strip, part| {
                Content::Toolchain(Placed { source: source.clone(), strip, place: pin.place.clone(), part })
            };
            let name = format!("toolchain {} {}", pin.name, pin.version);
            // What comes with the base has no layer of its own. Of two archives at one place the later one lies above.
            let Some(source) = &pin.source else { continue };
            add(name.clone(), placed(source, pin.strip, false));
            for part in &pin.parts {
                add(format!("{name}, {}", part.name), placed(&part.source, part.strip, true));
            }
        }
        for pin in &lock.extensions {
            add(format!("extension {} {}", pin.id, pin.version), Content::Extension(pin.clone()));
        }
        for pin in &lock.downloads {
            let Some(download) = spec.downloads.iter().find(|one| one.name.value == pin.name) else { continue };
            let laying = if download.unpack { Laid::Unpacked(download.strip) } else { Laid::File(download.mode) };
            let place = download.inside.value.clone();
            add(format!("download {}", pin.name), Content::Download { pin: pin.clone(), place, laying });
        }
        match (&spec.base, &lock.archive, &lock.oci, &lock.debian) {
            (Base::Archive { .. }, Some(pin), ..) => {
                add(format!("base {}", pin.origin()), Content::Archive(pin.clone()));
            }
            (Base::Oci(_), _, Some(pin), _) => {
                let mut beneath = Vec::new();
                for (number, layer) in pin.layers.iter().enumerate() {
                    let name = format!("base {}, layer {}", pin.origin, number + 1);
                    add(name, Content::OciLayer(OciLayer { layer: layer.clone(), beneath: beneath.clone() }));
                    beneath.push(layer.sha256);
                }
            }
            (Base::Debian(suite), .., Some(pin)) => {
                let mut left_out: Vec<_> = suite.left_out.iter().map(|path| path.value.clone()).collect();
                left_out.sort();
                let stages = stages(pin, &left_out);
                match &suite.keep {
                    None => stages.into_iter().for_each(|(name, stage)| add(name, Content::Stage(stage))),
                    Some(keep) => {
                        let mut keep: Vec<_> = keep.value.iter().map(|name| name.value.clone()).collect();
                        keep.sort();
                        keep.dedup();
                        let name = match keep.as_slice() {
                            [] => format!("base {}, bare", pin.suite),
                            keep => format!("base {}, only {}", pin.suite, keep.join(", ")),
                        };
                        add(name, Content::Trimmed(Trimmed { stages, keep }));
                    }
                }
            }
            _ => {
                let names: Vec<_> = lock.packages.iter().map(|pin| pin.name.as_str()).collect();
                let name = match names.as_slice() {
                    [only] => format!("base {only}"),
                    many => format!("base of {} packages", many.len()),
                };
                add(name, Content::Packages(lock.packages.clone()));
            }
        }
        let account = spec.workspace.account.value.clone();
        add(format!("account {account}"), Content::Account { account: account.clone() });
        if let (Some(editor), Some(profile)) = (&spec.editor, &lock.editor) {
            for (name, place, text) in editor_files(spec, editor, profile) {
                add(name, Content::Settings { account: account.clone(), place, text });
            }
        }
        for step in &spec.steps {
            add(step_name(&step.name.value), Content::Step(Box::new(step_content(spec, lock, step))));
        }
        let mut time = lock.epoch;
        for layer in &mut layers {
            if matches!(layer.content, Content::Step(_)) {
                time += 1;
            }
            layer.time = time;
        }
        let image_key = keys::image_key(&layers);
        Self { layers, image_key }
    }

    /// The position of a step among the layers.
    pub fn position_of(&self, step: &str) -> Option<usize> {
        let name = step_name(step);
        self.layers.iter().position(|layer| layer.name == name)
    }

    /// Key of a layer with all beneath it, as if it had no record yet: when that is another than it was, a step may ask
    /// for something else than it was recorded to.
    pub fn key_to_record(&self, position: usize) -> ImageKey {
        let mut layers: Vec<_> = self.layers.iter().take(position + 1).cloned().collect();
        if let Some(Content::Step(step)) = layers.last_mut().map(|layer| &mut layer.content) {
            step.record = None;
        }
        keys::image_key(&layers)
    }

    /// Steps whose record was made for something else than the plan has now.
    pub fn stale_records(&self, lock: &Lock) -> Vec<String> {
        let is_stale = |pin: &&RecordPin| {
            self.position_of(&pin.step).is_some_and(|position| self.key_to_record(position) != pin.over)
        };
        lock.records.iter().filter(is_stale).map(|pin| pin.step.clone()).collect()
    }

    /// Key of one layer. `beneath` is the tree of what it [needs](Content::needs), when it needs something.
    pub fn key(&self, layer: &PlannedLayer, beneath: Option<&TreeDigest>) -> LayerKey {
        let mut encoder = Encoder::new("cavrith layer 1");
        encoder.u32(RULES).u64(layer.time);
        match beneath {
            None => encoder.u8(0),
            Some(tree) => encoder.u8(1).fixed(tree.as_bytes()),
        };
        keys::encode_content(&mut encoder, &layer.content);
        LayerKey::from_bytes(encoder.digest())
    }
}

/// What the layer of a step is called.
fn step_name(step: &str) -> String {
    format!("step \"{step}\"")
}

/// The stages of a base, with their names.
fn stages(pin: &DebianPin, left_out: &[RootPath]) -> Vec<(String, Stage)> {
    let mut beneath = Vec::new();
    let mut stages = Vec::new();
    for (number, stage) in pin.stages.iter().enumerate() {
        let packages = stage.packages.len();
        let name = match number {
            0 => format!("base {}, {packages} packages", pin.suite),
            _ => {
                let names: Vec<_> = stage.packages.keys().map(String::as_str).collect();
                match names.as_slice() {
                    [only] => format!("base {}, {only}", pin.suite),
                    _ => format!("base {}, {packages} more packages", pin.suite),
                }
            }
        };
        let digests: Vec<_> = stage.packages.values().map(|package| package.sha256).collect();
        stages.push((
            name,
            Stage { number, packages: stage.packages.clone(), beneath: beneath.clone(), left_out: left_out.to_vec() },
        ));
        beneath.extend(digests);
    }
    stages
}

/// The editor's own files: name, place, text.
fn editor_files(spec: &Spec, editor: &Editor, profile: &EditorProfile) -> Vec<(String, RootPath, String)> {
    let home = crate::account::home(&spec.workspace.account.value);
    let settings = editors::settings_text(&editor.settings, profile.language);
    let mut files = vec![(format!("settings of {}", profile.name), profile.settings_place(&home), settings)];
    if let Some(place) = profile.launch_place(&home).filter(|_| !editor.launch.is_empty()) {
        let project = spec.workspace.project.value.to_string();
        let text = editors::launch_text(editor, &project, profile);
        files.push((format!("launch of {}", profile.name), place, text));
    }
    let placed =
        files.into_iter().filter_map(|(name, place, text)| Some((name, RootPath::from_absolute(&place).ok()?, text)));
    placed.collect()
}

fn step_content(spec: &Spec, lock: &Lock, step: &Step) -> StepContent {
    let root = || "root".to_owned();
    let owner = |owner: &Option<crate::spec::At<String>>| owner.as_ref().map_or_else(root, |owner| owner.value.clone());
    let pinned = || lock.files.iter().find(|pin| pin.step == step.name.value);
    // A lock that answers the spec has the pin; the digest of nothing stands for one that does not.
    let tree = || pinned().map_or(TreeDigest::from_bytes([0; 32]), |pin| pin.tree);
    let mut env = setup::step_env(spec, lock);
    env.extend(step.env.iter().map(|(name, value)| (name.clone(), value.value.clone())));
    let work = match &step.action {
        Action::Run(run) => Work::Run(run.value.clone()),
        Action::Write(write) => {
            let text = match &write.text {
                Text::Content(text) => Written::Content(text.clone()),
                Text::Template(file) => {
                    let named: BTreeMap<_, _> = spec.env.iter().chain(&step.env).collect();
                    let named = named.into_iter().map(|(name, value)| (name.clone(), value.value.clone())).collect();
                    let names = Names::new(spec, lock, &named);
                    Written::Template { file: file.value.clone(), tree: tree(), names }
                }
            };
            Work::Write { place: write.inside.value.clone(), text, mode: write.mode, owner: owner(&write.owner) }
        }
        Action::Take(taken) => {
            let variant = &taken.variant.value;
            // A lock that answers the spec has the variant's pins.
            let source = spec.sources.get(variant).zip(lock.sources.get(variant));
            Work::Take {
                variant: variant.clone(),
                image: source.map_or(ImageKey::from_bytes([0; 32]), |(spec, lock)| Plan::new(spec, lock).image_key),
                from: taken.from.value.clone(),
                except: taken.except.iter().map(|pattern| pattern.value.clone()).collect(),
                place: taken.inside.value.clone(),
                owner: owner(&taken.owner),
            }
        }
        Action::Copy(copy) => Work::Copy {
            from: copy.from.value.clone(),
            except: copy.except.iter().map(|pattern| pattern.value.clone()).collect(),
            ignored: copy.ignored,
            place: copy.inside.value.clone(),
            owner: owner(&copy.owner),
            tree: tree(),
        },
    };
    StepContent {
        work,
        unless: step.unless.clone(),
        creates: step.creates.as_ref().map(|creates| creates.value.clone()),
        env,
        account: owner(&step.account),
        limit: step.limit.unwrap_or(STEP_LIMIT),
        caches: step.caches.iter().map(|cache| cache.value.clone()).collect(),
        record: step.recorded.as_ref().map(|_| {
            // A lock that answers the spec has the pin.
            let pin = lock.records.iter().find(|pin| pin.step == step.name.value);
            let (file, sha256) =
                pin.map_or((String::new(), Sha256Digest::of(b"")), |pin| (pin.record.clone(), pin.sha256));
            PlannedRecord { file, sha256 }
        }),
        files: (!step.files.is_empty()).then(|| PlannedFiles {
            names: step.files.iter().map(|file| file.value.clone()).collect(),
            place: spec.workspace.project.value.clone(),
            tree: tree(),
        }),
    }
}
