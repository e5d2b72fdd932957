//! Changing a spec as people would: one line more, everything else as it was.

use std::path::Path;

use cavrith_core::spec::FILE_NAME;
use toml_edit::{DocumentMut, InlineTable, Item, Table, value};

use crate::error::{EngineError, ProjectError, file_error};

/// Writes an extension into the spec, or another version of one that is there. Returns the version that stood there.
///
/// # Errors
/// When the spec is no TOML, or has something else in the place.
pub fn add_extension(dir: &Path, id: &str, version: &str) -> Result<Option<String>, EngineError> {
    let path = dir.join(FILE_NAME);
    let text = cavrith_store::reading::text(&path).map_err(file_error("read", &path))?;
    let (text, before) = with_extension(&text, id, version)?;
    cavrith_store::atomic::write_unlinked(&path, text.as_bytes())?;
    Ok(before)
}

fn with_extension(text: &str, id: &str, version: &str) -> Result<(String, Option<String>), EngineError> {
    let cannot = |why: String| ProjectError::SpecUnchangeable { why };
    let mut document: DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| cannot(error.message().to_owned()))?;
    let editor = document.entry("editor").or_insert_with(|| Item::Table(Table::new()));
    let editor = editor.as_table_like_mut().ok_or_else(|| cannot("`editor` is not a table".to_owned()))?;
    let extensions = editor.entry("extensions").or_insert_with(|| value(InlineTable::new()));
    let extensions =
        extensions.as_table_like_mut().ok_or_else(|| cannot("`editor.extensions` is not a table".to_owned()))?;
    let before = extensions.get(id).and_then(|item| item.as_str()).map(str::to_owned);
    match extensions.get_mut(id).and_then(Item::as_value_mut) {
        Some(there) => {
            // What stands around the value, a comment behind it, stays.
            let decor = there.decor().clone();
            *there = version.into();
            *there.decor_mut() = decor;
        }
        None => drop(extensions.insert(id, value(version))),
    }
    Ok((document.to_string(), before))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn added(text: &str) -> String {
        with_extension(text, "brindle.quill-syntax", "1.2").unwrap().0
    }

    #[test]
    fn the_line_is_written_wherever_the_table_is_and_comments_stay() {
        let inline =
            "# ours\n[editor] # the team's\nextensions = { \"a.b\" = \"1\" } # more to come\n\n[env]\nA = \"1\"\n";
        let expected =
            inline.replace("{ \"a.b\" = \"1\" }", "{ \"a.b\" = \"1\" , \"brindle.quill-syntax\" = \"1.2\" }");
        assert_eq!(added(inline).replace(" , ", ", "), expected.replace(" , ", ", "));
        let table = "[editor.extensions]\n# lights\n\"a.b\" = \"1\"   # old\n";
        assert_eq!(
            added(table),
            "[editor.extensions]\n# lights\n\"a.b\" = \"1\"   # old\n\"brindle.quill-syntax\" = \"1.2\"\n"
        );
        assert_eq!(added("spec = 1\n"), "spec = 1\n\n[editor]\nextensions = { \"brindle.quill-syntax\" = \"1.2\" }\n");
    }

    #[test]
    fn another_version_takes_the_place_of_the_first_one() {
        let text = "[editor.extensions]\n\"brindle.quill-syntax\" = \"1.1\" # pinned for the festival\n";
        let (text, before) = with_extension(text, "brindle.quill-syntax", "1.2").unwrap();
        assert_eq!(text, "[editor.extensions]\n\"brindle.quill-syntax\" = \"1.2\" # pinned for the festival\n");
        assert_eq!(before.as_deref(), Some("1.1"));
    }

    #[test]
    fn a_spec_with_something_else_in_the_place_is_left_alone() {
        assert!(with_extension("editor = 1\n", "a.b", "1").is_err());
        assert!(with_extension("not toml", "a.b", "1").is_err());
    }
}
