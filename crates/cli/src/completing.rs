//! What can follow while somebody types: names of the project that is meant, and of this machine's workspaces.
//!
//! A shell asks by running the program with a variable set; whatever cannot be read is no answer, and no message.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::io;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};

use cavrith_core::failure;
use cavrith_core::mistake::Code;
use cavrith_core::spec::Spec;
use cavrith_core::spec::keys::KEYS;
use cavrith_engine::findings::Findings;
use cavrith_engine::{project, survey};
use cavrith_keeper::place::Place;
use cavrith_sources::web::Web;
use clap::Command;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::Shells;
use clap_complete::{CompleteEnv, Shell};

use crate::build_env;

/// The variable by which a shell asks.
const VARIABLE: &str = "CAVRITH_COMPLETE";

/// Whether it is Bash that asks.
static ASKS_BASH: AtomicBool = AtomicBool::new(false);

/// Answers a shell that asks what can follow, and ends the program; returns when none asks.
pub fn answer(program: impl Fn() -> Command) {
    // The variable is gone by the time that names are asked for.
    let is_bash = std::env::var_os(VARIABLE).is_some_and(|shell| shell == "bash");
    ASKS_BASH.store(is_bash, Ordering::Relaxed);
    CompleteEnv::with_factory(program).var(VARIABLE).complete();
}

/// Writes what a shell has to read so that it asks.
///
/// # Errors
/// When there is nothing for that shell, or `to` cannot be written.
pub fn registration(shell: Shell, to: &mut dyn io::Write) -> io::Result<()> {
    let shells = Shells::builtins();
    let shell = shells.completer(&shell.to_string()).ok_or(io::ErrorKind::Unsupported)?;
    shell.write_registration(VARIABLE, "cavrith", "cavrith", "cavrith", to)
}

/// The folder of the project that is meant by what was typed so far.
fn project_dir() -> Option<PathBuf> {
    let words: Vec<_> = std::env::args_os().collect();
    let typed = words.iter().enumerate().find_map(|(at, word)| {
        let text = word.to_str()?;
        match text {
            "-C" | "--project" => words.get(at + 1).map(PathBuf::from),
            _ => text.strip_prefix("--project=").or_else(|| text.strip_prefix("-C")).map(PathBuf::from),
        }
    });
    project::find(&typed.unwrap_or_else(|| PathBuf::from("."))).ok()
}

fn spec() -> Option<Spec> {
    Some(project::load(&project_dir()?, None).ok()?.spec)
}

/// Those that begin with what is typed.
fn beginning(typed: &OsStr, names: impl IntoIterator<Item = String>) -> Vec<CompletionCandidate> {
    let Some(typed) = typed.to_str() else { return Vec::new() };
    // Bash hands over what is typed with its quotes, and takes what it gets as it is; other shells do both themselves.
    let is_bash = ASKS_BASH.load(Ordering::Relaxed);
    let typed = if is_bash { unquoted(typed) } else { typed.to_owned() };
    let names = names.into_iter().filter(|name| name.starts_with(&typed) && !name.chars().any(char::is_control));
    names.map(|name| CompletionCandidate::new(if is_bash { quoted(&name) } else { name })).collect()
}

/// A word of a shell without its quotes.
fn unquoted(word: &str) -> String {
    let mut out = String::with_capacity(word.len());
    let mut letters = word.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '\\' => out.extend(letters.next()),
            '\'' | '"' => {}
            letter => out.push(letter),
        }
    }
    out
}

/// A name as one word of a shell.
fn quoted(name: &str) -> String {
    let is_plain = |letter: char| letter.is_alphanumeric() || "-_./@:+%,=".contains(letter);
    let letters = name.chars().flat_map(|letter| (!is_plain(letter)).then_some('\\').into_iter().chain([letter]));
    letters.collect()
}

/// What completes a name of the project's spec.
fn of_spec(names: fn(&Spec) -> Vec<String>) -> ArgValueCompleter {
    let all = move || spec().map(|spec| names(&spec)).unwrap_or_default();
    ArgValueCompleter::new(move |typed: &OsStr| beginning(typed, all()))
}

/// Services, and steps of the start.
pub fn sources() -> ArgValueCompleter {
    of_spec(|spec| {
        let steps = spec.start_steps.iter().map(|start| start.step.name.value.clone());
        spec.services.keys().cloned().chain(steps).collect()
    })
}

/// Steps that fetch.
pub fn fetching_steps() -> ArgValueCompleter {
    of_spec(names_of_fetching_steps)
}

fn names_of_fetching_steps(spec: &Spec) -> Vec<String> {
    let steps = spec.steps.iter().filter(|step| step.recorded.is_some());
    steps.map(|step| step.name.value.clone()).collect()
}

/// What the lock pins by a name.
pub fn pins() -> ArgValueCompleter {
    of_spec(|spec| {
        let toolchains = spec.toolchains.keys().cloned();
        let extensions = spec.editor.iter().flat_map(|editor| editor.extensions.keys().cloned());
        let downloads = spec.downloads.iter().map(|download| download.name.value.clone());
        let steps = names_of_fetching_steps(spec);
        toolchains.chain(extensions).chain(downloads).chain(steps).chain(["base".to_owned()]).collect()
    })
}

/// Kept folders.
pub fn kept_folders() -> ArgValueCompleter {
    of_spec(|spec| spec.folders.iter().filter_map(|folder| Some(folder.kept_name()?.value.clone())).collect())
}

/// Accounts that commands can run as.
pub fn accounts() -> ArgValueCompleter {
    of_spec(|spec| {
        let of_services = spec.services.values().filter_map(|service| service.value.account.as_ref());
        let mut names: Vec<_> = of_services.map(|account| account.value.clone()).collect();
        names.extend([spec.workspace.account.value.clone(), "root".to_owned()]);
        names.sort();
        names.dedup();
        names
    })
}

/// Variants of the spec.
pub fn variants() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let project = project_dir().and_then(|dir| project::load(&dir, None).ok());
        beginning(typed, project.into_iter().flat_map(|project| project.variants.into_keys()))
    })
}

/// This project's workspaces.
pub fn workspaces() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let (Ok(home), Some(dir)) = (build_env::home(), project_dir()) else { return Vec::new() };
        let dir = dir.canonicalize().unwrap_or(dir);
        let ours = Place::all(&home).into_iter().filter(|place| place.project == dir);
        beginning(typed, ours.map(|place| place.name))
    })
}

/// Extensions that the project's depots have.
pub fn extensions() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let (Some(dir), Some(spec)) = (project_dir(), spec()) else { return Vec::new() };
        // No network while somebody types: what was seen of depots there is enough.
        let (web, store) = (Web::new(true), build_env::store().ok().map(|(_, store)| store));
        let offers = survey::offered(&dir, &spec, &web, store.as_ref(), &mut Findings::default());
        let all = offers.values().flat_map(|offer| &offer.index.extensions);
        let ids: BTreeSet<_> = all.map(|extension| extension.id.clone()).collect();
        beginning(typed, ids)
    })
}

/// Codes, and keys of the spec.
pub fn topics() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let codes = Code::ALL.iter().map(ToString::to_string);
        let failures = failure::all().iter().map(|one| one.code.clone());
        let keys = KEYS.iter().map(|key| key.path.replace("[]", "").replace(".*", ""));
        beginning(typed, codes.chain(failures).chain(keys))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_one_word_of_a_shell_and_is_found_again() {
        for name in ["site", "install humanize==4.17.0", "a'b \"c\" $(d)"] {
            assert_eq!(unquoted(&quoted(name)), name);
        }
        assert_eq!(quoted("two words"), "two\\ words");
        assert_eq!(unquoted("'two w"), "two w");
    }
}
