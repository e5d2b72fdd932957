//! Two files, or members of archives, that cannot be opened: as text line by line, as bytes place by place.

use std::ops::Range;

use similar::{Algorithm, DiffOp, capture_diff_slices};

use super::{Explainer, Finding, Kind, excerpt, finding, order, time, tokens};

/// Lines of a side that are aligned with those of the other; of more, those around the first difference.
const MOST_LINES: usize = 4000;
/// Places of a file that are looked at.
const MOST_PLACES: usize = 64;
/// Equal bytes between two differing ones that still belong to one place.
const GAP: usize = 8;

pub(super) fn compare(explainer: &Explainer<'_>, path: &str, first: &[u8], second: &[u8]) -> Vec<Finding> {
    match (text(first), text(second)) {
        (Some(a), Some(b)) => lines(explainer, path, a, b),
        _ => bytes(explainer, path, first, second),
    }
}

/// The text that bytes are: UTF-8 without control characters.
fn text(bytes: &[u8]) -> Option<&str> {
    let control = |byte: &u8| *byte < b' ' && !matches!(*byte, b'\n' | b'\t' | b'\r' | 0x0b | 0x0c | 0x1b);
    if bytes.iter().any(control) { None } else { std::str::from_utf8(bytes).ok() }
}

fn lines(explainer: &Explainer<'_>, path: &str, first: &str, second: &str) -> Vec<Finding> {
    let mut ours: Vec<&str> = first.lines().collect();
    let mut theirs: Vec<&str> = second.lines().collect();
    if let Some(found) = order::of_entries(explainer, &ours, &theirs, "the order of lines") {
        return vec![found];
    }
    let mut skipped = 0;
    if ours.len().max(theirs.len()) > MOST_LINES {
        let same = ours.iter().zip(&theirs).take_while(|(a, b)| a == b).count();
        skipped = ours[..same].iter().map(|line| line.len() + 1).sum();
        ours = ours.into_iter().skip(same).take(MOST_LINES).collect();
        theirs = theirs.into_iter().skip(same).take(MOST_LINES).collect();
    }
    let operations = capture_diff_slices(Algorithm::Myers, &ours, &theirs);
    let (mut gone, mut come) = (Vec::new(), Vec::new());
    for operation in &operations {
        if !matches!(operation, DiffOp::Equal { .. }) {
            gone.extend(ours[operation.old_range()].iter().copied());
            come.extend(theirs[operation.new_range()].iter().copied());
        }
    }
    if let Some(found) = order::of_entries(explainer, &gone, &come, "the order of lines") {
        return vec![found];
    }
    let mut found = Vec::new();
    for operation in &operations {
        if let DiffOp::Equal { .. } = operation {
            continue;
        }
        let (old, new) = (operation.old_range(), operation.new_range());
        let before: usize = skipped + ours[..old.start].iter().map(|line| line.len() + 1).sum::<usize>();
        let place = |one: Finding, a: &str, b: &str| {
            let same = a.bytes().zip(b.bytes()).take_while(|(a, b)| a == b).count();
            Finding {
                at: Some((before + same) as u64),
                first: excerpt(a.as_bytes(), same),
                second: excerpt(b.as_bytes(), same),
                ..one
            }
        };
        if old.len() == new.len() {
            for (a, b) in ours[old].iter().zip(&theirs[new]) {
                found.extend(tokens::line(explainer, a, b, path).into_iter().map(|one| place(one, a, b)));
            }
            continue;
        }
        let (a, b) = (ours[old.clone()].join("\n"), theirs[new.clone()].join("\n"));
        let [one, other] = explainer.around;
        let by_processor = one.processors != other.processors
            && gone.len() as u64 * other.processors == come.len() as u64 * one.processors
            && !gone.is_empty();
        let by_processor = by_processor
            || (ours.len() as u64 == one.processors
                && theirs.len() as u64 == other.processors
                && ours.len() != theirs.len());
        let mut lone = tokens::lone(explainer, path, if b.is_empty() { &a } else { "" }, &b);
        if !a.is_empty() && !b.is_empty() {
            lone = tokens::classify(explainer, &a, &b, path);
        }
        if lone.kind == Kind::Unknown && by_processor {
            lone = finding(Kind::Processors, "one line for each processor", &a, &b);
        }
        found.push(place(lone, &a, &b));
    }
    found
}

fn bytes(explainer: &Explainer<'_>, path: &str, first: &[u8], second: &[u8]) -> Vec<Finding> {
    let entries = |bytes: &[u8]| -> Vec<String> {
        let parts = bytes.split(|byte| *byte == 0).filter(|part| !part.is_empty());
        parts.map(|part| String::from_utf8_lossy(part).into_owned()).collect()
    };
    let small = first.len().max(second.len()) < 1 << 20;
    if small
        && first.len() == second.len()
        && let Some(found) = order::of_entries(explainer, &entries(first), &entries(second), "the order of entries")
    {
        return vec![found];
    }
    let mut found = Vec::new();
    for (ours, theirs) in places(first, second) {
        let (a, b) = (&first[ours.clone()], &second[theirs.clone()]);
        let place = |one: Finding| Finding {
            at: Some(ours.start as u64),
            first: excerpt(first, ours.start),
            second: excerpt(second, theirs.start),
            ..one
        };
        let (run, other) = (printable(first, &ours), printable(second, &theirs));
        let (x, y) = (String::from_utf8_lossy(&first[run.clone()]), String::from_utf8_lossy(&second[other.clone()]));
        let spelled = run.len() >= 8 && other.len() >= 8;
        if spelled {
            let told = tokens::line(explainer, &x, &y, path);
            if told.iter().any(|one| one.kind != Kind::Unknown) {
                found.extend(told.into_iter().map(place));
                continue;
            }
        }
        if ours.start == theirs.start
            && let Some((form, _)) = time::in_bytes(explainer.around, first, second, ours.start)
        {
            found.push(place(finding(Kind::Time, form, "", "")));
            continue;
        }
        if let (Some(of), Some(_)) = (explainer.raw_digest_of(a), explainer.raw_digest_of(b)) {
            found.push(place(finding(Kind::Follows, &format!("the digest of {of}"), "", "")));
            continue;
        }
        if let Some((kind, form)) = number(explainer, first, second, ours.start) {
            found.push(place(finding(kind, form, "", "")));
            continue;
        }
        if !spelled && run.len() >= 4 && other.len() >= 4 {
            let told = tokens::line(explainer, &x, &y, path);
            if told.iter().any(|one| one.kind != Kind::Unknown) {
                found.extend(told.into_iter().map(place));
                continue;
            }
        }
        let random = ours.len() >= 6 && ours.len() == theirs.len() && ours.len() <= 4096;
        found.push(place(match random {
            true => finding(Kind::Random, "random bytes", "", ""),
            false => finding(Kind::Unknown, "", "", ""),
        }));
    }
    let strings = |bytes: &[u8]| -> Vec<String> {
        let runs = bytes.split(|byte| !matches!(byte, b'\t' | b' '..=b'~')).filter(|run| run.len() >= 4);
        runs.map(|run| String::from_utf8_lossy(run).into_owned()).collect()
    };
    let known = found.iter().any(|one| !matches!(one.kind, Kind::Unknown | Kind::Random));
    if small && !known {
        let same = order::of_entries(explainer, &strings(first), &strings(second), "the order of entries");
        if let Some(one) = same {
            return vec![one];
        }
    }
    found
}

/// A process id or a number of processors as a program has it in memory: 32 bits, little-endian.
fn number(explainer: &Explainer<'_>, first: &[u8], second: &[u8], at: usize) -> Option<(Kind, &'static str)> {
    let read = |bytes: &[u8], at: usize| -> Option<u64> {
        Some(u64::from(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?)))
    };
    let [ours, theirs] = explainer.around;
    for at in at.saturating_sub(1)..=at {
        let (Some(a), Some(b)) = (read(first, at), read(second, at)) else { continue };
        if a == ours.processors && b == theirs.processors && a != b {
            return Some((Kind::Processors, "a number of processors, 32 bits"));
        }
        if tokens::of_processes(explainer, a, b) {
            return Some((Kind::ProcessId, "a process id, 32 bits"));
        }
    }
    None
}

/// The places in which two files of bytes differ.
fn places(first: &[u8], second: &[u8]) -> Vec<(Range<usize>, Range<usize>)> {
    let start = first.iter().zip(second).take_while(|(a, b)| a == b).count();
    if first.len() != second.len() {
        let most = first.len().min(second.len()) - start;
        let end = first.iter().rev().zip(second.iter().rev()).take(most).take_while(|(a, b)| a == b).count();
        return vec![(start..first.len() - end, start..second.len() - end)];
    }
    let mut found: Vec<Range<usize>> = Vec::new();
    for (at, _) in first.iter().zip(second).enumerate().skip(start).filter(|(_, (a, b))| a != b) {
        if let Some(last) = found.last_mut().filter(|last| at <= last.end + GAP) {
            last.end = at + 1;
        } else if found.len() < MOST_PLACES {
            found.push(at..at + 1);
        }
    }
    found.into_iter().map(|place| (place.clone(), place)).collect()
}

/// The printable bytes around a place.
fn printable(bytes: &[u8], place: &Range<usize>) -> Range<usize> {
    const FARTHEST: usize = 256;
    let plain = |byte: &u8| matches!(*byte, b'\t' | b' '..=b'~');
    if !bytes[place.clone()].iter().all(plain) {
        return place.start..place.start;
    }
    let before = bytes[..place.start].iter().rev().take(FARTHEST).take_while(|byte| plain(byte)).count();
    let after = bytes[place.end..].iter().take(FARTHEST).take_while(|byte| plain(byte)).count();
    place.start - before..place.end + after
}
