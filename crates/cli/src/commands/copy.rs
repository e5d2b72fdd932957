//! `cavrith copy`

use cavrith_keeper::client::Client;
use cavrith_keeper::place::Place;
use cavrith_workspace::copying;
use serde_json::json;

use crate::args::{Copy, General};
use crate::build_env;
use crate::commands::Outcome;
use crate::commands::start::{Way, client, launch, meant};
use crate::failure::Failure;
use crate::screen::Screen;

pub fn exec(general: &General, screen: &Screen, command: &Copy) -> Outcome {
    let which = match command {
        Copy::In(copy) => &copy.which,
        Copy::Out(copy) => &copy.which,
    };
    let home = build_env::home()?;
    let meant = meant(general, &home, which);
    let running = meant.existing()?.and_then(|place| Client::new(&place).map(|client| (place, client)));
    if let Some((_, client)) = running {
        return carry_out(screen, command, client);
    }
    // One that does not run is opened for its files alone.
    let (place, project) = meant.to_start()?;
    launch(screen, &place, &project, Way { plain: true, ..Way::default() })?;
    let outcome = client(&place).and_then(|client| carry_out(screen, command, client));
    end(&place)?;
    outcome
}

fn end(place: &Place) -> Result<(), Failure> {
    if let Some(client) = Client::new(place) {
        client.stop(place)?;
    }
    Ok(())
}

fn carry_out(screen: &Screen, command: &Copy, client: Client) -> Outcome {
    match command {
        Copy::In(copy) => {
            copying::copy_in(client, &copy.outside, &copy.inside, copy.account.clone())?;
            match copy.report.json {
                true => screen.json(&json!({ "from": copy.outside, "to": copy.inside })),
                false => screen.say(format_args!("copied {} to {} inside", copy.outside.display(), copy.inside)),
            }
        }
        Copy::Out(copy) => {
            let made = copying::copy_out(client, &copy.inside, &copy.outside, copy.account.clone())?;
            match copy.report.json {
                true => screen.json(&json!({ "from": copy.inside, "to": made })),
                false => screen.say(format_args!("copied {} of the inside to {}", copy.inside, made.display())),
            }
        }
    }
    Ok(0)
}
