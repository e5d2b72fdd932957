//! Finding a path in a tree as the kernel would find it in the root that the tree describes.

use super::{Kind, Tree};
use crate::path::RootPath;

/// Links that one path may lead through (Linux: `MAXSYMLINKS`).
const MOST_LINKS: usize = 40;

impl Tree {
    /// Where `path` leads when every link on the way is followed, the last name too. Names that are not there lead to
    /// themselves. Nothing leads out of the root. `None` when the links never end.
    pub fn resolve(&self, path: &RootPath) -> Option<RootPath> {
        let mut at = RootPath::root();
        // The names that are still to go, the next one last.
        let mut left: Vec<Vec<u8>> = path.names().rev().map(<[u8]>::to_vec).collect();
        let mut links = 0;
        while let Some(name) = left.pop() {
            match name.as_slice() {
                b"" | b"." => continue,
                b".." => {
                    at = at.parent().unwrap_or_else(RootPath::root);
                    continue;
                }
                _ => {}
            }
            let next = at.join(&name).ok()?;
            if let Some(Kind::Symlink { target }) = self.get(&next).map(|entry| &entry.kind) {
                links += 1;
                if links > MOST_LINKS {
                    return None;
                }
                if target.starts_with(b"/") {
                    at = RootPath::root();
                }
                left.extend(target.split(|byte| *byte == b'/').rev().map(<[u8]>::to_vec));
            } else {
                at = next;
            }
        }
        Some(at)
    }

    /// As [`Self::resolve`], but a link as the last name is left as it is: the place of something that is to be put
    /// there.
    pub fn resolve_parent(&self, path: &RootPath) -> Option<RootPath> {
        match (path.parent(), path.name()) {
            (Some(parent), Some(name)) => self.resolve(&parent)?.join(name).ok(),
            _ => Some(path.clone()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tree::{Entry, Meta};

    fn path(text: &str) -> RootPath {
        RootPath::from_archive(text.as_bytes()).unwrap()
    }

    #[test]
    fn links_are_followed_and_nothing_leads_out() {
        let mut tree = Tree::with_root();
        for (at, target) in
            [("bin", "usr/bin"), ("usr/bin/sh", "../../../../bin/dash"), ("a", "b"), ("b", "a"), ("up", "/..")]
        {
            let kind = Kind::Symlink { target: target.into() };
            tree.entries.insert(path(at), Entry { kind, meta: Meta::root(0o777) });
        }
        let resolved = |text: &str| tree.resolve(&path(text)).map(|path| path.to_string());
        assert_eq!(resolved("bin/sh").as_deref(), Some("/usr/bin/dash"));
        assert_eq!(resolved("bin/none/deeper").as_deref(), Some("/usr/bin/none/deeper"));
        assert_eq!(resolved("up/etc").as_deref(), Some("/etc"));
        assert_eq!(resolved("a/x"), None);
        assert_eq!(tree.resolve_parent(&path("bin/sh")).unwrap().to_string(), "/usr/bin/sh");
    }
}
