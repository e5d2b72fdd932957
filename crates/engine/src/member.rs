//! What is this member's own and no part of a spec: depots, mirrors, ways into registries. None of it changes what
//! comes out; it only says where pinned bytes are found.
//!
//! `config.toml` in the directory of Cavrith's configuration:
//!
//! ```toml
//! automatic-reports = false
//!
//! [debian]
//! mirror   = ["http://mirror.harbour.example/debian", "http://mirror.pier.example/debian"]
//! security = "http://mirror.harbour.example/debian-security"
//! keyring  = "/etc/harbour/archive.gpg"
//!
//! [web]
//! longest-mib = 20480
//!
//! [cache]
//! folder = "/net/harbour/layers"
//!
//! [registries."registry.harbour.example"]
//! user             = "tove"
//! password-command = ["secret", "show", "registry"]
//!
//! [recording.mirrors]
//! "https://index.example/" = "https://mirror.harbour.example/index/"
//!
//! [recording.credentials."https://mirror.harbour.example/"]
//! token-command = ["secret", "show", "mirror"]
//!
//! [personal]
//! git = { name = "Tove", email = "tove@brindle.example" }
//!
//! [network]
//! certificates = ["~/harbour-ca.pem"]
//!
//! [secrets."~/ferry/timetable"]
//! tide-token = { command = ["secret", "show", "tide"] }
//! ```

use std::collections::{BTreeMap, HashMap};
use std::env;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use serde::{Deserialize, Deserializer};

use cavrith_core::debian::apt::{self, AptSource};
use cavrith_core::depot;
use cavrith_core::digest::Sha256Digest;
use cavrith_core::lock::DebianPin;

use crate::error::{EngineError, ProjectError, file_error};
use cavrith_store::reading;

/// The member's configuration.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Config {
    /// The Debian archive.
    pub debian: DebianConfig,
    /// Registries of OCI images, by host and port.
    pub registries: BTreeMap<String, RegistryConfig>,
    /// What comes from the web.
    pub web: WebConfig,
    /// Where finished layers are shared, instead of what a spec says.
    pub cache: CacheConfig,
    /// How steps that fetch are helped on their way while they are recorded.
    pub recording: RecordingConfig,
    /// Where secrets of projects come from: by the folder that a project is, or lies in, and their names.
    pub secrets: BTreeMap<String, BTreeMap<String, SecretSource>>,
    /// What the member adds to every workspace.
    pub personal: PersonalConfig,
    /// The network that this machine is in.
    pub network: NetworkConfig,
    /// Editors of the member's, by name.
    pub editors: BTreeMap<String, EditorConfig>,
    /// Whether a full `verify` reports by itself, whatever a spec says.
    pub automatic_reports: Option<bool>,
}

/// How steps that fetch are helped on their way. All of it happens outside: neither a step nor its record sees it.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct RecordingConfig {
    /// What is asked instead of addresses that begin so; the record has the addresses that the step asked for.
    pub mirrors: BTreeMap<String, String>,
    /// What is shown to whoever is asked for addresses that begin so.
    pub credentials: BTreeMap<String, CredentialConfig>,
}

/// What a member adds to every workspace, for their own commands and shells.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct PersonalConfig {
    /// Variables.
    pub env: BTreeMap<String, String>,
    /// Who they are in version control.
    pub git: GitConfig,
    /// Their commands inside may have this machine's SSH agent sign.
    pub ssh_agent: bool,
    /// Their commands inside may have this machine's GPG agent sign and decrypt.
    pub gpg_agent: bool,
    /// Hosts whose credentials git inside gets from git outside.
    pub git_credentials: Vec<String>,
    /// The editor that opens places: one of `[editors]`, or a program inside.
    pub editor: Option<String>,
    /// Directories inside that programs are looked for in, after the team's.
    pub path: Vec<String>,
    /// Ports outside, by the names that the spec has for them.
    pub ports: BTreeMap<String, u16>,
    /// The port of the loopback at which they come by SSH.
    pub ssh_port: Option<std::num::NonZeroU16>,
    /// Ways to ports of other workspaces, by the names that they have inside: `WORKSPACE:PORT`.
    pub links: BTreeMap<String, String>,
    /// Short words for commands, in shells.
    pub aliases: BTreeMap<String, String>,
    /// The shell, when it is inside; the account's otherwise.
    pub shell: Option<String>,
    /// Files for the account's home.
    pub dotfiles: DotfilesConfig,
    /// Packages of the base's archive, over the image.
    pub packages: Vec<String>,
    /// Toolchains of depots, by name, each with a version or its beginning.
    pub toolchains: BTreeMap<String, String>,
    /// Extensions of the team's editor, likewise.
    pub extensions: BTreeMap<String, String>,
    /// Settings of the team's editor.
    pub settings: serde_json::Map<String, serde_json::Value>,
    /// Depots of the member's, beside the team's: folders.
    pub depots: Vec<String>,
    /// Folders of the home that all workspaces which name them share.
    pub caches: Vec<String>,
    /// The same for certain projects: by the folder that a project is, or lies in.
    pub projects: BTreeMap<String, PersonalConfig>,
}

impl PersonalConfig {
    /// What counts for a project: the innermost folder before the outer ones, and those before what is for all.
    #[must_use]
    pub fn for_project(&self, project: &Path) -> Self {
        let mut all = Self { projects: BTreeMap::new(), ..self.clone() };
        for own in folders_of(&self.projects, project) {
            let own = own.clone();
            all.env.extend(own.env);
            all.aliases.extend(own.aliases);
            all.path.extend(own.path);
            all.packages.extend(own.packages);
            all.toolchains.extend(own.toolchains);
            all.extensions.extend(own.extensions);
            all.settings.extend(own.settings);
            all.depots.extend(own.depots);
            all.caches.extend(own.caches);
            all.ports.extend(own.ports);
            all.links.extend(own.links);
            all.git.name = own.git.name.or(all.git.name);
            all.git.email = own.git.email.or(all.git.email);
            all.editor = own.editor.or(all.editor);
            all.shell = own.shell.or(all.shell);
            all.ssh_port = own.ssh_port.or(all.ssh_port);
            all.ssh_agent |= own.ssh_agent;
            all.gpg_agent |= own.gpg_agent;
            all.git_credentials.extend(own.git_credentials);
            if own.dotfiles.from.is_some() {
                all.dotfiles = own.dotfiles;
            }
        }
        all
    }
}

/// What a configuration has for the folders that a project is, or lies in; the outermost first.
pub(crate) fn folders_of<'a, T>(by_folder: &'a BTreeMap<String, T>, project: &Path) -> Vec<&'a T> {
    let real = |folder: &str| crate::secret_values::expanded(folder).canonicalize().ok();
    let mut folders: Vec<_> = by_folder.iter().filter_map(|(folder, value)| Some((real(folder)?, value))).collect();
    folders.retain(|(folder, _)| project.starts_with(folder));
    folders.sort_by_key(|(folder, _)| folder.as_os_str().len());
    folders.into_iter().map(|(_, value)| value).collect()
}

/// A member's own files for the home.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct DotfilesConfig {
    /// The folder, or an address of git.
    pub from: Option<String>,
    /// The commit, for an address of git.
    pub revision: Option<String>,
    /// Which file or folder of it goes where in the home; without it, whatever begins with a dot goes by its own name.
    pub place: BTreeMap<String, String>,
    /// What of it is left out.
    pub except: Vec<String>,
    /// Commands that are run inside, in the home, when the files are others than before.
    pub run: Option<Commands>,
}

/// One command, or several.
#[derive(Debug, Clone, Deserialize)]
#[serde(untagged)]
pub enum Commands {
    /// A program and its arguments.
    One(Vec<String>),
    /// Several of these.
    Several(Vec<Vec<String>>),
}

impl Commands {
    /// All of them, in their order.
    #[must_use]
    pub fn all(&self) -> Vec<Vec<String>> {
        match self {
            Self::One(argv) if argv.is_empty() => Vec::new(),
            Self::One(argv) => vec![argv.clone()],
            Self::Several(all) => all.clone(),
        }
    }
}

/// An editor of a member's.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct EditorConfig {
    /// The program of this machine and its arguments; `{host}`, `{path}`, `{file}` and `{line}` are filled in.
    pub command: Vec<String>,
}

/// Who a member is in version control.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct GitConfig {
    /// The name of author and committer.
    pub name: Option<String>,
    /// Their address.
    pub email: Option<String>,
}

/// What programs inside need to reach other machines from here.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct NetworkConfig {
    /// Files of certificates (PEM) that are believed besides the image's own; `host` is this machine's trust store.
    pub certificates: Vec<String>,
    /// The proxy's address, or `environment` for that of this machine's variables.
    pub proxy: Option<String>,
    /// Hosts that are reached without it.
    pub no_proxy: Vec<String>,
}

/// Where a secret comes from: one of these.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct SecretSource {
    /// A variable of the member's environment.
    pub variable: Option<String>,
    /// A file, without the end of its last line.
    pub file: Option<String>,
    /// A command whose output it is, without the end of the last line.
    pub command: Option<Vec<String>>,
    /// It is typed at each start.
    pub ask: bool,
}

/// What is shown to whoever is asked.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct CredentialConfig {
    /// A token (RFC 6750).
    pub token: Option<String>,
    /// A command whose first line of output is the token.
    pub token_command: Option<Vec<String>>,
    /// A name (RFC 7617).
    pub user: Option<String>,
    /// Its password.
    pub password: Option<String>,
    /// A command whose first line of output is the password.
    pub password_command: Option<Vec<String>>,
}

/// Where finished layers are shared.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct CacheConfig {
    /// A folder: on a network disk, or one that is carried about.
    pub folder: Option<PathBuf>,
    /// A registry and a name there.
    pub registry: Option<String>,
    /// Nowhere, whatever a spec says.
    pub off: bool,
}

/// What comes from the web.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct WebConfig {
    /// Mebibytes that a file may have whose digest nobody knows yet; 4096 without it.
    pub longest_mib: Option<u64>,
}

/// How the Debian archive is reached.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct DebianConfig {
    /// Addresses of mirrors, the first to be asked first; one may be written without a list.
    #[serde(deserialize_with = "one_or_more")]
    pub mirror: Vec<String>,
    /// Addresses of mirrors of the security archive; without them, those of the other suites.
    #[serde(deserialize_with = "one_or_more")]
    pub security: Vec<String>,
    /// The keyring that has to have signed the suites.
    pub keyring: Option<PathBuf>,
}

/// How a registry is reached.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct RegistryConfig {
    /// Who we are there.
    pub user: Option<String>,
    /// The password itself.
    pub password: Option<String>,
    /// A command whose first line of output is the password.
    pub password_command: Option<Vec<String>>,
    /// It is spoken to without encryption.
    pub plain_http: bool,
}

/// Where this machine's apt gets packages from.
const APT: &str = "/etc/apt";
/// The archive's keys, as Debian's own package brings them.
const KEYRING: &str = "/usr/share/keyrings/debian-archive-keyring.gpg";

/// What is this member's own.
#[derive(Debug, Default)]
pub struct Member {
    /// Folders of depots; whatever is pinned is looked for there first.
    pub depots: Vec<PathBuf>,
    /// The configuration.
    pub config: Config,
    /// Files of the depots, by digest, read when they are first asked for.
    find_in_depots: OnceLock<HashMap<Sha256Digest, PathBuf>>,
    /// Files that other indexes offer, by the index's place.
    offered: Mutex<HashMap<String, Arc<HashMap<Sha256Digest, String>>>>,
    apt: OnceLock<Vec<AptSource>>,
}

impl Member {
    /// A member with these depots, and nothing else.
    pub fn with_depots(depots: Vec<PathBuf>) -> Self {
        Self { depots, ..Self::default() }
    }

    /// This machine's member: `CAVRITH_DEPOTS`, and the configuration.
    ///
    /// # Errors
    /// A configuration that cannot be read.
    pub fn find() -> Result<Self, EngineError> {
        let depots = env::var_os("CAVRITH_DEPOTS").map(|value| env::split_paths(&value).collect()).unwrap_or_default();
        let config = match config_path() {
            Some(path) => read_config(&path)?,
            None => Config::default(),
        };
        Ok(Self { config, ..Self::with_depots(depots) })
    }

    /// A file with this digest in one of the depots.
    pub(crate) fn find_in_depots(&self, digest: &Sha256Digest) -> Option<PathBuf> {
        let files = self.find_in_depots.get_or_init(|| {
            let mut files = HashMap::new();
            for shelf in &self.depots {
                let index = reading::text(&shelf.join(depot::FILE_NAME)).ok();
                let Some(index) = index.and_then(|text| depot::parse(&text).ok()) else { continue };
                for file in index.files() {
                    files.entry(file.sha256).or_insert_with(|| shelf.join(&file.file));
                }
            }
            files
        });
        files.get(digest).filter(|path| path.is_file()).cloned()
    }

    /// The file that an index offers for a digest. `read` reads the index, once for all questions.
    pub(crate) fn offered(
        &self,
        place: &str,
        digest: &Sha256Digest,
        read: impl FnOnce() -> Option<String>,
    ) -> Option<String> {
        let mut offered = self.offered.lock().unwrap_or_else(PoisonError::into_inner);
        let files = offered.entry(place.to_owned()).or_insert_with(|| {
            let index = read().and_then(|text| depot::parse(&text).ok());
            let files = index.iter().flat_map(|index| index.files()).map(|file| (file.sha256, file.file.clone()));
            Arc::new(files.collect())
        });
        files.get(digest).cloned()
    }

    /// Addresses at which a suite of the Debian archive is found, the first to be asked first.
    pub fn mirrors(&self, suite: &str) -> Vec<String> {
        let own = &self.config.debian;
        let security = suite.ends_with("-security");
        let configured = if security && !own.security.is_empty() { &own.security } else { &own.mirror };
        if !configured.is_empty() {
            return configured.iter().map(|address| address.trim_end_matches('/').to_owned()).collect();
        }
        let mut found: Vec<_> = apt::addresses_for(self.machine_sources(), suite)
            .into_iter()
            .map(|source| source.address.clone())
            .collect();
        let mut seen = std::collections::BTreeSet::new();
        found.retain(|address| seen.insert(address.clone()));
        found
    }

    /// The keyring that has to have signed a suite.
    pub fn keyring(&self, suite: &str) -> PathBuf {
        if let Some(keyring) = &self.config.debian.keyring {
            return keyring.clone();
        }
        let sources = apt::addresses_for(self.machine_sources(), suite);
        let named = sources.into_iter().find_map(|source| source.signed_by.clone()).map(PathBuf::from);
        named.filter(|path| path.is_file()).unwrap_or_else(|| PathBuf::from(KEYRING))
    }

    /// The text of a `sources.list` (sources.list(5)) for the suites of a base, from where this member has them.
    pub fn apt_sources(&self, pin: &DebianPin) -> String {
        let mut text = String::from("# where this member's mirrors are; it lies over the image, and is not in it\n");
        let extra = pin.extra.iter().map(|extra| format!("{}-{extra}", pin.suite));
        for suite in std::iter::once(pin.suite.clone()).chain(extra) {
            for mirror in self.mirrors(&suite) {
                text.push_str(&format!("deb {mirror} {suite} {}\n", pin.components.join(" ")));
            }
        }
        text
    }

    fn machine_sources(&self) -> &[AptSource] {
        self.apt.get_or_init(|| read_apt(Path::new(APT)))
    }
}

/// A list of texts, or a single one.
fn one_or_more<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<String>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "a text or a list of texts")]
    enum Written {
        One(String),
        More(Vec<String>),
    }
    Ok(match Written::deserialize(from)? {
        Written::One(text) => vec![text],
        Written::More(texts) => texts,
    })
}

/// The member's configuration, whether it is there or not; nothing where there is no home to have one in.
pub fn config_path() -> Option<PathBuf> {
    let set = |name: &str| env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let dir = match (set("CAVRITH_HOME"), set("XDG_CONFIG_HOME").filter(|path| path.is_absolute())) {
        (Some(own), _) => own,
        (None, Some(config)) => config.join("cavrith"),
        (None, None) => set("HOME")?.join(".config/cavrith"),
    };
    Some(dir.join("config.toml"))
}

fn read_config(path: &Path) -> Result<Config, EngineError> {
    let text = match reading::text(path) {
        Ok(text) => text,
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
            return Ok(Config::default());
        }
        Err(error) => return Err(file_error("read", path)(error)),
    };
    toml::from_str(&text).map_err(|error| {
        EngineError::Project(ProjectError::Config { path: path.to_owned(), why: error.to_string().trim().to_owned() })
    })
}

/// All sources of a directory like `/etc/apt`, in apt's order of its files.
fn read_apt(dir: &Path) -> Vec<AptSource> {
    let mut files: Vec<_> = fs::read_dir(dir.join("sources.list.d"))
        .map(|entries| entries.flatten().map(|entry| entry.path()).collect())
        .unwrap_or_default();
    files.sort();
    files.insert(0, dir.join("sources.list"));
    let mut sources = Vec::new();
    for file in files {
        let text = reading::text(&file).unwrap_or_default();
        match file.extension().and_then(|extension| extension.to_str()) {
            Some("list") => sources.extend(apt::parse_lines(&text)),
            Some("sources") => sources.extend(apt::parse_stanzas(&text)),
            _ => {}
        }
    }
    sources
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_configuration_is_read_and_what_is_not_in_it_is_told() {
        let config: Config = toml::from_str(
            "[debian]\nmirror = \"http://a.example/debian\"\n[registries.\"r.example:5000\"]\nuser = \"tove\"\nplain-http = true\n",
        )
        .unwrap();
        assert!(config.registries["r.example:5000"].plain_http);
        let member = Member { config, ..Member::default() };
        assert_eq!(member.mirrors("bookworm-security"), ["http://a.example/debian"]);
        assert!(toml::from_str::<Config>("[debian]\nmiror = \"x\"\n").is_err());
        let text = "[debian]\nmirror = [\"http://a.example/debian/\", \"http://b.example\"]\nsecurity = \"http://s.example\"\n";
        let member = Member { config: toml::from_str(text).unwrap(), ..Member::default() };
        assert_eq!(member.mirrors("bookworm"), ["http://a.example/debian", "http://b.example"]);
        assert_eq!(member.mirrors("bookworm-security"), ["http://s.example"]);
        let wrong = toml::from_str::<Config>("[debian]\nmirror = 7\n").unwrap_err();
        assert!(wrong.to_string().contains("a text or a list of texts"), "{wrong}");
    }
}
