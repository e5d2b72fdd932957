//! Pins of toolchains that come from no depot: from packages of the base, and from an archive that the spec names.

use super::{DebianPin, Lock, Source, ToolchainPin};
use crate::debian::{self, languages};
use crate::depot::Probe;
use crate::digest::Sha256Digest;
use crate::mistake::{Code, Mistake};
use crate::spec::{At, Provenance, Spec, Wanted};
use crate::version::Version;

/// The part of a package's version that the program itself tells: without epoch, revision, and what the archive adds to
/// it (`1:2.39.5-0+deb12u2` is 2.39.5, `1.63.0+dfsg1-2` is 1.63.0).
pub fn told_version(version: &str) -> &str {
    let version = version.split_once(':').map_or(version, |(_, rest)| rest);
    let upstream = version.rsplit_once('-').map_or(version, |(upstream, _)| upstream);
    // What Debian took out of the source is said in various ways.
    let end = ["+", "~", ".dfsg", ".ds"].iter().filter_map(|mark| upstream.find(mark)).min();
    &upstream[..end.unwrap_or(upstream.len())]
}

/// Adds the toolchains whose archive the spec names. Size and digest are for the caller to fill in.
pub(super) fn add_archives(spec: &Spec, lock: &mut Lock) {
    for (name, wanted) in &spec.toolchains {
        let Provenance::Archive { origin, sha256, strip, place, programs } = &wanted.value.from else { continue };
        let version = wanted.value.version.value.clone();
        lock.toolchains.push(ToolchainPin {
            name: name.clone(),
            probe: probe(&wanted.value, name, version.as_str()),
            version,
            source: Some(Source {
                depot: String::new(),
                file: origin.at().value.clone(),
                size: 0,
                sha256: sha256.as_ref().map_or(Sha256Digest::from_bytes([0; 32]), |sha256| sha256.value),
            }),
            packages: Vec::new(),
            strip: *strip,
            place: place.to_string(),
            path: programs.clone(),
            also: false,
            parts: Vec::new(),
        });
    }
    lock.toolchains.sort_by(|a, b| (&a.name, a.also).cmp(&(&b.name, b.also)));
}

/// Adds the toolchains that come with the base, and says which of them are not there in the version that is asked for.
pub fn add_from_base(spec: &Spec, debian: &DebianPin, lock: &mut Lock, mistakes: &mut Vec<Mistake>) {
    lock.toolchains.retain(|pin| pin.source.is_some());
    for (name, wanted) in &spec.toolchains {
        let Provenance::Base { packages, parts } = &wanted.value.from else { continue };
        let own_name = |wish: &At<String>| debian::parse_alternative(&wish.value).name;
        let Some(first) = packages.first() else { continue };
        // One that is not there was reported when the packages were chosen.
        let Some(package) = debian.package(&own_name(first)) else { continue };
        let Ok(version) = Version::new(told_version(&package.version)) else { continue };
        let asked = &wanted.value.version;
        if !version.answers(&asked.value) {
            let message = format!("the base has {name} in version {version}, and {} is asked for", asked.value);
            let remedy = format!("write version = \"{version}\", or take another suite, a depot or an archive");
            mistakes.push(Mistake::new(Code::VERSION_NOT_OFFERED, asked.span.clone(), message, remedy));
            continue;
        }
        let mut all: Vec<_> = packages.iter().chain(parts.values().flatten()).map(|one| one.value.clone()).collect();
        all.sort();
        all.dedup();
        lock.toolchains.push(ToolchainPin {
            name: name.clone(),
            probe: probe(&wanted.value, &own_name(first), version.as_str()),
            version,
            source: None,
            packages: all,
            strip: 0,
            place: "/usr".to_owned(),
            path: Vec::new(),
            also: false,
            parts: Vec::new(),
        });
    }
    lock.toolchains.sort_by(|a, b| (&a.name, a.also).cmp(&(&b.name, b.also)));
}

fn probe(wanted: &Wanted, program: &str, version: &str) -> Probe {
    let run = match &wanted.probe {
        Some(run) => run.argv(),
        None => languages::probe_of(program).unwrap_or_else(|| vec![program.to_owned(), "--version".to_owned()]),
    };
    match &wanted.answer {
        Some(answer) => Probe { run, answer: answer.clone(), within: false },
        None => Probe { run, answer: version.to_owned(), within: true },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_program_tells_of_its_version_is_what_its_makers_gave_it() {
        for (package, told) in [
            ("1:2.39.5-0+deb12u2", "2.39.5"),
            ("1.63.0+dfsg1-2", "1.63.0"),
            ("4:12.2.0-3", "12.2.0"),
            ("18.20.4+dfsg-1~deb12u1", "18.20.4"),
            ("15+248", "15"),
            ("1.18.3.dfsg-1.1", "1.18.3"),
            ("2.36-9+deb12u9", "2.36"),
        ] {
            assert_eq!(told_version(package), told);
        }
    }

    #[test]
    fn an_answer_has_the_version_in_it_as_a_word_of_its_own() {
        let probe = Probe { run: Vec::new(), answer: "1.2".to_owned(), within: true };
        for good in ["1.2", "v1.2", "quill 1.2.1 (harbour)", "tool 9.9\nquill 1.2+b1"] {
            assert!(probe.is_answered_by(good), "{good}");
        }
        for bad in ["1.20", "11.2", "0.1.2", "2.1"] {
            assert!(!probe.is_answered_by(bad), "{bad}");
        }
    }
}
