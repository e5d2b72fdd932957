//! Bringing what was changed by hand into the spec: the lines that a person would write for it.
//!
//! What is computed here is an [`Adoption`]: the spec's new text, and files to lay beside it. Nothing is written before
//! somebody has seen it.

mod lists;

use std::path::PathBuf;

use cavrith_core::drift::{FileChange, Finding, Group};
use cavrith_core::path::RootPath;
use cavrith_core::secrets;
use cavrith_core::spec::{Base, Spec};
use cavrith_core::tree::{Entry, Kind, Tree};
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, Value, value};

use crate::error::{EngineError, ProjectError};

/// The project's folder for files that are adopted.
pub const FOLDER: &str = "adopted";
/// Bytes of a text that is written into the spec itself.
const INLINE: usize = 1 << 10;
/// Bytes that all files of one adoption may have.
const MOST_BYTES: u64 = 256 << 20;

/// What was changed inside, for reading.
pub struct Inside<'a> {
    /// The workspace as it is.
    pub here: &'a Tree,
    /// The content of a regular file, and where it lies outside.
    pub read: &'a dyn Fn(&RootPath) -> Option<Vec<u8>>,
    /// Lines of `/etc/passwd` inside.
    pub passwd: &'a str,
    /// Lines of `/etc/group` inside.
    pub group: &'a str,
}

/// A file to lay into the project.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewFile {
    /// Relative to the project.
    pub path: PathBuf,
    /// What it is.
    pub content: NewContent,
}

/// What a file of the project becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NewContent {
    /// A regular file: its bytes, and whether it is a program.
    File(Vec<u8>, bool),
    /// A symbolic link to this.
    Link(Vec<u8>),
}

/// What it takes to have in the image what was changed by hand.
#[derive(Debug, Default)]
pub struct Adoption {
    /// The spec's new text.
    pub spec: String,
    /// Files to lay beside it.
    pub files: Vec<NewFile>,
    /// Packages whose pins have to move on.
    pub update: Vec<String>,
    /// A step fetches, and has to be recorded.
    pub to_record: bool,
    /// What is not adopted, and why.
    pub left: Vec<(String, String)>,
    /// Names of what is adopted.
    pub adopted: Vec<String>,
}

/// The lines for some findings. `text` is the spec's own file.
///
/// # Errors
/// When the spec is no TOML, or has something else in the place of a table.
pub fn plan(text: &str, spec: &Spec, findings: &[Finding], inside: &Inside<'_>) -> Result<Adoption, EngineError> {
    let document = text.parse::<DocumentMut>();
    let document = document.map_err(|error| unchangeable(error.message().to_owned()))?;
    let mut plan = Plan { document, spec, inside, adoption: Adoption::default(), bytes: 0 };
    // Accounts before the files that belong to them, and what goes last.
    let order = |finding: &Finding| match finding {
        Finding::Package { .. } => 0,
        Finding::Account { .. } => 1,
        Finding::LanguagePackage { .. } | Finding::Environment { .. } => 2,
        Finding::File { .. } | Finding::Folder(_) => 3,
        Finding::Removed { .. } => 4,
        Finding::Variable { .. } | Finding::Service { .. } => 5,
    };
    let mut all: Vec<&Finding> = findings.iter().collect();
    all.sort_by_key(|finding| order(finding));
    plan.language_packages(&all)?;
    for finding in &all {
        match plan.one(finding, &all)? {
            Outcome::Adopted => plan.adoption.adopted.push(finding.name().to_owned()),
            Outcome::Left(why) => plan.adoption.left.push((finding.name().to_owned(), why)),
            Outcome::Elsewhere => {}
        }
    }
    plan.adoption.spec = plan.document.to_string();
    Ok(plan.adoption)
}

fn unchangeable(why: String) -> EngineError {
    EngineError::Project(ProjectError::SpecUnchangeable { why })
}

/// Whether this is a new directory above a path.
fn is_folder_above(finding: &Finding, path: &str) -> bool {
    let Finding::Folder(group) = finding else { return false };
    path.strip_prefix(group.path.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

enum Outcome {
    Adopted,
    /// Not, and why.
    Left(String),
    /// It comes with something else, or was dealt with already.
    Elsewhere,
}

fn left(why: &str) -> Result<Outcome, EngineError> {
    Ok(Outcome::Left(why.to_owned()))
}

struct Plan<'a> {
    document: DocumentMut,
    spec: &'a Spec,
    inside: &'a Inside<'a>,
    adoption: Adoption,
    bytes: u64,
}

impl Plan<'_> {
    fn one(&mut self, finding: &Finding, all: &[&Finding]) -> Result<Outcome, EngineError> {
        match finding {
            Finding::Package { name, from, to, asked } => self.package(name, from.as_deref(), to.as_deref(), *asked),
            Finding::LanguagePackage { to: Some(_), install: Some(_), .. } | Finding::Environment { .. } => {
                Ok(Outcome::Elsewhere)
            }
            Finding::LanguagePackage { to: None, .. } => left("take it out of whatever installs it in the spec"),
            // It comes with the directory that it lies in.
            Finding::LanguagePackage { place, .. } if all.iter().any(|other| is_folder_above(other, place)) => {
                Ok(Outcome::Elsewhere)
            }
            Finding::LanguagePackage { place, .. } => {
                Ok(Outcome::Left(format!("how it came to lie in {place} is not known; write a step that installs it")))
            }
            Finding::Account { commands, .. } if commands.is_empty() => {
                left("it is the account's own business, and no secret goes into an image")
            }
            Finding::Account { name, commands, .. } => {
                for (number, command) in commands.iter().enumerate() {
                    let more = if number == 0 { String::new() } else { format!(" ({})", number + 1) };
                    self.step(&format!("account {name}{more}"), "run", strings(command))?;
                }
                Ok(Outcome::Adopted)
            }
            Finding::Variable { name, value, .. } => {
                let env = table_of(self.document.as_table_mut(), "env")?;
                // What looks like another entry is one only where somebody wrote it so.
                let text = value.replace("${", "$${");
                match env.get_mut(name).and_then(Item::as_value_mut) {
                    Some(there) => {
                        let decor = there.decor().clone();
                        *there = text.into();
                        *there.decor_mut() = decor;
                    }
                    None => drop(env.insert(name, toml_edit::value(text))),
                }
                Ok(Outcome::Adopted)
            }
            Finding::Service { command, .. } if command.is_empty() => left("its command is not known"),
            Finding::Service { port, program, command, account } => self.service(*port, program, command, account),
            Finding::Removed { path, .. } => {
                self.step(&format!("remove {path}"), "run", strings(&["rm", "-rf", "--", path]))?;
                Ok(Outcome::Adopted)
            }
            Finding::Folder(group) => self.folder(group),
            Finding::File { path, how, fields, .. } => {
                let only_meta = *how == FileChange::Changed
                    && fields.iter().all(|field| ["mode", "owner", "group", "user"].contains(&field.name.as_str()));
                self.file(path, only_meta)
            }
        }
    }

    fn package(
        &mut self,
        name: &str,
        from: Option<&str>,
        to: Option<&str>,
        asked: bool,
    ) -> Result<Outcome, EngineError> {
        if from.is_none() && !asked {
            return Ok(Outcome::Elsewhere);
        }
        if !matches!(self.spec.base, Base::Debian(_)) {
            return left("the base is not of the Debian archive, so its packages cannot be written into the spec");
        }
        let base = self.document.get_mut("base").and_then(Item::as_table_like_mut);
        let Some(list) = base.and_then(|base| base.get_mut("packages")).and_then(Item::as_array_mut) else {
            return left("the packages of the base are not in this file; write it where they are");
        };
        let is_it = |item: &Value| item.as_str().is_some_and(|text| text.split([' ', '(']).next() == Some(name));
        let place = list.iter().position(is_it);
        match (place, to) {
            (Some(place), None) => {
                lists::remove(list, place);
                Ok(Outcome::Adopted)
            }
            (None, None) => left("another package of the base brings it; leave that one out, or trim the base"),
            (Some(place), Some(version)) => {
                let text = format!("{name} (>= {version})");
                if let Some(item) = list.get_mut(place) {
                    let decor = item.decor().clone();
                    *item = text.into();
                    *item.decor_mut() = decor;
                }
                self.adoption.update.push(name.to_owned());
                Ok(Outcome::Adopted)
            }
            (None, Some(version)) if from.is_none() => {
                lists::push(list, format!("{name} (>= {version})"));
                Ok(Outcome::Adopted)
            }
            (None, Some(_)) => {
                self.adoption.update.push(name.to_owned());
                Ok(Outcome::Adopted)
            }
        }
    }

    /// One step for each command that installs several, after those for what they are installed into.
    fn language_packages(&mut self, findings: &[&Finding]) -> Result<(), EngineError> {
        for finding in findings {
            let Finding::Environment { path, make, .. } = finding else { continue };
            self.adoption.adopted.push(path.clone());
            self.step(&format!("make {path}"), "run", strings(make))?;
        }
        let mut steps: Vec<(Vec<String>, Vec<String>)> = Vec::new();
        for finding in findings {
            let Finding::LanguagePackage { name, to: Some(_), install: Some(install), manager, .. } = finding else {
                continue;
            };
            self.adoption.adopted.push(name.clone());
            let Some((last, head)) = install.split_last() else { continue };
            // pip and npm take several at once.
            let joins = manager != "gem";
            match steps.iter_mut().find(|(known, _)| joins && known.as_slice() == head) {
                Some((_, names)) => names.push(last.clone()),
                None if joins => steps.push((head.to_vec(), vec![last.clone()])),
                None => steps.push((install.clone(), Vec::new())),
            }
        }
        for (mut command, mut names) in steps {
            let what = if names.is_empty() { command.get(2).cloned().unwrap_or_default() } else { names.join(", ") };
            command.append(&mut names);
            let step = self.step(&format!("install {what}"), "run", strings(&command))?;
            step.insert("network", value("recorded"));
            self.adoption.to_record = true;
        }
        Ok(())
    }

    fn service(&mut self, port: u16, program: &str, command: &[String], account: &str) -> Result<Outcome, EngineError> {
        let plain = |letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit() || letter == '-';
        let name: String =
            program.to_lowercase().chars().map(|letter| if plain(letter) { letter } else { '-' }).collect();
        let name = name.trim_matches('-').to_owned();
        if name.is_empty() || self.spec.services.contains_key(&name) {
            return left("a service of that name is in the spec already");
        }
        let services = table_of(self.document.as_table_mut(), "services")?;
        let mut service = Table::new();
        service.insert("run", value(strings_array(command)));
        if account != self.spec.workspace.account.value {
            service.insert("account", value(account));
        }
        let mut ready = InlineTable::new();
        ready.insert("port", i64::from(port).into());
        service.insert("ready", value(ready));
        services.insert(&name, Item::Table(service));
        Ok(Outcome::Adopted)
    }

    /// A new directory, which becomes a folder of the project.
    fn folder(&mut self, group: &Group) -> Result<Outcome, EngineError> {
        let Ok(top) = RootPath::from_absolute(&group.path) else { return left("its path cannot be written in a spec") };
        let mut after: Vec<Vec<String>> = Vec::new();
        let mut owners = std::collections::BTreeSet::new();
        let mut files = Vec::new();
        let mut directories = Vec::new();
        for (path, entry) in self.inside.here.under(&top) {
            owners.insert((entry.meta.uid, entry.meta.gid));
            let shown = path.to_string();
            match &entry.kind {
                Kind::File { .. } => {
                    if let Some(why) = self.secret(path) {
                        return Ok(Outcome::Left(format!("{shown} {why}")));
                    }
                    let Some(bytes) = (self.inside.read)(path) else {
                        return left("it cannot be read, or is too long");
                    };
                    let program = entry.meta.mode & 0o111 != 0;
                    if ![0o644, 0o755].contains(&entry.meta.mode) {
                        after.push(strings_vec(&["chmod", &format!("{:04o}", entry.meta.mode), &shown]));
                    }
                    files.push(new_file(path, NewContent::File(bytes, program)));
                }
                Kind::Symlink { target } => files.push(new_file(path, NewContent::Link(target.clone()))),
                Kind::Directory { .. } => {
                    directories.push(path.clone());
                    if entry.meta.mode != 0o755 {
                        after.push(strings_vec(&["chmod", &format!("{:04o}", entry.meta.mode), &shown]));
                    }
                }
                _ => return Ok(Outcome::Left(format!("{shown} is {}, which no step makes", entry.kind.word()))),
            }
        }
        let bytes: u64 = files.iter().map(NewFile::bytes).sum();
        self.bytes += bytes;
        if self.bytes > MOST_BYTES {
            self.bytes -= bytes;
            return left("it is too much for the project's folder; make it an archive, and a download of the spec");
        }
        // Version control keeps no directory without a file.
        let empty = |directory: &&RootPath| !files.iter().any(|file| file.path.starts_with(stored(directory)));
        for directory in directories.iter().filter(empty) {
            after.insert(0, strings_vec(&["mkdir", "-p", &directory.to_string()]));
        }
        if !files.is_empty() {
            let owner = match owners.iter().next() {
                Some(owner) if owners.len() == 1 => self.owner(*owner),
                _ => return left("its files belong to several accounts; write steps for them"),
            };
            let Some(owner) = owner else { return left("its owner is no account of the image") };
            let mut copy = InlineTable::new();
            copy.insert("from", stored(&top).to_string_lossy().into_owned().into());
            copy.insert("inside", group.path.as_str().into());
            copy.insert("ignored", true.into());
            if owner != "root" {
                copy.insert("owner", owner.into());
            }
            self.step(&format!("bring {}", group.path), "copy", value(copy))?;
        }
        for (number, command) in after.iter().enumerate() {
            self.step(&format!("rights in {} ({})", group.path, number + 1), "run", strings(command))?;
        }
        self.adoption.files.extend(files);
        Ok(Outcome::Adopted)
    }

    /// A file that was changed, or is new.
    fn file(&mut self, path: &str, only_meta: bool) -> Result<Outcome, EngineError> {
        let Ok(at) = RootPath::from_absolute(path) else { return left("its path cannot be written in a spec") };
        let Some(entry) = self.inside.here.get(&at).cloned() else { return left("it is gone meanwhile") };
        let mode = format!("{:04o}", entry.meta.mode);
        if only_meta {
            self.step(&format!("rights of {path}"), "run", strings(&["chmod", &mode, path]))?;
            let (user, group) = (entry.meta.uid, entry.meta.gid);
            if (user, group) != (0, 0) {
                let owner = format!("{user}:{group}");
                self.step(&format!("owner of {path}"), "run", strings(&["chown", "-h", &owner, path]))?;
            }
            return Ok(Outcome::Adopted);
        }
        match &entry.kind {
            Kind::Symlink { target } => {
                let target = String::from_utf8_lossy(target).into_owned();
                self.step(&format!("link {path}"), "run", strings(&["ln", "-sfn", "--", &target, path]))?;
                return Ok(Outcome::Adopted);
            }
            Kind::File { .. } => {}
            Kind::Directory { .. } => {
                self.step(&format!("make {path}"), "run", strings(&["install", "-d", "-m", &mode, path]))?;
                return Ok(Outcome::Adopted);
            }
            other => return Ok(Outcome::Left(format!("it is {}, which no step makes", other.word()))),
        }
        if let Some(why) = self.secret(&at) {
            return Ok(Outcome::Left(why));
        }
        let Some(bytes) = (self.inside.read)(&at) else { return left("it cannot be read, or is too long") };
        let Some(owner) = self.owner((entry.meta.uid, entry.meta.gid)) else {
            return left("its owner is no account of the image");
        };
        let text = String::from_utf8(bytes.clone()).ok();
        let text = text
            .filter(|text| text.len() <= INLINE && !text.chars().any(|letter| letter.is_control() && letter != '\n'));
        match text {
            Some(text) => self.write(path, text, &entry, &owner)?,
            None => {
                self.bytes += bytes.len() as u64;
                if self.bytes > MOST_BYTES {
                    return left("it is too much for the project's folder; make it a download of the spec");
                }
                let mut copy = InlineTable::new();
                copy.insert("from", stored(&at).to_string_lossy().into_owned().into());
                copy.insert("inside", path.into());
                copy.insert("ignored", true.into());
                if owner != "root" {
                    copy.insert("owner", owner.as_str().into());
                }
                self.step(&format!("bring {path}"), "copy", value(copy))?;
                if ![0o644, 0o755].contains(&entry.meta.mode) {
                    self.step(&format!("rights of {path}"), "run", strings(&["chmod", &mode, path]))?;
                }
                let program = entry.meta.mode & 0o111 != 0;
                self.adoption.files.push(new_file(&at, NewContent::File(bytes, program)));
            }
        }
        if let Some(group) = self.other_group(&entry) {
            self.step(&format!("group of {path}"), "run", strings(&["chgrp", &group, path]))?;
        }
        Ok(Outcome::Adopted)
    }

    /// The step that writes a text; one that writes it already gets the new one.
    fn write(&mut self, path: &str, text: String, entry: &Entry, owner: &str) -> Result<(), EngineError> {
        let steps = self.document.get_mut("steps").and_then(Item::as_array_of_tables_mut);
        let written = steps.and_then(|steps| {
            steps.iter_mut().filter_map(|step| step.get_mut("write")?.as_table_like_mut()).find(|write| {
                write.get("inside").and_then(Item::as_str) == Some(path) && write.get("content").is_some()
            })
        });
        let fill = |write: &mut dyn toml_edit::TableLike| {
            write.insert("inside", value(path));
            if entry.meta.mode != 0o644 || write.contains_key("mode") {
                write.insert("mode", value(format!("{:04o}", entry.meta.mode)));
            }
            if owner != "root" || write.contains_key("owner") {
                write.insert("owner", value(owner));
            }
            write.insert("content", value(text));
        };
        match written {
            Some(write) => fill(write),
            None => {
                let mut write = Table::new();
                fill(&mut write);
                self.step(&format!("write {path}"), "write", Item::Table(write))?;
            }
        }
        Ok(())
    }

    /// A further build step at the end of the others.
    fn step(&mut self, name: &str, action: &str, item: Item) -> Result<&mut Table, EngineError> {
        let steps = self.document.entry("steps").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
        let steps = steps
            .as_array_of_tables_mut()
            .ok_or_else(|| unchangeable("`steps` is not written with [[steps]]".to_owned()))?;
        let taken = |name: &str| steps.iter().any(|step| step.get("name").and_then(Item::as_str) == Some(name));
        let mut free = name.to_owned();
        let mut number = 2;
        while taken(&free) {
            free = format!("{name}, {number}");
            number += 1;
        }
        let mut step = Table::new();
        step.insert("name", value(free));
        step.insert("at", value("build"));
        step.insert(action, item);
        steps.push(step);
        let last = steps.len() - 1;
        steps.get_mut(last).ok_or_else(|| unchangeable("a step could not be added".to_owned()))
    }

    /// Why a file must not go into an image.
    fn secret(&self, path: &RootPath) -> Option<String> {
        let start = (self.inside.read)(path).unwrap_or_default();
        let start = start.get(..secrets::LOOKED_AT.min(start.len())).unwrap_or_default();
        let found = secrets::in_text(start).map(|(line, why)| format!("{why} (line {line})"));
        let why = secrets::by_name(&path.to_string()).map(str::to_owned).or(found)?;
        Some(format!("looks like a secret, and no secret goes into an image: {why}"))
    }

    /// The account of a number.
    fn owner(&self, (user, _): (u32, u32)) -> Option<String> {
        let mut lines = self.inside.passwd.lines().map(|line| line.split(':').collect::<Vec<_>>());
        let line = lines.find(|fields| fields.get(2).is_some_and(|number| *number == user.to_string()))?;
        line.first().map(|name| (*name).to_owned())
    }

    /// The group of a file that is not the one that its owner's files have.
    fn other_group(&self, entry: &Entry) -> Option<String> {
        let mut lines = self.inside.passwd.lines().map(|line| line.split(':').collect::<Vec<_>>());
        let line = lines.find(|fields| fields.get(2).is_some_and(|number| *number == entry.meta.uid.to_string()));
        let primary = line.and_then(|fields| fields.get(3).and_then(|number| number.parse::<u32>().ok()));
        if primary == Some(entry.meta.gid) {
            return None;
        }
        let mut groups = self.inside.group.lines().map(|line| line.split(':').collect::<Vec<_>>());
        let group = groups.find(|fields| fields.get(2).is_some_and(|number| *number == entry.meta.gid.to_string()));
        Some(
            group
                .and_then(|fields| fields.first().map(|name| (*name).to_owned()))
                .unwrap_or_else(|| entry.meta.gid.to_string()),
        )
    }
}

impl NewFile {
    fn bytes(&self) -> u64 {
        match &self.content {
            NewContent::File(bytes, _) => bytes.len() as u64,
            NewContent::Link(_) => 0,
        }
    }
}

/// Where a file of the workspace is kept in the project.
fn stored(path: &RootPath) -> PathBuf {
    PathBuf::from(FOLDER).join(path.as_relative())
}

fn new_file(path: &RootPath, content: NewContent) -> NewFile {
    NewFile { path: stored(path), content }
}

fn strings_vec(words: &[&str]) -> Vec<String> {
    words.iter().map(|word| (*word).to_owned()).collect()
}

fn strings_array<S: AsRef<str>>(words: &[S]) -> Array {
    words.iter().map(|word| word.as_ref()).collect()
}

fn strings<S: AsRef<str>>(words: &[S]) -> Item {
    value(strings_array(words))
}

fn table_of<'d>(document: &'d mut Table, name: &str) -> Result<&'d mut dyn toml_edit::TableLike, EngineError> {
    let item = document.entry(name).or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(name == "services");
        Item::Table(table)
    });
    item.as_table_like_mut().ok_or_else(|| unchangeable(format!("`{name}` is not a table")))
}
