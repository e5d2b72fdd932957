//! What is wrong with a text that is no TOML, in words for people who did not mean to write a parser's exercise.
//!
//! One mistake for each line at most: what a broken line breaks further down is no mistake of its own.

use std::collections::BTreeSet;

use super::document::Span;
use crate::mistake::{Code, Mistake};

/// How a parser's finding reads: where it is, and in its own words.
pub(super) struct Found {
    pub(super) span: Span,
    pub(super) words: String,
}

/// What is wrong with `text`, by what the parser found in it. Also the lines that cannot be relied on, by their starts.
pub(super) fn explain(text: &str, found: &[Found]) -> (Vec<Mistake>, BTreeSet<usize>) {
    let lines = Lines::of(text);
    if let Some(mistake) = conflict(&lines).or_else(|| other_format(text, &lines)) {
        // Nothing in it means what it would mean in a spec.
        return (vec![mistake], lines.starts.iter().copied().collect());
    }
    let mut mistakes = Vec::new();
    let mut broken = BTreeSet::new();
    let mut covered = 0;
    if let Some((mistake, from)) = endless_text(text, found) {
        // All behind it lies in that text.
        broken.extend(lines.starts.iter().copied().filter(|start| *start + 1 > from || lines.at(from).0 == *start));
        let found: Vec<_> = found.iter().filter(|one| one.span.start < from).collect();
        mistakes.extend(found.into_iter().map(|one| line_mistake(&lines, lines.at(one.span.start), one).0));
        mistakes.push(mistake);
        return (mistakes, broken);
    }
    for one in found {
        let (start, line) = lines.at(one.span.start);
        if !broken.insert(start) || start < covered {
            continue;
        }
        let (mistake, until) = line_mistake(&lines, (start, line), one);
        if let Some(until) = until {
            covered = until;
            let from = mistake.places[0].span.start;
            broken.extend(lines.starts.iter().copied().filter(|start| (from..until).contains(start)));
            broken.insert(lines.at(from).0);
        }
        // A duplicate is readable; the first of the two counts.
        if one.words.starts_with("duplicate") {
            broken.remove(&start);
        }
        mistakes.push(mistake);
    }
    // A parser tells of the first only.
    let others = lines.all().filter(|(start, line)| !broken.contains(start) && line.trim_start().starts_with("//"));
    let others: Vec<_> = others.filter_map(|(start, line)| comment_mistake(start, line)).collect();
    mistakes.extend(others);
    mistakes.sort_by_key(|mistake| mistake.places[0].span.start);
    (mistakes, broken)
}

/// A text of several lines that has no end, and where it begins.
fn endless_text(text: &str, found: &[Found]) -> Option<(Mistake, usize)> {
    found.iter().find(|one| one.words.contains("multi-line"))?;
    let from = text.rfind("\"\"\"").max(text.rfind("'''"))?;
    let quotes = &text[from..from + 3];
    let message = format!("the text that begins with {quotes} has no end");
    Some((mistake(from..from + 3, message, format!("write {quotes} behind its last line")), from))
}

fn comment_mistake(start: usize, line: &str) -> Option<Mistake> {
    let at = comment_of_other_languages(line)?;
    let sign = if line[at..].starts_with("/*") { "/*" } else { "//" };
    let rest = line[at..].trim_start_matches(['/', '*', ' ']).trim_end_matches(['/', '*', ' ']);
    let message = format!("a comment begins with #, and not with {sign}");
    Some(mistake(start + at..start + at + 2, message, format!("write # {rest}")))
}

struct Lines<'a> {
    text: &'a str,
    starts: Vec<usize>,
}

impl<'a> Lines<'a> {
    fn of(text: &'a str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1));
        Self { text, starts: starts.filter(|start| *start < text.len().max(1)).collect() }
    }

    /// Start and text of the line in which a byte lies.
    fn at(&self, offset: usize) -> (usize, &'a str) {
        // A finding at the very end is about the last line.
        let offset = offset.min(self.text.len().saturating_sub(1));
        let number = self.starts.partition_point(|start| *start <= offset).saturating_sub(1);
        let start = self.starts.get(number).copied().unwrap_or(0);
        (start, self.text[start..].lines().next().unwrap_or_default())
    }

    fn all(&self) -> impl Iterator<Item = (usize, &'a str)> + '_ {
        self.starts.iter().map(|start| (*start, self.text[*start..].lines().next().unwrap_or_default()))
    }
}

fn mistake(span: Span, message: impl Into<String>, remedy: impl Into<String>) -> Mistake {
    Mistake::new(Code::NOT_TOML, span, message, remedy)
}

/// What a merge leaves where two people changed the same lines (git-merge(1), "How conflicts are presented").
pub(crate) fn conflict_markers(text: &str) -> Option<(Span, Span)> {
    let lines = Lines::of(text);
    let marker = |begins: &str| {
        let is = |line: &str| line.strip_prefix(begins).is_some_and(|rest| rest.is_empty() || rest.starts_with(' '));
        lines.all().find(|(_, line)| is(line)).map(|(start, line)| start..start + line.len())
    };
    let ours = marker("<<<<<<<").or_else(|| marker(">>>>>>>"))?;
    let theirs = marker(">>>>>>>").unwrap_or_else(|| ours.clone());
    Some((ours, theirs))
}

fn conflict(lines: &Lines<'_>) -> Option<Mistake> {
    let (ours, theirs) = conflict_markers(lines.text)?;
    let remedy = "keep the lines that are meant, and remove those with <<<<<<<, ======= and >>>>>>>";
    let found = mistake(ours.clone(), "a merge left its conflict here", remedy);
    if ours == theirs {
        return Some(found);
    }
    Some(found.noting("from here").against(theirs, "to here"))
}

/// A whole file of another format.
fn other_format(text: &str, lines: &Lines<'_>) -> Option<Mistake> {
    let begin = text.len() - text.trim_start().len();
    let how = "a key is written name = \"value\", and the keys of a table stand below its [name]; cavrith init writes a first spec";
    if text.trim_start().starts_with('{') {
        return Some(mistake(begin..begin + 1, "this is JSON, and a spec is TOML", how));
    }
    let is_content = |line: &str| !line.trim().is_empty() && !line.trim_start().starts_with('#');
    let (mut with_colon, mut with_equals, mut first) = (0, 0, None);
    for (start, line) in lines.all().filter(|(_, line)| is_content(line)) {
        let plain = line.trim();
        if plain == "---" || yaml(plain).is_some() {
            with_colon += 1;
            if plain != "---" {
                first.get_or_insert((start, line));
            }
        } else if plain.contains('=') || plain.starts_with('[') {
            with_equals += 1;
        }
    }
    let (start, line) = first.filter(|_| with_colon > with_equals && with_colon > 1)?;
    let span = start + (line.len() - line.trim_start().len())..start + line.trim_end().len();
    let example = match yaml(line.trim()) {
        Some((key, "")) => format!("here that is [{key}]"),
        Some((key, value)) => format!("here that is {key} = {}", quoted(value)),
        None => String::new(),
    };
    Some(mistake(span, "this is YAML, and a spec is TOML", format!("{how}; {example}")))
}

/// Key and value of a line of YAML.
fn yaml(line: &str) -> Option<(&str, &str)> {
    let line = line.strip_prefix("- ").unwrap_or(line);
    let (key, value) = line.split_once(':')?;
    let is_key = !key.is_empty() && key.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte));
    (is_key && (value.is_empty() || value.starts_with(' '))).then_some((key, value.trim()))
}

/// A value as TOML writes it, made from what somebody wrote without quotes or with others.
fn quoted(value: &str) -> String {
    let value = value.trim().trim_end_matches([',', ';']);
    if matches!(value, "true" | "false") || value.parse::<i64>().is_ok() {
        return value.to_owned();
    }
    let bare = value.trim_matches(|letter| CURLY.contains(&letter) || matches!(letter, '"' | '\'' | '`'));
    toml::Value::String(bare.to_owned()).to_string()
}

/// Quotes of typesetting, which word processors and chat programs make of plain ones.
const CURLY: [char; 8] = ['“', '”', '„', '‘', '’', '‚', '«', '»'];

/// The mistake of one line, and the byte up to which what follows is a consequence.
fn line_mistake(lines: &Lines<'_>, (start, line): (usize, &str), found: &Found) -> (Mistake, Option<usize>) {
    let trimmed = line.trim();
    let begin = start + line.len() - line.trim_start().len();
    let whole = begin..begin + trimmed.len();
    let key_and_value = trimmed.split_once('=').map(|(key, value)| (key.trim(), value.trim()));
    if found.words.starts_with("duplicate") {
        return (duplicate(lines, (start, line), found), None);
    }
    if let Some(mistake) = comment_mistake(start, line) {
        return (mistake, None);
    }
    if let Some((at, letter)) = line.char_indices().find(|(_, letter)| CURLY.contains(letter)) {
        let plain: String = trimmed.chars().map(|letter| if CURLY.contains(&letter) { '"' } else { letter }).collect();
        let message = format!("{letter} is a quote of typesetting, and TOML knows the plain one only");
        return (mistake(start + at..start + at + letter.len_utf8(), message, format!("write {plain}")), None);
    }
    if let Some((key, value)) = key_and_value {
        if let Some(bare) = value.strip_prefix(['"', '\'']).filter(|bare| bare.contains('\\') && value.starts_with('"'))
        {
            let bare = bare.strip_suffix('"').unwrap_or(bare);
            let at = start + line.find('\\').unwrap_or(0);
            let message = "a backslash in \"double quotes\" begins the name of a letter, such as \\n";
            let remedy = format!("write {key} = '{bare}', in single quotes, in which a backslash is a backslash");
            return (mistake(at..at + 1, message, remedy), None);
        }
        let quote = value.chars().next().filter(|quote| matches!(quote, '"' | '\''));
        if let Some(quote) = quote.filter(|quote| value.matches(*quote).count() == 1 && !value.starts_with("\"\"\"")) {
            let at = start + line.find(quote).unwrap_or(0);
            let (bare, comment) = value[1..].split_once(" #").map_or((&value[1..], ""), |(bare, rest)| (bare, rest));
            let comment = if comment.is_empty() { String::new() } else { format!(" #{comment}") };
            let remedy = format!("write {key} = {quote}{}{quote}{comment}", bare.trim_end());
            return (mistake(at..whole.end, "this text has no quote at its end", remedy), None);
        }
        if value.is_empty() {
            let message = format!("`{key}` has no value");
            return (mistake(whole, message, format!("write {key} = \"…\", or leave the line out")), None);
        }
        if let Some(open) = value.chars().next().filter(|open| matches!(open, '[' | '{')) {
            let (close, what) = if open == '[' { (']', "list") } else { ('}', "table") };
            if found.words.contains("unclosed") {
                let at = start + line.find(open).unwrap_or(0);
                let message = format!("this {what} has no {close} at its end");
                return (
                    mistake(at..at + 1, message, format!("write {close} behind its last entry")),
                    Some(lines.text.len()),
                );
            }
        }
        let value_at = start + line.find('=').unwrap_or(0);
        if found.span.start > value_at && !value.starts_with(['"', '\'', '[', '{']) {
            let at = start + line.find(value).unwrap_or(0);
            let message = format!("{value} is a text, and texts stand in quotes");
            return (mistake(at..at + value.len(), message, format!("write {key} = {}", quoted(value))), None);
        }
        if found.words.starts_with("unexpected key or value") {
            let rest = lines.text.get(found.span.start..start + line.trim_end().len()).unwrap_or_default();
            let message = format!("behind the value of `{key}` stands something else");
            let remedy = "write one value only; a comment begins with #, and several values are a list: [\"a\", \"b\"]";
            return (mistake(found.span.start..found.span.start + rest.len().max(1), message, remedy), None);
        }
        if key.contains(' ') && !key.starts_with('"') {
            let message = format!("a key has no blanks, and `{key}` has some");
            return (mistake(whole, message, format!("write \"{key}\" = {value}, or one word")), None);
        }
    }
    if let Some((key, value)) = yaml(trimmed) {
        let at = start + line.find(':').unwrap_or(0);
        let remedy = match value {
            "" => format!("write [{key}] for a table, or {key} = \"…\" for a value"),
            value => format!("write {key} = {}", quoted(value)),
        };
        return (mistake(at..at + 1, "between a key and its value stands =, and not :", remedy), None);
    }
    if let Some(at) = unclosed_before(lines, start).filter(|_| found.words.contains("array")) {
        let message = "this list has no ] at its end";
        return (mistake(at..at + 1, message, "write ] behind its last entry"), Some(lines.text.len()));
    }
    if trimmed.starts_with('[') && !trimmed.ends_with(']') {
        let close = if trimmed.starts_with("[[") { "]]" } else { "]" };
        let remedy = format!("write {}{close}", trimmed.trim_end_matches(']'));
        return (mistake(whole, format!("the name of this table has no {close} at its end"), remedy), None);
    }
    let is_word =
        !trimmed.is_empty() && trimmed.chars().all(|letter| letter.is_alphanumeric() || "-_.".contains(letter));
    if is_word {
        let remedy = format!("write {trimmed} = \"…\", or [{trimmed}] for a table");
        return (mistake(whole, format!("`{trimmed}` has no value"), remedy), None);
    }
    if let [key, value] = trimmed.split_whitespace().collect::<Vec<_>>().as_slice()
        && key.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte))
    {
        let message = format!("between `{key}` and its value stands no =");
        return (mistake(whole, message, format!("write {key} = {}", quoted(value))), None);
    }
    let span = found.span.start.max(start)..found.span.end.max(found.span.start.max(start));
    let message = format!("this line cannot be read: {}", found.words);
    (mistake(span, message, "write name = \"value\", or [name] for a table"), None)
}

/// Where the list begins that a line before this one opens last.
fn unclosed_before(lines: &Lines<'_>, start: usize) -> Option<usize> {
    let opens = |(at, line): (usize, &str)| {
        let (key, value) = line.split_once('=')?;
        let opened = value.matches('[').count() > value.matches(']').count();
        opened.then(|| at + key.len() + 1 + value.find('[').unwrap_or(0))
    };
    lines.all().take_while(|(other, _)| *other < start).filter_map(opens).last()
}

/// Where a comment as other languages have it begins: outside of texts.
fn comment_of_other_languages(line: &str) -> Option<usize> {
    let mut quote = None;
    let mut before = ' ';
    for (at, letter) in line.char_indices() {
        match (quote, letter) {
            (None, '#') => return None,
            (None, '"' | '\'') => quote = Some(letter),
            (Some(open), letter) if letter == open => quote = None,
            (None, '/') if before.is_whitespace() && line[at + 1..].starts_with(['/', '*']) => return Some(at),
            _ => {}
        }
        before = letter;
    }
    None
}

/// A key or table that stands twice, with both places.
fn duplicate(lines: &Lines<'_>, (start, line): (usize, &str), found: &Found) -> Mistake {
    let trimmed = line.trim();
    let span = found.span.clone();
    if trimmed.starts_with('[') {
        let head = trimmed.split('#').next().unwrap_or(trimmed).trim();
        let before =
            lines.all().take_while(|(other, _)| *other < start).find(|(_, other)| other.trim().starts_with(head));
        let message = format!("{head} stands twice");
        let remedy = format!("move the keys below this one to the first {head}, and remove this line");
        let found = mistake(span, message, remedy);
        return match before {
            Some((at, other)) => found.against(at..at + other.trim_end().len(), "here first"),
            None => found,
        };
    }
    let key = lines.text.get(span.clone()).unwrap_or(trimmed);
    let is_same = |other: &str| {
        let name = other.trim().split(['=', '.']).next().unwrap_or_default().trim().trim_matches(['"', '\'']);
        !name.is_empty() && name == key.trim().trim_matches(['"', '\''])
    };
    // The last one before it, since a table of the same kind may have the same key.
    let before = lines.all().take_while(|(other, _)| *other < start).filter(|(_, other)| is_same(other)).last();
    let found = mistake(span, format!("`{}` stands twice", key.trim()), "keep the one that is meant");
    match before {
        Some((at, other)) => {
            let at = at + other.len() - other.trim_start().len();
            found.against(at..at + other.trim().split('=').next().unwrap_or_default().trim_end().len(), "here first")
        }
        None => found,
    }
}
