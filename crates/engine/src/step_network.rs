//! The network of a step whose fetching is recorded: everything that is put into its sandbox for it, and taken out of
//! its layer again.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, SystemTime};

use cavrith_core::derive::plan::PlannedRecord;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::path::RootPath;
use cavrith_core::record::{DIRECTORY, Record, Request, Response};
use cavrith_core::tree::{Kind, Tree};
use cavrith_recorder::authority::Authority;
use cavrith_recorder::server::OTHER_PORTS;
use cavrith_recorder::{PROXY_PORT, Sockets};
use cavrith_sandbox::copy_overlay;
use cavrith_sandbox::job::{FolderMount, Job};
use cavrith_sandbox::net::Connector;
use cavrith_store::staging::Staging;
use cavrith_store::{hashing, reading, workers};

use crate::context::BuildContext;
use crate::error::{EngineError, RecordError, file_error};
use crate::event::Event;
use crate::project::Project;

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
const QUIET: [(&str, &str); 6] = [
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
            fs::write(&place, text).map_err(file_error("write", &place)).map(|()| place)
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

    /// Takes what was laid over the image's files out of what the step changed: the empty files that were made to lie
    /// over, and that directories were written to for them.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn take_out(&self, overlay_scratch: &Path, merged: &Tree) -> Result<(), EngineError> {
        let was_copied = overlay_scratch.join(copy_overlay::MARK).exists();
        let root = overlay_scratch.join(if was_copied { "merged" } else { "root" });
        for place in self.places.iter().filter(|place| merged.get(place).is_none()) {
            let at = root.join(place.as_relative());
            let is_ours = at.symlink_metadata().is_ok_and(|meta| meta.is_file() && meta.len() == 0);
            if !is_ours {
                continue;
            }
            fs::remove_file(&at).map_err(file_error("remove", &at))?;
            let Some(parent) = place.parent() else { continue };
            let Some(entry) = merged.get(&parent) else { continue };
            let (at, time) = (root.join(parent.as_relative()), SystemTime::UNIX_EPOCH + Duration::from_secs(entry.meta.time));
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
            let file = body(context, step, request, response)?;
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

/// The record that a lock pins for a step.
fn read(project: &Project, step: &str, planned: &PlannedRecord) -> Result<Record, EngineError> {
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
    let found = Sha256Digest::of(&bytes);
    if found != planned.sha256 {
        return Err(RecordError::Other { step: step.to_owned(), path }.into());
    }
    let text = String::from_utf8_lossy(&bytes);
    Record::parse(&text).map_err(|bad| RecordError::Bad { path, why: bad.to_string() }.into())
}

/// The body of an answer: from a depot, the store, or the address that it came from.
fn body(
    context: BuildContext<'_>,
    step: &str,
    request: &Request,
    response: &Response,
) -> Result<File, EngineError> {
    let supply = context.supply();
    let is_plain = request.method == "GET" && response.status == 200 && request.headers.keys().all(|name| name == "accept");
    let addresses = if is_plain { vec![request.url.clone()] } else { Vec::new() };
    let name = format!("{} for {step}", &response.body.to_string()[..12]);
    let known = supply.fetched(&addresses, &name, response.size, response.body);
    let lost = |why: String| {
        EngineError::Record(RecordError::Lost { step: step.to_owned(), request: request.shown(), why })
    };
    match known {
        Ok(checked) => Ok(checked.into_file()),
        Err(EngineError::Source(error)) if !is_plain => {
            if context.web.is_offline() {
                return Err(lost(error.to_string()));
            }
            again(context, request, response).map_err(lost)
        }
        Err(error) => Err(lost(error.to_string())),
    }
}

/// Asks once more what was recorded, which has to come out the same.
fn again(context: BuildContext<'_>, request: &Request, response: &Response) -> Result<File, String> {
    if request.body.is_some() {
        return Err("what was sent along is not known any more".to_owned());
    }
    let words = |error: io::Error| error.to_string();
    let headers: Vec<_> = request.headers.clone().into_iter().collect();
    let exchange = context.web.exchange(&request.method, &request.url, &headers, &[]).map_err(|error| error.to_string())?;
    let mut partial = context.blobs.partial(&format!("again {}", response.body)).map_err(|error| error.to_string())?;
    partial.file().set_len(0).map_err(words)?;
    let mut body = io::Read::take(exchange.body, response.size + 1);
    let found = hashing::sha256(&mut body, Some(partial.file())).map_err(words)?;
    if found != (response.size, response.body) || exchange.status != response.status {
        return Err("it is answered with something else now".to_owned());
    }
    let path = context.blobs.keep_blob(&partial, &response.body).map_err(|error| error.to_string())?;
    File::open(path).map_err(words)
}

/// Says what was noticed while a step ran: what it was refused, and whom it looked for without asking.
pub(crate) fn tell(context: BuildContext<'_>, step: &str, notes: &cavrith_recorder::Notes) -> Vec<String> {
    let mut lines = notes.refusals();
    let unasked = notes.unasked();
    if !unasked.is_empty() {
        lines.push(format!(
            "it looked for {}, and asked nothing there by http or https; nothing else can be recorded",
            unasked.join(", ")
        ));
    }
    for line in &lines {
        (context.observer)(Event::Note { text: format!("the {step}: {line}") });
    }
    lines
}
