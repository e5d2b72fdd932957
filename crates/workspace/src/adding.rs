//! What a member brings to a workspace: values of secrets, and what their configuration adds.

use std::path::PathBuf;

use cavrith_core::account;
use cavrith_core::digest::{ContentDigest, TreeDigest};
use cavrith_core::lock::Lock;
use cavrith_core::lock::choose::Update;
use cavrith_core::setup::Setup;
use cavrith_core::tree::Tree;
use cavrith_engine::EngineError;
use cavrith_engine::context::BuildContext;
use cavrith_engine::dotfiles::{self, Dotfiles};
use cavrith_engine::error::ProjectError;
use cavrith_engine::home::Home;
use cavrith_engine::member::{self, Config, DotfilesConfig, Member, PersonalConfig};
use cavrith_engine::on_top;
use cavrith_engine::personal::{OwnDoor, Personal};
use cavrith_engine::project::Project;
use cavrith_engine::secret_values::{self, SecretValues};
use cavrith_store::private;
use cavrith_store::records::ImageRecord;

use crate::WorkspaceError;
use crate::ssh_config::Keys;

/// What a member brings to a workspace, over a certain image.
#[derive(Debug, Default)]
pub struct Added {
    /// Values of the secrets that its spec names.
    pub secrets: SecretValues,
    /// What they add by themselves.
    pub personal: Personal,
    /// Layers of theirs under the image, the lowest first.
    pub beneath: Vec<TreeDigest>,
    /// Layers of theirs over it.
    pub above: Vec<TreeDigest>,
}

/// What a member's configuration brings, before it is known over which image.
#[derive(Debug)]
pub struct Brought {
    secrets: SecretValues,
    personal: Personal,
    own: PersonalConfig,
}

impl Brought {
    /// Makes the layers that they want under and over an image. What cannot be had is noted: taste is no reason not to
    /// start.
    #[must_use]
    pub fn over(self, context: BuildContext<'_>, (project, lock): (&Project, &Lock), image: &ImageRecord) -> Added {
        let Self { secrets, mut personal, own } = self;
        let choice = &project.spec.personal;
        let team = Setup::new(&project.spec, lock, &image.shell).env;
        for name in personal.own.keys().filter(|name| team.contains_key(*name)) {
            if choice.env.contains(name) {
                personal.before_team.insert(name.clone());
            } else {
                personal.lacks.push(format!("your variable {name} does not count: the workspace has one of its own"));
            }
        }
        if !choice.files.is_empty() && !personal.dotfiles.files.is_empty() {
            let trees = image.layers.iter().filter_map(|layer| context.store.layer_tree(&layer.tree).ok());
            let tree = Tree::merged(&trees.collect::<Vec<_>>());
            let home = account::home(&project.spec.workspace.account.value);
            personal.dotfiles.leave_to_member(&home, &tree, choice);
        }
        let (mut beneath, mut above) = (Vec::new(), Vec::new());
        match on_top::make(context, (project, lock), image, &own, &Update::Nothing) {
            Ok(made) => {
                (beneath, above) = (made.beneath, made.above);
                personal.what.extend(made.what);
                personal.path.extend(made.path);
                personal.lacks.extend(made.notes);
            }
            Err(error) => personal.lacks.push(format!("what you add to the image is not there: {error}")),
        }
        Added { secrets, personal, beneath, above }
    }
}

/// What this member's configuration brings to the workspace of a project.
///
/// # Errors
/// [`WorkspaceError::Secrets`], with what to write where, and when the configuration cannot be used.
pub fn brought(project: &Project, ask: &secret_values::Ask<'_>, is_bare: bool) -> Result<Brought, WorkspaceError> {
    let config = Member::find()?.config;
    let own = if is_bare { PersonalConfig::default() } else { config.personal.for_project(&project.dir) };
    let mut personal = personal(&own, &config)?;
    if let (Some(port), Some(home)) = (own.ssh_port, Home::find()) {
        let Keys { host: host_key, member_public: key, .. } = Keys::of(&home)?;
        personal.own_door = Some(OwnDoor { port: port.get(), host_key, key });
    }
    let wanted = project.spec.secrets.iter().map(|(name, secret)| (name.clone(), secret.value.clone())).collect();
    let secrets = secret_values::gather(&config, &project.dir, &wanted, ask).map_err(WorkspaceError::Secrets)?;
    Ok(Brought { secrets, personal, own })
}

/// What a configuration says for one project, with its files.
///
/// # Errors
/// When it cannot be used.
pub fn personal(own: &PersonalConfig, config: &Config) -> Result<Personal, WorkspaceError> {
    let unusable = |why: String| {
        let path = member::config_path().unwrap_or_default();
        WorkspaceError::from(EngineError::from(ProjectError::Config { path, why }))
    };
    let mut personal = Personal::of(own, &config.network).map_err(unusable)?;
    if own.dotfiles.from.is_some() {
        let folder = match dotfiles::local(&own.dotfiles) {
            Some(folder) => folder,
            None => at_revision(&own.dotfiles).map_err(unusable)?,
        };
        let read = Dotfiles::read(&own.dotfiles, &folder).map_err(unusable)?;
        personal.dotfiles.files.extend(read.files);
        personal.dotfiles.run = read.run;
    }
    Ok(personal)
}

/// The files of a repository at the revision that the configuration pins; fetched once.
fn at_revision(config: &DotfilesConfig) -> Result<PathBuf, String> {
    let from = config.from.as_deref().unwrap_or_default();
    let from =
        if dotfiles::is_address(from) { from.to_owned() } else { dotfiles::expanded(from).display().to_string() };
    let is_commit = |text: &&str| text.len() == 40 && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    let revision = config.revision.as_deref().filter(is_commit).ok_or_else(|| {
        format!("the dotfiles of {from} need revision = \"…\", the whole name of a commit, so that nothing of them changes by itself")
    })?;
    let home = Home::find().ok_or("there is no HOME in the environment")?;
    let name = ContentDigest::of(format!("{from} {revision}").as_bytes()).to_string();
    let folder = home.root().join("dotfiles").join(&name[..16]);
    if !folder.is_dir() {
        private::directory(&home.root().join("dotfiles")).map_err(|error| error.to_string())?;
        cavrith_exchange::revisions::fetch(&from, revision, &folder).map_err(|error| error.to_string())?;
    }
    Ok(folder)
}
