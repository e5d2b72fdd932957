//! What building needs besides the project: the store, the way to the web, who we are.

use cavrith_sandbox::Identity;
use cavrith_sandbox::job::Perturbations;
use cavrith_sources::web::Web;
use cavrith_store::Store;
use cavrith_store::staging::Staging;

use crate::bodies::BodySource;
use crate::event::Observer;
use crate::member::Member;
use crate::supply::Supply;

/// All that building needs besides the project.
#[derive(Clone, Copy)]
pub struct BuildContext<'a> {
    /// Where layers are kept.
    pub store: &'a Store,
    /// Where they are made.
    pub staging: &'a Staging,
    /// Who we are.
    pub identity: Identity,
    /// The way to the web.
    pub web: &'a Web,
    /// What is this member's own: depots, mirrors.
    pub member: &'a Member,
    /// Where files from the web are kept; another store's when this build must begin with an empty one.
    pub blobs: &'a Store,
    /// Whom to ask for the bodies of records that are not here.
    pub bodies: Option<&'a dyn BodySource>,
    /// Gets every event.
    pub observer: Observer<'a>,
    /// Make everything again, and replace what is in the store.
    pub fresh: bool,
    /// Deliberate oddities of the surroundings.
    pub perturbations: Perturbations,
}

impl<'a> BuildContext<'a> {
    /// Where bytes come from.
    pub fn supply(&self) -> Supply<'a> {
        let Self { staging, web, member, bodies, observer, .. } = *self;
        Supply { store: self.blobs, staging, web, member, bodies, observer }
    }
}
