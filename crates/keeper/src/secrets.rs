//! Secrets of a workspace: variables of what runs inside, files in memory, and nothing in a log.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::spec::Secret;
use cavrith_core::spec::secret::Runs;
use cavrith_engine::secret_values::SecretValues;
use cavrith_sandbox::Identity;
use cavrith_sandbox::ground::{Dress, Ground};

/// What stands in a log where a secret was written.
const HIDDEN: &str = "[secret]";
/// A value that is shorter is no secret to anybody, and would be found in every other word.
const SHORTEST: usize = 4;

/// The variables of a service, or of a step or command.
pub(crate) fn variables(
    secrets: &BTreeMap<String, Secret>,
    values: &SecretValues,
    who: Runs<'_>,
) -> BTreeMap<String, String> {
    let has = secrets.iter().filter(|(_, secret)| secret.is_for(who));
    has.filter_map(|(name, secret)| Some((secret.variable.clone()?, values.get(name)?.to_owned()))).collect()
}

/// Writes the files into the memory of the workspace whose first process this is; nothing else runs there yet.
///
/// # Errors
/// When the sandbox does not let it be written.
pub(crate) fn lay(
    process: u32,
    secrets: &BTreeMap<String, Secret>,
    values: &SecretValues,
    identity: Identity,
) -> io::Result<()> {
    let files = secrets.iter().filter(|(_, secret)| secret.file);
    let files: Vec<_> = files.filter_map(|(name, _)| Some((name, values.get(name)?))).collect();
    if files.is_empty() {
        return Ok(());
    }
    // Where there is one owner, everything is theirs.
    let owner = |id| (!identity.records_owners()).then_some((id, id));
    let root = Ground::open(Path::new(&format!("/proc/{process}/root")))?;
    let directory = PathBuf::from(cavrith_core::spec::secret::DIRECTORY.trim_start_matches('/'));
    root.directory(&directory)?;
    for (name, value) in files {
        let dress = Dress { mode: 0o400, owner: owner(ACCOUNT_ID), modified: crate::record::now() / 1000 };
        root.file(&directory.join(name), &mut value.as_bytes(), &dress)?;
    }
    root.dress(&directory, &Dress { mode: 0o755, owner: owner(0), modified: crate::record::now() / 1000 })
}

/// Texts that no log may have: each line of each value.
pub(crate) fn hidden(values: &SecretValues) -> Vec<String> {
    let lines = values.values().flat_map(str::lines).filter(|line| line.len() >= SHORTEST);
    let mut lines: Vec<_> = lines.map(str::to_owned).collect();
    // A longer one may have a shorter one in it.
    lines.sort_by_key(|line| std::cmp::Reverse(line.len()));
    lines.dedup();
    lines
}

/// A line as it may be kept.
pub(crate) fn masked(line: &str, hidden: &[String]) -> String {
    hidden.iter().fold(line.to_owned(), |line, text| line.replace(text, HIDDEN))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_line_of_a_value_is_left_in_a_log_and_short_ones_hide_nothing() {
        let values: SecretValues =
            serde_json::from_str(r#"{"a": "low-water", "b": "low-water-mark\nsecond line\n", "c": "x"}"#).unwrap();
        let hidden = hidden(&values);
        assert_eq!(
            masked("token low-water, low-water-mark, second line, x", &hidden),
            "token [secret], [secret], [secret], x"
        );
    }
}
