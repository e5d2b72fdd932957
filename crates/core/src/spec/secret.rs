//! Secrets that a workspace needs: what for, and where they appear inside. A spec never has their values; each member's
//! configuration says where theirs come from.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::reader::{Reader, TableAt};
use super::{At, Service, Spec, rules};
use crate::mistake::{Code, Mistake, nearest};

/// Secrets that a spec may have.
const MOST: usize = 100;

/// A secret that a workspace needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Secret {
    /// What it is, and where a member gets theirs.
    pub about: String,
    /// The variable that it appears as.
    pub variable: Option<String>,
    /// It lies in a file of its name.
    pub file: bool,
    /// Services that alone have the variable; when it is left out, all have it, and steps of the start and members'
    /// commands, too.
    pub services: Option<Vec<String>>,
    /// A workspace starts without it as well.
    pub optional: bool,
}

/// The directory inside in which files of secrets lie, in memory.
pub const DIRECTORY: &str = "/run/secrets";

impl Secret {
    /// Whether somebody has its variable: a service of this name, or a step of the start or member's command.
    pub fn is_for(&self, service: Option<&str>) -> bool {
        match (&self.services, service) {
            (None, _) => true,
            (Some(services), Some(service)) => services.iter().any(|known| known == service),
            (Some(_), None) => false,
        }
    }

    /// Where it appears, in words.
    pub fn places(&self, name: &str) -> String {
        let variable = self.variable.as_ref().map(|variable| match &self.services {
            None => format!("the variable {variable}"),
            Some(services) => format!("the variable {variable} of {}", services.join(", ")),
        });
        let file = self.file.then(|| format!("the file {DIRECTORY}/{name}"));
        variable.into_iter().chain(file).collect::<Vec<_>>().join(" and ")
    }
}

/// Reads the table of secrets: those of this variant, and all services that are named there.
pub(super) fn read(
    reader: &mut Reader<'_>,
    top: &TableAt<'_>,
    services: &BTreeMap<String, At<Service>>,
) -> (BTreeMap<String, At<Secret>>, Vec<At<String>>) {
    let (mut secrets, mut named) = (BTreeMap::new(), Vec::new());
    let Some(table) = reader.subtable(top, "secrets", "secrets") else { return (secrets, named) };
    for entry in table.entries() {
        let (name, span) = (&entry.name, entry.name_span.clone());
        rules::plain_name(reader, "secret", name, &span);
        let Some(inner) = reader.table_of(entry, "secrets.*") else { continue };
        let about = reader.text(&inner, "about").map_or_else(String::new, |about| about.value);
        let variable = reader.text(&inner, "variable");
        if let Some(variable) = &variable {
            let nothing = At { value: String::new(), span: variable.span.clone() };
            rules::variable(reader, &variable.value, &variable.span, &nothing);
        }
        let file = reader.flag(&inner, "file");
        if inner.key_span("variable").is_none() && inner.key_span("file").is_none() {
            let message = format!("the secret {name} appears nowhere");
            let remedy = format!("add variable = \"NAME\", or file = true for the file {DIRECTORY}/{name}");
            reader.push(Mistake::new(Code::MISSING_KEY, span.clone(), message, remedy));
        }
        let given = reader.texts(&inner, "services").map(|given| given.value);
        // What is for services that this variant does not have is for others.
        let has = |named: &At<String>| services.contains_key(&named.value);
        let is_here = file || given.as_ref().is_none_or(|given| given.iter().any(has));
        named.extend(given.iter().flatten().cloned());
        let secret = Secret {
            about,
            variable: variable.map(|variable| variable.value),
            file,
            services: given.map(|given| given.into_iter().map(|service| service.value).collect()),
            optional: reader.flag(&inner, "optional"),
        };
        if is_here {
            secrets.insert(name.clone(), At { value: secret, span });
        }
    }
    if secrets.len() > MOST {
        let message = format!("there are {} secrets, and a spec may have {MOST}", secrets.len());
        reader.push(Mistake::new(Code::NOT_ALLOWED, table.span(), message, "put several into one file"));
    }
    (secrets, named)
}

/// Says which services are named that no variant has.
pub(super) fn check(reader: &mut Reader<'_>, specs: &BTreeMap<String, Spec>) {
    let known: BTreeSet<&str> = specs.values().flat_map(|spec| spec.services.keys()).map(String::as_str).collect();
    let named: Vec<_> = specs.values().flat_map(|spec| &spec.named_by_secrets).collect();
    for named in named.into_iter().filter(|named| !known.contains(named.value.as_str())) {
        let remedy = match nearest(&named.value, known.iter().copied()) {
            Some(meant) => format!("write {meant:?}"),
            None => "write the name of a service, or leave `services` out: then everything inside has it".to_owned(),
        };
        let message = format!("there is no service {:?}", named.value);
        reader.push(Mistake::new(Code::UNKNOWN_SERVICE, named.span.clone(), message, remedy));
    }
}
