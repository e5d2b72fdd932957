//! One step of an image: asked whether it is needed, run, and taken as a layer.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use cavrith_core::account::{self, Account};
use cavrith_core::derive::plan::{PlannedFiles, PlannedRecord, StepContent, Work, Written};
use cavrith_core::digest::{ContentDigest, Sha256Digest, TreeDigest};
use cavrith_core::hints;
use cavrith_core::lock::FilesPin;
use cavrith_core::path::RootPath;
use cavrith_core::record::{Record, Request};
use cavrith_core::spec::Run;
use cavrith_core::template::{self, Names};
use cavrith_core::tree::{Entry, Kind, Meta, Tree};
use cavrith_recorder::Answers;
use cavrith_recorder::recording::Recording;
use cavrith_recorder::replaying::Replay;
use cavrith_sandbox::Session;
use cavrith_sandbox::job::{CommandJob, Ending, FolderMount, Job, Purpose};
use cavrith_sandbox::lines::{LastLines, Lines};
use cavrith_store::caches::Cache;
use cavrith_store::owners::{Owners, Ownership};
use cavrith_store::records::ImageRecord;
use cavrith_store::walk::{self, Over};
use cavrith_store::writer::{LayerWriter, Links, StagedLayer};

use crate::bodies::OpenRecord;
use crate::context::BuildContext;
use crate::error::{BuildError, EngineError, RecordError, file_error};
use crate::event::Event;
use crate::outward::Outward;
use crate::overlay_scratch::{self, layer_roots};
use crate::probe::{LIMIT, shown_seconds};
use crate::project::Project;
use crate::project_files::{self, Taken};
use crate::step_network::{self, LASTING, StepNetwork};
use cavrith_sandbox::Runtime as _;
use cavrith_store::reading;

/// The host name of every build.
pub(crate) const HOST_NAME: &str = "cavrith";

/// What lies beneath a step.
#[derive(Clone, Copy)]
pub(crate) struct LowerLayers<'a> {
    /// The layers, the lowest first.
    pub layers: &'a [TreeDigest],
    /// What they make together.
    pub merged: &'a Tree,
}

/// Carries a step out over the layers below it, and takes what it changed as a layer. `image_of` gives the image of
/// another variant, from which the step may take something.
pub(crate) fn make(
    context: BuildContext<'_>,
    project: &Project,
    (name, step): (&str, &StepContent),
    beneath: LowerLayers<'_>,
    time: u64,
    image_of: &dyn Fn(&str) -> Result<ImageRecord, EngineError>,
) -> Result<StagedLayer, EngineError> {
    let maker = Maker { context, project, name, step, beneath, time };
    if let Some(why) = maker.left_out()? {
        (context.observer)(Event::Note { text: format!("the {name} is left out: {why}") });
        return Ok(maker.writer()?.finish()?);
    }
    match &step.work {
        Work::Run(run) => maker.run(run, step.record.as_ref()),
        Work::Write { place, text, mode, owner } => maker.write(place, text, *mode, owner),
        Work::Copy { from, except, ignored, place, owner, tree } => {
            let taken = maker.as_locked(Taken::read(&project.bounds, from, except, *ignored)?, from, tree)?;
            maker.copy(taken.is_folder, taken.entries(), place, owner)
        }
        Work::Take { variant, from, except, place, owner, .. } => {
            let taken = maker.image_part(variant, &image_of(variant)?, from, except)?;
            let entries = taken.entries.iter().map(|(inner, path, entry)| (inner.clone(), path.clone(), entry));
            maker.copy(taken.is_folder, entries, place, owner)
        }
    }
}

/// Carries a step out that fetches, and writes down what came. What it changed goes with its bench: whoever builds it
/// is answered from the record.
pub(crate) fn record(
    context: BuildContext<'_>,
    project: &Project,
    (name, step): (&str, &StepContent),
    beneath: LowerLayers<'_>,
) -> Result<Record, EngineError> {
    let maker = Maker { context, project, name, step, beneath, time: 0 };
    if let Some(why) = maker.left_out()? {
        (context.observer)(Event::Note { text: format!("the {name} is left out, and fetches nothing: {why}") });
        return Ok(Record::default());
    }
    let Work::Run(run) = &step.work else { return Ok(Record::default()) };
    let outward = Outward::new(context.web, &context.member.config.recording)
        .map_err(|why| EngineError::Record(RecordError::Network { step: name.to_owned(), why }))?;
    let fetch = |request: &Request, headers: &[(String, String)], body: &[u8]| outward.fetch(request, headers, body);
    let recording = Recording::new(context.blobs, &fetch);
    let ended = maker.run_answered(run, &recording, false);
    step_network::with_notes(context, name, recording.notes(), ended)?;
    Ok(recording.into_record())
}

/// Takes what was changed on a bench, by commands of this user and group, as a layer.
pub(crate) fn capture(
    context: BuildContext<'_>,
    overlay_scratch: PathBuf,
    by: (u32, u32),
    time: u64,
    merged: &Tree,
) -> Result<StagedLayer, EngineError> {
    let copied = overlay_scratch.join(cavrith_sandbox::copy_overlay::MARK);
    let was_copied = copied.exists();
    for name in if was_copied { ["work", "root"] } else { ["work", "merged"] } {
        let path = overlay_scratch.join(name);
        cavrith_store::removing::remove(&path)?;
    }
    let others = overlay_scratch.join(cavrith_sandbox::owners::OTHERS);
    let known = match reading::bytes(&others) {
        Ok(text) => cavrith_sandbox::owners::read_others(&text),
        Err(_) => Default::default(),
    };
    let _ = fs::remove_file(&others);
    let known = |path: &RootPath| known.get(path.as_bytes()).copied();
    let owners = match context.store.ownership() {
        Ownership::Real => Owners::Real,
        Ownership::Recorded => Owners::Recorded { new: by, known: &known },
    };
    let over = if was_copied { Over::Copy } else { Over::Overlay };
    if was_copied {
        fs::remove_file(&copied).map_err(file_error("remove", &copied))?;
    }
    Ok(walk::capture(overlay_scratch, over, time, owners, merged)?)
}

/// What was found in another variant's image: each entry's path beneath what was taken, where it lies in the store, and
/// what it is.
struct TakenFromImage {
    is_folder: bool,
    entries: Vec<(RootPath, PathBuf, Entry)>,
}

/// A file without the other names that it has where it comes from.
fn alone(kind: &Kind) -> Kind {
    match kind {
        Kind::File { size, content, .. } => Kind::File { size: *size, content: *content, links: None },
        other => other.clone(),
    }
}

struct Maker<'a> {
    context: BuildContext<'a>,
    project: &'a Project,
    name: &'a str,
    step: &'a StepContent,
    beneath: LowerLayers<'a>,
    time: u64,
}

impl Maker<'_> {
    fn writer(&self) -> Result<LayerWriter, EngineError> {
        Ok(LayerWriter::new(self.context.staging.new_dir()?, self.time, Links::Refuse, self.context.store.ownership())?)
    }

    /// Why the step need not be run, if so.
    fn left_out(&self) -> Result<Option<String>, EngineError> {
        let merged = self.beneath.merged;
        if let Some(creates) = &self.step.creates
            && merged.resolve(creates).is_some_and(|place| merged.get(&place).is_some())
        {
            return Ok(Some(format!("{creates} is there")));
        }
        let Some(unless) = &self.step.unless else { return Ok(None) };
        // What the question itself changes is nothing that anybody asked for; it goes with its bench.
        let overlay_scratch = self.bench()?;
        let command = self.command(unless.argv())?;
        let session = self.session(self.job(overlay_scratch, &command)?)?;
        let ending = match session.run(&command, LIMIT, &mut |_| ()) {
            // A program that is not there yet does not succeed.
            Err(cavrith_sandbox::SandboxError::NotStarted { .. }) => return Ok(None),
            ending => ending?,
        };
        drop(session);
        match ending {
            None => Err(self.too_long(LIMIT.as_secs())),
            Some(ending) => Ok(ending.is_good().then(|| format!("`{}` succeeds", unless.shown()))),
        }
    }

    fn job(&self, overlay_scratch: PathBuf, command: &CommandJob) -> Result<Job, EngineError> {
        let layers = layer_roots(self.context, self.beneath.layers)?;
        let mut job = Job::new(Purpose::Build, layers, overlay_scratch, HOST_NAME);
        (job.perturbations, job.only) = (self.context.perturbations, (command.user, command.group));
        Ok(job)
    }

    fn session(&self, job: Job) -> Result<Session, EngineError> {
        let session = Session::begin(job, self.context.identity)?;
        session.notes().iter().for_each(|text| (self.context.observer)(Event::Note { text: text.clone() }));
        Ok(session)
    }

    /// A command of the step's account.
    fn command(&self, argv: Vec<String>) -> Result<CommandJob, EngineError> {
        let account = self.account(&self.step.account)?;
        let mut env = self.step.env.clone();
        for (name, value) in [("HOME", &account.home), ("USER", &self.step.account), ("LOGNAME", &self.step.account)] {
            env.insert(name.to_owned(), value.clone());
        }
        let (user, group) = (account.user, account.group);
        let directory = self.step.files.as_ref().map_or_else(|| "/".to_owned(), |files| files.place.to_string());
        Ok(CommandJob { argv, env, directory, user, group, ..CommandJob::default() })
    }

    fn too_long(&self, seconds: u64) -> EngineError {
        EngineError::Build(BuildError::TooLong { what: self.name.to_owned(), limit: shown_seconds(seconds) })
    }

    fn run(&self, run: &Run, record: Option<&PlannedRecord>) -> Result<StagedLayer, EngineError> {
        let Some(planned) = record else {
            let overlay_scratch = self.bench()?;
            let mut command = self.command(run.argv())?;
            let mut job = self.job(overlay_scratch.clone(), &command)?;
            let caches = self.lay_caches(&mut job, &mut command, !self.context.fresh)?;
            let session = self.session(job)?;
            self.carry_out(session, &command)?;
            drop(caches);
            return self.taken(overlay_scratch, &command);
        };
        let open = OpenRecord::load(self.context, self.project, (self.name, planned))?;
        let body = |digest: &Sha256Digest| open.body(digest);
        let replay = Replay::new(&open.record, &body);
        let ended = self.run_answered(run, &replay, !self.context.fresh);
        let (overlay_scratch, command) = step_network::with_notes(self.context, self.name, replay.notes(), ended)?;
        self.taken(overlay_scratch, &command)
    }

    /// Runs a command whose requests somebody answers. Gives where what it changed lies.
    ///
    /// What is recorded must not depend on what a cache has, so with `lasting` false its caches are empty.
    fn run_answered(
        &self,
        run: &Run,
        answers: &dyn Answers,
        lasting: bool,
    ) -> Result<(PathBuf, CommandJob), EngineError> {
        let overlay_scratch = self.bench()?;
        let mut command = self.command(run.argv())?;
        let mut job = self.job(overlay_scratch.clone(), &command)?;
        let _caches = self.lay_caches(&mut job, &mut command, lasting)?;
        for (name, value) in StepNetwork::variables() {
            // What the spec says goes before, and so does a cache that lasts.
            command.env.entry(name).or_insert(value);
        }
        let network = StepNetwork::prepare(&mut job, self.context.staging, self.beneath.merged)?;
        let session = self.session(job)?;
        let failed = |error: std::io::Error| {
            EngineError::Record(RecordError::Network { step: self.name.to_owned(), why: error.to_string() })
        };
        let connector = session.connector()?;
        let sockets = StepNetwork::sockets(&connector).map_err(failed)?;
        cavrith_recorder::serve(sockets, &network.authority, answers, || self.carry_out(session, &command))?;
        network.take_out(&overlay_scratch, self.beneath.merged, self.time)?;
        Ok((overlay_scratch, command))
    }

    /// Lays a command's caches into its sandbox: those that last, or empty ones. They are this project's alone, over
    /// this base, for this account, so that nothing gets from one project into another; while another build works with
    /// one, this one has an empty one.
    fn lay_caches(&self, job: &mut Job, command: &mut CommandJob, lasting: bool) -> Result<Vec<Cache>, EngineError> {
        let mut held = Vec::new();
        for name in &self.step.caches {
            let cache = if lasting { self.context.store.cache(&self.cache_key(name))? } else { None };
            let (outside, is_new) = match &cache {
                Some(cache) => (cache.path.clone(), cache.is_new),
                None => (self.context.staging.new_dir()?, true),
            };
            let mut folder = FolderMount::new(outside, Path::new(LASTING).join(name));
            (folder.kept, folder.new) = (true, is_new);
            job.folders.push(folder);
            held.extend(cache);
        }
        for (name, value) in StepNetwork::cache_variables(&self.step.caches) {
            command.env.entry(name).or_insert(value);
        }
        Ok(held)
    }

    fn cache_key(&self, name: &str) -> String {
        let project = self.project.dir.as_os_str().as_encoded_bytes();
        let base = self.beneath.layers.first().map(ToString::to_string).unwrap_or_default();
        let parts = [project, base.as_bytes(), self.step.account.as_bytes(), name.as_bytes()];
        // No part has the byte that ends each.
        Sha256Digest::of(&parts.map(|part| [part, b"\0"].concat()).concat()).to_string()
    }

    /// Where a command works: with the files that it is given.
    fn bench(&self) -> Result<PathBuf, EngineError> {
        let (staging, merged) = (self.context.staging, self.beneath.merged);
        let ownership = self.context.store.ownership();
        let overlay_scratch = overlay_scratch::new(staging, Some(merged), ownership)?;
        let Some(PlannedFiles { names, place, tree }) = &self.step.files else { return Ok(overlay_scratch) };
        let taken = Taken::files(&self.project.bounds, names.iter().map(String::as_str))?;
        let taken = self.as_locked(taken, &names.join(", "), tree)?;
        let laid = self.copy(true, taken.entries(), place, &self.step.account)?.into_upper(ownership)?;
        overlay_scratch::put_in(&overlay_scratch, &laid, merged)?;
        Ok(overlay_scratch)
    }

    /// Runs a command, and ends everything inside.
    fn carry_out(&self, session: Session, command: &CommandJob) -> Result<(), EngineError> {
        let (mut lines, mut last_lines) = (Lines::default(), LastLines::default());
        let mut on_line = |line: &str| {
            last_lines.push(line);
            (self.context.observer)(Event::Output { layer: self.name.to_owned(), line: line.to_owned() });
        };
        let limit = Duration::from_secs(self.step.limit);
        let ending = match session.run(command, limit, &mut |bytes| lines.take(bytes, &mut on_line)) {
            // As a shell would say it, and end (POSIX, Shell Command Language, 2.8.2).
            Err(error @ cavrith_sandbox::SandboxError::NotStarted { missing, .. }) => {
                on_line(&error.to_string());
                Some(Ending::Code(126 + i32::from(missing)))
            }
            ending => ending?,
        };
        lines.finish(&mut on_line);
        drop(session);
        match ending {
            None => Err(self.too_long(self.step.limit)),
            Some(Ending::Code(0)) => Ok(()),
            Some(ending) => {
                let (step, last_lines) = (self.name.to_owned(), last_lines.to_vec());
                let files = self.step.files.as_ref();
                let project = files.map_or_else(|| "/code".to_owned(), |files| files.place.to_string());
                let hint = hints::of_build_step(&last_lines, &project, files.is_some());
                // One that fetches has a network, and its own words about what was not recorded.
                let hint = hint.filter(|_| self.step.record.is_none()).map(|hint| format!("hint: {hint}"));
                let failed = EngineError::Build(BuildError::Step { step, ending, last_lines });
                Err(failed.because(hint.into_iter().collect()))
            }
        }
    }

    fn taken(&self, overlay_scratch: PathBuf, command: &CommandJob) -> Result<StagedLayer, EngineError> {
        capture(self.context, overlay_scratch, (command.user, command.group), self.time, self.beneath.merged)
    }

    fn write(&self, place: &RootPath, text: &Written, mode: u16, owner: &str) -> Result<StagedLayer, EngineError> {
        let account = self.account(owner)?;
        let text = match text {
            Written::Content(text) => text.clone(),
            Written::Template { file, tree, names } => self.filled_in(file, tree, names)?,
        };
        let at = self.place(place)?;
        if self.beneath.merged.get(&at).is_some_and(|entry| entry.kind.is_directory()) {
            return Err(self.bad_place(place, "there is a directory".to_owned()));
        }
        let mut writer = self.writer()?;
        writer.file(&at, Meta::owned(mode, account.user, account.group), &mut text.as_bytes())?;
        writer.adopt_parents(self.beneath.merged);
        Ok(writer.finish()?)
    }

    fn filled_in(&self, file: &str, tree: &TreeDigest, names: &Names) -> Result<String, EngineError> {
        let path = self.project.dir.join(file);
        let taken = self.as_locked(Taken::template(&self.project.bounds, file)?, file, tree)?;
        let text = std::io::read_to_string(project_files::open(&taken.from)?).map_err(file_error("read", &path))?;
        // Between the first look at the file and this one somebody may have written it.
        let read = ContentDigest::of(text.as_bytes());
        let is_read = |entry: &Entry| matches!(entry.kind, Kind::File { content, .. } if content == read);
        if !taken.tree.entries.values().any(is_read) {
            return Err(EngineError::Build(BuildError::NotTakeable {
                path,
                why: "it is being changed at the moment".to_owned(),
            }));
        }
        template::fill_in(&text, names)
            .map_err(|bad| EngineError::Build(BuildError::Template { path, why: bad.to_string() }))
    }

    fn as_locked(&self, taken: Taken, from: &str, tree: &TreeDigest) -> Result<Taken, EngineError> {
        if taken.tree.digest() == *tree {
            return Ok(taken);
        }
        let step = self.name.trim_start_matches("step ").trim_matches('"').to_owned();
        let found = taken.pin(&step, from);
        Err(project_files::changed(&FilesPin { tree: *tree, ..found.clone() }, &found))
    }

    /// What another variant's image has at a path, with all that is in it.
    fn image_part(
        &self,
        variant: &str,
        image: &ImageRecord,
        from: &RootPath,
        except: &[String],
    ) -> Result<TakenFromImage, EngineError> {
        let store = self.context.store;
        let mut merged = Tree::with_root();
        for layer in &image.layers {
            merged.overlay_whole(store.layer_tree(&layer.tree)?);
        }
        let layers: Vec<_> = image.layers.iter().map(|layer| layer.tree).collect();
        let cannot = |why: &str| {
            let path = PathBuf::from(from.to_string());
            EngineError::Build(BuildError::NotTakeable { path, why: format!("{why} in the variant {variant}") })
        };
        let at = merged.resolve(from).filter(|at| merged.get(at).is_some());
        let at = at.ok_or_else(|| cannot("there is nothing of that name"))?;
        let is_folder = merged.get(&at).is_some_and(|entry| entry.kind.is_directory());
        let except = project_files::patterns(except);
        let mut entries = Vec::new();
        for (path, entry) in merged.under(&at) {
            let inner = path.strip(at.depth()).unwrap_or_default();
            let is_directory = entry.kind.is_directory();
            if (is_folder && inner.is_root())
                || except.matched_path_or_any_parents(inner.as_relative(), is_directory).is_ignore()
            {
                continue;
            }
            let lies = match &entry.kind {
                Kind::Directory { .. } | Kind::Symlink { .. } => PathBuf::new(),
                Kind::File { .. } => store
                    .place_in_image(layers.iter(), &merged, path)
                    .ok_or_else(|| cannot("a file is missing in the store; run cavrith store repair, for something"))?,
                other => return Err(cannot(&format!("{path} is a {}, which no step takes,", other.word()))),
            };
            entries.push((inner, lies, Entry { kind: alone(&entry.kind), meta: entry.meta.clone() }));
        }
        Ok(TakenFromImage { is_folder, entries })
    }

    /// Lays files with an account as their owner.
    fn copy<'e>(
        &self,
        is_folder: bool,
        entries: impl Iterator<Item = (RootPath, PathBuf, &'e Entry)>,
        place: &RootPath,
        owner: &str,
    ) -> Result<StagedLayer, EngineError> {
        let account = self.account(owner)?;
        let merged = self.beneath.merged;
        let at = if is_folder { merged.resolve(place) } else { self.place(place).ok() };
        let at = at.ok_or_else(|| self.bad_place(place, "the links on the way never end".to_owned()))?;
        let there = merged.get(&at).map(|entry| entry.kind.clone());
        if there.as_ref().is_some_and(|kind| kind.is_directory() != is_folder) {
            let what = if is_folder { "there is something else than a directory" } else { "there is a directory" };
            return Err(self.bad_place(place, what.to_owned()));
        }
        let mut writer = self.writer()?;
        let owned = |mode| Meta::owned(mode, account.user, account.group);
        if is_folder && there.is_none() {
            writer.directory(&at, owned(0o755))?;
        }
        for (inner, path, entry) in entries {
            let to = at.join_path(&inner).map_err(|bad| self.bad_place(place, bad.to_string()))?;
            let lower = merged.get(&to).map(|entry| entry.kind.is_directory());
            if lower.is_some_and(|directory| directory != entry.kind.is_directory()) {
                return Err(self.bad_place(&to, "a file and a directory cannot take each other's place".to_owned()));
            }
            match &entry.kind {
                // A directory that is there keeps its rights.
                Kind::Directory { .. } if lower.is_some() => {}
                Kind::Directory { .. } => writer.directory(&to, owned(entry.meta.mode))?,
                Kind::Symlink { target } => writer.symlink(&to, owned(0o777), target)?,
                kind => {
                    writer.file(&to, owned(entry.meta.mode), &mut project_files::open(&path)?)?;
                    // Between the first look at the file and this one somebody may have written it.
                    let same = writer.tree().get(&to).is_some_and(|written| written.kind == *kind);
                    if !same {
                        let why = "it is being changed at the moment".to_owned();
                        return Err(EngineError::Build(BuildError::NotTakeable { path, why }));
                    }
                }
            }
        }
        writer.adopt_parents(merged);
        Ok(writer.finish()?)
    }

    fn bad_place(&self, place: &RootPath, why: String) -> EngineError {
        EngineError::Build(BuildError::BadPlace { step: self.name.to_owned(), place: place.to_string(), why })
    }

    /// Where something that is put at `place` really lies.
    fn place(&self, place: &RootPath) -> Result<RootPath, EngineError> {
        let merged = self.beneath.merged;
        let at = merged.resolve_parent(place);
        let at = at.ok_or_else(|| self.bad_place(place, "the links on the way never end".to_owned()))?;
        let in_way =
            at.ancestors().into_iter().find(|above| merged.get(above).is_some_and(|entry| !entry.kind.is_directory()));
        match in_way {
            Some(above) => Err(self.bad_place(place, format!("{above} is not a directory"))),
            None => Ok(at),
        }
    }

    /// An account of the image, as its passwd file has it beneath this step.
    fn account(&self, name: &str) -> Result<Account, EngineError> {
        if name == "root" {
            return Ok(Account { user: 0, group: 0, home: "/root".to_owned(), shell: String::new() });
        }
        let passwd = self.file("etc/passwd")?;
        account::find(&passwd, name).ok_or_else(|| {
            let known = account::names(&passwd).join(", ");
            EngineError::Build(BuildError::NoAccount { step: self.name.to_owned(), name: name.to_owned(), known })
        })
    }

    /// A file of what lies beneath, from the uppermost layer that has it; nothing when there is none.
    fn file(&self, path: &str) -> Result<Vec<u8>, EngineError> {
        let Ok(path) = RootPath::from_archive(path.as_bytes()) else { return Ok(Vec::new()) };
        let LowerLayers { layers, merged } = self.beneath;
        Ok(self.context.store.file_of_image(layers.iter(), merged, &path)?.unwrap_or_default())
    }
}
