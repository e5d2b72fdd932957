//! Which package a file of a base is from, or the script of which one made it.

use std::collections::BTreeMap;
use std::fmt;

use cavrith_core::digest::TreeDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::Tree;
use cavrith_core::tree::diff::Change;
use cavrith_core::verdict::Difference;
use cavrith_store::{Store, reading};

/// dpkg's records of packages.
const RECORDS: &str = "var/lib/dpkg/info";
/// Scripts that make files.
const SCRIPTS: [&str; 3] = [".postinst", ".preinst", ".config"];

/// Where a file is from.
pub struct Origin {
    /// The package.
    pub package: String,
    /// A script of the package made it.
    pub by_script: bool,
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let script = if self.by_script { "a script of " } else { "" };
        write!(f, "{script}the package {}", self.package)
    }
}

/// The packages of a layer, as dpkg's records in it have them.
pub struct Packages {
    /// Which package brings which path, as packages write it.
    brings: BTreeMap<Vec<u8>, String>,
    /// Scripts, with the packages that they are of.
    scripts: Vec<(String, String)>,
}

impl Packages {
    /// Reads the records that a layer brings; of a layer without packages, none.
    pub fn of(store: &Store, layer: &TreeDigest, tree: &Tree) -> Self {
        let (mut brings, mut scripts) = (BTreeMap::new(), Vec::new());
        let Ok(records) = RootPath::from_archive(RECORDS.as_bytes()) else { return Self { brings, scripts } };
        let root = store.layer_root(layer);
        for (path, _) in tree.under(&records) {
            let name = String::from_utf8_lossy(path.name().unwrap_or_default()).into_owned();
            let package = |ending: &str| {
                let whole = name.strip_suffix(ending)?;
                Some(whole.split(':').next().unwrap_or(whole).to_owned())
            };
            let read = || reading::bytes(&root.join(path.as_relative())).unwrap_or_default();
            if let Some(package) = package(".list") {
                let list = read();
                let lines = list.split(|byte| *byte == b'\n').filter_map(|line| line.strip_prefix(b"/"));
                brings.extend(lines.map(|line| (line.to_vec(), package.clone())));
            } else if let Some(package) = SCRIPTS.into_iter().find_map(package) {
                scripts.push((package, String::from_utf8_lossy(&read()).into_owned()));
            }
        }
        Self { brings, scripts }
    }

    /// A change of a layer, with what brought the path.
    pub fn difference(&self, change: &Change, layer: &str) -> Difference {
        let origin = self.origin(&change.path);
        let words = origin.as_ref().map_or_else(String::new, |origin| format!(", {origin}"));
        let mut difference = Difference::of_change(change, Some(format!("{layer}{words}")));
        difference.package = origin.map(|origin| origin.package);
        difference
    }

    /// Where a path is from: the package that brings it, or the one whose script names it, or the nearest
    /// directory above it.
    pub fn origin(&self, path: &RootPath) -> Option<Origin> {
        let merged = path.as_bytes().strip_prefix(b"usr/").unwrap_or(path.as_bytes());
        if let Some(package) = self.brings.get(path.as_bytes()).or_else(|| self.brings.get(merged)) {
            return Some(Origin { package: package.clone(), by_script: false });
        }
        let above = path.ancestors().into_iter().rev().filter(|above| above.depth() >= 2);
        let mut named = std::iter::once(path.clone()).chain(above).map(|path| path.to_string());
        named.find_map(|name| {
            let (package, _) = self.scripts.iter().find(|(_, script)| script.contains(&name))?;
            Some(Origin { package: package.clone(), by_script: true })
        })
    }
}
