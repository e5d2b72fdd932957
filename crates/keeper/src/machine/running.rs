//! A machine that runs, as the seam wants it.

use std::io;
use std::os::unix::net::UnixStream;
use std::process::Child;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use serde::de::DeserializeOwned;

use cavrith_core::spec::Network;
use cavrith_sandbox::groups::{GroupLimits, Kept};
use cavrith_sandbox::guest::hypervisor::{self, Hypervisor, Parts, Said};
use cavrith_sandbox::guest::monitor::Monitor;
use cavrith_sandbox::guest::outer::Outer;
use cavrith_sandbox::runtime::{Measured, ReadChanges, Runtime};
use cavrith_sandbox::{Identity, SandboxError, Session, locked};

use super::booting::last_line;
use super::{Answer, FURNISHING, MOMENT, Wish, ended};
use crate::cleanup::CleanupList;
use crate::network::{self, WayOut};

/// How long a machine has to end.
const END: Duration = Duration::from_secs(30);
/// How long the memory of a machine may take to be written.
const SAVING: Duration = Duration::from_secs(300);

/// A machine that runs.
#[derive(Debug)]
pub(super) struct Machine {
    pub session: Session,
    pub outer: Arc<Outer>,
    pub runs: Mutex<Runs>,
    pub parts: Parts,
    pub identity: Identity,
    pub network: Network,
    pub cleanup: CleanupList,
    pub frozen: AtomicBool,
    pub kept: Mutex<Kept>,
}

/// The hypervisor, as long as there is one.
#[derive(Debug)]
pub(super) struct Runs {
    pub child: Child,
    pub monitor: Monitor,
    pub said: Said,
    pub way: Option<WayOut>,
    /// It is on the disk, and has no hypervisor.
    pub on_disk: bool,
    /// The thread that started the hypervisor, with which it would end, waits for the other end of this.
    pub _held: Option<mpsc::Sender<()>>,
}

impl Runs {
    fn end(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        drop(self.way.take());
    }
}

impl Machine {
    /// Has the process within go on, by a new port where there is one.
    fn go_on(&self, port: Option<UnixStream>) -> io::Result<()> {
        let wish = serde_json::to_value(Wish::GoOn { now: crate::record::now() })?;
        self.outer.go_on(port, wish, MOMENT).map(drop)
    }

    /// Starts a hypervisor that goes on from the disk.
    fn resume(&self, runs: &mut Runs) -> io::Result<()> {
        let parts = Parts { resume: true, ..self.parts.clone() };
        let ((told, started), (held, holding)) = (mpsc::channel(), mpsc::channel::<()>());
        thread::spawn(move || {
            let _ = told.send(hypervisor::start(&parts));
            // It is killed when the thread ends that started it.
            let _ = holding.recv();
        });
        let Hypervisor { mut child, port, monitor, said } = started.recv().map_err(io::Error::other)??;
        let monitor = match Monitor::greet(monitor) {
            Ok(monitor) => monitor,
            Err(error) => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(io::Error::other(format!("{error} {}", last_line(&said))));
            }
        };
        let note = |table: &str| self.cleanup.note(&format!("table {table}"));
        let way = network::open(self.network, child.id(), self.identity, &note);
        *runs = Runs { child, monitor, said, way: Some(way), on_disk: false, _held: Some(held) };
        self.go_on(Some(port))
    }

    pub fn ask<T: DeserializeOwned>(&self, wish: &Wish, limit: Duration) -> io::Result<T> {
        let said = self.outer.ask(serde_json::to_value(wish)?, limit)?;
        Ok(serde_json::from_value(said.what)?)
    }

    fn do_inside(&self, wish: &Wish) -> io::Result<()> {
        match self.ask(wish, MOMENT)? {
            Answer::Failed(why) => Err(io::Error::other(why)),
            _ => Ok(()),
        }
    }
}

impl Runtime for Machine {
    fn session(&self) -> &Session {
        &self.session
    }

    fn measure(&self) -> Measured {
        if self.frozen.load(Ordering::SeqCst) { Measured::default() } else { self.session.measure() }
    }

    fn freeze(&self, frozen: bool) -> Result<(), SandboxError> {
        let mut runs = locked(&self.runs);
        if runs.on_disk && !frozen {
            self.resume(&mut runs).map_err(|error| ended("let the machine go on from the disk", error))?;
        } else if !runs.on_disk {
            let doing = if frozen { "halt the machine" } else { "let the machine go on" };
            runs.monitor.halt(frozen).map_err(|error| ended(doing, error))?;
        }
        self.frozen.store(frozen, Ordering::SeqCst);
        drop(runs);
        if !frozen {
            // Its clock stood still.
            let _ = self.do_inside(&Wish::GoOn { now: crate::record::now() });
        }
        Ok(())
    }

    fn suspend(&self) -> Result<(), SandboxError> {
        let mut runs = locked(&self.runs);
        let hold = serde_json::to_value(Wish::Hold).map_err(io::Error::from);
        let held = hold.and_then(|hold| self.outer.ask_last(hold, MOMENT));
        held.map_err(|error| ended("have the machine hold still", error))?;
        let saved = runs.monitor.halt(true).and_then(|()| runs.monitor.save(hypervisor::SAVED, SAVING));
        if let Err(error) = saved {
            let _ = runs.monitor.halt(false);
            let _ = self.go_on(None);
            return Err(ended("write the machine to the disk", error));
        }
        runs.end();
        runs.on_disk = true;
        self.frozen.store(true, Ordering::SeqCst);
        Ok(())
    }

    fn limit(&self, limits: GroupLimits) -> io::Result<()> {
        self.do_inside(&Wish::Limit(limits))
    }

    fn kept(&self) -> Kept {
        *locked(&self.kept)
    }

    fn write_file(&self, inside: &str, text: &str) -> io::Result<()> {
        self.do_inside(&Wish::WriteFile { inside: inside.to_owned(), text: text.to_owned() })
    }

    fn read_changes(&self, lower: &str, is_whole: bool) -> Option<io::Result<ReadChanges>> {
        let wish = Wish::ReadChanges { lower: lower.to_owned(), is_whole };
        Some(match self.ask(&wish, FURNISHING) {
            Ok(Answer::Changes(changes)) => Ok(changes),
            Ok(Answer::Failed(why)) => Err(io::Error::other(why)),
            Ok(_) => Err(io::ErrorKind::InvalidData.into()),
            Err(error) => Err(error),
        })
    }

    fn last_words(&self) -> Option<String> {
        Some(last_line(&locked(&self.runs).said)).filter(|line| !line.is_empty())
    }

    fn end(&self) {
        if self.frozen.load(Ordering::SeqCst) {
            let _ = self.freeze(false);
        }
        // What was written is on its disk when it has gone. Nobody hears of one that could not go on from there.
        let is_lost = locked(&self.runs).on_disk;
        let asked = if is_lost { Err(io::ErrorKind::NotConnected.into()) } else { self.do_inside(&Wish::End) };
        let mut runs = locked(&self.runs);
        let until = Instant::now() + if asked.is_ok() { END } else { Duration::ZERO };
        while matches!(runs.child.try_wait(), Ok(None)) && Instant::now() < until {
            thread::sleep(Duration::from_millis(10));
        }
        runs.end();
        self.outer.give_up();
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        locked(&self.runs).end();
    }
}
