//! What has to hold between the values of a spec.

use std::collections::HashMap;

use super::{Action, At, Base, Folder, ImageOrigin, Origin, Port, Provenance, Run, Spec, Suite};
use crate::mistake::{Code, Mistake, nearest};
use crate::path::RootPath;

/// Everything that does not.
pub(super) fn check(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    depots_are_declared(spec, mistakes);
    folders_keep_apart(spec, mistakes);
    excepts_keep_apart(spec, mistakes);
    outside_paths_fit_everyone(spec, mistakes);
    ports_can_be_listened_on(spec, mistakes);
    nothing_is_covered(spec, mistakes);
    twice(mistakes, "two downloads have the name", spec.downloads.iter().map(|one| &one.name), Code::NAME_TWICE);
    let starting = spec.start_steps.iter().map(|start| &start.step);
    twice(
        mistakes,
        "two steps have the name",
        spec.steps.iter().chain(starting).map(|step| &step.name),
        Code::NAME_TWICE,
    );
    twice(mistakes, "two ports have the name", spec.ports.iter().map(|port| &port.name), Code::NAME_TWICE);
    ports_keep_apart(spec, mistakes);
    names_mean_ports(spec, mistakes);
    let kept = spec.folders.iter().filter_map(Folder::kept_name);
    twice(mistakes, "two kept folders have the name", kept, Code::NAME_TWICE);
    if let Base::Packages { packages, .. } | Base::Debian(Suite { packages, .. }) = &spec.base {
        twice(mistakes, "`packages` has twice", packages.iter(), Code::NAME_TWICE);
    }
    toolchains_have_a_base(spec, mistakes);
    scripts_are_seen(spec, mistakes);
    fetches_are_allowed(spec, mistakes);
}

/// Commands that fetch, by their first words, and that a build step without a network runs in vain.
const FETCHING: [&[&str]; 16] = [
    &["apt-get", "install"],
    &["apt-get", "update"],
    &["apt", "install"],
    &["apt", "update"],
    &["npm", "ci"],
    &["npm", "install"],
    &["yarn", "install"],
    &["pnpm", "install"],
    &["pip", "install"],
    &["pip3", "install"],
    &["bundle", "install"],
    &["gem", "install"],
    &["cargo", "fetch"],
    &["composer", "install"],
    &["git", "clone"],
    &["go", "mod"],
];

/// The words of a command by which it fetches.
fn fetching(command: &str) -> Option<String> {
    let words: Vec<_> = command.split_whitespace().filter(|word| !word.starts_with('-')).collect();
    let words: Vec<_> = words.into_iter().skip_while(|word| *word == "sudo" || word.contains('=')).collect();
    let by_address = words.first().filter(|first| FETCHERS.contains(first) && command.contains("://"));
    let by_words = || FETCHING.iter().find(|fetching| words.starts_with(fetching)).map(|fetching| fetching.join(" "));
    by_address.map(|first| (*first).to_owned()).or_else(by_words)
}

/// A build step has no network, which who writes `apt-get install` into one may not know.
fn fetches_are_allowed(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for step in spec.steps.iter().filter(|step| step.recorded.is_none()) {
        let Action::Run(At { value: run, span }) = &step.action else { continue };
        let text = match run {
            Run::Shell(text) => text.clone(),
            Run::Program(argv) => argv.join(" "),
        };
        // What says that it does without is believed.
        if ["--offline", "--no-index", "file://", "--no-download"].iter().any(|word| text.contains(word)) {
            continue;
        }
        let found = text.split(['\n', ';', '&', '|', '(']).find_map(fetching);
        let Some(found) = found else { continue };
        let message = format!("{found} fetches, and the build step {:?} has no network", step.name.value);
        let remedy = match found.split(' ').next() {
            Some("apt-get" | "apt") => "write the packages into `packages` of [base], where they are pinned",
            _ => "add network = \"recorded\": what it fetches is pinned then (cavrith lock --record)",
        };
        mistakes.push(Mistake::new(Code::STEP_FETCHES, span.clone(), message, remedy).as_warning());
    }
}

/// Programs that fetch something.
const FETCHERS: [&str; 3] = ["curl", "wget", "fetch"];
/// Programs that run whatever they are given.
const INTERPRETERS: [&str; 9] = ["sh", "bash", "dash", "zsh", "python", "python3", "node", "perl", "ruby"];

/// What is fetched is pinned, but nobody has read a script that goes from the web into a shell.
fn scripts_are_seen(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for step in &spec.steps {
        let (Some(span), Action::Run(At { value: Run::Shell(text), .. })) = (&step.recorded, &step.action) else {
            continue;
        };
        if text.lines().any(pipes_into_shell) {
            let message = format!("the step {:?} runs a script that it fetches, and nobody has read", step.name.value);
            let remedy = "fetch it into a file, hold it against a digest (sha256sum -c), and run it then";
            mistakes.push(Mistake::new(Code::PIPED_SCRIPT, span.clone(), message, remedy).as_warning());
        }
    }
}

/// Whether a line of a shell has what is fetched run: `curl … | sh`, `sh -c "$(curl …)"`, `sh <(curl …)`.
fn pipes_into_shell(line: &str) -> bool {
    let program = |text: &str| -> String {
        let words =
            text.split_whitespace().filter(|word| !matches!(*word, "sudo" | "env" | "exec") && !word.contains('='));
        let first = words.take(1).collect::<String>();
        first.rsplit('/').next().unwrap_or_default().trim_matches(['"', '\'', '(', '`', '$']).to_owned()
    };
    let commands: Vec<_> = line.split([';', '&']).collect();
    commands.iter().any(|command| {
        let parts: Vec<_> = command.split('|').map(program).collect();
        let piped = parts
            .iter()
            .position(|name| FETCHERS.contains(&name.as_str()))
            .is_some_and(|at| parts[at + 1..].iter().any(|name| INTERPRETERS.contains(&name.as_str())));
        let inner = ["$(", "<(", "`"].iter().filter_map(|open| Some(command.split_once(open)?.1));
        let substituted = INTERPRETERS.contains(&parts[0].as_str())
            && inner.map(program).any(|name| FETCHERS.contains(&name.as_str()));
        piped || substituted
    })
}

fn twice<'a, T: std::fmt::Display + 'a>(
    mistakes: &mut Vec<Mistake>,
    message: &str,
    values: impl Iterator<Item = &'a At<T>>,
    code: Code,
) {
    let mut firsts: HashMap<String, &At<T>> = HashMap::new();
    for value in values {
        if let Some(first) = firsts.get(&value.value.to_string()) {
            let remedy = "change or remove one of them";
            let mistake = Mistake::new(code, value.span.clone(), format!("{message} {}", value.value), remedy);
            mistakes.push(mistake.noting("again here").against(first.span.clone(), "first here"));
            continue;
        }
        firsts.insert(value.value.to_string(), value);
    }
}

fn depots_are_declared(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    let mut named = Vec::new();
    if let Base::Packages { depot, .. } = &spec.base {
        named.push(depot);
    }
    named.extend(spec.toolchains.values().filter_map(|wanted| wanted.value.depot()));
    for depot in named {
        // An empty name stands for a base that could not be read.
        if spec.depots.contains_key(&depot.value) || depot.span.is_empty() {
            continue;
        }
        let remedy = match nearest(&depot.value, spec.depots.keys().map(String::as_str)) {
            Some(meant) => format!("write \"{meant}\", or declare it under [depots]"),
            None => format!("declare it: [depots] {} = {{ path = \"…\" }}", depot.value),
        };
        let message = format!("there is no depot `{}`", depot.value);
        mistakes.push(Mistake::new(Code::UNKNOWN_DEPOT, depot.span.clone(), message, remedy));
    }
}

/// One directory that stays inside lies in another one: the outer one has it already.
fn excepts_keep_apart(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for folder in &spec.folders {
        for (position, path) in folder.except.iter().enumerate() {
            for earlier in &folder.except[..position] {
                if path.value.lies_in(&earlier.value) || earlier.value.lies_in(&path.value) {
                    let message = format!("two entries of `except` of {} lie in each other", folder.inside.value);
                    let remedy = "keep the outer one only";
                    let mistake = Mistake::new(Code::FOLDERS_MEET, path.span.clone(), message, remedy);
                    mistakes.push(mistake.noting("this one").against(earlier.span.clone(), "and this one"));
                }
            }
        }
    }
}

/// One folder may lie in another one, but two cannot have the same place.
fn folders_keep_apart(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for (position, folder) in spec.folders.iter().enumerate() {
        for earlier in &spec.folders[..position] {
            let (a, b) = (&earlier.inside, &folder.inside);
            if a.value == b.value {
                let message = format!("two folders have the place {} inside", a.value);
                let remedy = "give them paths of their own";
                let mistake = Mistake::new(Code::FOLDERS_MEET, b.span.clone(), message, remedy);
                mistakes.push(mistake.noting("this one").against(a.span.clone(), "and this one"));
            }
        }
    }
}

/// No port number is meant twice, for one protocol.
fn ports_keep_apart(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for (position, port) in spec.ports.iter().enumerate() {
        // At addresses of their own, two ports have nothing to do with each other.
        let address = |port: &Port| port.bind.as_ref().map(|bind| bind.value).filter(|bind| !bind.is_unspecified());
        let meets = |earlier: &&Port| {
            let both = (address(port), address(earlier));
            earlier.protocol == port.protocol && !matches!(both, (Some(one), Some(other)) if one != other)
        };
        for earlier in spec.ports[..position].iter().filter(meets) {
            let meet = |mine: u16, my_last: u16, other: u16, other_last: u16| mine <= other_last && other <= my_last;
            let shown =
                |first: u16, last: u16| if first == last { first.to_string() } else { format!("{first} to {last}") };
            let (mine, theirs) = (port.last(), earlier.last());
            let inside = meet(port.inside.value, mine.0, earlier.inside.value, theirs.0);
            let outside = meet(port.outside.value, mine.1, earlier.outside.value, theirs.1);
            // A port whose outside number is left out has the inside one; then enough is said by one mistake.
            let (which, a, b, first, last) = if inside {
                ("inside", &port.inside, &earlier.inside, port.inside.value, mine.0)
            } else if outside {
                ("outside", &port.outside, &earlier.outside, port.outside.value, mine.1)
            } else {
                continue;
            };
            let message = format!("two ports have the {which} number {}", shown(first, last));
            let mistake = Mistake::new(Code::PORT_TWICE, a.span.clone(), message, "give one of them another number");
            mistakes.push(mistake.noting("again here").against(b.span.clone(), "first here"));
        }
    }
}

/// A name stands for a port that is there.
fn names_mean_ports(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for (name, port) in &spec.names {
        if spec.ports.iter().any(|known| known.name.value == port.value) {
            continue;
        }
        let remedy = match nearest(&port.value, spec.ports.iter().map(|port| port.name.value.as_str())) {
            Some(meant) => format!("write {meant:?}"),
            None => format!("declare it: [[ports]] name = {:?}", port.value),
        };
        let message = format!("the name {name} is for the port {:?}, which is not there", port.value);
        mistakes.push(Mistake::new(Code::UNKNOWN_PORT, port.span.clone(), message, remedy));
    }
}

/// Packages of the base can be had only of a base that has packages.
fn toolchains_have_a_base(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    // An empty list of packages stands for a base that could not be read.
    let unread = matches!(&spec.base, Base::Packages { packages, .. } if packages.is_empty());
    if matches!(spec.base, Base::Debian(_)) || unread {
        return;
    }
    for (name, wanted) in &spec.toolchains {
        if let Provenance::Base { .. } = wanted.value.from {
            let message = format!(
                "`{name}` is to come from packages of the base, and the base is not a suite of the Debian archive"
            );
            let remedy = "write base.debian = \"…\", or take the toolchain from a depot or an archive";
            mistakes.push(Mistake::new(Code::NOT_ALLOWED, wanted.span.clone(), message, remedy));
        }
    }
}

/// A path that begins at the root of the disk is one machine's.
fn outside_paths_fit_everyone(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    let depots = spec.depots.values().filter_map(|depot| match &depot.value.origin {
        Origin::Path(path) => Some(path),
        Origin::Url(_) => None,
    });
    let archive = match &spec.base {
        Base::Archive { origin: Origin::Path(path), .. } => Some(path),
        Base::Oci(image) => match &image.origin {
            ImageOrigin::Path(path, _) => Some(path),
            ImageOrigin::Reference(_) => None,
        },
        _ => None,
    };
    let archives = spec.toolchains.values().filter_map(|wanted| match &wanted.value.from {
        Provenance::Archive { origin: Origin::Path(path), .. } => Some(path),
        _ => None,
    });
    let archive = archive.into_iter().chain(archives);
    let live = spec.folders.iter().filter_map(Folder::outside);
    for path in live.chain(depots).chain(archive) {
        if path.value.starts_with('/') {
            let message = format!("{} is a path that every member would need on their own disk", path.value);
            let remedy = "write it relative to the spec";
            mistakes.push(Mistake::new(Code::ONE_MACHINE, path.span.clone(), message, remedy).as_warning());
        }
    }
}

fn ports_can_be_listened_on(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    for port in spec.ports.iter().filter(|port| port.outside.value < 1024) {
        let message = format!("an ordinary user may not listen on port {}", port.outside.value);
        let remedy = "add an outside number of 1024 or more";
        mistakes.push(Mistake::new(Code::PRIVILEGED_PORT, port.outside.span.clone(), message, remedy).as_warning());
    }
}

/// What is laid into the image beneath a folder's inside path is never seen.
fn nothing_is_covered(spec: &Spec, mistakes: &mut Vec<Mistake>) {
    let mut laid: Vec<(&str, &At<RootPath>)> = Vec::new();
    for step in &spec.steps {
        match &step.action {
            Action::Write(write) => laid.push(("the step writes", &write.inside)),
            Action::Copy(copy) => laid.push(("the step copies to", &copy.inside)),
            Action::Take(taken) => laid.push(("the step copies to", &taken.inside)),
            Action::Run(_) => {}
        }
        laid.extend(step.creates.as_ref().map(|creates| ("the step creates", creates)));
    }
    laid.extend(spec.downloads.iter().map(|download| ("the download lies at", &download.inside)));
    for (what, path) in laid {
        for folder in spec.folders.iter().filter(|folder| path.value.lies_in(&folder.inside.value)) {
            let message = format!("{what} {}, and the folder {} covers it", path.value, folder.inside.value);
            let mistake =
                Mistake::new(Code::COVERED, path.span.clone(), message, "choose a path outside of the folder");
            mistakes.push(mistake.noting("this").against(folder.inside.span.clone(), "is covered by this"));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::pipes_into_shell;

    #[test]
    fn a_script_that_is_run_as_it_comes_is_seen_in_all_its_forms() {
        for line in [
            "curl -sSf https://a.example/install | sh",
            "curl https://a.example/x | sudo bash -s -- -y",
            "cd /tmp; wget -qO- https://a.example/x | gunzip | /bin/sh",
            "sh -c \"$(curl -fsSL https://a.example/x)\"",
            "bash <(curl -s https://a.example/x)",
            "true && curl https://a.example/x.py | python3 -",
        ] {
            assert!(pipes_into_shell(line), "{line}");
        }
        for line in [
            "curl -o x https://a.example/x && sha256sum -c sums && sh x",
            "curl https://a.example/x | tar x",
            "echo curl | sh",
            "sh build.sh | tee log",
            "wget https://a.example/a; cat b | sh",
        ] {
            assert!(!pipes_into_shell(line), "{line}");
        }
    }
}
