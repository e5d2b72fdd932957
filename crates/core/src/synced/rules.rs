//! Which paths of a synced folder cross.

use globset::{GlobBuilder, GlobMatcher};

use crate::path::RootPath;

/// How the names of files begin that are on their way to their place. They never cross.
pub const TEMPORARY: &str = ".cavrith-part-";

/// Which paths stay where they are.
#[derive(Debug, Clone, Default)]
pub struct Rules {
    except: Vec<RootPath>,
    ignored: Vec<Pattern>,
}

#[derive(Debug, Clone)]
struct Pattern {
    matcher: GlobMatcher,
    /// It means directories only.
    directories: bool,
}

/// A pattern that means nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{pattern} is no pattern: {why}")]
pub struct BadRule {
    /// The pattern.
    pub pattern: String,
    /// Why.
    pub why: String,
}

impl Rules {
    /// From directories that stay as a whole, and patterns as in gitignore(5): `*` and `?` stop at a slash, `**` does
    /// not, `[…]` is one of some; a pattern with a slash before its end is meant from the folder on, any other at every
    /// depth, and a slash at the end means directories only. There is no `!`.
    ///
    /// # Errors
    /// When a pattern is none.
    pub fn new(except: Vec<RootPath>, ignore: &[String]) -> Result<Self, BadRule> {
        let ignored = ignore.iter().map(|pattern| Pattern::new(pattern)).collect::<Result<_, _>>()?;
        Ok(Self { except, ignored })
    }

    /// Whether a path crosses, when what it lies in does.
    pub fn crosses(&self, path: &RootPath, is_directory: bool) -> bool {
        let name = path.name().unwrap_or_default();
        let is_lock = name.ends_with(b".lock") && path.names().rev().skip(1).any(|name| name == b".git");
        // Whoever holds a lock of git's holds it where they are; the other side has locks of its own.
        !name.starts_with(TEMPORARY.as_bytes())
            && !is_lock
            && !self.except.contains(path)
            && !self.ignored.iter().any(|pattern| pattern.means(path, is_directory))
    }
}

impl Pattern {
    fn new(text: &str) -> Result<Self, BadRule> {
        let refuse = |why: &str| BadRule { pattern: text.to_owned(), why: why.to_owned() };
        if text.starts_with('!') {
            return Err(refuse("what is ignored cannot be taken back; write narrower patterns"));
        }
        let (rest, directories) = text.strip_suffix('/').map_or((text, false), |rest| (rest, true));
        let from_here = rest.contains('/');
        let rest = rest.strip_prefix('/').unwrap_or(rest);
        if rest.is_empty() {
            return Err(refuse("it names nothing"));
        }
        let glob = if from_here { rest.to_owned() } else { format!("**/{rest}") };
        let glob = GlobBuilder::new(&glob).literal_separator(true).backslash_escape(true).build();
        let matcher = glob.map_err(|error| refuse(&error.kind().to_string()))?.compile_matcher();
        Ok(Self { matcher, directories })
    }

    fn means(&self, path: &RootPath, is_directory: bool) -> bool {
        (is_directory || !self.directories) && self.matcher.is_match(path.as_relative())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> RootPath {
        RootPath::from_plain(text.as_bytes()).unwrap()
    }

    #[test]
    fn patterns_mean_what_they_mean_to_version_control() {
        let ignore = ["*.o", "/target/", "docs/**/draft", "cache/"].map(str::to_owned);
        let rules = Rules::new(vec![path("node_modules")], &ignore).unwrap();
        for (text, is_directory, crosses) in [
            ("a.o", false, false),
            ("deep/down/a.o", false, false),
            ("a.oo", false, true),
            ("target", true, false),
            ("target", false, true),
            ("sub/target", true, true),
            ("docs/a/b/draft", false, false),
            ("docs/draft", false, false),
            ("sub/cache", true, false),
            ("node_modules", true, false),
            ("sub/node_modules", true, true),
            (".git/index.lock", false, false),
            (".git/refs/heads/main.lock", false, false),
            ("Cargo.lock", false, true),
            (".cavrith-part-1", false, false),
        ] {
            assert_eq!(rules.crosses(&path(text), is_directory), crosses, "{text}");
        }
    }

    #[test]
    fn what_is_no_pattern_is_refused() {
        for (pattern, why) in [("!a", "taken back"), ("/", "names nothing"), ("a[", "unclosed")] {
            let error = Rules::new(Vec::new(), &[pattern.to_owned()]).unwrap_err();
            assert!(error.to_string().contains(why), "{error}");
        }
    }
}
