//! What single values have to be.

use super::reader::{Reader, Span, TableAt, beside};
use super::{At, Run};
use crate::digest::Sha256Digest;
use crate::mistake::{Code, Mistake, nearest};
use crate::path::RootPath;
use crate::secrets::is_secret_name;

/// Variables that Cavrith sets itself, so that a spec cannot.
pub const OWN_VARIABLES: &[&str] = &["HOME", "LOGNAME", "PATH", "PWD", "SHELL", "SOURCE_DATE_EPOCH", "TERM", "USER"];

/// Directories that are not the image's own while a workspace runs, or that nothing may cover.
const TAKEN_INSIDE: &[&str] = &["/dev", "/etc", "/proc", "/run", "/sys", "/tmp", "/usr", "/bin", "/sbin", "/lib"];

/// File systems of the kernel's own, in which nothing can be made.
const KERNEL: [&str; 3] = ["/proc", "/sys", "/dev"];

/// What to write instead of what only a shell would fill in: a home as `~`, a variable.
pub(super) fn unfilled(path: &str) -> Option<&'static str> {
    if path == "~" || path.starts_with("~/") {
        return Some("write the path itself; the account's home is /home/ and its name, /home/crew");
    }
    path.contains('$').then_some("write the path itself, without variables")
}

fn bad_name(reader: &mut Reader<'_>, what: &str, name: &str, span: &Span, remedy: &str) {
    let message = format!("{name:?} cannot be the name of {what}");
    reader.push(Mistake::new(Code::BAD_NAME, span.clone(), message, remedy));
}

fn is_plain(name: &str, extra: &str, longest: usize) -> bool {
    let good = |letter: char| letter.is_ascii_lowercase() || letter.is_ascii_digit() || extra.contains(letter);
    !name.is_empty()
        && name.len() <= longest
        && name.chars().all(good)
        && name.starts_with(|letter: char| letter.is_ascii_alphanumeric())
}

/// A name of the writer's choice: lower-case letters, digits, `-`, `_`, `+`, `.`.
pub(super) fn plain_name(reader: &mut Reader<'_>, what: &str, name: &str, span: &Span) {
    if !is_plain(name, "-_+.", 64) {
        let remedy = "use lower-case letters, digits, - _ + . and begin with a letter or digit";
        bad_name(reader, &format!("a {what}"), name, span, remedy);
    }
}

/// A name that is also a host name (RFC 1123, section 2.1).
pub(super) fn host_name(reader: &mut Reader<'_>, what: &str, name: &At<String>) {
    if !is_plain(&name.value, "-", 63) || name.value.ends_with('-') {
        let remedy = "it is a host name too: use at most 63 lower-case letters, digits and -";
        bad_name(reader, &format!("a {what}"), &name.value, &name.span, remedy);
    }
}

pub(super) fn account_name(reader: &mut Reader<'_>, name: &At<String>) {
    if name.value == "root" {
        let message = "the account cannot be root: a workspace is worked in as an ordinary user";
        let remedy = "choose another name; what needs root belongs into a build step";
        reader.push(Mistake::new(Code::BAD_NAME, name.span.clone(), message, remedy));
    } else if !is_plain(&name.value, "-_", 31) || !name.value.starts_with(|letter: char| letter.is_ascii_lowercase()) {
        let remedy = "use at most 31 lower-case letters, digits, - and _, beginning with a letter";
        bad_name(reader, "an account", &name.value, &name.span, remedy);
    }
}

/// An extension's id: two plain names with a dot between, publisher and extension.
pub(super) fn extension_id(reader: &mut Reader<'_>, id: &str, span: &Span) {
    let good = id.split_once('.').is_some_and(|(publisher, name)| {
        is_plain(&publisher.to_lowercase(), "-_", 64) && is_plain(&name.to_lowercase(), "-_.", 64)
    });
    if !good {
        let remedy = "write \"publisher.name\" in quotes, in letters, digits, - and _";
        bad_name(reader, "an extension", id, span, remedy);
    }
}

pub(super) fn inside_path(reader: &mut Reader<'_>, name: &str, text: At<String>) -> Option<At<RootPath>> {
    if let Some(remedy) = unfilled(&text.value) {
        let message = format!("`{name}` is {:?}, and no shell fills that in", text.value);
        reader.push(Mistake::new(Code::BAD_INSIDE_PATH, text.span, message, remedy));
        return None;
    }
    if let Some(kernel) = KERNEL.iter().find(|kernel| text.value.starts_with(&format!("{kernel}/"))) {
        let message = format!("`{name}` is {}, and {kernel} is made by the kernel", text.value);
        let remedy = "write a path of its own, like \"/code\"";
        reader.push(Mistake::new(Code::BAD_INSIDE_PATH, text.span, message, remedy));
        return None;
    }
    let problem = match RootPath::from_absolute(&text.value) {
        Ok(path) if path.is_root() => "it is the root directory itself".to_owned(),
        Ok(path) => match TAKEN_INSIDE.iter().find(|taken| **taken == text.value) {
            Some(taken) => format!("{taken} belongs to the system inside"),
            None => {
                return Some(At { value: path, span: text.span });
            }
        },
        Err(bad) => bad.to_string(),
    };
    let message = format!("`{name}` is not a path inside: {problem}");
    let remedy = "write a path of its own, like \"/code\"";
    reader.push(Mistake::new(Code::BAD_INSIDE_PATH, text.span, message, remedy));
    None
}

pub(super) fn port(reader: &mut Reader<'_>, name: &str, number: At<i64>) -> Option<At<u16>> {
    match u16::try_from(number.value) {
        Ok(value @ 1..) => Some(At { value, span: number.span }),
        _ => {
            let message = format!("`{name}` is {}, and ports go from 1 to 65535", number.value);
            reader.push(Mistake::new(Code::BAD_PORT, number.span, message, "write a number from 1 to 65535"));
            None
        }
    }
}

pub(super) fn strip(reader: &mut Reader<'_>, number: At<i64>) -> usize {
    match usize::try_from(number.value) {
        Ok(count) if count <= 32 => count,
        _ => {
            let message = format!("`strip` is {}, and has to be from 0 to 32", number.value);
            reader.push(Mistake::new(Code::NOT_ALLOWED, number.span, message, "write how many directories to drop"));
            0
        }
    }
}

pub(super) fn sha256(reader: &mut Reader<'_>, text: At<String>) -> Option<At<Sha256Digest>> {
    match text.value.parse() {
        Ok(value) => Some(At { value, span: text.span }),
        Err(_) => {
            let message = "`sha256` is no SHA-256 digest: that is 64 digits of 0-9 and a-f";
            let remedy = "leave the key out, and cavrith lock fills it in";
            reader.push(Mistake::new(Code::BAD_DIGEST, text.span, message, remedy));
            None
        }
    }
}

pub(super) fn variable(reader: &mut Reader<'_>, name: &str, span: &Span, value: &At<String>) {
    let begins = name.starts_with(|letter: char| letter.is_ascii_alphabetic() || letter == '_');
    if !begins || !name.chars().all(|letter| letter.is_ascii_alphanumeric() || letter == '_') {
        let message = format!("{name:?} cannot be the name of a variable");
        let remedy = "use letters, digits and _, and do not begin with a digit";
        reader.push(Mistake::new(Code::BAD_VARIABLE, span.clone(), message, remedy));
    } else if OWN_VARIABLES.contains(&name) || name.starts_with("CAVRITH_") {
        let message = format!("{name} is set by Cavrith itself");
        let remedy = match name {
            "PATH" => "leave it out; a toolchain's programs are found because its depot says where they are",
            _ => "leave it out",
        };
        reader.push(Mistake::new(Code::BAD_VARIABLE, span.clone(), message, remedy));
    } else if value.value.contains('\0') {
        let message = format!("the value of {name} has a zero byte in it, which no variable can hold");
        reader.push(Mistake::new(Code::BAD_VARIABLE, value.span.clone(), message, "leave the zero byte out"));
    } else if let Some(user) = password_in_url(&value.value) {
        let message =
            format!("{name} has the password of {user} in its address, and a spec is there for everyone to read");
        let remedy = "take it out, and name it in [secrets]: each member has their own";
        reader.push(Mistake::new(Code::SECRET, value.span.clone(), message, remedy).as_warning());
    } else if value.value.starts_with("~/") || value.value.split(['/', ':']).any(|part| part == "$HOME") {
        let message = format!("{name} is taken as it is written: no shell fills in ~ or $HOME");
        let remedy = "write the path itself; the account's home is /home/ and its name, /home/crew";
        reader.push(Mistake::new(Code::BAD_VARIABLE, value.span.clone(), message, remedy).as_warning());
    } else if is_secret_name(name) && !value.value.is_empty() {
        let message = format!("{name} looks like a secret, and a spec is there for everyone to read");
        let remedy = "take it out, and name it in [secrets]: each member has their own";
        reader.push(Mistake::new(Code::SECRET, value.span.clone(), message, remedy).as_warning());
    }
}

/// The user whose password stands in an address (RFC 3986, section 3.2.1); one for trying things out, which is the
/// user's name again or a word that everybody takes for it, keeps nothing secret.
fn password_in_url(value: &str) -> Option<&str> {
    let (_, rest) = value.split_once("://")?;
    let (login, _) = rest.split(['/', '?', '#']).next()?.rsplit_once('@')?;
    let (user, password) = login.split_once(':')?;
    let is_plain = password.is_empty() || password == user || password.starts_with('$');
    let is_usual = ["password", "secret", "postgres", "root", "dev", "test"].contains(&password);
    (!is_plain && !is_usual).then_some(user)
}

/// Says that a text is none of those that it may be; nothing when it is one.
pub(super) fn one_of(reader: &mut Reader<'_>, name: &str, text: &At<String>, allowed: &[&str]) {
    if allowed.contains(&text.value.as_str()) {
        return;
    }
    let remedy = match nearest(&text.value, allowed.iter().copied()) {
        Some(meant) => format!("write \"{meant}\""),
        None => format!("write one of {}", allowed.join(", ")),
    };
    let message = format!("`{name}` cannot be {:?}", text.value);
    reader.push(Mistake::new(Code::NOT_ALLOWED, text.span.clone(), message, remedy));
}

/// Says that two keys of a table exclude each other.
pub(super) fn only_one_of(reader: &mut Reader<'_>, table: &TableAt<'_>, one: &str, other: &str) {
    let span = |key| table.key_span(key).unwrap_or_else(|| table.span());
    let message = format!("`{one}` and `{other}` exclude each other");
    let mistake = Mistake::new(Code::ONE_OF, span(other), message, "keep one of them");
    reader.push(mistake.noting("this one").against(span(one), "and this one"));
}

/// An address on the web, without a password in it (RFC 3986, section 3).
pub(super) fn url(reader: &mut Reader<'_>, text: At<String>) -> Option<At<String>> {
    let rest = text.value.strip_prefix("https://").or_else(|| text.value.strip_prefix("http://"));
    let authority = rest.map(|rest| rest.split(['/', '?', '#']).next().unwrap_or_default());
    let plain = text.value.chars().all(|letter| letter.is_ascii_graphic());
    match authority {
        Some(authority) if authority.contains('@') => {
            let message = "the address has a user or password in it, and a spec is there for everyone to read";
            let remedy = "take it out; put the file where the team reaches it without, or into a depot";
            reader.push(Mistake::new(Code::URL_SECRET, text.span, message, remedy));
            None
        }
        Some(authority) if !authority.is_empty() && plain => Some(text),
        _ => {
            let message = format!("{:?} is not an address on the web", text.value);
            let remedy = "write it with https:// or http:// and a host name, without blanks";
            reader.push(Mistake::new(Code::BAD_URL, text.span, message, remedy));
            None
        }
    }
}

/// Rights of a file in octal: three digits, or four of which the first is 0.
pub(super) fn mode(reader: &mut Reader<'_>, text: &At<String>) -> u16 {
    let digits = text.value.strip_prefix('0').filter(|rest| rest.len() == 3).unwrap_or(&text.value);
    match u16::from_str_radix(digits, 8) {
        Ok(mode) if digits.len() == 3 && digits.bytes().all(|digit| digit.is_ascii_digit()) => mode,
        _ => {
            let message = format!("{:?} are no rights of a file", text.value);
            let remedy = "write three octal digits, like \"0644\" or \"0755\"; set-uid and its like are not possible";
            reader.push(Mistake::new(Code::BAD_MODE, text.span.clone(), message, remedy));
            0o644
        }
    }
}

/// A whole number and one of some units, each with what it is in the smallest of them: `30 min`, `2GiB`. `None` when it
/// is none, or more than 64 bits hold.
pub fn measure(text: &str, units: &[(&str, u64)]) -> Option<u64> {
    let text = text.trim();
    let digits = text.len() - text.trim_start_matches(|letter: char| letter.is_ascii_digit()).len();
    let (_, factor) = units.iter().find(|(name, _)| *name == text[digits..].trim())?;
    text[..digits].parse::<u64>().ok()?.checked_mul(*factor)
}

/// A short time in milliseconds: a whole number and `ms` or `s`.
pub(super) fn pause(reader: &mut Reader<'_>, text: At<String>) -> Option<u64> {
    if let Some(millis @ 10..=60_000) = measure(&text.value, &[("ms", 1), ("s", 1000)]) {
        return Some(millis);
    }
    let message = format!("{:?} is not a time between 10 ms and 60 s", text.value);
    let remedy = "write a whole number and ms or s, like \"500 ms\"";
    reader.push(Mistake::new(Code::BAD_LIMIT, text.span, message, remedy));
    None
}

/// An amount of memory in bytes: a whole number and `MiB` or `GiB`.
pub(super) fn memory(reader: &mut Reader<'_>, text: At<String>) -> Option<u64> {
    if let Some(bytes @ 16_777_216..=1_125_899_906_842_624) =
        measure(&text.value, &[("MiB", 1 << 20), ("GiB", 1 << 30)])
    {
        return Some(bytes);
    }
    let message = format!("{:?} is not an amount of memory of at least 16 MiB", text.value);
    let remedy = match likely(&text.value, &[("GiB", &["g", "gb", "gib", "gigabyte"]), ("MiB", &["m", "mb", "mib"])]) {
        Some(meant) if measure(&meant, &[("MiB", 1 << 20), ("GiB", 1 << 30)]) >= Some(16 << 20) => {
            format!("write \"{meant}\"")
        }
        _ => "write a whole number and MiB or GiB, like \"2 GiB\"".to_owned(),
    };
    reader.push(Mistake::new(Code::BAD_AMOUNT, text.span, message, remedy));
    None
}

/// A number with the unit that is meant by another word for it: `4GB`, `1 minute`.
fn likely(text: &str, units: &[(&str, &[&str])]) -> Option<String> {
    let text = text.trim().to_lowercase();
    let digits = text.len() - text.trim_start_matches(|letter: char| letter.is_ascii_digit()).len();
    let (number, word) = text.split_at(digits);
    let word = word.trim();
    let is = |known: &&str| *known == word || word.strip_suffix('s') == Some(known);
    let (unit, _) = units.iter().find(|(_, words)| words.iter().any(is))?;
    let number = number.parse::<u64>().ok().filter(|number| *number > 0)?;
    Some(format!("{number} {unit}"))
}

/// A number from 1 to `most`.
pub(super) fn amount(reader: &mut Reader<'_>, name: &str, number: At<i64>, most: u32) -> Option<u32> {
    if let Some(value) = u32::try_from(number.value).ok().filter(|value| (1..=most).contains(value)) {
        return Some(value);
    }
    let message = format!("`{name}` is {}, and has to be from 1 to {most}", number.value);
    reader.push(Mistake::new(Code::BAD_AMOUNT, number.span, message, "write a whole number in these bounds"));
    None
}

/// How many ports in a row, beginning with `first`.
pub(super) fn port_count(reader: &mut Reader<'_>, number: &At<i64>, first: u16) -> u16 {
    let most = 1000.min(i64::from(u16::MAX - first) + 1);
    match u16::try_from(number.value).ok().filter(|count| *count > 0 && number.value <= most) {
        Some(count) => count,
        None => {
            let message = format!("`count` is {}, and from port {first} on it can be 1 to {most}", number.value);
            let remedy = "write how many ports in a row are meant";
            reader.push(Mistake::new(Code::BAD_PORT, number.span.clone(), message, remedy));
            1
        }
    }
}

/// The address of an interface. One that is not the loopback lets other machines in, which is worth a warning.
pub(super) fn address(reader: &mut Reader<'_>, text: At<String>) -> Option<At<core::net::IpAddr>> {
    let Ok(value) = text.value.parse::<core::net::IpAddr>() else {
        let message = format!("{:?} is no IP address", text.value);
        let remedy = "write one like \"127.0.0.1\" or \"::1\", or leave it out";
        reader.push(Mistake::new(Code::BAD_ADDRESS, text.span, message, remedy));
        return None;
    };
    if !value.is_loopback() {
        let message = format!("with bind = \"{value}\" other machines reach the workspace through this port");
        let remedy = "leave it out, unless that is what you want";
        reader.push(Mistake::new(Code::OPEN_TO_OTHERS, text.span.clone(), message, remedy).as_warning());
    }
    Some(At { value, span: text.span })
}

/// A host name of several labels, or one (RFC 1123, section 2.1).
pub(super) fn full_host_name(reader: &mut Reader<'_>, name: &str, span: &Span) {
    let good = name.len() <= 253 && name.split('.').all(|label| is_plain(label, "-", 63) && !label.ends_with('-'));
    if !good || name == "localhost" {
        let remedy = "use labels of lower-case letters, digits and -, with dots between, like \"timetable.test\"";
        bad_name(reader, "the workspace outside", name, span, remedy);
    }
}

/// A length of time in seconds: a whole number and `s`, `min` or `h`.
pub(super) fn limit(reader: &mut Reader<'_>, text: At<String>) -> Option<u64> {
    let seconds = measure(&text.value, &[("s", 1), ("min", 60), ("h", 3600)]);
    if let Some(seconds @ 1..=86_400) = seconds {
        return Some(seconds);
    }
    let message = format!("{:?} is not a length of time between a second and a day", text.value);
    let words: [(&str, &[&str]); 3] =
        [("s", &["s", "sec", "second"]), ("min", &["m", "min", "minute"]), ("h", &["h", "hr", "hour"])];
    let remedy = match likely(&text.value, &words) {
        Some(meant) if measure(&meant, &[("s", 1), ("min", 60), ("h", 3600)]) <= Some(86_400) => {
            format!("write \"{meant}\"")
        }
        _ => "write a whole number and s, min or h, like \"10 min\"".to_owned(),
    };
    reader.push(Mistake::new(Code::BAD_LIMIT, text.span, message, remedy));
    None
}

/// A pattern of git's ignore files, as far as Cavrith has them: it may not be empty or a comment.
pub(super) fn pattern(reader: &mut Reader<'_>, pattern: &At<String>) {
    let text = pattern.value.trim();
    let problem = if text.is_empty() {
        "is empty"
    } else if text.starts_with('#') {
        "is a comment"
    } else if let Err(bad) = globset::Glob::new(text.trim_start_matches('!').trim_matches('/')) {
        let message = format!("the pattern {:?} cannot be read: {}", pattern.value, bad.kind());
        let remedy = "close the bracket or brace, or put a backslash before it";
        reader.push(Mistake::new(Code::BAD_PATTERN, pattern.span.clone(), message, remedy));
        return;
    } else {
        return;
    };
    let message = format!("the pattern {:?} {problem}", pattern.value);
    let remedy = "name files to leave out, like \"*.draft\" or \"build/\"";
    reader.push(Mistake::new(Code::BAD_PATTERN, pattern.span.clone(), message, remedy));
}

/// A file or folder to copy: of the project, or of a folder beside it that its member allows. One that an included file
/// names is relative to that file.
pub(super) fn copied_file(reader: &mut Reader<'_>, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
    let text = reader.text(table, name)?;
    if text.value.starts_with('/') || text.value.is_empty() || text.value.contains('\0') {
        let message = format!("`{name}` has to be a path relative to the spec, and {:?} is not", text.value);
        let remedy = "write a path of the project, or one that begins with ../, which each member has to allow";
        reader.push(Mistake::new(Code::LEADS_OUT, text.span, message, remedy));
        return None;
    }
    let from = reader.sources.locate(text.span.start).map_or("", |(source, _)| source.path.as_str());
    Some(At { value: beside(from, &text.value), span: text.span })
}

/// A file or folder of the project. One that an included file names is relative to that file.
pub(super) fn project_file(reader: &mut Reader<'_>, table: &TableAt<'_>, name: &str) -> Option<At<String>> {
    let text = reader.text(table, name)?;
    file_of_project(reader, name, text)
}

/// The same for a text that stands in a list.
pub(super) fn file_of_project(reader: &mut Reader<'_>, name: &str, text: At<String>) -> Option<At<String>> {
    let leads_out = text.value.starts_with('/') || text.value.split('/').any(|part| part == "..");
    if leads_out || text.value.is_empty() || text.value.contains('\0') {
        let message = format!("`{name}` has to be a path in the project, and {:?} is not", text.value);
        let remedy = "write a path relative to the spec, without ..";
        reader.push(Mistake::new(Code::LEADS_OUT, text.span, message, remedy));
        return None;
    }
    let from = reader.sources.locate(text.span.start).map_or("", |(source, _)| source.path.as_str());
    Some(At { value: beside(from, &text.value), span: text.span })
}

/// A directory in a folder, relative to it.
pub(super) fn except_path(reader: &mut Reader<'_>, text: At<String>) -> Option<At<RootPath>> {
    match RootPath::from_archive(text.value.as_bytes()) {
        Ok(path) if !path.is_root() && !text.value.starts_with('/') => Some(At { value: path, span: text.span }),
        _ => {
            let message = format!("`except` has to name directories in the folder, and {:?} is none", text.value);
            let remedy = "write paths relative to the folder, without ..";
            reader.push(Mistake::new(Code::LEADS_OUT, text.span, message, remedy));
            None
        }
    }
}

pub(super) fn shell_text(reader: &mut Reader<'_>, key: &str, text: At<String>) -> Option<Run> {
    if text.value.trim().is_empty() || text.value.contains('\0') {
        empty_command(reader, key, text.span);
        return None;
    }
    let mut commands = text.value.split(['\n', ';', '&', '|']).map(|command| command.split_whitespace().next());
    if commands.any(|first| first == Some("sudo")) {
        let message = "there is nothing to ask sudo for: build steps run as root, and nothing inside gains rights";
        let remedy = "leave sudo out; a start step or service runs as root with account = \"root\"";
        reader.push(Mistake::new(Code::NOT_ALLOWED, text.span.clone(), message, remedy).as_warning());
    }
    Some(Run::Shell(text.value))
}

pub(super) fn program(reader: &mut Reader<'_>, key: &str, list: At<Vec<At<String>>>) -> Option<Run> {
    let argv: Vec<_> = list.value.into_iter().map(|argument| argument.value).collect();
    let program = argv.first().is_some_and(|program| !program.trim().is_empty());
    if !program || argv.iter().any(|argument| argument.contains('\0')) {
        empty_command(reader, key, list.span);
        return None;
    }
    // The first entry is a program, and no line of a shell.
    if let [first, _, ..] = argv.as_slice()
        && first.trim().contains(' ')
        && argv.iter().all(|entry| entry.trim().contains(' '))
    {
        let message = format!("the entries of `{key}` are commands, and a list is one program with its arguments");
        let remedy = format!("write {key} = {:?}, or a step for each", argv.join(" && "));
        reader.push(Mistake::new(Code::EMPTY_COMMAND, list.span, message, remedy));
        return None;
    }
    if let [only] = argv.as_slice()
        && only.trim().contains(' ')
    {
        let words: Vec<_> = only.split_whitespace().map(|word| format!("{word:?}")).collect();
        let message = format!("`{key}` is a list of one entry with blanks: a program whose name is {only:?}");
        let remedy = format!("write {key} = {only:?}, or each word apart: [{}]", words.join(", "));
        reader.push(Mistake::new(Code::EMPTY_COMMAND, list.span, message, remedy));
        return None;
    }
    Some(Run::Program(argv))
}

fn empty_command(reader: &mut Reader<'_>, key: &str, span: Span) {
    let message = format!("`{key}` has no command in it that could be run");
    reader.push(Mistake::new(Code::EMPTY_COMMAND, span, message, "write the command, or leave it out"));
}
