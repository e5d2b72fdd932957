//! A base from the Debian archive: its packages laid and configured, stage by stage.
//!
//! A stage is laid by us (unpacked by as many threads as there are processors, straight into what will be the layer),
//! with dpkg's own records of it written as dpkg writes them; then the root's own dpkg configures it, in a sandbox over
//! the stages beneath. While one stage is being configured, which keeps one processor busy, the next one is laid
//! already; should configuring have made links where that one has directories, it is laid again.
//!
//! What configuring leaves differently each time is removed at the end; `configuring::TIDY` has the list, with reasons.

mod configuring;
mod tidying;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::ScopedJoinHandle;

use cavrith_core::derive::plan::{Content, PlannedLayer, Stage};
use cavrith_core::digest::TreeDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Meta, Tree};
use cavrith_sources::SourceError;
use cavrith_sources::stage::{self, LowerTree, Package};
use cavrith_store::shared::SharedWriter;
use cavrith_store::workers;
use cavrith_store::writer::{LayerWriter, Links, StagedLayer};

use crate::bringing::{self, PinnedFile};
use crate::context::BuildContext;
use crate::error::EngineError;
use crate::event::Event;
use crate::layer_cache::{LayerCache, Ready};
use crate::project::Project;
use crate::step_layer::capture;
use configuring::Configuring;

/// Directories that every root has as links into `/usr`, whatever packages write.
const MERGED: [&str; 4] = ["bin", "sbin", "lib", "lib64"];
/// A stage whose packages are laid.
struct Laid {
    dir: PathBuf,
    writer: SharedWriter,
    packages: Vec<Package>,
    /// What was taken to lie beneath.
    over: Option<Arc<Tree>>,
}

/// One stage to be made.
#[derive(Clone, Copy)]
struct Wanted<'a> {
    /// Its name, for people.
    name: &'a str,
    /// What it is.
    stage: &'a Stage,
}

/// Makes the stages of a base one after the other.
pub(crate) struct Maker<'a> {
    pub cache: LayerCache<'a>,
    pub context: BuildContext<'a>,
    pub project: &'a Project,
    pub epoch: u64,
}

impl Maker<'_> {
    fn tell(&self, event: Event) {
        (self.context.observer)(event);
    }

    /// Makes all stages of a plan that the store does not have.
    pub fn make(&self, planned: &[&PlannedLayer]) -> Result<Vec<Ready>, EngineError> {
        let wanted: Vec<_> = planned
            .iter()
            .filter_map(|layer| match &layer.content {
                Content::Stage(stage) => Some(Wanted { name: &layer.name, stage }),
                _ => None,
            })
            .collect();
        let lacking: Vec<bool> = planned.iter().map(|layer| !self.cache.has(layer)).collect();
        self.fetch(
            &wanted.iter().zip(&lacking).filter(|(_, lacking)| **lacking).map(|(one, _)| one.stage).collect::<Vec<_>>(),
        )?;
        let mut done: Vec<Ready> = Vec::new();
        let mut merged: Option<Arc<Tree>> = None;
        std::thread::scope(|scope| {
            let mut ahead: Option<ScopedJoinHandle<'_, Result<Laid, EngineError>>> = None;
            for (number, one) in wanted.iter().enumerate() {
                let layers: Vec<_> = done.iter().map(|ready| ready.outcome.tree).collect();
                let over = merged.clone();
                let next = wanted.get(number + 1).filter(|_| lacking[number + 1]);
                let early = ahead.take();
                let mut started = None;
                let ready = self.cache.layer(planned[number], None, || {
                    let early =
                        early.map(|early| early.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
                    let laid = match early.transpose()? {
                        Some(laid) if laid.fits(over.as_deref()) => laid,
                        _ => self.lay(one.stage, over.clone())?,
                    };
                    started = next.map(|next| {
                        let beneath = laid.provisional(over.as_deref(), self.epoch);
                        scope.spawn(move || self.lay(next.stage, Some(beneath)))
                    });
                    self.configure(*one, laid, &layers, over.as_deref())
                })?;
                ahead = started;
                drop(over);
                if number + 1 < wanted.len() {
                    let mut tree = merged.take().map_or_else(Tree::with_root, Arc::unwrap_or_clone);
                    tree.overlay(&ready.tree);
                    merged = Some(Arc::new(tree));
                }
                done.push(ready);
            }
            Ok(done)
        })
    }

    /// Makes one more stage over a whole image. `adjust` gets the directory of what it changed before that is taken.
    pub fn over(
        &self,
        name: &str,
        stage: &Stage,
        (layers, image): (&[TreeDigest], &Arc<Tree>),
        adjust: impl FnOnce(&Path) -> Result<(), EngineError>,
    ) -> Result<StagedLayer, EngineError> {
        self.fetch(&[stage])?;
        let laid = self.lay(stage, Some(Arc::clone(image)))?;
        let dir = self.configured(Wanted { name, stage }, laid, layers, Some(image))?;
        adjust(&dir)?;
        capture(self.context, dir, (0, 0), self.epoch, image)
    }

    /// Gets hold of all packages of some stages, several at once, so that laying them waits for nothing.
    fn fetch(&self, stages: &[&Stage]) -> Result<(), EngineError> {
        let origins = self.project.origins();
        let packages = stages.iter().flat_map(|stage| &stage.packages).map(|(name, pin)| {
            PinnedFile::new(pin.sha256, pin.size, move |supply| supply.package(origins, name, pin).map(drop))
        });
        bringing::bring(self.context, "package", packages.collect())
    }

    /// Lays all packages of a stage.
    fn lay(&self, stage: &Stage, over: Option<Arc<Tree>>) -> Result<Laid, EngineError> {
        let supply = self.context.supply();
        let dir = self.context.staging.new_dir()?;
        let mut writer = LayerWriter::new(dir.clone(), self.epoch, Links::Follow, self.context.store.ownership())?;
        match &over {
            Some(over) => writer.set_lower(over.clone()),
            None => {
                for name in MERGED {
                    let target = format!("usr/{name}");
                    writer.directory(&inside(&target)?, Meta::root(0o755))?;
                    writer.symlink(&inside(name)?, Meta::root(0o777), target.as_bytes())?;
                }
            }
        }
        let writer = SharedWriter::new(writer);
        let pins: Vec<_> = stage.packages.iter().collect();
        // The largest first, so that no thread is left with it at the end.
        let mut order: Vec<_> = (0..pins.len()).collect();
        order.sort_by_key(|number| std::cmp::Reverse(pins[*number].1.size));
        let laid: Mutex<BTreeMap<usize, Package>> = Mutex::default();
        workers::each(order.len(), workers::processors(), |turn| -> Result<(), EngineError> {
            let number = order[turn];
            let (name, pin) = pins[number];
            let mut checked = supply.package(self.project.origins(), name, pin)?;
            let package = stage::lay(&mut checked, &writer, number, (name, &pin.version), over.is_none())?;
            laid.lock().unwrap_or_else(PoisonError::into_inner).insert(number, package);
            Ok(())
        })?;
        let packages = laid.into_inner().unwrap_or_else(PoisonError::into_inner).into_values().collect();
        Ok(Laid { dir, writer, packages, over })
    }

    /// Configures a laid stage over those beneath, and takes it as a layer.
    fn configure(
        &self,
        wanted: Wanted<'_>,
        laid: Laid,
        layers: &[TreeDigest],
        over: Option<&Tree>,
    ) -> Result<StagedLayer, EngineError> {
        let dir = self.configured(wanted, laid, layers, over)?;
        capture(self.context, dir, (0, 0), self.epoch, over.unwrap_or(&Tree::with_root()))
    }

    /// Configures a laid stage, and gives the directory that it lies in.
    fn configured(
        &self,
        wanted: Wanted<'_>,
        laid: Laid,
        layers: &[TreeDigest],
        over: Option<&Tree>,
    ) -> Result<PathBuf, EngineError> {
        let Laid { dir, writer, packages, .. } = laid;
        let store = self.context.store;
        let read = |path: &RootPath| {
            let tree = over?;
            let place = tree.resolve(path)?;
            store.file_of_image(layers.iter(), tree, &place).ok().flatten()
        };
        let beneath = over.map(|tree| LowerTree { tree, read: &read });
        let stage = stage::Stage { packages: &packages, beneath };
        let moves = stage.settle(&writer, &[], false)?;
        writer.carry_out(&moves)?;
        let (moves, lists) = stage.settle_beneath(&writer)?;
        writer.carry_out(&moves)?;
        let mut records = stage.records(&|path| writer.read(path), &|path| writer.read_file(path))?;
        records.extend(lists.into_iter().map(|(name, list)| (name, (list, false))));
        let open = writer.has_contested();
        let configure = Configuring { maker: self, wanted, stage: &stage, writer: &writer, open };
        configure.prepare(&dir, &records, over.is_some())?;
        configure.run(&dir, layers)?;
        // What comes now reads the whole stage again.
        drop((records, writer, packages));
        tidying::keystore(&dir.join("root"), self.epoch)?;
        Ok(dir)
    }
}

impl Laid {
    /// Whether what it was laid over is, for its own entries, what is there now.
    fn fits(&self, over: Option<&Tree>) -> bool {
        let (Some(assumed), Some(over)) = (self.over.as_deref(), over) else {
            return self.over.is_none() && over.is_none();
        };
        let kind = |tree: &Tree, path: &RootPath| {
            tree.get(path).map(|entry| match &entry.kind {
                Kind::Symlink { target } => (false, Some(target.clone())),
                kind => (kind.is_directory(), None),
            })
        };
        let same_meta = |path: &RootPath| {
            let meta =
                |tree: &Tree| tree.get(path).filter(|entry| entry.kind.is_directory()).map(|entry| entry.meta.clone());
            meta(assumed) == meta(over)
        };
        self.writer.directories().iter().all(|path| kind(assumed, path) == kind(over, path) && same_meta(path))
    }

    /// What will lie beneath the next stage, as far as that is known before this one is configured.
    fn provisional(&self, over: Option<&Tree>, epoch: u64) -> Arc<Tree> {
        let mut tree = over.cloned().unwrap_or_else(Tree::with_root);
        let mut own = self.writer.tree();
        // As capturing will leave them; by another time no directory would fit, and everything be laid twice.
        own.entries.values_mut().for_each(|entry| entry.meta.time = epoch);
        tree.overlay_whole(own);
        Arc::new(tree)
    }
}

fn inside(path: &str) -> Result<RootPath, EngineError> {
    let refused =
        |bad: cavrith_core::path::BadPath| SourceError::Refused { name: "a package".to_owned(), why: bad.to_string() };
    Ok(RootPath::from_archive(path.as_bytes()).map_err(refused)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use cavrith_store::owners::Ownership;

    fn laid(dir: &Path, directories: &[&str], over: Option<Arc<Tree>>) -> Laid {
        let mut writer = LayerWriter::new(dir.to_owned(), 77, Links::Follow, Ownership::Real).unwrap();
        if let Some(over) = &over {
            writer.set_lower(over.clone());
        }
        for path in directories {
            writer.directory(&inside(path).unwrap(), Meta::root(0o755)).unwrap();
        }
        Laid { dir: dir.to_owned(), writer: SharedWriter::new(writer), packages: Vec::new(), over }
    }

    #[test]
    fn what_is_laid_ahead_fits_unless_configuring_changed_a_directory_of_it() {
        let home = tempfile::tempdir().unwrap();
        let [first, second] = ["first", "second"].map(|name| home.path().join(name));
        [&first, &second].into_iter().for_each(|dir| std::fs::create_dir(dir).unwrap());
        let first = laid(&first, &["usr", "usr/share"], None);
        let beneath = first.provisional(None, 77);
        let next = laid(&second, &["usr/share/tides"], Some(beneath.clone()));
        // As capturing leaves it: everything of one time, and something more.
        let mut captured = Tree::clone(&beneath);
        captured.entries.values_mut().for_each(|entry| entry.meta.time = 77);
        let more = captured.entries[&inside("usr").unwrap()].clone();
        captured.entries.insert(inside("etc").unwrap(), more);
        assert!(next.fits(Some(&captured)));
        captured.entries.get_mut(&inside("usr/share").unwrap()).unwrap().meta.mode = 0o700;
        assert!(!next.fits(Some(&captured)));
        assert!(!next.fits(None));
    }
}
