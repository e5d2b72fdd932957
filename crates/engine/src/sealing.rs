//! Building a second time, under odd conditions, and comparing.
//!
//! The second build is our own executable started again ([`cavrith_sandbox::perturbed`]): it builds everything from its
//! sources into an empty store, and then compares each of its layers with the first build's. Only when all are the same
//! is there a seal.

use std::collections::BTreeSet;
use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

use cavrith_core::derive::plan::{Plan, RULES};
use cavrith_core::digest::ImageFingerprint;
use cavrith_core::lock::Lock;
use cavrith_core::nondeterminism::Surroundings;
use cavrith_core::seal::{Seal, SealedLayer};
use cavrith_core::setup::Setup;
use cavrith_sandbox::job::Perturbations;
use cavrith_sandbox::{Identity, perturbed};
use cavrith_sources::web::Web;
use cavrith_store::Store;
use cavrith_store::owners::Ownership;
use cavrith_store::records::ImageRecord;

use crate::bringing;
use crate::build;
use crate::context::BuildContext;
use crate::diagnosing::{self, Unlike};
use crate::error::{BuildError, EngineError, SealError};
use crate::event::{Event, Observer};
use crate::listing;
use crate::member::Member;
use crate::outside::Bounds;
use crate::project::{self, Project};

/// The name under which our executable is started as the second builder.
const NAME: &str = "cavrith: second build";

/// A year and some days, hours, minutes and seconds ahead: no field of a date stays the same.
const CLOCK_OFFSET: i64 = 400 * 86_400 + 5 * 3600 + 7 * 60 + 11;
/// Time between the two builds: in another second, whatever is rounded.
const APART: Duration = Duration::from_millis(1100);
/// Process ids used up before the first command.
const SKIPPED_PIDS: u32 = 1000;

/// What the second builder has to do.
#[derive(Debug, Serialize, Deserialize)]
struct SecondBuild {
    #[serde(with = "cavrith_sandbox::wire::path")]
    dir: PathBuf,
    /// Its own store; empty.
    #[serde(with = "cavrith_sandbox::wire::path")]
    store: PathBuf,
    /// The first build's store.
    #[serde(with = "cavrith_sandbox::wire::path")]
    first_store: PathBuf,
    variants: Vec<FirstBuild>,
    identity: Identity,
    /// What the project was allowed to use outside its own tree.
    #[serde(with = "cavrith_sandbox::wire::paths")]
    allowed: Vec<PathBuf>,
    #[serde(with = "cavrith_sandbox::wire::paths")]
    shelves: Vec<PathBuf>,
    /// What was around the first build.
    around: Surroundings,
}

/// One variant as it was built first.
#[derive(Debug, Serialize, Deserialize)]
struct FirstBuild {
    variant: String,
    layers: Vec<SealedLayer>,
    image: ImageFingerprint,
}

/// What the second builder answers.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    Event(Event),
    Done(Vec<Comparison>),
    Failed(String),
}

/// What came of comparing.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Comparison {
    record: ImageRecord,
    differences: Vec<Unlike>,
}

/// One variant of a project whose image was built.
#[derive(Debug, Clone, Copy)]
pub struct Candidate<'a> {
    /// The variant.
    pub project: &'a Project,
    /// Its pins.
    pub lock: &'a Lock,
    /// Its image.
    pub record: &'a ImageRecord,
}

/// The seals of a project's variants whose images were built, when a second build gives the same; `candidates` has all
/// of them, each after those that it takes something from.
///
/// # Errors
/// [`SealError::NotReproducible`] with every difference, and whatever building can say.
pub fn seal(context: BuildContext<'_>, candidates: &[Candidate<'_>]) -> Result<Vec<Seal>, EngineError> {
    let Some(dir) = candidates.first().map(|first| &first.project.dir) else { return Ok(Vec::new()) };
    for candidate in candidates {
        bringing::bring_all(context, candidate.project, candidate.lock)?;
    }
    let second_store = context.staging.new_dir()?;
    // Time stamps that the kernel puts on files cannot be shifted; that they differ takes that some time has passed.
    let keys = candidates.iter().map(|one| Plan::new(&one.project.spec, one.lock).image_key);
    let youngest = keys.filter_map(|key| context.store.image_age(&key)).min();
    if let Some(left) = youngest.and_then(|age| APART.checked_sub(age)) {
        std::thread::sleep(left);
    }
    let bytes: u64 = candidates.iter().map(|one| one.record.bytes).sum();
    let memory = bytes.saturating_mul(3).saturating_add(512 << 20) < available_memory();
    let mut conditions = perturbed::CONDITIONS.to_vec();
    conditions.push("another time of day");
    conditions.push("other process ids");
    conditions.push(if memory {
        "a store in memory, which lists directories in another order"
    } else {
        "the same order of directories, for want of memory"
    });
    (context.observer)(Event::Stage {
        text: format!("building again, in an empty store, under {}", conditions.join(", ")),
    });
    let bounds = &candidates[0].project.bounds;
    let variants = candidates.iter().map(|one| FirstBuild {
        variant: one.project.spec.variant.clone(),
        layers: one.record.layers.clone(),
        image: one.record.image,
    });
    let order = SecondBuild {
        dir: dir.clone(),
        allowed: bounds.allowed().to_vec(),
        store: second_store.clone(),
        first_store: context.store.root().to_owned(),
        variants: variants.collect(),
        identity: context.identity,
        shelves: context.member.depots.clone(),
        around: surroundings(context.store.root(), None),
    };
    let comparisons = run_second(&order, memory.then_some(second_store.as_path()), context.observer)?;
    let mut differences: Vec<Unlike> = Vec::new();
    let sources = project::read_spec(dir).ok().map(|(gathered, _)| gathered.sources);
    let mut same = comparisons.len() == candidates.len();
    for (candidate, comparison) in candidates.iter().zip(comparisons) {
        same &= comparison.differences.is_empty() && comparison.record.image == candidate.record.image;
        let (fresh, first) = (comparison.differences, differences.len());
        // Variants share layers, and have steps in common, whose random numbers are others.
        let known: BTreeSet<_> =
            differences.iter().map(|one| (one.layer.clone(), one.difference.what.clone())).collect();
        let is_new = |one: &Unlike| !known.contains(&(one.layer.clone(), one.difference.what.clone()));
        differences.extend(fresh.into_iter().filter(is_new));
        if let Some(sources) = sources.as_ref().filter(|_| differences.len() > first) {
            diagnosing::find_lines(&mut differences[first..], &candidate.project.spec, sources);
        }
    }
    if !same {
        return Err(EngineError::Seal(SealError::NotReproducible(differences)));
    }
    // Before the seals that name it: a listing that no seal names is no harm.
    let mut layers: Vec<SealedLayer> = Vec::new();
    for layer in candidates.iter().flat_map(|one| &one.record.layers) {
        if !layers.iter().any(|known| known.tree == layer.tree) {
            layers.push(layer.clone());
        }
    }
    let listing = listing::write(dir, context.store, &layers)?;
    let seals = candidates.iter().map(|Candidate { project, lock, record }| {
        let setup = Setup::new(&project.spec, lock, &record.shell);
        Seal {
            rules: RULES,
            words: record.image.spoken(),
            image: record.image,
            workspace: setup.fingerprint(&record.image),
            spec: project.spec.digest,
            pins: lock.pins_digest(),
            listing: Some(listing),
            setup,
            layers: record.layers.clone(),
            machine_root: None,
            probes: record.probes.clone(),
            signature: None,
        }
    });
    Ok(seals.collect())
}

/// What is around a build of this process: the first one, or with the offset of its clock the second.
fn surroundings(store: &Path, clock_offset: Option<i64>) -> Surroundings {
    /// Before this no clock of a build stands.
    const EARLIEST: i64 = 1_577_836_800;
    /// Process ids that a build uses up.
    const PIDS: u64 = 1 << 18;
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs() as i64);
    let first = u64::from(if clock_offset.is_some() { SKIPPED_PIDS } else { 1 });
    let host = fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default().trim().to_owned();
    Surroundings {
        // The first build may have been long ago; the second one is under way.
        clocks: match clock_offset {
            None => std::iter::once(EARLIEST..now).collect(),
            Some(offset) => vec![now..now, now + offset..now + offset],
        },
        pids: first..first + PIDS,
        processors: std::thread::available_parallelism().map_or(1, |count| count.get() as u64),
        hosts: Vec::from_iter((!host.is_empty()).then_some(host)),
        users: std::env::var("USER").ok().filter(|name| name.len() > 2 && name != "root").into_iter().collect(),
        paths: vec![store.display().to_string()],
        umask: if clock_offset.is_some() { 0o077 } else { 0o022 },
    }
}

/// Bytes of memory that can be had without harm (proc_meminfo(5), `MemAvailable`); 0 when that is not known.
fn available_memory() -> u64 {
    let text = fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("MemAvailable:"));
    let kibibytes = line.and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
    kibibytes.unwrap_or(0) * 1024
}

fn run_second(
    order: &SecondBuild,
    memory: Option<&Path>,
    observer: Observer<'_>,
) -> Result<Vec<Comparison>, EngineError> {
    let failed = |why: String| EngineError::Seal(SealError::SecondBuild(why));
    let mut child = perturbed::start(NAME, memory)?;
    let told = child.stdin.take().map(|mut stdin| serde_json::to_vec(order).map(|bytes| stdin.write_all(&bytes)));
    drop(told);
    let mut outcome = Err(failed("it ended without an answer".to_owned()));
    if let Some(stdout) = child.stdout.take() {
        for line in BufReader::new(stdout).lines().map_while(Result::ok) {
            match serde_json::from_str::<Answer>(&line) {
                // Layers of the second build are not news; what its steps say would be said twice.
                Ok(Answer::Event(Event::Layer(outcome))) => {
                    observer(Event::Stage { text: format!("built again: {}", outcome.layer) })
                }
                Ok(Answer::Event(_)) => {}
                Ok(Answer::Done(comparisons)) => outcome = Ok(comparisons),
                Ok(Answer::Failed(why)) => outcome = Err(failed(why)),
                Err(error) => outcome = Err(failed(format!("it answered something else: {error}"))),
            }
        }
    }
    let _ = child.wait();
    outcome
}

/// Every `main` that seals calls this early. In a process that was started as the second builder it does not return.
pub fn divert() {
    if std::env::args_os().next().is_some_and(|name| name == NAME) {
        let answer = match second_build() {
            Ok(comparisons) => Answer::Done(comparisons),
            Err(why) => Answer::Failed(why),
        };
        say(&answer);
        std::process::exit(0)
    }
}

fn say(answer: &Answer) {
    let mut line = serde_json::to_vec(answer).unwrap_or_default();
    line.push(b'\n');
    // The caller may be gone; then this process is about to be ended too.
    let _ = std::io::stdout().lock().write_all(&line);
}

fn second_build() -> Result<Vec<Comparison>, String> {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).map_err(|error| error.to_string())?;
    let order: SecondBuild = serde_json::from_str(&text).map_err(|error| error.to_string())?;
    build_and_compare(&order).map_err(|error| match error {
        EngineError::Build(BuildError::Step { ref last_lines, .. }) => format!("{error}: {}", last_lines.join(" / ")),
        error => error.to_string(),
    })
}

fn build_and_compare(order: &SecondBuild) -> Result<Vec<Comparison>, EngineError> {
    let project = project::load_within(&order.dir, None, Bounds::with(&order.dir, order.allowed.clone()))?;
    // Its place may be a fresh mount of memory, which has nothing in it either.
    let mut store = Store::open(&order.store.join("store"))?;
    if order.identity.records_owners() {
        store.set_ownership(Ownership::Recorded);
    }
    let staging = store.stage("second")?;
    let observer = |event: Event| say(&Answer::Event(event));
    let first = Store::open(&order.first_store)?;
    // Everything was brought here before.
    let web = Web::new(true);
    let member = Member::with_depots(order.shelves.clone());
    let context = BuildContext {
        store: &store,
        staging: &staging,
        web: &web,
        member: &member,
        blobs: &first,
        bodies: None,
        identity: order.identity,
        observer: &observer,
        // The store is empty: nothing is found there but what an earlier variant made.
        fresh: false,
        perturbations: Perturbations { clock_offset: CLOCK_OFFSET, skipped_pids: SKIPPED_PIDS },
    };
    let around = [order.around.clone(), surroundings(&order.store, Some(CLOCK_OFFSET))];
    let mut comparisons = Vec::new();
    for one in &order.variants {
        let project = project.of_variant(&one.variant)?;
        let built = build::build(context, &project, &project::load_pins(&project)?)?;
        let mut differences = Vec::new();
        for (ours, theirs) in one.layers.iter().zip(&built.record.layers) {
            if ours.tree != theirs.tree {
                let marks = built.record.image != one.image;
                differences.extend(diagnosing::layer_differences([(&first, ours), (&store, theirs)], marks, &around)?);
            }
        }
        comparisons.push(Comparison { record: built.record, differences });
    }
    drop(staging);
    Ok(comparisons)
}
