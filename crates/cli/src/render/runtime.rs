//! How a workspace stands, and what happens in it.

use std::collections::BTreeMap;

use anstyle::Style;
use cavrith_core::derive::changes::{Effort, shown_limits};
use cavrith_core::path::shown;
use cavrith_core::verdict::{count, size};
use cavrith_keeper::place::Place;
use cavrith_keeper::ports::Carried;
use cavrith_keeper::protocol::{Phase, ServiceStatus, Status, WorkspaceEvent};
use cavrith_keeper::record::{FailedStep, Record, Standing, now};
use cavrith_keeper::synced::SyncedStatus;
use cavrith_workspace::lifecycle::Pending;
use indicatif::ProgressBar;
use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::commands::invite::words;
use crate::render::progress::seconds;
use crate::screen::{Screen, styled};

fn local(millis: u64) -> jiff::Zoned {
    let timestamp = i64::try_from(millis).ok().and_then(|millis| Timestamp::from_millisecond(millis).ok());
    timestamp.unwrap_or(Timestamp::UNIX_EPOCH).to_zoned(TimeZone::system())
}

/// When something was: the time of day, with the day when it was not today.
pub fn clock(millis: u64) -> String {
    let (then, today) = (local(millis), local(now()));
    let format = if then.date() == today.date() { "%H:%M:%S" } else { "%d %b %H:%M" };
    then.strftime(format).to_string()
}

/// When a line was written, to the millisecond.
pub fn clock_exact(millis: u64) -> String {
    let (then, today) = (local(millis), local(now()));
    let format = if then.date() == today.date() { "%H:%M:%S%.3f" } else { "%Y-%m-%d %H:%M:%S%.3f" };
    then.strftime(format).to_string()
}

/// How long something is going on.
fn lasting(since: u64) -> String {
    match now().saturating_sub(since) / 1000 {
        seconds @ 0..60 => format!("{seconds} s"),
        seconds @ 60..3600 => format!("{} min", seconds / 60),
        seconds @ 3600..86_400 => format!("{} h {} min", seconds / 3600, seconds / 60 % 60),
        seconds => format!("{} d {} h", seconds / 86_400, seconds / 3600 % 24),
    }
}

pub fn standing_style(screen: &Screen, standing: Standing) -> Style {
    match standing {
        Standing::Running => screen.out.good,
        Standing::Starting | Standing::Stopping | Standing::Frozen => screen.out.warning,
        Standing::Killed | Standing::Fallen | Standing::MachineRestarted => screen.out.bad,
        Standing::New | Standing::Stopped => screen.out.faint,
    }
}

/// A line of a status: what it is about, in a column of its own, and the text.
fn line(screen: &Screen, about: &str, text: impl std::fmt::Display) {
    screen.result(format_args!("  {} {text}", styled(screen.out.faint, format_args!("{about:9}"))));
}

/// A port, and where it is reached.
pub fn port(screen: &Screen, port: &Carried) -> String {
    let taken = if port.outside == port.wanted { String::new() } else { format!(" ({} is taken)", port.wanted) };
    let last = match port.count {
        0 | 1 => String::new(),
        count => format!("-{}", port.inside.saturating_add(count - 1)),
    };
    let protocol = if port.protocol == cavrith_core::spec::Protocol::Udp { " udp" } else { "" };
    format!(
        "port {}{protocol}: {}{taken} → {}{last} inside",
        styled(screen.out.strong, &port.name),
        port.shown(),
        port.inside
    )
}

/// How a synced folder stands.
pub fn synced_line(screen: &Screen, synced: &SyncedStatus) -> String {
    let fine = synced.state == "in step" || synced.state == "copying";
    let state = styled(if fine { screen.out.good } else { screen.out.bad }, &synced.state);
    let more = match synced.state.as_str() {
        "conflicts" => format!(": both sides changed {}; see cavrith folder synced", count(synced.conflicts, "path")),
        "trouble" => format!(": {} not carried over; see cavrith folder synced", count(synced.troubles.len(), "path")),
        "halted" | "gone" => format!(": {}", synced.why.as_deref().unwrap_or_default()),
        _ => format!(", {}", count(synced.entries, "path")),
    };
    format!("{state}{more}")
}

pub fn status(screen: &Screen, place: &Place, status: &Status) {
    screen.result(format_args!(
        "{}  {} since {} ({})",
        styled(screen.out.strong, &place.name),
        styled(standing_style(screen, status.standing), status.standing.words()),
        clock(status.since),
        lasting(status.since),
    ));
    line(screen, "image", status.image.spoken());
    line(screen, "project", place.project.display());
    let mut about = "services";
    for service in &status.services {
        line(screen, about, service_line(screen, service));
        about = "";
    }
    about = "ports";
    for one in &status.ports {
        line(screen, about, port(screen, one).trim_start_matches("port "));
        about = "";
    }
    for part in &status.arrangement.ports {
        if !status.ports.iter().any(|port| port.name == part.name) {
            let name = styled(screen.out.strong, &part.name);
            let text = format!("{name}: {}; cavrith apply tries again", styled(screen.out.bad, "not carried"));
            line(screen, about, text);
            about = "";
        }
    }
    for one in &status.undeclared {
        let program = if one.program.is_empty() { "something".to_owned() } else { shown(one.program.as_bytes()) };
        let kind = if one.udp { "/udp" } else { "" };
        line(
            screen,
            about,
            format_args!(
                "{} {}{kind}: {program} listens inside, and the spec does not name it; to reach it outside, add",
                styled(screen.out.warning, "undeclared"),
                one.port
            ),
        );
        line(screen, "", "    [[ports]]");
        line(screen, "", format_args!("    name     = \"{}\"", plain_name(&one.program, one.port)));
        line(screen, "", format_args!("    inside   = {}", one.port));
        if one.udp {
            line(screen, "", "    protocol = \"udp\"");
        }
        about = "";
    }
    if !status.left.is_empty() {
        let mut programs: Vec<_> = status.left.iter().map(|one| shown(one.program.as_bytes())).collect();
        programs.dedup();
        line(
            screen,
            "by hand",
            format_args!("{} left running: {}", count(programs.len(), "program"), programs.join(", ")),
        );
    }
    about = "folders";
    for folder in &status.arrangement.folders {
        let place = folder.place.words();
        let except =
            if folder.except.is_empty() { String::new() } else { format!(" except {}", folder.except.join(", ")) };
        line(screen, about, format_args!("{}  {place}{except}", styled(screen.out.strong, &folder.inside)));
        about = "";
        if let Some(synced) = status.synced.iter().find(|synced| synced.inside == folder.inside) {
            line(screen, "", synced_line(screen, synced));
        }
    }
    if !status.arrangement.names.is_empty() {
        let names: Vec<_> = status.arrangement.names.iter().map(|(name, port)| format!("{name} ({port})")).collect();
        line(screen, "names", names.join(", "));
    }
    line(screen, "uses", used(status));
    line(screen, "network", &status.network);
    about = "personal";
    for part in &status.personal {
        line(screen, about, part);
        about = "";
    }
    about = "limits";
    for limit in &status.limits {
        line(screen, about, limit);
        about = "";
    }
    if status.limits.is_empty() && !status.arrangement.limits.is_empty() {
        line(screen, "limits", shown_limits(status.arrangement.limits));
    }
    about = "invited";
    for invitation in &status.invited {
        let there = status.visitors.iter().filter(|visitor| visitor.name == invitation.name).count();
        let there = match there {
            0 => String::new(),
            _ => format!("; {}", styled(screen.out.warning, "is there now")),
        };
        let name = styled(screen.out.strong, &invitation.name);
        line(screen, about, format_args!("{name} {}{there}", words(invitation)));
        about = "";
    }
    for note in &status.notes {
        line(screen, "note", note);
    }
    if let Some(failed) = &status.failed_step {
        failed_step(screen, failed);
    }
}

/// A name for a port, from what listens on it.
fn plain_name(program: &str, port: u16) -> String {
    let name: String = program.chars().filter(|letter| letter.is_ascii_alphanumeric() || *letter == '-').collect();
    if name.is_empty() { format!("port-{port}") } else { name.to_lowercase() }
}

fn used(status: &Status) -> String {
    let mut parts = Vec::new();
    parts.extend(status.memory.map(|bytes| format!("{} of memory", size(bytes))));
    parts.extend(status.cpu_millis.map(|millis| format!("{:.1} s of processor time", millis as f64 / 1000.0)));
    parts.extend(
        status.processes.map(|number| if number == 1 { "1 process".to_owned() } else { format!("{number} processes") }),
    );
    parts.push(format!("{} of members", count(status.guests, "command")));
    parts.join(", ")
}

fn service_line(screen: &Screen, service: &ServiceStatus) -> String {
    let style = match service.phase {
        Phase::Ready => screen.out.good,
        Phase::Failed => screen.out.bad,
        Phase::Waiting | Phase::GettingReady | Phase::Pausing => screen.out.warning,
        Phase::Over | Phase::Stopped => screen.out.faint,
    };
    let detail =
        if service.detail.is_empty() { String::new() } else { format!(": {}", shown(service.detail.as_bytes())) };
    let restarts = match service.restarts {
        0 => String::new(),
        number => format!(" (restarts: {number})"),
    };
    format!(
        "{}  {} since {}{detail}{restarts}",
        styled(screen.out.strong, format_args!("{:12}", service.name)),
        styled(style, service.phase.words()),
        clock(service.since),
    )
}

fn failed_step(screen: &Screen, failed: &FailedStep) {
    let text = format!("the step {:?}: {}; cavrith logs {:?} shows all of it", failed.name, failed.how, failed.name);
    line(screen, "failed", styled(screen.out.bad, text));
}

/// A workspace that does not run.
pub fn stopped(screen: &Screen, place: &Place, standing: Standing, record: Option<&Record>) {
    let when =
        record.and_then(|record| record.ended).map_or_else(String::new, |ended| format!(" since {}", clock(ended)));
    screen.result(format_args!(
        "{}  {}{when}",
        styled(screen.out.strong, &place.name),
        styled(standing_style(screen, standing), standing.words())
    ));
    line(screen, "project", place.project.display());
    for folder in cavrith_workspace::kept::all(place) {
        line(screen, "kept", format_args!("{}  {}", folder.name, styled(screen.out.faint, folder.path.display())));
    }
    if let Some(failed) = record.and_then(|record| record.failed_step.as_ref()) {
        failed_step(screen, failed);
    }
}

/// Pending changes, each with what it takes.
pub fn pending(screen: &Screen, pending: &Pending, advise: bool) {
    if let Some(why) = &pending.unclear {
        line(screen, "pending", styled(screen.out.warning, why));
        return;
    }
    let width = pending.changes.iter().map(|change| change.what.chars().count()).max().unwrap_or(0);
    let mut about = "pending";
    for change in &pending.changes {
        let style = match change.effort {
            Effort::Nothing | Effort::Live => screen.out.good,
            Effort::ServiceRestart => screen.out.warning,
            Effort::WorkspaceRestart | Effort::ImageBuild => screen.out.bad,
        };
        line(
            screen,
            about,
            format_args!(
                "{:width$}  {}  {} {} {}",
                change.what,
                styled(style, format_args!("{:17}", change.effort.words())),
                short(&change.runs),
                styled(screen.out.faint, "→"),
                short(&change.wanted)
            ),
        );
        about = "";
    }
    if advise && !pending.changes.is_empty() {
        line(screen, "", "run cavrith apply to apply them");
    }
}

/// A text of any length, cut for a line.
fn short(text: &str) -> String {
    let text = shown(text.as_bytes());
    if text.chars().count() <= 60 { text } else { format!("{}…", text.chars().take(59).collect::<String>()) }
}

/// Shows what happens while a workspace starts.
pub struct EventPrinter<'a> {
    screen: &'a Screen,
    silent: bool,
    step: Option<ProgressBar>,
    /// Those that are waited for, by name.
    services: BTreeMap<String, ProgressBar>,
}

impl<'a> EventPrinter<'a> {
    pub fn new(screen: &'a Screen, silent: bool) -> Self {
        Self { screen, silent, step: None, services: BTreeMap::new() }
    }

    pub fn finish(&mut self) {
        self.step_over();
        std::mem::take(&mut self.services).into_values().for_each(|bar| bar.finish_and_clear());
    }

    fn step_over(&mut self) {
        if let Some(bar) = self.step.take() {
            bar.finish_and_clear();
        }
    }

    pub fn show(&mut self, event: &WorkspaceEvent) {
        if self.silent {
            return;
        }
        let styles = &self.screen.err;
        match event {
            WorkspaceEvent::Note(text) => self.screen.say(format_args!("{} {text}", styled(styles.faint, "note:"))),
            WorkspaceEvent::Step { name } => {
                if self.screen.live {
                    self.step = Some(self.screen.live_line(name.clone()));
                }
            }
            WorkspaceEvent::Output { name, line } => {
                if self.screen.verbose {
                    let head = styled(styles.faint, format_args!("{name}:"));
                    self.screen.say(format_args!("{head} {}", shown(line.as_bytes())));
                } else if let Some(bar) = &self.step {
                    bar.set_message(format!("{name}: {}", shown(line.as_bytes())));
                }
            }
            WorkspaceEvent::StepOver { name, millis, left_out } => {
                self.step_over();
                match left_out {
                    Some(why) => {
                        let text = format!("step {name} left out: {why}");
                        self.screen.say(styled(styles.faint, text));
                    }
                    None => self.screen.say(format_args!(
                        "{} step {name}  {}",
                        styled(styles.good, "done"),
                        seconds(*millis)
                    )),
                }
            }
            WorkspaceEvent::StepFailed(failed) => {
                self.step_over();
                self.screen.insist(format_args!(
                    "{} the step {:?}: {}",
                    styled(styles.bad, "failed"),
                    failed.name,
                    failed.how
                ));
                self.lines(&failed.last_lines);
            }
            WorkspaceEvent::Service(service) => self.service(service),
            WorkspaceEvent::Opened => self.step_over(),
            WorkspaceEvent::Settled { .. } => self.finish(),
        }
    }

    /// What a service that is not ready yet waits for: on a terminal a line that lives as long.
    fn service_waits(&mut self, service: &ServiceStatus) {
        let last = service.last_lines.last().map(|line| format!("; it wrote: {}", shown(line.as_bytes())));
        let text =
            format!("service {}: {}{}", service.name, shown(service.detail.as_bytes()), last.unwrap_or_default());
        match self.services.get(&service.name) {
            Some(bar) => bar.set_message(text),
            None if self.screen.live => {
                let bar = self.screen.live_line(text);
                self.services.insert(service.name.clone(), bar);
            }
            None => {}
        }
    }

    fn service(&mut self, service: &ServiceStatus) {
        if service.phase == Phase::GettingReady && !service.detail.is_empty() {
            return self.service_waits(service);
        }
        if let Some(bar) = self.services.remove(&service.name) {
            bar.finish_and_clear();
        }
        let styles = &self.screen.err;
        match service.phase {
            Phase::Ready => self.screen.say(format_args!("{} service {}", styled(styles.good, "ready"), service.name)),
            Phase::Failed => {
                let failed = styled(styles.bad, "failed");
                self.screen.insist(format_args!(
                    "{failed} service {}: {}",
                    service.name,
                    shown(service.detail.as_bytes())
                ));
                self.lines(&service.last_lines);
            }
            Phase::Pausing | Phase::Over => {
                let detail = shown(service.detail.as_bytes());
                self.screen.say(format_args!("{} service {}: {detail}", styled(styles.warning, "ended"), service.name));
            }
            Phase::Waiting if !service.detail.is_empty() => {
                let waits = styled(styles.warning, "waiting");
                self.screen.say(format_args!("{waits} service {}: {}", service.name, service.detail));
            }
            Phase::Waiting | Phase::GettingReady | Phase::Stopped => {}
        }
    }

    fn lines(&self, lines: &[String]) {
        if lines.is_empty() {
            self.screen.insist("    it wrote nothing");
        }
        for line in lines {
            self.screen.insist(format_args!("    {}", shown(line.as_bytes())));
        }
    }
}
