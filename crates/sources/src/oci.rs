//! OCI images (OCI Image Specification 1.1): indexes, manifests, configurations, and layers with their marks of
//! deletion.
//!
//! Only what has been proved against its digest comes here.

mod documents;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::path::RootPath;
use cavrith_store::writer::LayerWriter;

use crate::checked::Checked;
use crate::tarball::{self, Laying, Rights};
use crate::{SourceError, blame, compression};
pub use documents::{Descriptor, Execution, ImageConfiguration, ImageIndex, ImageManifest, Platform};

/// Bytes that an index, manifest or configuration may have; the distribution specification asks registries to take
/// manifests of up to four mebibytes.
pub const LONGEST_DOCUMENT: u64 = 8 << 20;
/// Layers that an image may have.
const MOST_LAYERS: usize = 512;
/// How a mark of deletion begins, and what marks a directory as opaque ("Whiteouts").
const WHITEOUT: &[u8] = b".wh.";
const OPAQUE: &[u8] = b".wh..wh..opq";
/// The annotation by which a layout names its images.
const REF_NAME: &str = "org.opencontainers.image.ref.name";

/// A blob, by its digest and length.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Blob {
    /// SHA-256.
    pub sha256: Sha256Digest,
    /// Length in bytes.
    pub size: u64,
}

/// What a document is.
#[derive(Debug)]
pub enum Document {
    /// Images for several platforms.
    Index(Box<ImageIndex>),
    /// One image.
    Manifest(Manifest),
}

/// One image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Manifest {
    /// Its configuration.
    pub config: Blob,
    /// Its layers, the lowest first.
    pub layers: Vec<Blob>,
}

fn blob(descriptor: &Descriptor) -> Result<Blob, String> {
    let digest = &descriptor.digest;
    let hex =
        digest.strip_prefix("sha256:").ok_or_else(|| format!("it names a digest that is not a sha256, {digest}"))?;
    Ok(Blob { sha256: hex.parse().map_err(|_| format!("{digest} is not a digest"))?, size: descriptor.size })
}

/// Reads an index or a manifest.
///
/// # Errors
/// In words, what is wrong with it.
pub fn parse(bytes: &[u8]) -> Result<Document, String> {
    let value: serde_json::Value = serde_json::from_slice(bytes).map_err(|error| format!("it is no JSON: {error}"))?;
    if value.get("manifests").is_some() {
        let index = serde_json::from_slice(bytes).map_err(|error| format!("its index cannot be read: {error}"))?;
        return Ok(Document::Index(Box::new(index)));
    }
    let manifest: ImageManifest =
        serde_json::from_slice(bytes).map_err(|error| format!("its manifest cannot be read: {error}"))?;
    let layers = manifest.layers.iter().map(blob).collect::<Result<Vec<_>, _>>()?;
    if layers.len() > MOST_LAYERS {
        return Err(format!("it has more than {MOST_LAYERS} layers"));
    }
    Ok(Document::Manifest(Manifest { config: blob(&manifest.config)?, layers }))
}

/// Chooses from an index: by tag, when one is given or several images are there, and by platform.
///
/// # Errors
/// In words, what there is instead.
pub fn choose(index: &ImageIndex, tag: Option<&str>, platform: &str) -> Result<Blob, String> {
    let name = |one: &Descriptor| one.annotations.as_ref().and_then(|notes| notes.get(REF_NAME).cloned());
    let shown = |one: &Descriptor| {
        one.platform.as_ref().map(|platform| {
            let variant = platform.variant.as_ref().map_or_else(String::new, |variant| format!("/{variant}"));
            format!("{}/{}{variant}", platform.os, platform.architecture)
        })
    };
    let named: Vec<_> =
        index.manifests.iter().filter(|one| tag.is_none_or(|tag| name(one).as_deref() == Some(tag))).collect();
    if named.is_empty() {
        let names: Vec<_> = index.manifests.iter().filter_map(name).collect();
        return Err(format!("it has no image {:?}; it has {}", tag.unwrap_or_default(), listed(&names)));
    }
    // One that says no platform is for all, or tells its own inside.
    let fits = |one: &&&Descriptor| {
        shown(one).is_none_or(|shown| {
            shown == platform || shown.strip_prefix(platform).is_some_and(|rest| rest.starts_with('/'))
        })
    };
    let fitting: Vec<_> = named.iter().filter(fits).collect();
    match fitting.as_slice() {
        [] => {
            let platforms: Vec<_> =
                named.iter().filter_map(|one| shown(one)).filter(|one| !one.contains("unknown")).collect();
            Err(format!("it is not there for {platform}; it is there for {}", listed(&platforms)))
        }
        [only] => blob(only),
        [first, ..] if tag.is_some() || shown(first).is_some() => blob(first),
        several => {
            let names: Vec<_> = several.iter().filter_map(|one| name(one)).collect();
            Err(format!("it has several images ({}); name one with tag", listed(&names)))
        }
    }
}

fn listed(names: &[String]) -> String {
    if names.is_empty() { "nothing with a name".to_owned() } else { names.join(", ") }
}

/// When an image was made, in seconds since 1970, and the environment that it wants for its programs.
///
/// # Errors
/// In words, what is wrong with its configuration.
pub fn read_config(bytes: &[u8], platform: &str) -> Result<(Option<u64>, Vec<String>), String> {
    let config: ImageConfiguration =
        serde_json::from_slice(bytes).map_err(|error| format!("its configuration cannot be read: {error}"))?;
    let own = format!("{}/{}", config.os, config.architecture);
    if own != platform && !platform.starts_with(&format!("{own}/")) {
        return Err(format!("it is for {own}, and {platform} is asked for"));
    }
    let created = config.created.as_deref().and_then(cavrith_core::oci::seconds);
    let env = config.config.and_then(|config| config.env).unwrap_or_default();
    Ok((created, env))
}

/// Lays one layer. The writer lies over those beneath, and [replaces](cavrith_store::writer::Links::Replace).
///
/// # Errors
/// A damaged layer, one that brings what it must not, and what the store says.
pub fn unpack_layer(checked: &mut Checked, writer: &mut LayerWriter) -> Result<(), SourceError> {
    let (name, packed) = (checked.name().to_owned(), checked.size());
    let damaged = |why: String| SourceError::Damaged { name: name.clone(), why };
    let stream = checked.open().and_then(|file| compression::unpack(file, packed));
    let stream = stream.map_err(|error| damaged(error.to_string()))?;
    let laying = Laying { strip: 0, place: RootPath::root(), rights: Rights::AsGiven };
    let (mut gone, mut hiding) = (Vec::new(), Vec::new());
    tarball::for_each(stream, &name, |entry| {
        let path = RootPath::from_archive(&entry.path).map_err(|bad| damaged(bad.to_string()))?;
        let (parent, last) = (path.parent().unwrap_or_default(), path.name().unwrap_or_default());
        if last == OPAQUE {
            hiding.push(parent);
        } else if let Some(hidden) = last.strip_prefix(WHITEOUT) {
            // Other names that begin so belong to the program that made the layer.
            if !hidden.starts_with(WHITEOUT) {
                gone.push(parent.join(hidden).map_err(|bad| damaged(bad.to_string()))?);
            }
        } else {
            tarball::lay(entry, &name, path, &laying, writer)?;
        }
        Ok(())
    })?;
    // A layer's marks are about what lies beneath it, wherever they stand in it.
    for path in hiding {
        writer.hide_beneath(&path).map_err(blame(&name))?;
    }
    for path in gone {
        writer.whiteout(&path).map_err(blame(&name))?;
    }
    Ok(())
}
