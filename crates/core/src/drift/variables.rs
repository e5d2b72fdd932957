//! Variables that somebody set in a shell's file.

use similar::{ChangeTag, TextDiff};

use super::{Finding, Open, Side};
use crate::path::RootPath;
use crate::tree::Kind;

/// Files of shells in a home.
const IN_HOME: [&str; 8] =
    [".bashrc", ".bash_profile", ".bash_login", ".profile", ".zshrc", ".zshenv", ".zprofile", ".kshrc"];
/// Files of all shells.
const FOR_ALL: [&str; 4] = ["/etc/environment", "/etc/profile", "/etc/bash.bashrc", "/etc/zsh/zshenv"];

/// Variables that were set; a file in which nothing else was changed is told by them alone.
pub(super) fn explain(open: &mut Open<'_>) -> Vec<Finding> {
    let mut files: Vec<String> = FOR_ALL.iter().map(|file| (*file).to_owned()).collect();
    for home in [open.observed.home, "/root"] {
        files.extend(IN_HOME.iter().map(|name| format!("{home}/{name}")));
    }
    let profiles = open.changes.keys().map(ToString::to_string).filter(|path| path.starts_with("/etc/profile.d/"));
    files.extend(profiles.collect::<Vec<_>>());
    let mut findings = Vec::new();
    for file in files {
        let Ok(path) = RootPath::from_absolute(&file) else { continue };
        let is_file = matches!(open.observed.here.get(&path).map(|entry| &entry.kind), Some(Kind::File { .. }));
        if !open.changes.contains_key(&path) || !is_file {
            continue;
        }
        let before = open.text(Side::Image, &file).unwrap_or_default();
        let Some(after) = open.text(Side::Here, &file) else { continue };
        let diff = TextDiff::from_lines(&before, &after);
        let mut only = true;
        let mut set = Vec::new();
        for change in diff.iter_all_changes() {
            let line = change.value().trim();
            match (change.tag(), variable(line)) {
                (ChangeTag::Equal, _) => {}
                (ChangeTag::Insert, Some((name, value))) => {
                    set.push(Finding::Variable { name, value, file: file.clone() });
                }
                (ChangeTag::Insert | ChangeTag::Delete, _) if line.is_empty() || line.starts_with('#') => {}
                // Another value takes the place of the one that stood there.
                (ChangeTag::Delete, Some(_)) => {}
                _ => only = false,
            }
        }
        if set.is_empty() {
            continue;
        }
        findings.extend(set);
        if only {
            open.take(&file, &path);
        }
    }
    findings
}

/// The variable that a line sets, and its value, when that is a plain text.
fn variable(line: &str) -> Option<(String, String)> {
    let line = line.strip_prefix("export ").unwrap_or(line).trim();
    let (name, value) = line.split_once('=')?;
    let good = |letter: char| letter.is_ascii_alphanumeric() || letter == '_';
    if name.is_empty() || !name.chars().all(good) || name.starts_with(|first: char| first.is_ascii_digit()) {
        return None;
    }
    let quoted = |mark: char| value.strip_prefix(mark).and_then(|rest| rest.strip_suffix(mark));
    let value = match (quoted('\''), quoted('"')) {
        (Some(inner), _) if !inner.contains('\'') => inner,
        (None, Some(inner)) if !inner.contains(['$', '`', '\\', '"']) => inner,
        (None, None)
            if !value.contains(|letter: char| letter.is_whitespace() || "$`\\\"';&|<>()*?~#".contains(letter)) =>
        {
            value
        }
        _ => return None,
    };
    Some((name.to_owned(), value.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::variable;

    #[test]
    fn plain_values_are_variables_and_others_are_not() {
        for (line, value) in [
            ("export TIDE=7", Some("7")),
            ("TIDE=7", Some("7")),
            ("export TIDE='high water'", Some("high water")),
            ("export TIDE=\"high water\"", Some("high water")),
            ("export TIDE=", Some("")),
            ("export TIDE=$(date)", None),
            ("export TIDE=\"$HOME/x\"", None),
            ("TIDE=7 run", None),
            ("alias ll='ls -l'", None),
            ("if [ x = y ]", None),
            ("7TIDE=1", None),
        ] {
            assert_eq!(variable(line).map(|(_, value)| value).as_deref(), value, "{line}");
        }
    }
}
