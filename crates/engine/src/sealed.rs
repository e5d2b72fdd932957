//! Taking the layers of a sealed image from somebody who has them.
//!
//! Trust is by the seal alone: it names each layer's tree digest, and what comes is proved against that before it
//! counts. So it does not matter who gives it.

use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};

use cavrith_core::derive::plan::{Needs, Plan, RULES};
use cavrith_core::digest::TreeDigest;
use cavrith_core::lock::Lock;
use cavrith_core::seal::SealedLayer;
use cavrith_core::tree::Tree;
use cavrith_store::workers;
use cavrith_store::writer::StagedLayer;

use crate::context::BuildContext;
use crate::error::EngineError;
use crate::event::Event;
use crate::project::Project;
use crate::team;

/// Layers that are on their way at once.
const AT_ONCE: usize = 4;

/// Somebody who may have layers.
pub trait LayerSource: Sync {
    /// The layer of a tree digest, proved; nothing when it is not there. An error says, in words, why it cannot be had.
    ///
    /// # Errors
    /// When the place cannot be reached, or gives something else.
    fn fetch(&self, context: BuildContext<'_>, name: &str, tree: &TreeDigest) -> Result<Option<StagedLayer>, String>;

    /// Where what came can be fetched again, if that lasts.
    fn place(&self) -> Option<String> {
        None
    }
}

/// What came from somebody else.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Adopted {
    /// Layers.
    pub layers: usize,
    /// Bytes of their files.
    pub bytes: u64,
}

/// Brings the layers of a project's sealed image into the store, as far as `source` has them, so that building finds
/// them there. Where the seal is not of this spec and lock, nothing is done; what does not come
/// is built, and the reason is an event.
///
/// # Errors
/// When the store cannot be read or written.
pub fn adopt(
    context: BuildContext<'_>,
    project: &Project,
    lock: &Lock,
    source: &dyn LayerSource,
) -> Result<Adopted, EngineError> {
    let Some(seal) = &lock.seal else { return Ok(Adopted::default()) };
    let plan = Plan::new(&project.spec, lock);
    let names = seal.layers.iter().map(|layer| layer.name.as_str());
    let fits = seal.rules == RULES
        && seal.spec == project.spec.digest
        && seal.pins == lock.pins_digest()
        && names.eq(plan.layers.iter().map(|layer| layer.name.as_str()));
    if !team::judge(&project.dir, lock)?.is_trusted() {
        let text = "the seal is not signed by a lead of the team, so nothing is taken from others because of it";
        (context.observer)(Event::Note { text: text.to_owned() });
        return Ok(Adopted::default());
    }
    if context.fresh || !fits || context.store.image_for(&plan.image_key)?.is_some() {
        return Ok(Adopted::default());
    }
    take(context, &plan, &seal.layers, source)
}

/// Brings layers into the store, as far as `source` has them, and tells the store for which keys of a plan they stand.
///
/// # Errors
/// When the store cannot be read or written.
pub(crate) fn take(
    context: BuildContext<'_>,
    plan: &Plan,
    layers: &[SealedLayer],
    source: &dyn LayerSource,
) -> Result<Adopted, EngineError> {
    let missing: Vec<_> = layers.iter().filter(|layer| !context.store.has_layer(&layer.tree)).collect();
    let (came, bytes, gave_up) = (AtomicUsize::new(0), AtomicU64::new(0), AtomicBool::new(false));
    workers::each(missing.len(), AT_ONCE, |number| -> Result<(), EngineError> {
        let layer = missing[number];
        // A place that failed once is not asked again: building takes less time than waiting.
        if gave_up.load(Ordering::Relaxed) {
            return Ok(());
        }
        match source.fetch(context, &layer.name, &layer.tree) {
            Ok(Some(staged)) => {
                let (digest, tree) = context.store.keep(staged, false)?;
                if let Some(place) = source.place() {
                    context.store.remember_shared(&digest, &place)?;
                }
                came.fetch_add(1, Ordering::Relaxed);
                bytes.fetch_add(tree.content_bytes(), Ordering::Relaxed);
            }
            Ok(None) => {}
            Err(why) => {
                if !gave_up.swap(true, Ordering::Relaxed) {
                    (context.observer)(Event::Note { text: format!("what is missing is built here: {why}") });
                }
            }
        }
        Ok(())
    })?;
    remember(context, plan, layers)?;
    Ok(Adopted { layers: came.into_inner(), bytes: bytes.into_inner() })
}

/// Tells the store for which keys the sealed layers stand, as far as they are there.
fn remember(context: BuildContext<'_>, plan: &Plan, layers: &[SealedLayer]) -> Result<(), EngineError> {
    let store = context.store;
    let (mut merged, mut base) = (Tree::with_root(), Tree::with_root());
    for (planned, sealed) in plan.layers.iter().zip(layers) {
        // What lies above a layer that is not there is found by what that one comes out as, when it is built.
        let Ok(tree) = store.layer_tree(&sealed.tree) else { return Ok(()) };
        let beneath = match planned.content.needs() {
            Needs::Nothing | Needs::Stages => None,
            Needs::Base => Some(base.digest()),
            Needs::Beneath => Some(merged.digest()),
        };
        store.remember(&plan.key(planned, beneath.as_ref()), &sealed.tree)?;
        if planned.content.is_base() {
            base.overlay(&tree);
        }
        merged.overlay_whole(tree);
    }
    Ok(())
}
