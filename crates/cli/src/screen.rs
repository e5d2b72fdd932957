//! The one owner of standard output and error.
//!
//! Results go to standard output, everything else to standard error, and all of it through [`harmless`]. While a live
//! line is drawn, text is written above it.

use std::fmt::Display;
use std::io::{self, IsTerminal as _, Write as _};
use std::os::fd::BorrowedFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use anstyle::{AnsiColor, Style};
use indicatif::{MultiProgress, ProgressBar, ProgressStyle};

use crate::args::{Color, General};
use crate::harmless::harmless;
use crate::pager;
use crate::wrapping::wrapped;

/// What takes longer than this gets a line that says what it is.
const A_MOMENT: Duration = Duration::from_millis(500);

/// Styles by their role; empty where there is no colour.
#[derive(Debug, Clone, Copy, Default)]
pub struct Styles {
    pub good: Style,
    pub bad: Style,
    pub warning: Style,
    pub strong: Style,
    pub faint: Style,
}

impl Styles {
    fn colored() -> Self {
        let color = |color: AnsiColor| Style::new().fg_color(Some(color.into()));
        Self {
            good: color(AnsiColor::Green),
            bad: color(AnsiColor::Red).bold(),
            warning: color(AnsiColor::Yellow),
            strong: Style::new().bold(),
            faint: Style::new().dimmed(),
        }
    }
}

/// A sentence without the numbers that the standard library puts behind the system's errors: `(os error 2)`.
pub fn in_words(text: &str) -> String {
    let mut words = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(" (os error ") {
        let number = &rest[at + " (os error ".len()..];
        let Some(end) = number.find(')').filter(|end| number[..*end].bytes().all(|byte| byte.is_ascii_digit())) else {
            words.push_str(&rest[..at + 1]);
            rest = &rest[at + 1..];
            continue;
        };
        words.push_str(&rest[..at]);
        rest = &number[end + 1..];
    }
    words.push_str(rest);
    words
}

/// A text in a style.
pub fn styled(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

#[derive(Debug)]
pub struct Screen {
    pub quiet: bool,
    pub verbose: bool,
    /// For what goes to standard output.
    pub out: Styles,
    /// For what goes to standard error.
    pub err: Styles,
    /// Columns of the terminal on standard error.
    pub width: usize,
    /// Columns to wrap lines at, of standard output and of standard error; 0 where that is no terminal.
    out_columns: usize,
    err_columns: usize,
    /// Whether live lines may be drawn.
    pub live: bool,
    pub progress: MultiProgress,
    /// Something of the result could not be written.
    lost: AtomicBool,
    /// The lines so far, when all of the result is to be shown together; true of those that go to standard error.
    held: Mutex<Option<Vec<(bool, String)>>>,
}

impl Screen {
    pub fn new(general: &General) -> Self {
        let no_color = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
        let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
        let styles = |terminal: bool| {
            let colored = match general.color {
                Color::Always => true,
                Color::Never => false,
                Color::Auto => terminal && !no_color && !dumb,
            };
            if colored { Styles::colored() } else { Styles::default() }
        };
        let err_terminal = io::stderr().is_terminal();
        let columns =
            |stream: BorrowedFd<'_>| rustix::termios::tcgetwinsize(stream).map_or(0, |size| usize::from(size.ws_col));
        let width = columns(rustix::stdio::stderr());
        Self {
            quiet: general.quiet,
            verbose: general.verbose,
            out: styles(io::stdout().is_terminal()),
            err: styles(err_terminal),
            width: if width == 0 { 100 } else { width },
            out_columns: columns(rustix::stdio::stdout()),
            err_columns: columns(rustix::stdio::stderr()),
            live: err_terminal && !general.quiet && !dumb,
            progress: MultiProgress::new(),
            lost: AtomicBool::new(false),
            held: Mutex::new(None),
        }
    }

    /// Whether some of the result could not be written, which was reported.
    pub fn lost_output(&self) -> bool {
        self.lost.load(Ordering::Relaxed)
    }

    /// Columns for running text.
    pub fn columns(&self) -> usize {
        self.width.min(100)
    }

    /// Whether a line of so many columns stays one on the terminal that results go to. Nothing else cuts lines.
    pub fn fits(&self, columns: usize) -> bool {
        columns <= self.width || !io::stdout().is_terminal()
    }

    /// A line of the result, which is wrapped where it is longer than the terminal is wide.
    pub fn result(&self, line: impl Display) {
        let line = line.to_string();
        self.verbatim(wrapped(&line, self.out_columns));
    }

    /// A line of the result that stays as it is: one of a log, of a file, of a document.
    pub fn verbatim(&self, line: impl Display) {
        self.above(|| {
            let line = line.to_string();
            let line = format!("{}\n", harmless(&line));
            match self.held.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                Some(held) => held.push((false, line)),
                None => self.write(&line),
            }
        });
    }

    fn write(&self, text: &str) {
        match io::stdout().lock().write_all(text.as_bytes()) {
            Ok(()) => {}
            // A reader that went away is not a mistake.
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => {}
            Err(error) => {
                if !self.lost.swap(true, Ordering::Relaxed) {
                    let _ = writeln!(io::stderr().lock(), "the result cannot be written to standard output: {error}");
                }
            }
        }
    }

    /// Runs a command whose result may be longer than the terminal, and shows it in pages then.
    pub fn paged<T>(&self, work: impl FnOnce() -> T) -> T {
        let Some(room) = pager::room() else { return work() };
        let hold = |held| std::mem::replace(&mut *self.held.lock().unwrap_or_else(PoisonError::into_inner), held);
        hold(Some(Vec::new()));
        let done = work();
        let lines = hold(None).unwrap_or_default();
        let text: String = lines.iter().filter(|(is_aside, _)| !is_aside).map(|(_, line)| line.as_str()).collect();
        let paged = pager::shown(&text, room);
        for (is_aside, line) in lines {
            match (is_aside, paged) {
                (true, _) => drop(io::stderr().lock().write_all(line.as_bytes())),
                (false, false) => self.write(&line),
                (false, true) => {}
            }
        }
        done
    }

    /// A line about the work, left out when quiet.
    pub fn say(&self, line: impl Display) {
        if !self.quiet {
            self.insist(line);
        }
    }

    /// A line about the work that is said even when quiet.
    pub fn insist(&self, line: impl Display) {
        self.above(|| {
            let line = in_words(&line.to_string());
            let line = format!("{}\n", harmless(&wrapped(&line, self.err_columns)));
            match self.held.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                // What is said after a part of the result belongs behind it.
                Some(held) if !held.is_empty() => held.push((true, line)),
                _ => drop(io::stderr().lock().write_all(line.as_bytes())),
            }
        });
    }

    /// Does something that may take a while; after a moment a line on the terminal says what is waited for. The work
    /// must not need a process with one thread.
    pub fn meanwhile<T>(&self, text: impl Display, work: impl FnOnce() -> T) -> T {
        if !self.live {
            return work();
        }
        let text = text.to_string();
        let (over, waits) = mpsc::channel::<()>();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                if waits.recv_timeout(A_MOMENT) == Err(RecvTimeoutError::Timeout) {
                    let line = self.live_line(text);
                    // The other end hangs up when the work is over.
                    let _ = waits.recv();
                    line.finish_and_clear();
                }
            });
            let done = work();
            drop(over);
            done
        })
    }

    /// A line that lives until what it tells of is over.
    pub fn live_line(&self, text: String) -> ProgressBar {
        let line = self.progress.add(ProgressBar::new_spinner());
        // The template is a constant; should it be wrong, the line is drawn as the library likes.
        if let Ok(style) = ProgressStyle::with_template("{spinner} {wide_msg} {elapsed}") {
            line.set_style(style);
        }
        line.set_message(text);
        line.enable_steady_tick(Duration::from_millis(120));
        line
    }

    /// A value as JSON, as the whole result.
    pub fn json(&self, value: &impl serde::Serialize) {
        match serde_json::to_string_pretty(value) {
            Ok(text) => self.verbatim(text),
            Err(error) => self.insist(format_args!("BUG: the answer cannot be written as JSON: {error}")),
        }
    }

    fn above(&self, write: impl FnOnce()) {
        if self.live { self.progress.suspend(write) } else { write() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_the_system_s_errors_are_left_out() {
        let error = io::Error::from_raw_os_error(2).to_string();
        assert_eq!(
            in_words(&format!("cannot read a: {error}; try b")),
            "cannot read a: No such file or directory; try b"
        );
        assert_eq!(in_words("a (os error x) b (os error 13)"), "a (os error x) b");
    }
}
