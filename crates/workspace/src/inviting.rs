//! Letting a colleague in: whose key it is, what they may do, until when, and the link that they are given.

use std::collections::BTreeSet;
use std::fs::File;
use std::io::Read as _;
use std::net::{IpAddr, SocketAddr, TcpListener};
use std::path::Path;
use std::time::Duration;

use rustix::fs::FlockOperation;

use cavrith_core::signature::PublicKey;
use cavrith_core::team::Role;
use cavrith_core::visit::{VisitLink, host_and_port};
use cavrith_engine::error::file_error;
use cavrith_engine::team;
use cavrith_keeper::pages;
use cavrith_keeper::place::Place;
use cavrith_keeper::record::now;
use cavrith_keeper::ssh::Rights;
use cavrith_keeper::visitors::{Invitation, Invitations, Pages};
use cavrith_recorder::own_certificate::OwnCertificate;
use cavrith_store::reading;

use crate::WorkspaceError;
use crate::ssh_config::Keys;

/// How long somebody can be invited for.
const LONGEST: Duration = Duration::from_secs(30 * 86_400);
/// The version of the file.
const VERSION: u32 = 1;
/// Bytes of a file with a key.
const LONGEST_KEY: u64 = 64 << 10;

fn refused(why: impl Into<String>) -> WorkspaceError {
    WorkspaceError::Invitation(why.into())
}

/// What a member wants.
#[derive(Debug, Clone)]
pub struct Wish<'a> {
    /// Whom to invite.
    pub name: &'a str,
    /// Their key, as a line or a file; the team's when nothing.
    pub key: Option<&'a str>,
    /// What they may do.
    pub rights: Rights,
    /// A port whose pages they see with a browser, and nothing else.
    pub pages: Option<u16>,
    /// How long.
    pub lasts: Duration,
    /// The address of this machine, perhaps with a port.
    pub at: &'a str,
    /// The address under which they reach that, when it is another.
    pub reached_at: Option<&'a str>,
}

/// Whom somebody is invited as.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Given {
    /// A link for `cavrith visit`.
    Link(VisitLink),
    /// An address for a browser, and by what the machine is known there: the SHA-256 of its certificate.
    Address(String, String),
}

/// Bytes of a token.
const TOKEN_BYTES: usize = 24;

/// A token that nobody can guess, in letters that need no quotes anywhere (RFC 4648, section 5).
fn token() -> Result<String, WorkspaceError> {
    let mut bytes = [0; TOKEN_BYTES];
    let random = Path::new("/dev/urandom");
    File::open(random).and_then(|mut random| random.read_exact(&mut bytes)).map_err(file_error("read", random))?;
    Ok(base64::Engine::encode(&base64::prelude::BASE64_URL_SAFE_NO_PAD, bytes))
}

/// The keys of somebody: those that the signed team has of them; or the one that was named, where there is no team.
fn keys(project: &Path, wish: &Wish<'_>) -> Result<Vec<String>, WorkspaceError> {
    let team = team::read(project)?.map(|file| file.prove().map(|proved| proved.now.clone())).transpose();
    let team = team.map_err(|bad| refused(format!("cavrith.team is not to be believed: {bad}")))?;
    let found: BTreeSet<PublicKey> = match (team, wish.key) {
        (Some(team), key) => {
            let Some(person) = team.people.get(wish.name) else {
                let names = team.people.keys().cloned().collect::<Vec<_>>().join(", ");
                return Err(refused(format!(
                    "{} is not in the team, which decides who may come; in it are {names}, and a lead adds others by \
                     [team.people.{}] and cavrith team sign",
                    wish.name, wish.name
                )));
            };
            if !person.roles.contains(&Role::Member) && !person.roles.contains(&Role::Lead) {
                return Err(refused(format!("{} is in the team as neither a member nor a lead", wish.name)));
            }
            match key.map(one_key).transpose()? {
                Some(key) if !person.keys.contains(&key) => {
                    return Err(refused(format!("this is not a key that the team has of {}", wish.name)));
                }
                Some(key) => BTreeSet::from([key]),
                None if wish.pages.is_some() => return Ok(Vec::new()),
                None => person.keys.clone(),
            }
        }
        (None, _) if wish.pages.is_some() => return Ok(Vec::new()),
        (None, Some(key)) => BTreeSet::from([one_key(key)?]),
        (None, None) => {
            return Err(refused(format!("there is no team that has a key of {}; name it with --key", wish.name)));
        }
    };
    let lines: Vec<_> = found.iter().map(ToString::to_string).filter(|line| !line.starts_with("ssh-rsa ")).collect();
    if lines.is_empty() {
        let why = "an RSA key opens nothing here; ssh-keygen -t ed25519 makes one that does";
        return Err(refused(why));
    }
    Ok(lines)
}

/// A key, as its line or as the file of it.
fn one_key(text: &str) -> Result<PublicKey, WorkspaceError> {
    let line = match text.contains(' ') {
        true => text.to_owned(),
        false => {
            let path = Path::new(text);
            let bytes = reading::bounded(path, LONGEST_KEY).map_err(file_error("read", path))?;
            String::from_utf8_lossy(&bytes).into_owned()
        }
    };
    PublicKey::parse(&line).map_err(|bad| refused(format!("{text}: {bad}")))
}

/// The address and port to listen at; a free port when none was named.
fn address(at: &str) -> Result<SocketAddr, WorkspaceError> {
    if let Ok(address) = at.parse::<SocketAddr>() {
        return Ok(address);
    }
    let ip = at.trim_matches(['[', ']']).parse::<IpAddr>();
    let ip =
        ip.map_err(|_| refused(format!("{at} is no address of a machine; write it like 192.0.2.7 or 192.0.2.7:4022")))?;
    let free = TcpListener::bind((ip, 0)).and_then(|listener| listener.local_addr());
    free.map_err(|error| refused(format!("nobody can come at {ip}: {error}")))
}

/// Reads, changes and writes the invitations of a workspace; no other command does so meanwhile.
///
/// # Errors
/// When the disk refuses.
pub fn change<T>(place: &Place, how: impl FnOnce(&mut Invitations) -> T) -> Result<T, WorkspaceError> {
    let held = File::open(&place.dir).map_err(file_error("open", &place.dir))?;
    rustix::fs::flock(&held, FlockOperation::LockExclusive)
        .map_err(|error| file_error("lock", &place.dir)(error.into()))?;
    let mut invitations = Invitations::read(&place.dir);
    let outcome = how(&mut invitations);
    invitations.write(&place.dir)?;
    Ok(outcome)
}

/// Invites somebody, in the place of an earlier invitation of theirs. What is given is for them.
///
/// # Errors
/// When the team does not have them, the key or the address is none, or the disk refuses.
pub fn invite(place: &Place, keys_of_host: &Keys, wish: &Wish<'_>) -> Result<(Invitation, Given), WorkspaceError> {
    if !cavrith_core::team::is_name(wish.name) {
        return Err(refused(format!("{} cannot be a person's name: letters, digits and -_+.@", wish.name)));
    }
    if wish.lasts > LONGEST || wish.lasts.is_zero() {
        return Err(refused("an invitation lasts 30 days at most"));
    }
    let keys = keys(&place.project, wish)?;
    let reached =
        wish.reached_at.map(|at| host_and_port(at).map_err(|why| refused(format!("{at}: {why}")))).transpose()?;
    let host_key = PublicKey::parse(&keys_of_host.host_public).map_err(|bad| refused(bad.to_string()))?;
    let asked = address(wish.at)?;
    let until = now() + wish.lasts.as_millis() as u64;
    let token = wish.pages.map(|_| token()).transpose()?;
    let pages = wish.pages.zip(token.as_deref()).map(|(port, token)| Pages { port, token: pages::written(token) });
    let invited = change(place, |all| {
        all.invitations.retain(|other| other.name != wish.name);
        // One address is enough for everybody who comes there in the same way; and whoever was given a link keeps it.
        let is_free = wish.at.parse::<SocketAddr>().is_err();
        let same_way = |other: &&Invitation| other.pages.is_some() == pages.is_some();
        let same = |other: &&Invitation| other.address.ip() == asked.ip() && is_free && same_way(other);
        let address = all.invitations.iter().find(same).map_or(asked, |other| other.address);
        if all.invitations.iter().any(|other| other.address == address && !same_way(&other)) {
            return Err(refused(format!("others come at {address} in another way; name another port")));
        }
        let rights = wish.rights.clone();
        let invitation = Invitation { name: wish.name.to_owned(), keys, address, rights, until, pages };
        all.version = VERSION;
        all.host_key.clone_from(&keys_of_host.host);
        if token.is_some() && all.certificate.is_none() {
            let mut hosts = vec![address.ip().to_string()];
            hosts.extend(reached.iter().map(|(host, _)| host.clone()));
            let made = OwnCertificate::new(&hosts);
            all.certificate = Some(made.map_err(|error| refused(error.to_string()))?);
        }
        all.invitations.push(invitation.clone());
        Ok((invitation, all.certificate.clone()))
    })?;
    let (invitation, certificate) = invited?;
    let (host, port) = reached.unwrap_or_else(|| (invitation.address.ip().to_string(), invitation.address.port()));
    let given = match (token, certificate) {
        (Some(token), Some(certificate)) => {
            let host = if host.contains(':') { format!("[{host}]") } else { host };
            let fingerprint = certificate.fingerprint().map_err(|error| refused(error.to_string()))?;
            Given::Address(format!("https://{host}:{port}/?{}={token}", pages::TOKEN), fingerprint)
        }
        _ => Given::Link(VisitLink { host, port, name: place.name.clone(), key: host_key }),
    };
    Ok((invitation, given))
}

/// Takes an invitation back; false when there is none.
///
/// # Errors
/// When the disk refuses.
pub fn end(place: &Place, name: &str) -> Result<bool, WorkspaceError> {
    change(place, |all| {
        let before = all.invitations.len();
        all.invitations.retain(|other| other.name != name);
        all.invitations.len() != before
    })
}
