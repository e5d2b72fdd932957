//! The forms in which a time of day gets into a file.

use std::ops::Range;

use super::Surroundings;

/// How far a time may lie outside the span of its build: clocks differ, and a build may round.
const SLACK: i64 = 86_400;
/// Seconds from 1601 to 1970, between which the clock of another system began (FILETIME).
const FROM_1601: i64 = 11_644_473_600;

/// Written forms, the longest first. `9` is a digit, `_` a digit or a blank, `Y` a year, `W` a day of the week, `M` a
/// month, `Z` the name or the offset of a zone; all else stands for itself.
const WRITTEN: [(&str, &str); 24] = [
    ("W, 99 M Y 99:99:99", "a date of RFC 5322"),
    ("W, 9 M Y 99:99:99", "a date of RFC 5322"),
    ("W M _9 99:99:99 Z Y", "date(1)"),
    ("W M _9 99:99:99 Y", "ctime(3)"),
    ("W _9 M Y 99:99:99", "date(1)"),
    ("Y-99-99T99:99:99", "a date of ISO 8601"),
    ("Y-99-99 99:99:99", "a date of ISO 8601"),
    ("Y-99-99T99:99", "a date of ISO 8601"),
    ("Y-99-99 99:99", "a date of ISO 8601"),
    ("Y-99-99T999999", "a date of ISO 8601"),
    ("Y/99/99 99:99:99", "a date and a time"),
    ("Y9999T999999", "a date of ISO 8601"),
    ("Y9999-999999", "a date and a time in digits"),
    ("Y9999999999", "a date and a time in digits"),
    ("99/M/Y:99:99:99", "a time as web servers log it"),
    ("M _9 Y", "__DATE__"),
    ("_9 M Y", "a date in words"),
    ("Y-99-99", "a date of ISO 8601"),
    ("Y/99/99", "a date"),
    ("99/99/Y", "a date"),
    ("99.99.Y", "a date"),
    ("Y9999", "a date in digits"),
    ("99:99:99", "__TIME__"),
    ("99:99", "a time of day"),
];

const DAYS: [&str; 7] = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];

/// A time that is written out in a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Stamp {
    /// Where, in bytes.
    pub range: Range<usize>,
    /// In which form.
    pub form: &'static str,
}

/// The times that are written out in a text.
pub(super) fn stamps(text: &str) -> Vec<Stamp> {
    let bytes = text.as_bytes();
    let (mut found, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        let begins = at == 0 || !bytes[at - 1].is_ascii_alphanumeric() || !bytes[at].is_ascii_alphanumeric();
        let matched = begins
            .then(|| WRITTEN.iter().find_map(|(pattern, form)| Some((matches(&bytes[at..], pattern)?, *form))))
            .flatten()
            // Digits that go on are a longer number.
            .filter(|(long, _)| {
                let ends_in_digit = bytes[at + long - 1].is_ascii_digit();
                !(ends_in_digit && bytes.get(at + long).is_some_and(u8::is_ascii_digit))
            });
        match matched {
            Some((long, form)) => {
                found.push(Stamp { range: at..at + long, form });
                at += long;
            }
            None => at += 1,
        }
    }
    found
}

/// How many bytes at the beginning of `text` have the form of a pattern.
fn matches(text: &[u8], pattern: &str) -> Option<usize> {
    let mut at = 0;
    let digit = |at: usize| text.get(at).is_some_and(u8::is_ascii_digit);
    for sign in pattern.bytes() {
        at += match sign {
            b'9' => usize::from(digit(at)).checked_sub(1).map(|_| 1)?,
            b'_' if digit(at) && digit(at + 1) => 1,
            b'_' if text.get(at) == Some(&b' ') => 1,
            // `Nov 6 2026` has one blank and one digit.
            b'_' if digit(at) => 0,
            b'Y' => {
                let century = text.get(at..at + 2)?;
                ((century == b"19" || century == b"20" || century == b"21") && digit(at + 2) && digit(at + 3))
                    .then_some(4)?
            }
            b'W' => name(&text[at.min(text.len())..], &DAYS)?,
            b'M' => name(&text[at.min(text.len())..], &MONTHS)?,
            b'Z' => {
                let zone = |byte: &&u8| byte.is_ascii_alphanumeric() || matches!(**byte, b'+' | b'-');
                let long = text[at.min(text.len())..].iter().take_while(zone).count();
                (2..=6).contains(&long).then_some(long)?
            }
            sign => (text.get(at) == Some(&sign)).then_some(1)?,
        };
    }
    Some(at)
}

/// The length of one of these names, whole or its first three letters.
fn name(text: &[u8], names: &[&str]) -> Option<usize> {
    let begins = |name: &str| text.get(..name.len()).is_some_and(|head| head.eq_ignore_ascii_case(name.as_bytes()));
    names.iter().find_map(|name| match begins(name) {
        true => Some(name.len()),
        false => begins(&name[..3]).then_some(3),
    })
}

fn within(around: &Surroundings, seconds: i64) -> bool {
    around.clocks.iter().any(|clock| (clock.start - SLACK..clock.end + SLACK).contains(&seconds))
}

fn both(around: &[Surroundings; 2], first: i64, second: i64) -> bool {
    within(&around[0], first) && within(&around[1], second)
}

/// The form in which two words are numbers that count time from a fixed moment.
pub(super) fn counted(around: &[Surroundings; 2], first: &str, second: &str) -> Option<&'static str> {
    let units = [
        (1, "seconds since 1970"),
        (1_000, "milliseconds since 1970"),
        (1_000_000, "microseconds since 1970"),
        (1_000_000_000, "nanoseconds since 1970"),
    ];
    let whole = |text: &str| text.split('.').next().and_then(|whole| whole.parse::<i128>().ok());
    if let (Some(a), Some(b)) = (whole(first), whole(second)) {
        let in_seconds = |number: i128, unit: i128| i64::try_from(number / unit).unwrap_or(-1);
        if let Some((_, form)) = units.iter().find(|(unit, _)| both(around, in_seconds(a, *unit), in_seconds(b, *unit)))
        {
            return Some(form);
        }
        let days = |number: i128| i64::try_from(number).unwrap_or(-1).saturating_mul(86_400);
        if a != b && both(around, days(a), days(b)) {
            return Some("days since 1970");
        }
        let year = |number: i128| (1990..2200).contains(&number) && first.len() == 4;
        if a != b && year(a) && year(b) && years(around, a, b) {
            return Some("a year");
        }
        let windows = |number: i128| i64::try_from(number / 10_000_000).map_or(-1, |number| number - FROM_1601);
        if both(around, windows(a), windows(b)) {
            return Some("ticks of 100 ns since 1601");
        }
    }
    let radix = |digits: u32| {
        let number = |text: &str| i64::from_str_radix(text.trim_start_matches("0x"), digits).ok();
        Some((number(first)?, number(second)?))
    };
    let short = |text: &str| (6..=10).contains(&text.len());
    for (digits, form) in [
        (16, "seconds since 1970, in hexadecimal"),
        (36, "seconds since 1970, in base 36"),
        (8, "seconds since 1970, in octal"),
    ] {
        let fits = digits == 8 || (short(first) && short(second));
        if fits && radix(digits).is_some_and(|(a, b)| both(around, a, b)) {
            return Some(form);
        }
    }
    identifiers(around, first, second)
}

/// Identifiers that begin with a time: UUIDs of versions 1, 6 and 7 (RFC 9562), and two sortable forms in wide use: 24
/// hexadecimal digits, the first eight of which are seconds, and 26 digits of base 32, the first ten of which are
/// milliseconds.
fn identifiers(around: &[Surroundings; 2], first: &str, second: &str) -> Option<&'static str> {
    let seconds = |text: &str| -> Option<(i64, &'static str)> {
        let plain = text.replace('-', "");
        let hexadecimal = plain.bytes().all(|byte| byte.is_ascii_hexdigit());
        if text.len() == 36 && plain.len() == 32 && hexadecimal {
            let part = |range: Range<usize>| i64::from_str_radix(plain.get(range)?, 16).ok();
            return match plain.as_bytes()[12] {
                // Ticks of 100 ns since 15 October 1582.
                b'1' => {
                    let ticks = ((part(13..16)? << 48) | (part(8..12)? << 32) | part(0..8)?) / 10_000_000;
                    Some((ticks - 12_219_292_800, "a UUID of version 1, which begins with the time"))
                }
                b'6' => {
                    let ticks = ((part(0..8)? << 28) | (part(8..12)? << 12) | part(13..16)?) / 10_000_000;
                    Some((ticks - 12_219_292_800, "a UUID of version 6, which begins with the time"))
                }
                b'7' => Some((part(0..12)? / 1000, "a UUID of version 7, which begins with the time")),
                _ => None,
            };
        }
        if text.len() == 24 && hexadecimal {
            return Some((i64::from_str_radix(&text[..8], 16).ok()?, "an identifier that begins with the time"));
        }
        if text.len() == 26 {
            const DIGITS: &[u8] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";
            let digit = |byte: u8| DIGITS.iter().position(|digit| *digit == byte.to_ascii_uppercase());
            let mut number = 0i64;
            for byte in text.bytes().take(10) {
                number = number.checked_mul(32)?.checked_add(digit(byte)? as i64)?;
            }
            return Some((number / 1000, "an identifier that begins with the time"));
        }
        None
    };
    let ((a, form), (b, other)) = (seconds(first)?, seconds(second)?);
    (form == other && both(around, a, b)).then_some(form)
}

/// Whether these are the years of both builds.
fn years(around: &[Surroundings; 2], first: i128, second: i128) -> bool {
    let of = |seconds: i64| {
        jiff::Timestamp::from_second(seconds)
            .map_or(0, |time| i128::from(time.to_zoned(jiff::tz::TimeZone::UTC).year()))
    };
    let in_span = |around: &Surroundings, year: i128| {
        around.clocks.iter().any(|clock| (of(clock.start - SLACK)..=of(clock.end + SLACK)).contains(&year))
    };
    in_span(&around[0], first) && in_span(&around[1], second)
}

/// The form in which the bytes around a place are a number that counts time, and where it begins.
pub(super) fn in_bytes(
    around: &[Surroundings; 2],
    first: &[u8],
    second: &[u8],
    at: usize,
) -> Option<(&'static str, Range<usize>)> {
    let window = |bytes: &[u8], range: Range<usize>| bytes.get(range).map(<[u8]>::to_vec);
    for long in [8, 4] {
        for from in (at.saturating_sub(long - 1)..=at).rev() {
            let range = from..from + long;
            let (Some(a), Some(b)) = (window(first, range.clone()), window(second, range.clone())) else { continue };
            if let Some(form) = number_form(around, &a, &b) {
                return Some((form, range));
            }
        }
    }
    None
}

/// Makes seconds since 1970 of a number.
type Scale = fn(i64) -> i64;
/// Reads bytes as seconds since 1970.
type Read<const LONG: usize> = fn([u8; LONG]) -> i64;

fn number_form(around: &[Surroundings; 2], a: &[u8], b: &[u8]) -> Option<&'static str> {
    if let (Ok(a), Ok(b)) = (<[u8; 4]>::try_from(a), <[u8; 4]>::try_from(b)) {
        let forms: [(Read<4>, &str); 3] = [
            (|bytes| i64::from(u32::from_le_bytes(bytes)), "seconds since 1970, 32 bits, little-endian"),
            (|bytes| i64::from(u32::from_be_bytes(bytes)), "seconds since 1970, 32 bits, big-endian"),
            (dos, "a date and a time of DOS"),
        ];
        return forms.into_iter().find(|(read, _)| both(around, read(a), read(b))).map(|(_, form)| form);
    }
    let (a, b) = (<[u8; 8]>::try_from(a).ok()?, <[u8; 8]>::try_from(b).ok()?);
    let scaled: [(Scale, &str, &str); 5] = [
        (|number| number, "seconds since 1970, 64 bits, little-endian", "seconds since 1970, 64 bits, big-endian"),
        (
            |number| number / 1_000,
            "milliseconds since 1970, 64 bits, little-endian",
            "milliseconds since 1970, 64 bits, big-endian",
        ),
        (
            |number| number / 1_000_000,
            "microseconds since 1970, 64 bits, little-endian",
            "microseconds since 1970, 64 bits, big-endian",
        ),
        (
            |number| number / 1_000_000_000,
            "nanoseconds since 1970, 64 bits, little-endian",
            "nanoseconds since 1970, 64 bits, big-endian",
        ),
        (
            |number| number / 10_000_000 - FROM_1601,
            "ticks of 100 ns since 1601, little-endian",
            "ticks of 100 ns since 1601, big-endian",
        ),
    ];
    for (scale, little, big) in scaled {
        if both(around, scale(i64::from_le_bytes(a)), scale(i64::from_le_bytes(b))) {
            return Some(little);
        }
        if both(around, scale(i64::from_be_bytes(a)), scale(i64::from_be_bytes(b))) {
            return Some(big);
        }
    }
    let real = |number: f64| if number.is_finite() { number as i64 } else { -1 };
    if both(around, real(f64::from_le_bytes(a)), real(f64::from_le_bytes(b))) {
        return Some("seconds since 1970, as a floating-point number");
    }
    both(around, real(f64::from_be_bytes(a)), real(f64::from_be_bytes(b)))
        .then_some("seconds since 1970, as a floating-point number")
}

/// Seconds since 1970 of a time and a date as zip archives have them (APPNOTE 6.3.10, section 4.4.6), as if it were
/// UTC; −1 for what is none.
pub(super) fn dos(bytes: [u8; 4]) -> i64 {
    let (time, date) = (u16::from_le_bytes([bytes[0], bytes[1]]), u16::from_le_bytes([bytes[2], bytes[3]]));
    let part = |number: u16, shift: u16, bits: u16| (number >> shift) & ((1 << bits) - 1);
    let date = jiff::civil::Date::new(1980 + part(date, 9, 7) as i16, part(date, 5, 4) as i8, part(date, 0, 5) as i8);
    let date = date.map(|date| {
        date.at(part(time, 11, 5) as i8 % 24, part(time, 5, 6) as i8 % 60, (2 * part(time, 0, 5)) as i8 % 60, 0)
    });
    date.and_then(|date| date.to_zoned(jiff::tz::TimeZone::UTC)).map_or(-1, |time| time.timestamp().as_second())
}

/// Whether two words are spans of time: a number with a unit, or with the word for one behind it.
pub(super) fn span(line: &str, first: &str, second: &str) -> bool {
    const UNITS: [&str; 14] = [
        "s",
        "ms",
        "us",
        "µs",
        "ns",
        "m",
        "min",
        "sec",
        "secs",
        "second",
        "seconds",
        "minutes",
        "milliseconds",
        "hours",
    ];
    let unit = |text: &str| {
        let number = text.trim_end_matches(|letter: char| letter.is_alphabetic());
        let numeric = !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
        numeric.then(|| text[number.len()..].to_owned())
    };
    match (unit(first), unit(second)) {
        (Some(a), Some(b)) if !a.is_empty() || !b.is_empty() => {
            UNITS.contains(&a.as_str()) && UNITS.contains(&b.as_str())
        }
        (Some(_), Some(_)) => {
            let after = line.find(first).map_or("", |at| &line[at + first.len()..]);
            let next = after.trim_start().split(|letter: char| !letter.is_alphabetic()).next().unwrap_or_default();
            let named = ["took", "elapsed", "duration", "real ", "user ", "sys "];
            UNITS.contains(&next) || named.iter().any(|word| line.to_ascii_lowercase().contains(word))
        }
        _ => false,
    }
}
