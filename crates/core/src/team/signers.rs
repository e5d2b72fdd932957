//! A team as OpenSSH's file of allowed signers (ssh-keygen(1), ALLOWED SIGNERS), read and written.
//!
//! The roles are the namespaces: who may sign in `cavrith-seal` and `cavrith-team` is a lead. A line without namespaces
//! allows all of them, as it does for OpenSSH.

use super::{Person, Role, Team};
use crate::signature::PublicKey;

/// What is wrong with a line.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {why}")]
pub struct BadLine {
    /// Which, from 1.
    pub line: usize,
    /// Byte in the text where it begins.
    pub at: usize,
    /// Why, and what to do.
    pub why: String,
}

/// Reads such a file.
///
/// # Errors
/// With the first line that is none, or that says what cannot be held here.
pub fn parse(text: &str) -> Result<Team, BadLine> {
    let mut team = Team::default();
    let mut at = 0;
    for (index, line) in text.split('\n').enumerate() {
        let begins = at;
        at += line.len() + 1;
        let shown = line.trim();
        if shown.is_empty() || shown.starts_with('#') {
            continue;
        }
        let (people, person) = line_of(shown).map_err(|why| BadLine { line: index + 1, at: begins, why })?;
        for name in people {
            let known = team.people.entry(name).or_default();
            known.roles.extend(&person.roles);
            known.keys.extend(person.keys.iter().cloned());
        }
    }
    Ok(team)
}

fn line_of(line: &str) -> Result<(Vec<String>, Person), String> {
    let (principals, rest) = line.split_once([' ', '\t']).ok_or("it has no key")?;
    let mut people = Vec::new();
    for name in principals.trim_matches('"').split(',') {
        if name.is_empty() || name.contains(['*', '?', '!']) {
            return Err(format!("{name:?} is a pattern, and here each person has a name"));
        }
        people.push(name.to_owned());
    }
    let mut rest = rest.trim_start();
    let mut roles = Role::ALL.to_vec();
    // Options may hold blanks in quotes.
    if !is_algorithm(rest.split([' ', '\t']).next().unwrap_or_default()) {
        let mut quoted = false;
        let end = rest.find(|letter: char| {
            quoted ^= letter == '"';
            letter.is_ascii_whitespace() && !quoted
        });
        let (options, key) = rest.split_at(end.ok_or("it has no key")?);
        rest = key.trim_start();
        for option in split_options(options) {
            roles = read_option(option, roles)?;
        }
    }
    let key = PublicKey::parse(rest).map_err(|bad| bad.to_string())?;
    if roles.is_empty() {
        return Err("its namespaces are none of Cavrith's, so it would allow nothing".to_owned());
    }
    Ok((people, Person { roles: roles.into_iter().collect(), keys: [key].into() }))
}

fn is_algorithm(word: &str) -> bool {
    ["ssh-", "ecdsa-", "sk-"].iter().any(|start| word.starts_with(start))
}

fn split_options(options: &str) -> impl Iterator<Item = &str> {
    let mut quoted = false;
    options.split(move |letter: char| {
        quoted ^= letter == '"';
        letter == ',' && !quoted
    })
}

fn read_option(option: &str, roles: Vec<Role>) -> Result<Vec<Role>, String> {
    let (name, value) = option.split_once('=').unwrap_or((option, ""));
    match name.to_ascii_lowercase().as_str() {
        "namespaces" => {
            let named: Vec<_> = value.trim_matches('"').split(',').map(str::trim).collect();
            if let Some(name) = named.iter().find(|name| name.contains(['*', '?', '!'])) {
                return Err(format!("the namespace {name:?} is a pattern; name each namespace"));
            }
            let allows = |role: &Role| role.namespaces().iter().all(|namespace| named.contains(namespace));
            Ok(roles.into_iter().filter(allows).collect())
        }
        "cert-authority" => Err("certificates are not followed; write the people's own keys".to_owned()),
        "valid-after" | "valid-before" => {
            let why = "a signature has no time that could be held against this; take the line out in the revision from \
                       which on the key no longer counts";
            Err(format!("{name}: {why}"))
        }
        _ => Err(format!("the option {name:?} is not known")),
    }
}

/// Writes a team as such a file: what OpenSSH needs to check signatures by itself.
pub fn to_text(team: &Team) -> String {
    let mut text = String::new();
    for (name, person) in &team.people {
        let namespaces: Vec<_> = person.roles.iter().flat_map(|role| role.namespaces()).copied().collect();
        for key in &person.keys {
            text.push_str(&format!("{name} namespaces=\"{}\" {key}\n", namespaces.join(",")));
        }
    }
    text
}
