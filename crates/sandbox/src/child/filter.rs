//! Which system calls the inside may make.
//!
//! The namespaces are the wall; the filter removes what a build or a workspace does not need and what has been a way
//! through such walls before. Refused calls fail with "operation not permitted"; `clone3`, whose flags a filter cannot
//! see, fails as if the kernel did not have it, and the C libraries then use `clone`; in a workspace so does `openat2`.

use std::collections::BTreeMap;
use std::io;
use std::sync::OnceLock;

use seccompiler::{
    BpfProgram, SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule,
    TargetArch, sock_filter,
};

use crate::protocol::job::Purpose;

type Rules = BTreeMap<i64, Vec<SeccompRule>>;

/// Refused everywhere.
const NEVER: &[i64] = &[
    libc::SYS_acct,
    libc::SYS_add_key,
    libc::SYS_bpf,
    libc::SYS_clock_settime,
    libc::SYS_delete_module,
    libc::SYS_finit_module,
    libc::SYS_init_module,
    libc::SYS_io_uring_enter,
    libc::SYS_io_uring_register,
    libc::SYS_io_uring_setup,
    libc::SYS_kexec_file_load,
    libc::SYS_kexec_load,
    libc::SYS_keyctl,
    libc::SYS_open_by_handle_at,
    libc::SYS_perf_event_open,
    libc::SYS_quotactl,
    libc::SYS_reboot,
    libc::SYS_request_key,
    libc::SYS_settimeofday,
    libc::SYS_swapoff,
    libc::SYS_swapon,
    libc::SYS_syslog,
    libc::SYS_userfaultfd,
    libc::SYS_vhangup,
];

/// Refused in builds as well.
const NOT_IN_BUILDS: &[i64] = &[
    libc::SYS_fsconfig,
    libc::SYS_fsmount,
    libc::SYS_fsopen,
    libc::SYS_fspick,
    libc::SYS_mount,
    libc::SYS_mount_setattr,
    libc::SYS_move_mount,
    libc::SYS_open_tree,
    libc::SYS_pivot_root,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_ptrace,
    libc::SYS_setns,
    libc::SYS_umount2,
    libc::SYS_unshare,
];

#[cfg(target_arch = "x86_64")]
const OF_THIS_MACHINE: &[i64] = &[libc::SYS_ioperm, libc::SYS_iopl, libc::SYS_modify_ldt];
#[cfg(not(target_arch = "x86_64"))]
const OF_THIS_MACHINE: &[i64] = &[];

/// Terminal requests that type into it in somebody else's name.
const TYPING: [u64; 2] = [libc::TIOCSTI, 0x541c /* TIOCLINUX */];

/// The programs of a filter, in the order in which they are put on.
type Programs = Vec<BpfProgram>;

/// Makes the programs ready, so that every command that is started afterwards only has to put them on. PID 1 does this
/// once.
pub(crate) fn prepare(purpose: Purpose) -> io::Result<()> {
    programs(purpose).map(|_| ())
}

/// The programs for a purpose; compiled once in a process and in those that it forks.
fn programs(purpose: Purpose) -> io::Result<&'static Programs> {
    static READY: [OnceLock<Programs>; 2] = [OnceLock::new(), OnceLock::new()];
    let place = &READY[usize::from(purpose == Purpose::Build)];
    if let Some(ready) = place.get() {
        return Ok(ready);
    }
    let other = |error: seccompiler::BackendError| io::Error::other(error.to_string());
    let mut unseen = BTreeMap::from([(libc::SYS_clone3, Vec::new())]);
    if purpose == Purpose::Workspace {
        unseen.insert(libc::SYS_openat2, Vec::new());
    }
    let refused = refused_rules(purpose).map_err(other)?;
    let programs = vec![
        compile(unseen, SeccompAction::Errno(libc::ENOSYS as u32)).map_err(other)?,
        without_second_table(compile(refused, SeccompAction::Errno(libc::EPERM as u32)).map_err(other)?),
    ];
    Ok(place.get_or_init(|| programs))
}

/// Puts this process, and all that come from it, behind the filter. `traced`: calls that tell the time of day go to the
/// tracer.
pub(crate) fn apply(purpose: Purpose, traced: bool) -> io::Result<()> {
    let other = |error: seccompiler::BackendError| io::Error::other(error.to_string());
    let install =
        |program: &BpfProgram| seccompiler::apply_filter(program).map_err(|error| io::Error::other(error.to_string()));
    if traced {
        install(&compile(clock_rules().map_err(other)?, SeccompAction::Trace(0)).map_err(other)?)?;
    }
    programs(purpose)?.iter().try_for_each(install)
}

fn compile(rules: Rules, action: SeccompAction) -> Result<BpfProgram, seccompiler::BackendError> {
    let machine = TargetArch::try_from(std::env::consts::ARCH)?;
    SeccompFilter::new(rules, SeccompAction::Allow, action, machine)?.try_into()
}

fn refused_rules(purpose: Purpose) -> Result<Rules, seccompiler::BackendError> {
    let mut rules = Rules::new();
    let builds = if purpose == Purpose::Build { NOT_IN_BUILDS } else { &[] };
    for call in NEVER.iter().chain(OF_THIS_MACHINE).chain(builds) {
        rules.insert(*call, Vec::new());
    }
    let masked = |mask: u64| SeccompCmpOp::MaskedEq(mask);
    if purpose == Purpose::Build {
        let new_user = libc::CLONE_NEWUSER as u64;
        let condition = SeccompCondition::new(0, SeccompCmpArgLen::Qword, masked(new_user), new_user)?;
        rules.insert(libc::SYS_clone, vec![SeccompRule::new(vec![condition])?]);
    }
    // The way to other machines beneath this one (vsock(7)) passes by every network namespace.
    let vsock = SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, libc::AF_VSOCK as u64)?;
    rules.insert(libc::SYS_socket, vec![SeccompRule::new(vec![vsock])?]);
    if purpose == Purpose::Workspace {
        set_uid_at_birth(&mut rules)?;
        // Who makes such a namespace may mount the machine's control groups in it, and root's files there are writable
        // for root's number.
        let groups = libc::CLONE_NEWCGROUP as u64;
        for call in [libc::SYS_clone, libc::SYS_unshare] {
            let condition = SeccompCondition::new(0, SeccompCmpArgLen::Qword, masked(groups), groups)?;
            rules.insert(call, vec![SeccompRule::new(vec![condition])?]);
        }
    }
    // The kernel examines the lower half of the request only.
    let typing = TYPING.map(|request| {
        SeccompRule::new(vec![SeccompCondition::new(1, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, request)?])
    });
    rules.insert(libc::SYS_ioctl, typing.into_iter().collect::<Result<_, _>>()?);
    Ok(rules)
}

/// Files that are made with set-uid or set-gid bits at once; giving them later is for the
/// [`guard`](crate::child::guard).
fn set_uid_at_birth(rules: &mut Rules) -> Result<(), seccompiler::BackendError> {
    let has = |argument: u8, bits: u64| {
        SeccompCondition::new(argument, SeccompCmpArgLen::Dword, SeccompCmpOp::MaskedEq(bits), bits)
    };
    let bits = [libc::S_ISUID, libc::S_ISGID].map(u64::from);
    // The rights are only examined when a file is made.
    let making = [libc::O_CREAT, libc::O_TMPFILE].map(|flag| flag as u64);
    #[cfg(target_arch = "x86_64")]
    let opening = [(libc::SYS_open, 1), (libc::SYS_openat, 2)];
    #[cfg(not(target_arch = "x86_64"))]
    let opening = [(libc::SYS_openat, 2)];
    for (call, flags) in opening {
        let mut all = Vec::new();
        for bit in bits {
            for flag in making {
                all.push(SeccompRule::new(vec![has(flags, flag)?, has(flags + 1, bit)?])?);
            }
        }
        rules.insert(call, all);
    }
    #[cfg(target_arch = "x86_64")]
    let others = [(libc::SYS_creat, 1), (libc::SYS_mknod, 1), (libc::SYS_mknodat, 2)];
    #[cfg(not(target_arch = "x86_64"))]
    let others = [(libc::SYS_mknodat, 2)];
    for (call, mode) in others {
        let all = bits.map(|bit| SeccompRule::new(vec![has(mode, bit)?]));
        rules.insert(call, all.into_iter().collect::<Result<_, _>>()?);
    }
    Ok(())
}

/// Calls that tell the time of day (and not a time since something).
fn clock_rules() -> Result<Rules, seccompiler::BackendError> {
    let mut rules = Rules::new();
    let clocks = [libc::CLOCK_REALTIME, libc::CLOCK_REALTIME_COARSE, libc::CLOCK_TAI].map(|clock| {
        SeccompRule::new(vec![SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, clock as u64)?])
    });
    rules.insert(libc::SYS_clock_gettime, clocks.into_iter().collect::<Result<_, _>>()?);
    rules.insert(libc::SYS_gettimeofday, Vec::new());
    #[cfg(target_arch = "x86_64")]
    rules.insert(libc::SYS_time, Vec::new());
    Ok(rules)
}

/// On x86-64 every call has a second number, with bit 30 set, that no rule above knows. Puts a refusal of those in
/// front.
fn without_second_table(program: BpfProgram) -> BpfProgram {
    if !cfg!(target_arch = "x86_64") {
        return program;
    }
    let instruction = |code, jt, jf, k| sock_filter { code, jt, jf, k };
    let mut whole = vec![
        // The call's number lies at the beginning of the data (seccomp(2), struct seccomp_data).
        instruction((libc::BPF_LD | libc::BPF_W | libc::BPF_ABS) as u16, 0, 0, 0),
        instruction((libc::BPF_JMP | libc::BPF_JGE | libc::BPF_K) as u16, 0, 1, 0x4000_0000),
        instruction((libc::BPF_RET | libc::BPF_K) as u16, 0, 0, libc::SECCOMP_RET_ERRNO | libc::ENOSYS as u32),
    ];
    whole.extend(program);
    whole
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The errors of some system calls behind the filter, made in a child so that this process stays as it is.
    fn errors_behind(purpose: Purpose) -> Vec<i32> {
        let (report, writer) = rustix::pipe::pipe().unwrap();
        // SAFETY: the child only makes system calls and ends by _exit.
        if unsafe { libc::fork() } == 0 {
            let applied = apply(purpose, false);
            let letter = b'x';
            let zeros = [0u8; 64];
            let calls: [fn(*const u8, *const u8) -> i64; 4] = [
                // SAFETY: reads one byte at most, which lives; on /dev/null or a pipe it means nothing.
                |letter, _| i64::from(unsafe { libc::ioctl(0, libc::TIOCSTI, letter) }),
                // SAFETY: asks for nothing: an invalid size is refused where the filter does not.
                |_, zeros| unsafe { libc::syscall(libc::SYS_clone3, zeros, 0) },
                // SAFETY: reads nothing and changes nothing: the request does not exist.
                |_, _| unsafe { libc::syscall(libc::SYS_ptrace, -1, 0, 0, 0) },
                // SAFETY: reads nothing and changes nothing: the command does not exist.
                |_, _| unsafe { libc::syscall(libc::SYS_keyctl, -1, 0, 0, 0) },
            ];
            let mut errors = vec![u8::from(applied.is_ok())];
            for call in calls {
                let failed = call(&raw const letter, zeros.as_ptr()) < 0;
                let error = std::io::Error::last_os_error().raw_os_error().unwrap_or(0);
                errors.push(if failed { error as u8 } else { 0 });
            }
            let _ = rustix::io::write(&writer, &errors);
            // SAFETY: ends the child without running anything of this process's.
            unsafe { libc::_exit(0) };
        }
        drop(writer);
        let mut errors = [0; 5];
        assert_eq!(rustix::io::read(&report, &mut errors).unwrap(), 5);
        assert_eq!(errors[0], 1, "the filter could not be put on");
        errors[1..].iter().map(|error| i32::from(*error)).collect()
    }

    #[test]
    fn typing_keys_and_unseen_flags_are_refused_everywhere_and_tracing_in_builds() {
        let build = errors_behind(Purpose::Build);
        assert_eq!(build, [libc::EPERM, libc::ENOSYS, libc::EPERM, libc::EPERM]);
        let workspace = errors_behind(Purpose::Workspace);
        assert_eq!((workspace[0], workspace[1], workspace[3]), (libc::EPERM, libc::ENOSYS, libc::EPERM));
        assert_ne!(workspace[2], libc::EPERM);
    }

    #[test]
    fn the_filters_compile_for_this_machine() {
        for purpose in [Purpose::Build, Purpose::Workspace] {
            let program = compile(refused_rules(purpose).unwrap(), SeccompAction::Errno(1)).unwrap();
            assert!(program.len() < 4096, "the kernel takes 4096 instructions at most");
        }
        compile(clock_rules().unwrap(), SeccompAction::Trace(0)).unwrap();
    }
}
