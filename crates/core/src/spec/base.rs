//! The table `[base]`: which of its origins is meant, and what belongs to that one.

use super::parse::read_origin;
use super::reader::{Reader, TableAt};
use super::{At, Base, ImageOrigin, OciBase, Suite, rules};
use crate::debian::{lifetime, parse_alternative};
use crate::mistake::{Code, Mistake};

/// Keys that name an origin.
pub(super) const ORIGINS: [&str; 4] = ["debian", "oci", "archive", "depot"];
/// Keys that mean something for one origin only.
const ONLY_DEBIAN: [&str; 6] = ["extra", "components", "architecture", "recommended", "left-out", "keep"];
/// Suites that have no suites beside them.
const ALONE: [&str; 3] = ["sid", "unstable", "experimental"];

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Base> {
    let there: Vec<_> = ORIGINS.into_iter().filter(|name| table.key_span(name).is_some()).collect();
    let Some(origin) = there.first() else {
        return without_origin(reader, table);
    };
    if let [one, other, ..] = there.as_slice() {
        let (one, other) = (table.key_span(one), table.key_span(other));
        let message = "`base` has two origins";
        let mistake = Mistake::new(Code::BASE_ORIGIN, one.unwrap_or_default(), message, "keep one of them");
        reader.push(mistake.noting("one is here").against(other.unwrap_or_default(), "the other one here"));
        return None;
    }
    let foreign = |name: &&str| {
        (*origin != "debian" && ONLY_DEBIAN.contains(name))
            || (!matches!(*origin, "debian" | "depot") && *name == "packages")
    };
    for name in ONLY_DEBIAN.iter().chain(&["packages"]).filter(|name| foreign(name)) {
        if let Some(span) = table.key_span(name) {
            let message = format!("`{name}` means nothing for a base from `{origin}`");
            reader.push(Mistake::new(Code::NOT_ALLOWED, span, message, "leave it out, or choose another origin"));
        }
    }
    match *origin {
        "debian" => debian(reader, table).map(Base::Debian),
        "oci" => oci(reader, table).map(Base::Oci),
        "archive" => {
            let archive = reader.subtable(table, "archive", "base.archive")?;
            let origin = read_origin(reader, &archive, "the archive");
            let sha256 = reader.text(&archive, "sha256").and_then(|text| rules::sha256(reader, text));
            let strip = reader.number(&archive, "strip").map_or(0, |strip| rules::strip(reader, strip));
            Some(Base::Archive { origin: origin?, sha256, strip })
        }
        _ => depot(reader, table),
    }
}

fn without_origin(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Base> {
    let (span, message, remedy) = match table.key_span("packages") {
        Some(span) => {
            let message = "`base` names packages, but not where they come from";
            (span, message, "add debian = \"bookworm\", or depot = \"…\"")
        }
        None => {
            let remedy = "add one: debian with packages, oci, an archive, or depot with packages";
            (table.span(), "`base` has no origin", remedy)
        }
    };
    reader.push(Mistake::new(Code::BASE_ORIGIN, span, message, remedy));
    None
}

fn depot(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Base> {
    let depot = reader.text(table, "depot")?;
    if table.key_span("packages").is_none() {
        let message = "`base` names a depot, but no packages of it";
        reader.push(Mistake::new(Code::BASE_ORIGIN, depot.span, message, "add packages = [\"…\"]"));
        return None;
    }
    let packages = reader.texts(table, "packages")?;
    if packages.value.is_empty() {
        let remedy = "name at least one package of the depot";
        reader.push(Mistake::new(Code::EMPTY, packages.span, "`packages` is empty", remedy));
    }
    Some(Base::Packages { depot, packages: packages.value })
}

fn debian(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Suite> {
    let name = reader.text(table, "debian");
    let list = |reader: &mut Reader<'_>, key: &str, otherwise: &[&str]| match reader.texts(table, key) {
        Some(texts) => texts.value,
        None => otherwise.iter().map(|text| At { value: (*text).to_owned(), span: table.span() }).collect(),
    };
    let alone = name.as_ref().is_some_and(|name| ALONE.contains(&name.value.as_str()));
    let extra = list(reader, "extra", if alone { &[] } else { &["updates", "security"] });
    let components = list(reader, "components", &["main"]);
    let architecture = reader.text(table, "architecture");
    let architecture = architecture.unwrap_or_else(|| At { value: "amd64".to_owned(), span: table.span() });
    for (what, value) in name.iter().map(|name| ("suite", name)).chain(extra.iter().map(|extra| ("suite", extra))) {
        rules::plain_name(reader, what, &value.value, &value.span);
    }
    for component in &components {
        rules::plain_name(reader, "component", &component.value, &component.span);
    }
    if components.is_empty() {
        let remedy = "name at least one, or leave it out for main";
        reader.push(Mistake::new(
            Code::EMPTY,
            table.key_span("components").unwrap_or_default(),
            "`components` is empty",
            remedy,
        ));
    }
    rules::plain_name(reader, "architecture", &architecture.value, &architecture.span);
    if let Some((name, meant)) = name.as_ref().and_then(|name| Some((name, lifetime::meant(&name.value)?))) {
        let message = format!("the Debian archive has no suite {:?}", name.value);
        let remedy = format!("write debian = \"{meant}\"");
        reader.push(Mistake::new(Code::NOT_ALLOWED, name.span.clone(), message, remedy));
    }
    if let Some((name, now)) = name.as_ref().and_then(|name| Some((name, lifetime::moving(&name.value)?))) {
        let message = format!(
            "{:?} is another suite after each release, and what is locked of it will not be met then",
            name.value
        );
        let remedy = format!("write debian = \"{now}\"");
        reader.push(Mistake::new(Code::NOT_ALLOWED, name.span.clone(), message, remedy).as_warning());
    }
    let packages = list(reader, "packages", &[]);
    packages.iter().for_each(|package| package_wish(reader, package));
    let recommended = reader.flag(table, "recommended");
    let left_out = list(reader, "left-out", &[]);
    let left_out = left_out.into_iter().filter_map(|path| rules::inside_path(reader, "left-out", path)).collect();
    let keep = reader.texts(table, "keep");
    for name in keep.iter().flat_map(|keep| &keep.value) {
        rules::plain_name(reader, "package", &name.value, &name.span);
    }
    Some(Suite { name: name?, extra, components, architecture, packages, recommended, left_out, keep })
}

/// A package's name, and perhaps which versions of it.
pub(super) fn package_wish(reader: &mut Reader<'_>, wish: &At<String>) {
    let read = parse_alternative(&wish.value);
    let plain = |text: &str, more: &str| {
        !text.is_empty()
            && text.chars().all(|letter| {
                letter.is_ascii_lowercase()
                    || letter.is_ascii_uppercase()
                    || letter.is_ascii_digit()
                    || more.contains(letter)
            })
    };
    let version = match &read.version {
        None => !wish.value.contains('('),
        Some((operator, version)) => {
            matches!(operator.as_str(), "<<" | "<=" | "=" | ">=" | ">>")
                && plain(version, ".+-~:")
                && wish.value.trim_end().ends_with(')')
        }
    };
    if !(plain(&read.name, "+-.") && version && read.qualifier.is_none() && !wish.value.contains([',', '|'])) {
        let message = format!("{:?} does not name a package", wish.value);
        let several: Vec<_> = wish.value.split([',', ' ']).filter(|part| !part.is_empty()).collect();
        let are_names = several.len() > 1 && several.iter().all(|part| plain(part, "+-."));
        let pinned = wish.value.split_once('=').filter(|(name, version)| plain(name, "+-.") && plain(version, ".+-~:"));
        let remedy = match pinned {
            Some((name, version)) => {
                format!("write \"{name} (= {version})\", or (>= {version}) for that and newer ones")
            }
            None if are_names => {
                let apart: Vec<_> = several.iter().map(|name| format!("\"{name}\"")).collect();
                format!("write each name apart: {}", apart.join(", "))
            }
            None => "write a package's name, with versions like this: \"git (>= 1:2.30)\"; operators are << <= = >= >>"
                .to_owned(),
        };
        reader.push(Mistake::new(Code::BAD_PACKAGE, wish.span.clone(), message, remedy));
    }
}

fn oci(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<OciBase> {
    let entry = table.entries().find(|entry| entry.name == "oci")?;
    let platform = |span| At { value: "linux/amd64".to_owned(), span };
    match reader.text_or_table(entry, "base.oci")? {
        Ok(reference) => {
            let platform = platform(reference.span.clone());
            Some(OciBase { origin: ImageOrigin::Reference(check_reference(reader, reference)?), platform })
        }
        Err(inner) => {
            let reference = reader.text(&inner, "reference").and_then(|text| check_reference(reader, text));
            let path = reader.outside(&inner, "path");
            let tag = reader.text(&inner, "tag");
            let platform = reader.text(&inner, "platform").unwrap_or_else(|| platform(inner.span()));
            let parts: Vec<_> = platform.value.split('/').collect();
            if !(2..=3).contains(&parts.len()) || parts.iter().any(|part| part.is_empty()) {
                let message = format!("{:?} is not a platform", platform.value);
                let remedy = "write operating system and architecture, like \"linux/amd64\"";
                reader.push(Mistake::new(Code::NOT_ALLOWED, platform.span.clone(), message, remedy));
            }
            let origin = match (inner.key_span("reference"), inner.key_span("path")) {
                (Some(_), Some(_)) => {
                    rules::only_one_of(reader, &inner, "reference", "path");
                    return None;
                }
                (None, None) => {
                    let message = "the image has no reference and no path";
                    reader.push(Mistake::new(Code::ONE_OF, inner.span(), message, "add reference or path"));
                    return None;
                }
                (Some(_), None) => ImageOrigin::Reference(reference?),
                (None, Some(_)) => ImageOrigin::Path(path?, tag),
            };
            Some(OciBase { origin, platform })
        }
    }
}

/// A reference to an image, which has to name its registry: there is no registry that everybody means.
fn check_reference(reader: &mut Reader<'_>, text: At<String>) -> Option<At<String>> {
    match crate::oci::Reference::parse(&text.value) {
        Ok(_) => Some(text),
        Err(bad) => {
            let message = format!("{:?} is not a reference to an image: {bad}", text.value);
            let remedy = "write registry/name:tag, like \"registry.example/team/base:1.2\"; for a layout on the disk write { path = \"…\" }";
            reader.push(Mistake::new(Code::BAD_REFERENCE, text.span, message, remedy));
            None
        }
    }
}
