//! The network of a step whose fetching is recorded: everything that is put into its sandbox for it, and taken out of
//! its layer again.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, SystemTime};

use cavrith_core::derive::plan::PlannedRecord;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::leftovers;
use cavrith_core::lock::RecordPin;
use cavrith_core::path::RootPath;
use cavrith_core::record::{DIRECTORY, Record, Request, Response};
use cavrith_core::tree::{Kind, Tree};
use cavrith_recorder::authority::Authority;
use cavrith_recorder::server::OTHER_PORTS;
use cavrith_recorder::{PROXY_PORT, Sockets};
use cavrith_sandbox::copy_overlay;
use cavrith_sandbox::job::{FolderMount, Job};
use cavrith_sandbox::net::Connector;
use cavrith_sources::checked::{self, Checked};
use cavrith_store::staging::Staging;
use cavrith_store::{hashing, reading, workers};

use crate::context::BuildContext;
use crate::error::{EngineError, RecordError, file_error};
use crate::event::Event;
use crate::outward::Outward;
use crate::project::Project;
use crate::supply::{Origins, Supply};

/// Where the authority's certificate lies inside: in memory, so never in a layer.
const CERTIFICATE: &str = "/run/cavrith-recorder.pem";
/// Where programs look for certificates by themselves.
const BUNDLES: [&str; 4] = [
    "etc/ssl/certs/ca-certificates.crt",
    "etc/pki/tls/certs/ca-bundle.crt",
    "etc/ssl/ca-bundle.pem",
    "etc/ssl/cert.pem",
];
/// Where the resolver is written down (resolv.conf(5)).
const RESOLVER: &str = "etc/resolv.conf";
/// Variables that name a file of certificates, each read by some clients and not by others.
const CERTIFICATE_VARIABLES: [&str; 9] = [
    "SSL_CERT_FILE",
    "CURL_CA_BUNDLE",
    "REQUESTS_CA_BUNDLE",
    "PIP_CERT",
    "NODE_EXTRA_CA_CERTS",
    "GIT_SSL_CAINFO",
    "CARGO_HTTP_CAINFO",
    "BUNDLE_SSL_CA_CERT",
    "DENO_CERT",
];
/// Variables that name a proxy; some clients read the one case only, some the other.
const PROXY_VARIABLES: [&str; 3] = ["HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY"];
/// Hosts that are reached without it: what a step itself has listen.
const OWN_HOSTS: &str = "localhost,127.0.0.1,::1";
/// Caches of package managers. What they hold has times and places of this one run in it, and is of no use to anybody
/// who works with the image; in memory it is never part of a layer.
const CACHES: [(&str, &str); 8] = [
    ("PIP_CACHE_DIR", "/tmp/cache/pip"),
    ("UV_CACHE_DIR", "/tmp/cache/uv"),
    ("POETRY_CACHE_DIR", "/tmp/cache/poetry"),
    ("npm_config_cache", "/tmp/cache/npm"),
    ("YARN_CACHE_FOLDER", "/tmp/cache/yarn"),
    ("BUNDLE_USER_CACHE", "/tmp/cache/bundle"),
    ("COMPOSER_CACHE_DIR", "/tmp/cache/composer"),
    ("GOCACHE", "/tmp/cache/go"),
];
/// What keeps package managers from asking for what has nothing to do with what is installed.
const QUIET: [(&str, &str); 7] = [
    // What is compiled in pieces differs from time to time, and is of use only to whoever compiles again.
    ("CARGO_INCREMENTAL", "0"),
    ("PIP_DISABLE_PIP_VERSION_CHECK", "1"),
    ("npm_config_update_notifier", "false"),
    ("npm_config_fund", "false"),
    ("npm_config_audit", "false"),
    ("COMPOSER_DISABLE_XDEBUG_WARN", "1"),
    ("DO_NOT_TRACK", "1"),
];
/// Bytes that a record may have.
const LONGEST_RECORD: u64 = 256 << 20;
/// Bodies that are fetched at once.
const AT_ONCE: usize = 8;

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
        let written = |text: &str| {
            let place = staging.new_name();
            // The step's account has to read it, whatever this process's umask is.
            let readable = fs::Permissions::from_mode(0o644);
            let write = fs::write(&place, text).and_then(|()| fs::set_permissions(&place, readable));
            write.map_err(file_error("write", &place)).map(|()| place)
        };
        let certificate = written(network.authority.pem())?;
        let resolver = written("nameserver 127.0.0.1\noptions timeout:2 attempts:2\n")?;
        job.answers_everywhere = true;
        job.files.push(FolderMount::new(certificate.clone(), PathBuf::from(CERTIFICATE)));
        for (path, file) in [(RESOLVER, &resolver)].into_iter().chain(BUNDLES.map(|bundle| (bundle, &certificate))) {
            let Ok(path) = RootPath::from_archive(path.as_bytes()) else { continue };
            // A link is laid over where it leads; a bundle only where there is one.
            let Some(place) = merged.resolve(&path) else { continue };
            let is_file = merged.get(&place).map(|entry| matches!(entry.kind, Kind::File { .. }));
            if is_file == Some(true) || (is_file.is_none() && path.to_string().ends_with(RESOLVER) && place == path) {
                job.files.push(FolderMount::new(file.clone(), Path::new("/").join(place.as_relative())));
                network.places.push(place);
            }
        }
        network.places.dedup();
        Ok(network)
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
        variables.extend(CACHES.iter().chain(&QUIET).map(|(name, value)| ((*name).to_owned(), (*value).to_owned())));
        variables
    }

    /// Sockets in the network of a sandbox.
    ///
    /// # Errors
    /// When the network does not take them.
    pub fn sockets(connector: &Connector) -> io::Result<Sockets> {
        let other = |(port, name): (u16, &'static str)| Some((name, connector.listen_everywhere(port).ok()?));
        Ok(Sockets {
            names: connector.listen_datagrams(53)?,
            plain: connector.listen_everywhere(80)?,
            secure: connector.listen_everywhere(443)?,
            proxy: connector.listen(PROXY_PORT)?,
            others: OTHER_PORTS.into_iter().filter_map(other).collect(),
        })
    }

    /// Removes what package managers leave behind that is another thing each time.
    ///
    /// # Errors
    /// When the disk refuses.
    fn tidy(root: &Path, merged: &Tree) -> Result<(), EngineError> {
        let mut open = vec![RootPath::root()];
        while let Some(dir) = open.pop() {
            let at = root.join(dir.as_relative());
            for entry in fs::read_dir(&at).map_err(file_error("look into", &at))?.flatten() {
                let Ok(path) = dir.join(std::os::unix::ffi::OsStrExt::as_bytes(entry.file_name().as_os_str())) else {
                    continue;
                };
                let is_directory = entry.file_type().is_ok_and(|kind| kind.is_dir());
                // What was there before is not ours to remove, and a mark of a deletion says something else.
                let is_new = merged.get(&path).is_none();
                if is_new && leftovers::why(&path).is_some() {
                    let removed =
                        if is_directory { fs::remove_dir_all(entry.path()) } else { fs::remove_file(entry.path()) };
                    removed.map_err(file_error("remove", entry.path()))?;
                } else if is_directory {
                    open.push(path);
                }
            }
        }
        Ok(())
    }

    /// Takes what was laid over the image's files out of what the step changed: the empty files that were made to lie
    /// over, and that directories were written to for them.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn take_out(&self, overlay_scratch: &Path, merged: &Tree) -> Result<(), EngineError> {
        let was_copied = overlay_scratch.join(copy_overlay::MARK).exists();
        let root = overlay_scratch.join(if was_copied { "merged" } else { "root" });
        Self::tidy(&root, merged)?;
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

/// A record with the bodies of its answers, each proved.
pub(crate) struct OpenRecord {
    pub record: Record,
    bodies: HashMap<Sha256Digest, Mutex<File>>,
}

impl OpenRecord {
    /// Reads the record that a lock pins for a step, and gets hold of every body.
    ///
    /// # Errors
    /// When it is another one, or a body can be had nowhere.
    pub fn load(
        context: BuildContext<'_>,
        project: &Project,
        (step, planned): (&str, &PlannedRecord),
    ) -> Result<Self, EngineError> {
        let record = read(project, step, planned)?;
        let mut wanted = BTreeMap::new();
        for (request, response) in &record.answers {
            wanted.entry(response.body).or_insert((request, response));
        }
        let wanted: Vec<_> = wanted.into_values().collect();
        let bodies: Mutex<HashMap<_, _>> = Mutex::default();
        workers::each(wanted.len(), AT_ONCE, |number| -> Result<(), EngineError> {
            let (request, response) = wanted[number];
            let file = body(context.supply(), project.origins(), step, request, response)?.into_file();
            let mut bodies = bodies.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            bodies.insert(response.body, Mutex::new(file));
            Ok(())
        })?;
        let bodies = bodies.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        Ok(Self { record, bodies })
    }

    /// The body with a digest, to be read from its beginning by whoever asks.
    pub fn body(&self, digest: &Sha256Digest) -> io::Result<File> {
        let held = self.bodies.get(digest).ok_or_else(|| io::Error::from(io::ErrorKind::NotFound))?;
        let held = held.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        // Another description of the same file: each reader has a place of its own in it.
        File::open(format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(&*held)))
    }
}

/// The record of a pin.
///
/// # Errors
/// As [`read`].
pub(crate) fn pinned(project: &Project, pin: &RecordPin) -> Result<Record, EngineError> {
    let planned = PlannedRecord { file: pin.record.clone(), sha256: pin.sha256 };
    read(project, &format!("step {:?}", pin.step), &planned)
}

/// The record that a lock pins for a step, which is named as its layer is.
///
/// # Errors
/// When its file is not there, or another one.
pub(crate) fn read(project: &Project, step: &str, planned: &PlannedRecord) -> Result<Record, EngineError> {
    let missing = || EngineError::Record(RecordError::None { step: step.to_owned() });
    let name = RootPath::from_plain(planned.file.as_bytes()).ok().filter(|name| name.depth() == 1);
    let path = project.dir.join(DIRECTORY).join(name.ok_or_else(missing)?.as_relative());
    let bytes = match reading::bounded(&path, LONGEST_RECORD) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(RecordError::Gone { step: step.to_owned(), path }.into());
        }
        Err(error) => return Err(file_error("read", &path)(error)),
    };
    if Sha256Digest::of(&bytes) != planned.sha256 {
        return Err(RecordError::Other { step: step.to_owned(), path }.into());
    }
    let text = String::from_utf8_lossy(&bytes);
    Record::parse(&text).map_err(|bad| RecordError::Bad { path, why: bad.to_string() }.into())
}

/// The body of an answer, proved: from a depot, the store, or where it came from.
///
/// # Errors
/// When it can be had nowhere.
pub(crate) fn body(
    supply: Supply<'_>,
    origins: Origins<'_>,
    step: &str,
    request: &Request,
    response: &Response,
) -> Result<Checked, EngineError> {
    let lost =
        |why: String| EngineError::Record(RecordError::Lost { step: step.to_owned(), request: request.shown(), why });
    let here = supply.kept(origins, &response.body, response.size);
    if let Some(known) = here.map_err(|error| lost(error.to_string()))? {
        return Ok(known);
    }
    // It has to be the same to the byte, so whoever gives it need not be who gave it first.
    again(supply, request, response).map_err(lost)
}

/// Asks once more what was recorded, which has to come out the same.
fn again(supply: Supply<'_>, request: &Request, response: &Response) -> Result<Checked, String> {
    if request.body.is_some() {
        return Err("what was sent along is not known any more".to_owned());
    }
    let name = request.shown();
    let words = |error: io::Error| error.to_string();
    let outward = Outward::new(supply.web, &supply.member.config.recording)?;
    let headers: Vec<_> = request.headers.clone().into_iter().collect();
    let fetched = outward.fetch(request, &headers, &[])?;
    let mut partial = supply.store.partial(&format!("again {}", response.body)).map_err(|error| error.to_string())?;
    partial.file().set_len(0).map_err(words)?;
    let mut body = io::Read::take(fetched.body, response.size + 1);
    let found = hashing::sha256(&mut body, Some(partial.file())).map_err(words)?;
    if found != (response.size, response.body) || fetched.status != response.status {
        let _ = fs::remove_file(partial.path());
        return Err("it is answered with something else now".to_owned());
    }
    let path = supply.store.keep_blob(&partial, &response.body).map_err(|error| error.to_string())?;
    checked::check_own(&path, &name, response.size, response.body).map_err(|error| error.to_string())
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
