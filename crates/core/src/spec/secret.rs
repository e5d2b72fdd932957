//! Secrets that a workspace needs: what for, and where they appear inside. A spec never has their values; each member's
//! configuration says where theirs come from.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::reader::{Reader, TableAt};
use super::{At, Service, Spec, StartStep, rules};
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
    /// Services that have the variable. Where neither services nor steps are named, all have it, and members' commands,
    /// too; where some are, nobody else has.
    pub services: Option<Vec<String>>,
    /// Steps of the start that have the variable.
    #[serde(default)]
    pub steps: Option<Vec<String>>,
    /// A workspace starts without it as well.
    pub optional: bool,
}

/// The directory inside in which files of secrets lie, in memory.
pub const DIRECTORY: &str = "/run/secrets";

/// Who runs inside.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Runs<'a> {
    /// A service.
    Service(&'a str),
    /// A step of the start.
    Step(&'a str),
    /// A member's command.
    Command,
}

impl Secret {
    /// Whether somebody has its variable.
    pub fn is_for(&self, who: Runs<'_>) -> bool {
        let names = |list: &Option<Vec<String>>, name: &str| list.iter().flatten().any(|known| known == name);
        match who {
            _ if self.services.is_none() && self.steps.is_none() => true,
            Runs::Service(name) => names(&self.services, name),
            Runs::Step(name) => names(&self.steps, name),
            Runs::Command => false,
        }
    }

    /// Where it appears, in words.
    pub fn places(&self, name: &str) -> String {
        let variable = self.variable.as_ref().map(|variable| {
            let steps = self.steps.iter().flatten().map(|step| format!("the step {step}"));
            let of = self.services.iter().flatten().cloned().chain(steps).collect::<Vec<_>>().join(", ");
            if of.is_empty() { format!("the variable {variable}") } else { format!("the variable {variable} of {of}") }
        });
        let file = self.file.then(|| format!("the file {DIRECTORY}/{name}"));
        variable.into_iter().chain(file).collect::<Vec<_>>().join(" and ")
    }
}

/// What secrets name, whether this variant has it or not.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NamedBySecrets {
    /// Services.
    pub services: Vec<At<String>>,
    /// Steps of the start.
    pub steps: Vec<At<String>>,
}

/// Reads the table of secrets: those of this variant, and all services that are named there.
pub(super) fn read(
    reader: &mut Reader<'_>,
    top: &TableAt<'_>,
    (services, steps): (&BTreeMap<String, At<Service>>, &[StartStep]),
) -> (BTreeMap<String, At<Secret>>, NamedBySecrets) {
    let (mut secrets, mut named) = (BTreeMap::new(), NamedBySecrets::default());
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
        let of_steps = reader.texts(&inner, "steps").map(|given| given.value);
        // What is for services and steps that this variant does not have is for others.
        let has = |named: &At<String>| services.contains_key(&named.value);
        let has_step = |named: &At<String>| steps.iter().any(|step| step.step.name.value == named.value);
        let is_here = file
            || (given.is_none() && of_steps.is_none())
            || given.iter().flatten().any(has)
            || of_steps.iter().flatten().any(has_step);
        named.services.extend(given.iter().flatten().cloned());
        named.steps.extend(of_steps.iter().flatten().cloned());
        let texts = |given: Option<Vec<At<String>>>| given.map(|all| all.into_iter().map(|one| one.value).collect());
        let secret = Secret {
            about,
            variable: variable.map(|variable| variable.value),
            file,
            services: texts(given),
            steps: texts(of_steps),
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

/// Says which services and steps are named that no variant has.
pub(super) fn check(reader: &mut Reader<'_>, specs: &BTreeMap<String, Spec>) {
    let services: BTreeSet<&str> = specs.values().flat_map(|spec| spec.services.keys()).map(String::as_str).collect();
    let steps: BTreeSet<&str> =
        specs.values().flat_map(|spec| &spec.start_steps).map(|step| step.step.name.value.as_str()).collect();
    let named = specs.values().map(|spec| &spec.named_by_secrets);
    let of_services = named.clone().flat_map(|named| &named.services).map(|named| (named, &services, "service"));
    let of_steps = named.flat_map(|named| &named.steps).map(|named| (named, &steps, "step of the start"));
    for (named, known, what) in of_services.chain(of_steps) {
        if known.contains(named.value.as_str()) {
            continue;
        }
        let remedy = match nearest(&named.value, known.iter().copied()) {
            Some(meant) => format!("write {meant:?}"),
            None => format!("write the name of a {what}, or leave it out: then everything inside has it"),
        };
        let message = format!("there is no {what} {:?}", named.value);
        reader.push(Mistake::new(Code::UNKNOWN_SERVICE, named.span.clone(), message, remedy));
    }
}
