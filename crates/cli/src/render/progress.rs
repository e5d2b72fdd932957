//! What a flow is doing: live lines on a terminal, plain lines elsewhere.

use std::collections::BTreeMap;
use std::sync::Mutex;

use cavrith_core::verdict::size;
use cavrith_engine::event::{Event, LayerOutcome};
use indicatif::ProgressBar;

use crate::harmless::harmless;
use crate::screen::{Screen, Styles, styled};

/// Where finished layers are reported.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Where {
    /// They are part of the result.
    Result,
    /// Standard output belongs to somebody else; only what was really made is reported, on standard error.
    Aside,
    /// The result is JSON, which has them.
    Nowhere,
}

pub struct Progress<'a> {
    screen: &'a Screen,
    place: Where,
    live: Mutex<BTreeMap<String, ProgressBar>>,
}

/// The live line of stages that are no layer.
const STAGE: &str = "";
/// Milliseconds from which it is odd that nothing came of a layer.
const LONG: u64 = 60_000;

impl<'a> Progress<'a> {
    pub fn new(screen: &'a Screen, place: Where) -> Self {
        Self { screen, place, live: Mutex::new(BTreeMap::new()) }
    }

    pub fn show(&self, event: Event) {
        match event {
            Event::LayerStarted { layer } => self.begin(&layer, &layer),
            Event::Stage { text } => {
                self.end(STAGE);
                if self.screen.live {
                    self.begin(STAGE, &text);
                } else if self.screen.verbose {
                    self.screen.say(&text);
                }
            }
            Event::Output { layer, line } => {
                if self.screen.verbose {
                    self.screen.say(format_args!("{} {line}", styled(self.screen.err.faint, format_args!("{layer}:"))));
                } else if let Some(bar) = self.lines().get(&layer) {
                    bar.set_message(format!("{layer}: {}", printable(&line)));
                }
            }
            Event::Fetching { name, done, of } => self.moving("fetching", &name, done, of),
            Event::Fetched { name } => self.end(&moving_line("fetching", &name)),
            Event::Sending { name, done, of } => self.moving("pushing", &name, done, Some(of)),
            Event::Sent { name } => self.end(&moving_line("pushing", &name)),
            Event::Brought { name, millis, bytes } => {
                self.line(|styles| done_line(styled(styles.good, "fetched"), &name, millis, bytes));
            }
            Event::Note { text } => self.screen.say(format_args!("{} {text}", styled(self.screen.err.warning, "note"))),
            Event::Layer(outcome) => {
                self.end(&outcome.layer);
                self.layer(&outcome);
            }
        }
    }

    /// A live line of its own for each file on its way.
    fn moving(&self, doing: &str, name: &str, done: u64, of: Option<u64>) {
        let line = moving_line(doing, name);
        let started = self.lines().contains_key(&line);
        if !started {
            self.begin(&line, "");
        }
        let arrived = match of {
            Some(of) if of > 0 => format!("{} of {}, {} %", size(done), size(of), done * 100 / of),
            _ => size(done),
        };
        if let Some(bar) = self.lines().get(&line) {
            bar.set_message(format!("{doing} {}: {arrived}", printable(name)));
        }
    }

    fn lines(&self) -> std::sync::MutexGuard<'_, BTreeMap<String, ProgressBar>> {
        self.live.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn begin(&self, name: &str, text: &str) {
        if !self.screen.live {
            return;
        }
        self.lines().insert(name.to_owned(), self.screen.live_line(printable(text)));
    }

    fn end(&self, name: &str) {
        if let Some(bar) = self.lines().remove(name) {
            bar.finish_and_clear();
            self.screen.progress.remove(&bar);
        }
    }

    /// Takes the live lines away.
    pub fn finish(&self) {
        let names: Vec<_> = self.lines().keys().cloned().collect();
        names.iter().for_each(|name| self.end(name));
    }

    fn layer(&self, outcome: &LayerOutcome) {
        if self.screen.quiet {
            return;
        }
        if outcome.reused {
            // Aside, only what was made is worth a word.
            if let Where::Result = self.place {
                self.line(|styles| format!("{}  {}", styled(styles.faint, "reused"), outcome.layer));
            }
            return;
        }
        self.line(|styles| done_line(styled(styles.good, "made   "), &outcome.layer, outcome.millis, outcome.bytes));
        if let Some(remark) = remark(outcome) {
            self.line(|styles| format!("{} {remark}", styled(styles.warning, "note")));
        }
    }

    /// A line of its own, for good.
    fn line(&self, text: impl Fn(&Styles) -> String) {
        match self.place {
            _ if self.screen.quiet => {}
            Where::Result => self.screen.result(text(&self.screen.out)),
            Where::Aside => self.screen.say(text(&self.screen.err)),
            Where::Nowhere => {}
        }
    }
}

/// What is odd about a layer: it took long, and there is nothing in it.
fn remark(outcome: &LayerOutcome) -> Option<String> {
    (outcome.millis >= LONG && outcome.bytes == 0 && outcome.entries == 0).then(|| {
        format!(
            "{} took {} and changed nothing in the image; what it wrote into /tmp, into caches or to other machines is no part of it",
            outcome.layer,
            seconds(outcome.millis)
        )
    })
}

fn done_line(done: String, what: &str, millis: u64, bytes: u64) -> String {
    format!("{done} {what:44} {:>8}  {:>9}", seconds(millis), size(bytes))
}

fn moving_line(doing: &str, name: &str) -> String {
    format!("{doing} {name}")
}

/// A line of foreign output as it may stand in a live line, which is drawn past the screen's own door: without anything
/// that a terminal obeys, colours too.
fn printable(line: &str) -> String {
    let line: String = line.chars().filter(|letter| !letter.is_control()).take(200).collect();
    harmless(&line).into_owned()
}

/// A time for people.
pub fn seconds(millis: u64) -> String {
    match millis {
        0..1000 => format!("{millis} ms"),
        1000..100_000 => format!("{:.1} s", millis as f64 / 1e3),
        _ => format!("{} min {} s", millis / 60_000, millis / 1000 % 60),
    }
}

#[cfg(test)]
mod tests {
    use cavrith_core::digest::TreeDigest;

    use super::*;

    #[test]
    fn a_layer_that_took_minutes_and_is_empty_is_remarked_on() {
        let outcome = |millis, entries, bytes| {
            let tree = TreeDigest::from_bytes([0; 32]);
            remark(&LayerOutcome { layer: "step \"tides\"".to_owned(), tree, reused: false, millis, entries, bytes })
        };
        let remark = outcome(150_000, 0, 0).unwrap_or_default();
        assert!(
            remark.starts_with("step \"tides\" took 2") && remark.contains("changed nothing in the image"),
            "{remark}"
        );
        // Links and empty files are something, and moments are not odd.
        assert_eq!((outcome(150_000, 3, 0), outcome(150_000, 1, 9), outcome(900, 0, 0)), (None, None, None));
    }
}
