//! Choices that a person makes at a terminal.

use std::io::IsTerminal as _;

use dialoguer::FuzzySelect;
use dialoguer::theme::{ColorfulTheme, SimpleTheme, Theme};

use crate::failure::Failure;
use crate::screen::Screen;

/// Whether there is somebody who can be asked.
pub fn somebody_there() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// The number of the line that is chosen. `nobody` says what to write where nobody can be asked.
///
/// # Errors
/// When nobody can or may be asked, or nothing is chosen.
pub fn one_of(
    screen: &Screen,
    may_ask: bool,
    question: &str,
    lines: &[String],
    nobody: String,
) -> Result<usize, Failure> {
    if !may_ask || !somebody_there() {
        return Err(Failure::Own(2, nobody));
    }
    let plain = SimpleTheme;
    let colorful = ColorfulTheme::default();
    let theme: &dyn Theme = if screen.err.strong == anstyle::Style::default() { &plain } else { &colorful };
    let select = FuzzySelect::with_theme(theme).with_prompt(question).items(lines).default(0).max_length(12);
    // Escape, or the end of what is typed.
    select.interact_opt().ok().flatten().ok_or(Failure::Declined)
}
