//! The command line of Cavrith: arguments in, words and exit codes out.
//!
//! `main` sends processes that were started as a sandbox or as a second builder to their work, parses the arguments,
//! and maps what came of it to an exit code. Each command is one file in [`commands`]; everything that is written to a
//! terminal is written in [`render`], through the one [`screen::Screen`].
//!
//! | code | meaning |
//! |---|---|
//! | 0 | done, and the same |
//! | 1 | a check found something: mistakes, differences |
//! | 2 | wrong use, or a workspace that is not in a state for it |
//! | 3 | this machine lacks something |
//! | 4 | a source could not be reached, or did not match its digest |
//! | 5 | a step failed |
//! | 130 | interrupted |
//!
//! `enter` and `run` end as their command ended.
#![forbid(unsafe_code)]

mod args;
mod build_env;
mod choosing;
mod commands;
mod completing;
mod consent;
mod demo;
mod failure;
mod harmless;
mod keys;
mod pager;
mod render;
mod screen;
mod wrapping;

use std::process::ExitCode;

use clap::{ArgMatches, CommandFactory as _, FromArgMatches as _};

use crate::args::{Args, Command};
use crate::commands::Outcome;
use crate::failure::Failure;
use crate::screen::Screen;

fn main() -> ExitCode {
    cavrith_sandbox::child::divert();
    cavrith_engine::sealing::divert();
    cavrith_keeper::divert();
    completing::answer(Args::command);
    let parsed = Args::command().try_get_matches();
    let as_json = parsed.as_ref().is_ok_and(wants_json);
    let args = match parsed.and_then(|matches| Args::from_arg_matches(&matches)) {
        Ok(args) => args,
        Err(error) => {
            // Help and version are no mistakes; clap knows where each belongs. A closed pipe is not a mistake either.
            let lost = error.print().is_err_and(|error| error.kind() != std::io::ErrorKind::BrokenPipe);
            return ExitCode::from(if error.use_stderr() {
                2
            } else if lost {
                3
            } else {
                0
            });
        }
    };
    let screen = Screen::new(&args.general);
    if let Err(failure) = consent::given(&args.general, &screen) {
        return ended(&screen, &failure, as_json);
    }
    let outcome = match pager::may_be_long(&args.command) {
        true => screen.paged(|| exec(&args, &screen)),
        false => exec(&args, &screen),
    };
    match outcome {
        // What was asked for has not arrived.
        Ok(0 | 1) if screen.lost_output() => ExitCode::from(3),
        Ok(code) => ExitCode::from(code),
        Err(failure) => {
            if consent::asked(&screen, &failure) {
                return consent::again(&screen);
            }
            if failure.is_of_a_lost_sandbox() {
                // What is typed at a terminal ends the sandbox together with us; then anyone who watches for that has
                // the word.
                std::thread::sleep(std::time::Duration::from_millis(200));
            }
            ended(&screen, &failure, as_json)
        }
    }
}

/// Carries out a command.
fn exec(args: &Args, screen: &Screen) -> Outcome {
    match &args.command {
        Command::Init(command) => commands::init::exec(&args.general, screen, command),
        Command::Explain(command) => commands::explain::exec(screen, command),
        Command::Show(command) => commands::show::exec(&args.general, screen, command),
        Command::Schema => commands::explain::schema(screen),
        Command::Depot(command) => commands::depot::exec(&args.general, screen, command),
        Command::Editor(command) => commands::editor::exec(&args.general, screen, command),
        Command::Store(command) => commands::store::exec(screen, command),
        Command::Doctor(command) => commands::doctor::exec(screen, command),
        Command::Completions(command) => commands::pages::completions(screen, command),
        Command::Manual(command) => commands::pages::manual(screen, command),
        Command::Check(command) => commands::check::exec(&args.general, screen, command),
        Command::Record(command) => commands::record::exec(&args.general, screen, command),
        Command::Lock(command) => commands::lock::exec(&args.general, screen, command),
        Command::Build(command) => commands::build::exec(&args.general, screen, command),
        Command::Start(command) => commands::start::exec(&args.general, screen, command),
        Command::Stop(which) => commands::stop::exec(&args.general, screen, which),
        Command::Restart(command) => commands::start::restart(&args.general, screen, command),
        Command::Freeze(which) => commands::stop::freeze(&args.general, screen, which),
        Command::Thaw(which) => commands::stop::thaw(&args.general, screen, which),
        Command::Enter(command) => {
            commands::enter::exec(&args.general, screen, &command.which, command.account.as_deref(), &[])
        }
        Command::Run(command) => {
            commands::enter::exec(&args.general, screen, &command.which, command.account.as_deref(), &command.command)
        }
        Command::Status(command) => commands::status::exec(&args.general, screen, command),
        Command::List(command) => commands::status::list(screen, command),
        Command::Logs(command) => commands::logs::exec(&args.general, screen, command),
        Command::Apply(command) => commands::apply::exec(&args.general, screen, command),
        Command::Drift(command) => commands::drift::exec(&args.general, screen, command),
        Command::Copy(command) => commands::copy::exec(&args.general, screen, command),
        Command::Folder(command) => commands::folder::exec(&args.general, screen, command),
        Command::Open(command) => commands::open::exec(&args.general, screen, command),
        Command::Speak(command) => commands::speak::exec(&args.general, screen, command),
        Command::Invite(command) => commands::invite::exec(&args.general, screen, command),
        Command::Visit(command) => commands::invite::visit(screen, command),
        Command::SshConfig(command) => commands::ssh::config(&args.general, screen, command),
        Command::SshProxy(command) => commands::ssh::proxy(screen, command),
        Command::Names(command) => commands::names::exec(&args.general, screen, command),
        Command::Drop(command) => commands::stop::drop_it(&args.general, screen, command),
        Command::Seal(command) => commands::seal::exec(&args.general, screen, command),
        Command::Contents(command) => commands::contents::exec(&args.general, screen, command),
        Command::Join(command) => commands::join::exec(&args.general, screen, command),
        Command::Link(command) => commands::link::exec(&args.general, screen, command),
        Command::Pack(command) => commands::pack::exec(&args.general, screen, command),
        Command::Pull(command) => commands::pull::exec(screen, command),
        Command::Push(command) => commands::push::exec(&args.general, screen, command),
        Command::Export(command) => commands::export::exec(&args.general, screen, command),
        Command::Team(command) => commands::team::exec(&args.general, screen, command),
        Command::History(command) => commands::history::exec(&args.general, screen, command),
        Command::At(command) => commands::at::exec(&args.general, screen, command),
        Command::Pinpoint(command) => commands::pinpoint::exec(&args.general, screen, command),
        Command::Roster(command) => commands::roster::exec(&args.general, screen, command),
        Command::Verify(command) => commands::verify::exec(&args.general, screen, command),
        Command::Demo(command) => demo::exec(screen, command),
    }
}

/// Shows a failure in the form that was asked for, and ends with its exit code.
fn ended(screen: &Screen, failure: &Failure, as_json: bool) -> ExitCode {
    if as_json {
        screen.json(&render::failure::as_json(failure));
    }
    render::failure::show(screen, failure);
    ExitCode::from(failure.exit_code())
}

/// Whether `--json` was typed to the command that was meant.
fn wants_json(matches: &ArgMatches) -> bool {
    let inner = std::iter::successors(Some(matches), |matches| matches.subcommand().map(|(_, inner)| inner)).last();
    inner.is_some_and(|inner| matches!(inner.try_get_one::<bool>("json"), Ok(Some(true))))
}
