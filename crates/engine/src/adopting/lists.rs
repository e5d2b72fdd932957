//! Lists of a TOML document, changed as a person would: an entry on a line as the others are, comments where they were.

use toml_edit::{Array, Value};

/// Adds a text to a list, written as its other entries are; a comment behind the last one stays with it.
pub(super) fn push(list: &mut Array, text: String) {
    let last = list.len().checked_sub(1).and_then(|last| list.get(last));
    let prefix = last.and_then(|last| last.decor().prefix()).and_then(|prefix| prefix.as_str()).unwrap_or(" ");
    let indent = prefix.rsplit('\n').next().unwrap_or_default().to_owned();
    let on_lines = prefix.contains('\n');
    let mut item = Value::from(text);
    let trailing = list.trailing().as_str().unwrap_or_default().to_owned();
    match (list.is_empty(), on_lines) {
        (true, _) => {}
        (false, true) => {
            // What stands behind the last entry stays behind it.
            let mut behind = trailing;
            if !list.trailing_comma()
                && let Some(last) = list.len().checked_sub(1).and_then(|last| list.get_mut(last))
            {
                behind = last.decor().suffix().and_then(|suffix| suffix.as_str()).unwrap_or_default().to_owned();
                last.decor_mut().set_suffix("");
            }
            let behind = behind.trim_end();
            *item.decor_mut() = toml_edit::Decor::new(format!("{behind}\n{indent}"), "");
            list.set_trailing_comma(true);
            list.set_trailing("\n");
        }
        (false, false) => *item.decor_mut() = toml_edit::Decor::new(" ", ""),
    }
    list.push_formatted(item);
}

/// Takes an entry out of a list, with the comment behind it.
pub(super) fn remove(list: &mut Array, place: usize) {
    let first = place == 0;
    let prefix = list.get(place).and_then(|item| item.decor().prefix()).and_then(|prefix| prefix.as_str());
    let prefix = prefix.unwrap_or_default().to_owned();
    list.remove(place);
    let Some(next) = list.get_mut(place) else {
        // It was the last one; a comment behind the one before it stood before it.
        if let Some((behind, _)) = prefix.split_once('\n') {
            list.set_trailing(format!("{behind}\n"));
        }
        return;
    };
    // Up to the end of the line stands what is behind the entry before: that stays, and what is behind this one goes.
    let decor = next.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default().to_owned();
    let kept = match (prefix.split_once('\n'), decor.split_once('\n')) {
        (Some((behind, _)), Some((_, rest))) => format!("{behind}\n{rest}"),
        (Some(_), None) => prefix,
        (None, _) if first => prefix,
        (None, _) => decor,
    };
    next.decor_mut().set_prefix(kept);
}

#[cfg(test)]
mod tests {
    use toml_edit::DocumentMut;

    use super::*;

    fn pushed(list: &str) -> String {
        let mut document: DocumentMut = format!("packages = {list}\n").parse().unwrap();
        push(document["packages"].as_array_mut().unwrap(), "tree".to_owned());
        document.to_string()
    }

    fn removed(list: &str, place: usize) -> String {
        let mut document: DocumentMut = format!("packages = {list}\n").parse().unwrap();
        remove(document["packages"].as_array_mut().unwrap(), place);
        document.to_string()
    }

    #[test]
    fn an_entry_is_added_as_the_others_are_written() {
        assert_eq!(pushed("[\"git\"]"), "packages = [\"git\", \"tree\"]\n");
        assert_eq!(pushed("[]"), "packages = [\"tree\"]\n");
        assert_eq!(
            pushed("[\n    \"git\", # for all\n    \"nano\", # Ida's\n]"),
            "packages = [\n    \"git\", # for all\n    \"nano\", # Ida's\n    \"tree\",\n]\n"
        );
        assert_eq!(pushed("[\n  \"git\",\n  \"nano\"\n]"), "packages = [\n  \"git\",\n  \"nano\",\n  \"tree\",\n]\n");
    }

    #[test]
    fn an_entry_goes_with_its_comment() {
        let list = "[\n    \"git\", # for all\n    \"nano\", # Ida's\n    \"vim\",\n]";
        assert_eq!(removed(list, 0), "packages = [\n    \"nano\", # Ida's\n    \"vim\",\n]\n");
        assert_eq!(removed(list, 1), "packages = [\n    \"git\", # for all\n    \"vim\",\n]\n");
        assert_eq!(removed(list, 2), "packages = [\n    \"git\", # for all\n    \"nano\", # Ida's\n]\n");
        let one = "[\n    \"git\", # for all\n    \"nano\",\n    # the best\n    \"vim\",\n]";
        assert_eq!(removed(one, 1), "packages = [\n    \"git\", # for all\n    # the best\n    \"vim\",\n]\n");
        assert_eq!(removed(one, 0), "packages = [\n    \"nano\",\n    # the best\n    \"vim\",\n]\n");
        assert_eq!(removed("[\"git\", \"nano\"]", 0), "packages = [\"nano\"]\n");
        assert_eq!(removed("[\"git\", \"nano\"]", 1), "packages = [\"git\"]\n");
    }
}
