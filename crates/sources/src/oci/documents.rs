//! The documents of an image (OCI Image Specification 1.1), with the fields that are examined.

use std::collections::BTreeMap;

use serde::Deserialize;

/// A pointer to a blob ("Content Descriptors").
#[derive(Debug, Deserialize)]
pub struct Descriptor {
    /// `sha256:` and 64 hexadecimal digits, or another algorithm's.
    pub digest: String,
    /// Bytes.
    pub size: u64,
    /// What it runs on, in an index.
    pub platform: Option<Platform>,
    /// Notes by name.
    pub annotations: Option<BTreeMap<String, String>>,
}

/// What an image runs on ("Image Index").
#[derive(Debug, Deserialize)]
pub struct Platform {
    /// By Go's names.
    pub architecture: String,
    /// By Go's names.
    pub os: String,
    /// Of the processor.
    pub variant: Option<String>,
}

/// Images for several platforms ("Image Index").
#[derive(Debug, Deserialize)]
pub struct ImageIndex {
    /// Its images, and what else is there.
    pub manifests: Vec<Descriptor>,
}

/// One image ("Image Manifest").
#[derive(Debug, Deserialize)]
pub struct ImageManifest {
    /// Its configuration.
    pub config: Descriptor,
    /// Its layers, the lowest first.
    pub layers: Vec<Descriptor>,
}

/// How an image is run ("Image Configuration").
#[derive(Debug, Deserialize)]
pub struct ImageConfiguration {
    /// When it was made (RFC 3339).
    pub created: Option<String>,
    /// By Go's names.
    pub architecture: String,
    /// By Go's names.
    pub os: String,
    /// Of the programs that it is for.
    pub config: Option<Execution>,
}

/// What programs of an image are started with.
#[derive(Debug, Deserialize)]
pub struct Execution {
    /// `NAME=value`.
    #[serde(rename = "Env")]
    pub env: Option<Vec<String>>,
}
