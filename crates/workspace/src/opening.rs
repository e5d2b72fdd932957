//! Opening a place of a project with the member's editor.

use std::path::Path;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::depot::EditorProfile;
use cavrith_core::editors::OpenedPlace;
use cavrith_core::speech::Folders;
use cavrith_engine::member::Config;
use cavrith_keeper::place::Place;

use crate::WorkspaceError;
use crate::speaking::live_folders;
use crate::ssh_config::SUFFIX;

/// Programs that open places in a terminal, in the order in which they are looked for inside.
pub const IN_TERMINAL: [&str; 5] = ["nvim", "vim", "emacs", "nano", "vi"];

/// What opens a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Opener {
    /// A program inside, in this terminal.
    Inside(String),
    /// A command of this machine, which the member wrote down.
    Own(Vec<String>),
    /// A command of this machine that the team's editor profile has; nothing runs before the member said so.
    Team(String, Vec<String>),
    /// Whatever of [`IN_TERMINAL`] is inside.
    Any,
}

/// Which editor opens a place: the one that was typed, the member's, the team's, one of the environment's, any.
///
/// # Errors
/// When the one that was typed, or that the configuration names, is not known.
pub fn opener(typed: Option<&str>, config: &Config, profile: Option<&EditorProfile>) -> Result<Opener, WorkspaceError> {
    let wanted = typed.or(config.personal.editor.as_deref());
    let in_terminal = |name: &str| {
        let program = if name == "neovim" { "nvim" } else { name };
        IN_TERMINAL.contains(&program).then(|| Opener::Inside(program.to_owned()))
    };
    let of_team = |profile: &EditorProfile| match profile.open.is_empty() {
        true => in_terminal(&profile.name),
        false => Some(Opener::Team(profile.name.clone(), profile.open.clone())),
    };
    let Some(name) = wanted else {
        return Ok(profile.and_then(of_team).unwrap_or(Opener::Any));
    };
    let own = config.editors.get(name).filter(|editor| !editor.command.is_empty());
    let own = own.map(|editor| Opener::Own(editor.command.clone()));
    let team = || profile.filter(|profile| profile.name == name).and_then(of_team);
    own.or_else(team).or_else(|| in_terminal(name)).ok_or_else(|| WorkspaceError::NoEditor(name.to_owned()))
}

/// The place that is meant by a path outside or inside, with `:LINE` or without.
///
/// # Errors
/// When it is outside, and no folder of the workspace.
pub fn place(
    workspace: &Place,
    arrangement: &Arrangement,
    text: Option<&str>,
    here: &Path,
) -> Result<OpenedPlace, WorkspaceError> {
    let host = format!("{}{SUFFIX}", workspace.name);
    let text = text.unwrap_or(".");
    let (path, line) = match text.rsplit_once(':') {
        Some((path, line)) if line.parse::<u32>().is_ok_and(|line| line > 0) => (path, line.parse().unwrap_or(1)),
        _ => (text, 1),
    };
    let pairs = live_folders(workspace, arrangement)?.into_iter();
    let pairs = pairs.filter_map(|(outside, folder)| Some((outside.to_str()?.to_owned(), folder.inside.clone())));
    let folders = Folders::new(pairs.collect());
    let outside = here.join(path);
    // One that is to be made there lies in a folder that is there.
    let real =
        outside.canonicalize().ok().or_else(|| Some(outside.parent()?.canonicalize().ok()?.join(outside.file_name()?)));
    let inside = real.as_deref().and_then(Path::to_str).and_then(|real| folders.there(real));
    if let (Some(inside), Some(real)) = (inside, real) {
        return Ok(OpenedPlace { host, path: inside, file: real.display().to_string(), line });
    }
    // A path inside is seen from its root.
    if !path.starts_with('/') {
        return Err(WorkspaceError::Elsewhere(path.to_owned()));
    }
    let path = cavrith_core::speech::normal(path);
    Ok(OpenedPlace { host, file: path.clone(), path, line })
}

#[cfg(test)]
mod tests {
    use super::*;
    use cavrith_core::depot::{Language, LaunchForm};

    #[test]
    fn the_member_s_own_editor_counts_before_the_team_s() {
        let profile = |name: &str, open: &[&str]| EditorProfile {
            name: name.to_owned(),
            extensions: String::new(),
            settings: String::new(),
            launch: None,
            language: Language::Json,
            launch_form: LaunchForm::Own,
            open: open.iter().map(|word| (*word).to_owned()).collect(),
        };
        let team = profile("lantern", &["lantern", "{path}"]);
        let own: Config = toml::from_str("[editors.lamp]\ncommand = [\"lamp\", \"{file}\"]").unwrap();
        let mine: Config =
            toml::from_str("[personal]\neditor = \"lamp\"\n[editors.lamp]\ncommand = [\"lamp\", \"{file}\"]").unwrap();
        let lamp = Opener::Own(vec!["lamp".to_owned(), "{file}".to_owned()]);
        let lantern = Opener::Team("lantern".to_owned(), team.open.clone());
        assert_eq!(opener(None, &own, Some(&team)).unwrap(), lantern);
        assert_eq!(opener(None, &mine, Some(&team)).unwrap(), lamp);
        assert_eq!(opener(Some("lantern"), &mine, Some(&team)).unwrap(), lantern);
        assert_eq!(opener(Some("neovim"), &mine, Some(&team)).unwrap(), Opener::Inside("nvim".to_owned()));
        assert_eq!(opener(None, &own, Some(&profile("vim", &[]))).unwrap(), Opener::Inside("vim".to_owned()));
        assert_eq!(opener(None, &own, None).unwrap(), Opener::Any);
        assert!(opener(Some("torch"), &own, Some(&team)).unwrap_err().to_string().contains("[editors.torch]"));
    }
}
