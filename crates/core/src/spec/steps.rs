//! Steps: what each does, and the order they are run in.

use std::collections::{BTreeMap, BTreeSet};

use super::reader::{Reader, TableAt};
use super::services::{self, Moment, Service, StartStep};
use super::{At, parse, rules, variables};
use crate::mistake::{Code, Mistake, nearest};
use crate::path::RootPath;

/// One entry of `[[steps]]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// A name for people.
    pub name: At<String>,
    /// What it does.
    pub action: Action,
    /// A command that, when it succeeds, leaves the step out.
    pub unless: Option<Run>,
    /// A path that, when it is there, leaves the step out.
    pub creates: Option<At<RootPath>>,
    /// Names of steps that come first.
    pub after: Vec<At<String>>,
    /// Variables of this step only, with what they refer to filled in.
    pub env: BTreeMap<String, At<String>>,
    /// Who carries it out; root when left out.
    pub account: Option<At<String>>,
    /// Seconds that it may take.
    pub limit: Option<u64>,
    /// Where `network = "recorded"` stands: it may fetch, and what it fetches is recorded.
    pub recorded: Option<std::ops::Range<usize>>,
    /// Files of the project that are laid into its folder inside first, and where the command is then started.
    pub files: Vec<At<String>>,
    /// Folders that last from one build to the next, for what its programs would otherwise make again.
    pub caches: Vec<At<String>>,
}

impl Step {
    /// Its files as one text, as the lock names them.
    pub fn files_shown(&self) -> String {
        self.files.iter().map(|file| file.value.as_str()).collect::<Vec<_>>().join(", ")
    }
}

/// What a step does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Action {
    /// It runs a command.
    Run(At<Run>),
    /// It writes a file.
    Write(Write),
    /// It copies files of the project.
    Copy(Copy),
    /// It copies what another variant has.
    Take(Take),
}

/// `steps[].write`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Write {
    /// The file.
    pub inside: At<RootPath>,
    /// What stands in it.
    pub text: Text,
    /// Its rights.
    pub mode: u16,
    /// Who it belongs to; root when left out.
    pub owner: Option<At<String>>,
}

/// Where the text of a written file comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Text {
    /// From the spec itself.
    Content(String),
    /// From a template, a file relative to the project.
    Template(At<String>),
}

/// `steps[].copy`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Copy {
    /// File or folder, relative to the project.
    pub from: At<String>,
    /// What it becomes.
    pub inside: At<RootPath>,
    /// What to leave out, in the patterns of git's ignore files; behind `!`, what to take all the same.
    pub except: Vec<At<String>>,
    /// Whether what git ignores is taken too.
    pub ignored: bool,
    /// Who all of it belongs to; root when left out.
    pub owner: Option<At<String>>,
}

/// `steps[].copy` with a `variant`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Take {
    /// The variant that has it.
    pub variant: At<String>,
    /// File or directory of its image.
    pub from: At<RootPath>,
    /// What it becomes.
    pub inside: At<RootPath>,
    /// What to leave out, in the patterns of git's ignore files.
    pub except: Vec<At<String>>,
    /// Who all of it belongs to; root when left out.
    pub owner: Option<At<String>>,
}

/// A command of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Run {
    /// A text for the shell of the root, `/bin/sh -c`.
    Shell(String),
    /// A program and its arguments, without a shell.
    Program(Vec<String>),
}

impl Run {
    /// Program and arguments.
    pub fn argv(&self) -> Vec<String> {
        match self {
            Self::Shell(text) => vec!["/bin/sh".to_owned(), "-ec".to_owned(), text.clone()],
            Self::Program(argv) => argv.clone(),
        }
    }

    /// As it is written.
    pub fn shown(&self) -> String {
        match self {
            Self::Shell(text) => text.clone(),
            Self::Program(argv) => argv.join(" "),
        }
    }
}

/// Steps that a spec may have. Each of those that build is a layer, which the store merges where they are many; more
/// than this are a program and no list.
const MOST: usize = 4000;

/// The steps that make the image, and those of a workspace's start, each in their order.
pub(super) fn read(
    reader: &mut Reader<'_>,
    top: &TableAt<'_>,
    env: &BTreeMap<String, At<String>>,
    services: &BTreeMap<String, At<Service>>,
) -> (Vec<Step>, Vec<StartStep>) {
    let (mut build, mut start, mut moments) = (Vec::new(), Vec::new(), Vec::new());
    for table in reader.subtables(top, "steps", "steps[]") {
        let moment = read_moment(reader, &table);
        let Some(step) = read_step(reader, &table, env) else { continue };
        match moment {
            None => build.push(step),
            Some(moment) => {
                only_runs(reader, &step);
                if let Some(file) = step.files.first() {
                    let message = "a step of the start sees the project's own folder, and is given no files";
                    reader.push(Mistake::new(Code::NOT_ALLOWED, file.span.clone(), message, "leave files out"));
                }
                if let Some(cache) = step.caches.first() {
                    let message = "a step of the start has the workspace's own folders, which last anyhow";
                    let remedy = "leave caches out, or name a kept folder in [[folders]]";
                    reader.push(Mistake::new(Code::NOT_ALLOWED, cache.span.clone(), message, remedy));
                }
                if let Some(span) = step.recorded.clone() {
                    let message = "a step of the start has the workspace's own network, which is not recorded";
                    let remedy = "write at = \"build\", or leave network out";
                    reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, remedy));
                }
                moments.push((step.name.value.clone(), moment));
                start.push(step);
            }
        }
    }
    for steps in [&build, &start] {
        if let Some(step) = steps.get(MOST) {
            let message = format!("there are {} steps, and a spec may have {MOST}", steps.len());
            let remedy = "join commands that belong together into one step";
            reader.push(Mistake::new(Code::NOT_ALLOWED, step.name.span.clone(), message, remedy));
        }
    }
    let earlier: Vec<_> = build.iter().map(|step| step.name.value.clone()).collect();
    let build = order(reader, build, |reader, named, known| {
        let is_of_start = moments.iter().any(|(name, _)| *name == named.value);
        if services.contains_key(&named.value) && !is_of_start {
            let message = format!("{} is a service, and services run when the image is built already", named.value);
            let remedy = "leave it out, or write at = \"start\" or \"first-start\" for a step that needs it";
            reader.push(Mistake::new(Code::UNKNOWN_STEP, named.span.clone(), message, remedy));
            return;
        }
        let remedy = match nearest(&named.value, known.iter().copied()) {
            Some(meant) => format!("write {meant:?}"),
            None => "write the name of another step, or leave it out".to_owned(),
        };
        let message = match moments.iter().find(|(name, _)| *name == named.value) {
            Some(_) => {
                format!("the step {:?} is carried out when a workspace starts, after all of the image's", named.value)
            }
            None => format!("there is no step {:?}", named.value),
        };
        reader.push(Mistake::new(Code::UNKNOWN_STEP, named.span.clone(), message, remedy));
    });
    // Steps of the image come before those of a start in any case.
    let start = order(reader, start, |reader, named, known| {
        if !services.contains_key(&named.value) && !earlier.contains(&named.value) {
            let all: Vec<_> = known.iter().copied().chain(services.keys().map(String::as_str)).collect();
            services::unknown(reader, named, &all);
        }
    });
    let start = start.into_iter().map(|mut step| {
        step.after.retain(|after| services.contains_key(&after.value));
        let moment =
            moments.iter().find(|(name, _)| *name == step.name.value).map_or(Moment::Start, |(_, moment)| *moment);
        StartStep { step, moment }
    });
    (build, start.collect())
}

/// When the step is run; `None` for build.
fn read_moment(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Moment> {
    let at = reader.text(table, "at")?;
    rules::one_of(reader, "at", &at, &["build", "first-start", "start"]);
    match at.value.as_str() {
        "first-start" => Some(Moment::FirstStart),
        "start" => Some(Moment::Start),
        _ => None,
    }
}

/// Files belong into the image; what a start does is a command.
fn only_runs(reader: &mut Reader<'_>, step: &Step) {
    let key = match step.action {
        Action::Run(_) => return,
        Action::Write(_) => "writes a file",
        Action::Copy(_) | Action::Take(_) => "copies files",
    };
    let message = format!("the step {:?} {key}, and a step of the start runs a command", step.name.value);
    let remedy = "write at = \"build\", or run a command";
    reader.push(Mistake::new(Code::STEP_ACTION, step.name.span.clone(), message, remedy));
}

fn read_step(reader: &mut Reader<'_>, table: &TableAt<'_>, env: &BTreeMap<String, At<String>>) -> Option<Step> {
    let name = reader.text(table, "name");
    if let Some(name) = name.as_ref().filter(|name| name.value.trim().is_empty()) {
        let remedy = "say in a few words what it does: name = \"press the pages\"";
        reader.push(Mistake::new(Code::BAD_NAME, name.span.clone(), "the step has an empty name", remedy));
    }
    let run = command(reader, table, "run");
    let write = reader.subtable(table, "write", "steps[].write").map(|table| read_write(reader, &table));
    let copy = reader.subtable(table, "copy", "steps[].copy").map(|table| read_copy(reader, &table));
    let unless = command(reader, table, "unless").flatten();
    let creates = reader.text(table, "creates").and_then(|path| rules::inside_path(reader, "creates", path));
    let after = reader.texts(table, "after").map(|after| after.value).unwrap_or_default();
    let account = reader.text(table, "account");
    let limit = reader.text(table, "limit").and_then(|limit| rules::limit(reader, limit));
    let own = parse::read_env(reader, table, "steps[].env");
    let env = variables::fill_in(&own, env, &mut reader.mistakes);
    let given: Vec<_> = ["run", "write", "copy"].iter().filter_map(|key| Some((*key, table.key_span(key)?))).collect();
    match given.as_slice() {
        [] => {
            let remedy = "add run, write or copy";
            reader.push(Mistake::new(Code::STEP_ACTION, table.span(), "the step does nothing", remedy));
            return None;
        }
        [_] => {}
        [(first, first_span), .., (last, last_span)] => {
            let message = format!("the step has `{first}` and `{last}`, and a step does one thing");
            let mistake = Mistake::new(Code::STEP_ACTION, last_span.clone(), message, "make two steps of it");
            reader.push(mistake.noting("one is here").against(first_span.clone(), "the other one here"));
        }
    }
    let action = match (run, write, copy) {
        (Some(run), ..) => Action::Run(At { span: table.command_span("run")?, value: run? }),
        (_, Some(write), _) => Action::Write(write?),
        (_, _, Some(copy)) => copy?,
        (None, None, None) => return None,
    };
    let recorded = read_network(reader, table, &action);
    let files = read_files(reader, table, &action);
    let caches = read_caches(reader, table, &action);
    Some(Step { name: name?, action, unless, creates, after, env, account, limit, recorded, files, caches })
}

/// Whether a step runs a command, which this key is for; if it does not, that is a mistake.
fn is_for_command(reader: &mut Reader<'_>, key: &str, span: std::ops::Range<usize>, action: &Action) -> bool {
    let runs = matches!(action, Action::Run(_));
    if !runs {
        let message = format!("`{key}` means nothing for a step that runs no command");
        reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, "leave it out"));
    }
    runs
}

/// The caches that a command works with.
fn read_caches(reader: &mut Reader<'_>, table: &TableAt<'_>, action: &Action) -> Vec<At<String>> {
    let Some(span) = table.key_span("caches") else { return Vec::new() };
    let caches = reader.texts(table, "caches").map(|caches| caches.value).unwrap_or_default();
    if !is_for_command(reader, "caches", span, action) {
        return Vec::new();
    }
    for cache in &caches {
        rules::plain_name(reader, "cache", &cache.value, &cache.span);
    }
    caches
}

/// The files that a command is given.
fn read_files(reader: &mut Reader<'_>, table: &TableAt<'_>, action: &Action) -> Vec<At<String>> {
    let Some(span) = table.key_span("files") else { return Vec::new() };
    let files = reader.texts(table, "files").map(|files| files.value).unwrap_or_default();
    if !is_for_command(reader, "files", span, action) {
        return Vec::new();
    }
    files.into_iter().filter_map(|file| rules::file_of_project(reader, "files", file)).collect()
}

/// Where it stands that what the step fetches is recorded, if so.
fn read_network(reader: &mut Reader<'_>, table: &TableAt<'_>, action: &Action) -> Option<std::ops::Range<usize>> {
    let network = reader.text(table, "network")?;
    rules::one_of(reader, "network", &network, &["none", "recorded"]);
    let recorded = (network.value == "recorded").then_some(network.span)?;
    is_for_command(reader, "network", recorded.clone(), action).then_some(recorded)
}

/// A command under a key; `Some(None)` when it is there and no command.
pub(super) fn command(reader: &mut Reader<'_>, table: &TableAt<'_>, name: &str) -> Option<Option<Run>> {
    table.key_span(name)?;
    Some(match reader.text_or_texts(table, name) {
        None => None,
        Some(Ok(text)) => rules::shell_text(reader, name, text),
        Some(Err(list)) => rules::program(reader, name, list),
    })
}

fn read_write(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Write> {
    let inside = reader.text(table, "inside").and_then(|path| rules::inside_path(reader, "inside", path));
    let mode = reader.text(table, "mode").map_or(0o644, |mode| rules::mode(reader, &mode));
    let owner = reader.text(table, "owner");
    let content = reader.text(table, "content");
    let template = rules::project_file(reader, table, "template");
    let text = match (content, template) {
        (Some(content), None) => Text::Content(content.value),
        (None, Some(template)) => Text::Template(template),
        (None, None) => {
            if table.key_span("content").is_none() && table.key_span("template").is_none() {
                let message = "`write` does not say what stands in the file";
                reader.push(Mistake::new(Code::ONE_OF, table.span(), message, "add content or template"));
            }
            return None;
        }
        (Some(_), Some(_)) => {
            rules::only_one_of(reader, table, "content", "template");
            return None;
        }
    };
    Some(Write { inside: inside?, text, mode, owner })
}

fn read_copy(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Action> {
    let variant = reader.text(table, "variant");
    let inside = reader.text(table, "inside").and_then(|path| rules::inside_path(reader, "inside", path));
    let except = reader.texts(table, "except").map(|except| except.value).unwrap_or_default();
    for pattern in &except {
        rules::pattern(reader, pattern);
    }
    let owner = reader.text(table, "owner");
    if let Some(variant) = variant {
        if let Some(span) = table.key_span("ignored") {
            let message = "`ignored` means nothing for what another variant has";
            reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, "leave it out"));
        }
        let from = reader.text(table, "from").and_then(|from| rules::inside_path(reader, "from", from));
        return Some(Action::Take(Take { variant, from: from?, inside: inside?, except, owner }));
    }
    let ignored = reader.flag(table, "ignored");
    let from = rules::copied_file(reader, table, "from");
    Some(Action::Copy(Copy { from: from?, inside: inside?, except, ignored, owner }))
}

/// The steps in an order in which each comes after those that it names, and otherwise as in the file.
fn order(
    reader: &mut Reader<'_>,
    steps: Vec<Step>,
    not_a_step: impl Fn(&mut Reader<'_>, &At<String>, &[&str]),
) -> Vec<Step> {
    let names: Vec<_> = steps.iter().map(|step| step.name.value.clone()).collect();
    // Of two with the same name, which is a mistake of its own, the first is meant.
    let places: BTreeMap<_, _> = names.iter().enumerate().rev().map(|(number, name)| (name.as_str(), number)).collect();
    let mut waits: Vec<Vec<usize>> = Vec::new();
    for (number, step) in steps.iter().enumerate() {
        let mut own = Vec::new();
        for earlier in &step.after {
            match places.get(earlier.value.as_str()).copied() {
                Some(position) if position == number => {
                    let message = format!("the step {:?} comes after itself", step.name.value);
                    reader.push(Mistake::new(
                        Code::STEP_CYCLE,
                        earlier.span.clone(),
                        message,
                        "leave its own name out",
                    ));
                }
                Some(position) => own.push(position),
                None => {
                    let known: Vec<_> = names.iter().map(String::as_str).collect();
                    not_a_step(reader, earlier, &known);
                }
            }
        }
        waits.push(own);
    }
    // Kahn's algorithm (Communications of the ACM 5/11, 1962); of those that may come next always the first written.
    let mut waiting: Vec<usize> = waits.iter().map(Vec::len).collect();
    let mut followers: Vec<Vec<usize>> = vec![Vec::new(); steps.len()];
    for (number, earlier) in waits.iter().enumerate() {
        earlier.iter().for_each(|earlier| followers[*earlier].push(number));
    }
    let mut ready: BTreeSet<usize> = (0..steps.len()).filter(|number| waiting[*number] == 0).collect();
    let mut sorted: Vec<usize> = Vec::new();
    while let Some(number) = ready.pop_first() {
        sorted.push(number);
        for follower in &followers[number] {
            waiting[*follower] -= 1;
            if waiting[*follower] == 0 {
                ready.insert(*follower);
            }
        }
    }
    if sorted.len() < steps.len() {
        circle(reader, &steps, &waits, &sorted);
        return steps;
    }
    let mut places: Vec<_> = steps.into_iter().map(Some).collect();
    sorted.into_iter().filter_map(|number| places[number].take()).collect()
}

/// Tells of one circle among the steps that are left.
fn circle(reader: &mut Reader<'_>, steps: &[Step], waits: &[Vec<usize>], sorted: &[usize]) {
    let open = |number: &usize| !sorted.contains(number);
    let Some(mut at) = (0..steps.len()).find(open) else { return };
    let mut way = vec![at];
    // Every step that is left waits for one that is left, so going on leads back to one that was met.
    while let Some(next) = waits[at].iter().copied().find(open) {
        if let Some(begin) = way.iter().position(|met| *met == next) {
            way.drain(..begin);
            break;
        }
        way.push(next);
        at = next;
    }
    let name = |number: usize| steps[number].name.value.as_str();
    let after = |number: usize, next: usize| {
        let named = steps[number].after.iter().find(|after| after.value == name(next));
        named.map_or_else(|| steps[number].name.span.clone(), |after| after.span.clone())
    };
    let links = way.iter().enumerate().map(|(place, number)| {
        let next = way[(place + 1) % way.len()];
        Link { name: name(*number), span: after(*number, next) }
    });
    reader.push(waiting_in_a_circle(Code::STEP_CYCLE, "steps", &links.collect::<Vec<_>>()));
}

/// One of those that wait for each other, and where it says so.
pub(super) struct Link<'a> {
    pub(super) name: &'a str,
    pub(super) span: std::ops::Range<usize>,
}

/// Says that each of these waits for the next, and the last for the first.
pub(super) fn waiting_in_a_circle(code: Code, what: &str, links: &[Link<'_>]) -> Mistake {
    let names: Vec<_> = links.iter().map(|link| link.name).collect();
    let way = format!("{} → {}", names.join(" → "), names[0]);
    let message = format!("{what} wait for each other: {way}");
    let mistake = Mistake::new(code, links[0].span.clone(), message, "take one of these `after` out");
    let note = |place: usize| format!("{} waits for {}", names[place], names[(place + 1) % names.len()]);
    let begun = mistake.noting(note(0));
    (1..links.len()).fold(begun, |mistake, place| mistake.against(links[place].span.clone(), note(place)))
}
