//! From spec and lock to layers: a pure function.
//!
//! | layer | what its key takes in | built |
//! |---|---|---|
//! | toolchain | archive's SHA-256, strip, place | alone, beside the others |
//! | extension | archive's SHA-256, strip, place | alone, beside the others |
//! | base | SHA-256 of each package, in order; or of the archive, and strip | alone, beside the others |
//! | account | account, inside paths of folders, tree of the base | after the base |
//! | settings | account, place, text, tree of the base | after the base |
//! | step | command, environment, host name, tree of all that lies beneath | one after the other |
//!
//! Every key also takes in the kind of layer, the epoch, and [`RULES`], the version of the rules by which layers are
//! made. Left out on purpose: names of steps, toolchains and depots (they do not change what comes out), where a file was
//! fetched from (its digest is there), and everything of this machine. Because a step's key has the *tree* beneath and
//! not its key, a change below that comes out the same reuses everything above.
//!
//! Lowest first, an image is: toolchains, extensions, base, account, settings, steps. Toolchains lie beneath the base so
//! that the directories above their places (`/`, `/opt`) keep the rights that the base gives them.

use std::collections::BTreeMap;

use crate::digest::{ImageKey, LayerKey, TreeDigest};
use crate::encode::Encoder;
use crate::lock::{ArchivePin, ExtensionPin, Lock, PackagePin, ToolchainPin};
use crate::path::RootPath;
use crate::setup;
use crate::spec::{Base, Run, Spec};

/// Version of the rules by which layers are made. Raise it when the same inputs would come out differently, so that
/// nothing made by older rules is taken for the same.
pub const RULES: u32 = 1;

/// All layers of an image, the lowest first.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The layers.
    pub layers: Vec<PlannedLayer>,
    /// The one time stamp of every file.
    pub epoch: u64,
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
}

/// What a layer is made of.
#[derive(Debug, Clone)]
pub enum Content {
    /// A toolchain's archive.
    Toolchain(ToolchainPin),
    /// An extension's archive.
    Extension(ExtensionPin),
    /// Packages of the base.
    Packages(Vec<PackagePin>),
    /// The base as one archive.
    Archive(ArchivePin),
    /// The account and the mount points.
    Account {
        /// Its name.
        account: String,
        /// Inside paths of folders.
        places: Vec<RootPath>,
    },
    /// The editor's settings file.
    Settings {
        /// The account.
        account: String,
        /// The file.
        place: RootPath,
        /// Its text.
        text: String,
    },
    /// A build step.
    Step {
        /// What it runs.
        run: Run,
        /// Its environment.
        env: BTreeMap<String, String>,
    },
}

/// What a layer's making looks at besides its own content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Needs {
    /// Nothing: it can be made at any time.
    Nothing,
    /// The base.
    Base,
    /// Everything beneath.
    Beneath,
}

impl Content {
    /// What has to be there before it can be made.
    pub fn needs(&self) -> Needs {
        match self {
            Self::Toolchain(_) | Self::Extension(_) | Self::Packages(_) | Self::Archive(_) => Needs::Nothing,
            Self::Account { .. } | Self::Settings { .. } => Needs::Base,
            Self::Step { .. } => Needs::Beneath,
        }
    }

    /// True for the base, in either form.
    pub fn is_base(&self) -> bool {
        matches!(self, Self::Packages(_) | Self::Archive(_))
    }
}

impl Plan {
    /// The plan of a spec and a lock that fits it.
    pub fn new(spec: &Spec, lock: &Lock) -> Self {
        let mut layers = Vec::new();
        let mut add = |name: String, content: Content| layers.push(PlannedLayer { name, content });
        for pin in &lock.toolchains {
            add(format!("toolchain {} {}", pin.name, pin.version), Content::Toolchain(pin.clone()));
        }
        for pin in &lock.extensions {
            add(format!("extension {} {}", pin.id, pin.version), Content::Extension(pin.clone()));
        }
        match (&spec.base, &lock.archive) {
            (Base::Archive { .. }, Some(pin)) => add(format!("base {}", pin.path), Content::Archive(pin.clone())),
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
        let mut places: Vec<_> = spec.folders.iter().map(|folder| folder.inside.value.clone()).collect();
        places.sort();
        add(format!("account {account}"), Content::Account { account: account.clone(), places });
        if let (Some(editor), Some(profile)) = (&spec.editor, &lock.editor) {
            let place = profile.settings_place(&crate::account::home(&account));
            if let Ok(place) = RootPath::from_absolute(&place) {
                let text = crate::account::settings_text(&editor.settings);
                add(format!("settings of {}", profile.name), Content::Settings { account, place, text });
            }
        }
        let env = setup::step_env(spec, lock);
        for step in &spec.steps {
            add(format!("step \"{}\"", step.name.value), Content::Step { run: step.run.clone(), env: env.clone() });
        }
        let image_key = image_key(&layers, lock.epoch);
        Self { layers, epoch: lock.epoch, image_key }
    }

    /// Key of one layer. `beneath` is the tree of what it [needs](Content::needs), when it needs something.
    pub fn key(&self, layer: &PlannedLayer, beneath: Option<&TreeDigest>) -> LayerKey {
        let mut encoder = Encoder::new("cavrith layer 1");
        encoder.u32(RULES).u64(self.epoch);
        match beneath {
            None => encoder.u8(0),
            Some(tree) => encoder.u8(1).fixed(tree.as_bytes()),
        };
        encode_content(&mut encoder, &layer.content);
        LayerKey::from_bytes(encoder.digest())
    }
}

fn image_key(layers: &[PlannedLayer], epoch: u64) -> ImageKey {
    let mut encoder = Encoder::new("cavrith plan 1");
    encoder.u32(RULES).u64(epoch).count(layers.len());
    for layer in layers {
        // The names are in it, though they change nothing: the record of an image tells them.
        encoder.bytes(&layer.name);
        encode_content(&mut encoder, &layer.content);
    }
    ImageKey::from_bytes(encoder.digest())
}

fn encode_content(encoder: &mut Encoder, content: &Content) {
    match content {
        Content::Toolchain(pin) => {
            encoder.u8(1).fixed(pin.source.sha256.as_bytes()).u64(pin.strip as u64).bytes(&pin.place);
        }
        Content::Extension(pin) => {
            encoder.u8(2).fixed(pin.source.sha256.as_bytes()).u64(pin.strip as u64).bytes(&pin.place);
        }
        Content::Packages(pins) => {
            encoder.u8(3).count(pins.len());
            for pin in pins {
                encoder.fixed(pin.source.sha256.as_bytes());
            }
        }
        Content::Archive(pin) => {
            encoder.u8(4).fixed(pin.sha256.as_bytes()).u64(pin.strip as u64);
        }
        Content::Account { account, places } => {
            encoder.u8(5).bytes(account).list(places.iter().map(RootPath::as_bytes));
        }
        Content::Settings { account, place, text } => {
            encoder.u8(6).bytes(account).bytes(place.as_bytes()).bytes(text);
        }
        Content::Step { run, env } => {
            encoder.u8(7).list(run.argv().iter()).count(env.len());
            for (name, value) in env {
                encoder.bytes(name).bytes(value);
            }
        }
    }
}
