//! Sixty made-up culprits: what a build leaves behind when it is not reproducible, as two builds would have it.

use std::io::{Read as _, Write as _};

use cavrith_core::nondeterminism::{Explainer, Finding, Kind, Packing, Side, Surroundings};
use cavrith_core::path::RootPath;
use cavrith_core::tree::diff::{Change, Field, What};
use proptest::prelude::*;

/// 20 November 2026, 08:40:11 UTC, and 400 days, 5 hours, 7 minutes and 11 seconds later.
const FIRST: i64 = 1_795_164_011;
const SECOND: i64 = FIRST + 400 * 86_400 + 18_431;

fn around() -> [Surroundings; 2] {
    let first = Surroundings {
        clocks: std::iter::once(1_700_000_000..FIRST + 100).collect(),
        pids: 2..400,
        processors: 8,
        hosts: vec!["berth".to_owned(), "quay-7".to_owned()],
        users: vec!["ida".to_owned()],
        paths: vec!["/var/lib/cavrith/store/staging/a41".to_owned()],
        umask: 0o022,
    };
    let second = Surroundings {
        clocks: vec![FIRST..FIRST + 100, SECOND - 100..SECOND + 100],
        pids: 1002..1400,
        processors: 1,
        hosts: vec!["elsewhere".to_owned()],
        users: vec!["jonas".to_owned()],
        paths: vec!["/var/lib/cavrith/store/staging/c09".to_owned()],
        umask: 0o077,
    };
    [first, second]
}

fn unpack(packing: Packing, bytes: &[u8]) -> Option<Vec<u8>> {
    let mut content = Vec::new();
    match packing {
        Packing::Stream if bytes.starts_with(&[0x1f, 0x8b]) => {
            flate2::read::GzDecoder::new(bytes).read_to_end(&mut content).ok()?;
        }
        // The core never looks into other streams itself; these "compress" by a head of their own.
        Packing::Stream => content.extend(bytes.iter().skip(8).filter(|byte| **byte != b'|')),
        Packing::Deflate => {
            flate2::read::DeflateDecoder::new(bytes).take(1 << 20).read_to_end(&mut content).ok()?;
        }
    }
    Some(content)
}

fn change(path: &str, what: What) -> Change {
    Change { path: RootPath::from_archive(path.as_bytes()).unwrap(), what }
}

fn content() -> What {
    let field = |name: &str| Field { name: name.to_owned(), expected: "one".to_owned(), here: "other".to_owned() };
    What::Changed { fields: vec![field("content")] }
}

fn why(path: &str, first: &[u8], second: &[u8]) -> Vec<Finding> {
    let around = around();
    let mut explainer = Explainer::new(&around, &unpack);
    let change = change(path, content());
    explainer.remember(&change, [Side::File(first), Side::File(second)]);
    explainer.explain(&change, [Side::File(first), Side::File(second)])
}

fn gzip(mtime: u32, level: u32, content: &[u8]) -> Vec<u8> {
    let mut writer = flate2::GzBuilder::new().mtime(mtime).write(Vec::new(), flate2::Compression::new(level));
    writer.write_all(content).unwrap();
    writer.finish().unwrap()
}

struct Entry<'a> {
    name: &'a str,
    time: i64,
    mode: u32,
    user: &'a str,
    content: &'a [u8],
}

fn entry<'a>(name: &'a str, content: &'a [u8]) -> Entry<'a> {
    Entry { name, time: 1_600_000_000, mode: 0o644, user: "root", content }
}

fn tar(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for entry in entries {
        let mut block = [0; 512];
        let mut put = |at: usize, text: &str| block[at..at + text.len()].copy_from_slice(text.as_bytes());
        put(0, entry.name);
        put(100, &format!("{:07o}", entry.mode));
        put(124, &format!("{:011o}", entry.content.len()));
        put(136, &format!("{:011o}", entry.time));
        put(156, "0");
        put(257, "ustar");
        put(265, entry.user);
        bytes.extend_from_slice(&block);
        bytes.extend_from_slice(entry.content);
        bytes.resize(bytes.len().next_multiple_of(512), 0);
    }
    bytes.resize(bytes.len() + 1024, 0);
    bytes
}

fn ar(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut bytes = b"!<arch>\n".to_vec();
    for entry in entries {
        let owner = if entry.user == "root" { 0 } else { 1000 };
        let head = format!(
            "{:<16}{:<12}{owner:<6}{owner:<6}{:<8o}{:<10}`\n",
            format!("{}/", entry.name),
            entry.time,
            entry.mode,
            entry.content.len()
        );
        bytes.extend_from_slice(head.as_bytes());
        bytes.extend_from_slice(entry.content);
        bytes.resize(bytes.len().next_multiple_of(2), b'\n');
    }
    bytes
}

/// Stored without compression; `stamp` is the time and date of DOS.
fn zip(entries: &[(&str, u32, u32, &[u8])]) -> Vec<u8> {
    let (mut bytes, mut directory) = (Vec::new(), Vec::new());
    for (name, stamp, mode, content) in entries {
        let local = bytes.len() as u32;
        let sizes = [(content.len() as u32).to_le_bytes(), (content.len() as u32).to_le_bytes()].concat();
        let middle = [&stamp.to_le_bytes()[..], &[0; 4], &sizes, &(name.len() as u16).to_le_bytes(), &[0, 0]].concat();
        bytes.extend([&b"PK\x03\x04\x0a\0\0\0\0\0"[..], &middle, name.as_bytes(), content].concat());
        let tail = [&[0; 2][..], &[0; 4], &[0; 2], &(mode << 16).to_le_bytes(), &local.to_le_bytes()].concat();
        directory.extend([&b"PK\x01\x02\x0a\x03\x0a\0\0\0\0\0"[..], &middle, &tail, name.as_bytes()].concat());
    }
    let (at, count) = (bytes.len() as u32, entries.len() as u16);
    bytes.extend_from_slice(&directory);
    bytes.extend([&b"PK\x05\x06\0\0\0\0"[..], &count.to_le_bytes(), &count.to_le_bytes()].concat());
    bytes.extend([&(directory.len() as u32).to_le_bytes()[..], &at.to_le_bytes(), &[0, 0]].concat());
    bytes
}

/// A little-endian ELF file of 64 bits with these sections.
fn elf(sections: &[(&str, &[u8])]) -> Vec<u8> {
    let mut names = b"\0.shstrtab\0".to_vec();
    let mut body = vec![0; 64];
    let mut table = vec![0; 64];
    let mut add = |name: u32, kind: u32, content: &[u8], body: &mut Vec<u8>| {
        let mut one = [0; 64];
        one[0..4].copy_from_slice(&name.to_le_bytes());
        one[4..8].copy_from_slice(&kind.to_le_bytes());
        one[24..32].copy_from_slice(&(body.len() as u64).to_le_bytes());
        one[32..40].copy_from_slice(&(content.len() as u64).to_le_bytes());
        table.extend_from_slice(&one);
        body.extend_from_slice(content);
    };
    for (name, content) in sections {
        add(names.len() as u32, 1, content, &mut body);
        names.extend([name.as_bytes(), b"\0"].concat());
    }
    add(1, 3, &names, &mut body);
    body[..16].copy_from_slice(b"\x7fELF\x02\x01\x01\0\0\0\0\0\0\0\0\0");
    let at = body.len() as u64;
    body[40..48].copy_from_slice(&at.to_le_bytes());
    body[58..60].copy_from_slice(&64u16.to_le_bytes());
    body[60..62].copy_from_slice(&(sections.len() as u16 + 2).to_le_bytes());
    body[62..64].copy_from_slice(&(sections.len() as u16 + 1).to_le_bytes());
    body.extend_from_slice(&table);
    body
}

fn sqlite(rows: &[&[u8]]) -> Vec<u8> {
    let mut bytes = b"SQLite format 3\0".to_vec();
    bytes.resize(100, 1);
    for row in rows {
        bytes.extend([&[0, 7, 3][..], row].concat());
    }
    bytes.resize(512, 0);
    bytes
}

fn pyc(flags: u32, of_source: u32, code: &[u8]) -> Vec<u8> {
    let head = [&b"\xcb\x0d\r\n"[..], &flags.to_le_bytes(), &of_source.to_le_bytes(), &400u32.to_le_bytes()].concat();
    [&head[..], code].concat()
}

/// Before and after some bytes that no text has.
fn in_binary(middle: &[u8]) -> Vec<u8> {
    [&b"\x01\x02\0\xfe\xffhead\0\0\x03"[..], middle, b"\0\0\x04\xff\x80tail\0"].concat()
}

type Culprit = (&'static str, &'static str, Vec<u8>, Vec<u8>, Kind);

fn texts() -> Vec<Culprit> {
    use Kind::*;
    let one = |name, path, first: &str, second: &str, kind| {
        (name, path, first.as_bytes().to_vec(), second.as_bytes().to_vec(), kind)
    };
    vec![
        one("date(1)", "srv/when", "Fri Nov 20 08:40:11 UTC 2026\n", "Sat Dec 25 13:47:22 UTC 2027\n", Time),
        one(
            "ISO 8601",
            "srv/info.json",
            "{\"built\":\"2026-11-20T08:40:11Z\",\"n\":1}",
            "{\"built\":\"2027-12-25T13:47:22Z\",\"n\":1}",
            Time,
        ),
        one(
            "RFC 5322",
            "srv/head",
            "Date: Fri, 20 Nov 2026 08:40:11 +0000\n",
            "Date: Sat, 25 Dec 2027 13:47:22 +0000\n",
            Time,
        ),
        one("__DATE__", "srv/banner", "ferry 1.2 (Nov 20 2026)\n", "ferry 1.2 (Dec 25 2027)\n", Time),
        one("__TIME__", "srv/banner", "built at 08:40:11\n", "built at 13:47:22\n", Time),
        one("seconds", "srv/stamp", &format!("BUILD={FIRST}\n"), &format!("BUILD={SECOND}\n"), Time),
        one("milliseconds", "srv/stamp.js", &format!("var t={FIRST}123;"), &format!("var t={SECOND}909;"), Time),
        one("nanoseconds", "srv/stamp", &format!("{FIRST}000001234\n"), &format!("{SECOND}000007777\n"), Time),
        one("hexadecimal seconds", "srv/v", &format!("v1-{FIRST:x}\n"), &format!("v1-{SECOND:x}\n"), Time),
        one("a year", "srv/NOTICE", "Copyright 2026 Brindle Ferry\n", "Copyright 2027 Brindle Ferry\n", Time),
        one("digits of a date", "srv/version", "1.4+20261120084011\n", "1.4+20271225134722\n", Time),
        one("how long it took", "srv/log", "ok, 14 tests in 0.31s\n", "ok, 14 tests in 0.47s\n", Time),
        one(
            "a properties file",
            "srv/git.properties",
            "#Fri Nov 20 08:40:11 UTC 2026\na=1\n",
            "#Sat Dec 25 13:47:22 UTC 2027\na=1\n",
            Time,
        ),
        one("UUID of version 7", "srv/id", "019a9ff0-6178-7abc-8def-0123456789ab\n", "01", Time),
        one(
            "a build directory",
            "srv/config.status",
            "srcdir=/var/lib/cavrith/store/staging/a41/root/src\n",
            "srcdir=/var/lib/cavrith/store/staging/c09/root/src\n",
            BuildPath,
        ),
        one(
            "a temporary directory",
            "srv/trace",
            "at main (/tmp/build.Xa81kd/main.c:12)\n",
            "at main (/tmp/build.9ffk2L/main.c:12)\n",
            BuildPath,
        ),
        one(
            "a compiler's include path",
            "srv/flags",
            "cc -I/home/ida/ferry/include -O2\n",
            "cc -I/work/ferry/include -O2\n",
            BuildPath,
        ),
        one("a host name", "srv/motd", "Built on berth with care\n", "Built on elsewhere with care\n", HostOrUser),
        one(
            "a user's name",
            "srv/about",
            "compiled_by = \"ida@quay-7\"\n",
            "compiled_by = \"ida@elsewhere\"\n",
            HostOrUser,
        ),
        one("an author", "srv/about", "Author: ida\n", "Author: jonas\n", HostOrUser),
        one("a pid file", "run/tide.pid", "61\n", "1064\n", ProcessId),
        one("a pid in a log", "srv/log", "tide[pid 61]: ready\n", "tide[pid 1064]: ready\n", ProcessId),
        one(
            "a lock with a pid",
            "srv/.lock",
            "{\"pid\": 77, \"name\": \"x\"}\n",
            "{\"pid\": 1081, \"name\": \"x\"}\n",
            ProcessId,
        ),
        one(
            "a UUID",
            "etc/id",
            "6f1f9f1c-5c37-4c58-9d0f-0f4e6a2f9a11\n",
            "b71a3c02-91fe-4a7d-8a65-3f7be2c10d45\n",
            Random,
        ),
        one("hexadecimal digits", "srv/key", "secret = 9f86d081884c7d65\n", "secret = 60303ae22b998861\n", Random),
        one("base 64", "srv/key", "k: q83vEjRWeJCrze8SNFZ4kA==\n", "k: Zm9vYmFyYmF6cXV4MTIzNA==\n", Random),
        one(
            "an address in memory",
            "srv/repr",
            "<Ferry object at 0x7f3a1c0b5d90>\n",
            "<Ferry object at 0x7fe2d9117a10>\n",
            Random,
        ),
        one(
            "a set",
            "srv/set.py",
            "{'quay', 'berth', 'tide', 'crew'}\n",
            "{'tide', 'quay', 'crew', 'berth'}\n",
            Random,
        ),
        one(
            "a table as JSON",
            "srv/t.json",
            "{\"a\":1,\"quay\":2,\"tide\":3}",
            "{\"tide\":3,\"a\":1,\"quay\":2}",
            Random,
        ),
        one("a seed", "srv/log", "Randomized with seed 48213\n", "Randomized with seed 9071\n", Random),
        one(
            "a list of files",
            "srv/list",
            "./tide.c\n./quay.c\n./berth.c\n",
            "./quay.c\n./berth.c\n./tide.c\n",
            DirectoryOrder,
        ),
        one(
            "sources in a makefile",
            "srv/sources.mk",
            "all:\nsrc/tide.c\nsrc/a.c\nsrc/quay.c\nend\n",
            "all:\nsrc/quay.c\nsrc/tide.c\nsrc/a.c\nend\n",
            DirectoryOrder,
        ),
        one("sorted by locale", "srv/sorted", "B.txt\na.txt\nc.txt\n", "a.txt\nB.txt\nc.txt\n", Locale),
        one("a number's form", "srv/report", "ratio 1.5\n", "ratio 1,5\n", Locale),
        one("letters of Turkish", "srv/ids", "TITLE_INDEX\n", "TİTLE_İNDEX\n", Locale),
        one("a locale's name", "srv/env", "LANG=C.UTF-8\n", "LANG=tr_TR.UTF-8\n", Locale),
        one("a number of jobs", "srv/make.log", "running with 8 jobs\n", "running with 1 jobs\n", Processors),
        one("a number of processors", "srv/cpu.conf", "processors: 8\n", "processors: 1\n", Processors),
        one("a size of a pool", "srv/pool.conf", "workers = 16\n", "workers = 2\n", Processors),
        one(
            "one line for each",
            "srv/threads",
            "start w\nstart w\nstart w\nstart w\nstart w\nstart w\nstart w\nstart w\n",
            "start w\n",
            Processors,
        ),
        one("flags of a processor", "srv/cpu", "flags: sse4_2 avx avx2 fma\n", "flags: sse4_2 avx\n", CpuFeatures),
        one("a model", "srv/cpu", "model name: Alder 9\n", "model name: Birch 4\n", CpuFeatures),
        one("-march", "srv/flags", "-O2 -march=alder\n", "-O2 -march=birch\n", CpuFeatures),
        one(
            "a parallel log",
            "srv/build.log",
            "[1/3] Compiling tide\n[2/3] Compiling quay\n[3/3] Compiling berth\n",
            "[3/3] Compiling berth\n[1/3] Compiling tide\n[2/3] Compiling quay\n",
            ParallelOrder,
        ),
        one(
            "workers' results",
            "srv/out",
            "worker finished c\nworker finished a\nworker finished b\n",
            "worker finished a\nworker finished b\nworker finished c\n",
            ParallelOrder,
        ),
        one("the umask", "srv/env", "umask 0022\n", "umask 0077\n", Umask),
        one("an address", "srv/net", "inet 192.0.2.17\n", "inet 198.51.100.4\n", Network),
        one(
            "an answer that failed",
            "srv/fetch.log",
            "got 14 advisories\n",
            "Temporary failure in name resolution: could not resolve host\n",
            Network,
        ),
    ]
}

fn binaries() -> Vec<Culprit> {
    use Kind::*;
    let le = |number: i64| in_binary(&(number as u32).to_le_bytes());
    // 20 November 2026 and 25 December 2027, as DOS has them.
    let stamps = [((46 << 9 | 11 << 5 | 20) << 16) | 8 << 11, ((47 << 9 | 12 << 5 | 25) << 16) | 13 << 11];
    let with_time = |time| Entry { time, ..entry("quay", b"x") };
    let with_mode = |mode| Entry { mode, ..entry("quay", b"x") };
    let with_user = |user| Entry { user, ..entry("quay", b"x") };
    let [id, other_id] = [[0x11; 36], [0x72; 36]];
    let xz = |body: &[u8]| [&b"\xfd7zXZ\0\0\x04"[..], body].concat();
    vec![
        ("32 bits of time", "srv/blob", le(FIRST), le(SECOND), Time),
        (
            "64 bits of milliseconds",
            "srv/blob",
            in_binary(&(FIRST * 1000).to_be_bytes()),
            in_binary(&(SECOND * 1000).to_be_bytes()),
            Time,
        ),
        (
            "a floating-point time",
            "srv/pickle",
            in_binary(&(FIRST as f64 + 0.25).to_be_bytes()),
            in_binary(&(SECOND as f64 + 0.5).to_be_bytes()),
            Time,
        ),
        (
            "a gzip header",
            "srv/a.gz",
            gzip(FIRST as u32, 6, b"same"),
            gzip(SECOND as u32, 6, b"same"),
            CompressionHeader,
        ),
        (
            "a time in a gzip",
            "srv/a.gz",
            gzip(0, 6, b"on 2026-11-20 08:40:11"),
            gzip(0, 6, b"on 2027-12-25 13:47:22"),
            Time,
        ),
        ("blocks of xz", "srv/a.xz", xz(b"aaaa|bbbb"), xz(b"aaaabbbb"), Processors),
        ("times in a tar", "srv/a.tar", tar(&[with_time(FIRST)]), tar(&[with_time(SECOND)]), Time),
        ("rights in a tar", "srv/a.tar", tar(&[with_mode(0o644)]), tar(&[with_mode(0o600)]), Umask),
        ("owners in a tar", "srv/a.tar", tar(&[with_user("ida")]), tar(&[with_user("jonas")]), HostOrUser),
        (
            "the order of a tar",
            "srv/a.tar",
            tar(&[entry("quay", b"1"), entry("berth", b"2"), entry("a", b"3")]),
            tar(&[entry("berth", b"2"), entry("quay", b"1"), entry("a", b"3")]),
            DirectoryOrder,
        ),
        (
            "a packed tar's member",
            "srv/a.tar.gz",
            gzip(0, 6, &tar(&[entry("q.pid", b"12\n")])),
            gzip(0, 6, &tar(&[entry("q.pid", b"1034\n")])),
            ProcessId,
        ),
        (
            "times in a jar",
            "srv/a.jar",
            zip(&[("A.class", stamps[0], 0o644, b"x")]),
            zip(&[("A.class", stamps[1], 0o644, b"x")]),
            Time,
        ),
        (
            "the order of a zip",
            "srv/a.zip",
            zip(&[("q", 0, 0, b"1"), ("b", 0, 0, b"2"), ("a", 0, 0, b"3")]),
            zip(&[("b", 0, 0, b"2"), ("q", 0, 0, b"1"), ("a", 0, 0, b"3")]),
            DirectoryOrder,
        ),
        ("times in a library", "srv/a.a", ar(&[with_time(FIRST)]), ar(&[with_time(SECOND)]), Time),
        ("Python's bytecode", "srv/a.pyc", pyc(0, FIRST as u32, b"code"), pyc(0, SECOND as u32, b"code"), Time),
        (
            "a path in bytecode",
            "srv/a.pyc",
            pyc(1, 7, b"\xe3\0\xfa\x14/tmp/pip-x81a/ferry.py\0"),
            pyc(1, 7, b"\xe3\0\xfa\x14/tmp/pip-m3zz/ferry.py\0"),
            BuildPath,
        ),
        (
            "a build id",
            "srv/tide",
            elf(&[(".text", b"\x90\x90"), (".note.gnu.build-id", &id)]),
            elf(&[(".text", b"\x90\x90"), (".note.gnu.build-id", &other_id)]),
            Random,
        ),
        (
            "__TIME__ in a program",
            "srv/tide",
            elf(&[(".rodata", b"\x01\0built 08:40:11\0\x01"), (".note.gnu.build-id", &id)]),
            elf(&[(".rodata", b"\x01\0built 13:47:22\0\x01"), (".note.gnu.build-id", &other_id)]),
            Time,
        ),
        (
            "instructions of AVX",
            "srv/tide",
            elf(&[(".text", &[0xc5, 0xfd, 0x6f, 0x07].repeat(40))]),
            elf(&[(".text", &[0x66, 0x0f, 0x6f, 0x07].repeat(40))]),
            CpuFeatures,
        ),
        (
            "a row's time",
            "srv/a.db",
            sqlite(&[b"\xff\x802026-11-20 08:40:11\0", b"tide\0\xfe"]),
            sqlite(&[b"\xff\x802027-12-25 13:47:22\0", b"tide\0\xfe"]),
            Time,
        ),
        (
            "rows in another order",
            "srv/a.db",
            sqlite(&[b"\xff./tide.c\xfe", b"\xff./quay.c\xfe"]),
            sqlite(&[b"\xff./quay.c\xfe", b"\xff./tide.c\xfe"]),
            DirectoryOrder,
        ),
        (
            "random bytes",
            "srv/salt",
            in_binary(&[0x91, 0xf2, 0x83, 0xc4, 0xe5, 0x96, 0xa7, 0xb8, 0xc9, 0xda]),
            in_binary(&[0xe1, 0x82, 0xd3, 0x94, 0xb5, 0xf6, 0x87, 0x98, 0xa9, 0xba]),
            Random,
        ),
    ]
}

fn culprits() -> Vec<Culprit> {
    let mut all = texts();
    let uuid = |seconds: i64, tail: &str| {
        let digits = format!("{:012x}", seconds * 1000);
        format!("{}-{}-7{tail}\n", &digits[..8], &digits[8..]).into_bytes()
    };
    for culprit in all.iter_mut().filter(|culprit| culprit.0 == "UUID of version 7") {
        culprit.2 = uuid(FIRST, "abc-8def-0123456789ab");
        culprit.3 = uuid(SECOND, "19f-9c1a-ba9876543210");
    }
    all.extend(binaries());
    all
}

#[test]
fn at_least_55_of_60_culprits_are_named_right() {
    let culprits = culprits();
    let mut wrong = Vec::new();
    for (name, path, first, second, kind) in &culprits {
        assert_ne!(first, second, "{name}");
        let found = why(path, first, second);
        let (told, form) = (found[0].kind, &found[0].form);
        if told != *kind {
            wrong.push(format!("{name}: {kind:?}, told {told:?} ({form})"));
        }
    }
    let share = 60 * (culprits.len() - wrong.len()) / culprits.len();
    assert!(culprits.len() >= 60 && share >= 55, "{} of {}:\n{}", wrong.len(), culprits.len(), wrong.join("\n"));
}

#[test]
fn names_rights_and_links_are_explained_too() {
    let around = around();
    let mut explainer = Explainer::new(&around, &unpack);
    let pairs = [
        ("srv/core.61", "srv/core.1064", Kind::ProcessId),
        ("srv/log-2026-11-20.txt", "srv/log-2027-12-25.txt", Kind::Time),
        ("tmp/tmp.Xa83bdk2", "tmp/tmp.9fkQ2LpW", Kind::Random),
        ("etc/berth.conf", "etc/elsewhere.conf", Kind::HostOrUser),
    ];
    let changes: Vec<_> =
        pairs.iter().map(|(a, b, kind)| (change(a, What::Missing), change(b, What::Extra), *kind)).collect();
    for (gone, come, _) in &changes {
        explainer.remember(gone, [Side::Other, Side::Nothing]);
        explainer.remember(come, [Side::Nothing, Side::Other]);
    }
    for (gone, come, kind) in &changes {
        assert_eq!(explainer.explain(gone, [Side::Other, Side::Nothing])[0].kind, *kind, "{}", gone.path);
        assert_eq!(explainer.explain(come, [Side::Nothing, Side::Other])[0].kind, *kind, "{}", come.path);
    }
    let field = |name: &str, expected: &str, here: &str| Field {
        name: name.to_owned(),
        expected: expected.to_owned(),
        here: here.to_owned(),
    };
    let mode = change("srv/x", What::Changed { fields: vec![field("mode", "0644", "0600")] });
    assert_eq!(explainer.explain(&mode, [Side::Other, Side::Other])[0].kind, Kind::Umask);
    let mode = change("srv/x", What::Changed { fields: vec![field("mode", "4755", "0755")] });
    assert_eq!(explainer.explain(&mode, [Side::Other, Side::Other])[0].kind, Kind::Unknown);
    let link = change("srv/now", What::Changed { fields: vec![field("target", "", "")] });
    let told = explainer.explain(&link, [Side::Link("releases/20261120084011"), Side::Link("releases/20271225134722")]);
    assert_eq!(told[0].kind, Kind::Time);
}

#[test]
fn a_manifest_follows_from_the_file_that_it_names() {
    let around = around();
    let mut explainer = Explainer::new(&around, &unpack);
    let blob = change("srv/blob", content());
    explainer.remember(&blob, [Side::File(b"one"), Side::File(b"two")]);
    let digest = |bytes: &[u8]| cavrith_core::digest::Sha256Digest::of(bytes);
    let [first, second] = [b"one", b"two"].map(|bytes| format!("{}  blob\n", digest(bytes)));
    let sums = change("srv/SHA256SUMS", content());
    let told = explainer.explain(&sums, [Side::File(first.as_bytes()), Side::File(second.as_bytes())]);
    assert_eq!((told[0].kind, told[0].form.as_str()), (Kind::Follows, "the digest of /srv/blob"));
}

proptest! {
    /// Whatever a step leaves behind, looking into it ends, and says something.
    #[test]
    fn any_bytes_are_looked_at(
        which in 0usize..69,
        cut in 0usize..600,
        flips in prop::collection::vec((0usize..600, any::<u8>()), 0..12),
    ) {
        let all = culprits();
        let (_, path, first, second, _) = &all[which % all.len()];
        let mut second = second.clone();
        second.truncate(cut.max(1));
        for (at, byte) in flips {
            if let Some(place) = second.get_mut(at) {
                *place = byte;
            }
        }
        prop_assert!(!why(path, first, &second).is_empty());
        prop_assert!(!why(path, &second, first).is_empty());
    }
}
