//! This member's registries: how to reach them, and who we are there.

use std::process::{Command, Stdio};

use cavrith_core::oci::Reference;
use cavrith_sources::registry::{Login, Registry};
use cavrith_sources::web::Web;

use crate::member::Member;

/// An image's place in a registry.
pub fn open<'a>(web: &'a Web, member: &Member, reference: &'a Reference, login: Option<&'a Login>) -> Registry<'a> {
    let config = member.config.registries.get(&reference.registry);
    Registry::new(web, reference, login, config.is_some_and(|config| config.plain_http))
}

/// Name and password for a registry, from the member's configuration; a password command is run. An error says, in
/// words, why there is none.
///
/// # Errors
/// When a name is configured without a password, or its command fails.
pub fn login(member: &Member, registry: &str) -> Result<Option<Login>, String> {
    let Some(config) = member.config.registries.get(registry) else { return Ok(None) };
    let Some(user) = config.user.clone() else { return Ok(None) };
    if let Some(password) = config.password.clone() {
        return Ok(Some(Login { user, password }));
    }
    let command = config.password_command.as_deref().unwrap_or_default();
    if command.is_empty() {
        return Err(format!("config.toml names {user} for {registry}, and neither password nor password-command"));
    }
    let password = secret("password-command", command)?;
    Ok(Some(Login { user, password }))
}

/// The first line that a command of the member's writes. An error says, in words, why there is none; `key` is where the
/// command stands.
///
/// # Errors
/// When the command is not there, or fails.
pub(crate) fn secret(key: &str, command: &[String]) -> Result<String, String> {
    Ok(output(key, command)?.lines().next().unwrap_or_default().to_owned())
}

/// All that such a command writes.
///
/// # Errors
/// As [`secret`].
pub(crate) fn output(key: &str, command: &[String]) -> Result<String, String> {
    let Some((program, arguments)) = command.split_first() else { return Err(format!("{key} is empty")) };
    // One without a slash is looked for as everywhere, but never where the member happens to be.
    let found = match program.contains('/') {
        true => Some(program.into()),
        false => cavrith_sandbox::programs::find_program(program),
    };
    let Some(found) = found else { return Err(format!("{program} ({key}) is not installed")) };
    let output = Command::new(found).args(arguments).stdin(Stdio::null()).stderr(Stdio::inherit()).output();
    let output = output.map_err(|error| format!("{program} ({key}) cannot be run: {error}"))?;
    if !output.status.success() {
        return Err(format!("{program} ({key}) failed with {}", output.status));
    }
    String::from_utf8(output.stdout).map_err(|_| format!("{program} ({key}) wrote what is no text"))
}
