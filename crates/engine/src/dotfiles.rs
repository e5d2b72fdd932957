//! A member's own files for the account's home: from a folder of theirs, laid out by rules that are data. They are read
//! here, and put in place inside by a process that is the account ([`cavrith_sandbox::job::Task::Place`]).

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Component, Path, PathBuf};

use cavrith_core::digest::ContentDigest;
use cavrith_core::path::RootPath;
use cavrith_core::spec::personal::MembersChoice;
use cavrith_core::tree::{Kind, Tree};
use cavrith_sandbox::job::PlacedFile;
use cavrith_store::reading;

use crate::member::{Commands, DotfilesConfig};
use crate::personal::GPG_SOCKET;

/// Files at most, and bytes of all of them.
const MOST_FILES: usize = 2_000;
const MOST_BYTES: usize = 8 << 20;
/// What a folder under version control has beside its files.
const OF_GIT: [&str; 4] = [".git", ".gitignore", ".gitmodules", ".gitattributes"];

/// Files for a home.
#[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Dotfiles {
    /// Files, by their paths.
    pub files: Vec<PlacedFile>,
    /// Commands that are run in their order, each once for its mark.
    pub run: Vec<Part>,
}

/// A command that comes with them.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Part {
    /// The program and its arguments.
    pub argv: Vec<String>,
    /// What it is run for: its words, and the files of those that it names; all files when it names none.
    pub mark: String,
}

impl Dotfiles {
    /// Where the agent is one of the outside: the file that says where its socket is (Assuan, "Socket wrappers").
    pub fn of_gpg(is_wanted: bool) -> Self {
        let text = format!("%Assuan%\nsocket={GPG_SOCKET}\n");
        let content = base64::Engine::encode(&base64::prelude::BASE64_STANDARD, text);
        let path = ".gnupg/S.gpg-agent".to_owned();
        let file = PlacedFile { path, executable: false, link: None, content, over: None };
        Self { files: if is_wanted { vec![file] } else { Vec::new() }, run: Vec::new() }
    }

    /// Reads what a configuration names, in a folder that is here. An error tells what cannot be used.
    ///
    /// # Errors
    /// When a file cannot be read, a place is none in a home, or it is too much.
    pub fn read(config: &DotfilesConfig, folder: &Path) -> Result<Self, String> {
        let folder = folder.canonicalize().map_err(|error| format!("the dotfiles {}: {error}", folder.display()))?;
        let mut gathered = Gathered { folder: &folder, except: &config.except, files: BTreeMap::new(), bytes: 0 };
        if config.place.is_empty() {
            for name in names(&folder)? {
                if name.starts_with('.') && !OF_GIT.contains(&name.as_str()) {
                    gathered.add(Path::new(&name), &name)?;
                }
            }
        }
        for (from, to) in &config.place {
            let to = to.strip_prefix("~/").unwrap_or(to);
            if !is_beneath(Path::new(from)) || !is_beneath(Path::new(to)) {
                return Err(format!(
                    "the dotfiles place {from} at {to}; both are paths without .. beneath the folder and the home"
                ));
            }
            gathered.add(Path::new(from), to)?;
        }
        let files: Vec<_> = gathered.files.into_values().collect();
        let parts = config.run.as_ref().map(Commands::all).unwrap_or_default();
        if parts.iter().any(|argv| argv.first().is_none_or(String::is_empty)) {
            return Err("[personal.dotfiles] run has a command without a program".to_owned());
        }
        let run = parts.into_iter().map(|argv| Part { mark: mark(&argv, &files), argv }).collect();
        Ok(Self { files, run })
    }
}

impl Dotfiles {
    /// Lets files that are a member's choice take the place of those of an image, in a home of it.
    pub fn leave_to_member(&mut self, home: &str, image: &Tree, choice: &MembersChoice) {
        for file in &mut self.files {
            let Ok(path) = RootPath::from_absolute(&format!("{home}/{}", file.path)) else { continue };
            let theirs = image.get(&path).filter(|_| choice.has(&path));
            file.over = match theirs.map(|theirs| &theirs.kind) {
                Some(Kind::File { content, .. }) => Some(PlacedFile::digest_of(None, || *content)),
                Some(Kind::Symlink { target }) => {
                    let target = String::from_utf8_lossy(target);
                    Some(PlacedFile::digest_of(Some(&target), || ContentDigest::of(&[])))
                }
                _ => None,
            };
        }
    }
}

/// What a command is run for.
fn mark(argv: &[String], files: &[PlacedFile]) -> String {
    let names = |file: &PlacedFile| {
        argv.iter().any(|word| {
            let word = word.strip_prefix("~/").or(word.strip_prefix("./")).unwrap_or(word);
            Path::new(&file.path) == Path::new(word)
        })
    };
    let named: Vec<_> = files.iter().filter(|file| names(file)).collect();
    let of = if named.is_empty() { files.iter().collect() } else { named };
    ContentDigest::of(&serde_json::to_vec(&(argv, of)).unwrap_or_default()).to_string()
}

struct Gathered<'a> {
    folder: &'a Path,
    except: &'a [String],
    files: BTreeMap<String, PlacedFile>,
    bytes: usize,
}

impl Gathered<'_> {
    fn add(&mut self, from: &Path, to: &str) -> Result<(), String> {
        if self.except.iter().any(|except| Path::new(except) == from) {
            return Ok(());
        }
        let path = self.folder.join(from);
        let failed = |error: io::Error| format!("the dotfiles {}: {error}", path.display());
        let meta = path.symlink_metadata().map_err(failed)?;
        if meta.is_dir() {
            for name in names(&path)? {
                self.add(&from.join(&name), &format!("{to}/{name}"))?;
            }
            return Ok(());
        }
        let (content, link) = if meta.is_symlink() {
            let target = fs::read_link(&path).map_err(failed)?;
            let target = target.to_str().filter(|target| !target.starts_with('/'));
            let target =
                target.ok_or_else(|| format!("the dotfiles {}: a link that leads out of them", path.display()))?;
            (String::new(), Some(target.to_owned()))
        } else if meta.is_file() {
            let left = (MOST_BYTES - self.bytes) as u64;
            let bytes = reading::bounded(&path, left).map_err(failed)?;
            self.bytes += bytes.len();
            (base64::Engine::encode(&base64::prelude::BASE64_STANDARD, bytes), None)
        } else {
            return Err(format!("the dotfiles {}: it is neither a file nor a link", path.display()));
        };
        let executable = meta.permissions().mode() & 0o100 != 0;
        self.files.insert(to.to_owned(), PlacedFile { path: to.to_owned(), executable, link, content, over: None });
        if self.files.len() > MOST_FILES {
            return Err(format!("the dotfiles are more than {MOST_FILES} files; name the ones that you want in place"));
        }
        Ok(())
    }
}

/// The names in a directory, sorted.
fn names(dir: &Path) -> Result<Vec<String>, String> {
    let failed = |error: io::Error| format!("the dotfiles {}: {error}", dir.display());
    let entries = fs::read_dir(dir).map_err(failed)?.collect::<Result<Vec<_>, _>>().map_err(failed)?;
    let name = |entry: &fs::DirEntry| {
        entry.file_name().into_string().map_err(|name| format!("the dotfiles have a name that is not UTF-8: {name:?}"))
    };
    let mut names = entries.iter().map(name).collect::<Result<Vec<_>, _>>()?;
    names.sort();
    Ok(names)
}

/// Whether a path leads down, and nowhere else.
pub(crate) fn is_beneath(path: &Path) -> bool {
    let mut parts = path.components().peekable();
    parts.peek().is_some() && parts.all(|part| matches!(part, Component::Normal(_)))
}

/// The folder that a configuration names, when it is one of this machine.
pub fn local(config: &DotfilesConfig) -> Option<PathBuf> {
    let from = config.from.as_deref()?;
    (!is_address(from) && config.revision.is_none()).then(|| expanded(from))
}

/// A path of the configuration, in which `~/` stands for the member's home.
pub fn expanded(path: &str) -> PathBuf {
    crate::secret_values::expanded(path)
}

/// Whether a source is an address of git, and not a folder.
pub fn is_address(from: &str) -> bool {
    from.contains("://") || (!from.starts_with(['/', '.', '~']) && from.contains(':'))
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn a_folder_is_laid_out_by_its_rules() {
        let dir = tempfile::tempdir().unwrap();
        let put = |name: &str, text: &str| {
            let path = dir.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        [(".vimrc", "set nu"), (".git/config", "x"), (".config/a/b", "c"), ("README", "x"), ("bin/tide", "#!")]
            .iter()
            .for_each(|(name, text)| put(name, text));
        symlink(".vimrc", dir.path().join(".exrc")).unwrap();
        let read = |text: &str| Dotfiles::read(&toml::from_str(text).unwrap(), dir.path());
        let paths = |text: &str| read(text).unwrap().files.into_iter().map(|file| file.path).collect::<Vec<_>>();
        assert_eq!(paths(""), [".config/a/b", ".exrc", ".vimrc"]);
        assert_eq!(paths("except = [\".config\"]"), [".exrc", ".vimrc"]);
        let ruled = "place = { \"bin/tide\" = \"~/.local/bin/tide\", \".config/a\" = \".a\" }";
        assert_eq!(paths(ruled), [".a/b", ".local/bin/tide"]);
        let parts = |text: &str| read(text).unwrap().run;
        let before = parts("run = [[\"sh\", \".vimrc\"], [\"make\", \"it\"]]");
        put(".config/a/b", "another");
        let after = parts("run = [[\"sh\", \".vimrc\"], [\"make\", \"it\"]]");
        assert_eq!((before.len(), before[0] == after[0], before[1] == after[1]), (2, true, false));
        assert_eq!(parts("run = [\"sh\", \".vimrc\"]"), after[..1]);
        assert!(read("run = []").unwrap().run.is_empty() && read("run = [[]]").unwrap_err().contains("program"));
        assert!(read("place = { \"../x\" = \"y\" }").unwrap_err().contains("beneath"));
        assert!(read("place = { \"README\" = \"/etc/x\" }").unwrap_err().contains("beneath"));
        assert!(read("place = { \"none\" = \"x\" }").unwrap_err().contains("none"));
        symlink("/etc/passwd", dir.path().join(".out")).unwrap();
        assert!(read("").unwrap_err().contains("leads out"));
        assert!(is_address("https://git.example/x") && is_address("git@pier.example:x") && !is_address("~/a:b"));
    }
}
