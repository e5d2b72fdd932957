//! What of a project runs now, held against its spec: services, mounts, environment, names, network, limits.
//!
//! What is a member's own, such as the ports outside that were free, is told and never counts.

use std::collections::BTreeMap;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::path::shown;
use cavrith_core::seal::Seal;
use cavrith_core::spec::{Limits, Network};
use cavrith_core::verdict::{Aspect, Difference, NOTHING, count};
use cavrith_engine::context::BuildContext;
use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_keeper::protocol::{Phase, Status};
use cavrith_keeper::record::Standing;
use cavrith_sandbox::groups::GroupLimits;
use cavrith_sandbox::job::Task;

use super::{ENVIRONMENT, mounted};
use crate::{WorkspaceError, copying, lifecycle};

/// The aspect of a workspace that runs; nothing of one that does not.
pub(super) fn aspect(context: BuildContext<'_>, place: &Place, seal: &Seal) -> Option<Aspect> {
    let client = Client::new(place)?;
    let name = if place.named { format!("running as {}", place.name) } else { "running".to_owned() };
    let status = match client.status() {
        Ok(status) => status,
        Err(error) => {
            let unmeasured = vec![error.to_string()];
            return Some(Aspect { unmeasured, ..Aspect::new(name, NOTHING, Vec::new()) });
        }
    };
    let runs = &status.arrangement;
    let pending = lifecycle::pending(context.store, place, runs);
    let mut differences: Vec<_> =
        pending.changes.into_iter().map(|change| Difference::new(change.what, change.wanted, change.runs)).collect();
    let mut unmeasured: Vec<String> = pending.unclear.into_iter().collect();
    differences.extend(services(&status));
    differences.extend(ports(&status));
    if status.standing == Standing::Frozen {
        unmeasured.push("it is frozen, and answers nothing".to_owned());
    } else {
        match Inside::read(place) {
            Ok(inside) => {
                differences.extend(inside.differences(runs, seal));
                differences.extend(limits(&status, &inside));
            }
            Err(error) => unmeasured.push(error.to_string()),
        }
    }
    Some(Aspect { unmeasured, ..Aspect::new(name, measured(&status), differences) })
}

/// What was examined, and what is the member's own.
fn measured(status: &Status) -> String {
    let runs = &status.arrangement;
    let moved = status.ports.iter().filter(|port| port.outside != port.wanted);
    let moved: Vec<_> = moved.map(|port| format!("{} at {}", port.name, port.outside)).collect();
    let mut programs: Vec<_> = status.left.iter().map(|one| shown(one.program.as_bytes())).collect();
    programs.dedup();
    let own: Vec<_> = moved.into_iter().chain(programs.into_iter().map(|one| format!("{one} by hand"))).collect();
    let own = if own.is_empty() { String::new() } else { format!("; your own: {}", own.join(", ")) };
    format!(
        "{}, {}, {}, environment, network, limits{own}",
        count(runs.services.len(), "service"),
        count(runs.ports.len(), "port"),
        count(runs.folders.len(), "mount"),
    )
}

/// Services that should run and do not.
fn services(status: &Status) -> Vec<Difference> {
    let down = status.services.iter().filter(|service| matches!(service.phase, Phase::Failed | Phase::Pausing));
    down.map(|service| {
        let detail = if service.detail.is_empty() { String::new() } else { format!(": {}", service.detail) };
        let here = format!("{}{detail}", service.phase.words());
        Difference::new(format!("service {}", service.name), "to run", here)
    })
    .collect()
}

/// Ports of the spec that nobody outside can reach.
fn ports(status: &Status) -> Vec<Difference> {
    let lost = status.arrangement.ports.iter().filter(|port| !status.ports.iter().any(|one| one.name == port.name));
    lost.map(|port| {
        Difference::new(format!("port {}", port.name), format!("{} of the inside", port.inside), "not carried")
    })
    .collect()
}

/// What the kernel says inside, as the account.
struct Inside {
    env: BTreeMap<String, String>,
    mounts: String,
    host_name: String,
    interfaces: String,
    process_limits: String,
    processors: usize,
}

impl Inside {
    fn read(place: &Place) -> Result<Self, WorkspaceError> {
        let ask = |task: Task, what: &str| {
            let gone = || cavrith_keeper::KeeperError::Gone { name: place.name.clone() };
            copying::answer(Client::new(place).ok_or_else(gone)?, task, what)
        };
        let read = |path: &str| ask(Task::Read(path.to_owned()), path);
        let env = ask(Task::Environment, ENVIRONMENT)?;
        let pairs = env.split('\0').filter_map(|pair| pair.split_once('='));
        let status = read("/proc/self/status")?;
        let processors = status.lines().find_map(|line| line.strip_prefix("Cpus_allowed:"));
        let bits = |text: &str| text.chars().filter_map(|digit| digit.to_digit(16)).map(u32::count_ones).sum::<u32>();
        Ok(Self {
            env: pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).collect(),
            mounts: read("/proc/self/mountinfo")?,
            host_name: read("/proc/sys/kernel/hostname")?.trim_end().to_owned(),
            interfaces: read("/proc/net/dev")?,
            process_limits: read("/proc/self/limits")?,
            processors: processors.map_or(0, bits) as usize,
        })
    }

    fn differences(&self, runs: &Arrangement, seal: &Seal) -> Vec<Difference> {
        let mut found = Vec::new();
        for (name, value) in &seal.setup.env {
            let here = self.env.get(name);
            if here != Some(value) {
                let here = here.map_or(NOTHING, String::as_str);
                found.push(Difference::new(format!("variable {name}"), value.clone(), here));
            }
        }
        let there = mounted(&self.mounts, &seal.setup.folders);
        for folder in seal.setup.folders.iter().filter(|folder| !there.contains(folder)) {
            found.push(Difference::new(format!("folder {folder}"), "mounted", "not mounted"));
        }
        if self.host_name != seal.setup.host_name {
            found.push(Difference::new("host name", seal.setup.host_name.clone(), self.host_name.clone()));
        }
        // Two lines of heading, then one for each interface (proc_pid_net(5)).
        let names = self.interfaces.lines().skip(2).filter_map(|line| line.split(':').next()).map(str::trim);
        let others: Vec<_> = names.filter(|name| *name != "lo").collect();
        if runs.network == Network::None && !others.is_empty() {
            found.push(Difference::new("network", "the loopback only", others.join(", ")));
        }
        found
    }

    /// A limit of single processes (proc_pid_limits(5)), the soft one.
    fn process_limit(&self, name: &str) -> Option<u64> {
        let line = self.process_limits.lines().find_map(|line| line.strip_prefix(name))?;
        line.split_whitespace().next()?.parse().ok()
    }
}

/// Limits that do not hold as the spec has them: neither for all together, nor, where no group can be made, for each
/// process.
fn limits(status: &Status, inside: &Inside) -> Vec<Difference> {
    let Limits { memory, cpus, processes } = status.arrangement.limits;
    // An older keeper does not say.
    let Some(GroupLimits { memory: held_memory, cpus: held_cpus, processes: held_processes }) = status.held else {
        return Vec::new();
    };
    let mut found = Vec::new();
    let mut compare = |what: &str, wanted: Option<u64>, here: Option<u64>| {
        if let Some(wanted) = wanted.filter(|wanted| here != Some(*wanted)) {
            let here = here.map_or("no limit".to_owned(), |here| here.to_string());
            found.push(Difference::new(format!("limit of {what}"), wanted.to_string(), here));
        }
    };
    // The kernel counts in pages.
    let pages = |bytes: u64| bytes >> 12;
    let memory_here = held_memory.or_else(|| inside.process_limit("Max address space"));
    compare("memory, in pages", memory.map(pages), memory_here.map(pages));
    let bound = Some(inside.processors as u64).filter(|_| held_cpus.is_none());
    let wanted_cpus = cpus.map(|wanted| match bound {
        // A machine with fewer has no more to give.
        Some(bound) => u64::from(wanted).min(bound.max(1)),
        None => u64::from(wanted),
    });
    compare("processors", wanted_cpus, held_cpus.map(u64::from).or(bound));
    let processes_here = held_processes.map(u64::from).or_else(|| inside.process_limit("Max processes"));
    compare("processes", processes.map(u64::from), processes_here);
    found
}
