//! A disk from which a machine starts by itself, or with a kernel that is handed to it: a partition that firmware
//! reads, with the kernel and its first file system in one program; the image's root, for reading only; and room for
//! what is written.
//!
//! Kernel and stub are packages of the base's archive, pinned in the lock; they are unpacked, and nothing of them is
//! run. Everything that identifies the disk follows from the image's fingerprint, so everybody writes the same bits.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use cavrith_core::account::{self, ACCOUNT_ID};
use cavrith_core::digest::ImageFingerprint;
use cavrith_core::lock::DebianPin;
use cavrith_core::lock::suites::MachinePin;
use cavrith_core::path::RootPath;
use cavrith_core::seal::Seal;
use cavrith_core::setup::Setup;
use cavrith_core::spec::machine::{Machine, STUB};
use cavrith_disk::cpio::Cpio;
use cavrith_disk::erofs::Erofs;
use cavrith_disk::ext4::Ext4;
use cavrith_disk::fat::Fat;
use cavrith_disk::gpt::{self, Guid, Partition, Purpose, SECTOR};
use cavrith_disk::piece::Piece;
use cavrith_disk::verity::{Proof, Verity};
use cavrith_disk::{module, unified};
use cavrith_engine::context::BuildContext;
use cavrith_engine::error::file_error;
use cavrith_engine::kernels;
use cavrith_engine::project::Project;
use cavrith_sandbox::programs::FIRST_PROCESS;
use cavrith_sources::compression;
use cavrith_store::reading;
use cavrith_store::records::ImageRecord;

use crate::ExchangeError;
use crate::disk_file::{BUFFER, Form, Sink};
use crate::error::writing;
use crate::layers::Whole;

/// What a machine needs before its root is there, in this order; what the kernel has built in is no module.
const MODULES: [&str; 10] = [
    "virtio_pci",
    "virtio_blk",
    "virtio_scsi",
    "virtio_net",
    "virtio_console",
    "virtio-rng",
    "crc32c_generic",
    "erofs",
    "overlay",
    "ext4",
];
/// What proves the root.
const VERITY_MODULE: &str = "dm-verity";
/// The kernel's command line. What is said last is the console.
const COMMAND_LINE: &str = "console=tty0 console=ttyS0 quiet panic=-1";
/// Sectors to which partitions are aligned.
const ALIGNED: u64 = 2048;
/// The stub's place in its package.
const STUB_PLACE: &str = "usr/lib/systemd/boot/efi/linuxx64.efi.stub";

/// A disk that was written.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct WrittenDisk {
    /// Bytes of the disk.
    pub bytes: u64,
    /// Bytes of its file, with what is a hole there.
    pub file_bytes: u64,
    /// Bytes of the root's file system.
    pub root_bytes: u64,
    /// The root's partition, by its identifier.
    pub root: String,
    /// The kernel's release.
    pub kernel: String,
}

/// What is started: the kernel, its first file system, its command line.
#[derive(Debug)]
pub struct Started {
    kernel: Vec<u8>,
    first: Vec<u8>,
    release: String,
    stub: Vec<u8>,
    /// Bytes of what can be written to.
    room: u64,
    command_line: String,
    proof: Option<Proof>,
}

fn refused(why: impl Into<String>) -> ExchangeError {
    ExchangeError::Machine(why.into())
}

/// Names of partitions, by which the first process finds them: of this image and no other.
fn partition_name(what: &str, image: &ImageRecord) -> String {
    format!("{what}-{}", &image.image.to_string()[..16])
}

/// A kernel, what it loads, and what firmware starts it by.
pub(crate) struct Kernel {
    /// The kernel.
    pub bytes: Vec<u8>,
    /// Its release.
    pub release: String,
    modules: Vec<(String, Vec<u8>)>,
    stub: PathBuf,
}

impl Kernel {
    /// Gets hold of the packages that the lock has pinned.
    ///
    /// # Errors
    /// When one cannot be had, or is not what it should be.
    pub fn find(
        context: BuildContext<'_>,
        project: &Project,
        pin: &DebianPin,
        wanted: impl Iterator<Item = &'static str>,
    ) -> Result<Self, ExchangeError> {
        let pins = pin.machine.as_ref().ok_or_else(|| refused("the lock has no kernel; run cavrith lock"))?;
        if FIRST_PROCESS.is_empty() {
            return Err(refused("machines are made for x86-64 only"));
        }
        let (mut root, mut stub) = (None, None);
        for (name, package) in &pins.packages {
            let dir = kernels::unpacked(context, project, name, package)?;
            if name == STUB { stub = Some(dir) } else { root = Some(dir) }
        }
        let (Some(root), Some(stub)) = (root, stub) else {
            return Err(refused("the lock has no kernel; run cavrith lock"));
        };
        let (release, kernel) = kernel_of(&root, pins)?;
        let modules = modules_of(&root, &release, wanted)?;
        Ok(Self { bytes: read(&kernel)?, release, modules, stub: stub.join(STUB_PLACE) })
    }

    /// The first file system, with what its first process is told.
    pub fn first(&self, settings: &str, epoch: u64) -> Vec<u8> {
        let mut first = Cpio::new(epoch);
        first.directory("dev");
        first.device("dev/console", 0o600, (5, 1));
        first.file("init", 0o755, FIRST_PROCESS);
        let mut list = String::new();
        first.directory("lib");
        for (path, bytes) in &self.modules {
            first.file(&path[1..], 0o644, bytes);
            list += &format!("{path}\n");
        }
        first.file("modules", 0o644, list.as_bytes());
        first.file("settings", 0o644, settings.as_bytes());
        first.finish()
    }
}

fn read(path: &Path) -> Result<Vec<u8>, ExchangeError> {
    reading::bytes(path).map_err(|error| file_error("read", path)(error).into())
}

/// The modules that a machine needs.
pub(crate) fn wanted_modules(machine: &Machine) -> impl Iterator<Item = &'static str> {
    MODULES.iter().copied().chain(machine.verity.then_some(VERITY_MODULE))
}

/// Gets hold of kernel and stub, and makes what the kernel starts.
///
/// # Errors
/// When a package cannot be had, or is not what it should be.
pub fn started(
    context: BuildContext<'_>,
    project: &Project,
    pin: &DebianPin,
    (machine, setup, image): (&Machine, &Setup, &ImageRecord),
    (epoch, sealed): (u64, Option<&Seal>),
) -> Result<Started, ExchangeError> {
    let kernel = Kernel::find(context, project, pin, wanted_modules(machine))?;
    let proof = machine.verity.then(|| proof(&Whole::read(context.store, image)?, &image.image, epoch)).transpose()?;
    as_sealed(proof.as_ref().map(Proof::top).as_deref(), sealed)?;
    Ok(Started {
        command_line: command_line(proof.as_ref()),
        proof,
        first: kernel.first(&settings(setup, image), epoch),
        stub: read(&kernel.stub)?,
        kernel: kernel.bytes,
        release: kernel.release,
        room: machine.disk,
    })
}

/// The digest by which the root of an image is proved, as digits.
///
/// # Errors
/// When the image cannot be read.
pub fn root_digest(context: BuildContext<'_>, image: &ImageRecord, epoch: u64) -> Result<String, ExchangeError> {
    Ok(proof(&Whole::read(context.store, image)?, &image.image, epoch)?.top())
}

/// Refuses a proof that is another than the sealed one.
pub(crate) fn as_sealed(top: Option<&str>, seal: Option<&Seal>) -> Result<(), ExchangeError> {
    let sealed = seal.and_then(|seal| seal.machine_root.as_deref());
    match (top, sealed) {
        (Some(top), Some(sealed)) if top != sealed => Err(refused(format!(
            "the root of the machine would be proved by {top}, and the seal says {sealed}; run cavrith verify"
        ))),
        _ => Ok(()),
    }
}

/// What a kernel is told when it starts.
pub(crate) fn command_line(proof: Option<&Proof>) -> String {
    let words = proof.into_iter().map(Proof::words);
    std::iter::once(COMMAND_LINE.to_owned()).chain(words).collect::<Vec<_>>().join(" ")
}

/// What the first process is told.
fn settings(setup: &Setup, image: &ImageRecord) -> String {
    let [root, data] = ["root", "data"].map(|what| partition_name(what, image));
    let mut text = format!("root={root}\ndata={data}\nname={}\n", setup.host_name);
    let home = account::home(&setup.account);
    text += &format!("user={ACCOUNT_ID}\ngroup={ACCOUNT_ID}\nhome={home}\nshell={}\n+TERM=linux\n", image.shell);
    let lines = setup.env.iter().filter(|(_, value)| !value.contains('\n'));
    lines.for_each(|(name, value)| text += &format!("+{name}={value}\n"));
    text
}

/// The kernel of a package and its release.
fn kernel_of(root: &Path, pins: &MachinePin) -> Result<(String, PathBuf), ExchangeError> {
    let boot = root.join("boot");
    let names = fs::read_dir(&boot).map_err(|error| ExchangeError::from(file_error("list", &boot)(error)))?;
    let names = names.flatten().filter_map(|entry| entry.file_name().into_string().ok());
    let mut releases: Vec<_> = names.filter_map(|name| name.strip_prefix("vmlinuz-").map(str::to_owned)).collect();
    releases.sort();
    match releases.as_slice() {
        [release] => Ok((release.clone(), boot.join(format!("vmlinuz-{release}")))),
        _ => Err(refused(format!("the package {} has no kernel, or several", pins.kernel))),
    }
}

/// The modules that are needed, each after those that it needs, with their paths in the first file system.
fn modules_of(
    root: &Path,
    release: &str,
    wanted: impl Iterator<Item = &'static str>,
) -> Result<Vec<(String, Vec<u8>)>, ExchangeError> {
    let places = ["usr/lib/modules", "lib/modules"].map(|place| root.join(place).join(release).join("kernel"));
    let top =
        places.iter().find(|place| place.is_dir()).ok_or_else(|| refused("the kernel's package has no modules"))?;
    let mut all = Vec::new();
    let mut open = vec![top.clone()];
    while let Some(dir) = open.pop() {
        let failed = |error: io::Error| ExchangeError::from(file_error("list", &dir)(error));
        for entry in fs::read_dir(&dir).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            match entry.file_type().map_err(failed)? {
                kind if kind.is_dir() => open.push(entry.path()),
                kind if kind.is_file() => all.push(entry.path()),
                _ => {}
            }
        }
    }
    let find = |name: &str| {
        let plain = |path: &&PathBuf| {
            let file = path.file_name().unwrap_or_default().to_string_lossy();
            file.split(".ko").next().is_some_and(|own| module::same(own, name)) && file.contains(".ko")
        };
        all.iter().filter(plain).min()
    };
    let (mut found, mut seen) = (Vec::new(), BTreeSet::new());
    for name in wanted {
        add_module(name, &find, &mut seen, &mut found)?;
    }
    Ok(found)
}

fn add_module<'a>(
    name: &str,
    find: &dyn Fn(&str) -> Option<&'a PathBuf>,
    seen: &mut BTreeSet<String>,
    found: &mut Vec<(String, Vec<u8>)>,
) -> Result<(), ExchangeError> {
    // The kernel has it built in, or this one knows it not.
    let Some(path) = find(name) else { return Ok(()) };
    if !seen.insert(name.replace('-', "_")) {
        return Ok(());
    }
    let failed = |error: io::Error| ExchangeError::from(file_error("read", path)(error));
    let packed = reading::bytes(path).map_err(failed)?;
    let mut plain = Vec::new();
    compression::unpack(packed.as_slice(), packed.len() as u64)
        .and_then(|stream| stream.take(64 << 20).read_to_end(&mut plain))
        .map_err(failed)?;
    for needed in module::needed(&plain) {
        add_module(&needed, find, seen, found)?;
    }
    // As it is in the first file system: the same for every kernel, and never packed twice.
    found.push((format!("/lib/{name}.ko"), plain));
    Ok(())
}

/// The root of an image as a file system.
pub(crate) fn root_of<'a>(whole: &'a Whole, image: &ImageFingerprint, epoch: u64) -> Result<Erofs<'a>, ExchangeError> {
    let uuid = Guid::of("root file system", image.to_string().as_bytes());
    Erofs::new(&whole.merged, uuid.0, epoch).map_err(|error| refused(error.to_string()))
}

/// What proves the root of an image: it is read once for that, before it is written.
pub(crate) fn proof(whole: &Whole, image: &ImageFingerprint, epoch: u64) -> Result<Proof, ExchangeError> {
    let mut verity = Verity::new(*image.as_bytes());
    let mut buffer = vec![0; BUFFER];
    let read = root_of(whole, image, epoch)?.pieces(&mut |piece| {
        verity.piece(piece);
        let Piece::Content(path, size) = piece else { return Ok(()) };
        let (mut from, mut left) = (whole.content(path)?, size);
        while left > 0 {
            let room = left.min(BUFFER as u64) as usize;
            from.read_exact(&mut buffer[..room])?;
            verity.take(&buffer[..room]);
            left -= room as u64;
        }
        Ok(())
    });
    read.map_err(|error: io::Error| refused(format!("the image cannot be read: {error}")))?;
    Ok(verity.finish())
}

/// Writes the disk.
///
/// # Errors
/// When the image cannot be read, or the disk refuses.
pub fn write(
    context: BuildContext<'_>,
    image: &ImageRecord,
    started: &Started,
    epoch: u64,
    (to, name, form): (&mut File, &Path, Form),
) -> Result<WrittenDisk, ExchangeError> {
    let whole = Whole::read(context.store, image)?;
    let content = |path: &RootPath| whole.content(path);
    let fingerprint = image.image.to_string();
    let of = |what: &str| Guid::of(what, fingerprint.as_bytes());
    let Started { kernel, first, release, stub, room, command_line, proof } = started;
    let about = format!(
        "ID=cavrith\nNAME=Cavrith\nVERSION_ID={}\nPRETTY_NAME=\"Cavrith {}\"\n",
        &fingerprint[..16],
        image.image.spoken()
    );
    let sections: [(&str, &[u8]); 5] = [
        (".osrel", about.as_bytes()),
        (".cmdline", command_line.as_bytes()),
        (".uname", release.as_bytes()),
        (".initrd", first),
        (".linux", kernel),
    ];
    let program = unified::image(stub, &sections).map_err(|error| refused(format!("the package {STUB}: {error}")))?;
    let files: [(&[&str], &[u8]); 1] = [(&["EFI", "BOOT", "BOOTX64.EFI"], &program)];
    let serial = of("serial").0;
    let efi = Fat::new(&files, u32::from_le_bytes([serial[0], serial[1], serial[2], serial[3]]), epoch);
    let root = root_of(&whole, &image.image, epoch)?;
    let efi_first = gpt::FIRST;
    let root_first = (efi_first + efi.sectors()).next_multiple_of(ALIGNED);
    let tree = proof.as_ref().map(|proof| proof.tree.as_slice()).unwrap_or_default();
    let root_sectors = (root.size() + tree.len() as u64) / SECTOR;
    let data = Ext4::new(*room, of("data file system").0, of("data directories").0, epoch);
    let data_first = (root_first + root_sectors).next_multiple_of(ALIGNED);
    let sectors = data_first + data.size() / SECTOR + ALIGNED;
    let root_guid = of("root");
    let partitions = [
        Partition {
            purpose: Purpose::Efi,
            guid: of("efi"),
            first: efi_first,
            sectors: efi.sectors(),
            name: partition_name("efi", image),
        },
        Partition {
            purpose: Purpose::Root,
            guid: root_guid,
            first: root_first,
            sectors: root_sectors,
            name: partition_name("root", image),
        },
        Partition {
            purpose: Purpose::Data,
            guid: of("data"),
            first: data_first,
            sectors: data.size() / SECTOR,
            name: partition_name("data", image),
        },
    ];
    let (begin, last) = gpt::tables(sectors, of("disk"), &partitions);
    let mut sink = Sink::new(to, sectors * SECTOR, form);
    let outcome = (|| {
        sink.known(&begin)?;
        efi.pieces(&mut |piece| sink.piece(piece, &content))?;
        sink.to(root_first * SECTOR)?;
        root.pieces(&mut |piece| sink.piece(piece, &content))?;
        sink.known(tree)?;
        sink.to(data_first * SECTOR)?;
        data.pieces(&mut |piece| sink.piece(piece, &content))?;
        sink.to(sectors * SECTOR - last.len() as u64)?;
        sink.known(&last)?;
        sink.finish()
    })();
    let file_bytes = outcome.map_err(writing(name))?;
    Ok(WrittenDisk {
        bytes: sectors * SECTOR,
        file_bytes,
        root_bytes: root.size(),
        root: root_guid.to_string(),
        kernel: release.clone(),
    })
}

/// Writes what a hypervisor is handed when the disk is not to start by itself: `vmlinuz`, `initrd`, `cmdline`.
///
/// # Errors
/// When the disk refuses.
pub fn write_kernel(started: &Started, to: &Path) -> Result<(), ExchangeError> {
    fs::create_dir_all(to).map_err(writing(to))?;
    let command_line = format!("{}\n", started.command_line);
    let files: [(&str, &[u8]); 3] =
        [("vmlinuz", &started.kernel), ("initrd", &started.first), ("cmdline", command_line.as_bytes())];
    for (name, bytes) in files {
        cavrith_store::atomic::write(&to.join(name), bytes)?;
    }
    Ok(())
}
