//! From a plan to an image.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::Mutex;

use cavrith_core::account::{self, ACCOUNT_FILES, BaseAccounts};
use cavrith_core::derive::fit;
use cavrith_core::derive::plan::{Content, Laid, Needs, Plan, PlannedLayer};
use cavrith_core::digest::TreeDigest;
use cavrith_core::lock::Lock;
use cavrith_core::path::RootPath;
use cavrith_core::record::Record;
use cavrith_core::seal::SealedLayer;
use cavrith_core::tree::{Meta, Tree};
use cavrith_sources::tarball::{self, Laying, Rights};
use cavrith_sources::{SourceError, compression, deb, zipball};
use cavrith_store::Store;
use cavrith_store::records::ImageRecord;
use cavrith_store::workers;
use cavrith_store::writer::{LayerWriter, Links, StagedLayer};

use crate::context::BuildContext;
use crate::error::{BuildError, EngineError, LockError, file_error};
use crate::event::{Event, LayerOutcome};
use crate::layer_cache::{LayerCache, Ready};
use crate::project::Project;
use crate::step_layer::{self, LowerLayers};
use crate::{images, probe, stages, trimming};

/// A built image.
#[derive(Debug, Clone)]
pub struct Built {
    /// What it is.
    pub record: ImageRecord,
    /// What was done for each layer; empty when the whole image was there already.
    pub layers: Vec<LayerOutcome>,
}

/// The image of a project, when the store has it. Needs nothing of the machine but the store.
///
/// # Errors
/// A lock for another machine; a store that cannot be read.
pub fn find(store: &Store, project: &Project, lock: &Lock) -> Result<Option<Built>, EngineError> {
    check_architecture(lock)?;
    let record = store.image_for(&Plan::new(&project.spec, lock).image_key)?;
    Ok(record.map(|record| Built { record, layers: Vec::new() }))
}

/// Builds the image of a project, or finds it built.
///
/// # Errors
/// Sources that are not what they should be, steps that fail, a machine that lacks something.
pub fn build(context: BuildContext<'_>, project: &Project, lock: &Lock) -> Result<Built, EngineError> {
    if !context.fresh
        && let Some(built) = find(context.store, project, lock)?
    {
        return Ok(built);
    }
    check_architecture(lock)?;
    let plan = Plan::new(&project.spec, lock);
    let sources = RefCell::default();
    let builder = Builder { context, cache: LayerCache::new(context, &plan), project, lock, plan: &plan };
    let independent = builder.independent()?;
    builder.assemble(independent, &sources)
}

/// Builds all that lies beneath a step which fetches, runs the step, and gives what it fetched.
///
/// # Errors
/// As [`build`].
pub(crate) fn record(
    context: BuildContext<'_>,
    project: &Project,
    lock: &Lock,
    position: usize,
) -> Result<Record, EngineError> {
    check_architecture(lock)?;
    let plan = Plan::new(&project.spec, lock);
    let sources = RefCell::default();
    // What is there is reported when the image is built afterwards.
    let observer = |event: Event| match event {
        Event::Layer(LayerOutcome { reused: true, .. }) => {}
        event => (context.observer)(event),
    };
    let context = BuildContext { observer: &observer, ..context };
    let builder = Builder { context, cache: LayerCache::new(context, &plan), project, lock, plan: &plan };
    let Stack { outcomes, merged, .. } = builder.stack(builder.independent()?, &sources, position)?;
    let layers: Vec<_> = outcomes.iter().map(|outcome| outcome.tree).collect();
    let planned = &plan.layers[position];
    let Content::Step(step) = &planned.content else { unreachable!("BUG: only a step is recorded") };
    let beneath = LowerLayers { layers: &layers, merged: &merged };
    (context.observer)(Event::LayerStarted { layer: planned.name.clone() });
    step_layer::record(context, project, (planned.name.as_str(), step), beneath)
}

/// The layers of a plan that lie in places of their own: toolchains, their parts, and extensions.
pub(crate) fn loose(plan: &Plan) -> impl Iterator<Item = &PlannedLayer> {
    plan.layers.iter().filter(|layer| matches!(layer.content, Content::Toolchain(_) | Content::Extension(_)))
}

/// One of them, made when it is not there.
pub(crate) fn loose_layer(
    context: BuildContext<'_>,
    project: &Project,
    lock: &Lock,
    plan: &Plan,
    planned: &PlannedLayer,
) -> Result<TreeDigest, EngineError> {
    let builder = Builder { context, cache: LayerCache::new(context, plan), project, lock, plan };
    Ok(builder.cache.layer(planned, None, || builder.unpack(planned))?.outcome.tree)
}

/// Layers over each other.
struct Stack {
    outcomes: Vec<LayerOutcome>,
    merged: Tree,
    base: Tree,
}

/// This machine's architecture, as Debian names it.
pub fn architecture() -> &'static str {
    match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        "x86" => "i386",
        other => other,
    }
}

fn check_architecture(lock: &Lock) -> Result<(), EngineError> {
    let here = architecture();
    let locked =
        lock.packages.iter().map(|pin| &pin.architecture).chain(lock.debian.iter().map(|pin| &pin.architecture));
    match locked.into_iter().find(|architecture| *architecture != "all" && *architecture != here) {
        Some(locked) => {
            Err(EngineError::Lock(LockError::Architecture { locked: locked.clone(), here: here.to_owned() }))
        }
        None => Ok(()),
    }
}

struct Builder<'a> {
    context: BuildContext<'a>,
    cache: LayerCache<'a>,
    project: &'a Project,
    lock: &'a Lock,
    plan: &'a Plan,
}

/// Images of other variants, as far as they were needed.
type Sources = RefCell<BTreeMap<String, ImageRecord>>;

impl Builder<'_> {
    /// Makes all layers that need nothing, as many at once as the machine has processors, the base first, which takes
    /// longest.
    fn independent(&self) -> Result<Vec<Option<Ready>>, EngineError> {
        let mut wanted: Vec<usize> = (0..self.plan.layers.len())
            .filter(|index| self.plan.layers[*index].content.needs() == Needs::Nothing)
            .collect();
        wanted.sort_by_key(|index| !self.plan.layers[*index].content.is_base());
        let done: Mutex<Vec<Option<Ready>>> = Mutex::new(self.plan.layers.iter().map(|_| None).collect());
        let work = |number: usize| -> Result<(), EngineError> {
            let index = wanted[number];
            let planned = &self.plan.layers[index];
            let made = self.cache.layer(planned, None, || self.unpack(planned))?;
            done.lock().unwrap_or_else(std::sync::PoisonError::into_inner)[index] = Some(made);
            Ok(())
        };
        let stages: Vec<usize> = (0..self.plan.layers.len())
            .filter(|index| self.plan.layers[*index].content.needs() == Needs::Stages)
            .collect();
        let chain = || -> Result<(), EngineError> {
            if stages.is_empty() {
                return Ok(());
            }
            let (context, project) = (self.context, self.project);
            let planned: Vec<_> = stages.iter().map(|index| &self.plan.layers[*index]).collect();
            let epoch = planned[0].time;
            let made = match &planned[0].content {
                Content::OciLayer(_) => images::make(self.cache, context, project, &planned, epoch)?,
                Content::Trimmed(trimmed) => {
                    let maker = stages::Maker { cache: self.cache, context, project, epoch };
                    vec![trimming::make(&maker, planned[0], trimmed)?]
                }
                _ => stages::Maker { cache: self.cache, context, project, epoch }.make(&planned)?,
            };
            let mut done = done.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            stages.iter().zip(made).for_each(|(index, ready)| done[*index] = Some(ready));
            Ok(())
        };
        workers::each_beside(wanted.len(), workers::processors(), work, Some(chain))?;
        Ok(done.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    /// Makes a layer from an archive or packages.
    fn unpack(&self, planned: &PlannedLayer) -> Result<StagedLayer, EngineError> {
        let content = &planned.content;
        let supply = self.context.supply();
        let links = if content.is_base() { Links::Follow } else { Links::Refuse };
        let mut writer =
            LayerWriter::new(self.context.staging.new_dir()?, planned.time, links, self.context.store.ownership())?;
        match content {
            Content::Toolchain(placed) => {
                let mut checked = supply.source(self.project.origins(), &placed.source)?;
                let laying = plain_laying(placed.strip, &placed.place)?;
                untar(&mut checked, &laying, &mut writer)?;
            }
            Content::Extension(pin) => {
                let mut checked = supply.source(self.project.origins(), &pin.source)?;
                unpack_any(&mut checked, &plain_laying(pin.strip, &pin.place)?, &mut writer)?;
            }
            Content::Download { pin, place, laying } => {
                let mut checked = supply.download(self.project.origins(), pin)?;
                match laying {
                    Laid::Unpacked(strip) => {
                        let laying = Laying { strip: *strip, place: place.clone(), rights: Rights::Plain };
                        unpack_any(&mut checked, &laying, &mut writer)?;
                    }
                    Laid::File(mode) => {
                        let name = checked.name().to_owned();
                        let file = checked.open().map_err(file_error("read", name))?;
                        writer.file(place, Meta::root(*mode), file)?;
                    }
                }
            }
            Content::Archive(pin) => {
                let mut checked = supply.archive(self.project.origins(), pin)?;
                let laying = Laying { strip: pin.strip, place: RootPath::root(), rights: Rights::AsGiven };
                untar(&mut checked, &laying, &mut writer)?;
            }
            Content::Packages(pins) => {
                let mut installed = Vec::new();
                for pin in pins {
                    installed.push(deb::unpack(&mut supply.source(self.project.origins(), &pin.source)?, &mut writer)?);
                }
                deb::write_database(&installed, &mut writer)?;
            }
            Content::Account { .. }
            | Content::Settings { .. }
            | Content::Step(_)
            | Content::Stage(_)
            | Content::Trimmed(_)
            | Content::OciLayer(_) => {
                unreachable!("BUG: this layer is made from what lies beneath it")
            }
        }
        Ok(writer.finish()?)
    }

    /// Makes the layers that need others, the first so many of all. Also gives the tree of the base, and that of all
    /// layers.
    fn stack(&self, mut ready: Vec<Option<Ready>>, sources: &Sources, count: usize) -> Result<Stack, EngineError> {
        let base = self.plan.layers.iter().zip(&ready).filter(|(layer, _)| layer.content.is_base());
        let base: Vec<_> = base.filter_map(|(_, ready)| ready.as_ref()).collect();
        let base_layers: Vec<_> = base.iter().map(|base| base.outcome.tree).collect();
        let mut base_tree = Tree::with_root();
        base.iter().for_each(|base| base_tree.overlay(&base.tree));
        let base_digest = base_tree.digest();
        self.check_places(&base_tree)?;
        let mut merged = Tree::with_root();
        let mut outcomes: Vec<LayerOutcome> = Vec::new();
        for (index, planned) in self.plan.layers.iter().enumerate().take(count) {
            let made = match ready[index].take() {
                Some(made) => made,
                None => match &planned.content {
                    Content::Step(step) => {
                        let layers: Vec<_> = outcomes.iter().map(|outcome| outcome.tree).collect();
                        let beneath = LowerLayers { layers: &layers, merged: &merged };
                        self.cache.layer(planned, Some(&merged.digest()), || {
                            let image_of = |variant: &str| self.image_of(variant, sources);
                            let step = (planned.name.as_str(), &**step);
                            step_layer::make(self.context, self.project, step, beneath, planned.time, &image_of)
                        })?
                    }
                    _ => self.cache.layer(planned, Some(&base_digest), || {
                        own_layer(self.context, planned, &base_tree, &base_layers)
                    })?,
                },
            };
            merged.overlay_whole(made.tree);
            outcomes.push(made.outcome);
        }
        Ok(Stack { outcomes, merged, base: base_tree })
    }

    /// The image of all layers.
    fn assemble(&self, ready: Vec<Option<Ready>>, sources: &Sources) -> Result<Built, EngineError> {
        let Stack { outcomes, merged, base: base_tree } = self.stack(ready, sources, self.plan.layers.len())?;
        let shell = self.shell(&outcomes, &merged)?.unwrap_or_else(|| account::shell(&base_tree).to_owned());
        let layers =
            outcomes.iter().map(|outcome| SealedLayer { name: outcome.layer.clone(), tree: outcome.tree }).collect();
        let mut record = ImageRecord {
            record: 1,
            image: merged.image_fingerprint(),
            tree: merged.digest(),
            layers,
            shell,
            probes: Vec::new(),
            entries: merged.entries.len() as u64,
            bytes: merged.content_bytes(),
        };
        record.probes = probe::probe(self.context, &self.project.spec, self.lock, &record)?;
        self.context.store.remember_image(&self.plan.image_key, &record)?;
        Ok(Built { record, layers: outcomes })
    }

    /// The image of another variant, built when it is not there.
    fn image_of(&self, variant: &str, sources: &Sources) -> Result<ImageRecord, EngineError> {
        if let Some(known) = sources.borrow().get(variant) {
            return Ok(known.clone());
        }
        let (source, pins) = self
            .project
            .source(self.lock, variant)
            .ok_or_else(|| EngineError::Lock(LockError::Misfits(vec![fit::no_variant(&self.project.spec)])))?;
        let text = format!("the variant {variant}, from which {} takes something", self.project.spec.variant);
        (self.context.observer)(Event::Stage { text });
        let record = build(self.context, &source, &pins)?.record;
        sources.borrow_mut().insert(variant.to_owned(), record.clone());
        Ok(record)
    }

    /// The login shell that the image names for the account, which a step may have set.
    fn shell(&self, layers: &[LayerOutcome], merged: &Tree) -> Result<Option<String>, EngineError> {
        let layers: Vec<_> = layers.iter().map(|layer| layer.tree).collect();
        let file = |path: &str| RootPath::from_archive(path.trim_start_matches('/').as_bytes()).ok();
        let Some(passwd) = file(ACCOUNT_FILES[0]) else { return Ok(None) };
        let passwd = self.context.store.file_of_image(layers.iter(), merged, &passwd)?.unwrap_or_default();
        let found = account::find(&passwd, &self.project.spec.workspace.account.value).map(|account| account.shell);
        let is_there = |shell: &String| {
            file(shell).and_then(|path| merged.resolve(&path)).is_some_and(|at| merged.get(&at).is_some())
        };
        Ok(found.filter(|shell| !shell.is_empty() && is_there(shell)))
    }

    /// Toolchains and extensions need a place that the base does not have, on a way of plain directories.
    fn check_places(&self, base: &Tree) -> Result<(), EngineError> {
        for planned in &self.plan.layers {
            let place = match &planned.content {
                Content::Toolchain(placed) => RootPath::from_absolute(&placed.place),
                Content::Extension(pin) => RootPath::from_absolute(&pin.place),
                Content::Download { place, .. } => Ok(place.clone()),
                _ => continue,
            };
            let Ok(path) = place else {
                continue;
            };
            let place = path.to_string();
            let on_the_way = path.ancestors().into_iter().find_map(|above| {
                base.get(&above)
                    .filter(|entry| !entry.kind.is_directory())
                    .map(|entry| format!("a {} at {above}", entry.kind.word()))
            });
            let there = base.get(&path).map(|entry| format!("a {}", entry.kind.word()));
            if let Some(there) = on_the_way.or(there) {
                return Err(EngineError::Build(BuildError::PlaceTaken { what: planned.name.clone(), place, there }));
            }
        }
        Ok(())
    }
}

/// The layers that Cavrith makes itself, over a base.
pub(crate) fn own_layer(
    context: BuildContext<'_>,
    planned: &PlannedLayer,
    base: &Tree,
    base_layers: &[TreeDigest],
) -> Result<StagedLayer, EngineError> {
    let made = match &planned.content {
        Content::Account { account } => {
            let read = |path: &str| match RootPath::from_archive(path.as_bytes()) {
                Ok(path) => context.store.file_of_image(base_layers.iter(), base, &path),
                Err(_) => Ok(None),
            };
            let [passwd, group, shadow] = ACCOUNT_FILES.map(read);
            let accounts = BaseAccounts { passwd: passwd?, group: group?, shadow: shadow? };
            account::layer(account, base, &accounts).map_err(BuildError::from)?
        }
        Content::Settings { account, place, text } => account::settings_layer(account, base, place, text),
        _ => unreachable!("BUG: this layer is not one of our own"),
    };
    let mut writer =
        LayerWriter::new(context.staging.new_dir()?, planned.time, Links::Refuse, context.store.ownership())?;
    writer.made(&made)?;
    writer.adopt_parents(base);
    Ok(writer.finish()?)
}

fn plain_laying(strip: usize, place: &str) -> Result<Laying, EngineError> {
    let place = RootPath::from_absolute(place)
        .map_err(|bad| SourceError::Refused { name: "the lock".to_owned(), why: bad.to_string() })?;
    Ok(Laying { strip, place, rights: Rights::Plain })
}

/// Unpacks a zip or tar archive, whichever its first bytes say that it is.
fn unpack_any(
    checked: &mut cavrith_sources::checked::Checked,
    laying: &Laying,
    writer: &mut LayerWriter,
) -> Result<(), EngineError> {
    let name = checked.name().to_owned();
    if zipball::is_zip(checked).map_err(file_error("read", name))? {
        return Ok(zipball::unpack(checked, laying, writer)?);
    }
    untar(checked, laying, writer)
}

fn untar(
    checked: &mut cavrith_sources::checked::Checked,
    laying: &Laying,
    writer: &mut LayerWriter,
) -> Result<(), EngineError> {
    let (name, packed) = (checked.name().to_owned(), checked.size());
    let stream = checked.open().and_then(|file| compression::unpack(file, packed));
    let stream = stream.map_err(|error| SourceError::Damaged { name: name.clone(), why: error.to_string() })?;
    tarball::unpack(stream, &name, laying, writer)?;
    Ok(())
}
