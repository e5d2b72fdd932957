//! What was changed by hand in a workspace: read from its scratch, which may be in use.

pub mod undo;

use std::collections::BTreeMap;
use std::path::PathBuf;

use cavrith_core::account;
use cavrith_core::derive::plan::Plan;
use cavrith_core::digest::{ImageFingerprint, TreeDigest};
use cavrith_core::drift::{self, Drift, Finding, Observed, Side};
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Tree};
use cavrith_engine::context::BuildContext;
use cavrith_engine::project::Project;
use cavrith_keeper::client::Client;
use cavrith_keeper::openings;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;
use cavrith_store::reading;
use cavrith_store::records::ImageRecord;

use crate::{WorkspaceError, copying, machine, scratches};

/// Bytes of a file that is read as a whole.
const LONGEST: u64 = 64 << 20;

/// A workspace's image, and what lies over it.
pub struct Scratched {
    /// The image.
    pub image: Tree,
    /// The same with what was changed.
    pub here: Tree,
    /// The scratch; nothing where the workspace was never started over this image.
    pub dir: Option<PathBuf>,
    /// Which files were changed, and when, in milliseconds since 1970.
    changed: BTreeMap<RootPath, u64>,
    /// Whether the scratch is a copy of the whole root.
    is_copy: bool,
    /// The machine in which it lies, and what it is there.
    inside: Option<(Place, Tree)>,
    layers: Vec<Layer>,
    /// Those of the image that the workspace ran over, when [`Self::layers`] are of another one.
    beneath: Vec<Layer>,
}

/// Name, digest and tree of a layer.
type Layer = (String, TreeDigest, Tree);

impl std::fmt::Debug for Scratched {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Scratched({:?})", self.dir)
    }
}

impl Scratched {
    /// Reads what was changed in a workspace over the image that it runs, or ran last.
    ///
    /// # Errors
    /// When it never ran, its image is not in the store any more, or something cannot be read.
    pub fn read(context: BuildContext<'_>, place: &Place) -> Result<Self, WorkspaceError> {
        let record = Record::read(&place.dir).ok_or_else(|| WorkspaceError::NeverRan(place.name.clone()))?;
        let named = context.store.image_for(&record.image_key)?;
        let name = |tree: &TreeDigest| {
            let layer = named.iter().flat_map(|image| &image.layers).find(|layer| layer.tree == *tree);
            layer.map_or_else(|| "what you add".to_owned(), |layer| layer.name.clone())
        };
        let layers = record.layers.iter().map(|tree| Ok((name(tree), *tree, context.store.layer_tree(tree)?)));
        let layers = layers.collect::<Result<Vec<_>, WorkspaceError>>()?;
        Self::over(context, place, &record.arrangement.image, layers)
    }

    /// Reads what was changed in a workspace over one of its project's images.
    ///
    /// # Errors
    /// When something cannot be read.
    pub fn over_image(context: BuildContext<'_>, place: &Place, image: &ImageRecord) -> Result<Self, WorkspaceError> {
        // What ran over this image last lay over what its member added, too.
        let ran = Record::read(&place.dir).filter(|record| record.arrangement.image == image.image);
        if ran.is_some_and(|record| !record.personal.is_empty()) {
            return Self::read(context, place);
        }
        let layers = image.layers.iter();
        let layers = layers.map(|layer| Ok((layer.name.clone(), layer.tree, context.store.layer_tree(&layer.tree)?)));
        Self::over(context, place, &image.image, layers.collect::<Result<Vec<_>, WorkspaceError>>()?)
    }

    fn over(
        context: BuildContext<'_>,
        place: &Place,
        image: &ImageFingerprint,
        layers: Vec<Layer>,
    ) -> Result<Self, WorkspaceError> {
        let dir = place.scratch_path(image);
        let image = Tree::merged(layers.iter().map(|(_, _, tree)| tree));
        if !dir.is_dir() {
            let here = image.clone();
            return Ok(Self {
                image,
                here,
                dir: None,
                changed: BTreeMap::new(),
                is_copy: false,
                inside: None,
                layers,
                beneath: Vec::new(),
            });
        }
        let is_inside = Record::is_in_machine(&place.dir);
        let found = match is_inside {
            true => machine::read(place, &image)?,
            false => scratches::read(context, &dir, &image)?,
        };
        let inside = is_inside.then(|| (place.clone(), found.tree.clone()));
        let here = match found.is_whole {
            true => found.tree,
            false => {
                let mut here = image.clone();
                here.overlay(&found.tree);
                here
            }
        };
        Ok(Self {
            image,
            here,
            dir: Some(dir),
            changed: found.changed,
            is_copy: found.is_whole,
            inside,
            layers,
            beneath: Vec::new(),
        })
    }

    /// Where files of the workspace lie that were changed.
    pub fn top(&self) -> Option<PathBuf> {
        if self.inside.is_some() {
            return None;
        }
        Some(self.dir.as_ref()?.join(if self.is_copy { "merged" } else { "root" }))
    }

    /// Whether the scratch lies on the disk of a machine.
    pub fn is_inside(&self) -> bool {
        self.inside.is_some()
    }

    /// Whether the scratch is a copy of the whole root, and no layer over it.
    pub fn is_copy(&self) -> bool {
        self.is_copy
    }

    /// The content of a regular file; nothing where there is none, or it is too long to be a text.
    pub fn content(&self, context: BuildContext<'_>, side: Side, path: &RootPath) -> Option<Vec<u8>> {
        let tree = if side == Side::Image { &self.image } else { &self.here };
        if !matches!(tree.get(path).map(|entry| &entry.kind), Some(Kind::File { .. })) {
            return None;
        }
        if side == Side::Here
            && let Some(at) = self.top().map(|top| top.join(path.as_relative()))
            // Whoever is inside can exchange a directory for a link while this is read.
            && let Ok(bytes) = reading::bounded_real(&at, LONGEST)
        {
            return Some(bytes);
        }
        if let (Side::Here, Some((place, changed))) = (side, &self.inside)
            && changed.get(path).is_some()
        {
            return copying::content(place, &format!("/{path}")).ok();
        }
        let layers = if side == Side::Here && !self.beneath.is_empty() { &self.beneath } else { &self.layers };
        let at = context.store.place_in_image(layers.iter().map(|(_, layer, _)| layer), tree, path)?;
        reading::bounded(&at, LONGEST).ok()
    }

    /// The uppermost layer that brings a path.
    fn layer(&self, path: &RootPath) -> Option<String> {
        let layer = self
            .layers
            .iter()
            .rev()
            .find(|(_, _, tree)| tree.get(path).is_some_and(|entry| entry.kind != Kind::Whiteout));
        layer.map(|(name, _, _)| name.clone())
    }
}

/// What was changed by hand in a workspace, which may be in use.
///
/// # Errors
/// When it never ran, its image is not in the store any more, or something cannot be read.
pub fn drift(context: BuildContext<'_>, place: &Place) -> Result<(Drift, Scratched), WorkspaceError> {
    let scratched = Scratched::read(context, place)?;
    let drift = told(context, place, &scratched)?;
    Ok((drift, scratched))
}

/// In what a workspace, with all that was changed in it, differs from the image that its project has now.
///
/// # Errors
/// When the image is not built, or as [`drift()`].
pub fn against(
    context: BuildContext<'_>,
    place: &Place,
    project: &Project,
    lock: &Lock,
) -> Result<Drift, WorkspaceError> {
    let mut scratched = Scratched::read(context, place)?;
    let key = Plan::new(&project.spec, lock).image_key;
    let record = context.store.image_for(&key)?;
    let layers = record.iter().flat_map(|record| &record.layers);
    let layers = layers.map(|layer| Ok((layer.name.clone(), layer.tree, context.store.layer_tree(&layer.tree)?)));
    let layers = layers.collect::<Result<Vec<_>, WorkspaceError>>()?;
    scratched.image = Tree::merged(layers.iter().map(|(_, _, tree)| tree));
    // What was not changed is read from where it was.
    scratched.beneath = std::mem::replace(&mut scratched.layers, layers);
    told(context, place, &scratched)
}

/// What was changed by hand and is in the image that the project has now neither, with what lies in the home.
///
/// # Errors
/// As [`against`].
pub fn lost(context: BuildContext<'_>, place: &Place, project: &Project, lock: &Lock) -> Result<Drift, WorkspaceError> {
    let (mut drift, _) = drift(context, place)?;
    let left = against(context, place, project, lock)?;
    drift.retain_differing(&left);
    // What runs ends with every restart, and is told where that is asked for.
    drift.findings.retain(|finding| !matches!(finding, Finding::Service { .. }));
    Ok(drift)
}

/// What was changed by hand, as it was read.
///
/// # Errors
/// When the workspace never ran, or does not answer.
pub fn told(context: BuildContext<'_>, place: &Place, scratched: &Scratched) -> Result<Drift, WorkspaceError> {
    let record = Record::read(&place.dir).ok_or_else(|| WorkspaceError::NeverRan(place.name.clone()))?;
    let openings = scratched.dir.as_deref().map(openings::read).unwrap_or_default();
    let by_steps = |path: &RootPath| {
        scratched.changed.get(path).is_some_and(|millis| openings.iter().any(|opening| opening.contains(*millis)))
    };
    let home = account::home(&record.arrangement.setup.account);
    let passwd = RootPath::from_archive(b"etc/passwd").ok();
    let passwd = passwd.and_then(|path| scratched.content(context, Side::Here, &path)).unwrap_or_default();
    let mounts: Vec<String> = record.arrangement.folders.iter().map(|folder| folder.inside.clone()).collect();
    let observed = Observed {
        image: &scratched.image,
        here: &scratched.here,
        home: &home,
        own_files: &cavrith_keeper::OWN_FILES,
        mounts: &mounts,
        by_steps: &by_steps,
        read: &|side, path| scratched.content(context, side, path),
        layer: &|path| scratched.layer(path),
    };
    Ok(drift::find(&observed, listening(place, &passwd)?))
}

/// What listens inside without being a service or a declared port of the spec's.
fn listening(place: &Place, passwd: &[u8]) -> Result<Vec<Finding>, WorkspaceError> {
    let Some(client) = Client::new(place) else { return Ok(Vec::new()) };
    let status = client.status()?;
    let strange = status.undeclared.into_iter().filter(|one| one.service.is_none() && !one.program.is_empty());
    let passwd = String::from_utf8_lossy(passwd).into_owned();
    let account = |user: u32| {
        let mut lines = passwd.lines().map(|line| line.split(':').collect::<Vec<_>>());
        let line = lines.find(|fields| fields.get(2).is_some_and(|number| *number == user.to_string()));
        line.and_then(|fields| fields.first().map(|name| (*name).to_owned())).unwrap_or_else(|| user.to_string())
    };
    let mut findings: Vec<Finding> = Vec::new();
    for one in strange {
        let known = findings.iter().any(
            |known| matches!(known, Finding::Service { command, .. } if *command == one.command && !command.is_empty()),
        );
        // A program with several ports is one program.
        if !known {
            let account = account(one.user);
            findings.push(Finding::Service { port: one.port, program: one.program, command: one.command, account });
        }
    }
    Ok(findings)
}
