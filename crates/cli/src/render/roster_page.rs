//! The roster as one page for a browser, with nothing from elsewhere: style, script and charts are in it.
//!
//! Everything that a report says is somebody else's text, and goes through [`Escaped`].

use std::collections::BTreeMap;
use std::fmt::{self, Write as _};

use cavrith_core::report::ReportedAspect;
use cavrith_core::roster::{Believed, Member, Roster, Standing};
use cavrith_core::verdict::Difference;

use super::progress::seconds;
use super::roster::ago;

const STYLE: &str = include_str!("roster.css");
const SCRIPT: &str = include_str!("roster.js");
/// Members beyond which only those are told more of who are not the same.
const ALL_DETAILS: usize = 1500;
/// Bars of a chart.
const MOST_BARS: usize = 60;

/// A text in which nothing is markup (HTML Living Standard, 13.3).
struct Escaped<'a>(&'a str);

impl fmt::Display for Escaped<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for letter in self.0.chars() {
            match letter {
                '&' => f.write_str("&amp;")?,
                '<' => f.write_str("&lt;")?,
                '>' => f.write_str("&gt;")?,
                '"' => f.write_str("&quot;")?,
                '\'' => f.write_str("&#39;")?,
                '\n' | '\t' => f.write_char(letter)?,
                control if control.is_control() => write!(f, "{}", control.escape_default())?,
                // What turns the direction of writing round would let a text look like another one.
                '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => {
                    write!(f, "{}", letter.escape_unicode())?
                }
                letter => f.write_char(letter)?,
            }
        }
        Ok(())
    }
}

/// The page of a roster.
///
/// # Errors
/// When it cannot be written down, in words.
pub fn page(roster: &Roster) -> Result<String, String> {
    let mut page = String::new();
    write_page(&mut page, roster).map_err(|error| error.to_string())?;
    Ok(page)
}

fn write_page(out: &mut String, roster: &Roster) -> fmt::Result {
    let name = Escaped(&roster.workspace);
    write!(
        out,
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\
         <meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'\">\
         <title>Roster of {name}</title><style>{STYLE}</style></head><body>\n"
    )?;
    let words = roster.words.join(", ");
    write!(
        out,
        "<header><h1>Roster of {name}</h1><p>Sealed as <code>{}</code></p><p class=\"dim\">{} </p></header>\n<main>",
        Escaped(&words),
        Escaped(&day(roster.now)),
    )?;
    overview(out, roster)?;
    matrix(out, roster)?;
    history(out, roster)?;
    refused(out, roster)?;
    writeln!(out, "</main><script>{SCRIPT}</script></body></html>")
}

fn card(out: &mut String, class: &str, figure: &str, what: &str) -> fmt::Result {
    write!(out, "<div class=\"card {class}\"><b>{}</b>{}</div>", Escaped(figure), Escaped(what))
}

fn overview(out: &mut String, roster: &Roster) -> fmt::Result {
    out.write_str("<section aria-label=\"Overview\"><div class=\"cards\">")?;
    card(out, "", &roster.members.len().to_string(), "members")?;
    card(out, "good", &roster.count(Standing::Same).to_string(), "same")?;
    for (standing, class) in [
        (Standing::Different, "bad"),
        (Standing::NotMeasured, "warn"),
        (Standing::Stale, "warn"),
        (Standing::NeverReported, "warn"),
    ] {
        let number = roster.count(standing);
        card(out, if number > 0 { class } else { "" }, &number.to_string(), standing.words())?;
    }
    if let Some(joining) = &roster.joining {
        card(out, "", &seconds(joining.median), "to ready, median")?;
    }
    out.write_str("</div><div class=\"charts\">")?;
    ready_chart(out, roster)?;
    sameness_chart(out, roster)?;
    out.write_str("</div></section>\n")
}

/// How long it took each member from joining to ready.
fn ready_chart(out: &mut String, roster: &Roster) -> fmt::Result {
    let of = |member: &Member| {
        let reports = member.report.iter().chain(&member.earlier);
        let joined = reports.filter_map(|one| one.report.times.joined.as_ref()).next_back()?;
        Some((joined.ready(), member.name.clone(), joined.slowest()))
    };
    let mut all: Vec<_> = roster.members.iter().filter_map(of).collect();
    let Some(joining) = roster.joining.as_ref().filter(|_| !all.is_empty()) else { return Ok(()) };
    all.sort();
    let step = all.len().div_ceil(MOST_BARS);
    let shown: Vec<_> = all.iter().step_by(step).collect();
    let longest = joining.longest.max(1);
    let width = 560.0 / shown.len() as f64;
    let caption = format!(
        "From join to ready: median {}, longest {} ({}, {})",
        seconds(joining.median),
        seconds(joining.longest),
        joining.slowest,
        joining.because
    );
    write!(out, "<figure><svg viewBox=\"0 0 600 150\" role=\"img\" aria-label=\"{}\">", Escaped(&caption))?;
    write!(
        out,
        "<line class=\"axis\" x1=\"30\" y1=\"130\" x2=\"590\" y2=\"130\"/><text x=\"30\" y=\"14\">{}</text><text x=\"30\" y=\"146\">fastest</text><text x=\"590\" y=\"146\" text-anchor=\"end\">slowest</text>",
        Escaped(&seconds(longest))
    )?;
    for (place, (millis, name, slowest)) in shown.iter().enumerate() {
        let height = (*millis as f64 / longest as f64 * 105.0).max(1.0);
        write!(
            out,
            "<rect class=\"bar\" x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{height:.1}\"><title>{}: {}, mostly {}</title></rect>",
            30.0 + place as f64 * width + width * 0.1,
            130.0 - height,
            (width * 0.8).min(48.0),
            Escaped(name),
            Escaped(&seconds(*millis)),
            Escaped(slowest),
        )?;
    }
    write!(out, "</svg><figcaption>{}</figcaption></figure>", Escaped(&caption))
}

/// How many were the same, over the time of all reports.
fn sameness_chart(out: &mut String, roster: &Roster) -> fmt::Result {
    let mut events: Vec<(u64, &str, bool)> = Vec::new();
    for member in &roster.members {
        for one in member.report.iter().chain(&member.earlier) {
            events.push((one.report.times.measured, &member.name, one.report.standing == "same"));
        }
    }
    events.sort();
    let (Some(first), members) = (events.first().map(|event| event.0), roster.members.len().max(1)) else {
        return Ok(());
    };
    let span = roster.now.saturating_sub(first).max(1) as f64;
    let x = |time: u64| 30.0 + time.saturating_sub(first) as f64 / span * 560.0;
    let y = |number: usize| 130.0 - number as f64 / members as f64 * 105.0;
    let mut same: BTreeMap<&str, bool> = BTreeMap::new();
    let mut points = format!("M{:.1} {:.1}", x(first), y(0));
    let (mut number, mut drawn) = (0_usize, f64::NEG_INFINITY);
    for (time, name, is_same) in events {
        let was_same = same.insert(name, is_same).unwrap_or(false);
        number = number + usize::from(is_same) - usize::from(was_same);
        // What nobody could tell apart is drawn once.
        if x(time) - drawn >= 0.5 {
            drawn = x(time);
            write!(points, " H{:.1} V{:.1}", drawn, y(number))?;
        }
    }
    write!(points, " V{:.1}", y(number))?;
    write!(points, " H590")?;
    let caption = format!("Whose last report said the same, of {members}: {number} now");
    write!(
        out,
        "<figure><svg viewBox=\"0 0 600 150\" role=\"img\" aria-label=\"{0}\"><path class=\"area\" d=\"{points} V130 H30 Z\"/><path class=\"edge\" d=\"{points}\"/>\
         <line class=\"axis\" x1=\"30\" y1=\"130\" x2=\"590\" y2=\"130\"/><text x=\"26\" y=\"29\" text-anchor=\"end\">{members}</text><text x=\"26\" y=\"133\" text-anchor=\"end\">0</text>\
         <text x=\"30\" y=\"146\">{1}</text><text x=\"590\" y=\"146\" text-anchor=\"end\">now</text></svg><figcaption>{0}</figcaption></figure>",
        Escaped(&caption),
        Escaped(&ago(roster.now.saturating_sub(first))),
    )
}

fn matrix(out: &mut String, roster: &Roster) -> fmt::Result {
    out.write_str(
        "<section aria-label=\"Members\"><h2>Members</h2><div class=\"tools\"><label>Filter <input type=\"search\" id=\"search\" placeholder=\"name, file, package …\"></label>\
         <label>Standing <select id=\"standing\"><option value=\"\">all</option>",
    )?;
    for standing in
        [Standing::Different, Standing::NotMeasured, Standing::Stale, Standing::NeverReported, Standing::Same]
    {
        write!(out, "<option>{}</option>", standing.words())?;
    }
    out.write_str(
        "</select></label><span id=\"shown\" class=\"dim\" role=\"status\"></span></div><div class=\"wide\"><table id=\"matrix\"><thead><tr>",
    )?;
    let aspects = worst_first(roster);
    let heads = ["member", "standing", "reported", "ready in"].into_iter();
    for head in heads.chain(aspects.iter().copied()) {
        write!(out, "<th scope=\"col\"><button>{}</button></th>", Escaped(head))?;
    }
    out.write_str("</tr></thead>\n")?;
    for member in &roster.members {
        row(out, roster, &aspects, member)?;
    }
    out.write_str("</table></div></section>\n")
}

fn class(standing: &str) -> &'static str {
    match standing {
        "same" => "s",
        "different" => "d",
        "never reported" => "x",
        _ => "n",
    }
}

/// The aspects, those first in which most members are not the same.
fn worst_first(roster: &Roster) -> Vec<&str> {
    let odd = |name: &str| {
        let aspects = roster.members.iter().filter_map(|member| member.aspect(name));
        aspects.filter(|aspect| aspect.standing != "same").count()
    };
    let mut aspects: Vec<_> = roster.aspects.iter().map(|name| (std::cmp::Reverse(odd(name)), name.as_str())).collect();
    aspects.sort_by_key(|(odd, _)| *odd);
    aspects.into_iter().map(|(_, name)| name).collect()
}

fn row(out: &mut String, roster: &Roster, aspects: &[&str], member: &Member) -> fmt::Result {
    let standing = member.standing.words();
    let report = member.report.as_ref();
    let differences =
        report.iter().flat_map(|report| &report.report.aspects).flat_map(|aspect| &aspect.aspect.differences);
    let mut text = member.name.to_lowercase();
    for difference in differences {
        text.push(' ');
        text.push_str(&difference.what.to_lowercase());
    }
    let detailed = roster.members.len() <= ALL_DETAILS || member.standing != Standing::Same;
    write!(out, "<tbody data-standing=\"{standing}\" data-text=\"{}\"><tr><th scope=\"row\">", Escaped(&text))?;
    match detailed {
        true => write!(out, "<button aria-expanded=\"false\">{}</button>", Escaped(&member.name))?,
        false => write!(out, "{}", Escaped(&member.name))?,
    }
    write!(out, "</th><td class=\"{}\">{standing}</td>", class(standing))?;
    match report {
        Some(Believed { report, .. }) => {
            let age = roster.now.saturating_sub(report.times.measured);
            write!(out, "<td data-key=\"{age}\">{}</td>", ago(age))?;
            match &report.times.joined {
                Some(joined) => write!(out, "<td data-key=\"{}\">{}</td>", joined.ready(), seconds(joined.ready()))?,
                None => out.write_str("<td data-key=\"\"></td>")?,
            }
        }
        None => out.write_str("<td data-key=\"\"></td><td data-key=\"\"></td>")?,
    }
    for name in aspects {
        match member.aspect(name) {
            Some(aspect) if aspect.standing == "different" => {
                let number = aspect.aspect.differences.len() as u64 + aspect.more;
                write!(out, "<td class=\"d\">{number} different</td>")?;
            }
            Some(aspect) => write!(
                out,
                "<td class=\"{}\">{}</td>",
                class(&aspect.standing),
                Escaped(&aspect.standing.replace('-', " "))
            )?,
            None => out.write_str("<td class=\"x\">–</td>")?,
        }
    }
    out.write_str("</tr>")?;
    if detailed {
        let columns = roster.aspects.len() + 4;
        write!(out, "<tr class=\"more\" hidden><td colspan=\"{columns}\"><div>")?;
        details(out, roster, member)?;
        out.write_str("</div></td></tr>")?;
    }
    out.write_str("</tbody>\n")
}

/// All that is known of a member.
fn details(out: &mut String, roster: &Roster, member: &Member) -> fmt::Result {
    if let Some(note) = &member.note {
        write!(out, "<p><b>{}</b></p>", Escaped(note))?;
    }
    let Some(Believed { report, key, from, .. }) = &member.report else {
        return out
            .write_str("<p>There is no report. A member makes one with <code>cavrith verify --report</code>.</p>");
    };
    out.write_str("<dl>")?;
    let mut fact = |what: &str, value: &str| match value {
        "" => Ok(()),
        value => write!(out, "<dt>{}</dt><dd>{}</dd>", Escaped(what), Escaped(value)),
    };
    fact("measured", &format!("{}, in {}", day(report.times.measured), seconds(report.times.verify_millis)))?;
    fact("seal", &report.seal.words)?;
    if let Some(revision) = &report.revision {
        let changed = if revision.changed { ", with changes" } else { "" };
        fact("revision", &format!("{}{changed}", revision.commit.get(..12).unwrap_or(&revision.commit)))?;
    }
    fact(
        "machine",
        &format!("{} {}, as {}", report.machine.kernel, report.machine.architecture, report.machine.member),
    )?;
    if let Some(joined) = &report.times.joined {
        let parts = [("fetch", joined.fetch), ("image", joined.image), ("start", joined.start)];
        let parts: Vec<_> = parts.iter().map(|(name, millis)| format!("{name} {}", seconds(*millis))).collect();
        fact("joined", &parts.join(", "))?;
    }
    fact("cavrith", &report.cavrith)?;
    fact("signed with", key)?;
    fact("file", from)?;
    out.write_str("</dl>")?;
    for ReportedAspect { aspect, more, .. } in &report.aspects {
        for difference in &aspect.differences {
            sides(out, &aspect.name, difference)?;
        }
        for why in &aspect.unmeasured {
            write!(out, "<p>{}: not measured: {}</p>", Escaped(&aspect.name), Escaped(why))?;
        }
        if *more > 0 {
            write!(out, "<p>{}: and {more} more</p>", Escaped(&aspect.name))?;
        }
    }
    if !member.earlier.is_empty() {
        out.write_str("<p class=\"dim\">Earlier reports:")?;
        for earlier in member.earlier.iter().take(20) {
            let age = ago(roster.now.saturating_sub(earlier.report.times.measured));
            let standing = earlier.report.standing.replace('-', " ");
            write!(out, " {} {} ({});", Escaped(&age), Escaped(&standing), Escaped(&earlier.report.seal.words))?;
        }
        out.write_str("</p>")?;
    }
    Ok(())
}

fn sides(out: &mut String, aspect: &str, difference: &Difference) -> fmt::Result {
    let from = difference.from.as_ref().map_or_else(String::new, |from| format!(", from {from}"));
    write!(
        out,
        "<div class=\"sides\"><b>{}</b> <span class=\"dim\">{}{}</span>",
        Escaped(&difference.what),
        Escaped(aspect),
        Escaped(&from)
    )?;
    match &difference.diff {
        Some(diff) => {
            out.write_str("<pre class=\"diff\">")?;
            for line in diff.lines().skip(2) {
                match line.bytes().next() {
                    Some(b'+') => writeln!(out, "<ins>{}</ins>", Escaped(line))?,
                    Some(b'-') => writeln!(out, "<del>{}</del>", Escaped(line))?,
                    _ => writeln!(out, "{}", Escaped(line))?,
                }
            }
            out.write_str("</pre>")?;
        }
        None => write!(
            out,
            "<div><p><span class=\"dim\">sealed</span><br>{}</p><p><span class=\"dim\">here</span><br>{}</p></div>",
            Escaped(&difference.expected),
            Escaped(&difference.here)
        )?,
    }
    out.write_str("</div>")
}

/// Who was the same under which seal.
fn history(out: &mut String, roster: &Roster) -> fmt::Result {
    let mut seals: BTreeMap<&str, (u64, BTreeMap<&str, &str>)> = BTreeMap::new();
    for member in &roster.members {
        let reports = member.report.iter().chain(&member.earlier);
        // The newest of each member under a seal counts; they come newest first.
        for Believed { report, .. } in reports {
            let seal = seals.entry(&report.seal.words).or_insert((report.times.measured, BTreeMap::new()));
            seal.0 = seal.0.max(report.times.measured);
            seal.1.entry(&member.name).or_insert(&report.standing);
        }
    }
    if seals.is_empty() {
        return Ok(());
    }
    let mut all: Vec<_> = seals.into_iter().collect();
    all.sort_by_key(|(_, (last, _))| std::cmp::Reverse(*last));
    out.write_str("<section aria-label=\"History\"><h2>Seals</h2><div class=\"wide\"><table><thead><tr><th scope=\"col\">seal</th><th scope=\"col\">last report</th><th scope=\"col\">same</th><th scope=\"col\">not the same</th></tr></thead><tbody>")?;
    for (words, (last, members)) in all {
        let (same, other): (Vec<_>, Vec<_>) = members.iter().partition(|(_, standing)| **standing == "same");
        let names = other.iter().map(|(name, _)| **name).take(12).collect::<Vec<_>>().join(", ");
        let more = if other.len() > 12 { format!(" and {} more", other.len() - 12) } else { String::new() };
        write!(
            out,
            "<tr><th scope=\"row\"><code>{}</code></th><td>{}</td><td class=\"s\">{} of {}</td><td>{}{more}</td></tr>",
            Escaped(words),
            ago(roster.now.saturating_sub(last)),
            same.len(),
            members.len(),
            Escaped(&names),
        )?;
    }
    out.write_str("</tbody></table></div></section>\n")
}

fn refused(out: &mut String, roster: &Roster) -> fmt::Result {
    if roster.refused.is_empty() {
        return Ok(());
    }
    out.write_str("<section aria-label=\"Refused\"><h2>Refused</h2><div class=\"wide\"><table><thead><tr><th scope=\"col\">file</th><th scope=\"col\">why</th></tr></thead><tbody>")?;
    for (from, why) in roster.refused.iter().take(500) {
        write!(out, "<tr><th scope=\"row\">{}</th><td>{}</td></tr>", Escaped(from), Escaped(why))?;
    }
    out.write_str("</tbody></table></div></section>\n")
}

/// A day and a time of day, in UTC.
fn day(millis: u64) -> String {
    let millis = i64::try_from(millis).unwrap_or(i64::MAX);
    jiff::Timestamp::from_millisecond(millis)
        .map_or_else(|_| String::new(), |time| time.strftime("%Y-%m-%d %H:%M UTC").to_string())
}
