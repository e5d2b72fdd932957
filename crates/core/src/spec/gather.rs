//! A spec and the files that it includes, joined into one document.

use super::document::{self, Sources, Span, Table, Value};
use super::reader::beside;
use crate::mistake::{Code, Mistake};

/// Files that one spec may be made of.
const MOST_FILES: usize = 64;

/// A joined document, before it is read as a spec.
#[derive(Debug, Clone, Default)]
pub struct Gathered {
    /// All texts, the spec's own first.
    pub sources: Sources,
    /// The document.
    pub table: Table,
    /// What was wrong with the texts themselves.
    pub mistakes: Vec<Mistake>,
}

/// Reads `text`, the spec at `path`, and what it includes. `read` gives the text of another file, or says in words why
/// it cannot; it is asked with paths relative to the project, without `.` and needless `..`.
pub fn gather(path: &str, text: &str, read: &mut dyn FnMut(&str) -> Result<String, String>) -> Gathered {
    let mut gatherer = Gatherer { gathered: Gathered::default(), read, under_way: Vec::new(), done: Vec::new() };
    let table = gatherer.file(path, text);
    Gathered { table, ..gatherer.gathered }
}

struct Gatherer<'r> {
    gathered: Gathered,
    read: &'r mut dyn FnMut(&str) -> Result<String, String>,
    /// Files that include the one at hand, outermost first, with where they name the next.
    under_way: Vec<(String, Span)>,
    done: Vec<String>,
}

impl Gatherer<'_> {
    fn file(&mut self, path: &str, text: &str) -> Table {
        let start = self.gathered.sources.add(path, text);
        let (mut own, mistakes) = document::read(text, start);
        self.gathered.mistakes.extend(mistakes);
        let mut taken = Table::default();
        let include = own.get("include").map(|entry| entry.node.value.clone());
        // A list of something else than texts is reported by the reader, from the entry that stays.
        if let Some(Value::List(items)) = include
            && items.iter().all(|item| matches!(item.value, Value::Text(_)))
        {
            own.entries.retain(|entry| entry.name != "include");
            for item in items {
                if let Value::Text(named) = &item.value {
                    let included = self.include(path, named, item.span.clone());
                    taken = document::join(taken, included);
                }
            }
        }
        document::join(taken, own)
    }

    fn include(&mut self, from: &str, named: &str, span: Span) -> Table {
        let path = plain(&beside(from, named));
        if let Some(position) =
            self.under_way.iter().position(|(other, _)| *other == path).or((path == from).then_some(0))
        {
            let message = format!("{from} includes {path}, which includes {from} again");
            let mut mistake = Mistake::new(Code::INCLUDE_CYCLE, span, message, "take one of the two out");
            if let Some((_, first)) = self.under_way.get(position) {
                mistake = mistake.noting("here the circle closes").against(first.clone(), "and here it begins");
            }
            self.gathered.mistakes.push(mistake);
            return Table::default();
        }
        if self.done.contains(&path) {
            return Table::default();
        }
        let text = if self.gathered.sources.files().len() >= MOST_FILES {
            Err(format!("a spec is made of {MOST_FILES} files at most"))
        } else {
            (self.read)(&path)
        };
        let text = match text {
            Ok(text) => text,
            Err(why) => {
                let message = format!("{path} cannot be included: {why}");
                let remedy = "correct the path; it is relative to the file that it stands in";
                self.gathered.mistakes.push(Mistake::new(Code::INCLUDE_UNREADABLE, span, message, remedy));
                return Table::default();
            }
        };
        self.under_way.push((from.to_owned(), span));
        let table = self.file(&path, &text);
        self.under_way.pop();
        self.done.push(path);
        table
    }
}

/// The path without `.` and without `..` behind a name.
fn plain(path: &str) -> String {
    let mut names: Vec<&str> = Vec::new();
    for name in path.split('/') {
        match name {
            "." => {}
            ".." if names.last().is_some_and(|last| *last != ".." && !last.is_empty()) => drop(names.pop()),
            _ => names.push(name),
        }
    }
    names.join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn gathered(files: &[(&str, &str)]) -> Gathered {
        let find = |path: &str| files.iter().find(|(name, _)| *name == path).map(|(_, text)| (*text).to_owned());
        gather("cavrith.toml", files[0].1, &mut |path| find(path).ok_or_else(|| "there is no such file".to_owned()))
    }

    fn shown(gathered: &Gathered) -> Vec<String> {
        let lines = document::lines(&gathered.table);
        lines
            .iter()
            .map(|line| format!("{} = {} @ {}", line.key, line.value, gathered.sources.place(line.span.start)))
            .collect()
    }

    #[test]
    fn what_stands_nearer_wins_and_lists_grow() {
        let joined = gathered(&[
            (
                "cavrith.toml",
                "include = [\"team/a.toml\", \"b.toml\"]\nenv.A = \"own\"\nsteps = [{ name = \"two\", run = \"mine\" }, { name = \"three\" }]\n",
            ),
            (
                "team/a.toml",
                "include = [\"../b.toml\"]\n[env]\nA = \"a\"\nB = \"a\"\n[[steps]]\nname = \"one\"\n[[steps]]\nname = \"two\"\nrun = \"theirs\"\n",
            ),
            ("b.toml", "[env]\nA = \"b\"\nB = \"b\"\nC = \"b\"\n[base]\ndepot = \"x\"\n"),
        ]);
        assert_eq!(joined.mistakes, []);
        insta::assert_snapshot!(shown(&joined).join("\n"), @r#"
        env.A = "own" @ cavrith.toml:2
        env.B = "a" @ team/a.toml:4
        env.C = "b" @ b.toml:4
        base.depot = "x" @ b.toml:6
        steps[0].name = "one" @ team/a.toml:6
        steps[1].name = "two" @ cavrith.toml:3
        steps[1].run = "mine" @ cavrith.toml:3
        steps[2].name = "three" @ cavrith.toml:3
        "#);
    }

    #[test]
    fn a_base_is_taken_whole() {
        let joined = gathered(&[
            ("cavrith.toml", "include = [\"a.toml\"]\n[base]\narchive = { path = \"root.tar\" }\n"),
            ("a.toml", "[base]\ndepot = \"x\"\npackages = [\"y\"]\n"),
        ]);
        assert_eq!(shown(&joined), ["base.archive.path = \"root.tar\" @ cavrith.toml:3"]);
    }

    #[test]
    fn circles_and_missing_files_are_told() {
        let joined = gathered(&[
            ("cavrith.toml", "include = [\"a.toml\", \"none.toml\", \"cavrith.toml\"]\n"),
            ("a.toml", "include = [\"b.toml\"]\n"),
            ("b.toml", "include = [\"a.toml\", \"./cavrith.toml\"]\n"),
        ]);
        let told: Vec<_> = joined.mistakes.iter().map(|mistake| (mistake.code, mistake.message.as_str())).collect();
        assert_eq!(
            told,
            [
                (Code::INCLUDE_CYCLE, "b.toml includes a.toml, which includes b.toml again"),
                (Code::INCLUDE_CYCLE, "b.toml includes cavrith.toml, which includes b.toml again"),
                (Code::INCLUDE_UNREADABLE, "none.toml cannot be included: there is no such file"),
                (Code::INCLUDE_CYCLE, "cavrith.toml includes cavrith.toml, which includes cavrith.toml again"),
            ]
        );
    }

    #[test]
    fn paths_lose_what_they_do_not_need() {
        assert_eq!(plain("team/../b.toml"), "b.toml");
        assert_eq!(plain("./a/./b"), "a/b");
        assert_eq!(plain("../../x"), "../../x");
        assert_eq!(plain("/a/../b"), "/b");
    }
}
