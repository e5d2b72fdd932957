//! Two copies, brought together for as long as both are there.

mod carrying;

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::io;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use cavrith_core::path::RootPath;
use cavrith_core::synced::plan::{Change, Conflict, Known, Plan, Side, plan};
use cavrith_core::synced::wire::{Ask, Outcome};
use cavrith_core::synced::{Entries, remove, subtree};
use cavrith_sandbox::locked;

use crate::base::Base;
use crate::far::{Bell, Far};
use carrying::carry;

/// How long after a change the base is written.
const WRITTEN: Duration = Duration::from_secs(2);
/// How long after a failure something is tried again.
const RETRY: Duration = Duration::from_secs(3);
/// Rounds in which everything has to come to rest; what has not by then waits.
const ROUNDS: usize = 50;
/// How often a change is tried where something was in its way.
const TRIES: u32 = 5;

/// Two copies that are brought together.
#[derive(Debug)]
pub struct Pair {
    shared: Arc<Shared>,
    thread: Mutex<Option<thread::JoinHandle<()>>>,
}

#[derive(Debug, Default)]
struct Shared {
    bell: Arc<Bell>,
    orders: Mutex<VecDeque<Order>>,
    status: Mutex<Status>,
    /// Nobody wants anything of it any more, or nothing can be done.
    over: AtomicBool,
}

/// How the copies stand.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Status {
    /// They were brought together once.
    pub begun: bool,
    /// Something is being carried over.
    pub busy: bool,
    /// Files, directories and links that both have.
    pub entries: usize,
    /// What both sides changed.
    pub conflicts: BTreeMap<RootPath, Conflict>,
    /// What cannot be carried over, and why.
    pub troubles: BTreeMap<RootPath, String>,
    /// Nothing is carried over, and why.
    pub halted: Option<String>,
    /// One of the copies is not there any more, and why.
    pub gone: Option<String>,
}

impl Status {
    /// Whether both have the same now.
    pub fn in_step(&self) -> bool {
        self.begun && !self.busy && self.conflicts.is_empty() && self.troubles.is_empty() && self.halted.is_none()
    }
}

type Answer = mpsc::Sender<Result<(), String>>;

#[derive(Debug)]
enum Order {
    Flush(Answer),
    Settle(RootPath, Side, Answer),
    End(Answer),
}

impl Pair {
    /// Brings two copies together, whose ends come in the order outside, inside; the base is kept in a file.
    ///
    /// # Errors
    /// When there is no thread for it, or the base cannot be written.
    pub fn begin(outside: UnixStream, inside: UnixStream, base: PathBuf) -> io::Result<Self> {
        // From here on something may be changed that is not carried over yet, however this ends.
        if let Some(before) = Base::read(&base).filter(|base| base.in_step) {
            Base { in_step: false, ..before }.write(&base)?;
        }
        let shared = Arc::new(Shared::default());
        let outside = Far::new(outside, Arc::clone(&shared.bell))?;
        let inside = Far::new(inside, Arc::clone(&shared.bell))?;
        let work = Work {
            shared: Arc::clone(&shared),
            outside,
            inside,
            file: base,
            base: Base::default(),
            failed: BTreeMap::new(),
            again: None,
            tries: BTreeMap::new(),
            written: None,
        };
        let thread = thread::Builder::new().name("synced".to_owned()).spawn(move || work.run())?;
        Ok(Self { shared, thread: Mutex::new(Some(thread)) })
    }

    /// How they stand.
    pub fn status(&self) -> Status {
        locked(&self.shared.status).clone()
    }

    fn order(&self, limit: Duration, order: impl FnOnce(Answer) -> Order) -> Result<(), String> {
        let (answer, answered) = mpsc::channel();
        locked(&self.shared.orders).push_back(order(answer));
        self.shared.bell.ring();
        if self.shared.over.load(Ordering::SeqCst) {
            return Err(self.status().gone.unwrap_or_else(|| "it is over".to_owned()));
        }
        answered.recv_timeout(limit).unwrap_or_else(|error| {
            Err(match error {
                mpsc::RecvTimeoutError::Timeout => "it takes too long".to_owned(),
                mpsc::RecvTimeoutError::Disconnected => {
                    self.status().gone.unwrap_or_else(|| "one of the sides is gone".to_owned())
                }
            })
        })
    }

    /// Returns when everything that had changed before is carried over, as far as it can be.
    ///
    /// # Errors
    /// When a side is gone, or it takes longer than `limit`.
    pub fn flush(&self, limit: Duration) -> Result<(), String> {
        self.order(limit, Order::Flush)
    }

    /// Has one side count wherever both changed something at this path or below it.
    ///
    /// # Errors
    /// When nothing is in conflict there, a side is gone, or it takes longer than `limit`.
    pub fn settle(&self, path: RootPath, side: Side, limit: Duration) -> Result<(), String> {
        self.order(limit, |answer| Order::Settle(path, side, answer))
    }

    /// Brings them together a last time, and writes down what they have. How they stand then.
    ///
    /// # Errors
    /// When a side is gone, or it takes longer than `limit`.
    pub fn end(&self, limit: Duration) -> Result<Status, String> {
        self.order(limit, Order::End)?;
        locked(&self.thread).take().map(thread::JoinHandle::join);
        Ok(self.status())
    }
}

impl Drop for Pair {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::SeqCst);
        self.shared.bell.ring();
    }
}

struct Work {
    shared: Arc<Shared>,
    outside: Far,
    inside: Far,
    file: PathBuf,
    base: Base,
    /// Changes that failed, and why; tried again from time to time.
    failed: BTreeMap<RootPath, String>,
    again: Option<Instant>,
    /// How often something was in the way of a change that nobody told.
    tries: BTreeMap<RootPath, u32>,
    /// When the base is to be written.
    written: Option<Instant>,
}

impl Work {
    fn run(mut self) {
        while !self.shared.over.load(Ordering::SeqCst) {
            let mut orders: VecDeque<_> = std::mem::take(&mut *locked(&self.shared.orders));
            let error = self.step(&mut orders).err().map(|error| error.to_string());
            let gone = [&self.outside, &self.inside].iter().find_map(|side| side.mirror().gone.clone());
            if let Some(gone) = gone.or(error) {
                self.tell(|status| (status.busy, status.gone) = (false, Some(gone)));
                self.shared.over.store(true, Ordering::SeqCst);
                // Whoever waits is told by that.
                return locked(&self.shared.orders).clear();
            }
            for order in orders {
                match order {
                    Order::Flush(answer) => drop(answer.send(Ok(()))),
                    Order::Settle(path, side, answer) => {
                        let outcome = self.settle(&path, side);
                        let _ = answer.send(outcome);
                    }
                    Order::End(answer) => {
                        let written = self.write(true).map_err(|error| error.to_string());
                        self.shared.over.store(true, Ordering::SeqCst);
                        let _ = answer.send(written);
                        return;
                    }
                }
            }
            let next = [self.again, self.written].into_iter().flatten().min();
            self.shared.bell.wait(next);
        }
    }

    fn tell(&self, how: impl FnOnce(&mut Status)) {
        how(&mut locked(&self.shared.status));
    }

    fn of(&self, side: Side) -> &Far {
        match side {
            Side::Outside => &self.outside,
            Side::Inside => &self.inside,
        }
    }

    fn is_begun(&self) -> bool {
        locked(&self.shared.status).begun
    }

    fn step(&mut self, orders: &mut VecDeque<Order>) -> io::Result<()> {
        let is_listed = |side: &Far| side.mirror().listed.is_some();
        if !is_listed(&self.outside) || !is_listed(&self.inside) {
            // Orders wait until both have told what they have.
            let waiting = std::mem::take(orders);
            locked(&self.shared.orders).extend(waiting);
            return Ok(());
        }
        if !self.is_begun() {
            self.read_base();
        }
        if orders.iter().any(|order| matches!(order, Order::Flush(_) | Order::End(_))) {
            self.outside.ask_ready(&Ask::Flush)?;
            self.inside.ask_ready(&Ask::Flush)?;
        }
        self.bring_together()?;
        if self.written.is_some_and(|at| at <= Instant::now()) {
            self.write(false)?;
        }
        Ok(())
    }

    /// What is known of earlier: nothing, when it was of other copies.
    fn read_base(&mut self) {
        let [outside, inside] =
            [&self.outside, &self.inside].map(|side| side.mirror().listed.clone().unwrap_or_default());
        let copies = [outside, inside];
        let known = Base::read(&self.file).filter(|base| base.copies == copies);
        self.base = known.unwrap_or_else(|| Base { copies, ..Base::default() });
        let has_files = |entries: &Entries| entries.values().any(|entry| !entry.what.is_directory());
        for (side, word) in [(&self.outside, "outside"), (&self.inside, "inside")] {
            let mut mirror = side.mirror();
            mirror.touched.insert(RootPath::root());
            let all_gone = has_files(&self.base.entries) && !has_files(&mirror.entries);
            if all_gone && mirror.troubles.is_empty() {
                let why = format!("every file is gone {word}, and they are not removed on the other side for that");
                self.tell(|status| status.halted = Some(why));
            }
        }
    }

    /// Carries over what is otherwise until nothing is.
    fn bring_together(&mut self) -> io::Result<()> {
        if locked(&self.shared.status).halted.is_some() {
            return Ok(());
        }
        if self.again.is_some_and(|at| at <= Instant::now()) {
            self.again = None;
            let failed = std::mem::take(&mut self.failed);
            self.outside.mirror().touched.extend(failed.into_keys());
        }
        for round in 0..=ROUNDS {
            let Some(plan) = self.plan() else { break };
            for (path, entry) in plan.agreed {
                if self.base.entries.get(&path) != entry.as_ref() {
                    self.written.get_or_insert_with(|| Instant::now() + WRITTEN);
                    match entry {
                        Some(entry) => drop(self.base.entries.insert(path, entry)),
                        None => drop(self.base.entries.remove(&path)),
                    }
                }
            }
            if plan.changes.is_empty() {
                continue;
            }
            if round == ROUNDS {
                // Somebody works against us; they may be done in a moment.
                self.again.get_or_insert_with(|| Instant::now() + RETRY);
                self.outside.mirror().touched.extend(plan.changes.into_iter().map(|change| change.path));
                break;
            }
            self.tell(|status| status.busy = true);
            let (inside, outside): (Vec<_>, Vec<_>) =
                plan.changes.into_iter().partition(|change| change.side == Side::Inside);
            for (side, changes) in [(Side::Inside, inside), (Side::Outside, outside)] {
                let outcomes = carry(changes, self.of(side.other()), self.of(side))?;
                for (change, outcome) in outcomes {
                    match outcome {
                        None => {}
                        Some(Outcome::Made) => drop(self.tries.remove(&change.path)),
                        Some(Outcome::Holds) => self.stays(&change),
                        Some(Outcome::Failed(why)) => self.fails(change.path, why),
                        Some(Outcome::Otherwise) => {
                            // What was told instead leads to another plan; when nothing was, something is in the way.
                            let is_unchanged = {
                                let there = &self.of(side).mirror().entries;
                                let way = change.path.parent().filter(|parent| !parent.is_root());
                                there.get(&change.path) == change.expected.as_ref()
                                    && way.is_none_or(|way| there.contains_key(&way))
                            };
                            if is_unchanged {
                                self.try_again(change.path);
                            }
                        }
                    }
                }
            }
        }
        let troubles = [&self.outside, &self.inside].map(|side| side.mirror().troubles.clone());
        let failed = self.failed.clone();
        let entries = self.base.entries.len();
        self.tell(|status| {
            (status.begun, status.busy, status.entries) = (true, false, entries);
            status.troubles = troubles.into_iter().flatten().chain(failed).collect();
        });
        Ok(())
    }

    /// What follows from what has become otherwise; nothing when nothing has.
    fn plan(&mut self) -> Option<Plan> {
        let (mut outside, mut inside) = (self.outside.mirror(), self.inside.mirror());
        let mut touched = std::mem::take(&mut outside.touched);
        touched.append(&mut inside.touched);
        if touched.is_empty() {
            return None;
        }
        let known = Known { base: &self.base.entries, outside: &outside.entries, inside: &inside.entries };
        let mut plan = plan(known, &touched);
        // What failed a moment ago fails again: it waits. What cannot be read is neither there nor gone.
        let troubled: Vec<_> = outside.troubles.keys().chain(inside.troubles.keys()).collect();
        let is_known = |path: &RootPath| !troubled.iter().any(|trouble| path.lies_in(trouble));
        plan.changes.retain(|change| !self.failed.contains_key(&change.path) && is_known(&change.path));
        plan.agreed.retain(|(path, _)| is_known(path));
        plan.conflicts.retain(|path, _| is_known(path));
        drop((outside, inside));
        self.tell(|status| {
            status.conflicts.retain(|path, _| !touched.iter().any(|top| path.lies_in(top)));
            status.conflicts.append(&mut plan.conflicts);
        });
        Some(plan)
    }

    fn fails(&mut self, path: RootPath, why: String) {
        self.failed.insert(path, why);
        self.again.get_or_insert_with(|| Instant::now() + RETRY);
    }

    /// Something was in the way for a moment, or is for longer.
    fn try_again(&mut self, path: RootPath) {
        let tries = self.tries.entry(path.clone()).or_default();
        *tries += 1;
        if *tries < TRIES {
            self.outside.mirror().touched.insert(path);
        } else {
            self.tries.remove(&path);
            self.fails(path, "something that does not cross is in its place".to_owned());
        }
    }

    /// A directory with something that does not cross is not removed, so the other side has it again.
    fn stays(&mut self, change: &Change) {
        if change.wanted.is_some() {
            return self
                .fails(change.path.clone(), "a directory with files that do not cross is in its place".to_owned());
        }
        self.base.entries.remove(&change.path);
        self.of(change.side).mirror().touched.insert(change.path.clone());
    }

    /// Has a side count: what the other one has is taken for what both had, so that it was not changed there.
    fn settle(&mut self, path: &RootPath, side: Side) -> Result<(), String> {
        let halted = locked(&self.shared.status).halted.is_some();
        if halted && !path.is_root() {
            return Err("nothing is carried over at all; settle the whole folder first".to_owned());
        }
        let is_meant = |conflict: &RootPath| conflict.lies_in(path) || path.lies_in(conflict);
        if !halted && !locked(&self.shared.status).conflicts.keys().any(is_meant) {
            return Err("both sides have not changed anything there".to_owned());
        }
        let conflicts: BTreeSet<_> = if halted {
            BTreeSet::from([RootPath::root()])
        } else {
            locked(&self.shared.status).conflicts.keys().filter(|conflict| is_meant(conflict)).cloned().collect()
        };
        {
            let loser = if side == Side::Outside { &self.inside } else { &self.outside };
            let mut mirror = loser.mirror();
            for conflict in &conflicts {
                remove(&mut self.base.entries, conflict);
                let there: Vec<_> =
                    subtree(&mirror.entries, conflict).map(|(path, entry)| (path.clone(), entry.clone())).collect();
                self.base.entries.extend(there);
                mirror.touched.insert(conflict.clone());
            }
        }
        self.tell(|status| status.halted = None);
        self.bring_together().map_err(|error| error.to_string())
    }

    /// Writes the base, once both have on their disks what it says.
    fn write(&mut self, is_end: bool) -> io::Result<()> {
        self.written = None;
        if !self.is_begun() {
            return Ok(());
        }
        let ask = if is_end { Ask::Finish } else { Ask::Persist };
        self.outside.ask_ready(&ask)?;
        self.inside.ask_ready(&ask)?;
        // While something goes on, the next moment may be another one.
        self.base.in_step = is_end && locked(&self.shared.status).in_step();
        self.base.write(&self.file)
    }
}
