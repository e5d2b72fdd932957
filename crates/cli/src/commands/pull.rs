//! `cavrith pull`

use std::time::Instant;

use cavrith_core::oci::Reference;
use cavrith_core::verdict::size;
use cavrith_exchange::ExchangeError;
use cavrith_exchange::parcel::moving;
use serde_json::json;

use crate::args::Pull;
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building};
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(screen: &Screen, command: &Pull) -> Outcome {
    let started = Instant::now();
    let reference = Reference::parse(&command.reference)
        .map_err(|why| ExchangeError::Reference { text: command.reference.clone(), why })?;
    let build_env = BuildEnv::open()?;
    let bytes = building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        Ok(moving::pull(context, &reference, &command.file)?)
    })?;
    if command.report.json {
        screen.json(&json!({ "reference": reference.to_string(), "path": command.file, "bytes": bytes }));
    } else if !screen.quiet && !command.known {
        screen.result(format_args!(
            "{} {}  {}, in {}; cavrith join takes it",
            styled(screen.out.good, "pulled"),
            styled(screen.out.strong, command.file.display()),
            size(bytes),
            seconds(started.elapsed().as_millis() as u64),
        ));
    }
    Ok(0)
}
