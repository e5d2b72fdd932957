//! `cavrith seal`

use std::time::Instant;

use cavrith_engine::{build, locking, sealing};

use crate::args::{General, Seal};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building, locked_project};
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Seal) -> Outcome {
    let started = Instant::now();
    let (project, mut lock) = locked_project(general)?;
    let build_env = BuildEnv::open()?;
    let place = if command.report.json { Where::Nowhere } else { Where::Result };
    let (seal, record) = building::with_progress(screen, &build_env, place, false, |context| {
        let record = build::build(context, &project, &lock)?.record;
        Ok((sealing::seal(context, &project, &lock, &record)?, record))
    })?;
    let same = lock.seal.as_ref() == Some(&seal);
    lock.seal = Some(seal.clone());
    if !same {
        locking::write(&project.dir, &lock)?;
    }
    if command.report.json {
        screen.json(&seal);
    } else if !screen.quiet {
        screen.result(format_args!(
            "{} {}  {} layers and {} probes came out the same twice, in {}",
            styled(screen.out.good, if same { "still sealed" } else { "sealed" }),
            styled(screen.out.strong, &seal.words),
            seal.layers.len(),
            seal.probes.len(),
            seconds(started.elapsed().as_millis() as u64),
        ));
    }
    if command.publish {
        building::publish(screen, &build_env, &project, &record)?;
    }
    Ok(0)
}
