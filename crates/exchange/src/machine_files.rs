//! The files that a machine runs from: the kernel and what it starts with, the root, our own program, and a disk to
//! write to.
//!
//! The root is the same as in a disk that is exported, but a file of its own. Our own program, which attends to the
//! machine from within, is this very one, with the libraries that it runs with here.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::digest::{ContentDigest, ImageFingerprint, TreeDigest};
use cavrith_core::lock::DebianPin;
use cavrith_core::path::RootPath;
use cavrith_core::seal::Seal;
use cavrith_core::spec::machine::Machine;
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use cavrith_disk::erofs::Erofs;
use cavrith_disk::ext4::Ext4;
use cavrith_disk::gpt::Guid;
use cavrith_disk::verity::Proof;
use cavrith_engine::context::BuildContext;
use cavrith_engine::error::file_error;
use cavrith_engine::project::Project;
use cavrith_sandbox::guest::hypervisor::{DATA, FRESH, Parts, STARTED};
use cavrith_sandbox::programs::FIRST_PROCESS;
use cavrith_store::atomic::NewFile;
use cavrith_store::private;

use crate::ExchangeError;
use crate::disk_file::{Form, Sink};
use crate::error::writing;
use crate::layers::Whole;
use crate::machine_disk::{Kernel, as_sealed, command_line, proof, root_of, wanted_modules};

/// What a running machine needs beside what every machine needs.
const MORE_MODULES: [&str; 1] = ["fuse"];
/// Directories of the disk with our program, in which something else is mounted.
const PLACES: [&str; 7] = ["dev", "proc", "sys", "lower", "data", "run", "tmp"];
/// Among the kept folders: the disk of a machine that was dropped.
const KEPT: &str = ".machine";
/// What the first process is told.
const SETTINGS: &str = "root=disk:root\ndata=disk:data\nprograms=disk:programs\n";
/// What was made, and of what.
const MADE: &str = "made";
/// How the names of roots and of programs begin.
const ROOT: &str = "root-";
const PROGRAMS: &str = "programs-";

/// Makes what is not there yet of a machine's files, in a directory of its own.
///
/// # Errors
/// When the kernel or a layer cannot be had, or the disk refuses.
pub fn prepare(
    context: BuildContext<'_>,
    (project, pin, machine): (&Project, &DebianPin, &Machine),
    (image, layers): (&ImageFingerprint, &[TreeDigest]),
    (epoch, sealed): (u64, Option<&Seal>),
    (dir, kept): (&Path, &Path),
) -> Result<Parts, ExchangeError> {
    private::directory(dir)?;
    let made = Made::of((context, project, pin, machine), (image, layers), epoch, dir)?;
    as_sealed(made.top.as_deref(), sealed.filter(|_| made.is_image))?;
    let programs = Programs::of_this()?;
    let name = format!("{PROGRAMS}{}", programs.name);
    let file_system = Erofs::new(&programs.tree, Guid::of("programs", programs.name.as_bytes()).0, epoch)
        .map_err(|error| ExchangeError::Machine(error.to_string()))?;
    write_once(dir, &name, PROGRAMS, (file_system.size(), Form::Raw), |sink| {
        file_system.pieces(&mut |piece| sink.piece(piece, &|path| programs.content(path)))
    })?;
    let kept = kept.join(KEPT);
    if !dir.join(DATA).exists() && kept.join(DATA).exists() {
        cavrith_store::atomic::write(&dir.join(FRESH), b"")?;
        fs::rename(kept.join(DATA), dir.join(DATA)).map_err(writing(dir))?;
    }
    if !dir.join(DATA).exists() {
        let own = |what: &str| Guid::of(what, dir.as_os_str().as_bytes()).0;
        let data = Ext4::new(machine.disk, own("data file system"), own("data directories"), epoch);
        write_once(dir, DATA, DATA, (data.size(), Form::Qcow2), |sink| {
            data.pieces(&mut |piece| sink.piece(piece, &|_| Err(io::ErrorKind::NotFound.into())))
        })?;
    }
    Ok(Parts {
        dir: dir.to_owned(),
        command_line: made.command_line,
        memory: machine.memory,
        cpus: machine.cpus,
        root: made.root,
        programs: name,
        is_fast: false,
        network: false,
        resume: false,
    })
}

/// What was made of an image and a kernel, and of which: a start that finds it reads neither.
#[derive(Debug, serde::Serialize, serde::Deserialize)]
struct Made {
    key: ContentDigest,
    command_line: String,
    /// The root's file.
    root: String,
    /// The digest by which it is proved.
    top: Option<String>,
    /// It is the image's and nothing else: what its member adds is in no seal.
    is_image: bool,
}

impl Made {
    fn of(
        (context, project, pin, machine): (BuildContext<'_>, &Project, &DebianPin, &Machine),
        (image, layers): (&ImageFingerprint, &[TreeDigest]),
        epoch: u64,
        dir: &Path,
    ) -> Result<Self, ExchangeError> {
        let kernel = pin.machine.as_ref().map(|pin| &pin.packages);
        let modules: Vec<_> = wanted_modules(machine).chain(MORE_MODULES).collect();
        let of = (image, layers, kernel, machine.verity, ContentDigest::of(FIRST_PROCESS), epoch, SETTINGS, &modules);
        let key = ContentDigest::of(&serde_json::to_vec(&of).unwrap_or_default());
        let record = dir.join(MADE);
        let earlier = cavrith_store::reading::bytes(&record).ok();
        let earlier = earlier.and_then(|bytes| serde_json::from_slice::<Self>(&bytes).ok());
        let is_there = |made: &Self| {
            made.key == key && STARTED.into_iter().chain([made.root.as_str()]).all(|file| dir.join(file).exists())
        };
        if let Some(made) = earlier.filter(is_there) {
            return Ok(made);
        }
        let kernel = Kernel::find(context, project, pin, modules.into_iter())?;
        for (name, bytes) in STARTED.iter().zip([&kernel.bytes, &kernel.first(SETTINGS, epoch)]) {
            cavrith_store::atomic::write(&dir.join(name), bytes)?;
        }
        let whole = Whole::of(context.store, layers.iter().copied())?;
        let proof = machine.verity.then(|| proof(&whole, image, epoch)).transpose()?;
        let root = format!("{ROOT}{}", &key.to_string()[..32]);
        let file_system = root_of(&whole, image, epoch)?;
        let tree = proof.as_ref().map(|proof| proof.tree.as_slice()).unwrap_or_default();
        let size = file_system.size() + tree.len() as u64;
        write_once(dir, &root, ROOT, (size, Form::Raw), |sink| {
            file_system.pieces(&mut |piece| sink.piece(piece, &|path| whole.content(path)))?;
            sink.known(tree)
        })?;
        let (command_line, top) = (command_line(proof.as_ref()), proof.as_ref().map(Proof::top));
        let is_image = whole.merged.image_fingerprint() == *image;
        let made = Self { key, command_line, root, top, is_image };
        cavrith_store::atomic::write(&record, &serde_json::to_vec(&made).unwrap_or_default())?;
        Ok(made)
    }
}

/// Puts the disk of a machine that is dropped among what is kept, since kept folders and the home are on it. True when
/// there is one.
///
/// # Errors
/// When the disk refuses.
pub fn keep(dir: &Path, kept: &Path) -> Result<bool, ExchangeError> {
    let (from, kept) = (dir.join(DATA), kept.join(KEPT));
    if !from.exists() {
        return Ok(false);
    }
    private::directory(&kept)?;
    fs::rename(&from, kept.join(DATA)).map_err(writing(&kept))?;
    Ok(true)
}

/// Writes a file that is not there yet, in one step, and removes others whose names begin so.
fn write_once(
    dir: &Path,
    name: &str,
    beginning: &str,
    (size, form): (u64, Form),
    fill: impl FnOnce(&mut Sink<'_>) -> io::Result<()>,
) -> Result<(), ExchangeError> {
    let path = dir.join(name);
    if path.exists() {
        return Ok(());
    }
    let outcome = (|| {
        let new = NewFile::beside(&path, 0o600)?;
        let mut file = new.file().try_clone()?;
        let mut sink = Sink::new(&mut file, size, form);
        fill(&mut sink)?;
        sink.finish()?;
        new.put_in_place()?;
        for other in fs::read_dir(dir)?.flatten() {
            let others = other.file_name();
            if others.to_string_lossy().starts_with(beginning) && others != *name {
                fs::remove_file(other.path())?;
            }
        }
        Ok(())
    })();
    outcome.map_err(writing(&path))
}

/// This program with its libraries.
struct Programs {
    /// What tells it from that of another version.
    name: String,
    tree: Tree,
    files: Vec<(RootPath, PathBuf)>,
}

impl Programs {
    fn of_this() -> Result<Self, ExchangeError> {
        let failed = |error: io::Error| ExchangeError::from(file_error("read", "/proc/self/maps")(error));
        let maps = cavrith_store::reading::text(Path::new("/proc/self/maps")).map_err(failed)?;
        let own = fs::read_link("/proc/self/exe").map_err(failed)?;
        // The path is what follows the fifth blank (proc_pid_maps(5)).
        let mapped: BTreeSet<&str> = maps.lines().filter_map(|line| Some(&line[line.find('/')?..])).collect();
        let is_library = |path: &&str| Path::new(path) != own && path.contains(".so") && !path.ends_with(" (deleted)");
        let mut files = vec![("cavrith".to_owned(), PathBuf::from("/proc/self/exe"))];
        for path in mapped.into_iter().filter(is_library) {
            files.push((path.trim_start_matches('/').to_owned(), PathBuf::from(path)));
            // The kernel looks for the loader where the program says (elf(5), PT_INTERP).
            if path.contains("/ld-linux-x86-64.so.2") {
                files.push(("usr/lib64/ld-linux-x86-64.so.2".to_owned(), PathBuf::from(path)));
            }
        }
        let mut tree = Tree::with_root();
        let mut told = String::new();
        let mut places = Vec::new();
        for (inside, outside) in files {
            let found = fs::metadata(&outside).map_err(failed)?;
            told += &format!("{inside} {} {} {} {}\n", found.size(), found.mtime(), found.mtime_nsec(), found.ino());
            let path = RootPath::from_archive(inside.as_bytes())
                .map_err(|error| ExchangeError::Machine(format!("{}: {error}", outside.display())))?;
            tree.ensure_parents(&path);
            let kind = Kind::File { size: found.size(), content: ContentDigest::of(b""), links: None };
            tree.entries.insert(path.clone(), Entry { kind, meta: Meta::root(0o755) });
            places.push((path, outside));
        }
        let mut add = |name: &str, kind: Kind| {
            if let Ok(path) = RootPath::from_archive(name.as_bytes()) {
                tree.entries.entry(path).or_insert(Entry { kind, meta: Meta::root(0o755) });
            }
        };
        PLACES.iter().for_each(|place| add(place, Kind::DIRECTORY));
        for (name, target) in [("lib", "usr/lib"), ("lib64", "usr/lib64")] {
            add(name, Kind::Symlink { target: target.as_bytes().to_vec() });
        }
        Ok(Self { name: ContentDigest::of(told.as_bytes()).to_string()[..32].to_owned(), tree, files: places })
    }

    fn content(&self, path: &RootPath) -> io::Result<File> {
        let found = self.files.iter().find(|(inside, _)| inside == path);
        File::open(&found.ok_or(io::ErrorKind::NotFound)?.1)
    }
}
