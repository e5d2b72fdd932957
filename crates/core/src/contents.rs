//! What an image is made of: a bill of materials, as a list and in two open formats.

mod cyclonedx;
pub mod installed;
mod licence;
mod spdx;

use std::collections::BTreeMap;

use serde::Serialize;

use crate::contents::installed::Installed;
use crate::digest::{ImageFingerprint, Sha256Digest};
use crate::encode::percent_encoded;
use crate::lock::{Lock, Source};
use crate::record::Record;
use crate::record::packages::Package;
use crate::spec::Spec;

pub use cyclonedx::cyclonedx;
pub use licence::{declared, expression};
pub use spdx::spdx;

/// One thing that an image is made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Item {
    /// What it is: package, toolchain, part, extension, download, archive, image layer, fetched (by a step), installed
    /// (a language's package that the image has).
    pub kind: &'static str,
    /// Its name.
    pub name: String,
    /// Its version; empty when it has none.
    pub version: String,
    /// Where it comes from, in words: a suite and a path, a depot, an address.
    pub origin: String,
    /// SHA-256 of the file it came as; of one that is installed, of the file that tells of it.
    pub sha256: Sha256Digest,
    /// Its licences, as it declares them; empty when that is not known.
    pub licences: Vec<String>,
    /// Its package URL (purl specification), when there is a type for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub purl: Option<String>,
}

/// Everything that a lock pins, in its order. Licences are for the caller to fill in, from the image.
pub fn items(spec: &Spec, lock: &Lock) -> Vec<Item> {
    let mut items = Vec::new();
    let mut add = |kind, name: &str, version: &str, origin: String, sha256, purl| {
        let (name, version) = (name.to_owned(), version.to_owned());
        items.push(Item { kind, name, version, origin, sha256, licences: Vec::new(), purl });
    };
    for (name, pin) in lock.debian.iter().flat_map(|debian| debian.packages()) {
        let origin = format!("debian {} {}", pin.suite, pin.file);
        let suite = lock.debian.as_ref().map_or("", |debian| &debian.suite);
        let purl = debian_purl(name, &pin.version, &pin.architecture, suite);
        add("package", name, &pin.version, origin, pin.sha256, Some(purl));
    }
    let depot = |source: &Source| match source.depot.as_str() {
        "" => source.file.clone(),
        depot => format!("depot {depot} {}", source.file),
    };
    for pin in &lock.packages {
        add("package", &pin.name, &pin.version, depot(&pin.source), pin.source.sha256, None);
    }
    if let Some(pin) = &lock.archive {
        add("archive", &spec.workspace.name.value, "", pin.origin().to_owned(), pin.sha256, None);
    }
    for (number, layer) in lock.oci.iter().flat_map(|oci| oci.layers.iter().enumerate()) {
        let origin = lock.oci.as_ref().map(|oci| oci.origin.clone()).unwrap_or_default();
        add("image layer", &format!("layer {}", number + 1), "", origin, layer.sha256, None);
    }
    for pin in &lock.toolchains {
        // What comes with the base is among its packages.
        let Some(source) = &pin.source else { continue };
        let purl = Some(&source.file).filter(|file| file.contains("://"));
        let purl = purl
            .map(|url| format!("pkg:generic/{}@{}?download_url={}", pin.name, pin.version, percent_encoded(url, "")));
        add("toolchain", &pin.name, pin.version.as_str(), depot(source), source.sha256, purl);
        for part in &pin.parts {
            let name = format!("{} {}", pin.name, part.name);
            add("part", &name, pin.version.as_str(), depot(&part.source), part.source.sha256, None);
        }
    }
    for pin in &lock.extensions {
        add("extension", &pin.id, pin.version.as_str(), depot(&pin.source), pin.source.sha256, None);
    }
    for pin in &lock.downloads {
        let purl = format!("pkg:generic/{}?download_url={}", pin.name, percent_encoded(&pin.url, ""));
        add("download", &pin.name, "", pin.url.clone(), pin.sha256, Some(purl));
    }
    items
}

/// What steps fetched that is a package of some registry, each once. Licences are for the caller to fill in.
pub fn fetched<'a>(records: impl IntoIterator<Item = &'a Record>) -> Vec<Item> {
    let mut found = BTreeMap::new();
    for (request, response) in records.into_iter().flat_map(|record| &record.answers) {
        let Some(package) = Package::of_address(&request.url).filter(|_| response.status == 200) else { continue };
        found.entry((package, response.body)).or_insert(&request.url);
    }
    let items = found.into_iter().map(|((package, sha256), url)| Item {
        kind: "fetched",
        purl: Some(package.purl()),
        name: format!("{} {}", package.kind, package.name),
        version: package.version,
        origin: url.clone(),
        sha256,
        licences: Vec::new(),
    });
    items.collect()
}

/// Adds to a list what an image has installed: licences of what is in the list already, and what is not in it by
/// itself. Each comes with where it was found, and the SHA-256 of that file.
pub fn add_installed(items: &mut Vec<Item>, installed: Vec<(Installed, String, Sha256Digest)>) {
    for (Installed { package, licences }, origin, sha256) in installed {
        let name = format!("{} {}", package.kind, package.name);
        let mut known = items.iter_mut().filter(|item| item.name == name && item.version == package.version).peekable();
        if known.peek().is_none() {
            let purl = Some(package.purl());
            drop(known);
            items.push(Item { kind: "installed", name, version: package.version, origin, sha256, licences, purl });
            continue;
        }
        known.filter(|item| item.licences.is_empty()).for_each(|item| item.licences.clone_from(&licences));
    }
}

fn debian_purl(name: &str, version: &str, architecture: &str, suite: &str) -> String {
    format!(
        "pkg:deb/debian/{}@{}?arch={architecture}&distro={suite}",
        percent_encoded(name, ""),
        percent_encoded(version, "")
    )
}

/// What a bill is about.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// The workspace's name.
    pub name: &'a str,
    /// The image, when it is built.
    pub image: Option<&'a ImageFingerprint>,
    /// Digest of what is pinned, in hexadecimal digits: the same pins, the same bill.
    pub pins: &'a str,
    /// The lock's time stamp, in seconds since 1970: a bill says when its contents were made, not when it was asked
    /// for.
    pub epoch: u64,
    /// This program's version.
    pub version: &'a str,
}

/// A time as RFC 3339 has it.
fn stamp(epoch: u64) -> String {
    let time = i64::try_from(epoch).ok().and_then(|epoch| jiff::Timestamp::from_second(epoch).ok());
    time.map_or_else(|| epoch.to_string(), |time| time.strftime("%Y-%m-%dT%H:%M:%SZ").to_string())
}
