//! `[team]`: who is in the team, as the spec says. What counts is what a lead has signed: [`crate::team::history`].

use std::collections::{BTreeMap, BTreeSet};

use super::document::Value;
use super::reader::{Reader, Span, TableAt};
use super::{At, rules};
use crate::mistake::{Code, Mistake};
use crate::oci::Reference;
use crate::signature::PublicKey;
use crate::team::{BadTeam, Person, Role, Team};

/// The table `[team]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeclaredTeam {
    /// A file of allowed signers, relative to the spec, with people beside those named here.
    pub signers: Option<At<String>>,
    /// The folder for reports, relative to the spec.
    pub reports: Option<At<String>>,
    /// The image in a registry that reports are attached to.
    pub registry: Option<At<Reference>>,
    /// Every full `verify` reports, without being asked.
    pub automatic_reports: bool,
    /// The people named here.
    pub people: BTreeMap<String, At<Person>>,
    /// Where the table is named.
    pub span: Span,
}

impl DeclaredTeam {
    /// The people named here, without those of the file.
    pub fn named(&self) -> Team {
        Team { people: self.people.iter().map(|(name, person)| (name.clone(), person.value.clone())).collect() }
    }

    /// Why a whole team cannot be one, as a mistake at its place.
    pub fn mistake(&self, bad: &BadTeam) -> Mistake {
        let (who, remedy) = match bad {
            BadTeam::NoLead => (None, "give somebody roles = [\"lead\", \"member\"]"),
            BadTeam::Shared { second, .. } => (Some(second), "take the key from one of them"),
            BadTeam::NoKey(name) => (Some(name), "write the line of their .pub file into keys"),
            BadTeam::Name(name) => (Some(name), "use letters, digits, - _ + . @ and begin with a letter or digit"),
        };
        let span = who.and_then(|name| self.people.get(name)).map_or(&self.span, |person| &person.span);
        Mistake::new(Code::BAD_TEAM, span.clone(), bad.to_string(), remedy)
    }
}

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>) -> DeclaredTeam {
    let signers = reader.outside(table, "signers");
    let reports = reader.outside(table, "reports").filter(|at| inside_project(reader, at));
    let registry = reader.text(table, "registry").and_then(|text| image(reader, text));
    let automatic_reports = reader.flag(table, "automatic-reports");
    if automatic_reports && reports.is_none() && registry.is_none() {
        let span = table.key_span("automatic-reports").unwrap_or(table.span()).clone();
        let message = "automatic-reports does not say where reports go";
        let remedy =
            "add reports = \"reports\", a folder of the project, or registry = \"registry.example/team/image:1\"";
        reader.push(Mistake::new(Code::MISSING_KEY, span, message, remedy));
    }
    let mut people = BTreeMap::new();
    let mut whole = true;
    if let Some(entries) = reader.subtable(table, "people", "team.people") {
        for entry in entries.entries() {
            if !crate::team::is_name(&entry.name) {
                let message = format!("{:?} cannot be a person's name", entry.name);
                let remedy = "use letters, digits, - _ + . @ and begin with a letter or digit";
                reader.push(Mistake::new(Code::BAD_NAME, entry.name_span.clone(), message, remedy));
                whole = false;
            }
            let Some(inner) = reader.table_of(entry, "team.people.*") else {
                whole = false;
                continue;
            };
            match read_person(reader, &inner) {
                Some(value) => drop(people.insert(entry.name.clone(), At { value, span: entry.name_span.clone() })),
                None => whole = false,
            }
        }
    }
    let team = DeclaredTeam { signers, reports, registry, automatic_reports, people, span: table.span() };
    // Those of the file may be the ones that are missing.
    let has_people = !team.people.is_empty() || (team.reports.is_none() && team.registry.is_none());
    if team.signers.is_none()
        && has_people
        && whole
        && let Err(bad) = team.named().check()
    {
        reader.push(team.mistake(&bad));
    }
    team
}

/// The image that reports are attached to.
fn image(reader: &mut Reader<'_>, text: At<String>) -> Option<At<Reference>> {
    let why = match Reference::parse(&text.value) {
        Ok(value) if value.tag.is_some() => return Some(At { value, span: text.span }),
        Ok(_) => "it has no tag".to_owned(),
        Err(why) => why,
    };
    let message = format!("{:?} does not name an image in a registry: {why}", text.value);
    let remedy =
        "write registry, name and tag of the image that cavrith push puts there: registry.example/team/image:1";
    reader.push(Mistake::new(Code::BAD_REFERENCE, text.span, message, remedy));
    None
}

/// Whether a folder lies in the project by its name; where it leads is seen when it is written to.
fn inside_project(reader: &mut Reader<'_>, at: &At<String>) -> bool {
    let plain = |part: &str| !part.is_empty() && part != "." && part != "..";
    let good = !at.value.is_empty() && at.value.trim_end_matches('/').split('/').all(plain);
    if !good {
        let message = format!("{:?} is no folder in the project", at.value);
        reader.push(Mistake::new(
            Code::NOT_ALLOWED,
            at.span.clone(),
            message,
            "name a folder beside the spec: reports",
        ));
    }
    good
}

/// Nothing when something about them is wrong, which is reported.
fn read_person(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Option<Person> {
    let before = reader.mistakes.len();
    let mut roles = BTreeSet::new();
    let names = Role::ALL.map(Role::name);
    match reader.texts(table, "roles") {
        None => drop(roles.insert(Role::Member)),
        Some(texts) => {
            for text in &texts.value {
                rules::one_of(reader, "roles", text, &names);
                roles.extend(Role::ALL.into_iter().filter(|role| role.name() == text.value));
            }
        }
    }
    let mut keys = BTreeSet::new();
    for text in reader.texts(table, "keys").map(|texts| texts.value).unwrap_or_default() {
        match PublicKey::parse(&text.value) {
            Ok(key) => drop(keys.insert(key)),
            Err(bad) => {
                let remedy = "write the one line of a .pub file, as ssh-keygen makes it";
                reader.push(Mistake::new(Code::BAD_KEY, text.span, format!("this key cannot be used: {bad}"), remedy));
            }
        }
    }
    // A list of another type is reported already.
    let is_list = |name: &str| matches!(table.value(name), None | Some(Value::List(_)));
    (reader.mistakes.len() == before && is_list("keys")).then_some(Person { roles, keys })
}
