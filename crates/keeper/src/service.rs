//! One service: started, watched until it is ready, started again when it ends by itself, ended on purpose.

use std::os::fd::AsFd as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use signal_hook::consts::{SIGHUP, SIGINT, SIGKILL, SIGQUIT, SIGTERM, SIGUSR1, SIGUSR2, SIGWINCH};

use cavrith_core::arrangement::ServicePart;
use cavrith_core::spec::secret::Runs;
use cavrith_core::spec::{Check, Restart};
use cavrith_sandbox::job::{CommandJob, Ending, Serving};
use cavrith_sandbox::runtime::RunningCommand;

use crate::journal::{self, Journal};
use crate::protocol::Phase;
use crate::record::{Standing, now};
use crate::work::{Cancel, Keeper};

/// How long a service that does not say how to tell has to live to count as ready.
const ALIVE: Duration = Duration::from_millis(300);
/// After this time whoever waits for a service hears again what is in its way.
const SAID_AGAIN: Duration = Duration::from_secs(1);
/// How long after its start a service is examined first.
const FIRST_LOOK: Duration = Duration::from_millis(5);
/// The first pause before a service is started again; each further one is twice as long.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// A service that was ready so long starts again with short pauses.
const STEADY: Duration = Duration::from_secs(10);
/// Ends in a row after which it is called failed, though it is still started again.
const PATIENCE: u32 = 3;
/// Lines that are shown of a service that failed.
const LAST_LINES: usize = 12;
/// How long a command that says whether it is ready may take.
const CHECK_LIMIT: Duration = Duration::from_secs(10);

/// The variable by which what a service started is found again.
fn mark(name: &str) -> String {
    format!("CAVRITH_SERVICE={name}")
}

fn signal_number(name: &str) -> i32 {
    match name {
        "INT" => SIGINT,
        "QUIT" => SIGQUIT,
        "HUP" => SIGHUP,
        "USR1" => SIGUSR1,
        "USR2" => SIGUSR2,
        "WINCH" => SIGWINCH,
        _ => SIGTERM,
    }
}

/// The kernel's stamps of files come from a clock that may be a tick behind, in milliseconds (time(7)).
const TICK: u64 = 10;

/// What a look at a service found.
enum Look {
    Ready,
    /// What is in its way; empty when nothing is known.
    NotYet(String),
}

/// Why a stretch of watching ended.
enum Seen {
    Ended(String, bool),
    Cancelled,
}

struct Watch<'a> {
    keeper: &'a Keeper,
    name: &'a str,
    part: &'a ServicePart,
    cancel: &'a Cancel,
    journal: Arc<Journal>,
    begun_at: u64,
    was_ready: Option<Instant>,
}

/// Looks after a service until that is cancelled, or it is not started again.
pub(crate) fn supervise(keeper: &Keeper, name: &str, part: &ServicePart, cancel: &Cancel) {
    let journal = Arc::new(Journal::new(&keeper.logs, name));
    let mut ends = 0u32;
    let mut watch = Watch { keeper, name, part, cancel, journal, begun_at: now(), was_ready: None };
    loop {
        if !watch.wait_for_others() {
            keeper.set_service(name, Phase::Stopped, "", Vec::new());
            return;
        }
        keeper.set_service(name, Phase::GettingReady, "", Vec::new());
        (watch.begun_at, watch.was_ready) = (now(), None);
        let (how, good) = match watch.live() {
            Seen::Cancelled => {
                keeper.set_service(name, Phase::Stopped, "", Vec::new());
                return;
            }
            Seen::Ended(how, good) => (how, good),
        };
        watch.journal.line(&format!("[cavrith] ended: {how}"));
        let again = match part.restart {
            Restart::Always => true,
            Restart::OnFailure => !good,
            Restart::Never => false,
        };
        if !again {
            let over = good && (part.ready.is_none() || watch.was_ready.is_some());
            let lines = if over { Vec::new() } else { watch.last_lines() };
            keeper.set_service(name, if over { Phase::Over } else { Phase::Failed }, &how, lines);
            return;
        }
        ends = if watch.was_ready.is_some_and(|ready| ready.elapsed() > STEADY) { 1 } else { ends + 1 };
        let pause = FIRST_PAUSE.saturating_mul(1 << (ends - 1).min(10)).min(LONGEST_PAUSE);
        let detail = format!("{how}; started again in {:.1} s", pause.as_secs_f64());
        let phase = if ends >= PATIENCE { Phase::Failed } else { Phase::Pausing };
        keeper.set_service(name, phase, &detail, if ends >= PATIENCE { watch.last_lines() } else { Vec::new() });
        if watch.pause(pause) {
            keeper.set_service(name, Phase::Stopped, "", Vec::new());
            return;
        }
        keeper.change(|state| {
            if let Some(service) = state.services.get_mut(name) {
                service.status.restarts += 1;
            }
        });
    }
}

impl Watch<'_> {
    /// Waits for the services that come first; false when that was cancelled.
    fn wait_for_others(&self) -> bool {
        let mut reported = None;
        loop {
            // Nothing, when all are there; else what to say, which is asked for anew whenever something has changed.
            let detail = self.keeper.wait_until(|state| {
                let status = |name: &String| state.services.get(name).map(|service| &service.status);
                let waits_for = self.part.after.iter().filter_map(status).find(|status| !status.phase.is_enough());
                if self.cancel.is_meant() {
                    return Some(None);
                }
                let Some(other) = waits_for else { return Some(None) };
                // Only what will not come by itself is worth a word; the rest is a matter of moments.
                let rests = other.phase.is_rest();
                let detail = if rests { format!("{} is {}", other.name, other.phase.words()) } else { String::new() };
                (reported.as_ref() != Some(&detail)).then_some(Some(detail))
            });
            let Some(detail) = detail else { return !self.cancel.is_meant() };
            self.keeper.set_service(self.name, Phase::Waiting, &detail, Vec::new());
            reported = Some(detail);
        }
    }

    fn command(&self, argv: Vec<String>, more: &std::collections::BTreeMap<String, String>) -> CommandJob {
        self.keeper.command(argv, more, (self.part.account.clone(), Runs::Service(self.name)))
    }

    /// One life of the service.
    fn live(&mut self) -> Seen {
        let mut more = self.part.env.clone();
        more.insert("CAVRITH_SERVICE".to_owned(), self.name.to_owned());
        let mut command = self.command(self.part.argv.clone(), &more);
        command.whole = true;
        if let Some(directory) = &self.part.directory {
            command.directory.clone_from(directory);
        }
        self.journal.line("[cavrith] begun");
        let journal = Arc::clone(&self.journal);
        let (running, reader) = match self.keeper.start_piped(&command, move |line| journal.line(line)) {
            Ok(started) => started,
            Err(error) => {
                self.journal.line(&format!("[cavrith] {error}"));
                return Seen::Ended(error.to_string(), false);
            }
        };
        let seen = self.attend(running.as_ref());
        // What it left behind would be in the way of the next one.
        let _ = self.keeper.runtime.kill_marked(&mark(self.name));
        finish(&reader);
        seen
    }

    fn attend(&mut self, running: &dyn RunningCommand) -> Seen {
        let started_at = Instant::now();
        let mut late = false;
        let mut said_at = None;
        // Most are ready within moments, which are not waited for longer than they take.
        let mut soon = FIRST_LOOK;
        loop {
            let wait = match (&self.part.ready, self.was_ready) {
                (_, Some(_)) => None,
                (Some(_), None) if late => Some(Duration::from_secs(1)),
                (Some(ready), None) => {
                    let wait = soon.min(Duration::from_millis(ready.every));
                    soon = soon.saturating_mul(2);
                    Some(wait)
                }
                (None, None) => Some(ALIVE.saturating_sub(started_at.elapsed()).max(Duration::from_millis(1))),
            };
            let [ended, cancelled] = wait_for([running.ended(), self.cancel.woken.as_fd()], wait);
            if cancelled {
                self.end(running);
                return Seen::Cancelled;
            }
            if ended {
                return match running.wait() {
                    Ok(ending @ Ending::Left(_)) => {
                        let why = format!("{ending}; a service stays in the foreground, as most can be told to");
                        Seen::Ended(why, false)
                    }
                    Ok(ending) if self.was_ready.is_none() && self.part.ready.is_some() => {
                        Seen::Ended(format!("{ending} before it was ready"), ending.is_good())
                    }
                    Ok(ending) => Seen::Ended(ending.to_string(), ending.is_good()),
                    Err(error) => Seen::Ended(error.to_string(), false),
                };
            }
            // What is frozen gets no readier.
            if self.was_ready.is_some() || self.keeper.state().standing == Standing::Frozen {
                continue;
            }
            let hindrance = match self.look(running, started_at) {
                Look::Ready => {
                    self.was_ready = Some(Instant::now());
                    self.keeper.set_service(self.name, Phase::Ready, "", Vec::new());
                    continue;
                }
                Look::NotYet(hindrance) => hindrance,
            };
            // Whoever waits hears what for.
            if !late && started_at.elapsed() >= ALIVE && said_at.is_none_or(|at: Instant| at.elapsed() >= SAID_AGAIN) {
                said_at = Some(Instant::now());
                let last = journal::last(&self.keeper.logs, self.name, self.begun_at, 1);
                self.keeper.set_service(self.name, Phase::GettingReady, &self.in_words(&hindrance), last);
            }
            if let Some(ready) =
                self.part.ready.as_ref().filter(|ready| !late && started_at.elapsed().as_secs() >= ready.limit)
            {
                late = true;
                let hindrance = self.in_words(&hindrance);
                let and = if hindrance.is_empty() { "" } else { ", and " };
                let detail = format!("not ready after {} s; it still runs{and}{hindrance}", ready.limit);
                self.keeper.set_service(self.name, Phase::Failed, &detail, self.last_lines());
            }
        }
    }

    /// Looks whether it is ready. What somebody else does in its place, and what is left of an earlier run, is not it.
    fn look(&self, running: &dyn RunningCommand, started_at: Instant) -> Look {
        let is_ready = match self.part.ready.as_ref().map(|ready| &ready.check) {
            None => started_at.elapsed() >= ALIVE,
            // Asking who listens takes longer than asking whether somebody does.
            Some(Check::Port(port)) if !self.keeper.connector.is_listened(*port) => false,
            Some(Check::Port(port)) => match running.serving(*port) {
                Ok(Serving::Itself) => true,
                Ok(Serving::Other(name)) => {
                    return Look::NotYet(format!("{name} has the port {port}, which is not of this service"));
                }
                Ok(Serving::Nobody) | Err(_) => false,
            },
            Some(Check::File(path)) => match self.keeper.runtime.changed(path) {
                Ok(Some(changed)) if changed.saturating_add(TICK) < self.begun_at => {
                    return Look::NotYet(format!("{path} is from before it was begun"));
                }
                found => matches!(found, Ok(Some(_))),
            },
            Some(Check::Command(argv)) => {
                let command = self.command(argv.clone(), &self.part.env);
                matches!(self.keeper.run_quiet(&command, CHECK_LIMIT), Some(Ending::Code(0)))
            }
        };
        if is_ready { Look::Ready } else { Look::NotYet(String::new()) }
    }

    /// What is in its way: what was found, or else what it is that is not there.
    fn in_words(&self, hindrance: &str) -> String {
        let Some(ready) = self.part.ready.as_ref().filter(|_| hindrance.is_empty()) else {
            return hindrance.to_owned();
        };
        match &ready.check {
            Check::Port(port) => {
                let measured = self.keeper.runtime.measure();
                let own = measured.listening.iter().filter(|one| !one.udp && one.service.as_deref() == Some(self.name));
                let mut others: Vec<_> = own.map(|one| one.port.to_string()).collect();
                others.dedup();
                match others.as_slice() {
                    [] => format!("nothing listens on port {port}"),
                    others => format!("nothing listens on port {port}, but it does on {}", others.join(", ")),
                }
            }
            Check::File(path) => format!("there is no {path}"),
            Check::Command(argv) => {
                let shown: String = argv.join(" ").chars().take(60).collect();
                format!("its check does not succeed ({shown})")
            }
        }
    }

    /// Asks the service to end, and kills it when it does not.
    fn end(&self, running: &dyn RunningCommand) {
        let send = running.signals();
        send(signal_number(&self.part.signal));
        let [ended] = wait_for([running.ended()], Some(Duration::from_secs(self.part.grace)));
        if !ended {
            self.journal.line(&format!("[cavrith] killed after {} s", self.part.grace));
            send(SIGKILL);
            let _ = self.keeper.runtime.kill_marked(&mark(self.name));
            wait_for([running.ended()], Some(Duration::from_secs(5)));
        }
        self.journal.line("[cavrith] ended on purpose");
    }

    /// Waits; true when that was cancelled.
    fn pause(&self, pause: Duration) -> bool {
        let [cancelled] = wait_for([self.cancel.woken.as_fd()], Some(pause));
        cancelled
    }

    fn last_lines(&self) -> Vec<String> {
        journal::last(&self.keeper.logs, self.name, self.begun_at, LAST_LINES)
    }
}

/// Waits for what a command wrote before its end; what processes that it left behind write is not waited for.
pub(crate) fn finish(reader: &std::thread::JoinHandle<()>) {
    for _ in 0..100 {
        if reader.is_finished() {
            return;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Waits until one of some descriptors is readable or hung up, and says which are. `None` waits for ever.
pub(crate) fn wait_for<const N: usize>(fds: [std::os::fd::BorrowedFd<'_>; N], limit: Option<Duration>) -> [bool; N] {
    let deadline = limit.and_then(|limit| Instant::now().checked_add(limit));
    loop {
        let mut watched = fds.map(|fd| PollFd::from_borrowed_fd(fd, PollFlags::IN));
        let left = deadline.map(|deadline| deadline.saturating_duration_since(Instant::now()));
        let timeout = left.map(|left| Timespec {
            tv_sec: i64::try_from(left.as_secs()).unwrap_or(i64::MAX),
            tv_nsec: left.subsec_nanos().into(),
        });
        match poll(&mut watched, timeout.as_ref()) {
            Ok(0) if left.is_some_and(|left| left.is_zero()) => return [false; N],
            Ok(0) | Err(rustix::io::Errno::INTR) => {}
            Ok(_) => return watched.map(|watched| !watched.revents().is_empty()),
            Err(_) => return [false; N],
        }
    }
}
