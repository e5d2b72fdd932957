//! The child's side, from the start of our executable to PID 1.

pub mod archive;
pub(crate) mod clock;
pub(crate) mod command;
pub mod copy_overlay;
pub(crate) mod emulation;
pub(crate) mod filter;
pub(crate) mod guard;
pub(crate) mod init;
pub(crate) mod listing;
pub(crate) mod making;
pub(crate) mod measuring;
pub(crate) mod notify;
pub mod owners;
pub(crate) mod placing;
pub(crate) mod program;
pub(crate) mod rights;
pub(crate) mod root;
pub(crate) mod sftp;
pub(crate) mod single;
pub(crate) mod supervise;
pub(crate) mod volatile;

use std::io;
use std::os::fd::{FromRawFd as _, OwnedFd};
use std::os::unix::net::UnixStream;

use nix::sched::CloneFlags;
use nix::sys::wait::{WaitStatus, waitpid};
use nix::unistd::{ForkResult, fork};
use rustix::process::Signal;

use crate::protocol::job::{NAME, NO_NAMESPACES, Order, Purpose, Report};
use crate::protocol::wire;

/// Every `main` that uses this crate calls this first. In a process that was started as a sandbox it does not return.
///
/// The check is on the first argument, which says only *that* this is a sandbox; what it is to do comes over the socket
/// that is its standard input.
pub fn divert() {
    if std::env::args_os().next().is_some_and(|name| name == NAME) {
        let code = run();
        std::process::exit(code)
    }
}

fn run() -> i32 {
    die_with_parent();
    // SAFETY: descriptor 0 is the socket that Session::begin passed; nothing else in this process uses it.
    let socket = UnixStream::from(unsafe { OwnedFd::from_raw_fd(0) });
    // Whatever we were given besides is not for the inside.
    close_others();
    match begin(&socket) {
        Ok(code) => code,
        Err(error) => {
            let _ = wire::send(&socket, &Report::Failed(error.to_string()), &[]);
            1
        }
    }
}

/// Has the kernel kill this process when its parent ends; and ends it when the parent has ended already.
pub(crate) fn die_with_parent() {
    let parent = rustix::process::getppid();
    let _ = rustix::process::set_parent_process_death_signal(Some(Signal::KILL));
    if rustix::process::getppid() != parent {
        std::process::exit(1);
    }
}

/// Closes what a process that was just started was given beside its three streams.
pub(crate) fn close_others() {
    // SAFETY: close_range closes descriptors from 3 on; this process, just started, owns none of them in any Rust
    // value.
    unsafe { libc::close_range(3, libc::c_uint::MAX, 0) };
}

fn begin(socket: &UnixStream) -> io::Result<i32> {
    let Some((order, fds)) = wire::receive::<Order>(socket)? else {
        return Ok(1);
    };
    let flags = match &order {
        Order::HoldIds => CloneFlags::CLONE_NEWUSER,
        Order::Begin(job) if job.purpose == Purpose::Machine => {
            CloneFlags::CLONE_NEWNS | CloneFlags::CLONE_NEWPID | CloneFlags::CLONE_NEWUTS | CloneFlags::CLONE_NEWIPC
        }
        _ => {
            CloneFlags::CLONE_NEWUSER
                | CloneFlags::CLONE_NEWNS
                | CloneFlags::CLONE_NEWPID
                | CloneFlags::CLONE_NEWUTS
                | CloneFlags::CLONE_NEWIPC
                | CloneFlags::CLONE_NEWNET
                | CloneFlags::CLONE_NEWCGROUP
        }
    };
    nix::sched::unshare(flags).map_err(|error| io::Error::other(format!("{NO_NAMESPACES}: {error}")))?;
    wire::send(socket, &Report::Unshared, &[])?;
    let mapped = wire::receive::<Order>(socket)?;
    let (Some((Order::Mapped, _)), Order::Begin(job)) = (mapped, order) else {
        return Ok(0);
    };
    // SAFETY: this process has a single thread; the child may do anything a fresh process may.
    match unsafe { fork() }? {
        ForkResult::Child => {
            die_with_parent();
            Ok(init::run(socket, &job, fds))
        }
        ForkResult::Parent { child } => loop {
            match waitpid(child, None) {
                Ok(WaitStatus::Exited(_, code)) => return Ok(code),
                Ok(_) => return Ok(1),
                Err(nix::errno::Errno::EINTR) => {}
                Err(_) => return Ok(1),
            }
        },
    }
}
