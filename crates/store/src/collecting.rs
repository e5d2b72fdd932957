//! What the store holds, whether it is still what it was, and what may go.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use rustix::fs::FlockOperation;

use cavrith_core::digest::{Sha256Digest, TreeDigest};
use cavrith_core::path::RootPath;
use cavrith_core::tree::diff::changes;

use crate::caches;
use crate::records::{ImageRecord, parse_record};
use crate::removing;
use crate::staging::Staging;
use crate::{Store, StoreError, io_error};

/// One thing in the store that could go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoreItem {
    /// What it is about, in words.
    pub what: ItemKind,
    /// Names that images have for it, and other words about it.
    pub names: Vec<String>,
    /// Bytes of its files.
    pub bytes: u64,
    /// How long ago it was used last.
    pub unused: Duration,
    /// A living command uses it.
    pub in_use: bool,
    /// Where it can be fetched again, as far as is known.
    pub shared: Option<String>,
}

/// What was used more recently stays before anything else, wherever else it is.
const RECENT: Duration = Duration::from_secs(24 * 3600);

/// What can be in the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ItemKind {
    /// A layer.
    Layer(TreeDigest),
    /// A file from the web, or what has arrived of one.
    Blob(PathBuf),
    /// What programs of build steps keep for the next time.
    Cache(PathBuf),
}

/// What may go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bounds {
    /// What was not used for so long.
    pub unused_for: Duration,
    /// What was used least recently, until the rest has no more bytes than this.
    pub down_to: Option<u64>,
}

/// Something that is not what it was when it was put there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damage {
    /// Where: the file, or the layer's directory.
    pub path: PathBuf,
    /// What it belongs to: `layer step "frame the site"`.
    pub what: String,
    /// In what way.
    pub how: String,
}

impl Store {
    /// Everything in the store, what was used most recently first.
    ///
    /// # Errors
    /// When the store cannot be listed.
    pub fn held(&self) -> Result<Vec<StoreItem>, StoreError> {
        let records = self.image_records()?;
        let used = self.used_layers();
        let mut all = Vec::new();
        for layer in self.layers()? {
            let dir = self.layer_dir(&layer);
            let mut names: Vec<_> = records
                .iter()
                .flat_map(|(_, record)| record.iter().flat_map(|record| &record.layers))
                .filter(|sealed| sealed.tree == layer)
                .map(|sealed| sealed.name.clone())
                .collect();
            names.sort();
            names.dedup();
            // A layer whose list is damaged still takes its room; how much is not worth a walk.
            let bytes = self.layer_tree(&layer).map_or(0, |tree| tree.content_bytes());
            let in_use = used.contains(&layer);
            let shared = self.shared_at(&layer);
            all.push(StoreItem { what: ItemKind::Layer(layer), names, bytes, unused: age(&dir), in_use, shared });
        }
        for path in self.blob_files()? {
            let meta = fs::metadata(&path).map_err(io_error("look at", &path))?;
            let partial = path.parent().is_some_and(|parent| parent.ends_with("partial"));
            let in_use = partial && is_locked(&path);
            let name = if partial { "begun to be fetched" } else { "fetched" };
            all.push(StoreItem {
                unused: age(&path),
                what: ItemKind::Blob(path),
                names: vec![name.to_owned()],
                bytes: meta.len(),
                in_use,
                shared: None,
            });
        }
        for dir in self.caches()? {
            all.push(StoreItem {
                unused: age(&caches::lock_path(&dir)),
                names: vec![caches::described(&dir)],
                bytes: caches::bytes_in(&dir),
                in_use: is_locked(&caches::lock_path(&dir)),
                shared: None,
                what: ItemKind::Cache(dir),
            });
        }
        all.sort_by_key(|held| held.unused);
        Ok(all)
    }

    fn shared_path(&self, layer: &TreeDigest) -> PathBuf {
        self.layer_dir(layer).join("shared")
    }

    /// Where a layer can be fetched again, as far as is known.
    pub fn shared_at(&self, layer: &TreeDigest) -> Option<String> {
        let place = crate::reading::text(&self.shared_path(layer)).ok()?;
        Some(place.trim_end().to_owned()).filter(|place| !place.is_empty())
    }

    /// Remembers where a layer that is there can be fetched again.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn remember_shared(&self, layer: &TreeDigest, place: &str) -> Result<(), StoreError> {
        if self.shared_at(layer).as_deref() == Some(place) {
            return Ok(());
        }
        crate::atomic::write(&self.shared_path(layer), format!("{place}\n").as_bytes())
    }

    /// Removes what `bounds` let go and nobody uses, and says what that was. With `dry_run` nothing is removed.
    ///
    /// # Errors
    /// When the store cannot be listed or the disk refuses.
    pub fn collect(&self, staging: &Staging, bounds: Bounds, dry_run: bool) -> Result<Vec<StoreItem>, StoreError> {
        // Nobody begins to use a layer while it is decided; what goes is moved away at once and removed afterwards.
        let alone = self.lock_exclusive()?;
        let all = self.held()?;
        let mut left: u64 = all.iter().map(|held| held.bytes).sum();
        let (mut goes, mut stay): (Vec<_>, Vec<_>) =
            all.into_iter().filter(|held| !held.in_use).partition(|held| held.unused >= bounds.unused_for);
        left -= goes.iter().map(|held| held.bytes).sum::<u64>();
        // Of what was not used today, what can be fetched again goes before what would have to be made, and before that
        // what only saves time.
        let worth = |held: &StoreItem| match held.what {
            ItemKind::Cache(_) => 0,
            _ if held.shared.is_some() => 1,
            _ => 2,
        };
        stay.sort_by_key(|held| (held.unused < RECENT, worth(held), std::cmp::Reverse(held.unused)));
        for held in stay {
            if bounds.down_to.is_some_and(|most| left > most) {
                left -= held.bytes;
                goes.push(held);
            }
        }
        if dry_run {
            return Ok(goes);
        }
        let away = staging.new_dir()?;
        for (number, held) in goes.iter().enumerate() {
            let path = match &held.what {
                ItemKind::Layer(layer) => self.layer_dir(layer),
                ItemKind::Blob(path) | ItemKind::Cache(path) => path.clone(),
            };
            fs::rename(&path, away.join(number.to_string())).map_err(io_error("move away", &path))?;
        }
        self.forget_what_is_gone()?;
        drop(alone);
        removing::remove(&away)?;
        Ok(goes)
    }

    /// Reads every byte, and says what is not what it was. `tell` hears what is examined.
    ///
    /// # Errors
    /// When the store cannot be listed.
    pub fn check(&self, on_item: &dyn Fn(&str)) -> Result<Vec<Damage>, StoreError> {
        let records = self.image_records()?;
        let mut damage = Vec::new();
        let name_of = |layer: &TreeDigest| {
            let mut sealed = records.iter().flat_map(|(_, record)| record.iter().flat_map(|record| &record.layers));
            sealed.find(|sealed| sealed.tree == *layer).map_or_else(|| layer.spoken(), |sealed| sealed.name.clone())
        };
        for layer in self.layers()? {
            let what = format!("layer {}", name_of(&layer));
            on_item(&what);
            damage.extend(self.check_layer(&layer, &what));
        }
        for path in self.blob_files()? {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            let Ok(expected) = name.parse::<Sha256Digest>() else { continue };
            if path.parent().is_some_and(|parent| !parent.ends_with("blobs")) {
                continue;
            }
            let what = "file from the web".to_owned();
            on_item(&what);
            match sha256_of(&path) {
                Ok(found) if found == expected => {}
                Ok(_) => damage.push(Damage { path, what, how: "its bytes are not those of its digest".to_owned() }),
                Err(error) => damage.push(Damage { path, what, how: error.to_string() }),
            }
        }
        for (path, record) in &records {
            let how = match record {
                None => "it is not a record of an image".to_owned(),
                Some(record) => match record.layers.iter().find(|sealed| !self.has_layer(&sealed.tree)) {
                    Some(sealed) => format!("its layer {} is not there", sealed.name),
                    None => continue,
                },
            };
            damage.push(Damage { path: path.clone(), what: "record of an image".to_owned(), how });
        }
        for (path, layer) in self.key_files()? {
            let how = match layer {
                None => "it names no layer".to_owned(),
                Some(layer) if !self.has_layer(&layer) => "the layer that it names is not there".to_owned(),
                Some(_) => continue,
            };
            damage.push(Damage { path, what: "record of a layer".to_owned(), how });
        }
        Ok(damage)
    }

    fn check_layer(&self, layer: &TreeDigest, what: &str) -> Vec<Damage> {
        let dir = self.layer_dir(layer);
        let damaged = |path: PathBuf, how: String| Damage { path, what: what.to_owned(), how };
        let expected = match self.layer_tree(layer) {
            Ok(tree) => tree,
            Err(StoreError::DamagedManifest { why, .. }) => return vec![damaged(dir.join("tree"), why)],
            Err(error) => return vec![damaged(dir.join("tree"), error.to_string())],
        };
        let found = match self.measure(layer, &expected) {
            Ok(measure) => measure,
            Err(error) => return vec![damaged(dir, error.to_string())],
        };
        let root = dir.join("root");
        let changed = changes(&expected, &found.tree);
        // What has another time has a fraction of a second with it as a rule.
        let is_told = |path: &RootPath| changed.iter().any(|change| change.path == *path);
        let strange = found.strange.iter().filter(|(path, _)| !is_told(path));
        let strange = strange.map(|(path, what)| (path, format!("it is, or has, {what}")));
        let named = changed.iter().map(|change| (&change.path, change.what.words()));
        named.chain(strange).map(|(path, how)| damaged(root.join(path.as_relative()), how)).collect()
    }

    /// Takes out what is damaged, so that it is made or fetched again, and says what that was.
    ///
    /// # Errors
    /// When the store cannot be listed or the disk refuses; [`StoreError::InUse`] when a layer that somebody uses is
    /// damaged, and only that is left.
    pub fn repair(&self, staging: &Staging, on_item: &dyn Fn(&str)) -> Result<Vec<Damage>, StoreError> {
        let damage = self.check(on_item)?;
        let layers = self.root().join("layers");
        let mut paths = BTreeSet::new();
        for one in &damage {
            // Of a layer everything goes, of the rest the file.
            let layer = one.path.strip_prefix(&layers).ok().and_then(|rest| rest.components().next());
            paths.insert(layer.map_or_else(|| one.path.clone(), |name| layers.join(name)));
        }
        let alone = self.lock_exclusive()?;
        // What a workspace runs on stays under it, damaged or not, until it has ended.
        let used = self.used_layers();
        let (kept, paths): (Vec<_>, Vec<_>) =
            paths.into_iter().partition(|path| used.iter().any(|layer| *path == self.layer_dir(layer)));
        let away = staging.new_dir()?;
        for (number, path) in paths.iter().enumerate() {
            if path.symlink_metadata().is_ok() {
                fs::rename(path, away.join(number.to_string())).map_err(io_error("move away", path))?;
            }
        }
        self.forget_what_is_gone()?;
        drop(alone);
        removing::remove(&away)?;
        if let Some(path) = kept.into_iter().next() {
            return Err(StoreError::InUse(path));
        }
        Ok(damage)
    }

    fn forget_what_is_gone(&self) -> Result<(), StoreError> {
        for (path, record) in self.image_records()? {
            if record.is_none_or(|record| record.layers.iter().any(|sealed| !self.has_layer(&sealed.tree))) {
                fs::remove_file(&path).map_err(io_error("remove", &path))?;
            }
        }
        for (path, layer) in self.key_files()? {
            if layer.is_none_or(|layer| !self.has_layer(&layer)) {
                fs::remove_file(&path).map_err(io_error("remove", &path))?;
            }
        }
        Ok(())
    }

    fn layers(&self) -> Result<Vec<TreeDigest>, StoreError> {
        let names = files_in(&self.root().join("layers"))?;
        Ok(names.iter().filter_map(|path| path.file_name()?.to_str()?.parse().ok()).collect())
    }

    fn blob_files(&self) -> Result<Vec<PathBuf>, StoreError> {
        let blobs = self.root().join("blobs");
        let mut all = Vec::new();
        for dir in [blobs.clone(), blobs.join("partial")] {
            if dir.is_dir() {
                all.extend(files_in(&dir)?.into_iter().filter(|path| path.is_file()));
            }
        }
        Ok(all)
    }

    fn image_records(&self) -> Result<Vec<(PathBuf, Option<ImageRecord>)>, StoreError> {
        let read = |path: PathBuf| {
            let record = crate::reading::text(&path).ok().and_then(|text| parse_record(&text));
            (path, record)
        };
        Ok(files_in(&self.root().join("images"))?.into_iter().map(read).collect())
    }

    fn key_files(&self) -> Result<Vec<(PathBuf, Option<TreeDigest>)>, StoreError> {
        let read = |path: PathBuf| {
            let layer = crate::reading::text(&path).ok().and_then(|text| text.trim_end().parse().ok());
            (path, layer)
        };
        Ok(files_in(&self.root().join("keys"))?.into_iter().map(read).collect())
    }
}

/// What lies in a directory, by name, without what is just being written.
fn files_in(dir: &Path) -> Result<Vec<PathBuf>, StoreError> {
    let entries = fs::read_dir(dir).map_err(io_error("list", dir))?;
    let mut paths: Vec<_> = entries.flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| !path.file_name().unwrap_or_default().to_string_lossy().starts_with('.'));
    paths.sort();
    Ok(paths)
}

/// How long ago something was changed or marked as used; a clock that went back makes it new.
fn age(path: &Path) -> Duration {
    let used = fs::metadata(path).and_then(|meta| meta.modified()).unwrap_or(SystemTime::UNIX_EPOCH);
    used.elapsed().unwrap_or_default()
}

fn is_locked(path: &Path) -> bool {
    File::open(path).is_ok_and(|file| rustix::fs::flock(&file, FlockOperation::NonBlockingLockShared).is_err())
}

fn sha256_of(path: &Path) -> Result<Sha256Digest, StoreError> {
    let mut file = crate::reading::open(path).map_err(io_error("read", path))?;
    Ok(crate::hashing::sha256(&mut file, None).map_err(io_error("read", path))?.1)
}
