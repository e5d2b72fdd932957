//! What runs in a workspace, as a spec and its lock describe it.

use super::runtime::{plain, services, steps};
use crate::arrangement::{Arrangement, FolderPart, MachinePart, Place, PortPart};
use crate::digest::ImageFingerprint;
use crate::lock::Lock;
use crate::setup::Setup;
use crate::spec::{Port, Side, Spec, Target};

fn port(port: &Port) -> PortPart {
    PortPart {
        name: port.name.value.clone(),
        inside: port.inside.value,
        outside: port.outside.value,
        count: port.count,
        exact: port.exact,
        protocol: port.protocol,
        bind: port.bind.as_ref().map(|bind| bind.value),
        open: port.open,
    }
}

impl Arrangement {
    /// What a spec and its lock say of a workspace over an image whose account has this shell.
    pub fn new(spec: &Spec, lock: &Lock, image: ImageFingerprint, shell: &str) -> Self {
        let mut folders: Vec<_> = spec
            .folders
            .iter()
            .map(|folder| {
                let mut except: Vec<_> =
                    folder.except.iter().map(|path| crate::path::shown(path.value.as_bytes())).collect();
                // What lies in another one is mounted after it.
                except.sort();
                let place = match &folder.side {
                    Side::Live(outside) => Place::Live(outside.value.clone()),
                    Side::Synced { outside, ignore } => Place::Synced(
                        outside.value.clone(),
                        ignore.iter().map(|pattern| pattern.value.clone()).collect(),
                    ),
                    Side::Kept { name, owner } => {
                        Place::Kept(name.value.clone(), owner.as_ref().map(|owner| owner.value.clone()))
                    }
                };
                FolderPart { inside: folder.inside.value.to_string(), place, except }
            })
            .collect();
        folders.sort_by(|one, other| one.inside.cmp(&other.inside));
        Self {
            variant: spec.variant.clone(),
            about: spec.workspace.about.clone().unwrap_or_default(),
            image,
            setup: Setup::new(spec, lock, shell),
            folders,
            ports: spec.ports.iter().map(port).collect(),
            steps: steps(spec),
            services: services(spec),
            secrets: plain(&spec.secrets),
            names: plain(&spec.names),
            limits: spec.limits,
            network: spec.workspace.network,
            machine: (spec.workspace.target == Target::Machine).then(|| machine(spec, false)).flatten(),
            fresh_home: spec.workspace.fresh_home,
        }
    }

    /// Has it run in the machine that its spec describes, by the member's choice; false when it describes none.
    pub fn choose_machine(&mut self, spec: &Spec) -> bool {
        if self.machine.is_none() {
            self.machine = machine(spec, true);
        }
        self.machine.is_some()
    }

    /// Keeps the choice that its member made for what runs, or ran last.
    pub fn choose_as(&mut self, earlier: &Self, spec: &Spec) {
        if earlier.machine.as_ref().is_some_and(|machine| machine.chosen) {
            self.choose_machine(spec);
        }
    }
}

fn machine(spec: &Spec, chosen: bool) -> Option<MachinePart> {
    let machine = spec.machine.as_ref()?;
    let kernel = machine.kernel.value.clone();
    Some(MachinePart { kernel, memory: machine.memory, cpus: machine.cpus, verity: machine.verity, chosen })
}
