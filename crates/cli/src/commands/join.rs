//! `cavrith join`

mod bringing;

use std::fs;
use std::io::IsTerminal as _;
use std::path::Path;
use std::time::Instant;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::ImageFingerprint;
use cavrith_core::link::Place;
use cavrith_core::oci::image::Descriptor;
use cavrith_core::report::Joined;
use cavrith_core::verdict::count;
use cavrith_engine::project;
use cavrith_exchange::joining;
use cavrith_exchange::parcel::OpenParcel;
use cavrith_exchange::parcel::reading::VARIANT;
use cavrith_keeper::place;
use cavrith_sandbox::janitor;
use cavrith_workspace::{lifecycle, reporting};
use serde_json::{Value, json};

use crate::args::{General, Join};
use crate::build_env;
use crate::commands::own::Own;
use crate::commands::start::tell_what_it_gets;
use crate::commands::stop::confirm;
use crate::commands::{Outcome, desktop};
use crate::failure::Failure;
use crate::render::progress::seconds;
use crate::screen::{Screen, styled};
pub use bringing::look_into;
use bringing::{Bringer, JoinSource, OpenedParcel, make, removed};

/// Files that a newcomer reads first, the best one first.
const READ_FIRST: [&str; 6] = ["ONBOARDING.md", "CONTRIBUTING.md", "README.md", "README", "README.txt", "README.rst"];

pub fn exec(general: &General, screen: &Screen, command: &Join) -> Outcome {
    let (source, link) = JoinSource::parse(&command.source)?;
    let wanted = command.dir.clone().unwrap_or_else(|| source.folder());
    let dir =
        std::path::absolute(&wanted).map_err(|error| Failure::Own(2, format!("{}: {error}", wanted.display())))?;
    let mut line = TimeLine::default();
    let aside = bringing::aside(&dir);
    // What was begun does not stay when this command is killed.
    let _janitor = janitor::watch(&aside, removed)?;
    let bringer = Bringer { general, keys: &command.keys, quiet: screen.quiet, aside: &aside };
    let here = line.measured("fetch", || bringer.bring(&source, &dir))?;
    let dir = here.dir;
    let variant = here.parcel.as_ref().and_then(|one| one.parcel.document.annotations.get(VARIANT).cloned());
    let at = joining::revision(&dir);
    let what = here.how;
    let at_words = at.as_ref().map_or_else(String::new, |at| format!(", at {at}"));
    screen.say(format_args!("{} {}{at_words}: {}", styled(screen.err.good, what), source, dir.display()));
    // Each in a process of its own, as if it were typed, so that whatever is interrupted goes on the same way.
    let variant = general.variant.clone().or(link.variant).or(variant);
    let own = Own { dir: &dir, general, variant, quiet: screen.quiet };
    let parcel = here.parcel.as_ref();
    let has_scratch = parcel.is_some_and(|one| one.parcel.document.scratch().is_some());
    let called = another_name(&source, &own)?;
    let known = tell_and_ask(screen, command, &own, has_scratch)?;
    match &here.parcel {
        None => line.measured("image", || own.passed(&["build"]))?,
        Some(OpenedParcel { path, parcel }) => {
            let path = path.to_string_lossy();
            line.measured("image", || own.passed(&["build", "--parcel", &path]))?;
            for (name, part) in parcel.document.kept() {
                restore(&own, &aside, parcel, (name, part))?;
            }
        }
    }
    let mut start = vec!["start", "--wait", "--json"];
    if known {
        start.push("--known");
    }
    let parcel = parcel.filter(|_| has_scratch).map(|one| one.path.to_string_lossy());
    for (option, value) in [("--called", called.as_deref()), ("--parcel", parcel.as_deref())] {
        start.extend(value.into_iter().flat_map(|value| [option, value]));
    }
    let started = line.measured("start", || own.answer(&start));
    removed(&aside);
    // Its answer was for us; what failed is for the member.
    let started = started.inspect_err(|_| drop(own.passed(&["status"])))?;
    if let Some(place) = place::Place::of_project(&build_env::home()?, &dir) {
        reporting::note_joined(&place, line.joined())?;
    }
    let verdict = line.measured("verify", || own.answer(&["verify", "--json"]))?;
    let same = verdict["same"].as_bool();
    let usual = || READ_FIRST.into_iter().find(|name| dir.join(name).is_file());
    let place = link.at.or_else(|| usual().map(|name| Place { file: name.to_owned(), line: None }));
    let place = place.filter(|place| dir.join(&place.file).is_file());
    let first = place.as_ref().map(|place| dir.join(place.to_string()));
    if command.report.json {
        screen.json(&json!({
            "project": dir,
            "source": source.to_string(),
            "revision": at,
            "name": started["name"],
            "same": same,
            "scratch": has_scratch,
            "words": verdict["words"],
            "ports": started["status"]["ports"],
            "read_first": first,
            "millis": line.as_json(),
        }));
    } else {
        report(screen, &dir, (&started, &verdict), first.as_deref(), &line);
    }
    if let Some(place) = place.filter(|_| command.open) {
        open(screen, &own, &place);
    }
    Ok(u8::from(same != Some(true)))
}

/// Another name than the spec's for the workspace of an older revision, where one of that name stands beside it.
fn another_name(source: &JoinSource, own: &Own<'_>) -> Result<Option<String>, Failure> {
    let JoinSource::Git(source) = source else { return Ok(None) };
    let Some(revision) = &source.revision else { return Ok(None) };
    let Ok(project) = project::load(own.dir, own.variant.as_deref()) else { return Ok(None) };
    let all = place::Place::all(&build_env::home()?);
    let name = project.spec.name();
    let stands = all.iter().any(|place| place.name == name) && !all.iter().any(|place| place.is_of(&project.dir));
    Ok(stands.then(|| place::name_of_revision(&name, revision)))
}

/// Says what a project that was never started here gets of this machine, and asks once at a terminal. False when there
/// was nothing to say: it ran here before, or cannot be read, which whatever comes next will say.
fn tell_and_ask(screen: &Screen, command: &Join, own: &Own<'_>, has_scratch: bool) -> Result<bool, Failure> {
    let Ok(project) = project::load(own.dir, own.variant.as_deref()) else { return Ok(false) };
    let Ok(lock) = project::load_lock(&project) else { return Ok(false) };
    let (home, store) = build_env::store()?;
    if place::Place::all(&home).iter().any(|place| place.is_of(&project.dir)) {
        return Ok(false);
    }
    // Before the image is fetched or built for nothing.
    lifecycle::check_machine(&home, &project, &lock, &store)?;
    let image = lock.seal.as_ref().map_or(ImageFingerprint::from_bytes([0; 32]), |seal| seal.image);
    screen.say(format_args!("{} is new here", styled(screen.err.strong, project.spec.name())));
    tell_what_it_gets(screen, &project.dir, &Arrangement::new(&project.spec, &lock, image, ""));
    let steps = project.spec.steps.len() + project.spec.start_steps.len();
    let what =
        format!("{} and {}, none of them outside", count(steps, "step"), count(project.spec.services.len(), "service"));
    screen.say(format_args!("{} {what}", styled(screen.err.faint, "    runs inside")));
    if has_scratch {
        let text = "what somebody changed by hand in another workspace, which nobody sealed";
        screen.say(format_args!("{} {text}", styled(screen.err.faint, "    brings")));
    }
    let is_terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
    if is_terminal {
        confirm(screen, command.yes, "build it here and start it?")?;
    }
    Ok(true)
}

/// Opens a place to read: with the member's editor inside, or with whatever the desktop has for it.
fn open(screen: &Screen, own: &Own<'_>, place: &Place) {
    let editor =
        ["VISUAL", "EDITOR"].into_iter().find_map(|name| std::env::var(name).ok().filter(|text| !text.is_empty()));
    let mut words: Vec<String> = editor.iter().flat_map(|text| text.split_whitespace()).map(str::to_owned).collect();
    if !words.is_empty() && std::io::stdin().is_terminal() {
        words.extend(place.line.map(|line| format!("+{line}")));
        words.push(place.file.clone());
        let arguments: Vec<_> = ["run", "-q", "--"].into_iter().chain(words.iter().map(String::as_str)).collect();
        let ended = own.command(&arguments).ok().and_then(|mut command| command.status().ok());
        // It was opened inside, whatever it said in the end; 127 is a program that is not there.
        if ended.is_some_and(|status| status.code() != Some(127)) {
            return;
        }
    }
    let opened = desktop::open(own.dir.join(&place.file));
    if !opened {
        let text = "there is no editor inside and no desktop that could open it";
        screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
    }
}

/// Puts a kept folder of a parcel into its place, unless there is one already.
fn restore(own: &Own<'_>, aside: &Path, parcel: &OpenParcel, (name, part): (&str, &Descriptor)) -> Result<(), Failure> {
    let there = own.answer(&["folder", "list", "--json"])?;
    let there = there["folders"].as_array().into_iter().flatten();
    if there.filter(|folder| folder["name"] == name).any(|folder| folder["project"] == *own.dir.to_string_lossy()) {
        return Ok(());
    }
    make(aside)?;
    let file = aside.join("kept");
    let _ = fs::remove_file(&file);
    parcel.part_to(part, &file)?;
    own.passed(&["folder", "restore", name, &file.to_string_lossy()])
}

/// What a member wants to know next.
fn report(screen: &Screen, dir: &Path, (started, verdict): (&Value, &Value), first: Option<&Path>, line: &TimeLine) {
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let name = text(&started["name"]);
    match verdict["standing"].as_str() {
        Some("same") => screen.result(format_args!(
            "{} {}  {} {}",
            styled(screen.out.good, "joined"),
            styled(screen.out.strong, &name),
            styled(screen.out.good, "the same as sealed:"),
            text(&verdict["words"]),
        )),
        Some("different") => screen.result(format_args!(
            "{} {name}  {}; cavrith verify names the differences",
            styled(screen.out.good, "joined"),
            styled(screen.out.bad, "not the same as sealed"),
        )),
        _ => screen.result(format_args!(
            "{} {name}  whether it is the same is not known: {}",
            styled(screen.out.good, "joined"),
            verdict["failed"]["message"]
                .as_str()
                .unwrap_or("something could not be measured; cavrith verify says what"),
        )),
    }
    let signature = verdict["aspects"].as_array().into_iter().flatten().find(|aspect| aspect["name"] == "signature");
    if let Some(signature) = signature.filter(|signature| signature["same"] == true) {
        screen.result(format_args!("    signed by  {}", text(&signature["measured"])));
    }
    for port in started["status"]["ports"].as_array().into_iter().flatten() {
        if let Some(outside) = port["outside"].as_u64().filter(|outside| *outside > 0) {
            screen.result(format_args!("    {:<10} 127.0.0.1:{outside}", text(&port["name"])));
        }
    }
    let shown = dir.display();
    screen.result(format_args!("    shell      cavrith -C {shown} enter"));
    if let Some(first) = first {
        screen.result(format_args!("    read first {}", first.display()));
    }
    screen.result(format_args!("    took       {}", line.shown()));
}

/// How long each part took.
#[derive(Default)]
struct TimeLine {
    parts: Vec<(&'static str, u64)>,
}

impl TimeLine {
    fn measured<T, E: Into<Failure>>(
        &mut self,
        name: &'static str,
        work: impl FnOnce() -> Result<T, E>,
    ) -> Result<T, Failure> {
        let started = Instant::now();
        let outcome = work().map_err(Into::into);
        self.parts.push((name, started.elapsed().as_millis() as u64));
        outcome
    }

    /// Until it was ready.
    fn joined(&self) -> Joined {
        let of = |name: &str| self.parts.iter().find(|(part, _)| *part == name).map_or(0, |(_, millis)| *millis);
        Joined { fetch: of("fetch"), image: of("image"), start: of("start") }
    }

    fn shown(&self) -> String {
        self.parts.iter().map(|(name, millis)| format!("{name} {}", seconds(*millis))).collect::<Vec<_>>().join(", ")
    }

    fn as_json(&self) -> Value {
        self.parts
            .iter()
            .map(|(name, millis)| ((*name).to_owned(), json!(millis)))
            .collect::<serde_json::Map<_, _>>()
            .into()
    }
}
