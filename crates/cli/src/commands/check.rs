//! `cavrith check`

use cavrith_core::lock::choose::Update;
use cavrith_engine::{project, survey};

use crate::args::{General, Report};
use crate::build_env;
use crate::commands::Outcome;
use crate::render::mistakes;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Report) -> Outcome {
    let dir = project::find(general.project())?;
    let survey = survey::survey(
        &dir,
        &build_env::web(),
        build_env::store().ok().map(|(_, store)| store).as_ref(),
        &Update::Nothing,
    )?;
    if let (Some(name), Some(project)) = (&general.variant, &survey.project) {
        project.of_variant(name)?;
    }
    let sound = survey.findings.is_sound();
    if command.json {
        screen.json(&mistakes::as_json(&survey.findings));
    } else {
        mistakes::show(screen, &survey.findings);
        if sound && !screen.quiet {
            let style = screen.out.good;
            let name = survey.project.map(|project| project.spec.workspace.name.value).unwrap_or_default();
            screen.result(format_args!("{} in the spec of {name}", styled(style, "no mistakes")));
        }
    }
    Ok(u8::from(!sound))
}
