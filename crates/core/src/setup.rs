//! What a workspace is besides its image, as far as it is the team's choice and the same for everyone.
//!
//! What is a member's own (outside paths, outside ports) is not here, and so not in the fingerprint.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::account::ACCOUNT_ID;
use crate::digest::{ImageFingerprint, WorkspaceFingerprint};
use crate::encode::Encoder;

/// The team's part of a workspace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Setup {
    /// The ordinary user inside.
    pub account: String,
    /// Where the project's folder appears.
    pub project: String,
    /// Host name inside.
    pub host_name: String,
    /// The whole environment of a command of the account, but for what tells of the member's own terminal.
    pub env: BTreeMap<String, String>,
    /// Inside paths of the folders, sorted, each with what of it stays inside: `/code except out, target`.
    pub folders: Vec<String>,
    /// Inside ports, by name: `8080/tcp`.
    pub ports: BTreeMap<String, String>,
    /// Extensions with their versions.
    pub extensions: BTreeMap<String, String>,
    /// The editor's settings as its file has them; empty without an editor.
    pub settings: String,
    /// Services, steps of the start, names and the like, each under what it is: `service site`, in one line.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub runtime: BTreeMap<String, String>,
}

impl Setup {
    /// Identity of a workspace with this setup on an image.
    pub fn fingerprint(&self, image: &ImageFingerprint) -> WorkspaceFingerprint {
        let mut encoder = Encoder::new("cavrith workspace 1");
        encoder
            .fixed(image.as_bytes())
            .bytes(&self.account)
            .u32(ACCOUNT_ID)
            .bytes(&self.project)
            .bytes(&self.host_name);
        for map in [&self.env, &self.ports, &self.extensions] {
            encoder.count(map.len());
            for (name, value) in map {
                encoder.bytes(name).bytes(value);
            }
        }
        encoder.list(self.folders.iter()).bytes(&self.settings);
        // Left out when there is nothing, so that what was sealed before there were services stays what it is.
        if !self.runtime.is_empty() {
            encoder.count(self.runtime.len());
            for (what, how) in &self.runtime {
                encoder.bytes(what).bytes(how);
            }
        }
        WorkspaceFingerprint::from_bytes(encoder.digest())
    }
}
