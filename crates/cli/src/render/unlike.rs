//! What two builds made differently, and why.

use std::collections::{BTreeMap, BTreeSet};

use cavrith_core::leftovers;
use cavrith_core::nondeterminism::{Finding, Kind};
use cavrith_core::path::RootPath;
use cavrith_core::verdict::count;
use cavrith_engine::diagnosing::Unlike;

use crate::screen::{Screen, Styles, styled};

/// Files that are told in a few lines each; the rest is counted.
const SHOWN: usize = 12;
/// Files that are told when the reasons were asked for.
const SHOWN_WITH_REASONS: usize = 200;

/// In short: each file, both sides, and the first reason.
pub fn show(screen: &Screen, all: &[Unlike]) {
    let styles = &screen.err;
    for one in all.iter().take(SHOWN) {
        head(screen, one);
        screen.insist(format_args!("        first     {}", indented(&one.difference.expected)));
        screen.insist(format_args!("        second    {}", indented(&one.difference.here)));
        if let Some(finding) = one.findings.first().filter(|finding| finding.kind != Kind::Unknown) {
            screen.insist(format_args!("        cause     {}", cause(finding, styles)));
        }
    }
    rest(screen, all.len(), SHOWN);
    remedies(screen, all);
    screen.insist("    cavrith seal --why says what to do about each");
}

/// Each file with every reason, its bytes, and what to do.
pub fn show_reasons(screen: &Screen, all: &[Unlike]) {
    let styles = &screen.err;
    for one in all.iter().take(SHOWN_WITH_REASONS) {
        head(screen, one);
        if one.findings.is_empty() {
            screen.insist("        too many files differ to look into this one");
        }
        for finding in &one.findings {
            screen.insist(format_args!("        cause     {}", cause(finding, styles)));
            if !finding.inside.is_empty() {
                screen.insist(format_args!("        in        {}", finding.inside.join(", ")));
            }
            let at = finding.at.map_or_else(String::new, |at| format!("at byte {at}: "));
            if !(finding.first.is_empty() && finding.second.is_empty()) {
                screen.insist(format_args!("        first     {at}{}", indented(&finding.first)));
                screen.insist(format_args!("        second    {at}{}", indented(&finding.second)));
            } else if finding.kind == Kind::Unknown {
                screen.insist(format_args!("        first     {}", indented(&one.difference.expected)));
                screen.insist(format_args!("        second    {}", indented(&one.difference.here)));
            }
            screen.insist(format_args!("        remedy    {}", finding.remedy));
        }
    }
    rest(screen, all.len(), SHOWN_WITH_REASONS);
    let mut kinds: BTreeMap<Kind, usize> = BTreeMap::new();
    for kind in all.iter().filter_map(|one| one.findings.first()).map(|finding| finding.kind) {
        *kinds.entry(kind).or_default() += 1;
    }
    let tally: Vec<_> = kinds.iter().map(|(kind, number)| format!("{number} by {}", kind.words())).collect();
    screen.insist(format_args!("    {} differ: {}", count(all.len(), "file"), tally.join(", ")));
    remedies(screen, all);
}

fn head(screen: &Screen, one: &Unlike) {
    let styles = &screen.err;
    let from = one.difference.from.as_ref().map_or_else(String::new, |from| format!("  from {from}"));
    let line = one.line.as_ref().map_or_else(String::new, |line| format!(", {line}"));
    screen.insist(format_args!(
        "    {}{}",
        styled(styles.strong, &one.difference.what),
        styled(styles.faint, format_args!("{from}{line}"))
    ));
}

fn cause(finding: &Finding, styles: &Styles) -> String {
    let bare = |text: &str| text.split_once(' ').map_or(String::new(), |(_, rest)| rest.to_owned());
    let same = bare(&finding.form) == bare(finding.kind.words());
    let form = if finding.form.is_empty() || same { String::new() } else { format!(": {}", finding.form) };
    format!("{}{form}", styled(styles.strong, finding.kind.words()))
}

fn indented(text: &str) -> String {
    text.replace('\n', "\n                  ")
}

fn rest(screen: &Screen, all: usize, shown: usize) {
    if all > shown {
        screen.insist(format_args!("    and {} more; --json has them all", all - shown));
    }
}

/// What holds of the spec rather than of the program that wrote a file.
fn remedies(screen: &Screen, all: &[Unlike]) {
    if all.iter().any(|one| one.difference.package.is_some()) {
        screen.insist("    what a package's script makes anew each time can be left out: name it in [base] left-out, and make it with a step of the first start");
    }
    let path = |one: &Unlike| RootPath::from_absolute(&one.difference.what).ok();
    let known: BTreeSet<_> = all.iter().filter_map(|one| leftovers::remedy(&path(one)?)).collect();
    for remedy in known {
        screen.insist(format_args!("    {remedy}"));
    }
}
