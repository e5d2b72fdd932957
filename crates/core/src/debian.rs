//! The Debian archive's forms: versions, relations, control stanzas here; [`release`] and [`index`] of a suite, the
//! [`solve`]r over indexes, and where a machine [gets its packages from](apt).

pub mod apt;
pub mod index;
pub mod languages;
pub mod lifetime;
mod provider;
pub mod release;
mod request;
pub mod solve;
pub mod trim;
mod words;

use std::cmp::Ordering;

/// Compares two Debian versions (Debian Policy Manual, section 5.6.12): epoch by value, then upstream version, then
/// revision, both by alternating runs of non-digits and digits, where `~` sorts before everything, even the end.
pub fn compare_versions(a: &str, b: &str) -> Ordering {
    let (epoch_a, upstream_a, revision_a) = split(a);
    let (epoch_b, upstream_b, revision_b) = split(b);
    compare_digits(epoch_a, epoch_b)
        .then_with(|| compare_part(upstream_a, upstream_b))
        .then_with(|| compare_part(revision_a, revision_b))
}

fn split(version: &str) -> (&str, &str, &str) {
    let (epoch, rest) = version.split_once(':').unwrap_or(("", version));
    let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, ""));
    (epoch, upstream, revision)
}

fn compare_digits(a: &str, b: &str) -> Ordering {
    let (a, b) = (a.trim_start_matches('0'), b.trim_start_matches('0'));
    a.len().cmp(&b.len()).then_with(|| a.cmp(b))
}

fn compare_part(mut a: &str, mut b: &str) -> Ordering {
    let weight = |byte: Option<&u8>| match byte {
        Some(b'~') => -1,
        None => 0,
        Some(byte) if byte.is_ascii_digit() => 0,
        Some(byte) if byte.is_ascii_alphabetic() => i32::from(*byte),
        Some(byte) => i32::from(*byte) + 256,
    };
    let leading =
        |text: &str, digit: bool| text.bytes().position(|byte| byte.is_ascii_digit() != digit).unwrap_or(text.len());
    while !a.is_empty() || !b.is_empty() {
        let (words_a, words_b) = (leading(a, false), leading(b, false));
        for position in 0..words_a.max(words_b) {
            let (left, right) = (a.as_bytes()[..words_a].get(position), b.as_bytes()[..words_b].get(position));
            match weight(left).cmp(&weight(right)) {
                Ordering::Equal => {}
                order => return order,
            }
        }
        (a, b) = (&a[words_a..], &b[words_b..]);
        let (digits_a, digits_b) = (leading(a, true), leading(b, true));
        match compare_digits(&a[..digits_a], &b[..digits_b]) {
            Ordering::Equal => {}
            order => return order,
        }
        (a, b) = (&a[digits_a..], &b[digits_b..]);
    }
    Ordering::Equal
}

/// One alternative of a dependency: a package name and, perhaps, which versions of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alternative {
    /// The package's name.
    pub name: String,
    /// What stands after a colon: `any`, `native`, or an architecture.
    pub qualifier: Option<String>,
    /// Operator (`<<`, `<=`, `=`, `>=`, `>>`) and version.
    pub version: Option<(String, String)>,
}

/// Splits a `Depends` field (Debian Policy Manual, section 7.1) into its groups of alternatives. Restrictions to
/// architectures and build profiles are dropped; they stand in source packages only.
pub fn parse_relations(field: &str) -> Vec<Vec<Alternative>> {
    let groups = field.split(',').map(str::trim).filter(|group| !group.is_empty());
    groups.map(|group| group.split('|').map(parse_alternative).collect()).collect()
}

/// Reads one alternative: a name, perhaps a qualifier, perhaps a version in brackets.
pub fn parse_alternative(text: &str) -> Alternative {
    let text = text.split(['[', '<']).next().filter(|_| !text.contains('(')).unwrap_or(text);
    let (name, version) = match text.split_once('(') {
        None => (text, None),
        Some((name, rest)) => {
            let rest = rest.split(')').next().unwrap_or(rest).trim();
            let operator: String = rest.chars().take_while(|letter| "<>=".contains(*letter)).collect();
            let version = rest[operator.len()..].trim().to_owned();
            (name, Some((operator, version)))
        }
    };
    let (name, qualifier) = match name.trim().split_once(':') {
        Some((name, qualifier)) => (name, Some(qualifier.to_owned())),
        None => (name.trim(), None),
    };
    Alternative { name: name.to_owned(), qualifier, version }
}

impl Alternative {
    /// Whether a package of this name and version satisfies it.
    pub fn accepts(&self, version: &str) -> bool {
        let Some((operator, wanted)) = &self.version else {
            return true;
        };
        let order = compare_versions(version, wanted);
        match operator.as_str() {
            "<<" => order.is_lt(),
            "<=" | "<" => order.is_le(),
            "=" => order.is_eq(),
            ">=" | ">" => order.is_ge(),
            ">>" => order.is_gt(),
            _ => false,
        }
    }
}

impl std::fmt::Display for Alternative {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.version {
            None => f.write_str(&self.name),
            Some((operator, version)) => write!(f, "{} ({operator} {version})", self.name),
        }
    }
}

/// One field of a control file: its name as written, and its value with the continuation lines joined by newlines.
pub type Field = (String, String);

/// Reads one stanza of a control file (Debian Policy Manual, section 5.1).
///
/// # Errors
/// The line that is neither a field nor a continuation.
pub fn parse_stanza(text: &str) -> Result<Vec<Field>, String> {
    let mut fields: Vec<Field> = Vec::new();
    for line in text.lines().take_while(|line| !line.trim().is_empty()) {
        if line.starts_with([' ', '\t']) {
            let Some((_, value)) = fields.last_mut() else {
                return Err(line.to_owned());
            };
            value.push('\n');
            value.push_str(line);
        } else {
            let (name, value) = line.split_once(':').ok_or_else(|| line.to_owned())?;
            fields.push((name.to_owned(), value.trim().to_owned()));
        }
    }
    Ok(fields)
}

/// The value of a field, whatever the case of its name.
pub fn field<'a>(fields: &'a [Field], name: &str) -> Option<&'a str> {
    fields.iter().find(|(have, _)| have.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn versions_compare_as_the_policy_says() {
        for (a, order, b) in [
            ("1.0", "<", "1.1"),
            ("1.0~rc1", "<", "1.0"),
            ("1.0", "<", "1.0a"),
            ("1.0a", "<", "1.0+b"),
            ("1:0.1", ">", "9.9"),
            ("1:1.35.0-4+deb12u1+b1", ">", "1:1.35.0-4+deb12u1"),
            ("2.36-9+deb12u9", "<", "2.36-9+deb12u14"),
            ("1.0-1", ">", "1.0"),
            ("1.2-3-4", ">", "1.2-3-3"),
            ("1.0-0", "=", "1.0"),
            ("0:1.0", "=", "1.0"),
            ("1.010", "=", "1.10"),
            ("1.0~~", "<", "1.0~"),
        ] {
            let want = match order {
                "<" => Ordering::Less,
                ">" => Ordering::Greater,
                _ => Ordering::Equal,
            };
            assert_eq!(compare_versions(a, b), want, "{a} {order} {b}");
            assert_eq!(compare_versions(b, a), want.reverse(), "{b} against {a}");
        }
    }

    #[test]
    fn relations_are_read_with_alternatives_versions_and_qualifiers() {
        let groups = parse_relations("libc6 (>= 2.34), awk | mawk:any, python3:any (>= 3.11~), gcc [amd64] <!nocheck>");
        let shown: Vec<_> =
            groups.iter().map(|group| group.iter().map(ToString::to_string).collect::<Vec<_>>().join(" | ")).collect();
        assert_eq!(shown, ["libc6 (>= 2.34)", "awk | mawk", "python3 (>= 3.11~)", "gcc"]);
        assert!(groups[0][0].accepts("2.36-9") && !groups[0][0].accepts("2.33"));
    }

    #[test]
    fn a_stanza_keeps_continuation_lines_and_ends_at_an_empty_line() {
        let fields = parse_stanza("Package: tide\nDescription: tables\n of the sea\n .\n\nPackage: other\n").unwrap();
        assert_eq!(field(&fields, "package"), Some("tide"));
        assert_eq!(field(&fields, "Description"), Some("tables\n of the sea\n ."));
        assert!(parse_stanza("no colon here").is_err());
    }

    proptest! {
        #[test]
        fn the_order_of_versions_is_consistent(a in "[0-2]?:?[0-9a.~+-]{0,6}", b in "[0-2]?:?[0-9a.~+-]{0,6}", c in "[0-9a.~+-]{0,6}") {
            prop_assert_eq!(compare_versions(&a, &b), compare_versions(&b, &a).reverse());
            if compare_versions(&a, &b).is_le() && compare_versions(&b, &c).is_le() {
                prop_assert!(compare_versions(&a, &c).is_le());
            }
        }

        #[test]
        fn any_text_is_answered(text in ".{0,80}") {
            let _ = parse_relations(&text);
            let _ = parse_stanza(&text);
        }
    }
}
