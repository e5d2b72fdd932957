//! The root of the inside: layers over each other, and what a running system needs mounted in it.
//!
//! All of it happens in a mount namespace of our own, by PID 1, before any foreign program runs.

use std::fmt::Write as _;
use std::fs;
use std::io;
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};
use std::path::Path;

use rustix::fs::{CWD, Mode, OFlags, ResolveFlags};
use rustix::mount::{
    MountFlags, MountPropagationFlags, MoveMountFlags, OpenTreeFlags, UnmountFlags, mount, mount_bind,
    mount_bind_recursive, mount_change, mount_remount, move_mount, open_tree, unmount,
};

use crate::copied;
use crate::ids::c_text;
use crate::job::{FolderMount, Job, Purpose};

/// Device nodes that programs expect.
const NODES: [&str; 6] = ["null", "zero", "full", "random", "urandom", "tty"];
/// Links in `/dev` that programs expect.
const LINKS: [(&str, &str); 5] =
    [("fd", "/proc/self/fd"), ("stdin", "fd/0"), ("stdout", "fd/1"), ("stderr", "fd/2"), ("ptmx", "pts/ptmx")];
/// What of `/proc` is shown read-only.
const READ_ONLY: [&str; 5] = ["sys", "irq", "bus", "fs", "sysrq-trigger"];
/// What of `/proc` tells of the machine or could harm it, and is covered with nothing.
const MASKED: [&str; 5] = ["kcore", "keys", "timer_list", "sched_debug", "latency_stats"];
/// Where the old root lies until the folders are in place.
const OLD_ROOT: &str = "run/.outside";

/// Processes that a build step may have at once: enough for any build, and an end to a fork bomb.
pub(crate) const BUILD_PROCESSES: u32 = 4096;

/// What failed, in words: "mount the layers: …".
type Step<T> = Result<T, String>;

fn failed<E: std::fmt::Display>(doing: impl Into<String>) -> impl FnOnce(E) -> String {
    let doing = doing.into();
    move |error| format!("{doing}: {error}")
}

/// Builds the root and steps into it. Returns notes on what could not be done as it should be.
pub(crate) fn build(job: &Job, handed_over: Vec<OwnedFd>) -> Step<Vec<String>> {
    let mut notes = Vec::new();
    let all_private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
    mount_change("/", all_private).map_err(failed("cut the mounts off from the outside"))?;
    if let Err(why) = mount_layers(job) {
        copy_layers(job, &why)?;
        notes.push(format!("the layers are copied, which takes time and room: this machine cannot {why}"));
    }
    rustix::process::chdir("merged").map_err(failed("enter the new root"))?;
    let quiet = MountFlags::NOSUID | MountFlags::NODEV | MountFlags::NOEXEC;
    mount_new("proc", "proc", quiet, "")?;
    if let Err(error) = mount_new("sysfs", "sys", quiet | MountFlags::RDONLY, "") {
        notes.push(format!("/sys is empty inside ({error})"));
    }
    devices(job, &mut notes)?;
    let open = MountFlags::NOSUID | MountFlags::NODEV;
    let owner = owner_option(job);
    mount_new("tmpfs", "run", open, &format!("mode=755,{owner}"))?;
    mount_new("tmpfs", "tmp", open, &format!("mode=1777,{owner}"))?;
    if job.purpose == Purpose::Build
        && let Err(why) = limit_processes()
    {
        notes.push(format!("the processes of a step are not limited when root builds ({why})"));
    }
    cover_proc(job.purpose, &mut notes);
    fs::create_dir(OLD_ROOT).map_err(failed("make a place for the old root"))?;
    rustix::process::pivot_root(".", OLD_ROOT).map_err(failed("exchange the roots"))?;
    rustix::process::chdir("/").map_err(failed("enter the new root"))?;
    let mut handed_over = handed_over.into_iter();
    for folder in &job.folders {
        let shown = folder.inside.display();
        mount_folder(folder, job, &mut handed_over).map_err(failed(format!("mount the folder {shown}")))?;
    }
    for file in &job.files {
        if let Err(error) = mount_file(file) {
            notes.push(format!("{} is the image's own inside ({error})", file.inside.display()));
        }
    }
    unmount(Path::new("/").join(OLD_ROOT), UnmountFlags::DETACH).map_err(failed("take the old root away"))?;
    fs::remove_dir(Path::new("/").join(OLD_ROOT)).map_err(failed("remove the old root's place"))?;
    Ok(notes)
}

/// Mounts a new filesystem of a kind on a directory, relative to where we are.
fn mount_new(kind: &str, at: &str, flags: MountFlags, options: &str) -> Step<()> {
    let options = c_text(options);
    mount(kind, at, kind, flags, Some(options.as_c_str())).map_err(failed(format!("mount {kind} on /{at}")))
}

/// The overlay of all layers. Layers are named by descriptor: the kernel takes one page of options only, and no path can
/// then bring a comma or a colon of its own.
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
    rustix::process::chdir(&job.bench).map_err(failed(format!("enter {}", job.bench.display())))?;
    let volatile = format!("{options},volatile");
    let attempt =
        |options: &str| mount("overlay", "merged", "overlay", MountFlags::empty(), Some(c_text(options).as_c_str()));
    // A build's upper directory is thrown away when anything goes wrong, so it need not be synced.
    let mounted = match job.purpose {
        Purpose::Build => attempt(&volatile).or_else(|_| attempt(&options)),
        Purpose::Workspace => attempt(&options),
    };
    mounted.map_err(failed("mount the layers"))
}

/// Copies the layers into `merged`, unless that was done before, and makes it a mount, as the exchange of the roots wants it.
fn copy_layers(job: &Job, why: &str) -> Step<()> {
    rustix::process::chdir(&job.bench).map_err(failed(format!("enter {}", job.bench.display())))?;
    if !Path::new(copied::MARK).exists() {
        // Layers that are not there would be the same to a copy.
        if why.starts_with("open the layer") {
            return Err(why.to_owned());
        }
        // A copy that was interrupted is begun again.
        fs::remove_dir_all("merged").and_then(|()| fs::create_dir("merged")).map_err(failed("empty a copy"))?;
        copied::lay(&job.layers, Path::new("merged")).map_err(failed("copy the layers"))?;
        // What is on the bench already lies over the layers, as it would in an overlay.
        copied::move_over(Path::new("root"), Path::new("merged")).map_err(failed("lay what is on the bench"))?;
        fs::write(copied::MARK, "").map_err(failed("mark the copy"))?;
    }
    mount_bind_recursive("merged", "merged").map_err(failed("mount the copy of the layers"))
}

/// Limits the process ids of this PID namespace, and so its processes. The usual limit of a user's processes does not hold for
/// the machine's root, whatever namespace it is in. Only from Linux 6.14 on does the file belong to the namespace; before, it is
/// the whole machine's, and must not be touched.
fn limit_processes() -> Result<(), String> {
    let release = rustix::system::uname().release().to_string_lossy().into_owned();
    let mut numbers =
        release.split(|letter: char| !letter.is_ascii_digit()).map(|number| number.parse::<u32>().unwrap_or(0));
    if (numbers.next(), numbers.next()) < (Some(6), Some(14)) {
        return Err(format!("Linux {release} has no limit of its own for namespaces; 6.14 has"));
    }
    fs::write("proc/sys/kernel/pid_max", BUILD_PROCESSES.to_string()).map_err(|error| error.to_string())
}

/// Who the small filesystems of the inside belong to: root, or the one owner that there is.
fn owner_option(job: &Job) -> String {
    let (uid, gid) = if job.records_owners { job.only } else { (0, 0) };
    format!("uid={uid},gid={gid}")
}

fn devices(job: &Job, notes: &mut Vec<String>) -> Step<()> {
    let owner = owner_option(job);
    let terminals = if job.records_owners { job.only.1 } else { 5 };
    mount_new("tmpfs", "dev", MountFlags::NOSUID | MountFlags::NOEXEC, &format!("mode=755,{owner},size=4m"))?;
    for node in NODES {
        let (from, to) = (format!("/dev/{node}"), format!("dev/{node}"));
        fs::write(&to, "").map_err(failed(format!("make /{to}")))?;
        if let Err(error) = mount_bind(&from, &to) {
            notes.push(format!("{from} is missing inside ({error})"));
        }
    }
    for (name, target) in LINKS {
        std::os::unix::fs::symlink(target, format!("dev/{name}")).map_err(failed(format!("make /dev/{name}")))?;
    }
    for directory in ["dev/pts", "dev/shm"] {
        fs::create_dir(directory).map_err(failed(format!("make /{directory}")))?;
    }
    let quiet = MountFlags::NOSUID | MountFlags::NOEXEC;
    mount_new("devpts", "dev/pts", quiet, &format!("newinstance,ptmxmode=0666,mode=0620,gid={terminals}"))?;
    mount_new("tmpfs", "dev/shm", MountFlags::NOSUID | MountFlags::NODEV, &format!("mode=1777,{owner}"))
}

/// Covers the parts of `/proc` that are none of the inside's business. Where the kernel has no such file there is
/// nothing to cover.
fn cover_proc(purpose: Purpose, notes: &mut Vec<String>) {
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

/// Mounts one folder, after the exchange of the roots, so that no link of the image leads its place outside.
fn mount_folder(folder: &FolderMount, job: &Job, handed_over: &mut impl Iterator<Item = OwnedFd>) -> io::Result<()> {
    let inside = folder.inside.strip_prefix("/").unwrap_or(&folder.inside);
    let place = match place_for(inside, OFlags::DIRECTORY) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            make_place(inside, job.only)?;
            place_for(inside, OFlags::DIRECTORY)?
        }
        other => other
            .map_err(|error| io::Error::other(format!("its place in the image is no plain directory ({error})")))?,
    };
    let source = if folder.handed_over {
        handed_over.next().ok_or_else(|| io::Error::other("the mount did not arrive"))?
    } else {
        clone_outside(&folder.outside)?
    };
    if folder.new {
        settle(&source, &place, folder.owner.as_deref(), job.records_owners)?;
    }
    attach(&source, &place)
}

/// The place of a mount, found without following a link.
fn place_for(inside: &Path, kind: OFlags) -> io::Result<OwnedFd> {
    let root = rustix::fs::open("/", OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
    let flags = OFlags::PATH | kind | OFlags::CLOEXEC;
    let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_SYMLINKS;
    Ok(rustix::fs::openat2(&root, inside, flags, Mode::empty(), resolve)?)
}

/// Makes directories for a place, the account's where another folder of the account is around it, else as the directory above.
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
        let owner =
            if owner.st_uid == 0 && at.starts_with("home") { (user, group) } else { (owner.st_uid, owner.st_gid) };
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
        let passwd = fs::read("/etc/passwd")?;
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

/// A mount of something of the outside, which is still there beneath the old root.
fn clone_outside(path: &Path) -> io::Result<OwnedFd> {
    let outside = path.strip_prefix("/").unwrap_or(path);
    let path = Path::new("/").join(OLD_ROOT).join(outside);
    let clone = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC | OpenTreeFlags::AT_RECURSIVE;
    Ok(open_tree(CWD, &path, clone)?)
}

fn attach(source: &OwnedFd, place: &OwnedFd) -> io::Result<()> {
    let by_descriptor = MoveMountFlags::MOVE_MOUNT_F_EMPTY_PATH | MoveMountFlags::MOVE_MOUNT_T_EMPTY_PATH;
    Ok(move_mount(source.as_fd(), "", place.as_fd(), "", by_descriptor)?)
}

/// Mounts one file over a file of the image; one that is not there is made. A link at its place is replaced, since what it leads to
/// is not what is meant (`/etc/resolv.conf` often is one).
fn mount_file(file: &FolderMount) -> io::Result<()> {
    let inside = file.inside.strip_prefix("/").unwrap_or(&file.inside);
    let source = clone_outside(&file.outside)?;
    let plain = Path::new("/").join(inside);
    if plain.symlink_metadata().is_ok_and(|meta| meta.is_symlink()) {
        fs::remove_file(&plain)?;
    }
    if let Some(directory) = inside.parent() {
        // Only to be sure that no link is on the way.
        drop(place_for(directory, OFlags::DIRECTORY)?);
    }
    drop(fs::File::options().append(true).create(true).open(&plain)?);
    attach(&source, &place_for(inside, OFlags::empty())?)
}
