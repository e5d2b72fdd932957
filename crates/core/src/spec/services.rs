//! What makes a workspace live: services, steps of its start, names, limits.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::document::Span;
use super::reader::{Reader, TableAt};
use super::steps::{Link, command, waiting_in_a_circle};
use super::{At, Run, Step, parse, rules, variables};
use crate::mistake::{Code, Mistake, nearest};
use crate::path::RootPath;

/// Seconds that a service has to become ready when nothing is said.
const READY_LIMIT: u64 = 60;
/// Milliseconds between looking whether a service is ready when nothing is said.
const READY_EVERY: u64 = 200;
/// Seconds that a service has to end when nothing is said.
const GRACE: u64 = 10;
/// Services that a spec may have.
const MOST: usize = 100;

/// Whether a workspace reaches other machines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Network {
    /// It does, as a program of the member does outside.
    Out,
    /// It has a loopback only.
    None,
}

/// What a port carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Protocol {
    /// Connections (RFC 9293).
    Tcp,
    /// Datagrams (RFC 768).
    Udp,
}

impl std::fmt::Display for Protocol {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        })
    }
}

/// When a service that ended by itself is started again.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Restart {
    /// However it ended.
    Always,
    /// When it ended with another code than 0, or by a signal.
    OnFailure,
    /// Never.
    Never,
}

/// How a service is known to be ready.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Check {
    /// Something takes connections on this port inside.
    Port(u16),
    /// This path is there inside.
    File(String),
    /// This command succeeds.
    Command(Vec<String>),
}

/// `services.*.ready`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ready {
    /// How to tell.
    pub check: Check,
    /// Milliseconds between looking.
    pub every: u64,
    /// Seconds that it may take.
    pub limit: u64,
}

/// One entry of `[services]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Service {
    /// What runs.
    pub run: At<Run>,
    /// Who it runs as; the workspace's account when left out.
    pub account: Option<At<String>>,
    /// Where it is started; the project's folder when left out.
    pub directory: Option<At<RootPath>>,
    /// Variables of it only, with what they refer to filled in.
    pub env: BTreeMap<String, At<String>>,
    /// Services and steps that come first.
    pub after: Vec<At<String>>,
    /// How it is known to be ready; when nothing is said, it is as soon as it runs.
    pub ready: Option<Ready>,
    /// When it is started again.
    pub restart: Restart,
    /// The name of the signal that asks it to end, without `SIG`.
    pub signal: String,
    /// Seconds until it is killed.
    pub grace: u64,
}

/// When a step of a workspace's start is run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Moment {
    /// Once over an image.
    FirstStart,
    /// At every start.
    Start,
}

/// A step of a workspace's start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StartStep {
    /// The step; its `after` names services only, since the steps are in their order.
    pub step: Step,
    /// When.
    pub moment: Moment,
}

/// `[limits]`: what a running workspace may use of the machine.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// Bytes of memory.
    pub memory: Option<u64>,
    /// Processors' time.
    pub cpus: Option<u32>,
    /// Processes and threads at once.
    pub processes: Option<u32>,
}

impl Limits {
    /// True when nothing is limited.
    pub fn is_empty(self) -> bool {
        self == Self::default()
    }
}

pub(super) fn read(
    reader: &mut Reader<'_>,
    top: &TableAt<'_>,
    env: &BTreeMap<String, At<String>>,
) -> BTreeMap<String, At<Service>> {
    let mut services = BTreeMap::new();
    let Some(table) = reader.subtable(top, "services", "services") else {
        return services;
    };
    for entry in table.entries() {
        let span = entry.name_span.clone();
        rules::host_name(reader, "service", &At { value: entry.name.clone(), span: span.clone() });
        let Some(inner) = reader.table_of(entry, "services.*") else { continue };
        if let Some(value) = read_one(reader, &inner, env) {
            services.insert(entry.name.clone(), At { value, span });
        }
    }
    if services.len() > MOST {
        let message = format!("there are {} services, and a spec may have {MOST}", services.len());
        reader.push(Mistake::new(Code::NOT_ALLOWED, table.span(), message, "join some of them"));
    }
    services
}

fn read_one(reader: &mut Reader<'_>, table: &TableAt<'_>, env: &BTreeMap<String, At<String>>) -> Option<Service> {
    let run = command(reader, table, "run").flatten();
    let run = run.and_then(|value| Some(At { span: table.command_span("run")?, value }));
    let account = reader.text(table, "account");
    let directory = reader.text(table, "directory").and_then(|path| rules::inside_path(reader, "directory", path));
    let own = parse::read_env(reader, table, "services.*.env");
    let env = variables::fill_in(&own, env, &mut reader.mistakes);
    let after = reader.texts(table, "after").map(|after| after.value).unwrap_or_default();
    let ready = reader.subtable(table, "ready", "services.*.ready").and_then(|table| read_ready(reader, &table));
    let restart = match reader.text(table, "restart") {
        Some(text) => {
            rules::one_of(reader, "restart", &text, &["always", "on-failure", "never"]);
            match text.value.as_str() {
                "always" => Restart::Always,
                "never" => Restart::Never,
                _ => Restart::OnFailure,
            }
        }
        None => Restart::OnFailure,
    };
    let stop = reader.subtable(table, "stop", "services.*.stop");
    let signal = stop.as_ref().and_then(|stop| reader.text(stop, "signal"));
    if let Some(signal) = &signal {
        rules::one_of(reader, "signal", signal, &["TERM", "INT", "QUIT", "HUP", "USR1", "USR2", "WINCH"]);
    }
    let grace = stop.as_ref().and_then(|stop| reader.text(stop, "grace"));
    let grace = grace.and_then(|grace| rules::limit(reader, grace)).unwrap_or(GRACE);
    let signal = signal.map_or_else(|| "TERM".to_owned(), |signal| signal.value);
    Some(Service { run: run?, account, directory, env, after, ready, restart, signal, grace })
}

fn read_ready(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Ready> {
    let port = reader.number(table, "port").and_then(|port| rules::port(reader, "port", port));
    let file = reader.text(table, "file").and_then(|file| match RootPath::from_absolute(&file.value) {
        Ok(_) => Some(file.value),
        Err(bad) => {
            let message = format!("`file` is not a path inside: {bad}");
            let remedy = "write an absolute path, like \"/run/store/ready\"";
            reader.push(Mistake::new(Code::BAD_INSIDE_PATH, file.span, message, remedy));
            None
        }
    });
    let command = command(reader, table, "command").flatten();
    let every = reader.text(table, "every").and_then(|every| rules::pause(reader, every)).unwrap_or(READY_EVERY);
    let limit = reader.text(table, "limit").and_then(|limit| rules::limit(reader, limit)).unwrap_or(READY_LIMIT);
    let given: Vec<_> = ["port", "file", "command"].into_iter().filter(|key| table.key_span(key).is_some()).collect();
    match given.as_slice() {
        [] => {
            let message = "`ready` does not say how to tell";
            reader.push(Mistake::new(Code::ONE_OF, table.span(), message, "add port, file or command"));
        }
        [_] => {}
        [first, .., last] => rules::only_one_of(reader, table, first, last),
    }
    let check = match (port, file, command) {
        (Some(port), ..) => Check::Port(port.value),
        (_, Some(file), _) => Check::File(file),
        (_, _, Some(command)) => Check::Command(command.argv()),
        _ => return None,
    };
    Some(Ready { check, every, limit })
}

/// Names that stand for the workspace; each is meant for one of its ports.
pub(super) fn read_names(reader: &mut Reader<'_>, top: &TableAt<'_>) -> BTreeMap<String, At<String>> {
    let mut names = BTreeMap::new();
    let Some(table) = reader.subtable(top, "names", "names") else {
        return names;
    };
    for entry in table.entries() {
        rules::full_host_name(reader, &entry.name, &entry.name_span);
        if let Some(port) = reader.text_of("", &entry.name, &entry.node) {
            names.insert(entry.name.clone(), port);
        }
    }
    names
}

pub(super) fn read_limits(reader: &mut Reader<'_>, top: &TableAt<'_>) -> Limits {
    let Some(table) = reader.subtable(top, "limits", "limits") else {
        return Limits::default();
    };
    let memory = reader.text(&table, "memory").and_then(|memory| rules::memory(reader, memory));
    let cpus = reader.number(&table, "cpus").and_then(|cpus| rules::amount(reader, "cpus", cpus, 4096));
    let processes =
        reader.number(&table, "processes").and_then(|number| rules::amount(reader, "processes", number, 4_194_304));
    Limits { memory, cpus, processes }
}

/// Looks for names in `after` that nothing has, and for services and steps that wait for each other.
pub(super) fn order(reader: &mut Reader<'_>, services: &BTreeMap<String, At<Service>>, steps: &[StartStep]) {
    let known: Vec<&str> =
        services.keys().map(String::as_str).chain(steps.iter().map(|step| step.step.name.value.as_str())).collect();
    for step in steps.iter().filter(|step| services.contains_key(&step.step.name.value)) {
        let message = format!("a step and a service have the name {}", step.step.name.value);
        reader.push(Mistake::new(Code::NAME_TWICE, step.step.name.span.clone(), message, "call one of them otherwise"));
    }
    for (name, service) in services {
        for earlier in &service.value.after {
            if earlier.value == *name {
                let message = format!("the service {name} comes after itself");
                let remedy = "leave its own name out";
                reader.push(Mistake::new(Code::SERVICE_CYCLE, earlier.span.clone(), message, remedy));
            } else if !known.contains(&earlier.value.as_str()) {
                unknown(reader, earlier, &known);
            }
        }
    }
    if let Some(way) = circle(services, steps) {
        let links = way.iter().enumerate().map(|(place, (name, span))| {
            let next = way[(place + 1) % way.len()].0;
            let of_service = services.get(*name).map(|service| &service.value.after);
            let of_step = steps.iter().find(|step| step.step.name.value == *name).map(|step| &step.step.after);
            let after = of_service.or(of_step).into_iter().flatten().find(|after| after.value == next);
            Link { name, span: after.map_or_else(|| (*span).clone(), |after| after.span.clone()) }
        });
        let links: Vec<_> = links.collect();
        reader.push(waiting_in_a_circle(Code::SERVICE_CYCLE, "services", &links));
    }
}

/// Says that nothing has a name.
pub(super) fn unknown(reader: &mut Reader<'_>, named: &At<String>, known: &[&str]) {
    let remedy = match nearest(&named.value, known.iter().copied()) {
        Some(meant) => format!("write {meant:?}"),
        None => "write the name of a service, or of a step of the start, or leave it out".to_owned(),
    };
    let message = format!("there is no service and no step of the start {:?}", named.value);
    reader.push(Mistake::new(Code::UNKNOWN_SERVICE, named.span.clone(), message, remedy));
}

/// A circle among services and steps. A step waits for the one before it.
fn circle<'a>(services: &'a BTreeMap<String, At<Service>>, steps: &'a [StartStep]) -> Option<Vec<(&'a str, &'a Span)>> {
    let mut nodes: Vec<(&str, &Span, Vec<&str>)> = Vec::new();
    for (name, service) in services {
        let after = service.value.after.iter().map(|after| after.value.as_str()).filter(|after| after != name);
        nodes.push((name, &service.span, after.collect()));
    }
    for (number, step) in steps.iter().enumerate() {
        let before = number.checked_sub(1).map(|before| steps[before].step.name.value.as_str());
        let after = step.step.after.iter().map(|after| after.value.as_str());
        nodes.push((&step.step.name.value, &step.step.name.span, after.chain(before).collect()));
    }
    let mut open: Vec<usize> = (0..nodes.len()).collect();
    // What waits for nothing that is left goes; what remains waits for each other.
    loop {
        let waits =
            |number: &usize| nodes[*number].2.iter().any(|after| open.iter().any(|other| nodes[*other].0 == *after));
        let still: Vec<_> = open.iter().copied().filter(waits).collect();
        if still.len() == open.len() {
            break;
        }
        open = still;
    }
    let mut at = *open.first()?;
    let mut way = vec![at];
    while let Some(next) = open.iter().copied().find(|other| nodes[at].2.contains(&nodes[*other].0)) {
        if let Some(begin) = way.iter().position(|met| *met == next) {
            way.drain(..begin);
            break;
        }
        way.push(next);
        at = next;
    }
    Some(way.into_iter().map(|number| (nodes[number].0, nodes[number].1)).collect())
}
