//! Steps and services in their order, at a start and after a change.
//!
//! Steps come one after the other. A service that a step waits for is started right before it; all others are started
//! when the steps are done, each when those that it waits for are ready. When a step fails, neither later steps nor
//! services that were still to come are started; what runs goes on.

use std::os::fd::AsFd as _;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use cavrith_core::arrangement::{Arrangement, StepPart};
use cavrith_core::spec::Moment;
use cavrith_core::spec::secret::Runs;
use cavrith_sandbox::job::{CommandJob, Ending};
use cavrith_sandbox::lines::LastLines;
use cavrith_sandbox::locked;

use crate::journal::{self, Journal};
use crate::protocol::{Followed, Phase, ServiceStatus, WorkspaceEvent};
use crate::record::{FailedStep, Standing, now};
use crate::service::{finish, supervise, wait_for};
use crate::work::{Cancel, Keeper, Supervised};

/// How long a guard may take.
const GUARD_LIMIT: Duration = Duration::from_secs(600);

impl Keeper {
    /// Begins with steps and services, in a thread of its own.
    pub fn begin(self: &Arc<Self>) {
        let keeper = Arc::clone(self);
        thread::spawn(move || keeper.open());
    }

    /// Follows a changed arrangement as far as that can be done while it runs, in a thread of its own.
    pub fn follow(self: &Arc<Self>, followed: Followed) -> Result<(), String> {
        let refused = self.change(|state| match state.standing {
            // Services that take their time to get ready need not be waited for: a changed spec may be what they need.
            Standing::Starting if state.opening => {
                Some("the workspace is carrying out steps; wait for them".to_owned())
            }
            Standing::Running | Standing::Starting => {
                state.standing = Standing::Starting;
                (state.opening, state.settled, state.failed_step) = (true, false, None);
                state.events.clear();
                None
            }
            other => Some(format!("the workspace is {}", other.words())),
        });
        if let Some(refused) = refused {
            return Err(refused);
        }
        let keeper = Arc::clone(self);
        thread::spawn(move || {
            let before = keeper.arrangement();
            let arrangement = Arc::new(followed.arrangement);
            let same_env = before.setup.env == arrangement.setup.env;
            // Services that are gone, changed, or see other variables are ended first; so are those that failed, which
            // get another chance.
            keeper.end_services(|status| {
                let (old, new) = (before.services.get(&status.name), arrangement.services.get(&status.name));
                let stays = old == new && same_env && matches!(status.phase, Phase::Ready | Phase::GettingReady);
                !stays
            });
            for note in keeper.follow_live(&arrangement, followed.image_key, followed.stamps) {
                keeper.publish(WorkspaceEvent::Note(note));
            }
            keeper.open();
        });
        Ok(())
    }

    fn open(self: &Arc<Self>) {
        // Steps find what they need.
        let lacking = self.synced.iter().filter_map(|folder| folder.first().err());
        lacking.for_each(|why| self.publish(WorkspaceEvent::Note(why)));
        if !self.plain && !std::mem::replace(&mut *locked(&self.placed), true) {
            self.place_dotfiles();
        }
        let arrangement = self.arrangement();
        let due = |step: &&StepPart| {
            let (mark, state) = (step.mark(), self.state());
            let done = if step.moment == Moment::FirstStart { &state.first_done } else { &state.ran };
            !done.contains(&mark)
        };
        let mut failed = None;
        for step in arrangement.steps.iter().filter(due) {
            if self.is_ending() {
                return;
            }
            let started_at = now();
            let outcome = self.carry_out(&arrangement, step);
            self.remember_opening(started_at);
            if let Err(how) = outcome {
                // What is cut off by the end of the workspace did not fail.
                if self.is_ending() {
                    return;
                }
                failed = Some(how);
                break;
            }
        }
        match failed {
            None => self.begin_services(&arrangement, &arrangement.services_in_order()),
            Some(failed) => {
                let why = format!("the step {:?} failed", failed.name);
                self.change(|state| {
                    state.failed_step = Some(failed.clone());
                    state.publish(WorkspaceEvent::StepFailed(failed));
                });
                for name in arrangement.services_in_order() {
                    self.add_waiting(&name, &why);
                }
            }
        }
        self.change(|state| {
            state.opening = false;
            state.publish(WorkspaceEvent::Opened);
            state.settle();
        });
        self.write_record();
    }

    fn is_ending(&self) -> bool {
        matches!(self.state().standing, Standing::Stopping | Standing::Stopped)
    }

    /// Begins services that are not there yet.
    fn begin_services(self: &Arc<Self>, arrangement: &Arc<Arrangement>, names: &[String]) {
        for name in names {
            let Some(part) = arrangement.services.get(name).cloned() else { continue };
            if self.is_ending() || self.state().services.get(name).is_some_and(|service| service.thread.is_some()) {
                continue;
            }
            let cancel = match Cancel::new() {
                Ok(cancel) => Arc::new(cancel),
                Err(error) => {
                    self.publish(WorkspaceEvent::Note(format!("the service {name} cannot be started: {error}")));
                    continue;
                }
            };
            self.change(|state| {
                let supervised = Supervised { status: new_status(name, ""), cancel: Arc::clone(&cancel), thread: None };
                state.services.insert(name.clone(), supervised);
            });
            let (keeper, own) = (Arc::clone(self), name.clone());
            let thread = thread::spawn(move || supervise(&keeper, &own, &part, &cancel));
            self.change(|state| {
                if let Some(service) = state.services.get_mut(name) {
                    service.thread = Some(thread);
                }
            });
        }
    }

    /// Lists a service that is not started, and why.
    fn add_waiting(&self, name: &str, why: &str) {
        if self.state().services.get(name).is_some_and(|service| service.thread.is_some()) {
            return;
        }
        if let Ok(cancel) = Cancel::new() {
            let supervised = Supervised { status: new_status(name, why), cancel: Arc::new(cancel), thread: None };
            self.change(|state| {
                state.publish(WorkspaceEvent::Service(supervised.status.clone()));
                state.services.insert(name.to_owned(), supervised);
            });
        }
    }

    /// Ends services, those first that others do not wait for, and forgets them.
    pub fn end_services(&self, which: impl Fn(&ServiceStatus) -> bool) {
        let mut order = self.arrangement().services_in_order();
        let known: Vec<_> = self.state().services.keys().cloned().collect();
        order.extend(known.into_iter().filter(|name| !order.contains(name)).collect::<Vec<_>>());
        order.reverse();
        let arrangement = self.arrangement();
        // What nobody else in the rest waits for can be ended at the same time.
        while !order.is_empty() {
            let needed = |name: &String| {
                order.iter().any(|other| arrangement.services.get(other).is_some_and(|part| part.after.contains(name)))
            };
            let mut wave: Vec<_> = order.iter().filter(|name| !needed(name)).cloned().collect();
            if wave.is_empty() {
                wave = order.clone();
            }
            order.retain(|name| !wave.contains(name));
            let mut threads = Vec::new();
            self.change(|state| {
                for name in &wave {
                    if let Some(service) = state.services.get_mut(name).filter(|service| which(&service.status)) {
                        service.cancel.cancel();
                        threads.push((name.clone(), service.thread.take()));
                    }
                }
            });
            for (name, thread) in threads {
                if let Some(thread) = thread {
                    let _ = thread.join();
                }
                self.change(|state| drop(state.services.remove(&name)));
            }
        }
    }

    fn carry_out(self: &Arc<Self>, arrangement: &Arc<Arrangement>, step: &StepPart) -> Result<(), FailedStep> {
        let started_at = Instant::now();
        let failed = |how: String, last_lines: Vec<String>| FailedStep { name: step.name.clone(), how, last_lines };
        let needed = arrangement.needed_first(&step.after);
        self.begin_services(arrangement, &needed);
        for name in &needed {
            self.wait_for_service(name).map_err(|how| failed(how, Vec::new()))?;
        }
        self.publish(WorkspaceEvent::Step { name: step.name.clone() });
        let over = |left_out: Option<String>| {
            let millis = started_at.elapsed().as_millis() as u64;
            self.change(|state| {
                state.ran.push(step.mark());
                state.publish(WorkspaceEvent::StepOver { name: step.name.clone(), millis, left_out });
            });
            if step.moment == Moment::FirstStart {
                self.remember_first(step.mark());
            }
        };
        if let Some(path) = &step.creates
            && self.runtime.changed(path).is_ok_and(|changed| changed.is_some())
        {
            over(Some(format!("{path} is there")));
            return Ok(());
        }
        if let Some(unless) = &step.unless {
            let guard = self.command(unless.clone(), &step.env, (step.account.clone(), Runs::Step(&step.name)));
            if matches!(self.run_quiet(&guard, GUARD_LIMIT), Some(Ending::Code(0))) {
                over(Some("its guard succeeds".to_owned()));
                return Ok(());
            }
        }
        let since = now();
        let source = step.name.clone();
        let journal = Journal::new(&self.logs, &source);
        journal.line("[cavrith] begun");
        let command = self.command(step.argv.clone(), &step.env, (step.account.clone(), Runs::Step(&step.name)));
        let keeper = Arc::clone(self);
        let started = self.start_piped(&command, move |line| {
            journal.line(line);
            keeper.publish(WorkspaceEvent::Output { name: source.clone(), line: line.to_owned() });
        });
        let (running, reader) = started.map_err(|error| failed(error.to_string(), Vec::new()))?;
        let [ended] = wait_for([running.ended()], Some(Duration::from_secs(step.limit)));
        if !ended {
            running.signals()(signal_hook::consts::SIGKILL);
        }
        let ending = running.wait();
        finish(&reader);
        let how = match ending {
            _ if !ended => format!("it took longer than {} s", step.limit),
            Ok(ending) if ending.is_good() => {
                over(None);
                return Ok(());
            }
            Ok(ending) => ending.to_string(),
            Err(error) => error.to_string(),
        };
        Err(failed(how, journal::last(&self.logs, &step.name, since, LastLines::MOST)))
    }

    /// Waits until a service is ready, or will not be.
    fn wait_for_service(&self, name: &str) -> Result<(), String> {
        self.wait_until(|state| {
            let Some(service) = state.services.get(name) else {
                return Some(Err(format!("the service {name} that it waits for is gone")));
            };
            match service.status.phase {
                phase if phase.is_enough() => Some(Ok(())),
                phase if phase.is_rest() => {
                    let detail = &service.status.detail;
                    Some(Err(format!("the service {name} that it waits for is {}: {detail}", phase.words())))
                }
                _ if matches!(state.standing, Standing::Stopping | Standing::Stopped) => {
                    Some(Err("the workspace is ending".to_owned()))
                }
                _ => None,
            }
        })
    }

    /// Runs a command whose output nobody wants. Nothing when it takes too long, or cannot be started.
    pub fn run_quiet(&self, command: &CommandJob, limit: Duration) -> Option<Ending> {
        let (running, _) = self.start_piped(command, |_| ()).ok()?;
        let [ended] = wait_for([running.ended().as_fd()], Some(limit));
        if !ended {
            running.signals()(signal_hook::consts::SIGKILL);
            return None;
        }
        running.wait().ok()
    }
}

fn new_status(name: &str, detail: &str) -> ServiceStatus {
    ServiceStatus {
        name: name.to_owned(),
        phase: Phase::Waiting,
        since: now(),
        restarts: 0,
        detail: detail.to_owned(),
        last_lines: Vec::new(),
    }
}
