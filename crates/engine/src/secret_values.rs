//! Values of the secrets that a project's workspace needs, from where this member's configuration says.
//!
//! They are bound to folders there: what a spec asks for is given only to a project that lies where the member wrote
//! it, so a clone of a stranger's gets nothing by asking for a name. A value is held in memory only, and never shown.

use std::collections::BTreeMap;
use std::env;
use std::fmt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use cavrith_core::spec::Secret;
use cavrith_store::reading;

use crate::member::{Config, SecretSource, config_path};
use crate::registries;

/// Bytes that a value may have.
const LONGEST: usize = 64 << 10;

/// Values of secrets, by name.
#[derive(Clone, Default, Serialize, Deserialize)]
pub struct SecretValues(BTreeMap<String, String>);

impl fmt::Debug for SecretValues {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.0.keys()).finish()
    }
}

impl SecretValues {
    /// The value of one.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.get(name).map(String::as_str)
    }

    /// All values.
    pub fn values(&self) -> impl Iterator<Item = &str> {
        self.0.values().map(String::as_str)
    }
}

/// How a value is typed; nothing where nobody can.
pub type Ask<'a> = dyn Fn(&str) -> Option<String> + 'a;

/// Gets the values of a project's secrets. An error tells, for each that is missing, what to write where.
///
/// # Errors
/// When one that is needed is not to be had.
pub fn gather(
    config: &Config,
    project: &Path,
    secrets: &BTreeMap<String, Secret>,
    ask: &Ask<'_>,
) -> Result<SecretValues, String> {
    let (mut values, mut unknown, mut failed) = (BTreeMap::new(), Vec::new(), Vec::new());
    let sources = sources(config, project);
    for (name, secret) in secrets {
        match sources.get(name.as_str()).map(|source| value(name, source, ask)) {
            Some(Ok(value)) => drop(values.insert(name.clone(), value)),
            _ if secret.optional => {}
            Some(Err(why)) => failed.push(format!("the secret {name} is not to be had: {why}")),
            None => unknown.push((name, secret)),
        }
    }
    failed.extend((!unknown.is_empty()).then(|| lines_to_add(project, &unknown)));
    if failed.is_empty() { Ok(SecretValues(values)) } else { Err(failed.join("\n")) }
}

/// What the configuration says for a project: of several folders that it lies in, the innermost counts.
fn sources<'a>(config: &'a Config, project: &Path) -> BTreeMap<&'a str, &'a SecretSource> {
    let folders = crate::member::folders_of(&config.secrets, project);
    folders.into_iter().flatten().map(|(name, source)| (name.as_str(), source)).collect()
}

/// A path of the configuration, in which `~/` stands for the member's home.
pub(crate) fn expanded(path: &str) -> PathBuf {
    match (path.strip_prefix("~/"), env::var_os("HOME")) {
        (Some(rest), Some(home)) => Path::new(&home).join(rest),
        _ => PathBuf::from(path),
    }
}

/// What a member writes for secrets of which nothing is known yet.
fn lines_to_add(project: &Path, unknown: &[(&String, &Secret)]) -> String {
    let file = config_path().map_or_else(|| "config.toml".to_owned(), |path| path.display().to_string());
    let folder = toml::Value::String(project.display().to_string());
    let needs =
        unknown.iter().map(|(name, secret)| format!("this workspace needs the secret {name}: {}", secret.about));
    let head = [
        format!("    add to {file}, for each one of variable, file, command and ask:"),
        format!("    [secrets.{folder}]"),
    ];
    let lines = unknown.iter().map(|(name, _)| format!("    {name} = {{ command = [\"…\"] }}"));
    needs.chain(head).chain(lines).collect::<Vec<_>>().join("\n")
}

fn value(name: &str, source: &SecretSource, ask: &Ask<'_>) -> Result<String, String> {
    let SecretSource { variable, file, command, ask: typed } = source;
    let found = match (variable, file, command, typed) {
        (Some(variable), None, None, false) => {
            env::var(variable).map_err(|_| format!("the variable {variable} is not set"))?
        }
        (None, Some(file), None, false) => {
            let path = expanded(file);
            reading::text(&path).map_err(|error| format!("{}: {error}", path.display()))?
        }
        (None, None, Some(command), false) => registries::output(&format!("command of {name}"), command)?,
        (None, None, None, true) => ask(name).ok_or("it is typed, and there is no terminal to type it at")?,
        _ => return Err("config.toml has to say one of variable, file, command and ask = true".to_owned()),
    };
    let value = found.strip_suffix('\n').map(|value| value.strip_suffix('\r').unwrap_or(value)).unwrap_or(&found);
    match value.len() {
        0 => Err("it is empty".to_owned()),
        length if length > LONGEST => Err(format!("it has {length} bytes, and may have {LONGEST}")),
        _ if value.contains('\0') => Err("there is a zero byte in it".to_owned()),
        _ => Ok(value.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn config(text: &str) -> Config {
        toml::from_str(text).unwrap()
    }

    fn secret(optional: bool) -> Secret {
        let about = "a token".to_owned();
        Secret { about, variable: Some("TOKEN".to_owned()), file: false, services: None, steps: None, optional }
    }

    #[test]
    fn a_value_is_for_projects_in_its_folder_only_and_the_innermost_folder_counts() {
        let dir = tempfile::tempdir().unwrap();
        let top = dir.path().canonicalize().unwrap();
        for folder in ["ferry/timetable", "ferry/board", "other"] {
            std::fs::create_dir_all(top.join(folder)).unwrap();
        }
        std::fs::write(top.join("one"), "low water\n").unwrap();
        let config = config(&format!(
            "[secrets.\"{0}/ferry\"]\ntoken = {{ file = \"{0}/one\" }}\n[secrets.\"{0}/ferry/board\"]\ntoken = {{ command = [\"printf\", \"high\\nwater\"] }}\n",
            top.display()
        ));
        let wanted = BTreeMap::from([("token".to_owned(), secret(false))]);
        let gathered = |folder: &str| gather(&config, &top.join(folder), &wanted, &|_| None);
        assert_eq!(gathered("ferry/timetable").unwrap().get("token"), Some("low water"));
        assert_eq!(gathered("ferry/board").unwrap().get("token"), Some("high\nwater"));
        let why = gathered("other").unwrap_err();
        assert!(why.contains("a token") && why.contains("[secrets.\"") && why.contains("/other\"]"), "{why}");
        let optional = BTreeMap::from([("token".to_owned(), secret(true))]);
        assert_eq!(gather(&config, &top.join("other"), &optional, &|_| None).unwrap().get("token"), None);
        // Nothing of a value shows where somebody prints all that a program holds.
        assert_eq!(format!("{:?}", gathered("ferry/board").unwrap()), "{\"token\"}");
    }

    #[test]
    fn what_gives_nothing_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let top = dir.path().canonicalize().unwrap();
        let wanted = BTreeMap::from([("token".to_owned(), secret(false))]);
        for (source, why) in [
            ("variable = \"NOBODY_SET_THIS\"", "is not set"),
            ("file = \"/nowhere/at/all\"", "No such file"),
            ("command = [\"false\"]", "failed"),
            ("command = [\"printf\", \"\"]", "it is empty"),
            ("ask = true", "no terminal"),
            ("ask = true, variable = \"X\"", "one of"),
        ] {
            let config = config(&format!("[secrets.\"{}\"]\ntoken = {{ {source} }}\n", top.display()));
            let told = gather(&config, &top, &wanted, &|_| None).unwrap_err();
            assert!(told.contains(why), "{source}: {told}");
        }
    }
}
