//! What was changed by hand, for people.

use cavrith_core::drift::{Drift, FileChange, Finding, Group};
use cavrith_core::verdict::{count, size};

use crate::screen::{Screen, Styles, styled};

/// Lines of a difference that are shown of one file; all of them are in the JSON.
const SHOWN_LINES: usize = 30;

/// The order in which kinds are told, and their headings.
const KINDS: [(&str, &str); 6] = [
    ("packages", "packages"),
    ("language-packages", "packages of languages"),
    ("accounts", "accounts"),
    ("variables", "variables"),
    ("services", "programs that listen"),
    ("files", "files"),
];

pub fn show(screen: &Screen, drift: &Drift) {
    let styles = &screen.out;
    for (kind, heading) in KINDS {
        let all: Vec<_> = drift.findings.iter().filter(|finding| finding.group() == kind).collect();
        if all.is_empty() {
            continue;
        }
        screen.result(styled(styles.strong, heading));
        let mut needed = Vec::new();
        for finding in all {
            match finding {
                Finding::Package { name, asked: false, from: None, .. } => needed.push(name.as_str()),
                finding => line(finding, styles).into_iter().for_each(|line| screen.result(line)),
            }
        }
        if !needed.is_empty() {
            let what = count(needed.len(), "package");
            screen.result(format_args!(
                "    {} {}",
                styled(styles.faint, format_args!("and {what} that these need:")),
                needed.join(", ")
            ));
        }
    }
    rest(screen, drift);
}

/// Each finding in one line, as many as are wanted, and what lies in the home.
pub fn in_short(drift: &Drift, styles: &Styles, most: usize) -> Vec<String> {
    let is_needed = |finding: &Finding| matches!(finding, Finding::Package { asked: false, from: None, .. });
    let told: Vec<_> = drift.findings.iter().filter(|finding| !is_needed(finding)).collect();
    let firsts = told.iter().take(most).filter_map(|finding| line(finding, styles).into_iter().next());
    let more = (told.len() > most).then(|| format!("    … and {} more; cavrith drift tells all", told.len() - most));
    firsts.chain(more).chain(of_home(drift).map(|home| format!("    {home}"))).collect()
}

/// What lies in the home, in one line.
fn of_home(drift: &Drift) -> Option<String> {
    let files = drift.home.iter().map(|group| group.files).sum::<u64>();
    let names: Vec<_> = drift.home.iter().map(|group| group.path.rsplit('/').next().unwrap_or_default()).collect();
    let more = if names.len() > 6 { format!(" and {} more", names.len() - 6) } else { String::new() };
    let some = names.iter().take(6).copied().collect::<Vec<_>>().join(", ");
    let what = count(files as usize, "file");
    (!names.is_empty()).then(|| format!("in the home: {what}, a member's own: {some}{more}"))
}

/// What says nothing about the workspace being another one.
fn rest(screen: &Screen, drift: &Drift) {
    let faint = screen.out.faint;
    if let Some(home) = of_home(drift) {
        screen.result(styled(faint, home));
    }
    if !drift.folded.is_empty() {
        let folded: Vec<_> = drift.folded.iter().map(|(why, count)| format!("{why} ({count})")).collect();
        screen.result(styled(faint, format_args!("left out: {}", folded.join(", "))));
    }
}

/// One finding, in lines.
fn line(finding: &Finding, styles: &Styles) -> Vec<String> {
    let moved = |name: &str, from: &Option<String>, to: &Option<String>, place: &str| {
        let name = styled(styles.strong, name);
        let text = match (from, to) {
            (None, Some(to)) => format!("{} {name} {to}{place}", styled(styles.good, "+")),
            (Some(from), None) => format!("{} {name} {from}{place}", styled(styles.bad, "-")),
            (Some(from), Some(to)) => format!("{} {name} {from} → {to}{place}", styled(styles.warning, "~")),
            (None, None) => name.to_string(),
        };
        vec![format!("    {text}")]
    };
    let named = |word: &str, name: &str, rest: String| format!("    {word:<8} {}  {rest}", styled(styles.strong, name));
    match finding {
        Finding::Package { name, from, to, .. } => moved(name, from, to, ""),
        Finding::LanguagePackage { manager, name, from, to, place, .. } => {
            moved(name, from, to, &format!("  {}", styled(styles.faint, format_args!("{manager}, in {place}"))))
        }
        Finding::Environment { path, what, .. } => {
            let name = styled(styles.strong, path);
            vec![format!("    {} {name}  {}", styled(styles.good, "+"), styled(styles.faint, what))]
        }
        Finding::Account { name, change, .. } => vec![format!("    {}  {change}", styled(styles.strong, name))],
        Finding::Variable { name, value, file } => {
            vec![format!(
                "    {}={value}  {}",
                styled(styles.strong, name),
                styled(styles.faint, format_args!("in {file}"))
            )]
        }
        Finding::Service { port, program, account, .. } => {
            vec![format!("    {}  on port {port}, as {account}", styled(styles.strong, program))]
        }
        Finding::Folder(Group { path, files, bytes }) => {
            vec![named("new", &format!("{path}/"), format!("{}, {}", count(*files as usize, "file"), size(*bytes)))]
        }
        Finding::Removed { path, origin, files } => {
            let origin = origin.as_ref().map_or_else(String::new, |origin| format!("of {origin}"));
            let more = if *files > 1 { format!(", {}", count(*files as usize, "file")) } else { String::new() };
            vec![named("gone", path, format!("{}{more}", styled(styles.faint, origin)))]
        }
        Finding::File { path, how: FileChange::New, leads_to: Some(to), .. } => {
            vec![named("new", path, format!("→ {}", cavrith_core::path::shown(to.as_bytes())))]
        }
        Finding::File { path, how: FileChange::New, bytes, .. } => vec![named("new", path, size(*bytes))],
        Finding::File { path, origin, fields, diff, .. } => {
            let origin = origin.as_ref().map_or_else(String::new, |origin| format!("of {origin}"));
            let fields = fields.iter().filter(|field| !["content", "size"].contains(&field.name.as_str()));
            let fields: Vec<_> =
                fields.map(|field| format!("{} {} → {}", field.name, field.expected, field.here)).collect();
            let rest = format!("{}  {}", styled(styles.faint, origin), fields.join(", "));
            let mut lines = vec![named("changed", path, rest.trim_end().to_owned())];
            // Its name stands above.
            let diff: Vec<_> = diff.iter().flat_map(|diff| diff.lines().skip(2)).collect();
            lines.extend(diff.iter().take(SHOWN_LINES).map(|line| format!("        {}", coloured(line, styles))));
            if diff.len() > SHOWN_LINES {
                lines.push(format!("        and {} more lines; --json has them", diff.len() - SHOWN_LINES));
            }
            lines
        }
    }
}

/// A line of a unified diff.
pub fn coloured(line: &str, styles: &Styles) -> String {
    let mut shown = String::new();
    for letter in line.chars() {
        match letter {
            '\t' => shown.push_str("    "),
            letter if letter.is_control() => shown.extend(letter.escape_default()),
            letter => shown.push(letter),
        }
    }
    match line.bytes().next() {
        Some(b'+') => styled(styles.good, shown).to_string(),
        Some(b'-') => styled(styles.bad, shown).to_string(),
        Some(b'@') => styled(styles.faint, shown).to_string(),
        _ => shown,
    }
}
