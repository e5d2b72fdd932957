//! What to do about each kind of difference.

use super::Kind;

/// Remedies for particular forms, by a word of the form; the first that fits.
const BY_FORM: [(Kind, &str, &str); 17] = [
    (Kind::CompressionHeader, "gzip", "give gzip -n, or gzip.GzipFile(…, mtime=0)"),
    (Kind::Time, "zip", "touch the files to SOURCE_DATE_EPOCH first, and give zip -X"),
    (Kind::Time, "tar", "give tar --sort=name --mtime=@$SOURCE_DATE_EPOCH --owner=0 --group=0 --numeric-owner"),
    (Kind::HostOrUser, "tar", "give tar --owner=0 --group=0 --numeric-owner"),
    (Kind::HostOrUser, "ar ", "make the library with ar rcsD"),
    (Kind::DirectoryOrder, "tar", "give tar --sort=name"),
    (Kind::DirectoryOrder, "zip", "give zip the names sorted: find . | LC_ALL=C sort | zip -X -@"),
    (Kind::DirectoryOrder, "ar ", "hand ar its members sorted"),
    (Kind::Umask, "tar", "give tar --mode=u=rwX,go=rX"),
    (Kind::Time, "ar ", "make the library with ar rcsD"),
    (Kind::Time, "Python", "compile with py_compile's unchecked-hash, or leave __pycache__ out"),
    (Kind::Random, "build id", "link with -Wl,--build-id=none, or with --build-id=sha1"),
    (Kind::Time, "__DATE__", "leave the date out, or have it made from SOURCE_DATE_EPOCH"),
    (Kind::Time, "long something took", "leave out how long something took"),
    (Kind::Random, "hash seed", "sort before writing; PYTHONHASHSEED and the like are fixed here, and not elsewhere"),
    (Kind::BuildPath, "temporary", "build in a directory with a fixed name, and remove it before the step ends"),
    (Kind::Random, "temporary", "name it, or remove it before the step ends"),
];

/// What to do.
pub(super) fn remedy(kind: Kind, form: &str) -> &'static str {
    if let Some((_, _, remedy)) = BY_FORM.iter().find(|(of, word, _)| *of == kind && form.contains(word)) {
        return remedy;
    }
    match kind {
        Kind::Time => "take the time from SOURCE_DATE_EPOCH, or leave it out",
        Kind::BuildPath => {
            "build in a fixed directory, or map it away: -ffile-prefix-map, --remap-path-prefix, -trimpath"
        }
        Kind::HostOrUser => "leave the name out, or set it: many tools take a variable for it",
        Kind::ProcessId => "leave the number out, or remove the file before the step ends",
        Kind::Random => "give the generator a fixed seed, or make it at the first start: [[workspace.start]]",
        Kind::DirectoryOrder => "sort what is listed: LC_ALL=C sort, sorted(), --sort=name",
        Kind::Locale => "run it with LC_ALL=C.UTF-8",
        Kind::Processors => "give the number of jobs where it gets into the result, as in -j4 or xz -T1",
        Kind::CpuFeatures => "name what to build for (-march=x86-64-v2) in the place of \"native\"",
        Kind::ParallelOrder => "do it one after the other (-j1), or sort what comes out",
        Kind::CompressionHeader => "have the compressor leave out name and time, with a fixed level and one thread",
        Kind::Umask => "set the rights: install -m, chmod, or umask 022 at the beginning of the step",
        Kind::Network => "let the step fetch only what is recorded: network = \"recorded\", cavrith record",
        Kind::Follows => "nothing: it goes away with the other",
        Kind::Unknown => "compare both sides, and look for what the step takes from its surroundings",
    }
}
