//! Mistakes, with their place in the file underlined.

use std::collections::HashMap;

use annotate_snippets::{AnnotationKind, Level, Origin, Renderer, Snippet};
use cavrith_core::mistake::{Mistake, Weight, line_and_column};
use cavrith_core::spec::document::{Source, Sources};
use cavrith_core::verdict::count;
use cavrith_engine::findings::Findings;
use serde_json::{Value, json};

use crate::screen::{Screen, styled};

/// Mistakes that are drawn.
const MOST: usize = 100;
/// Bytes of a line that is not drawn.
const LONG_LINE: usize = 16_384;

/// Shows every mistake on standard error, and how many there are.
pub fn show(screen: &Screen, findings: &Findings) {
    let colored = screen.err.bad != anstyle::Style::new();
    let renderer = if colored { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.term_width(screen.width);
    // What is wrong everywhere has one cause; the rest is in --json.
    for mistake in findings.mistakes.iter().take(MOST) {
        screen.insist(draw(&renderer, &findings.sources, mistake));
        screen.insist("");
    }
    let errors = findings.mistakes.iter().filter(|mistake| mistake.weight == Weight::Error).count();
    let warnings = findings.mistakes.len() - errors;
    let mut totals = Vec::new();
    if errors > 0 {
        totals.push(styled(screen.err.bad, count(errors, "mistake")));
    }
    if warnings > 0 {
        totals.push(styled(screen.err.warning, count(warnings, "warning")));
    }
    if findings.mistakes.len() > MOST {
        totals.push(format!("of which the first {MOST} are shown; --json has all"));
    }
    if !totals.is_empty() {
        screen.insist(totals.join(", "));
    }
}

fn draw(renderer: &Renderer, sources: &Sources, mistake: &Mistake) -> String {
    let level = match mistake.weight {
        Weight::Error => Level::ERROR.with_name("mistake"),
        Weight::Warning => Level::WARNING,
    };
    // Places of one file are shown together, the file of the main place first.
    let located = mistake.places.iter().filter_map(|place| Some((sources.locate(place.span.start)?.0, place)));
    let located: Vec<_> = located.collect();
    let mut snippets: Vec<(usize, Snippet<'_, _>)> = Vec::new();
    for (number, (file, place)) in located.iter().enumerate() {
        let kind = if number == 0 { AnnotationKind::Primary } else { AnnotationKind::Context };
        let annotation = kind.span(within(file, &place.span));
        let annotation = if place.note.is_empty() { annotation } else { annotation.label(place.note.as_str()) };
        match snippets.iter().position(|(start, _)| *start == file.start) {
            Some(position) => {
                let (start, snippet) = snippets.remove(position);
                snippets.insert(position, (start, snippet.annotation(annotation)));
            }
            None => {
                let snippet = Snippet::source(file.text.as_str()).path(file.path.as_str()).fold(true);
                snippets.push((file.start, snippet.annotation(annotation)));
            }
        }
    }
    let title = level.primary_title(mistake.message.as_str()).id(mistake.code.to_string());
    let remedy = Level::HELP.with_name("remedy").message(mistake.remedy.as_str());
    // Drawing goes over the whole line, which may be as long as a file.
    if let Some((file, place)) = located.first().filter(|(file, place)| is_in_a_long_line(file, place.span.start)) {
        let (line, column) = line_and_column(&file.text, place.span.start - file.start);
        let origin = Origin::path(file.path.as_str()).line(line).char_column(column);
        return renderer.render(&[title.element(origin).element(remedy)]);
    }
    let group = title.elements(snippets.into_iter().map(|(_, snippet)| snippet)).element(remedy);
    renderer.render(&[group])
}

/// Whether a place stands in a line that is too long to be drawn.
fn is_in_a_long_line(file: &Source, start: usize) -> bool {
    let at = within(file, &(start..start)).start;
    let before = file.text[..at].bytes().rev().take_while(|byte| *byte != b'\n').take(LONG_LINE).count();
    let after = file.text[at..].bytes().take_while(|byte| *byte != b'\n').take(LONG_LINE).count();
    before + after >= LONG_LINE
}

/// A place as bytes of its file, on the borders of characters.
fn within(file: &Source, span: &std::ops::Range<usize>) -> std::ops::Range<usize> {
    let border = |at: usize| {
        let mut at = at.saturating_sub(file.start).min(file.text.len());
        while !file.text.is_char_boundary(at) {
            at -= 1;
        }
        at
    };
    border(span.start)..border(span.end.max(span.start))
}

/// Mistakes for an editor: file, line and column (from 1), and where they end.
pub fn as_json(findings: &Findings) -> Value {
    // There may be very many in one long file.
    let starts: HashMap<usize, Vec<usize>> = findings
        .sources
        .files()
        .iter()
        .map(|file| {
            let newlines = file.text.match_indices('\n').map(|(at, _)| at + 1);
            (file.start, std::iter::once(0).chain(newlines).collect())
        })
        .collect();
    let line_and_column = |file: &Source, offset: usize| {
        let starts = starts.get(&file.start).map(Vec::as_slice).unwrap_or_default();
        let line = starts.partition_point(|start| *start <= offset);
        let begin = starts.get(line.saturating_sub(1)).copied().unwrap_or(0);
        (line, file.text.get(begin..offset).map_or(1, |before| before.chars().count() + 1))
    };
    let mistakes: Vec<_> = findings
        .mistakes
        .iter()
        .map(|mistake| {
            let places: Vec<_> = mistake
                .places
                .iter()
                .filter_map(|place| {
                    let (file, _) = findings.sources.locate(place.span.start)?;
                    let span = within(file, &place.span);
                    let (line, column) = line_and_column(file, span.start);
                    let (end_line, end_column) = line_and_column(file, span.end);
                    Some(json!({ "file": file.path, "line": line, "column": column, "end_line": end_line, "end_column": end_column, "note": place.note }))
                })
                .collect();
            let weight = if mistake.weight == Weight::Error { "mistake" } else { "warning" };
            json!({
                "code": mistake.code.to_string(),
                "weight": weight,
                "file": places.first().map(|place| place["file"].clone()),
                "message": mistake.message,
                "remedy": mistake.remedy,
                "places": places,
            })
        })
        .collect();
    json!({ "sound": findings.is_sound(), "mistakes": mistakes })
}
