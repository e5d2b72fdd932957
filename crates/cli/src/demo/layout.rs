//! Laying out the demo's folder: a depot, packed from the demo's sources, and the lead's project.

use std::fs;
use std::io::{self, Cursor, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use cavrith_core::depot::{EditorProfile, Extension, File, Index, Language, LaunchForm, Package, Probe, Toolchain};
use cavrith_core::digest::Sha256Digest;
use cavrith_core::version::Version;

use crate::demo::assets::{EXTENSION, LICENCE, NOTICE, PACKAGE, PACKAGE_FILE, PACKAGE_VERSION, PROJECT, TOOLS, Tool};

/// Time stamp of everything that is packed: the same archives come out of every build of this program.
const PACKED_AT: u64 = 1_760_000_000;

/// Writes the depot into a folder.
pub fn depot(dir: &Path) -> io::Result<()> {
    let mut index = Index {
        editors: vec![EditorProfile {
            name: "lantern".to_owned(),
            extensions: "/opt/lantern-extensions/{id}-{version}".to_owned(),
            settings: "/etc/lantern/settings.json".to_owned(),
            launch: Some("/etc/lantern/launch.json".to_owned()),
            language: Language::Json,
            launch_form: LaunchForm::Own,
            open: ["lantern", "--host", "{host}", "{path}:{line}"].map(str::to_owned).to_vec(),
        }],
        ..Index::empty(Some("Brindle Ferry's own sources".to_owned()))
    };
    for name in ["packages", "toolchains", "extensions"] {
        fs::create_dir_all(dir.join(name))?;
    }
    fs::write(dir.join("packages/NOTICE.md"), NOTICE)?;
    fs::write(dir.join("packages/GPL-2.txt"), LICENCE)?;
    index.packages.push(Package {
        name: "busybox-static".to_owned(),
        version: PACKAGE_VERSION.to_owned(),
        architecture: "amd64".to_owned(),
        file: put(dir, PACKAGE_FILE, PACKAGE)?,
    });
    for tool in &TOOLS {
        let (name, version) = (tool.name, tool.version);
        let file = put(dir, &format!("toolchains/{name}-{version}.tar.gz"), &pack_tool(tool)?)?;
        index.toolchains.push(Toolchain {
            name: name.to_owned(),
            version: parse(version)?,
            file,
            strip: 1,
            place: format!("/opt/{name}/{version}"),
            path: vec!["bin".to_owned()],
            probe: Probe {
                run: vec![name.to_owned(), "--version".to_owned()],
                answer: format!("{name} {version}"),
                within: false,
            },
            parts: Vec::new(),
        });
    }
    let file = put(dir, "extensions/brindle.quill-syntax-1.2.0.zip", &pack_extension()?)?;
    index.extensions.push(Extension {
        id: "brindle.quill-syntax".to_owned(),
        version: parse("1.2.0")?,
        file,
        strip: 1,
    });
    fs::write(dir.join("depot.toml"), index.to_text())
}

/// Writes the project, but for its spec, into a folder.
pub fn project(dir: &Path) -> io::Result<()> {
    fs::create_dir_all(dir)?;
    for (name, text, program) in PROJECT {
        let path = dir.join(name);
        fs::write(&path, text)?;
        fs::set_permissions(&path, fs::Permissions::from_mode(if program { 0o755 } else { 0o644 }))?;
    }
    Ok(())
}

fn parse(version: &str) -> io::Result<Version> {
    Version::new(version).map_err(io::Error::other)
}

fn put(dir: &Path, file: &str, bytes: &[u8]) -> io::Result<File> {
    fs::write(dir.join(file), bytes)?;
    Ok(File { file: file.to_owned(), size: bytes.len() as u64, sha256: Sha256Digest::of(bytes) })
}

fn pack_tool(tool: &Tool) -> io::Result<Vec<u8>> {
    let packed = flate2::GzBuilder::new().mtime(0).write(Vec::new(), flate2::Compression::best());
    let mut archive = tar::Builder::new(packed);
    let top = format!("{}-{}", tool.name, tool.version);
    for (path, mode, text) in
        [(format!("{top}/bin/"), 0o755, ""), (format!("{top}/bin/{}", tool.name), 0o755, tool.program)]
    {
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(if path.ends_with('/') { tar::EntryType::Directory } else { tar::EntryType::Regular });
        header.set_mode(mode);
        header.set_uid(0);
        header.set_gid(0);
        header.set_size(text.len() as u64);
        header.set_mtime(PACKED_AT);
        archive.append_data(&mut header, path, text.as_bytes())?;
    }
    archive.into_inner()?.finish()
}

fn pack_extension() -> io::Result<Vec<u8>> {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options =
        zip::write::SimpleFileOptions::default().unix_permissions(0o644).last_modified_time(zip::DateTime::default());
    for (name, text) in EXTENSION {
        archive.start_file(name, options).map_err(io::Error::other)?;
        archive.write_all(text.as_bytes())?;
    }
    Ok(archive.finish().map_err(io::Error::other)?.into_inner())
}
