//! The documents of an image that goes out (OCI Image Specification 1.1: "Image Configuration", "Image Manifest",
//! "Image Index", "Image Layout"). What they say follows from the spec, the lock and the image alone, so that the same
//! image has the same documents everywhere.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::digest::Sha256Digest;
use crate::lock::Lock;
use crate::setup::Setup;
use crate::spec::Spec;

/// Media type of a manifest.
pub const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
/// Media type of an index.
pub const INDEX: &str = "application/vnd.oci.image.index.v1+json";
/// Media type of a configuration.
pub const CONFIG: &str = "application/vnd.oci.image.config.v1+json";
/// The file that marks a folder as an image layout, and its content.
pub const LAYOUT_FILE: (&str, &str) = ("oci-layout", "{\"imageLayoutVersion\":\"1.0.0\"}");
/// The annotation that names an image in a layout's index.
pub const REF_NAME: &str = "org.opencontainers.image.ref.name";
/// Our own annotation: the image's fingerprint.
pub const FINGERPRINT: &str = "cavrith.image";

/// How layers are compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    None,
    /// RFC 1952.
    Gzip,
    /// RFC 8878.
    Zstd,
}

impl Compression {
    /// A word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Gzip => "gzip",
            Self::Zstd => "zstd",
        }
    }

    /// The media type of a layer ("Filesystem Layers").
    pub fn media_type(self) -> &'static str {
        match self {
            Self::None => "application/vnd.oci.image.layer.v1.tar",
            Self::Gzip => "application/vnd.oci.image.layer.v1.tar+gzip",
            Self::Zstd => "application/vnd.oci.image.layer.v1.tar+zstd",
        }
    }
}

/// A digest as the documents write it: `sha256:…`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct OciDigest(pub Sha256Digest);

impl Serialize for OciDigest {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(&format_args!("sha256:{}", self.0))
    }
}

impl<'de> Deserialize<'de> for OciDigest {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let hex = text.strip_prefix("sha256:").ok_or_else(|| serde::de::Error::custom("not a sha256 digest"))?;
        hex.parse().map(Self).map_err(serde::de::Error::custom)
    }
}

/// What a blob is ("Descriptors").
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// Its media type.
    pub media_type: String,
    /// Its digest.
    pub digest: OciDigest,
    /// Its length.
    pub size: u64,
    /// For a manifest in an index: what it runs on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub platform: Option<Platform>,
    /// For an artifact in an index: what it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub artifact_type: Option<String>,
    /// More about it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

impl Descriptor {
    /// Of something with a digest and a length.
    pub fn new(media_type: &str, digest: Sha256Digest, size: u64) -> Self {
        Self {
            media_type: media_type.to_owned(),
            digest: OciDigest(digest),
            size,
            platform: None,
            artifact_type: None,
            annotations: BTreeMap::new(),
        }
    }

    /// Of these bytes.
    pub fn of(media_type: &str, bytes: &[u8]) -> Self {
        Self::new(media_type, Sha256Digest::of(bytes), bytes.len() as u64)
    }
}

/// What an image runs on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Platform {
    /// As the Go language names it.
    pub architecture: String,
    /// `linux`.
    pub os: String,
}

impl Platform {
    /// What an image of a lock runs on: what its packages or its base image are for, else this machine (`here`, as
    /// Debian names it).
    pub fn of(lock: &Lock, here: &str) -> Self {
        let packages = lock.packages.iter().map(|pin| pin.architecture.as_str());
        let packages = packages.chain(lock.debian.iter().map(|pin| pin.architecture.as_str()));
        let named = packages.into_iter().find(|architecture| *architecture != "all");
        let base = lock.oci.as_ref().and_then(|pin| pin.platform.split('/').nth(1));
        let architecture = match named.or(base).unwrap_or(here) {
            "i386" => "386",
            "armhf" | "armel" => "arm",
            other => other,
        };
        Self { architecture: architecture.to_owned(), os: "linux".to_owned() }
    }
}

/// What an index lists ("Image Index").
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Index {
    /// 2.
    pub schema_version: u32,
    /// [`INDEX`].
    #[serde(default = "index_type")]
    pub media_type: String,
    /// Manifests, sorted as [`Index::put`] has them.
    pub manifests: Vec<Descriptor>,
}

fn index_type() -> String {
    INDEX.to_owned()
}

impl Index {
    /// An index of nothing.
    pub fn empty() -> Self {
        Self { schema_version: 2, media_type: index_type(), manifests: Vec::new() }
    }

    /// Adds a manifest beside all others.
    pub fn add(&mut self, manifest: Descriptor) {
        self.manifests.retain(|other| other.digest != manifest.digest);
        self.manifests.push(manifest);
    }

    /// Adds a manifest. One of the same name for the same platform goes.
    pub fn put(&mut self, manifest: Descriptor) {
        let key = |one: &Descriptor| {
            let platform = one.platform.as_ref().map(|platform| (platform.os.clone(), platform.architecture.clone()));
            (one.annotations.get(REF_NAME).cloned(), platform, one.artifact_type.clone())
        };
        self.manifests.retain(|other| key(other) != key(&manifest));
        self.manifests.push(manifest);
        self.manifests.sort_by_key(|one| (key(one), one.digest));
    }
}

/// One image ("Image Manifest").
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "camelCase")]
struct Manifest<'a> {
    schema_version: u32,
    media_type: &'a str,
    config: Descriptor,
    layers: Vec<Descriptor>,
    annotations: BTreeMap<&'a str, String>,
}

#[derive(Serialize)]
struct ImageConfig<'a> {
    created: String,
    architecture: &'a str,
    os: &'a str,
    config: Execution<'a>,
    rootfs: RootFs,
    history: Vec<History<'a>>,
}

#[derive(Serialize)]
#[serde(rename_all = "PascalCase")]
struct Execution<'a> {
    user: String,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    exposed_ports: BTreeMap<&'a str, serde_json::Map<String, serde_json::Value>>,
    env: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    entrypoint: Vec<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    cmd: Vec<String>,
    working_dir: String,
    labels: BTreeMap<&'a str, String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    stop_signal: Option<String>,
}

#[derive(Serialize)]
struct RootFs {
    r#type: &'static str,
    diff_ids: Vec<OciDigest>,
}

#[derive(Serialize)]
struct History<'a> {
    created: String,
    created_by: &'a str,
}

/// A layer as it was packed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PackedLayer {
    /// The layer's name in the seal.
    pub name: String,
    /// SHA-256 of the tar archive.
    pub diff: Sha256Digest,
    /// SHA-256 of what it is compressed to.
    pub blob: Sha256Digest,
    /// Length of that.
    pub size: u64,
}

/// The documents of an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Documents {
    /// The configuration's bytes.
    pub config: Vec<u8>,
    /// The manifest's bytes.
    pub manifest: Vec<u8>,
    /// How an index lists the manifest.
    pub descriptor: Descriptor,
}

/// A document that belongs to an image: its bill of materials, its seal ("Image Manifest", "Guidelines for Artifact
/// Usage").
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attachment {
    /// What it is: the type of the artifact, and of its one blob.
    pub media_type: &'static str,
    /// The document.
    pub bytes: Vec<u8>,
}

/// The configuration of an artifact that has none: its media type and its bytes.
pub const EMPTY: (&str, &[u8]) = ("application/vnd.oci.empty.v1+json", b"{}");

impl Attachment {
    /// The manifest that ties it to the image `subject`, and how an index lists that.
    pub fn manifest(&self, subject: &Descriptor) -> (Vec<u8>, Descriptor) {
        #[derive(Serialize)]
        #[serde(rename_all = "camelCase")]
        struct Artifact<'a> {
            schema_version: u32,
            media_type: &'a str,
            artifact_type: &'a str,
            config: Descriptor,
            layers: [Descriptor; 1],
            subject: Descriptor,
        }
        let subject = Descriptor { platform: None, annotations: BTreeMap::new(), ..subject.clone() };
        let artifact = Artifact {
            schema_version: 2,
            media_type: MANIFEST,
            artifact_type: self.media_type,
            config: Descriptor::of(EMPTY.0, EMPTY.1),
            layers: [Descriptor::of(self.media_type, &self.bytes)],
            subject,
        };
        let bytes = serde_json::to_vec(&artifact).unwrap_or_default();
        let mut listed = Descriptor::of(MANIFEST, &bytes);
        listed.artifact_type = Some(self.media_type.to_owned());
        (bytes, listed)
    }
}

/// Blobs that a team shares, held together by a manifest, so that a registry keeps them.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct SharedBlobs {
    schema_version: u32,
    media_type: &'static str,
    artifact_type: &'static str,
    config: Descriptor,
    layers: Vec<Descriptor>,
}

impl SharedBlobs {
    /// A finished layer: its list, and its content by its digest and length; both are compressed with Zstandard.
    pub fn layer(list: &[u8], content: Sha256Digest, size: u64) -> Self {
        let list = Descriptor::of("application/vnd.cavrith.list.v2+zstd", list);
        let content = Descriptor::new(Compression::Zstd.media_type(), content, size);
        Self::new("application/vnd.cavrith.layer.v1", vec![list, content])
    }

    /// What the steps of a record were answered: bodies by their digests and lengths.
    pub fn bodies(bodies: &[(Sha256Digest, u64)]) -> Self {
        let body = |(digest, size): &(Sha256Digest, u64)| Descriptor::new("application/octet-stream", *digest, *size);
        Self::new("application/vnd.cavrith.bodies.v1", bodies.iter().map(body).collect())
    }

    /// A publisher's voucher.
    pub fn voucher(text: &[u8]) -> Self {
        Self::new(
            "application/vnd.cavrith.voucher.v1",
            vec![Descriptor::of("application/vnd.cavrith.voucher.v1+json", text)],
        )
    }

    fn new(artifact_type: &'static str, layers: Vec<Descriptor>) -> Self {
        let config = Descriptor::of(EMPTY.0, EMPTY.1);
        Self { schema_version: 2, media_type: MANIFEST, artifact_type, config, layers }
    }

    /// The manifest's bytes.
    pub fn bytes(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap_or_default()
    }
}

/// What the documents are made from.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// The spec.
    pub spec: &'a Spec,
    /// Its lock.
    pub lock: &'a Lock,
    /// What a workspace of the image is besides it.
    pub setup: &'a Setup,
    /// The account's shell.
    pub shell: &'a str,
    /// The image's fingerprint, as text.
    pub image: &'a str,
    /// This machine's architecture, as Debian names it; for images that are for none in particular.
    pub here: &'a str,
    /// How its layers are compressed.
    pub compression: Compression,
}

/// A time stamp as the documents write it (RFC 3339).
fn time(seconds: u64) -> String {
    let seconds = i64::try_from(seconds).unwrap_or(i64::MAX);
    jiff::Timestamp::from_second(seconds).map_or_else(|_| "1970-01-01T00:00:00Z".to_owned(), |time| time.to_string())
}

/// The configuration and manifest of an image with these layers, the lowest first.
pub fn documents(subject: Subject<'_>, layers: &[PackedLayer]) -> Documents {
    let Subject { spec, lock, setup, shell, image, here, compression } = subject;
    let platform = Platform::of(lock, here);
    let created = time(lock.epoch);
    let id = crate::account::ACCOUNT_ID;
    let name = spec.name();
    let wanted = &spec.image;
    let entrypoint = wanted.command.as_ref().map(crate::spec::Run::argv).unwrap_or_default();
    let mut labels = BTreeMap::from([(FINGERPRINT, image.to_owned())]);
    labels.extend(wanted.labels.iter().map(|(name, text)| (name.as_str(), text.clone())));
    let ports: Vec<&str> = match &wanted.ports {
        Some(ports) => ports.iter().map(String::as_str).collect(),
        None => setup.ports.values().map(String::as_str).collect(),
    };
    let config = ImageConfig {
        created: created.clone(),
        architecture: &platform.architecture,
        os: &platform.os,
        config: Execution {
            // Another account's numbers are known to the image alone, which whoever runs it looks into.
            user: wanted.account.as_ref().map_or_else(|| format!("{id}:{id}"), |account| account.value.clone()),
            exposed_ports: ports.into_iter().map(|port| (port, serde_json::Map::new())).collect(),
            env: setup.env.iter().map(|(name, value)| format!("{name}={value}")).collect(),
            cmd: match (wanted.arguments.as_slice(), &wanted.command) {
                ([], None) => vec![shell.to_owned()],
                (arguments, _) => arguments.to_vec(),
            },
            entrypoint,
            working_dir: wanted
                .directory
                .as_ref()
                .map_or_else(|| setup.project.clone(), |directory| directory.value.to_string()),
            labels,
            stop_signal: wanted.signal.as_ref().map(|signal| format!("SIG{signal}")),
        },
        rootfs: RootFs { r#type: "layers", diff_ids: layers.iter().map(|layer| OciDigest(layer.diff)).collect() },
        history: layers.iter().map(|layer| History { created: created.clone(), created_by: &layer.name }).collect(),
    };
    let config = serde_json::to_vec(&config).unwrap_or_default();
    let annotations = BTreeMap::from([
        ("org.opencontainers.image.created", created),
        ("org.opencontainers.image.title", name.clone()),
        (FINGERPRINT, image.to_owned()),
        ("cavrith.spec", spec.digest.to_string()),
        ("cavrith.lock", lock.pins_digest().to_string()),
    ]);
    let manifest = Manifest {
        schema_version: 2,
        media_type: MANIFEST,
        config: Descriptor::of(CONFIG, &config),
        layers: layers
            .iter()
            .map(|layer| Descriptor {
                annotations: BTreeMap::from([("cavrith.layer".to_owned(), layer.name.clone())]),
                ..Descriptor::new(compression.media_type(), layer.blob, layer.size)
            })
            .collect(),
        annotations,
    };
    let manifest = serde_json::to_vec(&manifest).unwrap_or_default();
    let mut descriptor = Descriptor::of(MANIFEST, &manifest);
    descriptor.platform = Some(platform);
    descriptor.annotations.insert(REF_NAME.to_owned(), name);
    Documents { config, manifest, descriptor }
}
