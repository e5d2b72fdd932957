//! Layers that the store has, or that somebody makes: one mechanism for every kind of layer, which knows none of them.

use std::time::Instant;

use cavrith_core::derive::plan::{Plan, PlannedLayer};
use cavrith_core::digest::TreeDigest;
use cavrith_core::tree::Tree;
use cavrith_store::writer::StagedLayer;

use crate::context::BuildContext;
use crate::error::EngineError;
use crate::event::{Event, LayerOutcome};

/// The layers of one build.
#[derive(Clone, Copy)]
pub(crate) struct LayerCache<'a> {
    context: BuildContext<'a>,
    plan: &'a Plan,
}

/// One layer of the image under way.
pub(crate) struct Ready {
    pub outcome: LayerOutcome,
    pub tree: Tree,
}

impl<'a> LayerCache<'a> {
    /// The layers of a plan.
    pub fn new(context: BuildContext<'a>, plan: &'a Plan) -> Self {
        Self { context, plan }
    }

    /// Whether the store has a layer that needs nothing beneath it to be named.
    pub fn has(&self, planned: &PlannedLayer) -> bool {
        let store = self.context.store;
        !self.context.fresh
            && store.layer_for(&self.plan.key(planned, None)).is_some_and(|digest| store.layer_tree(&digest).is_ok())
    }

    /// A layer that the store has, or that `make` makes.
    pub fn layer(
        &self,
        planned: &PlannedLayer,
        beneath: Option<&TreeDigest>,
        make: impl FnOnce() -> Result<StagedLayer, EngineError>,
    ) -> Result<Ready, EngineError> {
        let started = Instant::now();
        let store = self.context.store;
        let key = self.plan.key(planned, beneath);
        let known = if self.context.fresh { None } else { store.layer_for(&key) };
        // A layer whose manifest is damaged is made again, like one that is not there, and replaced.
        let found = known.and_then(|digest| Some((digest, store.layer_tree(&digest).ok()?)));
        let replace = self.context.fresh || (known.is_some() && found.is_none());
        let reused = found.is_some();
        let (digest, tree) = match found {
            Some(found) => found,
            None => {
                (self.context.observer)(Event::LayerStarted { layer: planned.name.clone() });
                let (digest, tree) = store.keep(make()?, replace)?;
                store.remember(&key, &digest)?;
                (digest, tree)
            }
        };
        let outcome = LayerOutcome {
            layer: planned.name.clone(),
            tree: digest,
            reused,
            millis: started.elapsed().as_millis() as u64,
            entries: tree.entries.len() as u64,
            bytes: tree.content_bytes(),
        };
        (self.context.observer)(Event::Layer(outcome.clone()));
        Ok(Ready { outcome, tree })
    }
}
