//! `cavrith enter` and `cavrith run`

use std::sync::atomic::Ordering;
use std::time::Duration;

use cavrith_keeper::KeeperError;
use cavrith_keeper::client::{self, Client};
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;
use cavrith_sandbox::job::Ending;
use cavrith_workspace::lifecycle::{self, Meant};

use crate::args::{General, Which};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::{self, Way, launch, meant, watch};
use crate::failure::Failure;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, which: &Which, account: Option<&str>, argv: &[String]) -> Outcome {
    let home = build_env::home()?;
    let meant = meant(general, &home, which);
    // A keeper that is just ending may still open its door; anyone who went in there in vain starts again.
    let mut attempts = 0;
    let ending = loop {
        attempts += 1;
        let client = running(screen, meant)?;
        // From here on the terminal and its signals are the command's.
        build_env::ATTENDING.store(true, Ordering::SeqCst);
        match client::enter(client, argv, account.map(str::to_owned)) {
            Err(KeeperError::Gone { .. }) if attempts < 3 => build_env::ATTENDING.store(false, Ordering::SeqCst),
            outcome => break outcome?,
        }
    };
    if let Ending::Signal(signal) = ending {
        // Ends as the command ended, so that anyone who called sees the same.
        let _ = signal_hook::low_level::emulate_default_handler(signal);
    }
    Ok(u8::try_from(ending.as_code()).unwrap_or(255))
}

/// Whether the project wants something else than what runs, or cannot say what it wants.
fn has_pending(place: &Place, record: &Record) -> bool {
    let Ok((_, store)) = build_env::store() else { return false };
    let pending = lifecycle::pending(&store, place, &record.arrangement);
    !pending.changes.is_empty() || pending.unclear.is_some()
}

/// A connection to the workspace, which is started when it does not run.
pub fn running(screen: &Screen, meant: Meant<'_>) -> Result<Client, Failure> {
    // The usual case is a workspace that runs, which is found without reading the spec.
    if let Some((place, client)) = meant.existing()?.and_then(|place| Client::new(&place).map(|client| (place, client)))
    {
        // A file that was written again, or a seal in the lock, changes nothing of what runs.
        if let Some(record) = Record::read(&place.dir).filter(Record::is_behind)
            && has_pending(&place, &record)
        {
            screen.say(format_args!(
                "{} the spec has changed since {} was started; cavrith status shows what, cavrith apply applies it",
                styled(screen.err.warning, "note:"),
                place.name
            ));
        }
        return Ok(client);
    }
    let (place, project) = meant.to_start()?;
    launch(screen, &place, &project, Way::default())?;
    // Anyone who works inside finds the steps done; services may still be getting ready.
    let good = watch(screen, &place, Some(Duration::ZERO), true, screen.quiet)?;
    if good == Some(false) {
        screen.insist(format_args!(
            "{} not all went well; cavrith status tells more",
            styled(screen.err.warning, "note:")
        ));
    }
    start::client(&place)
}
