//! A verdict: for each aspect *same*, or what was expected and what is here.

use cavrith_core::verdict::{Difference, Verdict, count};
use serde_json::{Value, json};

use crate::screen::{Screen, Styles, styled};

/// Differences that are shown of one aspect; the rest is counted, and in the JSON.
const SHOWN: usize = 12;

pub fn show(screen: &Screen, verdict: &Verdict, words: &str) {
    let styles = &screen.out;
    let differing = verdict.aspects.iter().filter(|aspect| !aspect.differences.is_empty()).count();
    if screen.quiet && differing == 0 {
        return;
    }
    for aspect in &verdict.aspects {
        if aspect.differences.is_empty() {
            screen.result(format_args!(
                "{}       {:18} {}",
                styled(styles.good, "same"),
                aspect.name,
                styled(styles.faint, &aspect.measured)
            ));
            continue;
        }
        screen.result(format_args!(
            "{}  {:18} {}",
            styled(styles.bad, "different"),
            aspect.name,
            styled(styles.faint, &aspect.measured)
        ));
        for line in differences(&aspect.differences, styles) {
            screen.result(line);
        }
    }
    screen.result("");
    let words = styled(styles.strong, words);
    if differing == 0 {
        screen.result(format_args!("{} as sealed: {words}", styled(styles.good, "the same")));
    } else {
        screen.result(format_args!(
            "{} what was sealed as {words}, in {}",
            styled(styles.bad, "not the same as"),
            count(differing, "aspect")
        ));
        // Only what was found changed on disk has an origin; it comes back from its sources.
        if verdict.aspects.iter().flat_map(|aspect| &aspect.differences).any(|difference| difference.from.is_some()) {
            screen.result("cavrith build --fresh makes what was changed in the store anew");
        }
    }
}

/// Differences in lines for people.
pub fn differences(differences: &[Difference], styles: &Styles) -> Vec<String> {
    let mut lines = Vec::new();
    for difference in differences.iter().take(SHOWN) {
        let from = difference.from.as_ref().map_or_else(String::new, |from| format!("  from {from}"));
        lines.push(format!("    {}{}", styled(styles.strong, &difference.what), styled(styles.faint, from)));
        lines.push(format!("        expected  {}", difference.expected.replace('\n', "\n                  ")));
        lines.push(format!("        here      {}", difference.here.replace('\n', "\n                  ")));
    }
    if differences.len() > SHOWN {
        lines.push(format!("    and {} more; --json has them all", differences.len() - SHOWN));
    }
    lines
}

pub fn as_json(verdict: &Verdict, words: &str) -> Value {
    let aspects: Vec<_> = verdict
        .aspects
        .iter()
        .map(|aspect| {
            json!({
                "name": aspect.name,
                "same": aspect.differences.is_empty(),
                "measured": aspect.measured,
                "differences": aspect.differences,
            })
        })
        .collect();
    json!({ "same": verdict.is_same(), "words": words, "aspects": aspects })
}
