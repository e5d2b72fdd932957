//! Texts as they go to a terminal: nothing in them that it would obey, no matter who wrote them.
//!
//! Everything that is printed passes here, our own words and what a step, a package's script, an image or a file's name
//! brought alike: so nobody has to remember which is which. Colours pass, since they are ours as well (ECMA-48, SGR),
//! and a line that leaves one on ends with a reset.

use std::borrow::Cow;

/// Letters that change the order in which others are shown, or are not shown at all (Unicode Standard Annex 9): a text
/// with them reads as what it is not.
const MISLEADING: [char; 16] = [
    '\u{061c}', '\u{200b}', '\u{200e}', '\u{200f}', '\u{202a}', '\u{202b}', '\u{202c}', '\u{202d}', '\u{202e}',
    '\u{2028}', '\u{2029}', '\u{2066}', '\u{2067}', '\u{2068}', '\u{2069}', '\u{feff}',
];

fn is_obeyed(letter: char) -> bool {
    // Control characters are C0, DEL and C1; U+009B begins a sequence like ESC [.
    (letter.is_control() && !matches!(letter, '\n' | '\t')) || MISLEADING.contains(&letter)
}

/// A text in which whatever a terminal would obey is written out, as JSON writes it, so that JSON stays what it is.
pub fn harmless(text: &str) -> Cow<'_, str> {
    if !text.chars().any(is_obeyed) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    let mut colored = false;
    let mut rest = text;
    while let Some(letter) = rest.chars().next() {
        if let Some(color) = color(rest) {
            colored = !matches!(&rest[..color], "\x1b[m" | "\x1b[0m");
            out.push_str(&rest[..color]);
            rest = &rest[color..];
            continue;
        }
        rest = &rest[letter.len_utf8()..];
        if letter == '\r' && (rest.is_empty() || rest.starts_with('\n')) {
            // Another way to end a line.
        } else if is_obeyed(letter) {
            out.push_str(&format!("\\u{:04x}", u32::from(letter)));
        } else {
            out.push(letter);
        }
    }
    if colored {
        out.push_str("\x1b[0m");
    }
    Cow::Owned(out)
}

/// The length of a change of colour at the beginning of a text: ESC [, numbers, `m`.
fn color(text: &str) -> Option<usize> {
    let numbers = text.strip_prefix("\x1b[")?;
    let end = numbers.find(|letter: char| !letter.is_ascii_digit() && letter != ';')?;
    (end <= 24 && numbers[end..].starts_with('m')).then_some(end + 3)
}

#[cfg(test)]
mod tests {
    use super::harmless;

    #[test]
    fn what_a_terminal_obeys_is_written_out_and_colours_end_with_the_text() {
        assert_eq!(harmless("plain\ttext\n"), "plain\ttext\n");
        assert_eq!(harmless("\x1b]0;owned\x07"), "\\u001b]0;owned\\u0007");
        assert_eq!(harmless("\x1b[2J\u{9b}2J\u{202e}"), "\\u001b[2J\\u009b2J\\u202e");
        assert_eq!(harmless("\x1b[1;31mred\x1b[0m"), "\x1b[1;31mred\x1b[0m");
        assert_eq!(harmless("\x1b[31mred"), "\x1b[31mred\x1b[0m");
        assert_eq!(harmless("ends\r\nso\r"), "ends\nso");
        assert_eq!(harmless("over\rwritten"), "over\\u000dwritten");
        let json = serde_json::json!({ "name": "a\u{9b}b\u{202e}c" });
        let printed = harmless(&json.to_string()).into_owned();
        assert!(!printed.contains('\u{9b}'));
        assert_eq!(serde_json::from_str::<serde_json::Value>(&printed).unwrap(), json);
    }
}
