//! The root of the inside: layers over each other, and what a running system needs mounted in it.
//!
//! All of it happens in a mount namespace of our own, by PID 1, before any foreign program runs.

use std::fmt::Write as _;
use std::fs;
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::path::Path;

use rustix::fs::{AtFlags, CWD, FileType, Mode, OFlags, ResolveFlags};
use rustix::mount::{
    FsMountFlags, FsOpenFlags, MountAttrFlags, MountFlags, MountPropagationFlags, MoveMountFlags, OpenTreeFlags,
    UnmountFlags, fsconfig_create, fsconfig_set_string, fsmount, fsopen, mount, mount_bind, mount_bind_recursive,
    mount_change, mount_remount, move_mount, open_tree, unmount,
};

use crate::child::copy_overlay;
use crate::host::ids::c_text;
use crate::host::machine;
use crate::protocol::job::{FolderMount, Job, Purpose};

/// Device nodes that programs expect.
const NODES: [&str; 6] = ["null", "zero", "full", "random", "urandom", "tty"];
/// Links in `/dev` that programs expect.
const LINKS: [(&str, &str); 5] =
    [("fd", "/proc/self/fd"), ("stdin", "fd/0"), ("stdout", "fd/1"), ("stderr", "fd/2"), ("ptmx", "pts/ptmx")];
/// What of `/proc` is shown read-only.
const READ_ONLY: [&str; 5] = ["sys", "irq", "bus", "fs", "sysrq-trigger"];
/// What of `/proc` tells of the machine or could harm it, and is covered with nothing.
const MASKED: [&str; 5] = ["kcore", "keys", "timer_list", "sched_debug", "latency_stats"];
/// Where they go, in the same order.
const NODE_PLACES: [&str; 6] = ["dev/null", "dev/zero", "dev/full", "dev/random", "dev/urandom", "dev/tty"];

/// Processes that a build step may have at once: enough for any build, and an end to a fork bomb.
pub(crate) const BUILD_PROCESSES: u32 = 4096;

/// What failed, in words: "mount the layers: …".
type Step<T> = Result<T, String>;

fn failed<E: std::fmt::Display>(doing: impl Into<String>) -> impl FnOnce(E) -> String {
    let doing = doing.into();
    move |error| format!("{doing}: {error}")
}

/// Builds the root and steps into it. Returns notes on what could not be done as it should be.
///
/// Whatever comes from outside is opened first, as mounts without a place and as descriptors. Then the roots are
/// exchanged and the old one is gone, before anything of the image is examined: no link of the image can lead
/// anywhere but into the image, and each place is found without following even that.
pub(crate) fn build(job: &Job, handed_over: Vec<OwnedFd>) -> Step<Vec<String>> {
    let mut notes = Vec::new();
    let all_private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
    mount_change("/", all_private).map_err(failed("cut the mounts off from the outside"))?;
    let mut handed_over = handed_over.into_iter();
    let mut folders = Vec::new();
    for folder in &job.folders {
        let opened = if folder.handed_over {
            handed_over.next().ok_or(rustix::io::Errno::BADF)
        } else {
            from_outside(&folder.outside)
        };
        folders.push(opened.map_err(failed(format!("open the folder {}", folder.outside.display())))?);
    }
    let files: Vec<_> = job.files.iter().map(|file| from_outside(&file.outside)).collect();
    if let Err(why) = mount_layers(job) {
        copy_layers(job, &why)?;
        notes.push(format!("the layers are copied, which takes time and room: this machine cannot {why}"));
    }
    rustix::process::chdir("merged").map_err(failed("enter the new root"))?;
    let own = Own::make(job, &mut notes)?;
    // The old root lies over the new one for a moment, under the same name, and nothing has to be made for it
    // (pivot_root(2)).
    rustix::process::pivot_root(".", ".").map_err(failed("exchange the roots"))?;
    unmount(".", UnmountFlags::DETACH).map_err(failed("take the old root away"))?;
    rustix::process::chdir("/").map_err(failed("enter the new root"))?;
    for (mount, place) in &own.mounts {
        let kind = if NODE_PLACES.contains(place) { OFlags::empty() } else { OFlags::DIRECTORY };
        let found = place_for(Path::new(place), kind).map_err(failed(format!("find /{place}")))?;
        attach(mount, &found).map_err(failed(format!("mount /{place}")))?;
    }
    if job.purpose == Purpose::Build
        && let Err(why) = limit_processes()
    {
        notes.push(format!("the processes of a step are not limited when root builds ({why})"));
    }
    cover_proc(job.purpose, &mut notes);
    // Before something lies over them.
    let of_image: Vec<_> =
        job.folders.iter().map(|folder| folder.image_first.then(|| of_image(folder)).flatten()).collect();
    for ((folder, source), of_image) in job.folders.iter().zip(folders).zip(of_image) {
        let shown = folder.inside.display();
        let source = of_image.unwrap_or(source);
        mount_folder(folder, job, &source).map_err(failed(format!("mount the folder {shown}")))?;
    }
    for (file, source) in job.files.iter().zip(files) {
        if let Err(error) = source.map_err(io::Error::from).and_then(|source| mount_file(file, &source)) {
            notes.push(format!("{} is the image's own inside ({error})", file.inside.display()));
        }
    }
    Ok(notes)
}

/// A mount of something of the outside, without a place yet. The path has no links: what it led to when it was allowed
/// is what it leads to now.
fn from_outside(path: &Path) -> Result<OwnedFd, rustix::io::Errno> {
    let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    let found = rustix::fs::openat2(CWD, path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty(), resolve)?;
    let whole = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | OpenTreeFlags::AT_EMPTY_PATH;
    open_tree(&found, "", whole | OpenTreeFlags::AT_RECURSIVE)
}

/// The small filesystems of the inside, without places yet, and where each of them goes.
struct Own {
    mounts: Vec<(OwnedFd, &'static str)>,
}

impl Own {
    fn make(job: &Job, notes: &mut Vec<String>) -> Step<Self> {
        let quiet =
            MountAttrFlags::MOUNT_ATTR_NOSUID | MountAttrFlags::MOUNT_ATTR_NODEV | MountAttrFlags::MOUNT_ATTR_NOEXEC;
        let open = MountAttrFlags::MOUNT_ATTR_NOSUID | MountAttrFlags::MOUNT_ATTR_NODEV;
        let (uid, gid) = if job.records_owners { job.only } else { (0, 0) };
        let (uid, gid) = (uid.to_string(), gid.to_string());
        let small = |mode: &'static str| vec![("mode", mode), ("uid", uid.as_str()), ("gid", gid.as_str())];
        let mut mounts = vec![(new_filesystem("proc", &[], quiet)?, "proc")];
        let sys = if job.purpose == Purpose::Machine { quiet } else { quiet | MountAttrFlags::MOUNT_ATTR_RDONLY };
        match new_filesystem("sysfs", &[], sys) {
            Ok(mount) => mounts.push((mount, "sys")),
            Err(error) => notes.push(format!("/sys is empty inside ({error})")),
        }
        if job.purpose == Purpose::Machine {
            // Every device of the machine is the inside's.
            let devices = new_filesystem("devtmpfs", &[("mode", "755")], MountAttrFlags::MOUNT_ATTR_NOSUID)?;
            for (name, target) in LINKS {
                let _ = rustix::fs::symlinkat(target, &devices, name);
            }
            for directory in ["pts", "shm"] {
                let _ = rustix::fs::mkdirat(&devices, directory, Mode::from_raw_mode(0o755));
            }
            mounts.push((devices, "dev"));
            return Self::with_memory(mounts, (&gid, job.records_owners), &small, open);
        }
        let dev = [small("755"), vec![("size", "4m")]].concat();
        let dev = new_filesystem("tmpfs", &dev, MountAttrFlags::MOUNT_ATTR_NOSUID | MountAttrFlags::MOUNT_ATTR_NOEXEC)?;
        for (name, target) in LINKS {
            rustix::fs::symlinkat(target, &dev, name).map_err(failed(format!("make /dev/{name}")))?;
        }
        for directory in ["pts", "shm"] {
            rustix::fs::mkdirat(&dev, directory, Mode::from_raw_mode(0o755))
                .map_err(failed(format!("make /dev/{directory}")))?;
        }
        for node in NODES {
            let make = OFlags::CREATE | OFlags::EXCL | OFlags::WRONLY | OFlags::CLOEXEC;
            rustix::fs::openat(&dev, node, make, Mode::from_raw_mode(0o666))
                .map_err(failed(format!("make /dev/{node}")))?;
        }
        mounts.push((dev, "dev"));
        for (node, place) in NODES.iter().zip(NODE_PLACES) {
            // The node is the machine's own, so its rights and owner are out of reach; writing to it is not a change of
            // it.
            let node = from_outside(&Path::new("/dev").join(node)).map_err(io::Error::from);
            match node.and_then(|node| crate::host::attributes::read_only(&node).map(|()| node)) {
                Ok(node) => mounts.push((node, place)),
                Err(error) => notes.push(format!("/{place} is missing inside ({error})")),
            }
        }
        Self::with_memory(mounts, (&gid, job.records_owners), &small, open)
    }

    /// Terminals, and what is in memory.
    fn with_memory<'a>(
        mut mounts: Vec<(OwnedFd, &'static str)>,
        (gid, records_owners): (&str, bool),
        small: &dyn Fn(&'static str) -> Vec<(&'a str, &'a str)>,
        open: MountAttrFlags,
    ) -> Step<Self> {
        let terminals = if records_owners { gid.to_owned() } else { "5".to_owned() };
        let options = [("ptmxmode", "0666"), ("mode", "0620"), ("gid", terminals.as_str())];
        let still = MountAttrFlags::MOUNT_ATTR_NOSUID | MountAttrFlags::MOUNT_ATTR_NOEXEC;
        mounts.push((new_filesystem("devpts", &options, still)?, "dev/pts"));
        mounts.push((new_filesystem("tmpfs", &small("1777"), open)?, "dev/shm"));
        mounts.push((new_filesystem("tmpfs", &small("755"), open)?, "run"));
        mounts.push((new_filesystem("tmpfs", &small("1777"), open)?, "tmp"));
        Ok(Self { mounts })
    }
}

/// A new filesystem of a kind, mounted nowhere yet (fsopen(2)).
fn new_filesystem(kind: &str, options: &[(&str, &str)], attributes: MountAttrFlags) -> Step<OwnedFd> {
    let attempt = || {
        let context = fsopen(kind, FsOpenFlags::FSOPEN_CLOEXEC)?;
        for (name, value) in options {
            fsconfig_set_string(&context, *name, *value)?;
        }
        fsconfig_create(&context)?;
        fsmount(&context, FsMountFlags::FSMOUNT_CLOEXEC, attributes)
    };
    attempt().map_err(failed(format!("make a filesystem of the kind {kind}")))
}

/// The overlay of all layers. Layers are named by descriptor: the kernel takes one page of options only, and no path
/// can then bring a comma or a colon of its own.
fn mount_layers(job: &Job) -> Step<()> {
    let directory = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let mut open = Vec::new();
    for layer in &job.layers {
        let opened = rustix::fs::open(layer, directory, Mode::empty());
        open.push(opened.map_err(failed(format!("open the layer {}", layer.display())))?);
    }
    let mut options = String::from("lowerdir=");
    // Overlayfs names the uppermost layer first.
    for (position, layer) in open.iter().rev().enumerate() {
        let _ = write!(options, "{}/proc/self/fd/{}", if position == 0 { "" } else { ":" }, layer.as_raw_fd());
    }
    // userxattr: without it an ordinary user's overlay can neither mark a replaced directory nor remove one.
    options.push_str(",upperdir=root,workdir=work,userxattr");
    if options.len() > 4095 {
        return Err(format!("mount the layers: {} are more than the kernel takes", job.layers.len()));
    }
    rustix::process::chdir(&job.overlay_scratch).map_err(failed(format!("enter {}", job.overlay_scratch.display())))?;
    let volatile = format!("{options},volatile");
    let attempt =
        |options: &str| mount("overlay", "merged", "overlay", MountFlags::empty(), Some(c_text(options).as_c_str()));
    // A build's upper directory is thrown away when anything goes wrong, so it need not be synced.
    let mounted = match job.purpose {
        Purpose::Build => attempt(&volatile).or_else(|_| attempt(&options)),
        Purpose::Workspace | Purpose::Machine => attempt(&options),
    };
    mounted.map_err(failed("mount the layers"))
}

/// Copies the layers into `merged`, unless that was done before, and makes it a mount, as the exchange of the roots
/// wants it.
fn copy_layers(job: &Job, why: &str) -> Step<()> {
    rustix::process::chdir(&job.overlay_scratch).map_err(failed(format!("enter {}", job.overlay_scratch.display())))?;
    if !Path::new(copy_overlay::MARK).exists() {
        // Layers that are not there would be the same to a copy.
        if why.starts_with("open the layer") {
            return Err(why.to_owned());
        }
        // A copy that was interrupted is started again.
        fs::remove_dir_all("merged").and_then(|()| fs::create_dir("merged")).map_err(failed("empty a copy"))?;
        copy_overlay::lay(&job.layers, Path::new("merged")).map_err(failed("copy the layers"))?;
        // What is on the bench already lies over the layers, as it would in an overlay.
        copy_overlay::move_over(Path::new("root"), Path::new("merged")).map_err(failed("lay what is on the bench"))?;
        fs::write(copy_overlay::MARK, "").map_err(failed("mark the copy"))?;
    } else if fs::read_dir("root").is_ok_and(|mut entries| entries.next().is_some()) {
        // Brought since: a home that was over another image meanwhile.
        let brought = copy_overlay::lay_missing(&job.layers, Path::new("root"), Path::new("merged"))
            .and_then(|()| copy_overlay::move_over(Path::new("root"), Path::new("merged")));
        brought.and_then(|()| copy_overlay::empty(Path::new("root"))).map_err(failed("lay what was brought"))?;
    }
    mount_bind_recursive("merged", "merged").map_err(failed("mount the copy of the layers"))
}

/// Limits the process ids of this PID namespace, and so its processes. The usual limit of a user's processes does not
/// hold for the machine's root, whatever namespace it is in. Only from Linux 6.14 on does the file belong to the
/// namespace; before, it is the whole machine's, and must not be touched.
fn limit_processes() -> Result<(), String> {
    let (release, version) = machine::kernel_release();
    if version < (6, 14) {
        return Err(format!("Linux {release} has no limit of its own for namespaces; 6.14 has"));
    }
    fs::write("proc/sys/kernel/pid_max", BUILD_PROCESSES.to_string()).map_err(|error| error.to_string())
}

/// Covers the parts of `/proc` that are not for the inside. Where the kernel has no such file there is
/// nothing to cover.
fn cover_proc(purpose: Purpose, notes: &mut Vec<String>) {
    if purpose == Purpose::Machine {
        return;
    }
    let read_only = MountFlags::BIND | MountFlags::RDONLY | MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    for name in READ_ONLY {
        let path = format!("proc/{name}");
        if !Path::new(&path).exists() {
            continue;
        }
        let covered = mount_bind(&path, &path).and_then(|()| mount_remount(&path, read_only, c""));
        if let Err(error) = covered {
            notes.push(format!("/{path} could not be made read-only ({error})"));
        }
    }
    if purpose == Purpose::Build {
        for name in MASKED {
            let path = format!("proc/{name}");
            if Path::new(&path).exists()
                && let Err(error) = mount_bind("/dev/null", &path)
            {
                notes.push(format!("/{path} could not be covered ({error})"));
            }
        }
    }
}

/// What the image has at the place of a folder, as a mount without a place, unless that is nothing.
fn of_image(folder: &FolderMount) -> Option<OwnedFd> {
    let inside = folder.inside.strip_prefix("/").unwrap_or(&folder.inside);
    let place = place_for(inside, OFlags::DIRECTORY).ok()?;
    let listed = rustix::fs::openat(&place, ".", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
    let mut entries = rustix::fs::Dir::new(listed.ok()?).ok()?;
    let has_some = entries.any(|entry| entry.is_ok_and(|entry| !matches!(entry.file_name().to_bytes(), b"." | b"..")));
    let clone = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | OpenTreeFlags::AT_EMPTY_PATH;
    has_some.then(|| open_tree(&place, "", clone).ok()).flatten()
}

/// Mounts one folder.
fn mount_folder(folder: &FolderMount, job: &Job, source: &OwnedFd) -> io::Result<()> {
    let inside = folder.inside.strip_prefix("/").unwrap_or(&folder.inside);
    let place = match place_for(inside, OFlags::DIRECTORY) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            make_place(inside, job.only)?;
            place_for(inside, OFlags::DIRECTORY)?
        }
        other => other
            .map_err(|error| io::Error::other(format!("its place in the image is not a plain directory ({error})")))?,
    };
    if folder.new {
        settle(source, &place, folder.owner.as_deref(), job.records_owners)?;
    }
    attach(source, &place)
}

/// The place of a mount, found without following a link.
fn place_for(inside: &Path, kind: OFlags) -> io::Result<OwnedFd> {
    let root = rustix::fs::open("/", OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
    let flags = OFlags::PATH | kind | OFlags::CLOEXEC;
    let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_SYMLINKS;
    Ok(rustix::fs::openat2(&root, inside, flags, Mode::empty(), resolve)?)
}

/// Makes a place, which is the account's, and directories above it that are not there: the account's in its home, else
/// as the directory above.
fn make_place(inside: &Path, (user, group): (u32, u32)) -> io::Result<()> {
    let mut at = std::path::PathBuf::new();
    for part in inside.components() {
        let above = at.clone();
        at.push(part);
        if place_for(&at, OFlags::DIRECTORY).is_ok() {
            continue;
        }
        let dir = if above.as_os_str().is_empty() { Path::new(".") } else { above.as_path() };
        let dir = place_for(dir, OFlags::DIRECTORY)?;
        let owner = rustix::fs::fstat(&dir)?;
        rustix::fs::mkdirat(&dir, part.as_os_str(), Mode::from_raw_mode(0o755))?;
        let accounts = at == inside || (owner.st_uid == 0 && at.starts_with("home"));
        let owner = if accounts { (user, group) } else { (owner.st_uid, owner.st_gid) };
        // Where there is one owner only, it is right already.
        let _ = rustix::fs::chownat(
            &dir,
            part.as_os_str(),
            Some(rustix::fs::Uid::from_raw(owner.0)),
            Some(rustix::fs::Gid::from_raw(owner.1)),
            rustix::fs::AtFlags::SYMLINK_NOFOLLOW,
        );
    }
    Ok(())
}

/// Gives a new folder the rights and the owner of its place, or an account as owner.
fn settle(source: &OwnedFd, place: &OwnedFd, account: Option<&str>, only_one: bool) -> io::Result<()> {
    let there = rustix::fs::fstat(place)?;
    let (mut user, mut group) = (there.st_uid, there.st_gid);
    if let Some(name) = account {
        let passwd = read_inside(Path::new("/etc/passwd"))?;
        let found = cavrith_core::account::find(&passwd, name)
            .ok_or_else(|| io::Error::other(format!("there is no account {name} inside to give it to")))?;
        (user, group) = (found.user, found.group);
    }
    // The descriptor names a place only; through /proc it is a directory that can be changed.
    let path = format!("/proc/self/fd/{}", source.as_raw_fd());
    let mode = Mode::from_raw_mode(there.st_mode & 0o7777);
    rustix::fs::chmod(&path, mode)?;
    if !only_one {
        std::os::unix::fs::chown(&path, Some(user), Some(group))?;
    }
    Ok(())
}

fn attach(source: &OwnedFd, place: &OwnedFd) -> io::Result<()> {
    let by_descriptor = MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH | MoveMountFlags::MOVE_MOUNT_T_EMPTY_PATH;
    Ok(move_mount(source.as_fd(), "", place.as_fd(), "", by_descriptor)?)
}

/// Mounts one file over a file of the image; one that is not there is made. A link at its place is replaced, since what
/// it leads to is not what is meant (`/etc/resolv.conf` often is one).
fn mount_file(file: &FolderMount, source: &OwnedFd) -> io::Result<()> {
    let inside = file.inside.strip_prefix("/").unwrap_or(&file.inside);
    let (Some(above), Some(name)) = (inside.parent(), inside.file_name()) else {
        return Err(io::ErrorKind::InvalidInput.into());
    };
    let above = match place_for(above, OFlags::DIRECTORY) {
        Err(_) if file.only_new => return Ok(()),
        above => above?,
    };
    let found = rustix::fs::statat(&above, name, AtFlags::SYMLINK_NOFOLLOW);
    // What an earlier start made to lie over is empty.
    if file.only_new && found.as_ref().is_ok_and(|found| found.st_size > 0) {
        return Ok(());
    }
    match found.map(|found| FileType::from_raw_mode(found.st_mode)) {
        Ok(FileType::RegularFile) => {}
        Ok(FileType::Symlink) => rustix::fs::unlinkat(&above, name, AtFlags::empty())?,
        Ok(_) => return Err(io::Error::other("something that is not a file is in its place")),
        Err(rustix::io::Errno::NOENT) => {}
        Err(error) => return Err(error.into()),
    }
    let make = OFlags::CREATE | OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    drop(rustix::fs::openat(&above, name, make, Mode::from_raw_mode(0o644))?);
    attach(source, &place_for(inside, OFlags::empty())?)
}

/// The content of a file of the inside, which no link leads out of, if it is a plain one: anyone who works inside may
/// have put anything there, and nothing of it is waited for.
pub(crate) fn read_inside(path: &Path) -> io::Result<Vec<u8>> {
    const LONGEST: u64 = 16 << 20;
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = fs::File::from(rustix::fs::open(path, flags, Mode::empty())?);
    if !file.metadata()?.is_file() {
        return Err(io::Error::new(io::ErrorKind::InvalidInput, format!("{} is not a regular file", path.display())));
    }
    let mut bytes = Vec::new();
    io::Read::read_to_end(&mut io::Read::take(file, LONGEST), &mut bytes)?;
    Ok(bytes)
}
