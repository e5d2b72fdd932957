//! The demo's data, inside the executable.

/// The base: Debian's own package, unmodified; `demo/depot/packages/NOTICE.md` tells its licence and source.
pub const PACKAGE: &[u8] =
    include_bytes!("../../../../demo/depot/packages/busybox-static_1.35.0-4+deb12u1+b1_amd64.deb");
/// The package's file name in the depot.
pub const PACKAGE_FILE: &str = "packages/busybox-static_1.35.0-4+deb12u1+b1_amd64.deb";
/// The package's version.
pub const PACKAGE_VERSION: &str = "1:1.35.0-4+deb12u1+b1";
/// Licence and source of the package.
pub const NOTICE: &str = include_str!("../../../../demo/depot/packages/NOTICE.md");

/// The package's licence.
pub const LICENCE: &str = include_str!("../../../../demo/depot/packages/GPL-2.txt");

/// A made-up toolchain: its name, version, and its one program.
pub struct Tool {
    pub name: &'static str,
    pub version: &'static str,
    pub program: &'static str,
}

pub const TOOLS: [Tool; 3] = [
    Tool { name: "gauge", version: "0.9.3", program: include_str!("../../../../demo/toolchains/gauge/bin/gauge") },
    Tool {
        name: "lantern",
        version: "1.6.0",
        program: include_str!("../../../../demo/toolchains/lantern/bin/lantern"),
    },
    Tool { name: "quill", version: "2.4.1", program: include_str!("../../../../demo/toolchains/quill/bin/quill") },
];

/// The made-up extension, as its zip archive holds it.
pub const EXTENSION: [(&str, &str); 3] = [
    ("manifest.txt", include_str!("../../../../demo/extension/manifest.txt")),
    ("extension/package.json", include_str!("../../../../demo/extension/extension/package.json")),
    ("extension/syntax/table.json", include_str!("../../../../demo/extension/extension/syntax/table.json")),
];

/// The project, but for its spec: name, text, whether it is a program.
pub const PROJECT: [(&str, &str, bool); 3] = [
    ("news.html", include_str!("../../../../demo/project/news.html"), false),
    ("sailings.csv", include_str!("../../../../demo/project/sailings.csv"), false),
    ("serve.sh", include_str!("../../../../demo/project/serve.sh"), true),
];

/// The lead's first try, with mistakes.
pub const DRAFT: &str = include_str!("../../../../demo/project/draft.toml");
/// The spec.
pub const SPEC: &str = include_str!("../../../../demo/project/cavrith.toml");

/// What the lead adds to it for what goes out.
pub const RELEASE: &str = include_str!("../../../../demo/project/release.toml");

/// What a member adds to it.
pub const MORE: &str = include_str!("../../../../demo/project/more.toml");

/// How the addresses of the harbour office begin.
pub const OFFICE: &str = "http://tides.harbour.example/";

/// A step that fetches.
pub const TIDES: &str = r#"
[[steps]]
name    = "bring the tides"
at      = "build"
network = "recorded"
run     = """
mkdir -p /srv/tides
for month in $(wget -q -O - http://tides.harbour.example/list); do
    wget -q -O /srv/tides/$month http://tides.harbour.example/$month
done
"""
"#;
