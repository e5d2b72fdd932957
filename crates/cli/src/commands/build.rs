//! `cavrith build`

use std::path::{Path, PathBuf};
use std::time::Instant;

use cavrith_core::derive::plan::Plan;
use cavrith_core::lock::Lock;
use cavrith_core::setup::Setup;
use cavrith_core::team::voucher::Voucher;
use cavrith_core::team::{IMAGE, Role};
use cavrith_core::verdict::{count, size};
use cavrith_engine::bodies::BodySource;
use cavrith_engine::build::{self, Built};
use cavrith_engine::context::BuildContext;
use cavrith_engine::event::Event;
use cavrith_engine::member::Member;
use cavrith_engine::project::Project;
use cavrith_engine::sealed::{self, Adopted};
use cavrith_engine::{signing, team, vouched};
use cavrith_exchange::cache::Cache;
use cavrith_exchange::parcel::OpenParcel;
use cavrith_sandbox::job::Perturbations;
use cavrith_store::records::ImageRecord;
use serde_json::json;

use crate::args::{Build, General};
use crate::build_env::{self, BuildEnv};
use crate::commands::{Outcome, locked_project};
use crate::failure::Failure;
use crate::keys;
use crate::render::progress::{Progress, Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Build) -> Outcome {
    let started = Instant::now();
    let (project, lock) = locked_project(general)?;
    let found = found(&project, &lock, command.fresh)?;
    // Where nothing is to be made, nothing of the machine is needed.
    let build_env = if found.is_none() || command.publish { Some(BuildEnv::open()?) } else { None };
    let place = if command.report.json { Where::Nowhere } else { Where::Result };
    let built = match (found, &build_env) {
        (Some(built), _) => built,
        (None, Some(build_env)) => with_progress(screen, build_env, place, command.fresh, |context| {
            if let Some(path) = &command.parcel {
                let path = keys::readable(path, &command.keys, &context.staging.new_name())?;
                adopt_parcel(context, &project, &lock, &path)?;
            }
            made(context, &project, &lock)
        })?,
        (None, None) => unreachable!("BUG: what has to be made has a place for it"),
    };
    if let Some(build_env) = build_env.as_ref().filter(|_| command.publish) {
        publish(screen, build_env, (&project, &lock), &built.record)?;
        if command.vouch {
            vouch(screen, build_env, (&project, &lock), (&built.record, command))?;
        }
    }
    let setup = Setup::new(&project.spec, &lock, &built.record.shell);
    let workspace = setup.fingerprint(&built.record.image);
    if command.report.json {
        screen.json(&json!({
            "image": built.record.image,
            "words": built.record.image.spoken(),
            "workspace": workspace,
            "layers": built.record.layers,
            "work": built.layers,
            "entries": built.record.entries,
            "bytes": built.record.bytes,
            "millis": started.elapsed().as_millis() as u64,
        }));
    } else if !screen.quiet {
        summary(screen, &built, started);
    }
    if let Some(seal) = lock.seal.as_ref().filter(|seal| seal.image != built.record.image) {
        let warning = styled(screen.err.warning, "warning");
        screen.insist(format_args!(
            "{warning} this is not what was sealed ({}); cavrith verify names the differences",
            seal.words
        ));
    }
    Ok(0)
}

/// The image, when it is there already: then nothing of the machine is needed.
fn found(project: &Project, lock: &Lock, fresh: bool) -> Result<Option<Built>, Failure> {
    if fresh {
        return Ok(None);
    }
    Ok(build::find(&build_env::store()?.1, project, lock)?)
}

/// The image, with what a cache has of it.
pub fn made(context: BuildContext<'_>, project: &Project, lock: &Lock) -> Result<Built, Failure> {
    let cache = cache(context.member, project);
    let cache = cache.as_ref().filter(|cache| !(context.web.is_offline() && cache.is_remote()));
    if let Some(cache) = cache {
        let started = Instant::now();
        let Adopted { layers, bytes } = sealed::adopt(context, project, lock, cache)?;
        if layers > 0 {
            let name = format!("{} from {}", count(layers, "layer"), cache.shown());
            (context.observer)(Event::Brought { name, millis: started.elapsed().as_millis() as u64, bytes });
        }
    }
    // Between two seals, a publisher's word may do.
    if let Some(cache) = cache.filter(|_| lock.seal.is_none()) {
        let started = Instant::now();
        if let Some((signer, Adopted { layers, bytes })) = vouched::adopt(context, project, lock, cache)?
            && layers > 0
        {
            let name = format!("{} from {}, on {}'s word", count(layers, "layer"), cache.shown(), signer.name);
            (context.observer)(Event::Brought { name, millis: started.elapsed().as_millis() as u64, bytes });
        }
    }
    // The same cache: whoever has a key to touch for it touches it once.
    let bodies = cache.map(|cache| cache as &dyn BodySource);
    Ok(build::build(BuildContext { bodies, ..context }, project, lock)?)
}

/// Does some work for which the bodies of records can be had from the team's cache, too.
pub fn with_cache<T>(
    context: BuildContext<'_>,
    project: &Project,
    work: impl FnOnce(BuildContext<'_>) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let cache = cache(context.member, project);
    let bodies = cache.as_ref().map(|cache| cache as &dyn BodySource);
    work(BuildContext { bodies, ..context })
}

/// Takes what a parcel has of the sealed layers.
fn adopt_parcel(context: BuildContext<'_>, project: &Project, lock: &Lock, path: &Path) -> Result<(), Failure> {
    let parcel = OpenParcel::open(path)?;
    let files = parcel.keep_sources(context.store)?;
    if files > 0 {
        (context.observer)(Event::Note {
            text: format!("{} of the parcel are in the store now", count(files, "pinned file")),
        });
    }
    if lock.seal.is_none() {
        let text = "the lock has no seal, so nothing says which layers of the parcel to believe; all is built here";
        (context.observer)(Event::Note { text: text.to_owned() });
        return Ok(());
    }
    let started = Instant::now();
    let Adopted { layers, bytes } = sealed::adopt(context, project, lock, &parcel)?;
    if layers > 0 {
        let from = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy();
        let name = format!("{} from {from}", count(layers, "layer"));
        (context.observer)(Event::Brought { name, millis: started.elapsed().as_millis() as u64, bytes });
    }
    Ok(())
}

/// The cache that a member's configuration names, or a project's spec.
pub fn cache(member: &Member, project: &Project) -> Option<Cache> {
    Cache::new(&member.config.cache, project.spec.cache.as_ref().map(|cache| cache.value.as_str()))
}

/// Puts every layer of an image into the cache, and what its steps fetched.
pub fn publish(
    screen: &Screen,
    build_env: &BuildEnv,
    (project, lock): (&Project, &Lock),
    record: &ImageRecord,
) -> Result<(), Failure> {
    let Some(cache) = cache(&build_env.store_session.member, project) else {
        let text = "there is no cache to publish to; write [cache] registry = \"…\" into the spec, or a registry or folder \
                    into config.toml";
        return Err(Failure::Own(2, text.to_owned()));
    };
    let started = Instant::now();
    let (sent, bodies) = with_progress(screen, build_env, Where::Nowhere, false, |context| {
        let (mut sent, mut bodies) = (0, 0);
        for layer in &record.layers {
            (context.observer)(Event::Stage { text: format!("publishing {}", layer.name) });
            sent += usize::from(cache.publish(context, layer)?);
            context.store.remember_shared(&layer.tree, &cache.shown())?;
        }
        for pin in &lock.records {
            (context.observer)(Event::Stage { text: format!("publishing what the step {:?} fetched", pin.step) });
            bodies += cache.publish_bodies(context, project, pin)?;
        }
        Ok((sent, bodies))
    })?;
    let fetched = if bodies > 0 { format!(" and {} that steps fetched", count(bodies, "file")) } else { String::new() };
    screen.say(format_args!(
        "{} {}{fetched} to {}, {} there already, in {}",
        styled(screen.err.good, "published"),
        count(sent, "layer"),
        cache.shown(),
        record.layers.len() - sent,
        seconds(started.elapsed().as_millis() as u64),
    ));
    Ok(())
}

/// Signs for what came out, so that members take it before it is sealed.
fn vouch(
    screen: &Screen,
    build_env: &BuildEnv,
    (project, lock): (&Project, &Lock),
    (record, command): (&ImageRecord, &Build),
) -> Result<(), Failure> {
    let Some(cache) = cache(&build_env.store_session.member, project) else { return Ok(()) };
    let team = team::signed(project)?;
    let named = command.keys.key.first().map(PathBuf::as_path);
    let key = signing::find(&team.now, Role::Publisher, keys::chosen(named))?;
    let image_key = Plan::new(&project.spec, lock).image_key;
    let layers = record.layers.clone();
    let signature = key.sign(IMAGE, Voucher::text(&image_key, &layers).as_bytes())?;
    let voucher = Voucher { image_key, layers, signature };
    with_progress(screen, build_env, Where::Nowhere, false, |context| Ok(cache.publish_voucher(context, &voucher)?))?;
    let by = styled(screen.err.strong, &key.name);
    screen.say(format_args!("{} for it as {by}", styled(screen.err.good, "vouched")));
    Ok(())
}

/// The last lines of a build: what there is now, what was made and reused, how long it took.
fn summary(screen: &Screen, built: &Built, started: Instant) {
    let reused = built.layers.iter().filter(|layer| layer.reused).count();
    let made = built.layers.len() - reused;
    let how = match (made, reused) {
        (0, 0) => "nothing to do".to_owned(),
        (made, 0) => format!("{} made", count(made, "layer")),
        (0, reused) => format!("{} reused", count(reused, "layer")),
        (made, reused) => format!("{} made, {reused} reused", count(made, "layer")),
    };
    let took = seconds(started.elapsed().as_millis() as u64);
    let record = &built.record;
    screen.result(format_args!(
        "{} {}  {} entries, {}; {how}, in {took}",
        styled(screen.out.good, "image"),
        styled(screen.out.strong, record.image.spoken()),
        record.entries,
        size(record.bytes),
    ));
}

/// Does some work on a bench, and shows its progress.
pub fn with_progress<T>(
    screen: &Screen,
    build_env: &BuildEnv,
    place: Where,
    fresh: bool,
    work: impl FnOnce(BuildContext<'_>) -> Result<T, Failure>,
) -> Result<T, Failure> {
    let progress = Progress::new(screen, place);
    let observer = |event| progress.show(event);
    let perturbations = Perturbations::default();
    let outcome = work(BuildContext {
        store: &build_env.store_session.store,
        staging: &build_env.store_session.staging,
        web: &build_env.store_session.web,
        member: &build_env.store_session.member,
        blobs: &build_env.store_session.store,
        bodies: None,
        identity: build_env.identity,
        observer: &observer,
        fresh,
        perturbations,
    });
    progress.finish();
    outcome
}

/// The image of a project, built when it is not there. What is made is reported on standard error.
pub fn ensure(screen: &Screen, build_env: &BuildEnv, project: &Project, lock: &Lock) -> Result<Built, Failure> {
    with_progress(screen, build_env, Where::Aside, false, |context| made(context, project, lock))
}
