//! Two lines that differ, or two names: which of their words do, and what these are.

use super::{Explainer, Finding, Kind, common, finding, order, time};

/// Features of processors, as kernels and compilers write them, and what stands beside them.
const FEATURES: [&str; 26] = [
    "sse2",
    "sse3",
    "ssse3",
    "sse4",
    "sse4_1",
    "sse4_2",
    "sse4.2",
    "avx",
    "avx2",
    "avx512",
    "avx512f",
    "avx512bw",
    "fma",
    "bmi2",
    "popcnt",
    "aes",
    "neon",
    "sve",
    "sve2",
    "x86-64-v2",
    "x86-64-v3",
    "x86-64-v4",
    "znver",
    "skylake",
    "haswell",
    "icelake",
];
/// What lines about processors say.
const OF_FEATURES: [&str; 8] =
    ["march=", "mcpu=", "mtune=", "model name", "cpu family", "target-cpu", "mhz", "bogomips"];
/// What lines about several processors say.
const OF_PROCESSORS: [&str; 11] =
    ["cpu", "cores", "processor", "nproc", "thread", "job", "worker", "parallel", "concurren", "pool", "-j"];
/// What lines say when the network, or the lack of it, spoke.
const OF_NETWORK: [&str; 16] = [
    "resolve",
    "connection",
    "unreachable",
    "timed out",
    "name or service",
    "offline",
    "etag",
    "http/1",
    "http/2",
    "x-request-id",
    "no route",
    "dns",
    "proxy",
    "mirror",
    "downloaded",
    "could not fetch",
];
const OF_HOSTS: [&str; 8] = ["host", "machine", "node", "builder", "built on", "built by", "build on", "uname"];
const OF_USERS: [&str; 6] = ["user", "author", "owner", "login", "maintainer", "by "];
const OF_CHANCE: [&str; 9] = ["rand", "seed", "nonce", "salt", "token", "secret", "uuid", "guid", "session"];

/// The reason that two texts differ; one of them, when there are several.
pub(super) fn classify(explainer: &Explainer<'_>, first: &str, second: &str, path: &str) -> Finding {
    let mut found = line(explainer, first, second, path);
    super::distinct(&mut found);
    found.into_iter().next().unwrap_or_else(|| finding(Kind::Unknown, "", first, second))
}

/// The reasons for which two lines differ.
pub(super) fn line(explainer: &Explainer<'_>, first: &str, second: &str, path: &str) -> Vec<Finding> {
    if first == second {
        return Vec::new();
    }
    let mut found = Vec::new();
    let (mut a, mut b) = (first.to_owned(), second.to_owned());
    let (ours, theirs) = (time::stamps(first), time::stamps(second));
    if ours.len() == theirs.len() && ours.iter().zip(&theirs).all(|(a, b)| a.form == b.form) {
        // From the end, so that the places before stay where they are.
        for (x, y) in ours.iter().zip(&theirs).rev() {
            let (one, other) = (&first[x.range.clone()], &second[y.range.clone()]);
            if one != other {
                found.insert(0, finding(Kind::Time, x.form, one, other));
                a.replace_range(x.range.clone(), "\u{1}");
                b.replace_range(y.range.clone(), "\u{1}");
            }
        }
    }
    if a == b {
        return found;
    }
    found.extend(order::of_words(&a, &b));
    if !found.is_empty() && found.iter().any(|one| one.kind == Kind::Random) {
        return found;
    }
    let (ours, theirs) = (words(&a), words(&b));
    if ours.len() == theirs.len() {
        let differ = ours.iter().zip(&theirs).filter(|(a, b)| a != b);
        // A date may leave its mark in the zone behind it, which is no reason of its own.
        found.extend(differ.map(|(x, y)| word(explainer, x, y, &format!("{a}\n{b}"), path)));
    } else {
        let (x, y) = middle(&a, &b);
        found.push(word(explainer, x, y, &format!("{a}\n{b}"), path));
    }
    found
}

/// What a name or a line is that one side alone has.
pub(super) fn lone(explainer: &Explainer<'_>, path: &str, first: &str, second: &str) -> Finding {
    let text = if first.is_empty() { second } else { first };
    let small = text.to_ascii_lowercase();
    let [ours, theirs] = explainer.around;
    let kind = if features(&small) {
        (Kind::CpuFeatures, "a feature of the processor")
    } else if OF_NETWORK.iter().any(|word| small.contains(word)) {
        (Kind::Network, "what the network answered, or did not")
    } else if path.ends_with(".pid") || small.contains("pid") {
        (Kind::ProcessId, "a process id")
    } else if ours.processors != theirs.processors && small.bytes().any(|byte| byte.is_ascii_digit()) && {
        OF_PROCESSORS.iter().any(|word| small.contains(word)) || small.contains("shard") || small.contains("part")
    } {
        (Kind::Processors, "one thing for each processor")
    } else if !time::stamps(text).is_empty() {
        (Kind::Time, "a date")
    } else {
        (Kind::Unknown, "")
    };
    finding(kind.0, kind.1, first, second)
}

/// The words of a line: what stands between blanks, quotation marks, brackets and the like.
fn words(line: &str) -> Vec<&str> {
    let apart = |letter: char| {
        letter.is_whitespace()
            || matches!(letter, '"' | '\'' | '`' | '=' | ';' | '(' | ')' | '[' | ']' | '{' | '}')
            || matches!(letter, '<' | '>' | '|' | '&' | '\0' | '!' | '?' | '*')
    };
    line.split(apart).map(|word| word.trim_end_matches([',', ':', '.'])).filter(|word| !word.is_empty()).collect()
}

/// What is left of two texts without what they share at both ends, out to the ends of words.
fn middle<'t>(first: &'t str, second: &'t str) -> (&'t str, &'t str) {
    let start =
        first.char_indices().zip(second.chars()).find(|((_, a), b)| a != b).map_or(first.len(), |((at, _), _)| at);
    let start = start.min(second.len());
    let rest = (&first[start..], &second[start..]);
    let end: usize =
        rest.0.chars().rev().zip(rest.1.chars().rev()).take_while(|(a, b)| a == b).map(|(a, _)| a.len_utf8()).sum();
    let boundary = |letter: char| letter.is_whitespace() || matches!(letter, '"' | '\'' | '=' | ';' | '(' | ')');
    let from = first[..start].rfind(boundary).map_or(0, |at| at + first[at..].chars().next().map_or(1, char::len_utf8));
    let tail = first[first.len() - end..].find(boundary).unwrap_or(end);
    let (to_first, to_second) = (first.len() - end + tail, second.len() - end + tail);
    (first.get(from..to_first).unwrap_or(first), second.get(from..to_second).unwrap_or(second))
}

fn features(small: &str) -> bool {
    let mut parts = small.split(|letter: char| !(letter.is_ascii_alphanumeric() || matches!(letter, '_' | '-' | '.')));
    OF_FEATURES.iter().any(|word| small.contains(word))
        || parts.any(|part| {
            let pieces = part.split(['-', '.']).chain([part]);
            pieces.into_iter().any(|piece| FEATURES.contains(&piece))
        })
}

/// What two words are that stand in the same place.
fn word(explainer: &Explainer<'_>, first: &str, second: &str, line: &str, path: &str) -> Finding {
    let (kind, form) = kind_of(explainer, first, second, line, path);
    finding(kind, &form, first, second)
}

fn kind_of(explainer: &Explainer<'_>, first: &str, second: &str, line: &str, path: &str) -> (Kind, String) {
    let [ours, theirs] = explainer.around;
    let is = |kind: Kind, form: &str| (kind, form.to_owned());
    let small = line.to_ascii_lowercase();
    let says = |words: &[&str]| words.iter().any(|word| small.contains(word));
    if let (Some(of), Some(_)) = (explainer.digest_of(first), explainer.digest_of(second)) {
        return (Kind::Follows, format!("the digest of {of}"));
    }
    if swapped(&ours.paths, &theirs.paths, first, second) {
        return is(Kind::BuildPath, "a directory of the build");
    }
    if first.contains('/') && second.contains('/') && !first.contains("://") {
        let temporary =
            |path: &str| ["/tmp/", "/var/tmp/", "/build/", "/buildd/"].iter().any(|root| path.contains(root));
        let end = |path: &str| path.rsplit('/').next().unwrap_or_default().to_owned();
        let absolute = |path: &str| path.find('/').is_some_and(|at| at == 0 || path[..at].ends_with([':', 'I', 'L']));
        if temporary(first) && temporary(second) {
            return is(Kind::BuildPath, "a temporary directory");
        }
        if absolute(first) && absolute(second) && end(first) == end(second) {
            return is(Kind::BuildPath, "a directory");
        }
    }
    if swapped(&ours.hosts, &theirs.hosts, first, second) {
        return is(Kind::HostOrUser, "the name of the host");
    }
    if swapped(&ours.users, &theirs.users, first, second) {
        return is(Kind::HostOrUser, "the name of a user");
    }
    if address(first) && address(second) {
        return is(Kind::Network, "an address of the network");
    }
    if let Some(form) = time::counted(explainer.around, first, second) {
        return is(Kind::Time, form);
    }
    let pieces = |text: &str| text.split(['-', '_', '.', ':', ',', '@']).map(str::to_owned).collect::<Vec<_>>();
    let (a, b) = (pieces(first), pieces(second));
    let differ: Vec<_> = a.iter().zip(&b).filter(|(a, b)| a != b).collect();
    if a.len() == b.len()
        && uuid(first).is_none()
        && let Some(form) = differ.iter().find_map(|(a, b)| time::counted(explainer.around, a, b))
    {
        return is(Kind::Time, form);
    }
    match (uuid(first), uuid(second)) {
        (Some('4'), Some('4')) => return is(Kind::Random, "a random UUID"),
        (Some(_), Some(_)) => return is(Kind::Random, "a UUID"),
        _ => {}
    }
    if zone(first) && zone(second) {
        return is(Kind::Time, "a time zone");
    }
    if time::span(line.lines().next().unwrap_or_default(), first, second) {
        return is(Kind::Time, "how long something took");
    }
    if small.contains("umask") || (first.len() == 4 && first.starts_with("00") && second.starts_with("00")) {
        return is(Kind::Umask, "the umask itself");
    }
    if let Some(kind) = numbers(explainer, first, second, &small, path) {
        return kind;
    }
    if let Some(kind) =
        differ.iter().find_map(|(a, b)| numbers(explainer, a, b, &small, path)).filter(|_| a.len() == b.len())
    {
        return kind;
    }
    if features(&small) {
        return is(Kind::CpuFeatures, "features of the processor");
    }
    if of_locale(first) || of_locale(second) || folded(first) == folded(second) {
        return is(Kind::Locale, "a form that the locale chose");
    }
    if random(first, second) {
        let form = match first.starts_with("0x") && second.starts_with("0x") {
            true => "an address in memory",
            false if path.contains("/tmp") || first.contains("tmp") => "a temporary name",
            false => "random letters and digits",
        };
        return is(Kind::Random, form);
    }
    if says(&OF_NETWORK) {
        return is(Kind::Network, "what the network answered, or did not");
    }
    if says(&OF_CHANCE) {
        return is(Kind::Random, "something random");
    }
    if says(&OF_HOSTS) {
        return is(Kind::HostOrUser, "the name of the host");
    }
    if says(&OF_USERS) {
        return is(Kind::HostOrUser, "the name of a user");
    }
    is(Kind::Unknown, "")
}

/// What two numbers are.
fn numbers(explainer: &Explainer<'_>, first: &str, second: &str, small: &str, path: &str) -> Option<(Kind, String)> {
    let is = |kind: Kind, form: &str| Some((kind, form.to_owned()));
    let says = |words: &[&str]| words.iter().any(|word| small.contains(word));
    let [ours, theirs] = explainer.around;
    let stripped = |text: &str| {
        let inner = text.trim_matches(|letter: char| !letter.is_ascii_digit());
        inner.parse::<u64>().ok().map(|number| (number, text.replacen(inner, "", 1)))
    };
    let decimal = |text: &str, mark: char| {
        text.split_once(mark).is_some_and(|(a, b)| {
            !b.is_empty() && a.bytes().chain(b.bytes()).all(|byte| byte.is_ascii_digit() || matches!(byte, b',' | b'.'))
        })
    };
    if (decimal(first, ',') && decimal(second, '.')) || (decimal(first, '.') && decimal(second, ',')) {
        let plain = |text: &str| text.replace([',', '.'], "");
        if plain(first) == plain(second) {
            return is(Kind::Locale, "the form of a number");
        }
    }
    let ((a, rest), (b, other)) = (stripped(first)?, stripped(second)?);
    if rest != other {
        return None;
    }
    if let Some(form) = time::counted(explainer.around, &a.to_string(), &b.to_string()) {
        return is(Kind::Time, form);
    }
    let of_process = |word: &str| word.contains("pid") || (word.contains("process") && !word.contains("processor"));
    if (of_process(small) || path.ends_with(".pid")) && a < 1 << 23 && b < 1 << 23 {
        return is(Kind::ProcessId, "a process id");
    }
    let counts = a == ours.processors && b == theirs.processors;
    if counts || (says(&OF_PROCESSORS) && a <= 4096 && b <= 4096 && !small.contains("mhz")) {
        return is(Kind::Processors, "a number of processors");
    }
    if says(&OF_CHANCE) {
        return is(Kind::Random, "a random number");
    }
    if small.contains("mhz") || small.contains("bogomips") {
        return is(Kind::CpuFeatures, "the speed of the processor");
    }
    if small.contains("port") && a > 1023 && b > 1023 {
        return is(Kind::Random, "a port that was free");
    }
    if of_processes(explainer, a, b) {
        return is(Kind::ProcessId, "a process id");
    }
    let long = |text: &str| text.bytes().filter(u8::is_ascii_digit).count() >= 6;
    (long(first) || long(second)).then(|| (Kind::Random, "a random number".to_owned()))
}

/// Whether these can be ids of the same process in both builds: the second one's are larger by what was used up before,
/// give or take some, since what runs at once is started in any order.
pub(super) fn of_processes(explainer: &Explainer<'_>, first: u64, second: u64) -> bool {
    let [ours, theirs] = explainer.around;
    let shift = theirs.pids.start.saturating_sub(ours.pids.start);
    ours.pids.contains(&first) && theirs.pids.contains(&second) && (first + shift).abs_diff(second) <= 64 + first / 4
}

/// Whether the texts are the same once a name of each side is left out.
fn swapped(ours: &[String], theirs: &[String], first: &str, second: &str) -> bool {
    ours.iter().any(|one| {
        !one.is_empty()
            && first.contains(one.as_str())
            && theirs.iter().any(|other| {
                !other.is_empty()
                    && second.contains(other.as_str())
                    && first.replace(one.as_str(), "\u{2}") == second.replace(other.as_str(), "\u{2}")
            })
    })
}

/// The version of a UUID (RFC 9562, section 4.2).
fn uuid(text: &str) -> Option<char> {
    let text = text.strip_prefix("urn:uuid:").unwrap_or(text);
    let lengths: Vec<_> = text.split('-').map(str::len).collect();
    let hexadecimal = text.bytes().all(|byte| byte == b'-' || byte.is_ascii_hexdigit());
    (lengths == [8, 4, 4, 4, 12] && hexadecimal).then(|| text.chars().nth(14))?
}

/// An address of IP, with or without a port, or of a network card.
fn address(text: &str) -> bool {
    let text = text.split("//").last().unwrap_or(text);
    let mac = text.len() == 17
        && text.split([':', '-']).count() == 6
        && text.split([':', '-']).all(|part| part.len() == 2 && part.bytes().all(|byte| byte.is_ascii_hexdigit()));
    let host = text.split('/').next().unwrap_or(text);
    let without_port = host.rsplit_once(':').map_or(host, |(host, _)| host).trim_matches(['[', ']']);
    mac || without_port.parse::<core::net::Ipv4Addr>().is_ok()
        || host.trim_matches(['[', ']']).parse::<core::net::Ipv6Addr>().is_ok()
}

fn zone(text: &str) -> bool {
    const NAMES: [&str; 12] = ["UTC", "GMT", "CET", "CEST", "EST", "EDT", "PST", "PDT", "BST", "JST", "+14", "MSK"];
    let offset = text.len() == 5 && text.starts_with(['+', '-']) && text[1..].bytes().all(|byte| byte.is_ascii_digit());
    let place = text.split_once('/').is_some_and(|(area, _)| {
        ["Europe", "America", "Asia", "Africa", "Pacific", "Atlantic", "Australia", "Etc"].contains(&area)
    });
    offset || place || NAMES.contains(&text)
}

/// Whether a word has the name of a locale in it, or letters that one of them makes of others.
fn of_locale(text: &str) -> bool {
    let named = |part: &str| {
        let bytes = part.as_bytes();
        bytes.len() == 5
            && bytes[2] == b'_'
            && bytes[..2].iter().all(u8::is_ascii_lowercase)
            && bytes[3..].iter().all(u8::is_ascii_uppercase)
    };
    text.split(['.', '@', ':']).any(named) || text.contains(['İ', 'ı'])
}

/// A word as it reads whatever the locale made of its letters.
fn folded(text: &str) -> String {
    text.chars()
        .flat_map(char::to_lowercase)
        .filter(|letter| *letter != '\u{307}')
        .map(|letter| match letter {
            'ı' => 'i',
            other => other,
        })
        .collect()
}

/// Whether what differs in two words is letters and digits that mean nothing.
fn random(first: &str, second: &str) -> bool {
    let shared = common(first, second);
    let longest = first.chars().count().max(second.chars().count());
    let differ = longest - shared.min(longest);
    let plain = |text: &str| text.bytes().all(|byte| byte.is_ascii_graphic());
    let hexadecimal = |text: &str| {
        let text = text.trim_start_matches("0x");
        text.len() >= 6 && text.bytes().all(|byte| byte.is_ascii_hexdigit())
    };
    if hexadecimal(first) && hexadecimal(second) {
        return true;
    }
    let mixed = |text: &str| {
        let has = |test: fn(&u8) -> bool| text.bytes().any(|byte| test(&byte));
        let classes = [has(u8::is_ascii_digit), has(u8::is_ascii_lowercase), has(u8::is_ascii_uppercase)];
        classes.into_iter().filter(|class| *class).count() >= 2
    };
    plain(first)
        && plain(second)
        && differ >= 5
        && first.len().abs_diff(second.len()) <= 2
        && (mixed(first) || mixed(second))
}
