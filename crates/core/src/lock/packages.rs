//! Whether the base's packages bring each other what they need.

use crate::debian;
use crate::mistake::{Code, Mistake};
use crate::spec::{Base, Spec};

/// What the base's own files tell, read after they were pinned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageFacts {
    /// Name, from the control file.
    pub name: String,
    /// Version, from the control file.
    pub version: String,
    /// `Provides`, from the control file.
    pub provides: String,
    /// `Pre-Depends` and `Depends`, from the control file.
    pub depends: String,
    /// Maintainer scripts that it brings.
    pub scripts: Vec<String>,
}

/// Whether the pinned packages bring each other all they need, without any program of the root having to run.
pub fn check_packages(spec: &Spec, facts: &[PackageFacts]) -> Vec<Mistake> {
    let Base::Packages { packages, .. } = &spec.base else {
        return Vec::new();
    };
    let mut mistakes = Vec::new();
    for package in facts {
        let span =
            packages.iter().find(|wanted| wanted.value == package.name).map_or(0..0, |wanted| wanted.span.clone());
        for group in debian::parse_relations(&package.depends) {
            let met = group.iter().any(|alternative| facts.iter().any(|other| satisfies(other, alternative)));
            if !met {
                let wish = group.iter().map(ToString::to_string).collect::<Vec<_>>().join(" or ");
                let message = format!("the package `{}` needs {wish}, which is not among the packages", package.name);
                let remedy = format!("add `{}` to packages", group.first().map_or("it", |first| first.name.as_str()));
                mistakes.push(Mistake::new(Code::PACKAGE_NEEDS, span.clone(), message, remedy));
            }
        }
        if !package.scripts.is_empty() {
            let scripts = package.scripts.join(", ");
            let message = format!(
                "the package `{}` has scripts of its own ({scripts}), which are not carried out yet",
                package.name
            );
            let remedy = "use a package without scripts, or a base.archive, until a later version of Cavrith does it";
            mistakes.push(Mistake::new(Code::NOT_YET, span, message, remedy));
        }
    }
    mistakes
}

fn satisfies(package: &PackageFacts, wish: &debian::Alternative) -> bool {
    if package.name == wish.name {
        return wish.accepts(&package.version);
    }
    let provided = debian::parse_relations(&package.provides);
    provided.iter().flatten().filter(|provided| provided.name == wish.name).any(|provided| match &provided.version {
        // A provision without a version answers only wishes without one (Debian Policy Manual, section 7.5).
        Some((_, version)) => wish.accepts(version),
        None => wish.version.is_none(),
    })
}
