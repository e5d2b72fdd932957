//! A workspace's state: reported, frozen and thawed, changed while it runs.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::ImageKey;
use cavrith_sandbox::job::Listening;

use crate::names;
use crate::namespaces::{group_limits, keep_limits};
use crate::protocol::Status;
use crate::record::{Stamp, Standing};
use crate::synced::Synced;
use crate::work::Keeper;
use cavrith_sandbox::locked;

/// How everything is halted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Frozen {
    /// It is not.
    Not,
    /// It stays in memory.
    InMemory,
    /// It lies on the disk.
    OnDisk,
}

impl Keeper {
    /// Halts everything inside, or lets it go on. The caller holds [`Keeper::turn`].
    pub fn freeze(&self, how: Frozen) -> Result<Option<String>, String> {
        let frozen = how != Frozen::Not;
        let done = if how == Frozen::OnDisk { self.runtime.suspend() } else { self.runtime.freeze(frozen) };
        done.map_err(|error| error.to_string())?;
        self.change(|state| state.standing = if frozen { Standing::Frozen } else { Standing::Running });
        let note =
            "every process was stopped by a signal, since no control group can be made here; shells inside may notice";
        Ok((frozen && !self.runtime.kept().freezing).then(|| note.to_owned()))
    }

    /// Ports, names, limits and variables as a changed arrangement has them.
    pub fn follow_live(&self, arrangement: &Arc<Arrangement>, image_key: ImageKey, stamps: Vec<Stamp>) -> Vec<String> {
        let mut notes = Vec::new();
        let ports = locked(&self.forward).change(&arrangement.ports);
        self.change(|state| state.lacks_port = ports.is_err());
        notes.extend(ports.err().map(|error| error.to_string()));
        let moved = locked(&self.forward).carried().into_iter().filter(|port| port.outside != port.wanted);
        notes.extend(moved.map(|port| {
            format!("the port {} of {} is taken by another program; it is at {}", port.wanted, port.name, port.shown())
        }));
        if let Err(error) =
            self.runtime.write_file(names::INSIDE, &names::inside_text(arrangement, self.personal.links.keys()))
        {
            notes.push(format!("names inside stay as they were: {error}"));
        }
        if let Err(error) = self.runtime.limit(group_limits(arrangement.limits)) {
            notes.push(format!("limits cannot be set: {error}"));
        }
        let (limits, each) = keep_limits(arrangement.limits, self.runtime.kept());
        if each != cavrith_sandbox::job::PerProcessLimits::default() {
            notes.push("limits that are kept by process hold after the next restart".to_owned());
        }
        self.change(|state| {
            state.arrangement = Arc::clone(arrangement);
            (state.image_key, state.stamps, state.limits) = (image_key, stamps, limits);
        });
        notes
    }

    /// The state of everything.
    pub fn status(&self) -> Status {
        let measured = self.runtime.measure();
        let ports = locked(&self.forward).carried();
        let (invited, visitors) = self.visitors.status();
        let door = self.visitors.own_address().map(|address| format!("SSH at {address}, with the key of ssh-config"));
        let synced = self.synced.iter().map(Synced::status).collect();
        let state = self.state();
        let declared = |listening: &Listening| {
            state.arrangement.ports.iter().any(|port| {
                let last = port.inside.saturating_add(port.count.saturating_sub(1));
                (port.protocol == cavrith_core::spec::Protocol::Udp) == listening.udp
                    && (port.inside..=last).contains(&listening.port)
            })
        };
        // Sockets for datagrams are bound by the one who asks for a name, so of those only the small numbers are
        // reported.
        let linked = |port: u16| self.personal.links.values().any(|link| link.port == port);
        let undeclared = measured.listening.iter().filter(|one| one.udp || !linked(one.port));
        let undeclared = undeclared.filter(|one| !declared(one) && (!one.udp || one.port < 32_768));
        let undeclared = undeclared.cloned().collect();
        Status {
            standing: state.standing,
            keeper: std::process::id(),
            since: self.since,
            image: state.arrangement.image,
            arrangement: (*state.arrangement).clone(),
            services: state.services.values().map(|service| service.status.clone()).collect(),
            ports,
            undeclared,
            left: measured.left,
            memory: measured.memory,
            cpu_millis: measured.cpu_millis,
            processes: measured.processes,
            guests: self.guests.load(Ordering::SeqCst),
            failed_step: state.failed_step.clone(),
            network: self.network.clone(),
            limits: state.limits.clone(),
            held: Some(measured.held),
            notes: state.notes.clone(),
            first_done: state.first_done.clone(),
            personal: self.personal.what.iter().cloned().chain(door).collect(),
            synced,
            invited,
            visitors,
        }
    }
}
