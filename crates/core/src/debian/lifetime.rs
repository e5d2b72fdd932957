//! Until when suites are cared for.
//!
//! Archives do not say it themselves; this table is from the Debian project's own data on its releases
//! (`distro-info-data`), as of [`AS_OF`]. A suite that is not in it is newer than this program.

use super::release::day;

/// The day of the data.
pub const AS_OF: &str = "2026-04-25";

/// When a suite was released, and until when it gets security updates: from the project, and then from those who go on
/// with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lifetime {
    /// Its name.
    pub codename: &'static str,
    /// Its number.
    pub version: &'static str,
    /// The last day of full support, in seconds since 1970.
    pub full: u64,
    /// The last day of long-term support, in seconds since 1970.
    pub long: u64,
}

const fn suite(codename: &'static str, version: &'static str, full: u64, long: u64) -> Lifetime {
    Lifetime { codename, version, full: full * 86_400, long: long * 86_400 }
}

/// Suites that have been released, by days since 1970; the tests hold them against dates.
const SUITES: [Lifetime; 5] = [
    suite("stretch", "9", 18_461, 19_173),
    suite("buster", "10", 19_245, 19_904),
    suite("bullseye", "11", 19_949, 20_696),
    suite("bookworm", "12", 20_645, 21_365),
    suite("trixie", "13", 21_405, 22_095),
];

/// Seconds before an end at which it is near.
const NEAR: u64 = 120 * 86_400;

/// The suite that a name is meant for which is none: one that is like it, or the one of a number.
pub fn meant(name: &str) -> Option<&'static str> {
    let others = ["sid", "forky", "testing", "stable", "unstable", "oldstable", "oldoldstable", "experimental"];
    if SUITES.iter().any(|suite| suite.codename == name) || others.contains(&name) {
        return None;
    }
    let plain = name.trim_start_matches("debian").trim_matches(['-', ':', ' ', '/']).to_lowercase();
    if let Some(suite) = SUITES.iter().find(|suite| suite.version == plain || suite.codename == plain) {
        return Some(suite.codename);
    }
    // Archives of one's own have other names, so only what is a slip counts.
    let slip = |suite: &&Lifetime| strsim::damerau_levenshtein(&plain, suite.codename) <= 2;
    SUITES.iter().rev().find(slip).map(|suite| suite.codename)
}

/// The suite that a name stands for which is another one after each release, as of the table.
pub fn moving(name: &str) -> Option<&'static str> {
    let newest = SUITES.len().checked_sub(1)?;
    let at = match name {
        "stable" => newest,
        "oldstable" => newest.checked_sub(1)?,
        "oldoldstable" => newest.checked_sub(2)?,
        _ => return None,
    };
    Some(SUITES[at].codename)
}

/// What is to be said of a suite at a time (seconds since 1970): nothing, or a sentence.
pub fn warning(name: &str, now: u64) -> Option<String> {
    let suite = SUITES.iter().find(|suite| suite.codename == name)?;
    let (full, long) = (day(suite.full), day(suite.long));
    let data = format!("(as of the data of {AS_OF})");
    if suite.full > now.saturating_add(NEAR) {
        None
    } else if now <= suite.full {
        Some(format!("full support of {name} ends on {full}; after that long-term support goes on until {long} {data}"))
    } else if now.saturating_add(NEAR) < suite.long {
        Some(format!("{name} has long-term support only since {full}, until {long} {data}"))
    } else if now <= suite.long {
        Some(format!("all support of {name} ends on {long} {data}"))
    } else {
        Some(format!("{name} has had no support since {long}: it gets no security updates any more {data}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_what_the_project_says() {
        let shown: Vec<_> = SUITES
            .iter()
            .map(|suite| format!("{} {} {} {}", suite.codename, suite.version, day(suite.full), day(suite.long)))
            .collect();
        assert_eq!(
            shown,
            [
                "stretch 9 2020-07-18 2022-06-30",
                "buster 10 2022-09-10 2024-06-30",
                "bullseye 11 2024-08-14 2026-08-31",
                "bookworm 12 2026-07-11 2028-06-30",
                "trixie 13 2028-08-09 2030-06-30",
            ]
        );
    }

    #[test]
    fn an_end_is_told_before_it_comes_and_after_it() {
        let on = |day: u64| warning("bookworm", day * 86_400).unwrap_or_default();
        assert_eq!(on(20_645 - 121), "");
        assert!(on(20_645 - 119).contains("full support of bookworm ends on 2026-07-11"));
        assert!(on(20_645 + 200).contains("long-term support only since 2026-07-11"));
        assert!(on(21_365 - 10).contains("all support of bookworm ends on 2028-06-30"));
        assert!(on(21_365 + 10).contains("no support since 2028-06-30"));
        assert_eq!(warning("tide", 0), None, "what nobody knows is not warned of");
    }
}
