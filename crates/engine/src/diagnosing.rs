//! Where two builds of a layer differ, and why.

use std::io::Read as _;
use std::path::Path;

use serde::{Deserialize, Serialize};

use cavrith_core::nondeterminism::{Explainer, Finding, Packing, Side, Surroundings};
use cavrith_core::path::{RootPath, shown};
use cavrith_core::seal::SealedLayer;
use cavrith_core::spec::document::Sources;
use cavrith_core::spec::{At, Base, Spec};
use cavrith_core::tree::diff::{Change, What, changes};
use cavrith_core::tree::{Kind, Tree};
use cavrith_core::verdict::Difference;
use cavrith_sources::compression;
use cavrith_store::{Store, reading};

use crate::culprit::Packages;
use crate::error::EngineError;

/// Bytes of a file, or of what it unpacks to, that are looked at.
const MOST: u64 = 64 << 20;
/// Files that are looked into; of a layer with more, the rest are named alone.
const MOST_FILES: usize = 2000;

/// Something that two builds made differently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unlike {
    /// What differs.
    #[serde(flatten)]
    pub difference: Difference,
    /// The layer that it is in.
    pub layer: String,
    /// Why, as far as both sides tell.
    pub findings: Vec<Finding>,
    /// The line of the spec that stands for the step or the package: `cavrith.toml:12`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<String>,
}

/// A layer as one of two builds has it.
pub(crate) type Built<'a> = (&'a Store, &'a SealedLayer);

/// Every file in which a layer came out differently, with `marks` deletions too: the same image can mark them in more
/// than one way.
pub(crate) fn layer_differences(
    [(first, ours), (second, theirs)]: [Built<'_>; 2],
    marks: bool,
    around: &[Surroundings; 2],
) -> Result<Vec<Unlike>, EngineError> {
    let (here, there) = (first.layer_tree(&ours.tree)?, second.layer_tree(&theirs.tree)?);
    let is_mark = |path: &RootPath| {
        let entry = |tree: &Tree| tree.get(path).is_some_and(|entry| entry.kind == Kind::Whiteout);
        entry(&here) || entry(&there)
    };
    let packages = Packages::of(first, &ours.tree, &here);
    let changes: Vec<_> = changes(&here, &there).into_iter().filter(|change| marks || !is_mark(&change.path)).collect();
    let roots = [first.layer_root(&ours.tree), second.layer_root(&theirs.tree)];
    let mut explainer = Explainer::new(around, &unpacked);
    let look = |change: &Change| [(&here, 0), (&there, 1)].map(|(tree, side)| Content::of(tree, &roots[side], change));
    for change in changes.iter().take(MOST_FILES) {
        let [a, b] = &look(change);
        explainer.remember(change, [a.side(), b.side()]);
    }
    let mut found = Vec::new();
    for (number, change) in changes.iter().enumerate() {
        let mut difference = packages.difference(change, &ours.name);
        let mut findings = Vec::new();
        if number < MOST_FILES {
            let [a, b] = &look(change);
            findings = explainer.explain(change, [a.side(), b.side()]);
        }
        match &change.what {
            What::Missing => difference.here = "not there the second time".to_owned(),
            What::Extra => {
                (difference.expected, difference.here) = ("nothing".to_owned(), "there the second time".to_owned());
            }
            What::Changed { fields } if fields.iter().any(|field| field.name == "content") => {
                if let Some((finding, at)) = findings.iter().find_map(|one| Some((one, one.at?))) {
                    let inside = finding.inside.join(", in ");
                    let place = if inside.is_empty() { format!("byte {at}") } else { format!("byte {at} of {inside}") };
                    difference.expected = format!("at {place}: {}", finding.first);
                    difference.here = finding.second.clone();
                }
            }
            What::Changed { .. } => {}
        }
        found.push(Unlike { difference, layer: ours.name.clone(), findings, line: None });
    }
    Ok(found)
}

/// What is at a path in a layer.
enum Content {
    Nothing,
    File(Vec<u8>),
    Link(String),
    Other,
}

impl Content {
    fn of(tree: &Tree, root: &Path, change: &Change) -> Self {
        match tree.get(&change.path).map(|entry| &entry.kind) {
            None => Self::Nothing,
            Some(Kind::Symlink { target }) => Self::Link(shown(target)),
            // What is too long is told without being looked into.
            Some(Kind::File { .. }) => {
                reading::bounded_real(&root.join(change.path.as_relative()), MOST).map_or(Self::Other, Self::File)
            }
            Some(_) => Self::Other,
        }
    }

    fn side(&self) -> Side<'_> {
        match self {
            Self::Nothing => Side::Nothing,
            Self::File(bytes) => Side::File(bytes),
            Self::Link(target) => Side::Link(target),
            Self::Other => Side::Other,
        }
    }
}

fn unpacked(packing: Packing, bytes: &[u8]) -> Option<Vec<u8>> {
    let mut content = Vec::new();
    match packing {
        Packing::Stream => {
            let stream = compression::unpack(bytes, bytes.len() as u64).ok()?;
            stream.take(MOST + 1).read_to_end(&mut content).ok()?;
        }
        Packing::Deflate => {
            compression::inflate(bytes).take(MOST + 1).read_to_end(&mut content).ok()?;
        }
    }
    (content.len() as u64 <= MOST).then_some(content)
}

/// Finds the lines of the spec that stand for what differs: of a step, or of a package that is named there.
pub(crate) fn find_lines(found: &mut [Unlike], spec: &Spec, sources: &Sources) {
    for one in found.iter_mut().filter(|one| one.line.is_none()) {
        let step = one.layer.strip_prefix("step \"").and_then(|rest| rest.strip_suffix('"'));
        let span = match step {
            Some(name) => spec.steps.iter().find(|step| step.name.value == name).map(|step| step.name.span.clone()),
            None => one.difference.package.as_ref().and_then(|package| {
                let named =
                    |wish: &&At<String>| wish.value.split([' ', '(', ':']).next().is_some_and(|name| name == package);
                let wishes = match &spec.base {
                    Base::Debian(suite) => suite.packages.as_slice(),
                    Base::Packages { packages, .. } => packages,
                    Base::Archive { .. } | Base::Oci(_) => &[],
                };
                wishes.iter().find(named).map(|wish| wish.span.clone())
            }),
        };
        one.line = span.map(|span| sources.place(span.start)).filter(|place| !place.is_empty());
    }
}
