//! The network of a step whose fetching is recorded: everything that is put into its sandbox for it, and taken out of
//! its layer again.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use cavrith_core::path::RootPath;
use cavrith_core::tree::{Kind, Tree};
use cavrith_recorder::authority::Authority;
use cavrith_recorder::java_store;
use cavrith_recorder::server::OTHER_PORTS;
use cavrith_recorder::{PROXY_PORT, Sockets};
use cavrith_sandbox::copy_overlay;
use cavrith_sandbox::job::{FolderMount, Job};
use cavrith_sandbox::net::Connector;
use cavrith_store::staging::Staging;

use crate::context::BuildContext;
use crate::error::{EngineError, RecordError, file_error};
use crate::event::Event;
use crate::personal::{BUNDLES, CERTIFICATE_VARIABLES};
use crate::step_layer::HOST_NAME;
use crate::tidying;

/// Where the authority's certificate lies inside: in memory, so never in a layer.
const CERTIFICATE: &str = "/run/cavrith-recorder.pem";
/// How apt fetches (apt.conf(5)). By itself it becomes an account of its own for it, which a user with a single id does
/// not have; and it reads no variable for its certificates.
const APT: (&str, &str) =
    ("/run/cavrith-apt.conf", "APT::Sandbox::User \"root\";\nAcquire::https::CaInfo \"/run/cavrith-recorder.pem\";\n");
/// Where the resolver is written down (resolv.conf(5)).
const RESOLVER: &str = "etc/resolv.conf";
/// Variables that name a proxy; some clients read the one case only, some the other.
const PROXY_VARIABLES: [&str; 3] = ["HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"];
/// Hosts that are reached without it: what a step itself has listen.
const OWN_HOSTS: &str = "localhost,127.0.0.1,::1";
/// Caches of package managers, by their names. What they hold has times and places of this one run in it, and is of no
/// use to anybody who works with the image; in memory it is never part of a layer.
const CACHES: [(&str, &str); 9] = [
    ("PIP_CACHE_DIR", "pip"),
    ("UV_CACHE_DIR", "uv"),
    ("POETRY_CACHE_DIR", "poetry"),
    ("npm_config_cache", "npm"),
    ("YARN_CACHE_FOLDER", "yarn"),
    ("BUNDLE_USER_CACHE", "bundle"),
    ("COMPOSER_CACHE_DIR", "composer"),
    ("GOCACHE", "go"),
    ("CCACHE_DIR", "ccache"),
];
/// Where caches lie that last from one build to the next.
pub(crate) const LASTING: &str = "/tmp/caches";
/// What keeps package managers from asking for what has nothing to do with what is installed.
const QUIET: [(&str, &str); 10] = [
    // What is compiled in pieces differs from time to time, and is of use only to whoever compiles again.
    ("CARGO_INCREMENTAL", "0"),
    ("PIP_DISABLE_PIP_VERSION_CHECK", "1"),
    ("npm_config_update_notifier", "false"),
    ("npm_config_fund", "false"),
    ("npm_config_audit", "false"),
    ("COMPOSER_DISABLE_XDEBUG_WARN", "1"),
    ("DO_NOT_TRACK", "1"),
    // When who moved which branch.
    ("GIT_CONFIG_COUNT", "1"),
    ("GIT_CONFIG_KEY_0", "core.logAllRefUpdates"),
    ("GIT_CONFIG_VALUE_0", "false"),
];

/// What is put into a sandbox.
pub(crate) struct StepNetwork {
    pub authority: std::sync::Arc<Authority>,
    places: Vec<RootPath>,
}

impl StepNetwork {
    /// Prepares a step's sandbox.
    ///
    /// # Errors
    /// When the disk refuses, or no certificate can be made.
    pub fn prepare(job: &mut Job, staging: &Staging, merged: &Tree) -> Result<Self, EngineError> {
        let authority = Authority::new().map_err(RecordError::from)?;
        let mut network = Self { authority, places: Vec::new() };
        let written = |bytes: &[u8]| {
            let place = staging.new_name();
            // The step's account has to read it, whatever this process's umask is.
            let readable = fs::Permissions::from_mode(0o644);
            let write = fs::write(&place, bytes).and_then(|()| fs::set_permissions(&place, readable));
            write.map_err(file_error("write", &place)).map(|()| place)
        };
        let certificate = written(network.authority.pem().as_bytes())?;
        let java_store = written(&java_store::with(&[network.authority.der()]))?;
        let resolver = written(b"nameserver 127.0.0.1\noptions timeout:2 attempts:2\n")?;
        job.answers_everywhere = true;
        job.files.push(FolderMount::new(certificate.clone(), PathBuf::from(CERTIFICATE)));
        job.files.push(FolderMount::new(written(APT.1.as_bytes())?, PathBuf::from(APT.0)));
        let bundles = BUNDLES.iter().map(|bundle| (RootPath::from_archive(bundle.as_bytes()), &certificate));
        let bundles = bundles.filter_map(|(path, file)| Some((path.ok()?, file)));
        let java_stores =
            merged.entries.keys().filter(|path| is_java_store(path)).map(|path| (path.clone(), &java_store));
        for (path, file) in bundles.chain(java_stores) {
            // A link is laid over where it leads.
            let Some(place) = merged.resolve(&path) else { continue };
            if merged.get(&place).is_some_and(|entry| matches!(entry.kind, Kind::File { .. })) {
                network.lay(job, place, file);
            }
        }
        if let Some(place) = RootPath::from_archive(RESOLVER.as_bytes()).ok().and_then(|path| merged.resolve(&path))
            && merged.get(&place).is_none_or(|entry| matches!(entry.kind, Kind::File { .. }))
        {
            network.lay(job, place, &resolver);
        }
        Ok(network)
    }

    /// Lays a file over one of the image, once.
    fn lay(&mut self, job: &mut Job, place: RootPath, file: &Path) {
        if !self.places.contains(&place) {
            job.files.push(FolderMount::new(file.to_owned(), Path::new("/").join(place.as_relative())));
            self.places.push(place);
        }
    }

    /// The variables that programs need to find their way.
    pub fn variables() -> BTreeMap<String, String> {
        let mut variables = BTreeMap::new();
        let proxy = format!("http://127.0.0.1:{PROXY_PORT}");
        for name in PROXY_VARIABLES {
            variables.insert(name.to_owned(), proxy.clone());
            variables.insert(name.to_ascii_lowercase(), proxy.clone());
        }
        for name in ["NO_PROXY", "no_proxy"] {
            variables.insert(name.to_owned(), OWN_HOSTS.to_owned());
        }
        variables.extend(CERTIFICATE_VARIABLES.map(|name| (name.to_owned(), CERTIFICATE.to_owned())));
        variables.insert("APT_CONFIG".to_owned(), APT.0.to_owned());
        variables.extend(CACHES.map(|(name, cache)| (name.to_owned(), format!("/tmp/cache/{cache}"))));
        variables.extend(QUIET.map(|(name, value)| (name.to_owned(), value.to_owned())));
        variables
    }

    /// The variables by which programs find the caches of these names that last.
    pub fn cache_variables(caches: &[String]) -> BTreeMap<String, String> {
        let known = CACHES.iter().filter(|(_, cache)| caches.iter().any(|name| name == cache));
        known.map(|(name, cache)| ((*name).to_owned(), format!("{LASTING}/{cache}"))).collect()
    }

    /// Sockets in the network of a sandbox.
    ///
    /// # Errors
    /// When the network does not take them.
    pub fn sockets(connector: &Connector) -> io::Result<Sockets> {
        let other = |(port, name): (u16, &'static str)| Some((name, connector.listen_everywhere(port).ok()?));
        Ok(Sockets {
            own_name: HOST_NAME,
            names: connector.listen_datagrams(53)?,
            plain: connector.listen_everywhere(80)?,
            secure: connector.listen_everywhere(443)?,
            proxy: connector.listen(PROXY_PORT)?,
            others: OTHER_PORTS.into_iter().filter_map(other).collect(),
        })
    }

    /// Takes what was laid over the image's files out of what the step changed: the empty files that were made to lie
    /// over, and that directories were written to for them. What differs each time goes, too; new files will have the
    /// time stamp `time`.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn take_out(&self, overlay_scratch: &Path, merged: &Tree, time: u64) -> Result<(), EngineError> {
        let was_copied = overlay_scratch.join(copy_overlay::MARK).exists();
        let root = overlay_scratch.join(if was_copied { "merged" } else { "root" });
        tidying::tidy(&root, merged, time)?;
        for place in self.places.iter().filter(|place| merged.get(place).is_none()) {
            let at = root.join(place.as_relative());
            let is_ours = at.symlink_metadata().is_ok_and(|meta| meta.is_file() && meta.len() == 0);
            if !is_ours {
                continue;
            }
            fs::remove_file(&at).map_err(file_error("remove", &at))?;
            let Some(parent) = place.parent() else { continue };
            let Some(entry) = merged.get(&parent) else { continue };
            let (at, time) =
                (root.join(parent.as_relative()), SystemTime::UNIX_EPOCH + Duration::from_secs(entry.meta.time));
            let set = File::open(&at).and_then(|directory| directory.set_modified(time));
            set.map_err(file_error("set the time of", &at))?;
        }
        Ok(())
    }
}

/// Adds what was noticed while a step ran, what it was refused and whom it looked for without asking: to why it failed,
/// or as notes when it did not.
///
/// # Errors
/// As `ended`.
pub(crate) fn with_notes<T>(
    context: BuildContext<'_>,
    step: &str,
    notes: &cavrith_recorder::Notes,
    ended: Result<T, EngineError>,
) -> Result<T, EngineError> {
    let mut lines = notes.refusals();
    let unasked = notes.unasked();
    if !unasked.is_empty() {
        lines.push(format!(
            "it looked for {}, and asked nothing there by http or https; nothing else can be recorded",
            unasked.join(", ")
        ));
    }
    if ended.is_ok() {
        for line in &lines {
            (context.observer)(Event::Note { text: format!("the {step}: {line}") });
        }
    }
    ended.map_err(|error| error.because(lines))
}

/// Whether Java looks there for certificates: a store in a Java of its own, or Debian's, which is for all of them.
fn is_java_store(path: &RootPath) -> bool {
    let path = path.to_string();
    path.ends_with("/security/cacerts") || path == "/etc/ssl/certs/java/cacerts"
}
