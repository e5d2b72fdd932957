//! The roster on a terminal: a line for each member, with what differs beneath.

use cavrith_core::roster::{Member, Roster, Standing};
use cavrith_core::verdict::count;

use super::progress::seconds;
use crate::screen::{Screen, styled};

/// Differences that are shown of one member.
const SHOWN: usize = 3;

pub fn show(screen: &Screen, roster: &Roster) {
    if screen.quiet && roster.is_good() {
        return;
    }
    let styles = &screen.out;
    let words = roster.words.join(", ");
    screen.result(format_args!(
        "{}  sealed as {}",
        styled(styles.strong, &roster.workspace),
        styled(styles.strong, words)
    ));
    screen.result("");
    let width = roster.members.iter().map(|member| member.name.chars().count()).max().unwrap_or(0).clamp(8, 32);
    for member in &roster.members {
        let style = match member.standing {
            Standing::Same => styles.good,
            Standing::Different => styles.bad,
            Standing::NotMeasured | Standing::Stale | Standing::NeverReported => styles.warning,
        };
        let standing = format!("{:14}", member.standing.words());
        let name = format!("{:width$}", member.name);
        let rest = rest(roster, member);
        let line = format!("{}  {}  {rest}", styled(style, standing), styled(styles.strong, name));
        screen.result(line.trim_end());
        let differences = member.report.iter().flat_map(|report| &report.report.aspects);
        let differences: Vec<_> = differences
            .flat_map(|aspect| aspect.aspect.differences.iter().map(move |one| (&aspect.aspect.name, one)))
            .collect();
        for (aspect, difference) in differences.iter().take(SHOWN) {
            let here = difference.here.lines().next().unwrap_or_default();
            let text = format!("{aspect}: {} {here}", difference.what);
            screen.result(format_args!("{:18}{}", "", cavrith_core::path::shown(text.as_bytes())));
        }
        if differences.len() > SHOWN {
            screen.result(format_args!("{:18}and {} more", "", differences.len() - SHOWN));
        }
    }
    if !roster.refused.is_empty() {
        screen.result("");
        for (from, why) in &roster.refused {
            screen.result(format_args!("{} {from}: {why}", styled(styles.bad, "refused")));
        }
    }
    screen.result("");
    let of = [Standing::Same, Standing::Different, Standing::NotMeasured, Standing::Stale, Standing::NeverReported];
    let counts: Vec<_> = of
        .into_iter()
        .map(|standing| (roster.count(standing), standing.words()))
        .filter(|(number, _)| *number > 0)
        .map(|(number, words)| format!("{number} {words}"))
        .collect();
    screen.result(format_args!("{}: {}", count(roster.members.len(), "member"), counts.join(", ")));
    if !roster.unnamed.is_empty() {
        let unnamed: Vec<_> = roster
            .unnamed
            .iter()
            .map(|(standing, number)| format!("{number} {}", standing.replace('-', " ")))
            .collect();
        screen.result(format_args!("and by people who are not named, which proves nothing: {}", unnamed.join(", ")));
    }
    if let Some(joining) = &roster.joining {
        screen.result(format_args!(
            "from join to ready: median {}, longest {} ({}, {})",
            seconds(joining.median),
            seconds(joining.longest),
            joining.slowest,
            joining.because,
        ));
    }
}

/// When somebody reported, and what is odd about it.
fn rest(roster: &Roster, member: &Member) -> String {
    let age = member.report.as_ref().map(|report| ago(roster.now.saturating_sub(report.report.times.measured)));
    let parts: Vec<_> = age.into_iter().chain(member.note.clone()).collect();
    parts.join("; ")
}

/// A length of time that has passed, in words.
pub fn ago(millis: u64) -> String {
    match millis / 60_000 {
        0 => "just now".to_owned(),
        minutes @ 1..120 => format!("{minutes} min ago"),
        minutes @ 120..2880 => format!("{} h ago", minutes / 60),
        minutes => format!("{} d ago", minutes / 1440),
    }
}

/// As comma-separated values (RFC 4180): a line for each member, a column for each aspect.
pub fn csv(screen: &Screen, roster: &Roster) {
    let field = |text: &str| {
        // A program for tables would take these for the beginning of a formula.
        let text = if text.starts_with(['=', '+', '-', '@']) { format!("'{text}") } else { text.to_owned() };
        if text.contains([',', '"', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
    };
    let mut head: Vec<&str> = vec!["member", "standing", "reported", "seal", "note", "ready-millis"];
    head.extend(roster.aspects.iter().map(String::as_str));
    screen.result(head.iter().map(|name| field(name)).collect::<Vec<_>>().join(","));
    for member in &roster.members {
        let report = member.report.as_ref().map(|report| &report.report);
        let mut line = vec![
            member.name.clone(),
            member.standing.words().to_owned(),
            report.map_or_else(String::new, |report| report.times.measured.to_string()),
            report.map_or_else(String::new, |report| report.seal.words.clone()),
            member.note.clone().unwrap_or_default(),
            report
                .and_then(|report| report.times.joined.as_ref())
                .map_or_else(String::new, |joined| joined.ready().to_string()),
        ];
        line.extend(roster.aspects.iter().map(|aspect| {
            member.aspect(aspect).map_or_else(|| "not measured".to_owned(), |aspect| aspect.standing.replace('-', " "))
        }));
        screen.result(line.iter().map(|text| field(text)).collect::<Vec<_>>().join(","));
    }
}
