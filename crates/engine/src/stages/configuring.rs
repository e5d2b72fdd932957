//! Configuring a laid stage: dpkg's records, the packages' first scripts, the root's own dpkg, and tidying up after it.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::time::Duration;

use cavrith_core::digest::TreeDigest;
use cavrith_core::path::RootPath;
use cavrith_core::plan::STEP_LIMIT;
use cavrith_core::tree::Meta;
use cavrith_sandbox::Session;
use cavrith_sandbox::job::{CommandJob, Ending, Job, Purpose};
use cavrith_sandbox::session::Lines;
use cavrith_sources::stage::{self, Package};
use cavrith_store::shared::{ASIDE, Move, SharedWriter};

use super::{Maker, Wanted, inside};
use crate::error::{EngineError, file_error};
use crate::event::Event;
use crate::making::{HOST_NAME, LAST_LINES};
use crate::steps::{layer_roots, make_bench};

/// Where dpkg keeps its records.
const ADMIN: &str = "var/lib/dpkg";

/// Begins the inside: what packages' scripts must not do in a build. `ischroot` says that nobody runs this root as a
/// machine (the C library waits a second for an init that is not there otherwise); `policy-rc.d` says that no service
/// is to be started (Debian's invoke-rc.d policy).
const BEGIN: &str = "umask 022
mkdir -p /run/cavrith
printf '#!/bin/sh\\nexit 0\\n' > /run/cavrith/ischroot
printf '#!/bin/sh\\nexit 101\\n' > /usr/sbin/policy-rc.d
chmod 755 /run/cavrith/ischroot /usr/sbin/policy-rc.d
";

/// Ends it: everything has to be installed; and what would differ from build to build goes.
///
/// Times of day are in logs. Inode numbers are in the linker's cache of what it saw. Copies of records before the last
/// change, and locks, tell of the order of work. Keys and identities that a package makes at random belong to one
/// machine: whoever needs them makes them at the first start.
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

/// One stage that is being configured.
pub(super) struct Configuring<'a> {
    pub maker: &'a Maker<'a>,
    pub wanted: Wanted<'a>,
    pub stage: &'a stage::Stage<'a>,
    pub writer: &'a SharedWriter,
    /// Paths are left that only a diversion can decide.
    pub open: bool,
}

impl Configuring<'_> {
    /// Writes dpkg's records, and makes the stage's directory a bench.
    pub fn prepare(
        &self,
        dir: &Path,
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

    pub fn run(&self, dir: &Path, layers: &[TreeDigest]) -> Result<(), EngineError> {
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

    /// Scripts that come before configuring. The two packages that make the root's accounts and its first files need
    /// each other's work in this order; everything else finds its own order.
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
            ..CommandJob::default()
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

/// Moves for a shell inside. Paths may have any byte but the one that ends them; quotes are the only one that a quoted
/// text cannot have.
fn shell_moves(moves: &[Move]) -> String {
    let quoted = |path: &RootPath| format!("'/{}'", String::from_utf8_lossy(path.as_bytes()).replace('\'', "'\\''"));
    let line = |one: &Move| match &one.to {
        Some(to) => format!("mv -f {} {}\n", quoted(&one.from), quoted(to)),
        None => format!("rm -f {}\n", quoted(&one.from)),
    };
    moves.iter().map(line).collect()
}
