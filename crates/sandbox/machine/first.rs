//! The first process of a machine: what the kernel starts from the first file system. It loads the modules that it is
//! given, finds the root by its partition's name, lays what is writable over it, goes over to that, and stays: it runs
//! the account's shell at the console, and ends the machine when that ends.
//!
//! It is a program of its own, without a C library, since it has to run where nothing else is: system calls only, and
//! memory that is there from the beginning. `build.rs` of this crate has it made by the compiler that makes the rest.
//!
//! What it is given lies beside it: `modules`, a path in each line; `settings`, one `NAME=VALUE` in each line, of which
//! those that begin with `+` are the shell's variables.
#![no_std]
#![no_main]
#![no_builtins]

use core::arch::{asm, global_asm};
use core::panic::PanicInfo;

global_asm!(".globl _start", "_start:", "xor ebp, ebp", "and rsp, -16", "call {begin}", "ud2", begin = sym begin);

#[panic_handler]
fn panicked(_: &PanicInfo<'_>) -> ! {
    fail(b"this program is wrong", b"")
}

// The ready-made parts name these for the way up from a panic, which nobody goes here.
#[unsafe(no_mangle)]
extern "C" fn rust_eh_personality() {}

// The compiler calls these for what it copies and compares.
#[unsafe(no_mangle)]
unsafe extern "C" fn memcpy(to: *mut u8, from: *const u8, count: usize) -> *mut u8 {
    for at in 0..count {
        // SAFETY: the caller has so many bytes at both places.
        unsafe { *to.add(at) = *from.add(at) };
    }
    to
}

#[unsafe(no_mangle)]
unsafe extern "C" fn memmove(to: *mut u8, from: *const u8, count: usize) -> *mut u8 {
    if (to as usize) <= from as usize {
        // SAFETY: as above; bytes are read before they are written over.
        return unsafe { memcpy(to, from, count) };
    }
    for at in (0..count).rev() {
        // SAFETY: as above.
        unsafe { *to.add(at) = *from.add(at) };
    }
    to
}

#[unsafe(no_mangle)]
unsafe extern "C" fn memset(to: *mut u8, byte: i32, count: usize) -> *mut u8 {
    for at in 0..count {
        // SAFETY: the caller has so many bytes there.
        unsafe { *to.add(at) = byte as u8 };
    }
    to
}

#[unsafe(no_mangle)]
unsafe extern "C" fn memcmp(one: *const u8, other: *const u8, count: usize) -> i32 {
    for at in 0..count {
        // SAFETY: the caller has so many bytes at both places.
        let (one, other) = unsafe { (*one.add(at), *other.add(at)) };
        if one != other {
            return i32::from(one) - i32::from(other);
        }
    }
    0
}

#[unsafe(no_mangle)]
unsafe extern "C" fn bcmp(one: *const u8, other: *const u8, count: usize) -> i32 {
    // SAFETY: as above.
    unsafe { memcmp(one, other, count) }
}

const READ: usize = 0;
const WRITE: usize = 1;
const OPEN: usize = 2;
const CLOSE: usize = 3;
const IOCTL: usize = 16;
const DUP2: usize = 33;
const NANOSLEEP: usize = 35;
const FORK: usize = 57;
const EXECVE: usize = 59;
const EXIT: usize = 60;
const WAIT4: usize = 61;
const CHDIR: usize = 80;
const MKDIR: usize = 83;
const SYMLINK: usize = 88;
const SETUID: usize = 105;
const SETGID: usize = 106;
const SETSID: usize = 112;
const SETGROUPS: usize = 116;
const CHROOT: usize = 161;
const SYNC: usize = 162;
const MOUNT: usize = 165;
const REBOOT: usize = 169;
const SETHOSTNAME: usize = 170;
const GETDENTS64: usize = 217;
const FINIT_MODULE: usize = 313;

const READ_ONLY: usize = 1;
const NO_SUID: usize = 2;
const REMOUNT: usize = 32;
const NO_DEV: usize = 4;
const NO_EXEC: usize = 8;
const MOVE: usize = 8192;
/// The module is packed (`MODULE_INIT_COMPRESSED_FILE`).
const PACKED: usize = 4;
const POWER_OFF: usize = 0x4321_FEDC;
const BECOME_TERMINAL: usize = 0x540E;
/// Orders for the device mapper (`linux/dm-ioctl.h`).
const CREATE: usize = 0xC138_FD03;
const LOAD: usize = 0xC138_FD09;
const RESUME: usize = 0xC138_FD06;

/// A system call (x86-64 psABI, appendix A.2.1). What it gives is negative when it failed.
fn call(number: usize, arguments: [usize; 5]) -> isize {
    let [a, b, c, d, e] = arguments;
    let result: isize;
    // SAFETY: every pointer that is given leads to memory of this program, of the length that the call has; nothing
    // else of its memory is touched.
    unsafe {
        asm!("syscall", inlateout("rax") number as isize => result, in("rdi") a, in("rsi") b, in("rdx") c, in("r10") d,
            in("r8") e, lateout("rcx") _, lateout("r11") _, options(nostack));
    }
    result
}

/// A text that ends with a zero byte.
fn text(bytes: &[u8]) -> usize {
    debug_assert!(bytes.ends_with(b"\0"));
    bytes.as_ptr() as usize
}

fn say(what: &[u8], more: &[u8]) {
    for part in [b"cavrith: ".as_slice(), what, more, b"\n"] {
        call(WRITE, [2, part.as_ptr() as usize, part.len(), 0, 0]);
    }
}

fn sleep(millis: usize) {
    let time = [millis / 1000, millis % 1000 * 1_000_000];
    call(NANOSLEEP, [time.as_ptr() as usize, 0, 0, 0, 0]);
}

fn power_off() -> ! {
    call(SYNC, [0; 5]);
    // Whoever mounts it next finds nothing to mend.
    call(MOUNT, [0, text(b"/data\0"), 0, REMOUNT | READ_ONLY, 0]);
    call(REBOOT, [0xFEE1_DEAD, 0x2812_1969, POWER_OFF, 0, 0]);
    loop {
        sleep(1000);
    }
}

fn fail(what: &[u8], more: &[u8]) -> ! {
    say(what, more);
    sleep(2000);
    power_off()
}

/// Bytes that are there from the beginning, a part for each of those that need some.
struct Room<const N: usize>([u8; N]);

impl<const N: usize> Room<N> {
    const fn new() -> Self {
        Self([0; N])
    }

    /// The bytes of a file, as far as there is room, and a zero byte after them.
    fn file(&mut self, path: &[u8]) -> Option<&[u8]> {
        let file = call(OPEN, [text(path), 0x80000, 0, 0, 0]);
        if file < 0 {
            return None;
        }
        let mut length = 0;
        loop {
            let rest = &mut self.0[length..N - 1];
            let count = call(READ, [file as usize, rest.as_mut_ptr() as usize, rest.len(), 0, 0]);
            if count <= 0 {
                break;
            }
            length += count as usize;
        }
        call(CLOSE, [file as usize, 0, 0, 0, 0]);
        self.0[length] = 0;
        Some(&self.0[..length])
    }

    /// Some texts one after the other, and a zero byte.
    fn joined(&mut self, parts: &[&[u8]]) -> &[u8] {
        let mut length = 0;
        for byte in parts.iter().copied().flatten() {
            if length + 1 < N {
                self.0[length] = *byte;
                length += 1;
            }
        }
        self.0[length] = 0;
        &self.0[..=length]
    }
}

fn lines(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty())
}

/// A value of the settings.
fn setting<'a>(settings: &'a [u8], name: &[u8]) -> Option<&'a [u8]> {
    lines(settings).find_map(|line| line.strip_prefix(name)?.strip_prefix(b"="))
}

fn mounted(kind: &[u8], from: &[u8], at: &[u8], flags: usize, options: &[u8]) -> isize {
    call(MOUNT, [text(from), text(at), text(kind), flags, text(options)])
}

fn must(result: isize, what: &[u8], more: &[u8]) {
    if result < 0 {
        fail(what, more);
    }
}

fn directory(path: &[u8]) {
    call(MKDIR, [text(path), 0o755, 0, 0, 0]);
}

extern "C" fn begin() -> ! {
    for path in [b"/dev\0".as_slice(), b"/proc\0", b"/sys\0", b"/root\0", b"/lower\0", b"/data\0"] {
        directory(path);
    }
    mounted(b"devtmpfs\0", b"dev\0", b"/dev\0", NO_SUID, b"mode=755\0");
    mounted(b"proc\0", b"proc\0", b"/proc\0", NO_SUID | NO_DEV | NO_EXEC, b"\0");
    mounted(b"sysfs\0", b"sys\0", b"/sys\0", NO_SUID | NO_DEV | NO_EXEC, b"\0");
    let console = call(OPEN, [text(b"/dev/console\0"), 2, 0, 0, 0]);
    for stream in 0..3 {
        call(DUP2, [console as usize, stream, 0, 0, 0]);
    }
    let mut settings = Room::<16384>::new();
    let Some(settings) = settings.file(b"/settings\0") else { fail(b"there are no settings", b"") };
    load_modules();
    let root = setting(settings, b"root").unwrap_or_default();
    let mut device = Room::<300>::new();
    if !find(root, 20_000, &mut device) {
        fail(b"there is no partition ", root);
    }
    let mut command_line = Room::<4096>::new();
    let words = command_line.file(b"/proc/cmdline\0").unwrap_or_default();
    let proof = words.split(|byte| byte.is_ascii_whitespace()).find_map(|word| word.strip_prefix(b"cavrith.verity="));
    if let Some(proof) = proof {
        prove(&mut device, proof);
    }
    must(mounted(b"erofs\0", &device.0, b"/lower\0", READ_ONLY, b"\0"), b"the root cannot be mounted", b"");
    if let Some(programs) = setting(settings, b"programs") {
        attend(programs, setting(settings, b"data").unwrap_or_default());
    }
    lay_writable(setting(settings, b"data").unwrap_or_default());
    for path in [b"/root/dev\0".as_slice(), b"/root/proc\0", b"/root/sys\0", b"/root/run\0", b"/root/tmp\0"] {
        directory(path);
    }
    for (from, to) in [(b"/dev\0".as_slice(), b"/root/dev\0".as_slice()), (b"/proc\0", b"/root/proc\0"), (b"/sys\0", b"/root/sys\0")]
    {
        must(call(MOUNT, [text(from), text(to), 0, MOVE, 0]), b"the root cannot be entered", b"");
    }
    call(CHDIR, [text(b"/root\0"), 0, 0, 0, 0]);
    must(call(MOUNT, [text(b".\0"), text(b"/\0"), 0, MOVE, 0]), b"the root cannot be entered", b"");
    must(call(CHROOT, [text(b".\0"), 0, 0, 0, 0]), b"the root cannot be entered", b"");
    call(CHDIR, [text(b"/\0"), 0, 0, 0, 0]);
    directory(b"/dev/pts\0");
    directory(b"/dev/shm\0");
    mounted(b"devpts\0", b"pts\0", b"/dev/pts\0", NO_SUID | NO_EXEC, b"gid=5,mode=620,ptmxmode=666\0");
    mounted(b"tmpfs\0", b"shm\0", b"/dev/shm\0", NO_SUID | NO_DEV, b"mode=1777\0");
    mounted(b"tmpfs\0", b"run\0", b"/run\0", NO_SUID | NO_DEV, b"mode=755\0");
    mounted(b"tmpfs\0", b"tmp\0", b"/tmp\0", NO_SUID | NO_DEV, b"mode=1777\0");
    call(SYMLINK, [text(b"/proc/self/fd\0"), text(b"/dev/fd\0"), 0, 0, 0]);
    let name = setting(settings, b"name").unwrap_or_default();
    call(SETHOSTNAME, [name.as_ptr() as usize, name.len(), 0, 0, 0]);
    run(settings)
}

/// Loads what is listed, in its order. What cannot be loaded is said, and may not be needed.
fn load_modules() {
    let mut list = Room::<32768>::new();
    let Some(list) = list.file(b"/modules\0") else { return };
    for line in lines(list) {
        let mut path = Room::<300>::new();
        let file = call(OPEN, [text(path.joined(&[line])), 0x80000, 0, 0, 0]);
        let flags = if line.ends_with(b".ko") { 0 } else { PACKED };
        let loaded = call(FINIT_MODULE, [file as usize, text(b"\0"), flags, 0, 0]);
        call(CLOSE, [file as usize, 0, 0, 0, 0]);
        // It is part of the kernel, or was loaded for another one.
        if loaded < 0 && loaded != -17 {
            say(b"a module cannot be loaded: ", line);
        }
    }
}

/// Finds a partition by its name, or a whole disk by its serial number (`disk:SERIAL`), waiting for the device; its
/// path in /dev, and a zero byte.
fn find(name: &[u8], millis: usize, device: &mut Room<300>) -> bool {
    let serial = name.strip_prefix(b"disk:");
    for _ in 0..=millis / 20 {
        let list = call(OPEN, [text(b"/sys/class/block\0"), 0x90000, 0, 0, 0]);
        let mut entries = [0_u8; 8192];
        loop {
            let count = call(GETDENTS64, [list as usize, entries.as_mut_ptr() as usize, entries.len(), 0, 0]);
            if count <= 0 {
                break;
            }
            let mut at = 0;
            while at < count as usize {
                // struct linux_dirent64: the length at 16, the name from 19 on.
                let length = usize::from(u16::from_le_bytes([entries[at + 16], entries[at + 17]]));
                let own = &entries[at + 19..at + length];
                let own = own.split(|byte| *byte == 0).next().unwrap_or_default();
                let (mut path, mut about) = (Room::<300>::new(), Room::<1024>::new());
                let what = if serial.is_some() { b"/serial".as_slice() } else { b"/uevent" };
                let path = path.joined(&[b"/sys/class/block/", own, what]);
                let is_it = about.file(path).is_some_and(|about| match serial {
                    Some(serial) => about.trim_ascii() == serial,
                    None => setting(about, b"PARTNAME") == Some(name),
                });
                if is_it {
                    device.joined(&[b"/dev/", own]);
                    call(CLOSE, [list as usize, 0, 0, 0, 0]);
                    return true;
                }
                at += length;
            }
        }
        call(CLOSE, [list as usize, 0, 0, 0, 0]);
        sleep(20);
    }
    false
}

/// Has the kernel prove each block of the root: `device` becomes that of what is proved. `proof` is the digest of the
/// top, the salt, and the number of blocks, after which the tree lies.
fn prove(device: &mut Room<300>, proof: &[u8]) {
    let mut parts = proof.split(|byte| *byte == b':');
    let (Some(root), Some(salt), Some(blocks)) = (parts.next(), parts.next(), parts.next()) else {
        fail(b"the command line does not say how the root is proved", b"")
    };
    let count = blocks.iter().fold(0_u64, |sum, digit| sum * 10 + u64::from(digit.wrapping_sub(b'0')));
    let length = device.0.iter().position(|byte| *byte == 0).unwrap_or_default();
    let own = &device.0[..length];
    let control = call(OPEN, [text(b"/dev/mapper/control\0"), 2, 0, 0, 0]);
    must(control, b"the kernel cannot prove the root", b"");
    // struct dm_ioctl, struct dm_target_spec, and the words of the target.
    let mut request = [0_u8; 1024];
    let mut parameters = Room::<700>::new();
    let words = parameters
        .joined(&[b"1 ", own, b" ", own, b" 4096 4096 ", blocks, b" ", blocks, b" sha256 ", root, b" ", salt]);
    for (order, flags, targets) in [(CREATE, 0_u32, 0_u32), (LOAD, 1, 1), (RESUME, 0, 0)] {
        request.fill(0);
        request[..4].copy_from_slice(&4_u32.to_le_bytes());
        request[12..16].copy_from_slice(&1024_u32.to_le_bytes());
        request[16..20].copy_from_slice(&312_u32.to_le_bytes());
        request[20..24].copy_from_slice(&targets.to_le_bytes());
        request[28..32].copy_from_slice(&flags.to_le_bytes());
        request[48..52].copy_from_slice(b"root");
        if targets > 0 {
            request[320..328].copy_from_slice(&(count * 8).to_le_bytes());
            request[336..342].copy_from_slice(b"verity");
            request[352..352 + words.len()].copy_from_slice(words);
        }
        must(call(IOCTL, [control as usize, order, request.as_mut_ptr() as usize, 0, 0]), b"the root cannot be proved", b"");
    }
    call(CLOSE, [control as usize, 0, 0, 0, 0]);
    device.joined(&[b"/dev/dm-0"]);
}

/// Has a program attend to this machine that is on a disk of its own: it gets the root and what is written beside it,
/// and this process goes on behind it.
fn attend(programs: &[u8], data: &[u8]) -> ! {
    let mut device = Room::<300>::new();
    // What was written a moment ago is there when the hypervisor is killed or the kernel gives up.
    let soon = b"nodelalloc,commit=1\0";
    if !find(data, 20_000, &mut device) || mounted(b"ext4\0", &device.0, b"/data\0", 0, soon) < 0 {
        fail(b"there is no disk to write to: ", data);
    }
    if !find(programs, 20_000, &mut device) {
        fail(b"there is no disk with programs: ", programs);
    }
    must(mounted(b"erofs\0", &device.0, b"/root\0", READ_ONLY, b"\0"), b"the programs cannot be mounted", b"");
    let moved: [(&[u8], &[u8]); 5] = [
        (b"/dev\0", b"/root/dev\0"),
        (b"/proc\0", b"/root/proc\0"),
        (b"/sys\0", b"/root/sys\0"),
        (b"/lower\0", b"/root/lower\0"),
        (b"/data\0", b"/root/data\0"),
    ];
    for (from, to) in moved {
        must(call(MOUNT, [text(from), text(to), 0, MOVE, 0]), b"the programs cannot be entered", b"");
    }
    call(CHDIR, [text(b"/root\0"), 0, 0, 0, 0]);
    must(call(MOUNT, [text(b".\0"), text(b"/\0"), 0, MOVE, 0]), b"the programs cannot be entered", b"");
    must(call(CHROOT, [text(b".\0"), 0, 0, 0, 0]), b"the programs cannot be entered", b"");
    call(CHDIR, [text(b"/\0"), 0, 0, 0, 0]);
    mounted(b"tmpfs\0", b"run\0", b"/run\0", NO_SUID | NO_DEV, b"mode=755\0");
    mounted(b"cgroup2\0", b"cgroup\0", b"/sys/fs/cgroup\0", NO_SUID | NO_DEV | NO_EXEC, b"\0");
    let child = call(FORK, [0; 5]);
    if child == 0 {
        call(SETSID, [0; 5]);
        let arguments = [text(b"cavrith: guest\0"), 0];
        let environment = [text(b"PATH=/usr/sbin:/usr/bin\0"), 0];
        call(EXECVE, [text(b"/cavrith\0"), arguments.as_ptr() as usize, environment.as_ptr() as usize, 0, 0]);
        say(b"the program that attends to this machine cannot be started", b"");
        call(EXIT, [1, 0, 0, 0, 0]);
    }
    wait_for(child)
}

/// Lays what is written over the root: on the disk's own partition for it, or in memory where there is none.
fn lay_writable(data: &[u8]) {
    let mut device = Room::<300>::new();
    let on_disk = !data.is_empty() && find(data, 0, &mut device) && mounted(b"ext4\0", &device.0, b"/data\0", 0, b"\0") >= 0;
    if !on_disk {
        if !data.is_empty() {
            say(b"what is written is gone with the machine: there is no partition ", data);
        }
        must(mounted(b"tmpfs\0", b"data\0", b"/data\0", 0, b"mode=755\0"), b"there is no memory to write to", b"");
    }
    directory(b"/data/upper\0");
    directory(b"/data/work\0");
    let options = b"lowerdir=/lower,upperdir=/data/upper,workdir=/data/work\0";
    must(mounted(b"overlay\0", b"overlay\0", b"/root\0", 0, options), b"nothing can be laid over the root", b"");
}

/// Runs the account's shell at the console, and ends with it.
fn run(settings: &[u8]) -> ! {
    let number = |name: &[u8]| {
        let digits = setting(settings, name).unwrap_or_default();
        digits.iter().fold(0_usize, |sum, digit| sum * 10 + usize::from(digit.wrapping_sub(b'0')))
    };
    let child = call(FORK, [0; 5]);
    if child == 0 {
        let mut active = Room::<200>::new();
        let active = active.file(b"/sys/class/tty/console/active\0").unwrap_or_default();
        let last = active.split(|byte| byte.is_ascii_whitespace()).rfind(|word| !word.is_empty()).unwrap_or(b"console");
        let mut path = Room::<200>::new();
        call(SETSID, [0; 5]);
        let terminal = call(OPEN, [text(path.joined(&[b"/dev/", last])), 2, 0, 0, 0]);
        if terminal >= 0 {
            call(IOCTL, [terminal as usize, BECOME_TERMINAL, 1, 0, 0]);
            for stream in 0..3 {
                call(DUP2, [terminal as usize, stream, 0, 0, 0]);
            }
        }
        let (user, group) = (number(b"user"), number(b"group"));
        call(SETGROUPS, [0, 0, 0, 0, 0]);
        must(call(SETGID, [group, 0, 0, 0, 0]), b"the account cannot be used", b"");
        must(call(SETUID, [user, 0, 0, 0, 0]), b"the account cannot be used", b"");
        let (mut shell, mut home, mut variables) = (Room::<300>::new(), Room::<300>::new(), Room::<16384>::new());
        call(CHDIR, [text(home.joined(&[setting(settings, b"home").unwrap_or(b"/")])), 0, 0, 0, 0]);
        let mut environment = [0_usize; 200];
        let (mut count, mut at) = (0, 0);
        for line in lines(settings).filter_map(|line| line.strip_prefix(b"+")) {
            if count + 1 < environment.len() && at + line.len() + 1 < variables.0.len() {
                environment[count] = variables.0.as_ptr() as usize + at;
                variables.0[at..at + line.len()].copy_from_slice(line);
                (count, at) = (count + 1, at + line.len() + 1);
            }
        }
        let shell = text(shell.joined(&[setting(settings, b"shell").unwrap_or(b"/bin/sh")]));
        let arguments = [text(b"-sh\0"), 0];
        call(EXECVE, [shell, arguments.as_ptr() as usize, environment.as_ptr() as usize, 0, 0]);
        say(b"the shell cannot be started", b"");
        call(EXIT, [1, 0, 0, 0, 0]);
    }
    wait_for(child)
}

/// Takes care of whoever loses its parent, and ends the machine when `child` ends.
fn wait_for(child: isize) -> ! {
    loop {
        let ended = call(WAIT4, [usize::MAX, 0, 0, 0, 0]);
        if ended == child || ended == -10 {
            power_off();
        }
    }
}
