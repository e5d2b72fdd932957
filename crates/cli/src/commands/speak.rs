//! `cavrith speak`

use std::io::IsTerminal as _;
use std::sync::atomic::Ordering;

use cavrith_workspace::speaking;

use crate::args::{General, Speak};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::enter;
use crate::commands::start::meant;
use crate::failure::Failure;
use crate::screen::Screen;

pub fn exec(general: &General, screen: &Screen, command: &Speak) -> Outcome {
    if std::io::stdin().is_terminal() {
        let text = "this is for editors and not for people: set it as the command of a language server or debugger";
        return Err(Failure::Own(2, text.to_owned()));
    }
    let home = build_env::home()?;
    let meant = meant(general, &home, &command.which);
    drop(enter::running(screen, meant)?);
    let place = meant.found()?;
    build_env::ATTENDING.store(true, Ordering::SeqCst);
    let (ending, said) = speaking::speak(&place, &command.command)?;
    if let Some(said) = said {
        return Err(Failure::Own(5, format!("this is neither of the protocols that can be carried: {said}")));
    }
    Ok(u8::try_from(ending.as_code()).unwrap_or(255))
}
