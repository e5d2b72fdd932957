//! Where members' reports lie: in a folder, in a repository, or in a registry, as what refers to the team's image.
//! Nothing here believes any of them.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

use cavrith_core::oci::Reference;
use cavrith_core::oci::image::{Attachment, Platform};
use cavrith_core::path::shown;
use cavrith_core::report;
use cavrith_core::roster::Candidate;
use cavrith_engine::error::file_error;
use cavrith_engine::registries;
use cavrith_engine::supply::Supply;
use cavrith_store::{reading, workers};

use crate::attaching::{self, Beside};
use crate::joining::{self, Source};
use crate::{ExchangeError, git, transfer};

/// What a report in a registry is.
pub const REPORT: &str = "application/vnd.cavrith.report.v1+json";
/// Reports that are read from one place.
const MOST: usize = 100_000;
/// Reports that are fetched at once.
const AT_ONCE: usize = 8;

/// Where reports lie, or are put.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReportPlace {
    /// A folder.
    Folder(PathBuf),
    /// An image in a registry.
    Registry(Reference),
    /// A repository, to read from.
    Git(Source),
}

impl ReportPlace {
    /// Reads a place as it is typed. A folder that is there is that folder, whatever else its name could be.
    ///
    /// # Errors
    /// When it can be neither.
    pub fn parse(text: &str, is_read: bool) -> Result<Self, ExchangeError> {
        if Path::new(text).is_dir() {
            return Ok(Self::Folder(PathBuf::from(text)));
        }
        if let Some(reference) = joining::image(text) {
            return Ok(Self::Registry(reference));
        }
        match Source::parse(text) {
            Ok(source) if is_read => Ok(Self::Git(source)),
            _ => Err(ExchangeError::NoReports { text: text.to_owned(), is_read }),
        }
    }
}

/// Attaches a report to an image in a registry.
///
/// # Errors
/// When there is no such image, or the registry does not take the report.
pub fn attach(
    supply: Supply<'_>,
    reference: &Reference,
    platform: &Platform,
    report: &str,
) -> Result<(), ExchangeError> {
    let login = transfer::login(supply, reference)?;
    let registry = registries::open(supply.web, supply.member, reference, login.as_ref());
    let image = attaching::named(&registry, reference, platform)?;
    let attachment = Attachment { media_type: REPORT, bytes: report.as_bytes().to_vec() };
    attaching::attach(supply, &registry, &attachment, &image, Beside::Others)
}

/// Everything that is attached to an image in a registry as a report.
///
/// # Errors
/// When there is no such image, or the registry fails.
pub fn attached(
    supply: Supply<'_>,
    reference: &Reference,
    platform: &Platform,
) -> Result<Vec<Candidate>, ExchangeError> {
    let login = transfer::login(supply, reference)?;
    let registry = registries::open(supply.web, supply.member, reference, login.as_ref());
    let image = attaching::named(&registry, reference, platform)?;
    let listed = attaching::referrers(&registry, &image, REPORT, MOST)?;
    let found = Mutex::new(Vec::with_capacity(listed.len()));
    workers::each(listed.len(), AT_ONCE, |number| -> Result<(), ExchangeError> {
        let one = &listed[number];
        // What is too long is told as no report.
        let text = attaching::read(&registry, one, report::LONGEST)?.unwrap_or_default();
        let from = format!("{reference} sha256:{}", &one.digest.0.to_string()[..12]);
        found.lock().unwrap_or_else(PoisonError::into_inner).push(Candidate { from, text });
        Ok(())
    })?;
    let mut found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
    found.sort_by(|one, other| one.from.cmp(&other.from));
    Ok(found)
}

/// The reports of a repository, by way of `aside`, which is not there yet and stays. Of its files only those count that
/// have the form of a report, since it may have others.
///
/// # Errors
/// When git fails, or the revision is not there.
pub fn in_repository(source: &Source, aside: &Path) -> Result<Vec<Candidate>, ExchangeError> {
    joining::clone(&source.address, aside)?;
    let commit = joining::commit_of(source, aside)?;
    git::text(aside, ["checkout", "--quiet", "--detach", commit.as_str()])?;
    let mut found = in_folder(aside)?;
    found.retain(|one| report::has_form(&one.text));
    for one in &mut found {
        one.from = format!("{}: {}", shown(source.to_string().as_bytes()), one.from);
    }
    Ok(found)
}

/// Everything in a folder that may be a report: its files that end with `.json`, those of its folders too. No link is
/// followed.
///
/// # Errors
/// When the folder cannot be listed.
pub fn in_folder(folder: &Path) -> Result<Vec<Candidate>, ExchangeError> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).map_err(file_error("list", &dir))? {
            let entry = entry.map_err(file_error("list", &dir))?;
            let kind = entry.file_type().map_err(file_error("list", &dir))?;
            let path = entry.path();
            if kind.is_dir() && entry.file_name() != ".git" {
                open.push(path);
            } else if kind.is_file() && path.extension().is_some_and(|ending| ending == "json") {
                found.push(path);
            }
            if found.len() > MOST {
                let many = std::io::Error::other(format!("there are more than {MOST} files"));
                return Err(file_error("read", folder)(many).into());
            }
        }
    }
    found.sort();
    let slots: Vec<_> = found.iter().map(|_| OnceLock::new()).collect();
    workers::each(found.len(), workers::processors(), |number| -> Result<(), ExchangeError> {
        // What is too long or gone is told as no report.
        let text = reading::bounded(&found[number], report::LONGEST as u64).unwrap_or_default();
        let _ = slots[number].set(text);
        Ok(())
    })?;
    let from = |path: &PathBuf| shown(path.strip_prefix(folder).unwrap_or(path).as_os_str().as_bytes());
    let read = found.iter().zip(slots);
    Ok(read.map(|(path, text)| Candidate { from: from(path), text: text.into_inner().unwrap_or_default() }).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_a_folder_that_is_there_or_an_image_or_a_repository() {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().to_str().unwrap();
        assert_eq!(ReportPlace::parse(folder, false).unwrap(), ReportPlace::Folder(dir.path().to_owned()));
        let image = ReportPlace::parse("registry.example/brindle/timetable:1", false).unwrap();
        assert!(matches!(image, ReportPlace::Registry(_)));
        for address in ["https://git.example/brindle/timetable.git", "crew@git.example:brindle/timetable.git#main"] {
            assert!(matches!(ReportPlace::parse(address, true).unwrap(), ReportPlace::Git(_)), "{address}");
            assert!(ReportPlace::parse(address, false).is_err(), "{address}");
        }
        for wrong in ["/no/such/place", "reports", "", "registry.example/brindle/timetable"] {
            assert!(ReportPlace::parse(wrong, true).is_err(), "{wrong}");
        }
    }
}
