//! `cavrith pack`

use std::path::{Component, Path, PathBuf};
use std::time::Instant;

use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock;
use cavrith_core::oci::image::Compression;
use cavrith_core::oci::parcel::PROJECT;
use cavrith_core::spec::Folder;
use cavrith_core::verdict::{count, size};
use cavrith_engine::context::BuildContext;
use cavrith_engine::event::Event;
use cavrith_engine::project::{self, Project};
use cavrith_engine::{EngineError, depots, project_files};
use cavrith_exchange::joining;
use cavrith_exchange::layout::{self, Outgoing, PackedImage};
use cavrith_exchange::parcel::NewParcel;
use cavrith_exchange::parcel::encryption::Recipients;
use cavrith_exchange::parcel::reading::{LOCK, VARIANT};
use cavrith_exchange::work::{self, LeftOut};
use cavrith_keeper::place::Place;
use cavrith_keeper::record::Record;
use cavrith_store::reading;
use cavrith_store::records::ImageRecord;
use cavrith_workspace::{kept, scratches};
use serde_json::json;

use crate::args::{General, Pack};
use crate::build_env::BuildEnv;
use crate::commands::start::meant;
use crate::commands::{Outcome, build as building, locked_project};
use crate::failure::Failure;
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Pack) -> Outcome {
    let started = Instant::now();
    let (project, _) = locked_project(general)?;
    // Before anything is packed for it.
    layout::replaceable(&command.file)?;
    let target = std::path::absolute(&command.file).unwrap_or_else(|_| command.file.clone());
    let target = target.parent().and_then(|above| Some(above.canonicalize().ok()?.join(target.file_name()?)));
    let recipients = Recipients::parse(&command.recipients)?;
    let build_env = BuildEnv::open()?;
    let session = &build_env.store_session;
    let variants = if command.all_variants { project.in_order() } else { vec![project.clone()] };
    let mut parcel = NewParcel::new(&session.store, &session.staging);
    let (mut sealed, mut images) = (true, Vec::new());
    for variant in &variants {
        let lock = project::load_lock(variant)?;
        let record = building::ensure(screen, &build_env, variant, &lock)?.record;
        sealed &= lock.seal.as_ref().is_some_and(|seal| seal.image == record.image);
        let outgoing = Outgoing::new(&variant.spec, &lock, &record);
        let subject = outgoing.subject(Compression::Zstd);
        let packed = building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
            let on_layer = |name: &str| (context.observer)(Event::Stage { text: format!("packing {name}") });
            Ok(PackedImage::new(context.store, context.staging, &record, subject, &on_layer)?)
        })?;
        parcel.image(&packed, &record.layers)?;
        images.push(record);
    }
    let included: Vec<PathBuf> = command.include.iter().map(|path| absolute(path)).collect();
    let mut left_out = if command.work {
        let mut work = work::look(&project.dir, &included, &session.staging.new_name())?;
        work.files.retain(|path| Some(work.top.join(path)) != target);
        parcel.work(&work)?;
        work.left_out
    } else {
        let (mut files, left_out) = own_files(&project, &included)?;
        // An earlier parcel in the project's folder is not a part of the next one.
        files.retain(|path| Some(project.dir.join(path)) != target);
        parcel.files(PROJECT, &project.dir, &files)?;
        left_out
    };
    if command.sources {
        let depot = session.staging.new_name();
        let all = project.in_order().into_iter().map(|variant| {
            let lock = project::load_lock(&variant)?;
            Ok((variant, lock))
        });
        let all = all.collect::<Result<Vec<_>, EngineError>>()?;
        building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
            let fill = |context: BuildContext<'_>| Ok(depots::fill(&depot, &all, context.supply(), false)?);
            for text in building::with_cache(context, &project, fill)?.notes {
                (context.observer)(Event::Note { text });
            }
            Ok(())
        })?;
        parcel.sources(&depot)?;
    }
    if !command.kept.is_empty() {
        let place = meant(general, &session.home, &command.which).found()?;
        for name in &command.kept {
            let _held = place.hold_kept()?;
            let backup = session.staging.new_name();
            kept::back_up(&place.kept.join(name), &backup, build_env.identity)?;
            parcel.kept(name, backup)?;
        }
    }
    if command.scratch {
        let place = meant(general, &session.home, &command.which).found()?;
        left_out.extend(scratch(screen, &build_env, &mut parcel, (&project, &place, &images), command)?);
    }
    let lock = reading::bytes(&project.dir.join(lock::FILE_NAME))
        .map_err(|error| Failure::Own(3, format!("{}: {error}", lock::FILE_NAME)))?;
    parcel.annotate(LOCK, Sha256Digest::of(&lock).to_string());
    parcel.annotate("org.opencontainers.image.title", project.spec.workspace.name.value.clone());
    parcel.annotate(VARIANT, project.spec.variant.clone());
    if let Some(revision) = joining::revision(&project.dir) {
        parcel.annotate("org.opencontainers.image.revision", revision);
    }
    let bytes = parcel.write(&recipients, &command.file)?;
    report(screen, command, (&variants, sealed, bytes), &left_out, started);
    Ok(0)
}

/// Takes along what was changed inside by hand.
fn scratch(
    screen: &Screen,
    build_env: &BuildEnv,
    parcel: &mut NewParcel<'_>,
    (project, place, images): (&Project, &Place, &[ImageRecord]),
    command: &Pack,
) -> Result<Vec<LeftOut>, Failure> {
    let runs = Record::read(&place.dir).map(|record| record.arrangement.image);
    let image = images.iter().find(|image| runs == Some(image.image)).ok_or_else(|| {
        let text = "runs another image than the one that is packed, so what was changed over it would mean something \
                    else; cavrith apply first";
        Failure::Own(1, format!("the workspace {} {text}", place.name))
    })?;
    if place.is_held() {
        let text = "it runs, so files that are written meanwhile are there as they were at some moment; stop or freeze it \
                    for a quiet copy";
        screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
    }
    let carried = building::with_progress(screen, build_env, Where::Nowhere, false, |context| {
        Ok(scratches::carry(context, place, image, &command.include)?)
    })?;
    let Some((mut carried, left_out)) = carried else {
        screen.say(format_args!("{} nothing was changed inside", styled(screen.err.faint, "note")));
        return Ok(Vec::new());
    };
    // Without what they filled, the steps of the first start have to run again.
    let mut kept = project.spec.folders.iter().filter_map(Folder::kept_name);
    if !kept.all(|name| command.kept.contains(&name.value)) {
        carried.first_start.clear();
    }
    parcel.scratch(&carried)?;
    Ok(left_out)
}

fn absolute(path: &Path) -> PathBuf {
    path.canonicalize().unwrap_or_else(|_| path.to_owned())
}

/// The project's own files. What looks like a secret stays here, and what an image has of that is refused.
fn own_files(project: &Project, included: &[PathBuf]) -> Result<(Vec<PathBuf>, Vec<LeftOut>), Failure> {
    let is_inside =
        |path: &PathBuf| path.components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir));
    let (mut needed, mut left_out) = (Vec::new(), Vec::new());
    let (gathered, _) = project::read_spec(&project.dir)?;
    needed.extend(gathered.sources.files().iter().map(|file| PathBuf::from(&file.path)));
    for variant in project.variants.values() {
        needed.extend(project_files::taken(&project.bounds, variant)?);
    }
    let outside = needed.iter().filter(|path| !is_inside(path));
    left_out.extend(
        outside.map(|path| LeftOut { path: path.display().to_string(), why: "it lies outside the project".to_owned() }),
    );
    needed.retain(is_inside);
    work::without_doubt(&project.dir, &needed, included)?;
    needed.extend([lock::FILE_NAME, cavrith_core::listing::FILE_NAME].map(PathBuf::from));
    let (all, doubtful) = work::sorted_out(&project.dir, project_files::all(&project.bounds)?, included);
    left_out.extend(doubtful);
    let named = included.iter().filter_map(|path| path.strip_prefix(&project.dir).ok().map(Path::to_owned));
    let mut files: Vec<PathBuf> = needed
        .into_iter()
        .chain(all)
        .chain(named)
        .map(|path| path.components().filter(|part| *part != Component::CurDir).collect())
        .collect();
    files.retain(|path: &PathBuf| project.dir.join(path).symlink_metadata().is_ok_and(|meta| !meta.is_dir()));
    files.sort();
    files.dedup();
    Ok((files, left_out))
}

fn report(
    screen: &Screen,
    command: &Pack,
    (variants, sealed, bytes): (&[Project], bool, u64),
    left_out: &[LeftOut],
    started: Instant,
) {
    if command.report.json {
        screen.json(&json!({
            "path": command.file,
            "bytes": bytes,
            "variants": variants.iter().map(|variant| &variant.spec.variant).collect::<Vec<_>>(),
            "sealed": sealed,
            "work": command.work,
            "scratch": command.scratch,
            "recipients": command.recipients.len(),
            "left_out": left_out,
        }));
        return;
    }
    for one in left_out {
        let LeftOut { path, why } = one;
        screen.say(format_args!("{} {path}: {why}", styled(screen.err.warning, "left out")));
    }
    if !sealed {
        let text = "it is not sealed, so whoever joins has to build; cavrith seal first";
        screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
    }
    if !command.kept.is_empty() {
        let text = "nobody looked for secrets in kept folders";
        screen.say(format_args!("{} {text}", styled(screen.err.warning, "note")));
    }
    if !screen.quiet {
        let mut what = if command.work { ", with work in progress" } else { "" }.to_owned();
        if command.scratch {
            what += ", with what was changed inside";
        }
        if !command.recipients.is_empty() {
            what += ", encrypted";
        }
        screen.result(format_args!(
            "{} {}  {} in {}{what}, in {}",
            styled(screen.out.good, "packed"),
            styled(screen.out.strong, command.file.display()),
            count(variants.len(), "image"),
            size(bytes),
            seconds(started.elapsed().as_millis() as u64),
        ));
    }
}
