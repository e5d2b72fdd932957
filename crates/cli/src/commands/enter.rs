//! `cavrith enter` and `cavrith run`

use std::sync::atomic::Ordering;
use std::time::Duration;

use cavrith_sandbox::job::Ending;
use cavrith_workspace::client::{self, Client};
use cavrith_workspace::record::Record;

use crate::args::{General, Which};
use crate::bench;
use crate::commands::Outcome;
use crate::commands::start::{launch, meant, watch};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, which: &Which, account: Option<&str>, argv: &[String]) -> Outcome {
    let home = bench::home()?;
    let meant = meant(general, &home, which);
    // The usual case is a workspace that runs, which is found without reading the spec.
    let running = meant.existing()?.and_then(|place| Client::new(&place).map(|client| (place, client)));
    let client = match running {
        Some((place, client)) => {
            if Record::read(&place.dir).is_some_and(|record| record.is_behind()) {
                screen.say(format_args!(
                    "{} the spec has changed since {} was started; cavrith status tells in what, cavrith apply brings it about",
                    styled(screen.err.warning, "note:"),
                    place.name
                ));
            }
            client
        }
        None => {
            let (place, project) = meant.to_start()?;
            launch(screen, &home, &place, &project, false)?;
            // Whoever works inside finds the steps done; services may still be getting ready.
            let good = watch(screen, &place, Some(Duration::ZERO), true, screen.quiet)?;
            let client = crate::commands::start::client(&place)?;
            if good == Some(false) {
                screen.insist(format_args!(
                    "{} not all went well; cavrith status tells more",
                    styled(screen.err.warning, "note:")
                ));
            }
            client
        }
    };
    // From here on the terminal and its signals are the command's.
    bench::ATTENDING.store(true, Ordering::SeqCst);
    let ending = client::enter(client, argv, account.map(str::to_owned))?;
    if let Ending::Signal(signal) = ending {
        // Ends as the command ended, so that whoever called sees the same.
        let _ = signal_hook::low_level::emulate_default_handler(signal);
    }
    Ok(u8::try_from(ending.as_code()).unwrap_or(255))
}
