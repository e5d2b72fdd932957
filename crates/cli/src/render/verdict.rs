//! A verdict: for each aspect *same*, or what was expected and what is here.

use cavrith_core::verdict::{Aspect, Difference, Standing, Verdict, count};
use cavrith_workspace::verifying::Depth;
use serde_json::{Value, json};

use crate::screen::{Screen, Styles, styled};

/// Differences that are shown of one aspect; the rest is counted, and in the JSON.
const SHOWN: usize = 12;

pub fn show(screen: &Screen, verdict: &Verdict, words: &str, depth: Depth) {
    let styles = &screen.out;
    let counted = |standing| verdict.aspects.iter().filter(|aspect| aspect.standing() == standing).count();
    if screen.quiet && verdict.standing() == Standing::Same {
        return;
    }
    for aspect in &verdict.aspects {
        let style = match aspect.standing() {
            Standing::Same => styles.good,
            Standing::Different => styles.bad,
            Standing::NotMeasured => styles.strong,
        };
        // Padded before it is coloured: escapes have no width.
        let standing = format!("{:12}", shown(aspect.standing()));
        screen.result(format_args!(
            "{} {:18} {}",
            styled(style, standing),
            aspect.name,
            styled(styles.faint, &aspect.measured)
        ));
        for line in differences(&aspect.differences, styles) {
            screen.result(line);
        }
        for why in &aspect.unmeasured {
            screen.result(format_args!("    not measured: {why}"));
        }
    }
    screen.result("");
    let words = styled(styles.strong, words);
    let differing = counted(Standing::Different);
    match verdict.standing() {
        Standing::Same if depth == Depth::Quick => screen.result(format_args!(
            "{} as sealed, as far as sizes and times tell: {words}; cavrith verify reads everything",
            styled(styles.good, "the same")
        )),
        Standing::Same => screen.result(format_args!("{} as sealed: {words}", styled(styles.good, "the same"))),
        Standing::NotMeasured => screen.result(format_args!(
            "no difference from what was sealed as {words}, but {} could not be measured",
            count(counted(Standing::NotMeasured), "aspect")
        )),
        Standing::Different => screen.result(format_args!(
            "{} what was sealed as {words}, in {}",
            styled(styles.bad, "not the same as"),
            count(differing, "aspect")
        )),
    }
    let is_scratch = |aspect: &&Aspect| aspect.name.starts_with(SCRATCH);
    let differs = |aspect: &&Aspect| !aspect.differences.is_empty();
    // Only what was found changed on disk has an origin; it comes back from its sources.
    let has_origin = |aspect: &Aspect| aspect.differences.iter().any(|difference| difference.from.is_some());
    if verdict.aspects.iter().filter(|aspect| !is_scratch(aspect)).any(has_origin) {
        screen.result("cavrith build --fresh makes what was changed in the store anew");
    }
    if verdict.aspects.iter().filter(differs).any(|aspect| is_scratch(&aspect)) {
        screen.result(
            "cavrith drop sets aside what was changed inside, and the next start is as sealed; what is needed belongs into the spec",
        );
    } else if depth == Depth::Full
        && !verdict.aspects.iter().any(|aspect| is_scratch(&aspect))
        && verdict.aspects.iter().any(|aspect| aspect.name == "folders")
    {
        screen.result("no workspace of this project is there yet; a fresh one was measured");
    }
}

/// How the aspects begin that tell of workspaces in use.
const SCRATCH: &str = "scratch";

fn shown(standing: Standing) -> &'static str {
    match standing {
        Standing::Same => "same",
        Standing::Different => "different",
        Standing::NotMeasured => "not measured",
    }
}

/// Differences in lines for people.
fn differences(differences: &[Difference], styles: &Styles) -> Vec<String> {
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
                "standing": shown(aspect.standing()).replace(' ', "-"),
                "same": aspect.standing() == Standing::Same,
                "measured": aspect.measured,
                "differences": aspect.differences,
                "unmeasured": aspect.unmeasured,
            })
        })
        .collect();
    let standing = verdict.standing();
    json!({ "same": standing == Standing::Same, "standing": shown(standing).replace(' ', "-"), "words": words, "aspects": aspects })
}
