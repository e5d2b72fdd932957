//! Services and steps of the start, as a spec describes them.

use std::collections::BTreeMap;

use crate::arrangement::{ServicePart, StepPart};
use crate::spec::{Action, At, Run, Service, Spec, StartStep};

/// Seconds that a step of the start may take when nothing is said.
const STEP_LIMIT: u64 = 3600;

pub(super) fn plain<T: Clone>(env: &BTreeMap<String, At<T>>) -> BTreeMap<String, T> {
    env.iter().map(|(name, value)| (name.clone(), value.value.clone())).collect()
}

/// The services of a spec.
pub fn services(spec: &Spec) -> BTreeMap<String, ServicePart> {
    let one = |(name, service): (&String, &At<Service>)| {
        let service = &service.value;
        let part = ServicePart {
            argv: service.run.value.argv(),
            account: service.account.as_ref().map(|account| account.value.clone()),
            directory: service.directory.as_ref().map(|directory| directory.value.to_string()),
            env: plain(&service.env),
            after: service.after.iter().map(|after| after.value.clone()).collect(),
            ready: service.ready.clone(),
            restart: service.restart,
            signal: service.signal.clone(),
            grace: service.grace,
        };
        (name.clone(), part)
    };
    spec.services.iter().map(one).collect()
}

/// The steps of a workspace's start.
pub fn steps(spec: &Spec) -> Vec<StepPart> {
    let one = |start: &StartStep| {
        let step = &start.step;
        let Action::Run(run) = &step.action else { return None };
        Some(StepPart {
            name: step.name.value.clone(),
            moment: start.moment,
            argv: run.value.argv(),
            unless: step.unless.as_ref().map(Run::argv),
            creates: step.creates.as_ref().map(|creates| creates.value.to_string()),
            after: step.after.iter().map(|after| after.value.clone()).collect(),
            env: plain(&step.env),
            account: step.account.as_ref().map(|account| account.value.clone()),
            limit: step.limit.unwrap_or(STEP_LIMIT),
        })
    };
    spec.start_steps.iter().filter_map(one).collect()
}
