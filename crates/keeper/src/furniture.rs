//! What an inside is given before anything runs there: files over the image's, secrets, sockets of the member's agents.
//! It is the same in namespaces and in a machine, where a process within does it.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::arrangement::Arrangement;
use cavrith_core::spec::Network;
use cavrith_engine::error::file_error;
use cavrith_engine::personal::{BUNDLES, CERTIFICATES, Personal};
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::Identity;
use cavrith_sandbox::ground::{Ground, Kind};
use cavrith_sandbox::job::{FolderMount, Job, Purpose};

use crate::offered::{self, Offered};
use crate::place::Place;
use crate::ssh::forward::Sockets;
use crate::{APT_ALONE, APT_SOURCES, KeeperError, RESOLVER, names, own_shell, secrets};

/// What an inside is made from.
pub(crate) struct Furniture<'a> {
    pub place: &'a Place,
    pub arrangement: &'a Arrangement,
    pub identity: Identity,
    /// The text of `/etc/apt/sources.list`.
    pub apt_sources: Option<&'a str>,
    /// Values of its secrets.
    pub secrets: &'a SecretValues,
    pub personal: &'a Personal,
}

/// What answers inside once it is furnished.
pub(crate) struct Furnished {
    /// What has to be said about it.
    pub notes: Vec<String>,
    /// Where the member's agents are asked for inside.
    pub offered: Vec<Offered>,
    /// Where agents of SSH clients will be asked for.
    pub sockets: Sockets,
}

impl Furniture<'_> {
    /// The sandbox over some layers, with what lies over files of theirs.
    ///
    /// # Errors
    /// When one of the files cannot be written.
    pub fn job(&self, purpose: Purpose, layers: Vec<PathBuf>, scratch: PathBuf) -> Result<Job, KeeperError> {
        let Self { place, arrangement, identity, apt_sources, personal, .. } = self;
        let believed = certificates(place, &layers, personal)?;
        let mut job = Job::new(purpose, layers, scratch, &arrangement.setup.host_name);
        job.only = (ACCOUNT_ID, ACCOUNT_ID);
        job.files = own_files(place, arrangement, (*apt_sources, personal.links.keys()), identity.records_owners())?;
        job.files.extend(believed);
        Ok(job)
    }

    /// Lays what is in memory into the workspace whose first process this is; nothing else runs there yet.
    ///
    /// # Errors
    /// When the sandbox does not let it be written.
    pub fn lay(&self, process: u32) -> Result<Furnished, KeeperError> {
        let Self { arrangement, identity, secrets, personal, .. } = *self;
        secrets::lay(process, &arrangement.secrets, secrets, identity)
            .map_err(file_error("write", cavrith_core::spec::secret::DIRECTORY))?;
        let mut notes = personal.lacks.clone();
        let offered = offered::listen(process, personal, identity);
        let offered = offered.map_err(|(socket, error)| file_error("listen at", socket)(error))?;
        own_shell::lay(process, personal, identity).map_err(file_error("write", "/run/personal"))?;
        let sockets = Sockets::new(process, identity).map_err(file_error("make", "/run/ssh"))?;
        let without = arrangement.secrets.keys().filter(|name| secrets.get(name).is_none());
        notes.extend(without.map(|name| format!("it runs without the secret {name}, which is optional")));
        Ok(Furnished { notes, offered, sockets })
    }
}

/// Files that lie over files inside.
fn own_files<'a>(
    place: &Place,
    arrangement: &Arrangement,
    (apt_sources, links): (Option<&str>, impl Iterator<Item = &'a String>),
    single: bool,
) -> Result<Vec<FolderMount>, KeeperError> {
    let mut files = Vec::new();
    // Whom to ask for names is known once there is a way out.
    let mut texts = vec![(names::INSIDE, names::inside_text(arrangement, links)), (RESOLVER, String::new())];
    texts.extend(apt_sources.map(|text| (APT_SOURCES, text.to_owned())));
    if single && apt_sources.is_some() {
        texts.push((APT_ALONE, "APT::Sandbox::User \"root\";\n".to_owned()));
    }
    for (inside, text) in texts {
        // Without a way out the image's own file says as much.
        if inside != names::INSIDE && arrangement.network == Network::None {
            continue;
        }
        let path = place.dir.join("files").join(inside.rsplit('/').next().unwrap_or_default());
        // It is mounted as it is, and everybody inside may read it, whatever the member's umask.
        let readable = fs::Permissions::from_mode(0o644);
        let written = fs::write(&path, text).and_then(|()| fs::set_permissions(&path, readable));
        written.map_err(file_error("write", &path))?;
        let mut file = FolderMount::new(path, inside.into());
        file.only_new = [APT_SOURCES, APT_ALONE].contains(&inside);
        files.push(file);
    }
    Ok(files)
}

/// The files by which programs believe the member's certificates, too: one that variables name, and the same over the
/// image's own bundles.
fn certificates(place: &Place, layers: &[PathBuf], personal: &Personal) -> Result<Vec<FolderMount>, KeeperError> {
    if personal.certificates.is_empty() {
        return Ok(Vec::new());
    }
    // The lowest comes first.
    let of_image = |bundle: &str| {
        let layer = layers.iter().rev().find(|layer| layer.join(bundle).symlink_metadata().is_ok())?;
        let is_file = Ground::open(layer).and_then(|layer| layer.kind(Path::new(bundle))).ok()?;
        let path = layer.join(bundle);
        (is_file == Some(Kind::Other) && path.symlink_metadata().is_ok_and(|meta| meta.is_file())).then_some(path)
    };
    let bundles: Vec<_> = BUNDLES.iter().filter_map(|bundle| Some((*bundle, of_image(bundle)?))).collect();
    let mut text = String::new();
    if let Some((_, path)) = bundles.first() {
        text += &cavrith_store::reading::text(path).map_err(file_error("read", path))?;
    }
    text += &personal.certificates;
    let path = place.dir.join("files/certificates.pem");
    let readable = fs::Permissions::from_mode(0o644);
    let written = fs::write(&path, &text).and_then(|()| fs::set_permissions(&path, readable));
    written.map_err(file_error("write", &path))?;
    let java = of_image(JAVA_STORE).map(|_| -> Result<FolderMount, KeeperError> {
        let store = place.dir.join("files/certificates.jks");
        let written = fs::write(&store, cavrith_recorder::java_store::with(&certificates_of(&text)));
        let written = written.and_then(|()| fs::set_permissions(&store, fs::Permissions::from_mode(0o644)));
        written.map_err(file_error("write", &store))?;
        Ok(FolderMount::new(store, PathBuf::from("/").join(JAVA_STORE)))
    });
    let java = java.transpose()?;
    let over = bundles.iter().map(|(bundle, _)| FolderMount::new(path.clone(), PathBuf::from("/").join(bundle)));
    Ok(std::iter::once(FolderMount::new(path.clone(), CERTIFICATES.into())).chain(over).chain(java).collect())
}

/// Where Debian's Java looks for the authorities that it believes: those of the image's bundle, in a form of its own.
const JAVA_STORE: &str = "etc/ssl/certs/java/cacerts";

/// The certificates of a text (RFC 7468, section 5), as DER.
fn certificates_of(text: &str) -> Vec<Vec<u8>> {
    let (begin, end) = ("-----BEGIN CERTIFICATE-----", "-----END CERTIFICATE-----");
    let parts = text.split(begin).skip(1).filter_map(|part| part.split_once(end));
    let plain = parts.map(|(inner, _)| inner.chars().filter(|letter| !letter.is_whitespace()).collect::<String>());
    plain.filter_map(|inner| base64::Engine::decode(&base64::prelude::BASE64_STANDARD, inner).ok()).collect()
}

/// The versions by which Ruby keeps what a user installs for themselves.
pub(crate) fn versions_of_gems(layers: &[PathBuf]) -> Vec<String> {
    let dirs = ["usr/lib/ruby/gems", "var/lib/gems"];
    let found = layers.iter().flat_map(|layer| dirs.map(|dir| layer.join(dir)));
    let names = found.filter_map(|dir| fs::read_dir(dir).ok()).flatten().flatten();
    let versions = names.filter_map(|entry| entry.file_name().into_string().ok());
    let is_version = |name: &String| name.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
    versions.filter(is_version).collect::<BTreeSet<_>>().into_iter().collect()
}
