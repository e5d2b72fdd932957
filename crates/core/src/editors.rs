//! Editors: the profiles that Cavrith brings, and settings in the language of each editor.

use serde_json::{Map, Value};

use crate::depot::{EditorProfile, Language, LaunchForm};
use crate::spec::{Editor, Launch};

/// The profiles that need no depot, by name. Their places are those at which the editors, as Debian builds them, look
/// for what belongs to every user of a machine.
pub fn profiles() -> Vec<EditorProfile> {
    let profile = |name: &str, extensions: &str, settings: &str, launch: &str, language| EditorProfile {
        name: name.to_owned(),
        extensions: extensions.to_owned(),
        settings: settings.to_owned(),
        launch: Some(launch.to_owned()),
        language,
        launch_form: LaunchForm::Own,
        open: Vec::new(),
    };
    vec![
        profile(
            "emacs",
            "/usr/local/share/emacs/site-lisp/{id}",
            "/etc/emacs/site-start.d/60team-settings.el",
            "/etc/emacs/site-start.d/61team-launch.el",
            Language::EmacsLisp,
        ),
        profile(
            "neovim",
            "/usr/local/share/nvim/site/pack/team/start/{id}",
            "/usr/local/share/nvim/site/plugin/team-settings.vim",
            "/usr/local/share/nvim/site/plugin/team-launch.vim",
            Language::VimScript,
        ),
        profile(
            "vim",
            "/etc/vim/pack/team/start/{id}",
            "/etc/vim/vimrc.local",
            "/etc/vim/plugin/team-launch.vim",
            Language::VimScript,
        ),
    ]
}

/// A place that an editor is to open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenedPlace {
    /// The workspace as a host of SSH.
    pub host: String,
    /// The path inside.
    pub path: String,
    /// The path outside; the one inside where the file is there only.
    pub file: String,
    /// The line, from 1.
    pub line: u32,
}

/// The program and arguments that open a place: in each word `{host}`, `{path}`, `{file}` and `{line}` are filled in,
/// and nothing else is read into it, so no name of a file can become another argument.
pub fn opening(words: &[String], place: &OpenedPlace) -> Vec<String> {
    let line = place.line.to_string();
    let named = [("{host}", &place.host), ("{path}", &place.path), ("{file}", &place.file), ("{line}", &line)];
    let fill = |word: &String| {
        let mut out = String::new();
        let mut rest = word.as_str();
        while let Some(at) = rest.find('{') {
            out.push_str(&rest[..at]);
            rest = &rest[at..];
            let found = named.iter().find(|(name, _)| rest.starts_with(name));
            let taken = match found {
                Some((name, value)) => {
                    out.push_str(value);
                    name.len()
                }
                None => {
                    out.push('{');
                    1
                }
            };
            rest = &rest[taken..];
        }
        out + rest
    };
    words.iter().map(fill).collect()
}

/// How a program that runs in the terminal, inside, is told to open a place.
pub fn opening_inside(program: &str, place: &OpenedPlace) -> Vec<String> {
    let mut words = vec![program.to_owned()];
    if program == "emacs" {
        words.push("-nw".to_owned());
    }
    match program {
        // Of the editors called vi some know no other way (POSIX, "vi").
        "vi" => words.extend(["-c".to_owned(), place.line.to_string()]),
        _ => words.push(format!("+{}", place.line)),
    }
    // It is absolute, and so is no option.
    words.push(place.path.clone());
    words
}

/// The text of a profile's settings file.
pub fn settings_text(settings: &Map<String, Value>, language: Language) -> String {
    match language {
        Language::Json => format!("{:#}\n", Value::Object(settings.clone())),
        Language::VimScript => settings.iter().map(|(name, value)| vim_setting(name, value)).collect(),
        Language::EmacsLisp => {
            let line =
                |(name, value): (&String, &Value)| format!("(setq-default {} {})\n", lisp_symbol(name), lisp(value));
            settings.iter().map(line).collect()
        }
    }
}

/// The text of the file that tells an editor how to start the project's programs: under each name the program, its
/// arguments, its directory, its variables, and the command that builds it.
///
/// With [`LaunchForm::DebugAdapter`] it is a list in the terms of the Debug Adapter Protocol ("Launch and Attach
/// requests", and what its clients have in common): what a profile's editor makes of a `type` is its own business.
pub fn launch_text(editor: &Editor, project: &str, profile: &EditorProfile) -> String {
    let all = match profile.launch_form {
        LaunchForm::Own => {
            let entries = editor.launch.iter().map(|(name, launch)| (name.clone(), launch_value(launch, project)));
            Value::Object(entries.collect())
        }
        LaunchForm::DebugAdapter => {
            let entries = editor.launch.iter().map(|(name, launch)| adapter_value(name, launch, project));
            Value::Array(entries.collect())
        }
    };
    match profile.language {
        Language::Json => settings_text(&Map::from_iter([("launch".to_owned(), all)]), profile.language),
        Language::VimScript => format!("let g:team_launch = {}\n", vim(&all)),
        Language::EmacsLisp => format!("(setq-default team-launch {})\n", lisp(&all)),
    }
}

fn adapter_value(name: &str, launch: &Launch, project: &str) -> Value {
    let directory = launch.directory.as_ref().map_or_else(|| project.to_owned(), ToString::to_string);
    let mut value = serde_json::json!({
        "name": name,
        "request": if launch.attach { "attach" } else { "launch" },
        "program": launch.program,
        "args": launch.arguments,
        "cwd": directory,
    });
    if let Value::Object(entries) = &mut value {
        entries.extend(launch.debugger.iter().map(|debugger| ("type".to_owned(), debugger.clone().into())));
        entries.extend(launch.build.iter().map(|build| ("preLaunch".to_owned(), build.clone().into())));
        if !launch.env.is_empty() {
            entries.insert("env".to_owned(), serde_json::json!(launch.env));
        }
    }
    value
}

fn launch_value(launch: &Launch, project: &str) -> Value {
    let directory = launch.directory.as_ref().map_or_else(|| project.to_owned(), ToString::to_string);
    let mut value =
        serde_json::json!({ "program": launch.program, "arguments": launch.arguments, "directory": directory });
    if let Value::Object(entries) = &mut value {
        if let Some(build) = &launch.build {
            entries.insert("build".to_owned(), build.clone().into());
        }
        if !launch.env.is_empty() {
            entries.insert("env".to_owned(), serde_json::json!(launch.env));
        }
    }
    value
}

/// An option is set; a name with a scope before it (`g:`, `b:` …) is a variable.
fn vim_setting(name: &str, value: &Value) -> String {
    if name.contains(':') {
        return format!("let {name} = {}\n", vim(value));
    }
    match value {
        Value::Bool(true) => format!("set {name}\n"),
        Value::Bool(false) => format!("set no{name}\n"),
        // Assigning to an option takes any text, while `set` has an escaping of its own.
        value => format!("let &{name} = {}\n", vim(value)),
    }
}

fn vim(value: &Value) -> String {
    match value {
        Value::Null => "v:null".to_owned(),
        Value::Bool(flag) => format!("v:{flag}"),
        Value::Number(number) => number.to_string(),
        Value::String(text) if text.chars().any(char::is_control) => {
            let escaped: String = text.chars().map(vim_letter).collect();
            format!("\"{escaped}\"")
        }
        Value::String(text) => format!("'{}'", text.replace('\'', "''")),
        Value::Array(items) => format!("[{}]", items.iter().map(vim).collect::<Vec<_>>().join(", ")),
        Value::Object(entries) => {
            let entry = |(name, value): (&String, &Value)| format!("{}: {}", vim(&name.as_str().into()), vim(value));
            format!("{{{}}}", entries.iter().map(entry).collect::<Vec<_>>().join(", "))
        }
    }
}

/// A letter between double quotes.
fn vim_letter(letter: char) -> String {
    match letter {
        '"' | '\\' => format!("\\{letter}"),
        letter if letter.is_control() => format!("\\u{:04x}", letter as u32),
        letter => letter.to_string(),
    }
}

fn lisp_symbol(name: &str) -> String {
    let plain = |letter: char| letter.is_alphanumeric() || "-+*/_~!@$%^&=:<>{}".contains(letter);
    name.chars().map(|letter| if plain(letter) { letter.to_string() } else { format!("\\{letter}") }).collect()
}

fn lisp(value: &Value) -> String {
    match value {
        Value::Null | Value::Bool(false) => "nil".to_owned(),
        Value::Bool(true) => "t".to_owned(),
        Value::Number(number) => number.to_string(),
        Value::String(text) => format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")),
        Value::Array(items) => {
            format!("(list{})", items.iter().map(|item| format!(" {}", lisp(item))).collect::<String>())
        }
        Value::Object(entries) => {
            let entry =
                |(name, value): (&String, &Value)| format!(" (cons {} {})", lisp(&name.as_str().into()), lisp(value));
            format!("(list{})", entries.iter().map(entry).collect::<String>())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn launch_files_are_in_the_terms_that_the_profile_has() {
        let launch = Launch {
            program: "quill".to_owned(),
            arguments: vec!["serve".to_owned()],
            build: Some("quill draw pages".to_owned()),
            directory: None,
            env: std::collections::BTreeMap::from([("PORT".to_owned(), "8080".to_owned())]),
            debugger: Some("quill-debug".to_owned()),
            attach: false,
        };
        let editor = Editor {
            span: 0..0,
            profile: None,
            extensions: std::collections::BTreeMap::new(),
            settings: Map::new(),
            launch: std::collections::BTreeMap::from([("site".to_owned(), launch)]),
        };
        let mut profile = profiles().remove(0);
        (profile.language, profile.launch_form) = (Language::Json, LaunchForm::DebugAdapter);
        let text: Value = serde_json::from_str(&launch_text(&editor, "/code", &profile)).unwrap();
        let wanted = serde_json::json!([{
            "name": "site", "type": "quill-debug", "request": "launch", "program": "quill", "args": ["serve"],
            "cwd": "/code", "env": { "PORT": "8080" }, "preLaunch": "quill draw pages",
        }]);
        assert_eq!(text["launch"], wanted);
        profile.launch_form = LaunchForm::Own;
        let text: Value = serde_json::from_str(&launch_text(&editor, "/code", &profile)).unwrap();
        assert_eq!(text["launch"]["site"]["arguments"], serde_json::json!(["serve"]));
    }

    #[test]
    fn a_place_is_filled_in_and_is_never_read_as_something_to_fill_in() {
        let place = OpenedPlace {
            host: "timetable.cavrith".to_owned(),
            path: "/code/{line} a.py".to_owned(),
            file: "/home/tove/{host}".to_owned(),
            line: 12,
        };
        let words = ["lantern", "--at={host}", "{path}:{line}", "{file}", "{other}{"].map(str::to_owned);
        assert_eq!(
            opening(&words, &place),
            ["lantern", "--at=timetable.cavrith", "/code/{line} a.py:12", "/home/tove/{host}", "{other}{"]
        );
        assert_eq!(opening_inside("emacs", &place), ["emacs", "-nw", "+12", "/code/{line} a.py"]);
    }
    use serde_json::json;

    fn settings() -> Map<String, Value> {
        let value = json!({ "number": true, "wrap": false, "tabstop": 4, "g:tide": { "dir": "it's", "n": [1, null] }, "titlestring": "a\n\"b\"" });
        match value {
            Value::Object(settings) => settings,
            _ => unreachable!(),
        }
    }

    #[test]
    fn settings_are_written_in_each_editors_own_language() {
        assert_eq!(
            settings_text(&settings(), Language::VimScript),
            "let g:tide = {'dir': 'it''s', 'n': [1, v:null]}\nset number\nlet &tabstop = 4\nlet &titlestring = \"a\\u000a\\\"b\\\"\"\nset nowrap\n"
        );
        assert_eq!(
            settings_text(&settings(), Language::EmacsLisp),
            "(setq-default g:tide (list (cons \"dir\" \"it's\") (cons \"n\" (list 1 nil))))\n(setq-default number t)\n(setq-default tabstop 4)\n(setq-default titlestring \"a\n\\\"b\\\"\")\n(setq-default wrap nil)\n"
        );
        assert!(settings_text(&settings(), Language::Json).starts_with("{\n  \"g:tide\""));
    }

    #[test]
    fn the_profiles_are_sorted_and_have_places_inside() {
        let profiles = profiles();
        assert!(profiles.is_sorted_by(|a, b| a.name < b.name));
        assert!(
            profiles.iter().all(|profile| profile.settings.starts_with('/') && profile.extensions.contains("{id}"))
        );
    }
}
