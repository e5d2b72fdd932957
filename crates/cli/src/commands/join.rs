//! `cavrith join`

use std::ffi::OsStr;
use std::fs;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};
use std::time::Instant;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::digest::ImageFingerprint;
use cavrith_core::link::{Link, Place};
use cavrith_core::oci::Reference;
use cavrith_core::oci::image::Descriptor;
use cavrith_core::verdict::count;
use cavrith_engine::project;
use cavrith_exchange::ExchangeError;
use cavrith_exchange::joining::{self, Brought, Source};
use cavrith_exchange::parcel::OpenParcel;
use cavrith_exchange::parcel::reading::VARIANT;
use cavrith_keeper::place;
use cavrith_sandbox::janitor;
use serde_json::{Value, json};

use crate::args::{General, Join};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::tell_what_it_gets;
use crate::commands::stop::confirm;
use crate::failure::Failure;
use crate::render::progress::seconds;
use crate::screen::{Screen, styled};

/// Files that a newcomer reads first, the best one first.
const READ_FIRST: [&str; 6] = ["ONBOARDING.md", "CONTRIBUTING.md", "README.md", "README", "README.txt", "README.rst"];

/// Where a project comes from.
enum JoinSource {
    /// A clone.
    Git(Source),
    /// A file.
    Parcel(PathBuf),
    /// A registry.
    Registry(Reference),
}

impl JoinSource {
    fn of_link(link: &Link) -> Result<Self, Failure> {
        match &link.revision {
            Some(revision) => Ok(Self::Git(Source::parse(&format!("{}#{revision}", link.source))?)),
            None => Self::parse(&link.source),
        }
    }

    fn parse(text: &str) -> Result<Self, Failure> {
        let path = Path::new(text);
        if path.is_file() {
            return Ok(Self::Parcel(path.to_owned()));
        }
        // What git would take for an address has its colon before any slash.
        let is_git = text.contains("://") || text.split('/').next().is_some_and(|host| host.contains('@'));
        match Reference::parse(text) {
            Ok(reference) if !is_git && !path.exists() && (reference.tag.is_some() || reference.digest.is_some()) => {
                Ok(Self::Registry(reference))
            }
            _ => Ok(Self::Git(Source::parse(text)?)),
        }
    }

    /// The folder's name when none is typed.
    fn folder(&self) -> PathBuf {
        match self {
            Self::Git(source) => source.folder(),
            Self::Parcel(path) => path.file_stem().map_or_else(|| "project".into(), PathBuf::from),
            Self::Registry(reference) => reference.name.rsplit('/').next().unwrap_or("project").into(),
        }
    }
}

impl std::fmt::Display for JoinSource {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Git(source) => write!(f, "{source}"),
            Self::Parcel(path) => write!(f, "{}", path.display()),
            Self::Registry(reference) => write!(f, "{reference}"),
        }
    }
}

/// A project that was brought here.
struct Here {
    /// Its folder.
    dir: PathBuf,
    /// How it came, in a word.
    how: &'static str,
    /// The parcel that it came in, and has layers in.
    parcel: Option<OpenedParcel>,
}

struct OpenedParcel {
    path: PathBuf,
    parcel: OpenParcel,
}

pub fn exec(general: &General, screen: &Screen, command: &Join) -> Outcome {
    let link = Link::parse(&command.source).transpose();
    let link = link.map_err(|why| Failure::Own(2, format!("the link cannot be used: {why}")))?;
    let source = match &link {
        Some(link) => JoinSource::of_link(link)?,
        None => JoinSource::parse(&command.source)?,
    };
    let link = link.unwrap_or_default();
    let wanted = command.dir.clone().unwrap_or_else(|| source.folder());
    let dir =
        std::path::absolute(&wanted).map_err(|error| Failure::Own(2, format!("{}: {error}", wanted.display())))?;
    let mut line = TimeLine::default();
    let aside = aside(&dir);
    // What was begun does not stay when this command is killed.
    let _janitor = janitor::watch(&aside, removed)?;
    let here = line.measured("fetch", || bring(general, screen, &source, &dir, &aside))?;
    let dir = here.dir;
    let variant = here.parcel.as_ref().and_then(|one| one.parcel.document.annotations.get(VARIANT).cloned());
    let at = joining::revision(&dir);
    let what = here.how;
    let at_words = at.as_ref().map_or_else(String::new, |at| format!(", at {at}"));
    screen.say(format_args!("{} {}{at_words}: {}", styled(screen.err.good, what), source, dir.display()));
    // Each in a process of its own, as if it were typed, so that whatever is interrupted goes on the same way.
    let variant = general.variant.clone().or(link.variant).or(variant);
    let own = Own { dir: &dir, general, variant, quiet: screen.quiet };
    let known = tell_and_ask(screen, command, &own)?;
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
    removed(&aside);
    let start = ["start", "--wait", "--json", "--known"];
    let started = line.measured("start", || own.answer(&start[..if known { 4 } else { 3 }]));
    // Its answer was for us; what failed is for the member.
    let started = started.inspect_err(|_| drop(own.passed(&["status"])))?;
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

/// Brings a project for a moment, lets somebody look into it, and removes it. A folder is looked into where it is.
pub fn look_into<T>(
    general: &General,
    screen: &Screen,
    source: &str,
    beside: &Path,
    look: impl FnOnce(&Path) -> Result<T, Failure>,
) -> Result<T, Failure> {
    if Path::new(source).is_dir() {
        return look(&project::folder(Path::new(source))?);
    }
    let link = Link::parse(source).transpose();
    let link = link.map_err(|why| Failure::Own(2, format!("the link cannot be used: {why}")))?;
    let from = link.map_or_else(|| JoinSource::parse(source), |link| JoinSource::of_link(&link))?;
    let aside = aside(&beside.join("project"));
    let _janitor = janitor::watch(&aside, removed)?;
    make(&aside)?;
    let here = bring(general, screen, &from, &aside.join("there"), &aside.join("under-way"));
    let looked = here.and_then(|here| look(&here.dir));
    removed(&aside);
    looked
}

/// Says what a project that was never started here gets of this machine, and asks once at a terminal. False when there
/// was nothing to say: it ran here before, or cannot be read, which whatever comes next will say.
fn tell_and_ask(screen: &Screen, command: &Join, own: &Own<'_>) -> Result<bool, Failure> {
    let Ok(project) = project::load(own.dir, own.variant.as_deref()) else { return Ok(false) };
    let Ok(lock) = project::load_lock(&project) else { return Ok(false) };
    let home = build_env::home()?;
    if place::Place::all(&home).iter().any(|place| place.is_of(&project.dir)) {
        return Ok(false);
    }
    let image = lock.seal.as_ref().map_or(ImageFingerprint::from_bytes([0; 32]), |seal| seal.image);
    screen.say(format_args!("{} is new here", styled(screen.err.strong, project.spec.name())));
    tell_what_it_gets(screen, &project.dir, &Arrangement::new(&project.spec, &lock, image, ""));
    let steps = project.spec.steps.len() + project.spec.start_steps.len();
    let what =
        format!("{} and {}, none of them outside", count(steps, "step"), count(project.spec.services.len(), "service"));
    screen.say(format_args!("{} {what}", styled(screen.err.faint, "    runs inside")));
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
    let desktop = ["DISPLAY", "WAYLAND_DISPLAY"].iter().any(|name| std::env::var_os(name).is_some());
    let opener = cavrith_sandbox::programs::find_program("xdg-open").filter(|_| desktop);
    let opened = opener.is_some_and(|opener| {
        let mut command = Command::new(opener);
        command.arg(own.dir.join(&place.file)).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().is_ok()
    });
    if !opened {
        let text = "there is no editor inside and no desktop that could open it";
        screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
    }
}

/// Brings the project into its folder, unless it is there from an earlier try.
fn bring(general: &General, screen: &Screen, source: &JoinSource, dir: &Path, aside: &Path) -> Result<Here, Failure> {
    let path = match source {
        JoinSource::Git(source) => {
            let how = match joining::bring(source, dir, aside)? {
                Brought::Cloned => "cloned",
                Brought::There => "there already",
            };
            return Ok(Here { dir: dir.to_owned(), how, parcel: None });
        }
        JoinSource::Parcel(path) => path.canonicalize().unwrap_or_else(|_| path.clone()),
        JoinSource::Registry(reference) => {
            make(aside)?;
            let name = reference.name.rsplit('/').next().unwrap_or("project");
            let path = aside.join(format!("{name}.parcel"));
            let above = dir.parent().unwrap_or(Path::new("/"));
            let own = Own { dir: above, general, variant: None, quiet: screen.quiet };
            own.passed(&["pull", "--known", &reference.to_string(), &path.to_string_lossy()])?;
            path
        }
    };
    let parcel = OpenParcel::open(&path)?;
    let mut here = Here { dir: dir.to_owned(), how: "unpacked", parcel: None };
    if dir.symlink_metadata().is_ok() {
        here.how = "there already";
        here.dir = parcel
            .is_in(dir)?
            .ok_or_else(|| ExchangeError::Elsewhere { dir: dir.to_owned(), from: source.to_string() })?;
    } else {
        make(aside)?;
        here.dir = parcel.lay(dir, &aside.join("project"), &aside.join("history"))?;
    }
    here.parcel = Some(OpenedParcel { path, parcel });
    Ok(here)
}

fn make(dir: &Path) -> Result<(), Failure> {
    let made = fs::create_dir_all(dir);
    made.map_err(|error| Failure::Own(3, format!("cannot make {}: {error}", dir.display())))
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

/// Where a clone is made: beside its place, under a name that nobody else takes.
fn aside(dir: &Path) -> PathBuf {
    let name = dir.file_name().unwrap_or(OsStr::new("project")).to_string_lossy().into_owned();
    dir.with_file_name(format!(".{name}.{}.joining", std::process::id()))
}

fn removed(path: &Path) -> bool {
    match fs::remove_dir_all(path) {
        Ok(()) => true,
        Err(error) => error.kind() == std::io::ErrorKind::NotFound,
    }
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

/// This program, for the project.
struct Own<'a> {
    dir: &'a Path,
    general: &'a General,
    variant: Option<String>,
    quiet: bool,
}

impl Own<'_> {
    fn command(&self, arguments: &[&str]) -> Result<Command, Failure> {
        let program =
            std::env::current_exe().map_err(|error| Failure::Own(3, format!("cannot find this program: {error}")))?;
        let mut command = Command::new(program);
        command.arg("-C").arg(self.dir).args(arguments);
        if let Some(variant) = &self.variant {
            command.arg("--variant").arg(variant);
        }
        for path in &self.general.allow_outside {
            command.arg("--allow-outside").arg(path);
        }
        if self.quiet {
            command.arg("-q");
        }
        Ok(command)
    }

    /// Runs a command whose output is the member's.
    fn passed(&self, arguments: &[&str]) -> Result<(), Failure> {
        // What it shows is on the way to what we show.
        let status = self.command(arguments)?.stdout(std::io::stderr()).status();
        ended(arguments, status)
    }

    /// Runs a command for its answer; a difference that it finds is an answer, too.
    fn answer(&self, arguments: &[&str]) -> Result<Value, Failure> {
        let output = self.command(arguments)?.stdin(Stdio::inherit()).stderr(Stdio::inherit()).output();
        let output = output.map_err(|error| Failure::Own(3, format!("cannot run this program: {error}")))?;
        let value: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        let measured = arguments.first() == Some(&"verify") && matches!(output.status.code(), Some(0 | 1 | 3));
        if !measured {
            ended(arguments, Ok(output.status))?;
        }
        Ok(value)
    }
}

/// The failure of a command that has said itself why.
fn ended(arguments: &[&str], status: std::io::Result<ExitStatus>) -> Result<(), Failure> {
    let status = status.map_err(|error| Failure::Own(3, format!("cannot run this program: {error}")))?;
    if status.success() {
        return Ok(());
    }
    let code = status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(130);
    let what = arguments.first().copied().unwrap_or_default();
    Err(Failure::Own(
        code,
        format!("cavrith {what} did not succeed; mend what it says, and type the same command again: it goes on"),
    ))
}
