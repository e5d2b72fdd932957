//! The same things in another order: whose order it was.

use super::{Explainer, Finding, Kind, finding};

/// Words of what is told as several things are done at once.
const OF_JOBS: [&str; 12] = [
    "compil",
    "build",
    "thread",
    "worker",
    "job",
    "task",
    "linking",
    "finished",
    "done",
    "started",
    "processing",
    "downloaded",
];

/// Why the same entries stand in two orders; `None` when they are not the same, or there is one order only.
pub(super) fn of_entries<T: AsRef<str> + Ord>(
    explainer: &Explainer<'_>,
    first: &[T],
    second: &[T],
    what: &str,
) -> Option<Finding> {
    if first.len() < 2 || first.len() != second.len() {
        return None;
    }
    let (mut sorted, mut other): (Vec<&T>, Vec<&T>) = (first.iter().collect(), second.iter().collect());
    sorted.sort();
    other.sort();
    let at = first.iter().zip(second).position(|(a, b)| a != b)?;
    if sorted != other {
        return None;
    }
    let texts = |list: &[T]| list.iter().map(|entry| entry.as_ref().to_owned()).collect::<Vec<_>>();
    let (kind, form) = whose(explainer, &texts(first), &texts(second), what);
    Some(Finding { at: None, ..finding(kind, &form, first[at].as_ref(), second[at].as_ref()) })
}

/// The same words within a line in two orders: a set that was written as its hash table had it.
pub(super) fn of_words(first: &str, second: &str) -> Option<Finding> {
    let words = |text: &str| -> Vec<String> {
        let word = |letter: char| letter.is_alphanumeric() || matches!(letter, '_' | '-' | '.' | '/');
        let mut words: Vec<_> =
            text.split(|letter| !word(letter)).filter(|word| !word.is_empty()).map(str::to_owned).collect();
        words.sort();
        words
    };
    let (a, b) = (words(first), words(second));
    (first != second && a.len() > 1 && a == b)
        .then(|| finding(Kind::Random, "the order of a set or table, which follows from a hash seed", first, second))
}

fn whose(explainer: &Explainer<'_>, first: &[String], second: &[String], what: &str) -> (Kind, String) {
    let folded = |text: &String| {
        let letters = text.chars().filter(|letter| letter.is_alphanumeric());
        letters.flat_map(char::to_lowercase).collect::<String>()
    };
    let by_bytes = |list: &[String]| list.is_sorted();
    let by_locale = |list: &[String]| list.iter().map(folded).is_sorted();
    if (by_bytes(first) && by_locale(second)) || (by_locale(first) && by_bytes(second)) {
        return (Kind::Locale, format!("{what}, sorted by two locales"));
    }
    let share = |test: &dyn Fn(&str) -> bool| first.iter().filter(|entry| test(entry)).count() * 3 > first.len();
    let told = |entry: &str| {
        let small = entry.to_ascii_lowercase();
        OF_JOBS.iter().any(|word| small.contains(word))
    };
    let counted = |entry: &str| {
        let inner = entry.trim_start().strip_prefix(['[', '(']).and_then(|rest| rest.split([']', ')']).next());
        inner.is_some_and(|inner| {
            inner.bytes().any(|byte| byte.is_ascii_digit())
                && inner.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'/' | b' ' | b'%'))
        })
    };
    if share(&told) || share(&counted) {
        return (Kind::ParallelOrder, what.to_owned());
    }
    let in_pairs = |entry: &str| {
        entry.split_once(['=', ':']).is_some_and(|(key, value)| !key.contains(['/', ' ']) && !value.is_empty())
    };
    let named = |entry: &str| entry.contains('/') || entry.contains('.') || !entry.trim().contains(' ');
    if share(&in_pairs) {
        return (Kind::Random, format!("{what} of a set or table, whose order follows from a hash seed"));
    }
    // Entries that are numbered are done by several at once.
    let numbers = |list: &[String]| -> Option<Vec<u64>> {
        list.iter()
            .map(|entry| {
                let digits: String = entry.chars().filter(char::is_ascii_digit).collect();
                digits.parse().ok()
            })
            .collect()
    };
    let alone = explainer.around[1].processors == 1 && explainer.around[0].processors > 1;
    if alone && numbers(second).is_some_and(|numbers| numbers.len() > 2 && numbers.is_sorted()) && !by_bytes(first) {
        return (Kind::ParallelOrder, what.to_owned());
    }
    if share(&named) {
        return (Kind::DirectoryOrder, what.to_owned());
    }
    (Kind::ParallelOrder, what.to_owned())
}
