//! `cavrith drift --adopt`: the spec's new lines are shown, written, locked and built; then the image is held against
//! the workspace that they came from.

use std::fs;
use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::drift::{Drift, Finding, Side, unified};
use cavrith_core::path::RootPath;
use cavrith_core::spec::FILE_NAME;
use cavrith_core::verdict::count;
use cavrith_engine::adopting::{self, Adoption, Inside, NewContent, NewFile};
use cavrith_engine::context::BuildContext;
use cavrith_engine::error::file_error;
use cavrith_engine::project::{self, Project};
use cavrith_keeper::place::Place;
use cavrith_sandbox::ground::{Dress, Ground};
use cavrith_workspace::drifting::{self, Scratched};
use serde_json::json;

use crate::args::{Drift as Arguments, General};
use crate::build_env::BuildEnv;
use crate::commands::own::Own;
use crate::commands::stop::confirm;
use crate::commands::{Outcome, build};
use crate::failure::Failure;
use crate::render::drift::coloured;
use crate::render::progress::Where;
use crate::screen::{Screen, styled};

/// Files beside the spec that locking and recording write.
const BESIDE: [&str; 3] = [FILE_NAME, cavrith_core::lock::FILE_NAME, cavrith_core::listing::FILE_NAME];

pub struct Adopting<'a> {
    pub general: &'a General,
    pub screen: &'a Screen,
    pub command: &'a Arguments,
    pub place: &'a Place,
    pub build_env: &'a BuildEnv,
}

impl Adopting<'_> {
    pub fn exec(&self, drift: &Drift, scratched: &Scratched) -> Outcome {
        let (screen, json) = (self.screen, self.command.report.json);
        let project = project::load(&self.place.project, self.general.variant.as_deref())?;
        let path = project.dir.join(FILE_NAME);
        let text = cavrith_store::reading::text(&path).map_err(file_error("read", &path))?;
        let adoption = build::with_progress(screen, self.build_env, Where::Nowhere, false, |context| {
            Ok(planned(context, scratched, &text, &project, &drift.findings)?)
        })?;
        if !json {
            self.show(&text, &adoption);
        }
        if adoption.adopted.is_empty() {
            if json {
                screen.json(&answer(&adoption, &[]));
            } else {
                screen.result("there is nothing to adopt");
            }
            return Ok(u8::from(!adoption.left.is_empty()));
        }
        confirm(screen, self.command.yes, "write this into the project, lock and build?")?;
        let before = Before::of(&project.dir, &adoption)?;
        if let Err(failure) = self.carry_out(&project, &adoption) {
            before.restore(&project.dir)?;
            screen.insist(format_args!("{} the project is as it was before", styled(screen.err.warning, "note")));
            return Err(failure);
        }
        let missing = build::with_progress(screen, self.build_env, Where::Nowhere, false, |context| {
            self.missing(context, &project.dir, drift, &adoption)
        })?;
        if json {
            screen.json(&answer(&adoption, &missing));
        } else {
            self.report(&adoption, &missing);
        }
        Ok(u8::from(!missing.is_empty()))
    }

    /// What is to be written.
    fn show(&self, text: &str, adoption: &Adoption) {
        let (screen, styles) = (self.screen, &self.screen.out);
        let diff = unified(&format!("/{FILE_NAME}"), text, &adoption.spec);
        for line in diff.lines() {
            screen.result(coloured(line, styles));
        }
        for NewFile { path, content } in &adoption.files {
            let what = match content {
                NewContent::File(bytes, _) => cavrith_core::verdict::size(bytes.len() as u64),
                NewContent::Link(target) => format!("→ {}", cavrith_core::path::shown(target)),
            };
            let path = cavrith_core::path::shown(path.as_os_str().as_encoded_bytes());
            screen.result(format_args!("{} {path}  {what}", styled(styles.good, "file")));
        }
        for name in &adoption.update {
            screen.result(format_args!("{} the pin of {name} moves on", styled(styles.good, "lock")));
        }
        for (name, why) in &adoption.left {
            screen.result(format_args!("{} {name}: {why}", styled(styles.warning, "not adopted")));
        }
    }

    fn carry_out(&self, project: &Project, adoption: &Adoption) -> Result<(), Failure> {
        lay(&project.dir, &adoption.files)?;
        cavrith_store::atomic::write_unlinked(&project.dir.join(FILE_NAME), adoption.spec.as_bytes())
            .map_err(cavrith_engine::EngineError::from)?;
        let own = Own {
            dir: &project.dir,
            general: self.general,
            variant: self.general.variant.clone(),
            quiet: self.screen.quiet || self.command.report.json,
        };
        let mut lock = vec!["lock"];
        if adoption.to_record {
            lock.push("--record");
        }
        own.passed(&lock)?;
        if !adoption.update.is_empty() {
            let update = ["lock", "--update"].into_iter().chain(adoption.update.iter().map(String::as_str));
            own.passed(&update.collect::<Vec<_>>())?;
        }
        own.passed(&["build"])
    }

    /// What of that the new image does not hold as the workspace did.
    fn missing(
        &self,
        context: BuildContext<'_>,
        dir: &Path,
        drift: &Drift,
        adoption: &Adoption,
    ) -> Result<Vec<Finding>, Failure> {
        let project = project::load(dir, self.general.variant.as_deref())?;
        let lock = project::load_lock(&project)?;
        let mut still = drift.clone();
        still.findings.retain(|finding| adoption.adopted.iter().any(|name| name == finding.name()));
        // These are held by the spec, and by no file of the image.
        let (of_spec, of_image): (Vec<_>, Vec<_>) = std::mem::take(&mut still.findings)
            .into_iter()
            .partition(|finding| matches!(finding, Finding::Variable { .. } | Finding::Service { .. }));
        still.findings = of_image;
        still.retain_differing(&drifting::against(context, self.place, &project, &lock)?);
        still.findings.extend(of_spec.into_iter().filter(|finding| !is_in_spec(&project, finding)));
        Ok(still.findings)
    }

    fn report(&self, adoption: &Adoption, missing: &[Finding]) {
        let screen = self.screen;
        let what = count(adoption.adopted.len(), "change");
        if missing.is_empty() {
            screen.result(format_args!(
                "{} {what}; the image holds now what the workspace held",
                styled(screen.out.good, "adopted")
            ));
        } else {
            screen.result(format_args!(
                "{} {what}, and the image differs from the workspace in",
                styled(screen.out.bad, "adopted")
            ));
            for finding in missing {
                screen.result(format_args!("    {}", finding.name()));
            }
        }
        screen.say(format_args!(
            "review cavrith.toml and commit it with the lock; the next start of {} is over the new image",
            self.place.name
        ));
    }
}

fn is_in_spec(project: &Project, finding: &Finding) -> bool {
    match finding {
        Finding::Variable { name, value, .. } => project.spec.env.get(name).is_some_and(|there| there.value == *value),
        Finding::Service { command, .. } => {
            project.spec.services.values().any(|service| service.value.run.value.argv() == *command)
        }
        _ => false,
    }
}

/// Brings what was changed by hand in a workspace into the spec of another project, which lies in `dir` and is the
/// same as that of the workspace's.
pub fn with_drift(screen: &Screen, build_env: &BuildEnv, place: &Place, dir: &Path) -> Result<Adoption, Failure> {
    let project = project::load(&place.project, None)?;
    let path = dir.join(FILE_NAME);
    let text = cavrith_store::reading::text(&path).map_err(file_error("read", &path))?;
    let adoption = build::with_progress(screen, build_env, Where::Nowhere, false, |context| {
        let (drift, scratched) = drifting::drift(context, place)?;
        Ok(planned(context, &scratched, &text, &project, &drift.findings)?)
    })?;
    lay(dir, &adoption.files)?;
    cavrith_store::atomic::write_unlinked(&path, adoption.spec.as_bytes())
        .map_err(cavrith_engine::EngineError::from)?;
    Ok(adoption)
}

fn answer(adoption: &Adoption, missing: &[Finding]) -> serde_json::Value {
    let left: Vec<_> = adoption.left.iter().map(|(name, why)| json!({ "name": name, "why": why })).collect();
    let files: Vec<_> = adoption.files.iter().map(|file| &file.path).collect();
    json!({ "adopted": adoption.adopted, "left": left, "files": files, "missing": missing })
}

fn planned(
    context: BuildContext<'_>,
    scratched: &Scratched,
    text: &str,
    project: &Project,
    findings: &[Finding],
) -> Result<Adoption, cavrith_engine::EngineError> {
    let read = |path: &RootPath| scratched.content(context, Side::Here, path);
    let lines = |path: &str| {
        let bytes = RootPath::from_archive(path.as_bytes()).ok().and_then(|path| read(&path));
        String::from_utf8_lossy(&bytes.unwrap_or_default()).into_owned()
    };
    let (passwd, group) = (lines("etc/passwd"), lines("etc/group"));
    let inside = Inside { here: &scratched.here, read: &read, passwd: &passwd, group: &group };
    adopting::plan(text, &project.spec, findings, &inside)
}

/// Seconds since 1970.
fn now() -> u64 {
    cavrith_keeper::record::now() / 1000
}

/// Lays files into the project, each found from its folder without following a link: the folder is visible inside.
fn lay(dir: &Path, files: &[NewFile]) -> Result<(), Failure> {
    let ground = Ground::open(dir).map_err(file_error("open", dir))?;
    let owner = fs::metadata(dir).map(|meta| (meta.uid(), meta.gid())).map_err(file_error("read", dir))?;
    let dress = |mode: u32| Dress { mode, owner: Some(owner), modified: now() };
    for NewFile { path, content } in files {
        let failed = || file_error("write", dir.join(path));
        ground.make_way(path, &dress(0o755)).map_err(failed())?;
        match content {
            NewContent::File(bytes, program) => {
                let mode = if *program { 0o755 } else { 0o644 };
                ground.file(path, &mut bytes.as_slice(), &dress(mode)).map_err(failed())?;
            }
            NewContent::Link(target) => {
                let target = PathBuf::from(<std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(target));
                ground.link(path, &target, &dress(0o777)).map_err(failed())?;
            }
        }
    }
    Ok(())
}

/// Files of the project as they were.
struct Before(Vec<(PathBuf, Option<Vec<u8>>)>);

impl Before {
    fn of(dir: &Path, adoption: &Adoption) -> Result<Self, Failure> {
        let mut files = Vec::new();
        let named = adoption.files.iter().map(|file| file.path.clone());
        for path in BESIDE.iter().map(PathBuf::from).chain(named) {
            let at = dir.join(&path);
            let content = match cavrith_store::reading::bounded_real(&at, cavrith_store::reading::LONGEST) {
                Ok(bytes) => Some(bytes),
                Err(error) if error.kind() == io::ErrorKind::NotFound => None,
                Err(error) => return Err(file_error("read", &at)(error).into()),
            };
            files.push((path, content));
        }
        Ok(Self(files))
    }

    /// Puts them back; what was not there goes. The folder was open to everybody inside meanwhile, so no link is
    /// followed.
    fn restore(&self, dir: &Path) -> Result<(), Failure> {
        let (beside, adopted) = self.0.split_at(BESIDE.len().min(self.0.len()));
        for (path, content) in beside {
            let at = dir.join(path);
            match content {
                Some(bytes) => {
                    cavrith_store::atomic::write_unlinked(&at, bytes).map_err(cavrith_engine::EngineError::from)?;
                }
                None => drop(fs::remove_file(&at)),
            }
        }
        let ground = Ground::open(dir).map_err(file_error("open", dir))?;
        for (path, content) in adopted {
            let failed = || file_error("put back", dir.join(path));
            match content {
                Some(bytes) => {
                    let as_it_is = fs::symlink_metadata(dir.join(path)).map_or(0o644, |meta| meta.mode() & 0o777);
                    let owner = fs::metadata(dir).map(|meta| (meta.uid(), meta.gid())).map_err(failed())?;
                    let dress = Dress { mode: as_it_is, owner: Some(owner), modified: now() };
                    ground.file(path, &mut bytes.as_slice(), &dress).map_err(failed())?;
                }
                None => ground.remove(path).map_err(failed())?,
            }
        }
        Ok(())
    }
}
