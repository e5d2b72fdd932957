//! `cavrith check`

use std::collections::BTreeSet;

use cavrith_core::lock::choose::Update;
use cavrith_core::mistake::Mistake;
use cavrith_core::team::Signer;
use cavrith_engine::member::{self, Member};
use cavrith_engine::personal::Personal;
use cavrith_engine::project::Project;
use cavrith_engine::team::{self, Standing};
use cavrith_engine::{on_top, project, suites, survey};
use cavrith_store::Store;
use cavrith_workspace::adding;
use serde_json::{Value, json};

use crate::args::{Check, General, Report};
use crate::build_env;
use crate::commands::Outcome;
use crate::render::mistakes;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Check) -> Outcome {
    if command.personal {
        return personal(general, screen, &command.report);
    }
    let command = &command.report;
    let dir = project::find(general.project())?;
    let store = build_env::store().ok().map(|(_, store)| store);
    let mut survey = survey::survey(&dir, &build_env::web(), store.as_ref(), &Update::Nothing)?;
    if let (Some(store), Some(project)) = (&store, &survey.project) {
        survey.findings.mistakes.extend(unknown_packages(store, project));
        survey.findings.sort();
    }
    if let (Some(name), Some(project)) = (&general.variant, &survey.project) {
        project.of_variant(name)?;
    }
    let sound = survey.findings.is_sound();
    let sealed = survey.project.as_ref().and_then(sealed);
    if command.json {
        let mut value = mistakes::as_json(&survey.findings);
        if let Some(entries) = value.as_object_mut() {
            entries.insert("seal".to_owned(), sealed.map_or(Value::Null, |sealed| sealed.as_json()));
        }
        screen.json(&value);
    } else {
        mistakes::show(screen, &survey.findings);
        if sound && !screen.quiet {
            let style = screen.out.good;
            let name = survey.project.map(|project| project.spec.workspace.name.value).unwrap_or_default();
            screen.result(format_args!("{} in the spec of {name}", styled(style, "no mistakes")));
            if let Some(Sealed { words, signer }) = sealed {
                let by = signer.map_or_else(String::new, |signer| format!(", signed by {}", signer.name));
                screen.result(format_args!("sealed as {}{by}", styled(screen.out.strong, words)));
            }
        }
    }
    Ok(u8::from(!sound))
}

/// How variables begin that stand for one name and address.
const OF_GIT: [&str; 2] = ["GIT_AUTHOR_", "GIT_COMMITTER_"];

/// What the member's configuration adds: everything is read that a start would read, and nothing is started.
fn personal(general: &General, screen: &Screen, command: &Report) -> Outcome {
    let config = Member::find()?.config;
    let path = member::config_path().unwrap_or_default();
    let project = project::find(general.project()).ok();
    let own = project.as_deref().map_or_else(|| config.personal.clone(), |dir| config.personal.for_project(dir));
    let added = adding::personal(&own, &config)?;
    let files: Vec<_> = added.dotfiles.files.iter().map(|file| format!("~/{}", file.path)).collect();
    if command.json {
        screen.json(&json!({
            "config": path.display().to_string(),
            "env": added.own,
            "everywhere": added.everywhere.keys().collect::<Vec<_>>(),
            "path": added.path,
            "aliases": added.aliases,
            "shell": added.shell,
            "editor": own.editor,
            "dotfiles": files,
            "packages": own.packages,
            "toolchains": own.toolchains,
            "extensions": own.extensions,
            "settings": own.settings,
            "caches": added.caches,
            "ssh_agent": own.ssh_agent,
            "gpg_agent": own.gpg_agent,
            "git_credentials": own.git_credentials,
            "notes": added.lacks,
        }));
        return Ok(0);
    }
    let line = |what: &str, text: &str| {
        screen.result(format_args!("{} {text}", styled(screen.out.faint, format_args!("{what:9}"))));
    };
    let scope = project.as_deref().map_or_else(|| "any project".to_owned(), |dir| dir.display().to_string());
    screen.result(format_args!("{} adds to the workspace of {scope}", path.display()));
    let author: Vec<_> = own.git.name.iter().cloned().chain(own.git.email.iter().map(|at| format!("<{at}>"))).collect();
    if !author.is_empty() {
        line("git", &author.join(" "));
    }
    for (name, value) in added.own.iter().filter(|(name, _)| !OF_GIT.iter().any(|own| name.starts_with(own))) {
        line("variable", &format!("{name}={value}"));
    }
    for (name, port) in &added.ports {
        line("port", &format!("{name} at {port} outside"));
    }
    for (name, link) in &added.links {
        line("link", &format!("{name}:{} is port {} of {}", link.port, link.port, link.workspace));
    }
    if !added.path.is_empty() {
        line("path", &added.path.join(", "));
    }
    for (name, words) in &added.aliases {
        line("alias", &format!("{name}: {words}"));
    }
    for (what, name) in [("shell", &added.shell), ("editor", &own.editor)] {
        if let Some(name) = name {
            line(what, name);
        }
    }
    for file in &files {
        line("dotfile", file);
    }
    for part in &added.dotfiles.run {
        line("run", &part.argv.join(" "));
    }
    for package in &own.packages {
        line("package", package);
    }
    for (what, wanted) in [("toolchain", &own.toolchains), ("extension", &own.extensions)] {
        wanted.iter().for_each(|(name, version)| line(what, &format!("{name} {version}")));
    }
    for (name, value) in &own.settings {
        line("setting", &format!("{name} = {value}"));
    }
    for (agent, wanted) in [("SSH", own.ssh_agent), ("GPG", own.gpg_agent)] {
        if wanted {
            line("agent", &format!("your {agent} agent answers commands inside"));
        }
    }
    if !own.git_credentials.is_empty() {
        line("git", &format!("your credentials for {}", own.git_credentials.join(", ")));
    }
    for cache in &added.caches {
        line("cache", &format!("~/{cache}, shared with your other workspaces"));
    }
    let names: Vec<_> = added.everywhere.keys().map(String::as_str).collect();
    if !names.is_empty() {
        line("network", &names.join(", "));
    }
    for note in &added.lacks {
        line("note", note);
    }
    if added == Personal::default() && own.editor.is_none() && !on_top::is_wanted(&own) {
        line("nothing", "");
    }
    Ok(0)
}

/// Packages that the archive does not have, in all variants.
fn unknown_packages(store: &Store, project: &Project) -> Vec<Mistake> {
    let lock = project::read_lock(&project.dir).ok().flatten();
    let (mut found, mut places) = (Vec::new(), BTreeSet::new());
    for (name, spec) in &project.variants {
        let lock = lock.as_ref().and_then(|lock| lock.of_variant(name));
        let unknown = suites::unknown_packages(store, spec, lock.as_ref());
        // What variants share is one mistake.
        let place = |mistake: &Mistake| mistake.places.first().map_or(0, |place| place.span.start);
        found.extend(unknown.into_iter().filter(|mistake| places.insert(place(mistake))));
    }
    found
}

/// A seal, and who stands for it.
struct Sealed {
    words: String,
    signer: Option<Signer>,
}

impl Sealed {
    fn as_json(&self) -> Value {
        let signer = self.signer.as_ref().map(|signer| json!({ "by": signer.name, "key": signer.key.fingerprint() }));
        json!({ "words": self.words, "signed": signer })
    }
}

/// The seal of a project, if there is one that is to be believed.
fn sealed(project: &Project) -> Option<Sealed> {
    let whole = project::read_lock(&project.dir).ok()??;
    let lock = whole.of_variant(&project.spec.variant)?;
    let signer = match team::judge(&project.dir, &lock).ok()? {
        Standing::Signed { signer, .. } => Some(signer),
        Standing::NoSeal => return None,
        Standing::NoTeam | Standing::TeamGone | Standing::Unsigned => None,
    };
    Some(Sealed { words: lock.seal?.words, signer })
}
