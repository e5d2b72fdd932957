//! The documentation says what the program does: commands' help, the guide's outputs, and every spec on its pages.
//!
//! With `UPDATE_DOCS=1` the pages are written anew instead.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::LazyLock;

use cavrith_core::debian::languages::{LANGUAGES, SUITES};

use crate::team::{PROGRAM, Team, told};

fn page(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name)
}

/// Holds a page against what it should be, or writes it.
fn hold(name: &str, wanted: &str) {
    let path = page(name);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(path, wanted).unwrap();
        return;
    }
    let there = fs::read_to_string(&path).unwrap_or_default();
    let differs = there.lines().zip(wanted.lines()).position(|(one, other)| one != other);
    let line = differs.unwrap_or_else(|| there.lines().count().min(wanted.lines().count()));
    let near = |text: &str| text.lines().skip(line).take(3).collect::<Vec<_>>().join("\n");
    assert!(
        there == wanted,
        "docs/{name}:{} says\n{}\nand should say\n{}\nUPDATE_DOCS=1 writes it anew",
        line + 1,
        near(&there),
        near(wanted)
    );
}

fn help(words: &[&str]) -> String {
    let output = Command::new(PROGRAM).args(words).arg("--help").env("COLUMNS", "100").output().unwrap();
    assert!(output.status.success(), "{words:?}: {}", told(&output));
    String::from_utf8(output.stdout).unwrap()
}

/// The names of the commands that a help text lists.
fn listed(help: &str) -> Vec<String> {
    let commands = help.lines().skip_while(|line| *line != "Commands:").skip(1).take_while(|line| !line.is_empty());
    let names = commands.filter_map(|line| line.strip_prefix("  ")?.split(' ').next().filter(|name| !name.is_empty()));
    names.filter(|name| *name != "help").map(str::to_owned).collect()
}

#[test]
fn the_page_of_commands_has_their_help() {
    let top = help(&[]);
    let everywhere = "Options of every command:";
    let (commands, options) =
        top.split_once("\nOptions:").map_or((top.as_str(), ""), |(before, after)| (before, after));
    let shared = options.find(everywhere).map_or(options, |at| &options[at..]);
    let mut text = format!(
        "# Commands\n\nThis page is made from the program's own help by its tests.\n\n```text\n{}\n```\n\n## Options of every command\n\n```text\n{}\n```\n",
        commands.trim_end(),
        shared.strip_prefix(everywhere).unwrap_or(shared).trim_matches('\n')
    );
    let mut add = |words: &[&str], own: &str| {
        // What every command takes is told once.
        let (before, after) = own.split_once(everywhere).unwrap_or((own, ""));
        let examples = after.find("Examples:").map_or("", |at| &after[at..]);
        let body = format!("{}\n\n{examples}", before.trim_end());
        text.push_str(&format!("\n## cavrith {}\n\n```text\n{}\n```\n", words.join(" "), body.trim_end()));
    };
    for name in listed(&top) {
        let own = help(&[&name]);
        add(&[&name], &own);
        for inner in listed(&own) {
            add(&[&name, &inner], &help(&[&name, &inner]));
        }
    }
    hold("commands.md", &text);
}

/// What is another thing each time: lengths of time, clocks, ports, fingerprints, temporary folders, this machine's
/// sizes of memory.
fn settled(text: &str, dir: &Path) -> String {
    type Rule = (regex::Regex, &'static str);
    static RULES: LazyLock<Vec<Rule>> = LazyLock::new(|| {
        let rule = |pattern: &str, with| (regex::Regex::new(pattern).unwrap(), with);
        vec![
            rule(r"\b\d+(\.\d+)? (ms|s|min)\b", "N s"),
            rule(r"\b\d\d:\d\d:\d\d\b", "HH:MM:SS"),
            rule(r"\b[a-z]{5}(-[a-z]{5}){3}\b", "FINGERPRINT"),
            // Another test, or a program of this machine, may have the port.
            rule(r"127\.0\.0\.1:\d+( \(\d+ is taken\))?", "127.0.0.1:PORT"),
            rule(r"(?m)^note: the port \d+ of site is taken .*\n|; your own: site at \d+", ""),
            // How it goes out hangs on what this machine has, what it uses on the moment.
            rule(r"(?m)^  network   out, by .*$", "  network   out"),
            rule(r"(?m)^  uses      .*$", "  uses      something"),
            rule(r"\b[0-9a-f]{12,64}\b", "DIGEST"),
            rule(r"timetable-[0-9a-f]{8}\b", "timetable-DIGEST"),
            rule(r" {2,}", "  "),
        ]
    });
    let text = text.replace(&dir.display().to_string(), "~");
    let text = RULES.iter().fold(text, |text, (pattern, with)| pattern.replace_all(&text, *with).into_owned());
    // Layers that need nothing of each other are told in the order in which they are done.
    let mut lines: Vec<_> = text.lines().collect();
    lines
        .chunk_by_mut(|one, next| one.starts_with("made ") && next.starts_with("made "))
        .for_each(|run| run.sort_unstable());
    lines.join("\n")
}

/// Plays the commands of a page's console blocks one after another, and gives the page with what they wrote.
fn played(text: &str, team: &Team) -> String {
    let bin = team.dir.path().join("bin");
    fs::create_dir_all(&bin).unwrap();
    std::os::unix::fs::symlink(PROGRAM, bin.join("cavrith")).unwrap();
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    let mut out = String::new();
    let mut lines = text.lines().peekable();
    while let Some(line) = lines.next() {
        out.push_str(line);
        out.push('\n');
        if line != "```console" {
            continue;
        }
        for line in lines.by_ref() {
            if line == "```" {
                out.push_str("```\n");
                break;
            }
            let Some(command) = line.strip_prefix("$ ") else { continue };
            let output = team
                .command(&[])
                .get_envs()
                .filter_map(|(name, value)| Some((name.to_owned(), value?.to_owned())))
                .fold(Command::new("sh"), |mut command, (name, value)| {
                    command.env(name, value);
                    command
                })
                .args(["-c", &format!("{command} 2>&1")])
                .env("PATH", &path)
                .current_dir(team.project())
                .stdin(std::process::Stdio::null())
                .output()
                .unwrap();
            let wrote = String::from_utf8(output.stdout).unwrap();
            out.push_str(&format!("$ {command}\n{}", wrote.replace(&team.dir.path().display().to_string(), "~")));
        }
    }
    out
}

#[test]
fn the_guide_s_outputs_are_what_its_commands_write() {
    let team = Team::new();
    let text = fs::read_to_string(page("guide.md")).unwrap();
    let played = played(&text, &team);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        fs::write(page("guide.md"), played).unwrap();
        return;
    }
    let (there, wanted) = (settled(&text, team.dir.path()), settled(&played, team.dir.path()));
    let differs = there.lines().zip(wanted.lines()).position(|(one, other)| one != other);
    let at = differs.unwrap_or_else(|| there.lines().count().min(wanted.lines().count()));
    let near = |text: &str| text.lines().skip(at.saturating_sub(2)).take(6).collect::<Vec<_>>().join("\n");
    assert!(
        there == wanted,
        "docs/guide.md:{} says\n{}\nand the commands write\n{}\nUPDATE_DOCS=1 writes it anew",
        at + 1,
        near(&there),
        near(&wanted)
    );
    team.assert_clean();
}

/// The blocks of a page that are whole specs.
fn specs(text: &str) -> Vec<String> {
    let blocks = text.split("```toml\n").skip(1).filter_map(|rest| rest.split("\n```").next());
    blocks.filter(|block| block.starts_with("spec = 1\n")).map(|block| format!("{block}\n")).collect()
}

#[test]
fn every_spec_in_the_documentation_is_sound() {
    let team = Team::new();
    for (name, path) in [("how-to.md", page("how-to.md")), ("README.md", page("../README.md"))] {
        let specs = specs(&fs::read_to_string(path).unwrap());
        assert!(!specs.is_empty(), "{name}");
        for spec in specs {
            let dir = tempfile::tempdir().unwrap();
            fs::write(dir.path().join("cavrith.toml"), &spec).unwrap();
            for file in ["requirements.txt", "package.json", "package-lock.json", "Cargo.toml", "Cargo.lock"] {
                fs::write(dir.path().join(file), "").unwrap();
            }
            let output = team.run(&["-C", dir.path().to_str().unwrap(), "check"]);
            assert!(output.status.success(), "{name}:\n{spec}\n{}", told(&output));
        }
    }
}

#[test]
fn the_table_of_languages_is_that_of_init() {
    let text = fs::read_to_string(page("how-to.md")).unwrap();
    let mut table =
        format!("| language | {} | packages |\n|---|{}---|\n", SUITES.join(" | "), "---|".repeat(SUITES.len()));
    for language in &LANGUAGES {
        let versions: Vec<_> = SUITES.iter().map(|suite| language.version_in(suite).unwrap_or("–")).collect();
        let packages = language.packages_in(SUITES[0]);
        table.push_str(&format!("| {} | {} | `{}` |\n", language.name, versions.join(" | "), packages.join("`, `")));
    }
    let (before, rest) = text.split_once("<!-- languages -->\n").expect("the place of the table");
    let (_, after) = rest.split_once("\n`cavrith init --suite").expect("what follows the table");
    hold("how-to.md", &format!("{before}<!-- languages -->\n\n{table}\n`cavrith init --suite{}", after));
}
