//! Templates: files of a project whose placeholders are filled in with what the spec and the lock say.

use std::collections::BTreeMap;

use minijinja::{Environment, ErrorKind, UndefinedBehavior, context};
use serde::Serialize;

use crate::lock::Lock;
use crate::spec::Spec;

/// Steps of the template engine; enough for any file, and an end for one that never does.
const FUEL: u64 = 2_000_000;
/// Bytes that a template may become.
const LONGEST: usize = 16 << 20;

/// What a template may name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Names {
    /// `workspace.name`, `.account`, `.home`, `.project`.
    pub workspace: BTreeMap<String, String>,
    /// `env.NAME`.
    pub env: BTreeMap<String, String>,
    /// `ports.NAME`: the inside number.
    pub ports: BTreeMap<String, u16>,
    /// `toolchains.NAME.version` and `.place`.
    pub toolchains: BTreeMap<String, BTreeMap<String, String>>,
}

impl Names {
    /// What a template of this spec and lock may name, in a step with these variables.
    pub fn new(spec: &Spec, lock: &Lock, env: &BTreeMap<String, String>) -> Self {
        let account = &spec.workspace.account.value;
        let workspace = [
            ("name", spec.workspace.name.value.clone()),
            ("account", account.clone()),
            ("home", crate::account::home(account)),
            ("project", spec.workspace.project.value.to_string()),
        ];
        let own = lock.toolchains.iter().filter(|pin| !pin.also);
        let toolchain = |pin: &crate::lock::ToolchainPin| {
            let facts = [("version".to_owned(), pin.version.to_string()), ("place".to_owned(), pin.place.clone())];
            (pin.name.clone(), BTreeMap::from(facts))
        };
        Self {
            workspace: workspace.map(|(name, value)| (name.to_owned(), value)).into(),
            env: env.clone(),
            ports: spec.ports.iter().map(|port| (port.name.value.clone(), port.inside.value)).collect(),
            toolchains: own.map(toolchain).collect(),
        }
    }
}

/// Why a template cannot be filled in.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {message}")]
pub struct BadTemplate {
    /// Line in the template, from 1.
    pub line: usize,
    /// What is wrong.
    pub message: String,
    /// It is not the form that is wrong: it names something that is not there.
    pub unknown_name: bool,
}

/// Fills in a template.
///
/// # Errors
/// When it is none, names something that is not there, or never comes to an end.
pub fn fill_in(text: &str, names: &Names) -> Result<String, BadTemplate> {
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment.set_keep_trailing_newline(true);
    environment.set_fuel(Some(FUEL));
    environment.set_recursion_limit(50);
    let filled =
        environment.render_str(text, context! { ..minijinja::Value::from_serialize(names) }).map_err(|error| {
            let message = error.detail().map_or_else(|| error.kind().to_string(), str::to_owned);
            let unknown_name = error.kind() == ErrorKind::UndefinedError;
            let message = if unknown_name { "it names something that is not there".to_owned() } else { message };
            BadTemplate { line: error.line().unwrap_or(1), message, unknown_name }
        })?;
    if filled.len() > LONGEST {
        let message = format!("it becomes longer than {} MiB", LONGEST >> 20);
        return Err(BadTemplate { line: 1, message, unknown_name: false });
    }
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names() -> Names {
        Names {
            workspace: BTreeMap::from([("name".to_owned(), "timetable".to_owned())]),
            env: BTreeMap::from([("SITE_PORT".to_owned(), "8080".to_owned())]),
            ports: BTreeMap::from([("site".to_owned(), 8080)]),
            toolchains: BTreeMap::new(),
        }
    }

    #[test]
    fn placeholders_are_filled_in_and_the_rest_stays() {
        let text = "{{ workspace.name }}:{{ env.SITE_PORT }}\n{% for port in ports.values() %}{{ port }}{% endfor %}\n";
        let text = text.replace(".values()", "|items");
        assert_eq!(fill_in(&text, &names()).unwrap(), "timetable:8080\n[\"site\", 8080]\n");
        assert_eq!(fill_in("no braces, <b>&\n", &names()).unwrap(), "no braces, <b>&\n");
    }

    #[test]
    fn what_cannot_be_filled_in_is_told_with_its_line() {
        let error = fill_in("a\n{{ env.PORT }}\n", &names()).unwrap_err();
        assert_eq!((error.line, error.unknown_name), (2, true));
        assert!(!fill_in("{% if %}", &names()).unwrap_err().unknown_name);
        assert!(
            fill_in("{% for a in range(9999) %}{% for b in range(9999) %}x{% endfor %}{% endfor %}", &names()).is_err()
        );
    }
}
