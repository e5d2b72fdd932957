//! Another time of day for the inside, so that sealing finds builds that depend on it.
//!
//! The kernel has namespaces for clocks that count from somewhere, but none for the time of day, and programs mostly
//! read it without any system call, from a page that the kernel shares with them (vdso(7)). So PID 1 traces the command
//! and all that come from it: at every exec it takes the address of that page out of the new program's auxiliary vector
//! (getauxval(3), `AT_SYSINFO_EHDR`), which makes the C libraries fall back to system calls; the filter sends those
//! here, and they are answered with a shifted time. Time stamps that the kernel itself puts on files are not shifted;
//! layers do not keep them, and a step that copies them into a file is found by the time that has passed between the
//! builds.

use std::io;

use nix::sys::ptrace::{self, Options};
use nix::sys::signal::Signal;
use nix::sys::wait::{WaitPidFlag, WaitStatus, waitpid};
use nix::unistd::Pid;

/// The tracer's side of a shifted time of day.
pub(crate) struct Clock {
    offset: i64,
}

impl Clock {
    /// Shifts by so many seconds. Where this is not possible (another machine than x86-64) the time is not shifted.
    pub(crate) fn new(offset: i64) -> Self {
        Self { offset: if cfg!(target_arch = "x86_64") { offset } else { 0 } }
    }

    pub(crate) fn is_shifted(&self) -> bool {
        self.offset != 0
    }

    /// In the child, before its exec: offers itself to its parent, and waits for it.
    pub(crate) fn offer_myself() -> io::Result<()> {
        ptrace::traceme()?;
        nix::sys::signal::raise(Signal::SIGSTOP)?;
        Ok(())
    }

    /// In PID 1: waits for the child's offer. A child that fails before it offers itself just ends.
    pub(crate) fn adopt(&mut self, child: Pid) {
        if let Ok(WaitStatus::Stopped(..)) = waitpid(child, Some(WaitPidFlag::WUNTRACED | WaitPidFlag::__WALL)) {
            let all = Options::PTRACE_O_TRACEEXEC
                | Options::PTRACE_O_TRACEFORK
                | Options::PTRACE_O_TRACEVFORK
                | Options::PTRACE_O_TRACECLONE
                | Options::PTRACE_O_TRACESECCOMP
                | Options::PTRACE_O_EXITKILL;
            let _ = ptrace::setoptions(child, all);
            let _ = ptrace::cont(child, None);
        }
        // The exec itself stops the child too; until it goes on, its end of the report pipe is not closed.
        if let Ok(status) = waitpid(child, Some(WaitPidFlag::__WALL)) {
            self.until_running(child, status);
        }
    }

    /// Attends to stops of a child until its exec is done or has failed. An exit is left for PID 1 to see: it is put
    /// back by not being waited for, so only stops may arrive here.
    fn until_running(&mut self, child: Pid, mut status: WaitStatus) {
        loop {
            let execed = matches!(status, WaitStatus::PtraceEvent(pid, _, event) if pid == child && event == libc::PTRACE_EVENT_EXEC);
            self.attend(status);
            if execed {
                return;
            }
            // Peek whether it has ended, without taking its end from PID 1.
            let peek = nix::sys::wait::waitid(
                nix::sys::wait::Id::Pid(child),
                WaitPidFlag::WEXITED | WaitPidFlag::WSTOPPED | WaitPidFlag::WNOWAIT | WaitPidFlag::__WALL,
            );
            match peek {
                Ok(WaitStatus::Exited(..) | WaitStatus::Signaled(..)) | Err(_) => return,
                Ok(_) => match waitpid(child, Some(WaitPidFlag::__WALL)) {
                    Ok(next) => status = next,
                    Err(_) => return,
                },
            }
        }
    }

    /// Attends to a stop of a traced process, and lets it go on.
    pub(crate) fn attend(&mut self, status: WaitStatus) {
        match status {
            WaitStatus::PtraceEvent(pid, _, event) => {
                // A process that was killed meanwhile cannot be attended to, and need not be.
                let _ = match event {
                    libc::PTRACE_EVENT_EXEC => forget_shared_page(pid),
                    libc::PTRACE_EVENT_SECCOMP => self.answer(pid),
                    _ => Ok(()),
                };
                let _ = ptrace::cont(pid, None);
            }
            WaitStatus::Stopped(pid, signal) => {
                // New processes begin with a stop that means nothing; a real SIGSTOP cannot be told from it and is
                // lost.
                let passed = (signal != Signal::SIGSTOP && signal != Signal::SIGTRAP).then_some(signal);
                let _ = ptrace::cont(pid, passed);
            }
            _ => {}
        }
    }

    /// Answers a call for the time of day in the place of the kernel.
    #[cfg(target_arch = "x86_64")]
    fn answer(&self, pid: Pid) -> nix::Result<()> {
        let mut registers = ptrace::getregs(pid)?;
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let seconds = now.as_secs() as i64 + self.offset;
        let nanoseconds = i64::from(now.subsec_nanos());
        let put = |address: u64, values: &[i64]| {
            if address == 0 {
                return Ok(());
            }
            let mut words = (address..).step_by(8).zip(values);
            words.try_for_each(|(at, value)| ptrace::write(pid, at as ptrace::AddressType, *value))
        };
        let done = match registers.orig_rax as i64 {
            libc::SYS_clock_gettime => put(registers.rsi, &[seconds, nanoseconds]).map(|()| 0),
            libc::SYS_gettimeofday => put(registers.rdi, &[seconds, nanoseconds / 1000]).map(|()| 0),
            libc::SYS_time => put(registers.rdi, &[seconds]).map(|()| seconds),
            _ => return Ok(()),
        };
        registers.rax = done.unwrap_or(-i64::from(libc::EFAULT)) as u64;
        // No call has this number, so the kernel does nothing more.
        registers.orig_rax = u64::MAX;
        ptrace::setregs(pid, registers)
    }

    #[cfg(not(target_arch = "x86_64"))]
    fn answer(&self, _: Pid) -> nix::Result<()> {
        Ok(())
    }
}

/// Makes a program that has just been loaded forget the page with the kernel's clocks: its entry in the auxiliary
/// vector becomes one to be ignored. On the new stack lie the number of arguments, the arguments, a zero, the
/// environment, a zero, and then the vector as pairs (System V ABI, AMD64 supplement, section 3.4.1).
#[cfg(target_arch = "x86_64")]
fn forget_shared_page(pid: Pid) -> nix::Result<()> {
    const IGNORE: i64 = 1;
    let mut at = ptrace::getregs(pid)?.rsp;
    let read = |at: u64| ptrace::read(pid, at as ptrace::AddressType);
    let arguments = read(at)?;
    at += 8 * (arguments as u64 + 2);
    while read(at)? != 0 {
        at += 8;
    }
    at += 8;
    loop {
        match read(at)? as u64 {
            libc::AT_NULL => return Ok(()),
            libc::AT_SYSINFO_EHDR => ptrace::write(pid, at as ptrace::AddressType, IGNORE)?,
            _ => {}
        }
        at += 16;
    }
}

#[cfg(not(target_arch = "x86_64"))]
fn forget_shared_page(_: Pid) -> nix::Result<()> {
    Ok(())
}
