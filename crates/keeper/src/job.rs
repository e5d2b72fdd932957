//! What a keeper is given to do.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::{ImageKey, TreeDigest};
use cavrith_sandbox::Identity;

use crate::record::Stamp;

/// What a keeper has to do.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct KeeperJob {
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub dir: PathBuf,
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub kept: PathBuf,
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub project: PathBuf,
    pub name: String,
    pub named: bool,
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub store: PathBuf,
    pub identity: Identity,
    pub arrangement: Arrangement,
    pub image_key: ImageKey,
    pub layers: Vec<TreeDigest>,
    pub stamps: Vec<Stamp>,
    pub shell: String,
    pub apt_sources: Option<String>,
    pub plain: bool,
}
