//! Configuring a laid stage: dpkg's records, the packages' first scripts, the root's own dpkg, and tidying up after it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;
use std::time::Duration;

use cavrith_core::debian::parse_relations;
use cavrith_core::derive::plan::STEP_LIMIT;
use cavrith_core::derive::setup;
use cavrith_core::digest::TreeDigest;
use cavrith_core::path::RootPath;
use cavrith_core::tree::Meta;
use cavrith_sandbox::Session;
use cavrith_sandbox::job::{CommandJob, Ending, Job, Purpose};
use cavrith_sandbox::lines::{LastLines, Lines};
use cavrith_sources::stage::{self, Package};
use cavrith_store::shared::{ASIDE, Move, SharedWriter};

use super::{Maker, Wanted, inside};
use crate::error::{BuildError, EngineError, file_error};
use crate::event::Event;
use crate::overlay_scratch::{self, layer_roots};
use crate::step_layer::HOST_NAME;
use cavrith_sandbox::Runtime as _;

/// Where dpkg keeps its records.
const ADMIN: &str = "var/lib/dpkg";

/// Begins the inside: what packages' scripts must not do in a build. `ischroot` says that nobody runs this root as a
/// machine (the C library waits a second for an init that is not there otherwise); `policy-rc.d` says that no service
/// is to be started (Debian's invoke-rc.d policy). `hostname` knows a full name, which it would ask a network for; mail
/// servers do not configure without one.
const BEGIN: &str = "umask 022
mkdir -p /run/cavrith
: > /run/cavrith/begun
printf '#!/bin/sh\\nexit 0\\n' > /run/cavrith/ischroot
printf '#!/bin/sh\\nexit 101\\n' > /usr/sbin/policy-rc.d
cat > /run/cavrith/hostname <<'END'
#!/bin/sh
case $1 in
    -f | --fqdn | --long) echo \"$(cat /proc/sys/kernel/hostname).localdomain\" ;;
    -d | --domain) echo localdomain ;;
    *) exec /usr/bin/hostname \"$@\" ;;
esac
END
chmod 755 /run/cavrith/ischroot /run/cavrith/hostname /usr/sbin/policy-rc.d
";

/// dpkg runs a package's first script before there is anything of the package, so some remove whatever is in its place,
/// left by an earlier one. Here the files are there already: those of a package whose script removes directories are
/// kept by hard links, and put back where they are missing afterwards.
fn keeping() -> String {
    format!(
        "laid() {{
    grep -q 'rm  *-[a-zA-Z]*r' /var/lib/dpkg/info/$1.preinst || return 0
    mkdir -p /{ASIDE}/laid
    while read -r path; do
        if [ -L \"$path\" ] || [ -f \"$path\" ]; then printf '%s\\n' \".$path\"; fi
    done < /var/lib/dpkg/info/$1.list > /run/cavrith/laid
    (cd / && xargs -r -d '\\n' cp -al --parents -t /{ASIDE}/laid < /run/cavrith/laid)
}}
back() {{
    [ -d /{ASIDE}/laid ] || return 0
    while read -r path; do
        if [ -d \"/{ASIDE}/laid$path\" ] && [ ! -e \"$path\" ]; then mkdir -m 755 \"$path\"; fi
    done < /var/lib/dpkg/info/$1.list
    cp -aln /{ASIDE}/laid/. /
    rm -rf /{ASIDE}/laid
}}
"
    )
}

/// Ends it: everything has to be installed; and what would differ from build to build goes.
///
/// Times of day are in logs. Inode numbers are in the linker's cache of what it saw. Copies of records before the last
/// change, and locks, tell of the order of work. Keys and identities that a package makes at random belong to one
/// machine: anyone who needs them makes them at the first start. So does the mail server's index of aliases
/// (`newaliases`). TeX writes the day into some formats, and LuaTeX an order that depends on the time; both make them
/// when they are first used. The index of manuals is put together in the order in which the disk lists them, so it is
/// put together again in the order of their names. Mono makes machine code of its libraries, which it makes again when
/// it lacks it. Free Pascal writes the time into a comment of its configuration. git-lfs writes its settings in an
/// order that it draws by lot.
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
rm -f /etc/bind/rndc.key /etc/varnish/secret /var/lib/rabbitmq/.erlang.cookie /etc/aliases.db
if [ -d /var/lib/texmf/web2c ]; then
    find /var/lib/texmf/web2c -name '*.log' -delete
    rm -f /var/lib/texmf/web2c/tex/tex.fmt /var/lib/texmf/web2c/lua*/*.fmt
fi
if [ -x /usr/bin/install-info ] && [ /usr/share/info/dir -nt /run/cavrith/begun ]; then
    rm -f /usr/share/info/dir /usr/share/info/dir.old
    find /usr/share/info -type f | LC_ALL=C sort | while read -r file; do
        case \"$file\" in
            *-[0-9] | *-[0-9].gz | *-[1-9][0-9] | *-[1-9][0-9].gz | *.png) ;;
            *) /usr/bin/install-info \"$file\" /usr/share/info/dir || true ;;
        esac
    done
fi
if [ -d /usr/lib/mono/aot-cache ]; then find /usr/lib/mono/aot-cache -type f -delete; fi
for file in /etc/fpc-*.cfg; do
    if [ -f \"$file\" ]; then sed -i 's/^\\(# Config file generated by fpcmkcfg\\) on .*/\\1/' \"$file\"; fi
done
if [ -x /usr/bin/git-lfs ] && [ /etc/gitconfig -nt /run/cavrith/begun ] && [ \"$(grep -c '^\\[' /etc/gitconfig)\" = 1 ]; then
    { head -n 1 /etc/gitconfig; tail -n +2 /etc/gitconfig | LC_ALL=C sort; } > /run/cavrith/gitconfig
    cat /run/cavrith/gitconfig > /etc/gitconfig
fi
if [ -s /etc/machine-id ]; then : > /etc/machine-id; fi
if [ -e /etc/ssl/certs/ssl-cert-snakeoil.pem ]; then
    for link in /etc/ssl/certs/*; do
        if [ \"$(readlink \"$link\")\" = ssl-cert-snakeoil.pem ]; then rm -f \"$link\"; fi
    done
    rm -f /etc/ssl/certs/ssl-cert-snakeoil.pem /etc/ssl/private/ssl-cert-snakeoil.key
fi
";

/// Databases that packages make when they are configured, with identities and times of their own. A workspace makes its
/// own, by a step of its first start.
const STATE: [(&str, &[&str]); 4] = [
    ("mariadb-server", &["/var/lib/mysql"]),
    ("mysql-server", &["/var/lib/mysql"]),
    ("slapd", &["/var/lib/ldap", "/etc/ldap/slapd.d"]),
    ("samba-common-bin", &["/var/lib/samba/private"]),
];

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
        let mut roots = layer_roots(maker.context, layers)?;
        if roots.is_empty() {
            // An overlay needs something beneath.
            let nothing = maker.context.staging.new_dir()?;
            overlay_scratch::prepare(&nothing, None, maker.context.store.ownership())?;
            roots.push(nothing.join("root"));
        }
        let mut job = Job::new(Purpose::Build, roots, dir.to_owned(), HOST_NAME);
        job.perturbations = maker.context.perturbations;
        let session = Session::begin(job, maker.context.identity)?;
        session.notes().iter().for_each(|text| maker.tell(Event::Note { text: text.clone() }));
        self.carry_out(&session, "could not begin", &format!("{BEGIN}{}{}", keeping(), self.first_scripts()))?;
        let moves = if self.open { self.diverted(&session)? } else { Vec::new() };
        let left_out = self.left_out();
        let ending = format!(
            "{}/usr/bin/dpkg --force-confdef --force-confold --configure -a\n{TIDY}{left_out}rm -rf /{ASIDE}\n",
            shell_moves(&moves)
        );
        self.carry_out(&session, "failed", &ending)
    }

    /// Removes what is new each time: what the spec says, and what is known of packages that are there.
    fn left_out(&self) -> String {
        let named = self.wanted.stage.left_out.iter().cloned();
        let known = STATE.iter().filter(|(package, _)| self.stage.packages.iter().any(|one| one.name == *package));
        let known = known.flat_map(|(_, paths)| *paths).filter_map(|path| RootPath::from_absolute(path).ok());
        let line = |path: RootPath| {
            let path = quoted(&path);
            format!(
                "if [ -d {path} ] && [ ! -L {path} ]; then find {path} -mindepth 1 -delete; else rm -f {path}; fi\n"
            )
        };
        named.chain(known).map(line).collect()
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
                "laid {qualified}\nDPKG_MAINTSCRIPT_PACKAGE={name} DPKG_MAINTSCRIPT_NAME=preinst DPKG_MAINTSCRIPT_ARCH={architecture} DPKG_MAINTSCRIPT_PACKAGE_REFCOUNT=1 DPKG_ROOT= DPKG_ADMINDIR=/var/lib/dpkg /var/lib/dpkg/info/{qualified}.preinst install\nback {qualified}\n"
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
        let (mut started, mut configured) = (BTreeSet::new(), BTreeSet::new());
        for package in self.stage.packages.iter().filter(|package| package.has("preinst") && !first(package)) {
            // A first script may use what its package depends on even before it is unpacked (Debian Policy Manual,
            // section 7.2): accounts are made by adduser, which has to be configured.
            let needed: Vec<_> = self.pre_depended(package).collect();
            for one in needed.iter().filter(|one| one.has("preinst")) {
                if started.insert(&one.name) {
                    text.push_str(&preinst(one));
                }
            }
            // All in one call, which finds their order.
            let names: Vec<_> =
                needed.iter().map(|one| one.name.as_str()).filter(|name| configured.insert(*name)).collect();
            if !names.is_empty() {
                text.push_str(&format!("/usr/bin/dpkg --configure --force-depends {}\n", names.join(" ")));
            }
            if started.insert(&package.name) {
                text.push_str(&preinst(package));
            }
        }
        text
    }

    /// Packages of this stage on which another one depends before its first script, and which have something to do when
    /// they are configured. What the first stage needs of itself is in its own order.
    fn pre_depended(&self, package: &Package) -> impl Iterator<Item = &Package> {
        let mut named = BTreeSet::new();
        if self.wanted.stage.number > 0 {
            named.extend(parse_relations(package.field("Pre-Depends")).into_iter().flatten().map(|one| one.name));
        }
        let has_to_do = |other: &Package| other.has("postinst") || other.has("conffiles");
        self.stage.packages.iter().filter(move |other| named.contains(&other.name) && has_to_do(other))
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
        let steady = setup::ONLY_IN_BUILDS.map(|(name, value)| (name, value.to_owned()));
        CommandJob {
            argv: vec!["/bin/sh".to_owned(), "-ec".to_owned(), script.to_owned()],
            env: own.into_iter().chain(steady).map(|(name, value)| (name.to_owned(), value)).collect(),
            directory: "/".to_owned(),
            user: 0,
            group: 0,
            ..CommandJob::default()
        }
    }

    fn carry_out(&self, session: &Session, what: &str, script: &str) -> Result<(), EngineError> {
        let (mut lines, mut transcript) = (Lines::default(), Transcript::default());
        let mut on_line = |line: &str| {
            transcript.push(line);
            self.maker.tell(Event::Output { layer: self.wanted.name.to_owned(), line: line.to_owned() });
        };
        let limit = Duration::from_secs(STEP_LIMIT);
        let ending = session.run(&self.command(script), limit, &mut |bytes| lines.take(bytes, &mut on_line))?;
        lines.finish(&mut on_line);
        let stage = self.wanted.name.to_owned();
        match ending {
            Some(Ending::Code(0)) => Ok(()),
            Some(ending) => {
                let (package, last_lines) = transcript.cause();
                let at = package.map_or_else(String::new, |package| format!(" at the package {package}"));
                Err(EngineError::Build(BuildError::Configure {
                    stage,
                    why: format!("{what}{at} with {ending}"),
                    last_lines,
                }))
            }
            None => Err(EngineError::Build(BuildError::TooLong {
                what: stage,
                limit: crate::probe::shown_seconds(STEP_LIMIT),
            })),
        }
    }
}

/// A path for a shell.
fn quoted(path: &RootPath) -> String {
    format!("'/{}'", String::from_utf8_lossy(path.as_bytes()).replace('\'', "'\\''"))
}

/// What configuring wrote, as far as it may explain a failure.
#[derive(Default)]
struct Transcript {
    last: LastLines,
    /// Since a package's turn began.
    turn: LastLines,
    /// The first package that failed by itself, and what was written in its turn. Those that need it fail after it, so
    /// the last lines are about them.
    first: Option<(String, Vec<String>)>,
    failing: Option<String>,
}

impl Transcript {
    fn push(&mut self, line: &str) {
        // dpkg's own words, in the C locale.
        if line.starts_with("Setting up ") || line.starts_with("Processing triggers for ") {
            self.turn.clear();
        }
        self.last.push(line);
        self.turn.push(line);
        if let Some(package) = self.failing.take()
            && !line.contains("dependency problems")
            && self.first.is_none()
        {
            self.first = Some((package, self.turn.to_vec()));
        }
        let failing = line.strip_prefix("dpkg: error processing package ");
        self.failing = failing.and_then(|rest| rest.split_whitespace().next()).map(str::to_owned);
    }

    /// The package that failed first, if that is known, and the lines that say why.
    fn cause(self) -> (Option<String>, Vec<String>) {
        match self.first {
            Some((package, lines)) => (Some(package), lines),
            None => (None, self.last.to_vec()),
        }
    }
}

/// Moves for a shell inside. Paths may have any byte but the one that ends them; quotes are the only one that a quoted
/// text cannot have.
fn shell_moves(moves: &[Move]) -> String {
    let line = |one: &Move| match &one.to {
        Some(to) => format!("mv -f {} {}\n", quoted(&one.from), quoted(to)),
        None => format!("rm -f {}\n", quoted(&one.from)),
    };
    moves.iter().map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_package_that_failed_first_is_told_and_not_those_that_need_it() {
        let mut transcript = Transcript::default();
        let before = (0..40).map(|number| format!("Setting up quiet{number} (1) ..."));
        let failing = "Setting up squall (1) ...\nthe mast is down\ndpkg: error processing package squall (--configure):\n installed squall package post-installation script subprocess returned error exit status 3\ndpkg: dependency problems prevent configuration of harbour:\n harbour depends on squall.\n\ndpkg: error processing package harbour (--configure):\n dependency problems - leaving unconfigured\nErrors were encountered while processing:\n squall\n harbour";
        before.for_each(|line| transcript.push(&line));
        failing.lines().for_each(|line| transcript.push(line));
        let (package, lines) = transcript.cause();
        assert_eq!(package.as_deref(), Some("squall"));
        assert_eq!((lines.len(), lines[1].as_str()), (4, "the mast is down"));
        let mut other = Transcript::default();
        other.push("sh: no such thing");
        assert_eq!(other.cause(), (None, vec!["sh: no such thing".to_owned()]));
    }
}
