//! Revisions of a workspace, in lines.

use cavrith_core::history::Moved;
use cavrith_core::verdict::count;
use cavrith_workspace::history::{Sealed, Step};

use crate::screen::{Screen, Styles, styled};

/// Lines about packages that one revision gets; the rest is counted.
const PACKAGES: usize = 12;

/// How the names of pins begin.
const PINS: [&str; 8] =
    ["package ", "image ", "archive ", "toolchain ", "download ", "files of ", "extension ", "record of "];

/// One revision: who, when, and what moved.
pub fn step(screen: &Screen, step: &Step) {
    let styles = &screen.out;
    screen.result(headline(step, styles));
    // A first spec is all new; what it says stands in it.
    let is_pin = |one: &&Moved| PINS.iter().any(|pin| one.what.starts_with(pin));
    let of_spec = step.moved.iter().filter(|one| !is_pin(one)).count();
    let moved_here: Vec<_> = step.moved.iter().filter(|one| !step.first || is_pin(one)).cloned().collect();
    if step.first && of_spec > 0 {
        screen.result(format_args!("    the first spec, with {}", count(of_spec, "value")));
    }
    let (shown, rest) = folded(&moved_here);
    let lines: Vec<_> = step.files.iter().chain(shown).collect();
    let width = lines.iter().map(|one| one.what.chars().count()).max().unwrap_or(0).min(40);
    for one in lines {
        screen.result(format_args!("    {}", moved(one, width)));
    }
    if rest > 0 {
        screen.result(format_args!("    and {rest} more packages; --json has them all"));
    }
    for line in &step.team {
        screen.result(format_args!("    team: {line}"));
    }
    for seal in &step.seals {
        screen.result(format_args!("    {}", sealed(seal, styles)));
    }
    for problem in &step.problems {
        screen.result(format_args!("    {} {problem}", styled(styles.bad, "unreadable:")));
    }
}

/// The first line of a revision.
pub fn headline(step: &Step, styles: &Styles) -> String {
    let time = jiff::Timestamp::from_second(step.time).unwrap_or_default().to_zoned(jiff::tz::TimeZone::system());
    format!(
        "{}  {}  {}  {}",
        styled(styles.strong, &step.commit[..step.commit.len().min(8)]),
        styled(styles.faint, time.strftime("%Y-%m-%d %H:%M")),
        step.author,
        step.subject
    )
}

/// What moved, without packages that are too many to be read.
pub fn folded(moved: &[Moved]) -> (Vec<&Moved>, usize) {
    let is_package = |one: &&Moved| one.what.starts_with("package ");
    let packages = moved.iter().filter(is_package).count();
    if packages <= PACKAGES {
        return (moved.iter().collect(), 0);
    }
    // A version that moved says more than one of a hundred that came.
    let mut left = PACKAGES;
    let shown: Vec<_> = moved
        .iter()
        .filter(|one| {
            let wanted = !is_package(one) || (left > 0 && one.from.is_some() && one.to.is_some());
            left -= usize::from(wanted && is_package(one));
            wanted
        })
        .collect();
    let rest = packages - shown.iter().filter(|one| is_package(one)).count();
    (shown, rest)
}

/// One thing that moved, with its name in so many columns.
pub fn moved(one: &Moved, width: usize) -> String {
    let what = format!("{:width$}", one.what);
    match (&one.from, &one.to) {
        (None, Some(to)) => format!("{what}  {to}"),
        (Some(from), Some(to)) => format!("{what}  {from} → {to}"),
        (Some(from), None) => format!("{what}  {from} → taken out"),
        (None, None) => what,
    }
}

fn sealed(seal: &Sealed, styles: &Styles) -> String {
    let variant = if seal.variant.is_empty() { String::new() } else { format!(" {}:", seal.variant) };
    let who = match (&seal.by, &seal.refused) {
        (Some(by), _) => format!("signed by {}", styled(styles.strong, by)),
        (None, Some(why)) => format!("{} {why}", styled(styles.bad, "not to be believed:")),
        (None, None) => "not signed".to_owned(),
    };
    format!("{}{variant} {}, {who}", styled(styles.good, "sealed"), seal.words)
}
