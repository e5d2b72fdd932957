//! Mistakes, with their place in the file underlined.

use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use cavrith_core::mistake::{Mistake, Weight, line_and_column};
use cavrith_core::verdict::count;
use cavrith_engine::project::Findings;
use serde_json::{Value, json};

use crate::screen::{Screen, styled};

/// Shows every mistake on standard error, and how many there are.
pub fn show(screen: &Screen, findings: &Findings) {
    let colored = screen.err.bad != anstyle::Style::new();
    let renderer = if colored { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.term_width(screen.width);
    for (file, mistake) in &findings.mistakes {
        let Some((path, text)) = findings.files.get(*file) else {
            continue;
        };
        screen.insist(draw(&renderer, &path.to_string_lossy(), text, mistake));
        screen.insist("");
    }
    let errors = findings.mistakes.iter().filter(|(_, mistake)| mistake.weight == Weight::Error).count();
    let warnings = findings.mistakes.len() - errors;
    let mut told = Vec::new();
    if errors > 0 {
        told.push(styled(screen.err.bad, count(errors, "mistake")));
    }
    if warnings > 0 {
        told.push(styled(screen.err.warning, count(warnings, "warning")));
    }
    if !told.is_empty() {
        screen.insist(told.join(", "));
    }
}

fn draw(renderer: &Renderer, path: &str, text: &str, mistake: &Mistake) -> String {
    let level = match mistake.weight {
        Weight::Error => Level::ERROR.with_name("mistake"),
        Weight::Warning => Level::WARNING,
    };
    let mut snippet = Snippet::source(text).path(path).fold(true);
    for (number, place) in mistake.places.iter().enumerate() {
        let kind = if number == 0 { AnnotationKind::Primary } else { AnnotationKind::Context };
        let annotation = kind.span(within(text, &place.span));
        snippet =
            snippet.annotation(if place.note.is_empty() { annotation } else { annotation.label(place.note.as_str()) });
    }
    let title = level.primary_title(mistake.message.as_str()).id(mistake.code.to_string());
    let group = title.element(snippet).element(Level::HELP.with_name("remedy").message(mistake.remedy.as_str()));
    renderer.render(&[group])
}

/// A place that lies in the text and on its characters' borders.
fn within(text: &str, span: &std::ops::Range<usize>) -> std::ops::Range<usize> {
    let border = |mut at: usize| {
        at = at.min(text.len());
        while !text.is_char_boundary(at) {
            at -= 1;
        }
        at
    };
    border(span.start)..border(span.end.max(span.start))
}

/// Mistakes for an editor: file, line and column (from 1), and where they end.
pub fn as_json(findings: &Findings) -> Value {
    let mistakes: Vec<_> = findings
        .mistakes
        .iter()
        .filter_map(|(file, mistake)| {
            let (path, text) = findings.files.get(*file)?;
            let places: Vec<_> = mistake
                .places
                .iter()
                .map(|place| {
                    let (line, column) = line_and_column(text, place.span.start);
                    let (end_line, end_column) = line_and_column(text, place.span.end);
                    json!({ "line": line, "column": column, "end_line": end_line, "end_column": end_column, "note": place.note })
                })
                .collect();
            let weight = if mistake.weight == Weight::Error { "mistake" } else { "warning" };
            Some(json!({
                "code": mistake.code.to_string(),
                "weight": weight,
                "file": path,
                "message": mistake.message,
                "remedy": mistake.remedy,
                "places": places,
            }))
        })
        .collect();
    json!({ "sound": findings.is_sound(), "mistakes": mistakes })
}
