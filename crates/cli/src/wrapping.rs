//! Lines that are longer than the terminal is wide, broken between words and indented so that columns stay columns.

/// Fewer columns than this are not wrapped for.
const NARROWEST: usize = 20;

/// A text each of whose lines fits into so many columns, as far as its words do. What follows in a table's last column
/// stays in that column.
pub fn wrapped(text: &str, columns: usize) -> String {
    if columns < NARROWEST || text.lines().all(|line| width(line) <= columns) {
        return text.to_owned();
    }
    let ends_open = !text.ends_with('\n');
    let mut out = String::with_capacity(text.len() + 64);
    for line in text.split_inclusive('\n') {
        let line = line.strip_suffix('\n').unwrap_or(line);
        if width(line) <= columns || is_drawn(line) {
            out.push_str(line);
        } else {
            lay(line, columns, hang(line, columns), &mut out);
        }
        out.push('\n');
    }
    if ends_open {
        out.pop();
    }
    out
}

/// A paragraph whose lines all begin at the margin.
pub fn paragraph(text: &str, columns: usize) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    lay(text, columns, 0, &mut out);
    out
}

/// Columns of a text without its styles (ECMA-48, SGR).
pub fn width(text: &str) -> usize {
    let mut columns = 0;
    let mut styled = false;
    for letter in text.chars() {
        match letter {
            '\u{1b}' => styled = true,
            'm' if styled => styled = false,
            _ => columns += usize::from(!styled),
        }
    }
    columns
}

/// A line of a file, or what is drawn beneath it (`12 | key = 1`), or one of a difference.
fn is_drawn(line: &str) -> bool {
    let line = plain(line);
    let rest = line.trim_start();
    let leading = line.len() - rest.len();
    let beneath = rest.trim_start_matches(|letter: char| letter.is_ascii_digit()).trim_start();
    // Differences stand at the margin, or beneath the name of their file.
    let is_diff = matches!(leading, 0 | 8) && rest.starts_with(['+', '-']);
    is_diff || rest.starts_with("@@") || ["|", "-->", ":::"].iter().any(|start| beneath.starts_with(start))
}

fn plain(line: &str) -> String {
    let mut out = String::with_capacity(line.len());
    let mut styled = false;
    for letter in line.chars() {
        match letter {
            '\u{1b}' => styled = true,
            'm' if styled => styled = false,
            letter if !styled => out.push(letter),
            _ => {}
        }
    }
    out
}

/// The column in which what does not fit goes on.
fn hang(line: &str, columns: usize) -> usize {
    let letters: Vec<char> = plain(line).chars().collect();
    let leading = letters.iter().take_while(|letter| **letter == ' ').count();
    let text: String = letters.iter().collect();
    if let Some(at) = text.find("= remedy: ").filter(|at| *at <= leading + 4) {
        return text[..at].chars().count() + "= remedy: ".len();
    }
    // The last gap of two or more that leaves half of the columns.
    let starts =
        letters.windows(3).enumerate().filter(|(_, near)| matches!(near, [' ', ' ', letter] if *letter != ' '));
    let last = starts.map(|(at, _)| at + 2).filter(|at| *at > leading && *at <= columns / 2).max();
    last.unwrap_or((leading + 2).min(columns / 2))
}

/// Lays words into lines.
fn lay(line: &str, columns: usize, hang: usize, out: &mut String) {
    let mut column = 0;
    let mut gap = String::new();
    let mut rest = line;
    while !rest.is_empty() {
        let spaces = rest.len() - rest.trim_start_matches(' ').len();
        if spaces > 0 {
            gap.push_str(&rest[..spaces]);
            rest = &rest[spaces..];
            continue;
        }
        let end = rest.find(' ').unwrap_or(rest.len());
        let (word, after) = rest.split_at(end);
        let long = width(word);
        if column > hang && long > 0 && column + gap.len() + long > columns {
            out.push('\n');
            out.extend(std::iter::repeat_n(' ', hang));
            column = hang;
        } else {
            out.push_str(&gap);
            column += gap.len();
        }
        gap.clear();
        out.push_str(word);
        column += long;
        rest = after;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_broken_between_words_and_the_last_column_stays_one() {
        let told = wrapped("  pending   image of the workspace, which is another one now", 34);
        assert_eq!(told, "  pending   image of the\n            workspace, which is\n            another one now");
        let told = wrapped("   = remedy: write it into the spec, then lock it again", 34);
        assert_eq!(told, "   = remedy: write it into the\n             spec, then lock it\n             again");
        assert_eq!(wrapped("failed: one two three four five six", 20), "failed: one two\n  three four five\n  six");
    }

    #[test]
    fn styles_take_no_room_and_nothing_is_lost() {
        let line = format!("\u{1b}[1mone\u{1b}[0m {} end", "two".repeat(3));
        assert_eq!(wrapped(&line, 20), line);
        let long = "a word and ".repeat(30);
        let told = wrapped(&long, 40);
        let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
        assert_eq!(words(&told), words(&long));
        assert!(told.lines().all(|line| width(line) <= 40), "{told}");
    }

    #[test]
    fn what_is_drawn_stays_as_it_is() {
        let drawn = "12 | key = \"a value that is longer than the terminal is wide\"\n   |       ^^^^^^^";
        assert_eq!(wrapped(drawn, 30), drawn);
        assert_eq!(wrapped("short\n", 30), "short\n");
        assert_eq!(wrapped("no room for words here", 10), "no room for words here");
        assert_eq!(paragraph("one two three", 8), "one two\nthree");
    }
}
