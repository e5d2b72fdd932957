//! `cavrith roster`

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::OnceLock;

use cavrith_core::lock::{FILE_NAME as LOCK, Lock};
use cavrith_core::oci::image::Platform;
use cavrith_core::report::{self, Report};
use cavrith_core::roster::{Believed, Candidate, Judge, Roster, Standard, compare};
use cavrith_core::team::history::Proved;
use cavrith_core::verdict::count;
use cavrith_engine::EngineError;
use cavrith_engine::error::{LockError, TeamError, file_error};
use cavrith_engine::project::{self, Project};
use cavrith_engine::team;
use cavrith_exchange::reports::{self, ReportPlace};
use cavrith_exchange::revisions;
use cavrith_store::workers;
use serde_json::json;

use crate::args::{General, Roster as Arguments};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building, for_all_variants};
use crate::failure::Failure;
use crate::render::progress::Where;
use crate::render::{roster as render, roster_page};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Arguments) -> Outcome {
    for_all_variants(general, "roster")?;
    let project = project::load(&project::find(general.project())?, None)?;
    let places = places(&project, &command.sources)?;
    let file = team::read(&project.dir)?.ok_or(EngineError::from(TeamError::NeverSigned))?;
    let proved = file.prove().map_err(TeamError::from).map_err(EngineError::from)?;
    let whole = project::read_lock(&project.dir)?.ok_or(EngineError::Lock(LockError::NoLock))?;
    let candidates = candidates(screen, &whole, &places)?;
    let standard = Standard {
        team: proved.now,
        workspace: &project.spec.workspace.name.value,
        seals: seals(&project, &proved, &whole)?,
        sealed: revisions::last_change(&project.dir, LOCK),
        now: cavrith_keeper::record::now(),
        longest: command.longest.map(|time| time.as_millis() as u64),
    };
    if let Some([one, other]) = command.compare.as_deref().and_then(|two| two.first_chunk::<2>()) {
        return held_against(screen, command, &candidates, &standard, (one, other));
    }
    let judging = format!("proving {}", count(candidates.len(), "report"));
    let roster = screen.meanwhile(judging, || laid_out(&standard, candidates))?;
    if let Some(path) = &command.html {
        let page = roster_page::page(&roster).map_err(|why| Failure::Own(3, why))?;
        cavrith_store::atomic::write(path, page.as_bytes()).map_err(EngineError::from)?;
    }
    match () {
        () if command.report.json => screen.json(&json!(roster)),
        () if command.csv => render::csv(screen, &roster),
        () => {
            render::show(screen, &roster);
            if let Some(path) = &command.html {
                screen.say(format_args!("{} {}", styled(screen.err.good, "page"), path.display()));
            }
        }
    }
    Ok(u8::from(command.check && !roster.is_good()))
}

/// Judges all candidates, several at once, and lays them side by side.
fn laid_out(standard: &Standard<'_>, candidates: Vec<Candidate>) -> Result<Roster, Failure> {
    let judge = Judge::new(standard);
    let slots: Vec<_> = candidates.iter().map(|_| OnceLock::new()).collect();
    workers::each(candidates.len(), workers::processors(), |number| -> Result<(), EngineError> {
        let _ = slots[number].set(judge.judge(&candidates[number].text));
        Ok(())
    })?;
    let judged =
        candidates.into_iter().zip(slots).filter_map(|(candidate, slot)| Some((candidate, slot.into_inner()?)));
    Ok(Roster::new(standard, judged.collect()))
}

/// Where the reports are.
fn places(project: &Project, typed: &[String]) -> Result<Vec<ReportPlace>, Failure> {
    if !typed.is_empty() {
        return Ok(typed.iter().map(|text| ReportPlace::parse(text, true)).collect::<Result<_, _>>()?);
    }
    let declared = project.spec.team.as_ref();
    let image = declared.and_then(|team| team.registry.as_ref());
    let mut places: Vec<_> = image.map(|image| ReportPlace::Registry(image.value.clone())).into_iter().collect();
    if let Some(folder) = declared.and_then(|team| team.reports.as_ref()) {
        let path = project.dir.join(&folder.value);
        // Beside a registry, nobody need have used the folder.
        if !path.exists() && places.is_empty() {
            let text = format!(
                "nobody has reported yet: there is no folder {}; members run cavrith verify --report",
                folder.value
            );
            return Err(Failure::Own(1, text));
        }
        if path.exists() {
            let real = path.canonicalize().map_err(file_error("read", &path))?;
            // It is visible inside, where somebody could lay a link in its place.
            if !real.starts_with(&project.dir) {
                let text =
                    format!("the folder {} leads out of the project; name the folder of reports itself", folder.value);
                return Err(Failure::Own(2, text));
            }
            places.push(ReportPlace::Folder(real));
        }
    }
    if places.is_empty() {
        let text = "the spec does not say where reports lie; name a folder or an image in a registry, or write [team] reports = \"reports\" into the spec";
        return Err(Failure::Own(2, text.to_owned()));
    }
    Ok(places)
}

/// What lies there, of all places together.
fn candidates(screen: &Screen, lock: &Lock, places: &[ReportPlace]) -> Result<Vec<Candidate>, Failure> {
    let mut found = Vec::new();
    let mut build_env = None;
    for place in places {
        if let ReportPlace::Folder(folder) = place {
            found.extend(reports::in_folder(folder)?);
            continue;
        }
        let build_env = match &build_env {
            Some(known) => known,
            None => build_env.insert(BuildEnv::open()?),
        };
        found.extend(building::with_progress(screen, build_env, Where::Nowhere, false, |context| {
            Ok(match place {
                ReportPlace::Registry(reference) => {
                    let platform = Platform::of(lock, cavrith_engine::build::architecture());
                    reports::attached(context.supply(), reference, &platform)?
                }
                ReportPlace::Git(source) => reports::in_repository(source, &context.staging.new_name())?,
                ReportPlace::Folder(_) => Vec::new(),
            })
        })?);
    }
    Ok(found)
}

/// The seals that reports may be of: those of the lock that are to be believed.
fn seals(
    project: &Project,
    proved: &Proved<'_>,
    whole: &Lock,
) -> Result<BTreeMap<cavrith_core::digest::ContentDigest, (String, String)>, Failure> {
    let mut seals = BTreeMap::new();
    for name in whole.variant_names() {
        let Some(lock) = whole.of_variant(name) else { continue };
        if !team::judge_by(&project.dir, proved, &lock)?.is_trusted() {
            continue;
        }
        if let Some(seal) = &lock.seal {
            seals.insert(report::seal_digest(seal), (name.to_owned(), seal.words.clone()));
        }
    }
    if seals.is_empty() {
        let text = "the lock has no seal that a lead has signed, so there is nothing to hold reports against; a lead runs cavrith seal --sign";
        return Err(Failure::Own(1, text.to_owned()));
    }
    Ok(seals)
}

/// Two reports without a seal.
fn held_against(
    screen: &Screen,
    command: &Arguments,
    candidates: &[Candidate],
    standard: &Standard<'_>,
    (one, other): (&str, &str),
) -> Outcome {
    let roster = laid_out(standard, candidates.to_vec())?;
    let named = |name: &str| -> Result<Report, Failure> {
        let of_member = roster.members.iter().find(|member| member.name == name);
        if let Some(Believed { report, .. }) = of_member.and_then(|member| member.report.as_ref()) {
            return Ok(report.clone());
        }
        let file = candidates.iter().find(|candidate| candidate.from == name);
        let text = match file {
            Some(candidate) => candidate.text.clone(),
            None => cavrith_store::reading::bounded(Path::new(name), report::LONGEST as u64)
                .map_err(|_| Failure::Own(2, format!("there is no report of {name}, and no file of that name")))?,
        };
        let (report, _) = report::open(&text).map_err(|why| Failure::Own(4, format!("{name}: {why}")))?;
        Ok(report)
    };
    let found = compare(&named(one)?, &named(other)?);
    if command.report.json {
        screen.json(&json!({ "same": found.is_empty(), "differences": found }));
    } else if found.is_empty() {
        screen.result(format_args!("{} {one} and {other} report the same", styled(screen.out.good, "same")));
    } else {
        for between in &found {
            screen.result(styled(screen.out.strong, &between.what));
            screen.result(format_args!("    {one:<12} {}", between.one));
            screen.result(format_args!("    {other:<12} {}", between.other));
        }
    }
    Ok(u8::from(!found.is_empty()))
}
