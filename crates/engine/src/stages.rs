//! A base from the Debian archive: its packages laid and configured, stage by stage.
//!
//! A stage is laid by us (unpacked by as many threads as there are processors, straight into what will be the layer), with dpkg's own records of it
//! written as dpkg writes them; then the root's own dpkg configures it, in a sandbox over the stages beneath. While one stage is being configured,
//! which keeps one processor busy, the next one is laid already; should configuring have made links where that one has directories, it is laid again.
//!
//! What configuring leaves differently each time is removed at the end; [`TIDY`] has the list, with reasons.

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::ScopedJoinHandle;
use std::time::Duration;

use cavrith_core::digest::TreeDigest;
use cavrith_core::path::RootPath;
use cavrith_core::plan::{Content, PlannedLayer, STEP_LIMIT, Stage};
use cavrith_core::tree::{Kind, Meta, Tree};
use cavrith_sandbox::Session;
use cavrith_sandbox::job::{CommandJob, Ending, Job, Purpose};
use cavrith_sandbox::session::Lines;
use cavrith_sources::SourceError;
use cavrith_sources::stage::{self, Beneath, Package};
use cavrith_store::shared::{ASIDE, Move, SharedWriter};
use cavrith_store::writer::{LayerWriter, Links, StagedLayer};

use crate::build::{Builder, Ready, Workshop};
use crate::error::{EngineError, file_error};
use crate::event::Event;
use crate::making::{HOST_NAME, LAST_LINES, capture};
use crate::project::Project;
use crate::steps::{layer_roots, make_bench};
use crate::supply::Supply;

/// Files that are fetched at once; more than that is no faster and unfriendly to mirrors.
const FETCHES: usize = 6;
/// Directories that every root has as links into `/usr`, whatever packages write.
const MERGED: [&str; 4] = ["bin", "sbin", "lib", "lib64"];
/// Where dpkg keeps its records.
const ADMIN: &str = "var/lib/dpkg";

/// Begins the inside: what packages' scripts must not do in a build. `ischroot` says that nobody runs this root as a machine (the C library waits a second for an
/// init that is not there otherwise); `policy-rc.d` says that no service is to be started (Debian's invoke-rc.d policy).
const BEGIN: &str = "umask 022
mkdir -p /run/cavrith
printf '#!/bin/sh\\nexit 0\\n' > /run/cavrith/ischroot
printf '#!/bin/sh\\nexit 101\\n' > /usr/sbin/policy-rc.d
chmod 755 /run/cavrith/ischroot /usr/sbin/policy-rc.d
";

/// Ends it: everything has to be installed; and what would differ from build to build goes.
///
/// Times of day are in logs. Inode numbers are in the linker's cache of what it saw. Copies of records before the last change, and locks, tell of the order of
/// work. Keys and identities that a package makes at random belong to one machine: whoever needs them makes them at the first start.
const TIDY: &str = "
left=$(/usr/bin/dpkg --audit)
if [ -n \"$left\" ]; then printf '%s\\n' \"$left\"; exit 1; fi
rm -f /usr/sbin/policy-rc.d
rm -f /var/log/dpkg.log /var/log/alternatives.log /var/log/bootstrap.log /var/log/fontconfig.log
rm -rf /var/log/apt
mkdir -p /var/log/apt
rm -f /var/cache/ldconfig/aux-cache
rm -f /etc/passwd- /etc/group- /etc/shadow- /etc/gshadow- /etc/subuid- /etc/subgid- /etc/.pwd.lock
rm -f /var/lib/dpkg/status-old /var/lib/dpkg/diversions-old /var/lib/dpkg/statoverride-old /var/lib/dpkg/available-old
rm -f /var/lib/dpkg/lock /var/lib/dpkg/lock-frontend /var/lib/dpkg/triggers/Lock
rm -f /var/cache/debconf/config.dat-old /var/cache/debconf/passwords.dat-old /var/cache/debconf/templates.dat-old
rm -f /var/cache/apt/pkgcache.bin /var/cache/apt/srcpkgcache.bin
rm -f /var/lib/systemd/catalog/database /var/lib/dbus/machine-id
rm -f /etc/ssh/ssh_host_*_key /etc/ssh/ssh_host_*_key.pub
if [ -s /etc/machine-id ]; then : > /etc/machine-id; fi
if [ -e /etc/ssl/certs/ssl-cert-snakeoil.pem ]; then
    for link in /etc/ssl/certs/*; do
        if [ \"$(readlink \"$link\")\" = ssl-cert-snakeoil.pem ]; then rm -f \"$link\"; fi
    done
    rm -f /etc/ssl/certs/ssl-cert-snakeoil.pem /etc/ssl/private/ssl-cert-snakeoil.key
fi
";

/// A stage whose packages are laid.
struct Laid {
    dir: PathBuf,
    writer: SharedWriter,
    packages: Vec<Package>,
    /// What was taken to lie beneath.
    over: Option<Arc<Tree>>,
}

/// One stage to be made.
#[derive(Clone, Copy)]
struct Wanted<'a> {
    /// Its name, for people.
    name: &'a str,
    /// What it is.
    stage: &'a Stage,
}

/// Makes the stages of a base one after the other.
pub(crate) struct Maker<'a> {
    pub builder: &'a Builder<'a>,
    pub workshop: Workshop<'a>,
    pub project: &'a Project,
    pub epoch: u64,
}

impl Maker<'_> {
    fn tell(&self, event: Event) {
        (self.workshop.observer)(event);
    }

    /// Makes all stages of a plan that the store does not have.
    pub fn make(&self, planned: &[&PlannedLayer]) -> Result<Vec<Ready>, EngineError> {
        let wanted: Vec<_> = planned
            .iter()
            .filter_map(|layer| match &layer.content {
                Content::Stage(stage) => Some(Wanted { name: &layer.name, stage }),
                _ => None,
            })
            .collect();
        let lacking: Vec<bool> = planned.iter().map(|layer| !self.builder.has(layer)).collect();
        self.fetch(
            &wanted.iter().zip(&lacking).filter(|(_, lacking)| **lacking).map(|(one, _)| one.stage).collect::<Vec<_>>(),
        )?;
        let mut done: Vec<Ready> = Vec::new();
        let mut merged: Option<Arc<Tree>> = None;
        std::thread::scope(|scope| {
            let mut ahead: Option<ScopedJoinHandle<'_, Result<Laid, EngineError>>> = None;
            for (number, one) in wanted.iter().enumerate() {
                let layers: Vec<_> = done.iter().map(|ready| ready.outcome.tree).collect();
                let over = merged.clone();
                let next = wanted.get(number + 1).filter(|_| lacking[number + 1]);
                let early = ahead.take();
                let mut begun = None;
                let ready = self.builder.layer(planned[number], None, || {
                    let early =
                        early.map(|early| early.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
                    let laid = match early.transpose()? {
                        Some(laid) if laid.fits(over.as_deref()) => laid,
                        _ => self.lay(one.stage, over.clone())?,
                    };
                    begun = next.map(|next| {
                        let beneath = laid.provisional(over.as_deref());
                        scope.spawn(move || self.lay(next.stage, Some(beneath)))
                    });
                    self.configure(*one, laid, &layers, over.as_deref())
                })?;
                ahead = begun;
                let mut tree = merged.take().map_or_else(Tree::with_root, Arc::unwrap_or_clone);
                tree.overlay(&ready.tree);
                merged = Some(Arc::new(tree));
                done.push(ready);
            }
            Ok(done)
        })
    }

    /// Gets hold of all packages of some stages, several at once, so that laying them waits for nothing.
    fn fetch(&self, stages: &[&Stage]) -> Result<(), EngineError> {
        let supply = self.workshop.supply();
        let lacking: Vec<_> = stages
            .iter()
            .flat_map(|stage| &stage.packages)
            .filter(|(_, package)| supply.lacks(&package.sha256))
            .collect();
        if lacking.is_empty() {
            return Ok(());
        }
        let bytes = lacking.iter().map(|(_, package)| package.size).sum();
        let done = Mutex::new(0u64);
        let name = format!("{} packages", lacking.len());
        let quiet = |_: Event| {};
        let quiet = Supply { observer: &quiet, ..supply };
        let outcome = in_parallel(lacking.len(), FETCHES, |number| {
            let (package, pin) = lacking[number];
            quiet.package(self.project, package, pin)?;
            let mut done = done.lock().unwrap_or_else(PoisonError::into_inner);
            *done += pin.size;
            self.tell(Event::Fetching { name: name.clone(), done: *done, of: Some(bytes) });
            Ok(())
        });
        self.tell(Event::Fetched { name });
        outcome
    }

    /// Lays all packages of a stage.
    fn lay(&self, stage: &Stage, over: Option<Arc<Tree>>) -> Result<Laid, EngineError> {
        let supply = self.workshop.supply();
        let dir = self.workshop.staging.new_dir()?;
        let mut writer = LayerWriter::new(dir.clone(), self.epoch, Links::Follow, self.workshop.store.ownership())?;
        match &over {
            Some(over) => writer.lie_over(over.clone()),
            None => {
                for name in MERGED {
                    let target = format!("usr/{name}");
                    writer.directory(&inside(&target)?, Meta::root(0o755))?;
                    writer.symlink(&inside(name)?, Meta::root(0o777), target.as_bytes())?;
                }
            }
        }
        let writer = SharedWriter::new(writer);
        let pins: Vec<_> = stage.packages.iter().collect();
        // The largest first, so that no thread is left with it at the end.
        let mut order: Vec<_> = (0..pins.len()).collect();
        order.sort_by_key(|number| std::cmp::Reverse(pins[*number].1.size));
        let laid: Mutex<BTreeMap<usize, Package>> = Mutex::default();
        in_parallel(order.len(), processors(), |turn| {
            let number = order[turn];
            let (name, pin) = pins[number];
            let mut checked = supply.package(self.project, name, pin)?;
            let package = stage::lay(&mut checked, &writer, number, (name, &pin.version))?;
            laid.lock().unwrap_or_else(PoisonError::into_inner).insert(number, package);
            Ok(())
        })?;
        let packages = laid.into_inner().unwrap_or_else(PoisonError::into_inner).into_values().collect();
        Ok(Laid { dir, writer, packages, over })
    }

    /// Configures a laid stage over those beneath, and takes it as a layer.
    fn configure(
        &self,
        wanted: Wanted<'_>,
        laid: Laid,
        layers: &[TreeDigest],
        over: Option<&Tree>,
    ) -> Result<StagedLayer, EngineError> {
        let Laid { dir, writer, packages, .. } = laid;
        let store = self.workshop.store;
        let read = |path: &RootPath| {
            let tree = over?;
            let place = tree.resolve(path)?;
            store.file_of_image(layers.iter(), tree, &place).ok().flatten()
        };
        let beneath = over.map(|tree| Beneath { tree, read: &read });
        let stage = stage::Stage { packages: &packages, beneath };
        let moves = stage.settle(&writer, &[], false)?;
        writer.carry_out(&moves)?;
        let (moves, lists) = stage.settle_beneath(&writer)?;
        writer.carry_out(&moves)?;
        let mut records = stage.records(&|path| writer.read(path))?;
        records.extend(lists.into_iter().map(|(name, list)| (name, (list, false))));
        let open = writer.has_contested();
        let configure = Configuring { maker: self, wanted, stage: &stage, writer: &writer, open };
        configure.prepare(&dir, &records, over.is_some())?;
        configure.run(&dir, layers)?;
        let nothing = Tree::with_root();
        capture(self.workshop, dir, (0, 0), self.epoch, over.unwrap_or(&nothing))
    }
}

impl Laid {
    /// Whether what it was laid over is, for its own entries, what is there now.
    fn fits(&self, over: Option<&Tree>) -> bool {
        let (Some(assumed), Some(over)) = (self.over.as_deref(), over) else {
            return self.over.is_none() && over.is_none();
        };
        let kind = |tree: &Tree, path: &RootPath| {
            tree.get(path).map(|entry| match &entry.kind {
                Kind::Symlink { target } => (false, Some(target.clone())),
                kind => (kind.is_directory(), None),
            })
        };
        let same_meta = |path: &RootPath| {
            let meta =
                |tree: &Tree| tree.get(path).filter(|entry| entry.kind.is_directory()).map(|entry| entry.meta.clone());
            meta(assumed) == meta(over)
        };
        self.writer.directories().iter().all(|path| kind(assumed, path) == kind(over, path) && same_meta(path))
    }

    /// What will lie beneath the next stage, as far as that is known before this one is configured.
    fn provisional(&self, over: Option<&Tree>) -> Arc<Tree> {
        let mut tree = over.cloned().unwrap_or_else(Tree::with_root);
        tree.overlay(&self.writer.tree());
        Arc::new(tree)
    }
}

/// One stage that is being configured.
struct Configuring<'a> {
    maker: &'a Maker<'a>,
    wanted: Wanted<'a>,
    stage: &'a stage::Stage<'a>,
    writer: &'a SharedWriter,
    /// Paths are left that only a diversion can decide.
    open: bool,
}

impl Configuring<'_> {
    /// Writes dpkg's records, and makes the stage's directory a bench.
    fn prepare(
        &self,
        dir: &std::path::Path,
        records: &BTreeMap<String, (Vec<u8>, bool)>,
        over: bool,
    ) -> Result<(), EngineError> {
        let writer = self.writer;
        for (name, (bytes, script)) in records {
            let path = inside(&format!("{ADMIN}/{name}"))?;
            writer.add_file(&path, Meta::root(if *script { 0o755 } else { 0o644 }), bytes)?;
        }
        if !over {
            for name in ["alternatives", "parts", "updates"] {
                writer.add_directory(&inside(&format!("{ADMIN}/{name}"))?, Meta::root(0o755))?;
            }
        }
        if self.stage.packages.iter().any(|package| package.name == "postgresql-common") {
            // A database cluster has an identity of its own, made at random: the workspace makes one, not the image.
            let path = inside("etc/postgresql-common/createcluster.d/00-cavrith.conf")?;
            writer.add_file(
                &path,
                Meta::root(0o644),
                b"# A workspace makes its own database cluster.\ncreate_main_cluster = false\n",
            )?;
        }
        writer.finish_directories()?;
        for name in ["work", "merged"] {
            let path = dir.join(name);
            fs::create_dir(&path).map_err(file_error("make", &path))?;
        }
        Ok(())
    }

    fn run(&self, dir: &std::path::Path, layers: &[TreeDigest]) -> Result<(), EngineError> {
        let maker = self.maker;
        let mut roots = layer_roots(maker.workshop.store, layers);
        if roots.is_empty() {
            // An overlay needs something beneath.
            let nothing = maker.workshop.staging.new_dir()?;
            make_bench(&nothing, None, maker.workshop.store.ownership())?;
            roots.push(nothing.join("root"));
        }
        let mut job = Job::new(Purpose::Build, roots, dir.to_owned(), HOST_NAME);
        job.oddities = maker.workshop.oddities;
        let session = Session::begin(job, maker.workshop.identity)?;
        session.notes().iter().for_each(|text| maker.tell(Event::Note { text: text.clone() }));
        self.carry_out(&session, "could not begin", &format!("{BEGIN}{}", self.first_scripts()))?;
        let moves = if self.open { self.diverted(&session)? } else { Vec::new() };
        let ending = format!("{}/usr/bin/dpkg --configure -a\n{TIDY}rm -rf /{ASIDE}\n", shell_moves(&moves));
        self.carry_out(&session, "failed", &ending)
    }

    /// What the packages' first scripts have diverted decides about the paths that are still open.
    fn diverted(&self, session: &Session) -> Result<Vec<Move>, EngineError> {
        let mut text = Vec::new();
        let command = self.command("cat /var/lib/dpkg/diversions");
        let _ = session.run(&command, Duration::from_secs(60), &mut |bytes| text.extend_from_slice(bytes))?;
        let diversions = stage::parse_diversions(&String::from_utf8_lossy(&text));
        Ok(self.stage.settle(self.writer, &diversions, true)?)
    }

    /// Scripts that come before configuring. The two packages that make the root's accounts and its first files need each other's work in this order; everything else
    /// finds its own order.
    fn first_scripts(&self) -> String {
        let mut text = String::new();
        let first = |package: &&Package| {
            self.wanted.stage.number == 0 && ["base-passwd", "base-files"].contains(&package.name.as_str())
        };
        let preinst = |package: &Package| {
            let Package { name, qualified, .. } = package;
            let architecture = package.field("Architecture");
            format!(
                "DPKG_MAINTSCRIPT_PACKAGE={name} DPKG_MAINTSCRIPT_NAME=preinst DPKG_MAINTSCRIPT_ARCH={architecture} DPKG_MAINTSCRIPT_PACKAGE_REFCOUNT=1 DPKG_ROOT= DPKG_ADMINDIR=/var/lib/dpkg /var/lib/dpkg/info/{qualified}.preinst install\n"
            )
        };
        let mut both: Vec<_> = self.stage.packages.iter().filter(first).collect();
        both.sort_by_key(|package| package.name != "base-passwd");
        for package in both {
            if package.has("preinst") {
                text.push_str(&preinst(package));
            }
            text.push_str(&format!("/usr/bin/dpkg --configure --force-depends {}\n", package.name));
        }
        for package in self.stage.packages.iter().filter(|package| package.has("preinst") && !first(package)) {
            text.push_str(&preinst(package));
        }
        text
    }

    fn command(&self, script: &str) -> CommandJob {
        let own = [
            ("PATH", "/run/cavrith:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin".to_owned()),
            ("HOME", "/root".to_owned()),
            ("USER", "root".to_owned()),
            ("LOGNAME", "root".to_owned()),
            ("LANG", "C.UTF-8".to_owned()),
            ("TZ", "UTC".to_owned()),
            ("DEBIAN_FRONTEND", "noninteractive".to_owned()),
            ("DEBCONF_NONINTERACTIVE_SEEN", "true".to_owned()),
            ("SOURCE_DATE_EPOCH", self.maker.epoch.to_string()),
        ];
        CommandJob {
            argv: vec!["/bin/sh".to_owned(), "-ec".to_owned(), script.to_owned()],
            env: own.into_iter().map(|(name, value)| (name.to_owned(), value)).collect(),
            directory: "/".to_owned(),
            user: 0,
            group: 0,
            terminal: [false; 3],
        }
    }

    fn carry_out(&self, session: &Session, what: &str, script: &str) -> Result<(), EngineError> {
        let (mut lines, mut last_lines) = (Lines::default(), Vec::new());
        let mut on_line = |line: &str| {
            if last_lines.len() == LAST_LINES {
                last_lines.remove(0);
            }
            last_lines.push(line.to_owned());
            self.maker.tell(Event::Output { layer: self.wanted.name.to_owned(), line: line.to_owned() });
        };
        let limit = Duration::from_secs(STEP_LIMIT);
        let ending = session.run(&self.command(script), limit, &mut |bytes| lines.take(bytes, &mut on_line))?;
        lines.finish(&mut on_line);
        let stage = self.wanted.name.to_owned();
        match ending {
            Some(Ending::Code(0)) => Ok(()),
            Some(ending) => Err(EngineError::Configure { stage, why: format!("{what} with {ending}"), last_lines }),
            None => Err(EngineError::TooLong { what: stage, limit: crate::steps::shown_seconds(STEP_LIMIT) }),
        }
    }
}

/// Moves for a shell inside. Paths may have any byte but the one that ends them; quotes are the only one that a quoted text cannot have.
fn shell_moves(moves: &[Move]) -> String {
    let quoted = |path: &RootPath| format!("'/{}'", String::from_utf8_lossy(path.as_bytes()).replace('\'', "'\\''"));
    let line = |one: &Move| match &one.to {
        Some(to) => format!("mv -f {} {}\n", quoted(&one.from), quoted(to)),
        None => format!("rm -f {}\n", quoted(&one.from)),
    };
    moves.iter().map(line).collect()
}

fn inside(path: &str) -> Result<RootPath, EngineError> {
    let refused =
        |bad: cavrith_core::path::BadPath| SourceError::Refused { name: "a package".to_owned(), why: bad.to_string() };
    Ok(RootPath::from_archive(path.as_bytes()).map_err(refused)?)
}

fn processors() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Does `work` for every number below `count`, on some threads, and stops beginning more at the first error.
fn in_parallel(
    count: usize,
    threads: usize,
    work: impl Fn(usize) -> Result<(), EngineError> + Sync,
) -> Result<(), EngineError> {
    let next = AtomicUsize::new(0);
    let run = || -> Result<(), EngineError> {
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            if number >= count {
                return Ok(());
            }
            if let Err(error) = work(number) {
                next.store(count, Ordering::Relaxed);
                return Err(error);
            }
        }
    };
    std::thread::scope(|scope| {
        let helpers: Vec<_> = (1..threads.min(count).max(1)).map(|_| scope.spawn(run)).collect();
        let own = run();
        let joined =
            helpers.into_iter().map(|helper| helper.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        joined.fold(own, Result::and)
    })
}
