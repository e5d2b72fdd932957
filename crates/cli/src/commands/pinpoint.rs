//! `cavrith pinpoint`

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::time::Instant;

use cavrith_core::history::Environment;
use cavrith_engine::project;
use cavrith_exchange::revisions;
use cavrith_sandbox::janitor;
use cavrith_workspace::beside;
use cavrith_workspace::history::{self, Question, Step};
use serde_json::json;

use crate::args::{General, Pinpoint};
use crate::commands::own::Own;
use crate::commands::{Outcome, for_all_variants};
use crate::failure::Failure;
use crate::render;
use crate::render::progress::seconds;
use crate::screen::{Screen, styled};

/// The exit code with which a command says that it cannot tell.
const CANNOT_TELL: i32 = 125;
/// Lines of a command that failed which are shown.
const LAST_LINES: usize = 5;

/// How a command ended in the workspace of a revision.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Outcomes {
    Succeeds,
    Fails(i32),
    /// It could not be tried, and why.
    Unknown(String),
}

pub fn exec(general: &General, screen: &Screen, command: &Pinpoint) -> Outcome {
    for_all_variants(general, "pinpoint")?;
    let dir = project::find(general.project())?;
    let (good, bad) = (revisions::resolve(&dir, &command.good)?, revisions::resolve(&dir, &command.bad)?);
    if !revisions::leads_to(&dir, &good, &bad) {
        let text = format!("{} does not come before {}; name the older, good one first", command.good, command.bad);
        return Err(Failure::Own(2, text));
    }
    let question = Question { tip: Some(&bad), after: Some(&good), environments: true, ..Question::default() };
    let steps = changes(history::read(&dir, &question)?.steps);
    if steps.is_empty() {
        let text = "no revision between them changed the workspace, so it is not the workspace that broke it";
        return Err(Failure::Own(1, text.to_owned()));
    }
    screen.say(format_args!(
        "{} between {} and {} changed the workspace; about {} to try",
        cavrith_core::verdict::count(steps.len(), "revision"),
        beside::short(&good),
        beside::short(&bad),
        2 + steps.len().next_power_of_two().ilog2()
    ));
    let above = beside::of_search(&dir)?;
    // Whatever happens to this command, its workspaces end and its folders go.
    let _janitor = janitor::watch(&above, beside::discard)?;
    let general = &general.allowing(beside::allowed(&dir)?);
    let made_of: BTreeSet<String> = steps.iter().flat_map(|step| step.made_of.iter().cloned()).collect();
    let search =
        Search { general, screen, command, dir: &dir, above, bad: &bad, made_of: made_of.into_iter().collect() };
    search.run(&good, &steps)
}

/// The revisions in which the workspace became another one.
fn changes(steps: Vec<Step>) -> Vec<Step> {
    let mut last: Option<Environment> = None;
    let mut kept = Vec::new();
    for step in steps {
        // A revision that cannot be read is tried, and told.
        if step.environment.is_none() || step.environment != last {
            last.clone_from(&step.environment);
            if !step.moved.is_empty() {
                kept.push(step);
            }
        }
    }
    kept
}

struct Search<'a> {
    general: &'a General,
    screen: &'a Screen,
    command: &'a Pinpoint,
    dir: &'a Path,
    above: PathBuf,
    /// The commit whose files of the project all are tried with.
    bad: &'a str,
    /// The files that a workspace is made of.
    made_of: Vec<String>,
}

impl Search<'_> {
    fn run(&self, good: &str, steps: &[Step]) -> Outcome {
        let last = steps.len() - 1;
        let mut tried = Vec::new();
        let mut attempt = |commit: &str| -> Result<Outcomes, Failure> {
            let outcome = self.attempt(commit)?;
            tried.push((commit.to_owned(), outcome.clone()));
            Ok(outcome)
        };
        match attempt(good)? {
            Outcomes::Succeeds => {}
            Outcomes::Fails(_) if self.command.whole => {
                return Err(Failure::Own(
                    1,
                    format!("it fails at {} already; name an older revision", beside::short(good)),
                ));
            }
            Outcomes::Fails(_) => {
                let text = format!(
                    "it fails in the workspace of {} too, so it is not the workspace that broke it; --whole takes the project's own files of each revision, too",
                    beside::short(good)
                );
                return Err(Failure::Own(1, text));
            }
            Outcomes::Unknown(why) => {
                return Err(Failure::Own(5, format!("{} cannot be tried: {why}", beside::short(good))));
            }
        }
        match attempt(&steps[last].commit)? {
            Outcomes::Fails(_) => {}
            Outcomes::Succeeds => {
                let text =
                    format!("it succeeds in the workspace of {}, so there is nothing to find", beside::short(self.bad));
                return Err(Failure::Own(1, text));
            }
            Outcomes::Unknown(why) => {
                return Err(Failure::Own(5, format!("{} cannot be tried: {why}", beside::short(&steps[last].commit))));
            }
        }
        // What is below `low` succeeds; what is at `high` fails. Those between that cannot be tried are left out.
        let (mut low, mut high) = (0, last);
        let mut left_out = BTreeSet::new();
        loop {
            let open: Vec<_> = (low..high).filter(|at| !left_out.contains(at)).collect();
            let Some(middle) = open.get(open.len() / 2).copied() else { break };
            match attempt(&steps[middle].commit)? {
                Outcomes::Succeeds => low = middle + 1,
                Outcomes::Fails(_) => high = middle,
                Outcomes::Unknown(_) => drop(left_out.insert(middle)),
            }
        }
        let doubtful: Vec<_> = left_out.into_iter().filter(|at| (low..high).contains(at)).collect();
        self.tell(&steps[high], &doubtful.iter().map(|at| &steps[*at]).collect::<Vec<_>>(), &tried);
        Ok(0)
    }

    /// Runs the command in the workspace of a commit, with the project's own files of the bad one.
    fn attempt(&self, commit: &str) -> Result<Outcomes, Failure> {
        let screen = self.screen;
        let started = Instant::now();
        let folder = beside::in_search(&self.above, commit);
        let outcome = self.attempt_in(&folder, commit)?;
        let words = match &outcome.0 {
            Outcomes::Succeeds => styled(screen.err.good, "succeeds"),
            Outcomes::Fails(code) => styled(screen.err.bad, format_args!("fails with {code}")),
            Outcomes::Unknown(why) => format!("{} {why}", styled(screen.err.warning, "cannot be tried:")),
        };
        let took = seconds(started.elapsed().as_millis() as u64);
        screen.say(format_args!("{}  {words}, in {took}", styled(screen.err.strong, beside::short(commit))));
        for line in &outcome.1 {
            screen.say(format_args!("    {line}"));
        }
        Ok(outcome.0)
    }

    fn attempt_in(&self, folder: &Path, commit: &str) -> Result<(Outcomes, Vec<String>), Failure> {
        let unknown = |why: String| Ok((Outcomes::Unknown(why), Vec::new()));
        let files_of = if self.command.whole { commit } else { self.bad };
        let dir = match beside::lay_out(self.dir, files_of, folder) {
            Ok(dir) => dir,
            Err(error) => return unknown(error.to_string()),
        };
        if !self.command.whole {
            revisions::exchange(&dir, commit, &self.made_of)?;
        }
        let own = Own { dir: &dir, general: self.general, variant: None, quiet: true };
        let name = format!("search-{}", beside::short(commit));
        let start = captured(&own, &["start", "--wait", "--known", "--called", &name], &[])?;
        if !start.0.success() {
            let lines = start.1;
            return unknown(lines.first().map_or_else(|| "it does not start".to_owned(), Clone::clone));
        }
        let (status, lines) = captured(&own, &["run"], &self.command.command)?;
        let _ = captured(&own, &["stop"], &[])?;
        let outcome = match status.code() {
            Some(0) => Outcomes::Succeeds,
            Some(CANNOT_TELL) => Outcomes::Unknown("the command says that it cannot tell".to_owned()),
            Some(code) => Outcomes::Fails(code),
            None => return Err(Failure::Own(130, "interrupted".to_owned())),
        };
        let from = lines.len().saturating_sub(LAST_LINES);
        let shown = if matches!(outcome, Outcomes::Fails(_)) { lines[from..].to_vec() } else { Vec::new() };
        Ok((outcome, shown))
    }

    fn tell(&self, found: &Step, doubtful: &[&Step], tried: &[(String, Outcomes)]) {
        let screen = self.screen;
        if self.command.report.json {
            let tried: Vec<_> = tried
                .iter()
                .map(|(commit, outcome)| {
                    let (word, code, why) = match outcome {
                        Outcomes::Succeeds => ("succeeds", Some(0), None),
                        Outcomes::Fails(code) => ("fails", Some(*code), None),
                        Outcomes::Unknown(why) => ("unknown", None, Some(why)),
                    };
                    json!({ "commit": commit, "outcome": word, "exit": code, "why": why })
                })
                .collect();
            let doubtful: Vec<_> = doubtful.iter().map(|step| &step.commit).collect();
            screen.json(&json!({ "found": found, "or_one_of": doubtful, "tried": tried }));
            return;
        }
        screen.result(format_args!("{} since", styled(screen.out.bad, "it fails")));
        render::history::step(screen, found);
        if !doubtful.is_empty() {
            screen.result("or since one of these, which could not be tried:");
            for step in doubtful {
                render::history::step(screen, step);
            }
        }
    }
}

/// Runs this program, and gives how it ended and what it wrote, line by line.
fn captured(own: &Own<'_>, arguments: &[&str], typed: &[String]) -> Result<(ExitStatus, Vec<String>), Failure> {
    let cannot = |error: std::io::Error| Failure::Own(3, format!("cannot run this program: {error}"));
    let mut command = own.command(arguments)?;
    if !typed.is_empty() {
        command.arg("--").args(typed);
    }
    let output = command.stdin(Stdio::null()).output().map_err(cannot)?;
    let all = [output.stdout, output.stderr].concat();
    let text = String::from_utf8_lossy(&all).into_owned();
    let lines = text.lines().map(|line| line.trim_end().to_owned()).filter(|line| !line.is_empty()).collect();
    Ok((output.status, lines))
}
