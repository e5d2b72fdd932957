//! Starting the hypervisor: QEMU, in a network of its own, with nothing but a machine's disks.

use std::ffi::OsString;
use std::io;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};

use nix::sched::CloneFlags;
use rustix::fs::{Mode, OFlags};
use rustix::process::Signal;
use serde::{Deserialize, Serialize};

use crate::host::mutex::locked;
use crate::host::programs::find_program;
use crate::parent::net;

/// The descriptors that it gets: the machine's port, its own monitor, the machine's console.
const PORT: i32 = 3;
const MONITOR: i32 = 4;
const CONSOLE: i32 = 5;
/// Bytes that are kept of what it and its machine's console say.
const KEPT: usize = 64 << 10;
/// The file of the disk that is written to.
pub const DATA: &str = "data.qcow2";
/// Is there until what was changed in a machine before it was dropped is set aside.
pub const FRESH: &str = "fresh";
/// The files of the kernel, and of what it starts with.
pub const STARTED: [&str; 2] = ["vmlinuz", "initrd"];
/// The name of a memory that was saved.
pub const SAVED: &str = "suspended";

/// What a machine is made of. Files are named from `dir` on.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Parts {
    /// Where its files are.
    #[serde(with = "crate::protocol::wire::path")]
    pub dir: PathBuf,
    /// The kernel's command line.
    pub command_line: String,
    /// Bytes of memory.
    pub memory: u64,
    /// Processors.
    pub cpus: u32,
    /// The root's file.
    pub root: String,
    /// The file of the disk with our own program.
    pub programs: String,
    /// The processor is the machine's own, by the kernel (KVM).
    pub is_fast: bool,
    /// It reaches a network.
    pub network: bool,
    /// It goes on from the memory that was saved.
    pub resume: bool,
}

/// A hypervisor that runs.
#[derive(Debug)]
pub struct Hypervisor {
    /// The process.
    pub child: Child,
    /// The machine's port.
    pub port: UnixStream,
    /// Its monitor.
    pub monitor: UnixStream,
    /// What it said last.
    pub said: Said,
}

/// What a hypervisor and its machine's console said last. It is in memory, and no more than so much is kept: root in a
/// machine can write to its console for ever.
#[derive(Debug, Clone, Default)]
pub struct Said(Arc<Mutex<Vec<u8>>>);

impl Said {
    /// As text.
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&locked(&self.0)).into_owned()
    }

    /// Takes what is said, until there is no one to say more.
    fn follow(&self, mut from: impl io::Read + Send + 'static) {
        let kept = Arc::clone(&self.0);
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(count @ 1..) = from.read(&mut buffer) {
                let mut kept = locked(&kept);
                kept.extend_from_slice(&buffer[..count]);
                let over = kept.len().saturating_sub(KEPT);
                kept.drain(..over);
            }
        });
    }
}

/// The program, when it is installed.
pub fn program() -> Option<PathBuf> {
    find_program("qemu-system-x86_64")
}

/// Whether the kernel offers to run machines by itself.
pub fn may_be_fast() -> bool {
    let access = rustix::fs::Access::READ_OK | rustix::fs::Access::WRITE_OK;
    rustix::fs::access("/dev/kvm", access).is_ok()
}

fn arguments(parts: &Parts) -> Vec<OsString> {
    let mut all = Vec::new();
    let mut add = |words: &[&str]| all.extend(words.iter().map(OsString::from));
    add(&["-nodefaults", "-no-user-config", "-nographic", "-no-reboot", "-machine", "q35"]);
    add(&["-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny"]);
    let (accelerator, cpu) = if parts.is_fast { ("kvm", "host") } else { ("tcg,thread=multi", "max") };
    add(&["-accel", accelerator, "-cpu", cpu]);
    add(&["-m", &format!("{}M", parts.memory >> 20), "-smp", &parts.cpus.to_string()]);
    add(&["-kernel", STARTED[0], "-initrd", STARTED[1], "-append", &parts.command_line]);
    let disks =
        [(parts.root.as_str(), "root", "raw"), (parts.programs.as_str(), "programs", "raw"), (DATA, "data", "qcow2")];
    for (file, name, form) in disks {
        let access = if name == "data" { "discard=unmap" } else { "readonly=on,file.locking=off" };
        add(&["-drive", &format!("if=none,id={name},file={file},format={form},{access}")]);
        add(&["-device", &format!("virtio-blk-pci,drive={name},serial={name}")]);
    }
    add(&["-chardev", &format!("socket,id=port,fd={PORT}"), "-device", "virtio-serial-pci"]);
    add(&["-device", "virtserialport,chardev=port,name=cavrith"]);
    add(&["-chardev", &format!("socket,id=monitor,fd={MONITOR}"), "-mon", "chardev=monitor,mode=control"]);
    add(&["-chardev", &format!("socket,id=console,fd={CONSOLE}"), "-serial", "chardev:console"]);
    add(&["-device", "virtio-rng-pci"]);
    if parts.network {
        add(&["-netdev", "user,id=net", "-device", "virtio-net-pci,netdev=net,romfile="]);
    }
    if parts.resume {
        add(&["-loadvm", SAVED]);
    }
    all
}

fn write_text(path: &std::ffi::CStr, text: &[u8]) -> io::Result<()> {
    let file = rustix::fs::open(path, OFlags::WRONLY | OFlags::CLOEXEC, Mode::empty())?;
    rustix::io::write(file, text)?;
    Ok(())
}

/// Starts the hypervisor. It is killed when this thread ends.
///
/// # Errors
/// When it is not installed, or cannot be started.
pub fn start(parts: &Parts) -> io::Result<Hypervisor> {
    let program = program().ok_or(io::ErrorKind::NotFound)?;
    let (port, port_inside) = UnixStream::pair()?;
    let (monitor, monitor_inside) = UnixStream::pair()?;
    let (console, console_inside) = UnixStream::pair()?;
    let (errors, errors_inside) = io::pipe()?;
    let mut command = Command::new(program);
    command.args(arguments(parts)).env_clear().current_dir(Path::new(&parts.dir));
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(errors_inside);
    let inside = [port_inside, monitor_inside, console_inside].map(OwnedFd::from);
    // Above the numbers that they are to have.
    let mut raised = Vec::new();
    for fd in &inside {
        raised.push(rustix::io::fcntl_dupfd_cloexec(fd, 10)?);
    }
    let numbers = [raised[0].as_raw_fd(), raised[1].as_raw_fd(), raised[2].as_raw_fd()];
    let one = |id: u32| format!("{id} {id} 1");
    let users = one(rustix::process::geteuid().as_raw());
    let groups = one(rustix::process::getegid().as_raw());
    // SAFETY: between fork and exec only system calls are made; the descriptors are open as long as `raised` lives, and
    // those that are replaced are no Rust value's in the new process.
    unsafe {
        command.pre_exec(move || {
            rustix::process::set_parent_process_death_signal(Some(Signal::KILL))?;
            // It is nobody of this machine's administrators, whoever starts it, and its network is its own.
            nix::sched::unshare(CloneFlags::CLONE_NEWUSER | CloneFlags::CLONE_NEWNET)?;
            write_text(c"/proc/self/setgroups", b"deny")?;
            write_text(c"/proc/self/uid_map", users.as_bytes())?;
            write_text(c"/proc/self/gid_map", groups.as_bytes())?;
            net::loopback_up()?;
            for (from, to) in numbers.into_iter().zip([PORT, MONITOR, CONSOLE]) {
                if libc::dup2(from, to) < 0 {
                    return Err(io::Error::last_os_error());
                }
            }
            Ok(())
        });
    }
    let child = command.spawn()?;
    let said = Said::default();
    said.follow(console);
    said.follow(errors);
    Ok(Hypervisor { child, port, monitor, said })
}
