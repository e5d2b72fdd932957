//! The table `[personal]`: where a member's own counts before the team's.

use std::collections::BTreeSet;

use super::At;
use super::reader::{Reader, TableAt, Texts};
use super::rules;
use crate::path::RootPath;

/// What members may have otherwise than the team.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MembersChoice {
    /// Variables.
    pub env: BTreeSet<String>,
    /// Settings of the editor.
    pub settings: BTreeSet<String>,
    /// Files and directories inside.
    pub files: Vec<RootPath>,
}

impl MembersChoice {
    /// Whether a path inside is a member's to choose.
    pub fn has(&self, path: &RootPath) -> bool {
        self.files.iter().any(|file| file == path || path.lies_in(file))
    }
}

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>) -> MembersChoice {
    let mut names = |name: &str| -> Vec<At<String>> {
        let texts: Option<Texts> = reader.texts(table, name);
        texts.map(|texts| texts.value).unwrap_or_default()
    };
    let env = names("env").into_iter().map(|name| name.value).collect();
    let settings = names("settings").into_iter().map(|name| name.value).collect();
    let files = names("files");
    let files = files.into_iter().filter_map(|path| rules::inside_path(reader, "files", path)).map(|path| path.value);
    MembersChoice { env, settings, files: files.collect() }
}
