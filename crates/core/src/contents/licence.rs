//! What packages declare of their licences (Debian's machine-readable copyright format 1.0), and what that is called in
//! SPDX.

/// The licences that a copyright file declares, in its order, each once. Empty for a file in prose.
pub fn declared(text: &str) -> Vec<String> {
    // The format says of itself that it is the format, in its first stanza.
    if !text.lines().take(20).any(|line| line.starts_with("Format:") || line.starts_with("Format-Specification:")) {
        return Vec::new();
    }
    let mut found: Vec<String> = Vec::new();
    for line in text.lines() {
        let Some(licence) = line.strip_prefix("License:").map(str::trim).filter(|licence| !licence.is_empty()) else {
            continue;
        };
        let licence = licence.split_whitespace().collect::<Vec<_>>().join(" ");
        // Real files have whole sentences there now and then; those name nothing.
        if licence.len() <= 80 && !found.contains(&licence) {
            found.push(licence);
        }
    }
    found
}

/// Short names of the format that are called otherwise in the SPDX list.
const NAMES: [(&str, &str); 34] = [
    ("Apache-2", "Apache-2.0"),
    ("Apache-2.0", "Apache-2.0"),
    ("Artistic", "Artistic-1.0-Perl"),
    ("Artistic-2", "Artistic-2.0"),
    ("BSD-2-clause", "BSD-2-Clause"),
    ("BSD-2-Clause", "BSD-2-Clause"),
    ("BSD-3-clause", "BSD-3-Clause"),
    ("BSD-3-Clause", "BSD-3-Clause"),
    ("BSD-4-clause", "BSD-4-Clause"),
    ("BSL-1", "BSL-1.0"),
    ("CC0", "CC0-1.0"),
    ("CC0-1.0", "CC0-1.0"),
    ("Expat", "MIT"),
    ("GFDL-1.3+", "GFDL-1.3-or-later"),
    ("GPL-1", "GPL-1.0-only"),
    ("GPL-1+", "GPL-1.0-or-later"),
    ("GPL-2", "GPL-2.0-only"),
    ("GPL-2+", "GPL-2.0-or-later"),
    ("GPL-3", "GPL-3.0-only"),
    ("GPL-3+", "GPL-3.0-or-later"),
    ("ISC", "ISC"),
    ("LGPL-2", "LGPL-2.0-only"),
    ("LGPL-2+", "LGPL-2.0-or-later"),
    ("LGPL-2.1", "LGPL-2.1-only"),
    ("LGPL-2.1+", "LGPL-2.1-or-later"),
    ("LGPL-3", "LGPL-3.0-only"),
    ("LGPL-3+", "LGPL-3.0-or-later"),
    ("MIT", "MIT"),
    ("MPL-1.1", "MPL-1.1"),
    ("MPL-2.0", "MPL-2.0"),
    ("OpenLDAP-2.8", "OLDAP-2.8"),
    ("PostgreSQL", "PostgreSQL"),
    ("Zlib", "Zlib"),
    ("zlib", "Zlib"),
];

/// One declared licence as an SPDX expression (SPDX 2.3, annex D), and the names in it that are no SPDX licence, which
/// have to be explained.
pub fn expression(declared: &str) -> (String, Vec<String>) {
    let (mut words, mut others) = (Vec::new(), Vec::new());
    let text = declared.replace([',', '(', ')'], " ");
    let mut with = false;
    for word in text.split_whitespace() {
        match word.to_ascii_lowercase().as_str() {
            "and" => words.push("AND".to_owned()),
            "or" => words.push("OR".to_owned()),
            // An exception's own words say nothing that the list has a name for.
            "with" => with = true,
            _ if with => {}
            _ => match NAMES.iter().find(|(name, _)| *name == word) {
                Some((_, spdx)) => words.push((*spdx).to_owned()),
                None => {
                    let plain: String = word
                        .chars()
                        .map(|one| if one.is_ascii_alphanumeric() || one == '.' { one } else { '-' })
                        .collect();
                    let name = format!("LicenseRef-debian-{plain}");
                    others.push(name.clone());
                    words.push(name);
                }
            },
        }
        if matches!(word.to_ascii_lowercase().as_str(), "and" | "or") {
            with = false;
        }
    }
    let names = words.iter().filter(|word| !matches!(word.as_str(), "AND" | "OR")).count();
    // Names without a word between them, or words without names, are no expression.
    if names == 0
        || words.len() != 2 * names - 1
        || words.iter().skip(1).step_by(2).any(|word| !matches!(word.as_str(), "AND" | "OR"))
    {
        let plain: String =
            declared.chars().map(|one| if one.is_ascii_alphanumeric() || one == '.' { one } else { '-' }).collect();
        let name = format!("LicenseRef-debian-{plain}");
        return (name.clone(), vec![name]);
    }
    (words.join(" "), others)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn licences_are_taken_from_the_machine_readable_format_only() {
        let text = "Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/\n\nFiles: *\nLicense: GPL-2+\n text\n\nFiles: a\nLicense: Expat\n\nLicense: GPL-2+\n On Debian systems …\n";
        assert_eq!(declared(text), ["GPL-2+", "Expat"]);
        assert!(declared("This package is under the GPL.\nLicense: see below\n").is_empty());
    }

    #[test]
    fn declared_names_become_expressions() {
        assert_eq!(expression("GPL-2+").0, "GPL-2.0-or-later");
        assert_eq!(expression("GPL-2+ and LGPL-2.1+").0, "GPL-2.0-or-later AND LGPL-2.1-or-later");
        assert_eq!(expression("GPL-3+ with GCC exception").0, "GPL-3.0-or-later");
        let (text, others) = expression("Sailors'-own");
        assert_eq!((text.as_str(), others.len()), ("LicenseRef-debian-Sailors--own", 1));
        assert_eq!(expression("public domain").0, "LicenseRef-debian-public-domain");
    }
}
