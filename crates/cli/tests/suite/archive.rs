//! A Debian archive of our own: a handful of packages, indexes, a signature, behind the small web server.
//!
//! Its `dpkg` is a stand-in, a script for the real `busybox` of the demo's depot: it runs the packages' scripts and
//! keeps the records as dpkg does. What the real dpkg makes of real packages is for the online tests.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;

use sha2::Digest as _;

use crate::openpgp::{Identity, clear_signed};
use crate::server::Server;
use crate::team::Team;

/// The day on which the archive says that it was made.
pub const DATE: &str = "Sat, 11 Jul 2026 10:16:37 UTC";

/// One package to be.
pub struct Package {
    pub name: &'static str,
    pub version: &'static str,
    pub fields: &'static str,
    /// Path, rights, content; a path that ends with a slash is a directory, content after `->` a link.
    pub files: Vec<(String, u32, Vec<u8>)>,
    pub scripts: Vec<(&'static str, String)>,
}

impl Package {
    pub fn new(name: &'static str, version: &'static str, fields: &'static str) -> Self {
        Self { name, version, fields, files: Vec::new(), scripts: Vec::new() }
    }

    pub fn file(mut self, path: &str, mode: u32, content: impl Into<Vec<u8>>) -> Self {
        self.files.push((path.to_owned(), mode, content.into()));
        self
    }

    pub fn script(mut self, name: &'static str, text: &str) -> Self {
        self.scripts.push((name, format!("#!/bin/sh\nset -e\n{text}\n")));
        self
    }

    fn control(&self) -> String {
        let Self { name, version, fields, .. } = self;
        let architecture = if fields.contains("Architecture:") { "" } else { "Architecture: amd64\n" };
        format!(
            "Package: {name}\nVersion: {version}\n{architecture}Maintainer: Ida <ida@brindle.example>\n{fields}Description: made up\n"
        )
    }

    /// The package itself (deb(5)).
    pub fn deb(&self) -> Vec<u8> {
        let mut control: Vec<_> = vec![("./control".to_owned(), 0o644, self.control().into_bytes())];
        for (name, text) in &self.scripts {
            control.push((format!("./{name}"), 0o755, text.clone().into_bytes()));
        }
        let files = self.files.iter().map(|(path, mode, content)| (format!("./{path}"), *mode, content.clone()));
        let mut deb = b"!<arch>\n".to_vec();
        let parts = [
            ("debian-binary", b"2.0\n".to_vec()),
            ("control.tar.gz", gz(&tar_of(control))),
            ("data.tar.gz", gz(&tar_of(files.collect()))),
        ];
        for (name, bytes) in parts {
            writeln!(deb, "{name:<16}{:<12}{:<6}{:<6}{:<8}{:<10}`", 0, 0, 0, 100_644, bytes.len()).unwrap();
            deb.extend(&bytes);
            if bytes.len() % 2 == 1 {
                deb.push(b'\n');
            }
        }
        deb
    }
}

pub fn gz(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

/// A tar archive; see [`Package::files`] for the paths.
pub fn tar_of(files: Vec<(String, u32, Vec<u8>)>) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (path, mode, content) in files {
        let mut header = tar::Header::new_gnu();
        header.set_mode(mode);
        header.set_mtime(1_783_000_000);
        header.set_uid(0);
        header.set_gid(0);
        let link = content.strip_prefix(b"->");
        header.set_entry_type(match (path.ends_with('/'), link) {
            (true, _) => tar::EntryType::Directory,
            (_, Some(_)) => tar::EntryType::Symlink,
            _ => tar::EntryType::Regular,
        });
        if path.contains("..") {
            // The crate that writes archives would not; others do.
            header.as_old_mut().name[..path.len()].copy_from_slice(path.as_bytes());
            header.set_size(content.len() as u64);
            header.set_cksum();
            builder.append(&header, content.as_slice()).unwrap();
        } else if let Some(target) = link {
            header.set_size(0);
            builder.append_link(&mut header, &path, std::str::from_utf8(target).unwrap()).unwrap();
        } else {
            header.set_size(content.len() as u64);
            builder.append_data(&mut header, &path, content.as_slice()).unwrap();
        }
    }
    builder.into_inner().unwrap()
}

pub fn sha256(bytes: &[u8]) -> String {
    sha2::Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The stand-in for dpkg: configures in the order of the records, and says what is left.
const DPKG: &str = r#"#!/bin/sh
admin=/var/lib/dpkg
left() { awk '/^Package:/ { name = $2 } /^Status: install ok unpacked/ { print name }' $admin/status; }
configure() {
    if [ -e $admin/info/$1.conffiles ]; then
        for file in $(cat $admin/info/$1.conffiles); do
            if [ -e $file.dpkg-new ]; then
                if [ -e $file ]; then mv $file.dpkg-new $file.dpkg-dist; else mv $file.dpkg-new $file; fi
                sed -i "s|^ $file newconffile| $file $(md5sum < $file | cut -c1-32)|" $admin/status
            fi
        done
    fi
    if [ -x $admin/info/$1.postinst ]; then DPKG_MAINTSCRIPT_PACKAGE=$1 $admin/info/$1.postinst configure || exit 1; fi
    awk -v want=$1 '/^Package:/ { name = $2 } { if (name == want && $0 == "Status: install ok unpacked") print "Status: install ok installed"; else print }' $admin/status > $admin/status-new
    mv $admin/status-new $admin/status
    echo "$(date +%s) configured $1" >> /var/log/dpkg.log
}
while [ "${1#--force-conf}" != "$1" ]; do shift; done
case "$1" in
    --audit) left ;;
    --configure)
        shift
        if [ "$1" = --force-depends ]; then shift; fi
        if [ "$1" = -a ]; then set -- $(left); fi
        for name in "$@"; do configure $name; done
        cp $admin/status $admin/status-old ;;
    *) echo "the stand-in does not know $1" >&2; exit 2 ;;
esac
"#;

pub struct Archive {
    pub server: Server,
    pub key: Identity,
    pub packages: Vec<Package>,
    /// The one real package.
    busybox: Vec<u8>,
    pub date: String,
    /// More lines of the `Release` file.
    pub more: String,
}

impl Archive {
    /// An archive whose root can be configured.
    pub fn new(team: &Team) -> Self {
        let folder = fs::read_dir(team.dir.path().join("depot/packages")).unwrap();
        let mut busybox =
            folder.map(|entry| entry.unwrap().path()).filter(|path| path.to_string_lossy().contains("busybox"));
        let busybox = fs::read(busybox.next().unwrap()).unwrap();
        let mut dpkg =
            Package::new("dpkg", "1.22", "Essential: yes\nPre-Depends: commands\n").file("usr/bin/dpkg", 0o755, DPKG);
        dpkg = dpkg.file("var/log/", 0o755, "");
        let links =
            "sh awk cat chmod cp date ln ls mkdir mv printf readlink rm rmdir sed sleep stat test touch echo head"
                .split(' ');
        let mut commands = Package::new("commands", "1", "Essential: yes\nDepends: busybox-static\n");
        for link in links {
            commands = commands.file(&format!("bin/{link}"), 0o777, "->busybox");
        }
        let files = Package::new("base-files", "12", "Essential: yes\n")
            .file("etc/", 0o755, "")
            .file("tmp/", 0o1777, "")
            .file("root/", 0o700, "")
            .file("proc/", 0o755, "")
            .file("sys/", 0o755, "")
            .file("dev/", 0o755, "")
            .file("run/", 0o755, "")
            .file("usr/sbin/", 0o755, "")
            .file("etc/issue", 0o644, "Brindle Ferry\n")
            .script("postinst", "chown root:crane /etc/issue");
        let passwd = Package::new("base-passwd", "3", "Essential: yes\n").script(
            "preinst",
            "printf 'root:x:0:0::/root:/bin/sh\\n' > /etc/passwd\nprintf 'root:x:0:\\ncrane:x:42:\\n' > /etc/group",
        );
        let packages = vec![commands, dpkg, files, passwd];
        let key = Identity::new();
        Self { server: Server::new(), key, packages, busybox, date: DATE.to_owned(), more: String::new() }
    }

    /// Brings the suite `tide` up to date on the server, and tells the team's configuration of it.
    pub fn publish(&self, team: &Team) {
        self.publish_as("tide");
        let keyring = team.dir.path().join("archive.asc");
        fs::write(&keyring, self.key.armoured()).unwrap();
        fs::create_dir_all(team.home()).unwrap();
        let config = format!("[debian]\nmirror = \"{}/debian\"\nkeyring = {:?}\n", self.server.url, keyring);
        fs::write(team.home().join("config.toml"), config).unwrap();
    }

    pub fn publish_as(&self, suite: &str) {
        let index = gz(self.index().as_bytes());
        let place = "main/binary-amd64/Packages.gz";
        let release = format!(
            "Origin: Brindle\nSuite: {suite}\nCodename: {suite}\nDate: {}\n{}Architectures: amd64\nComponents: main\nSHA256:\n {} {} {place}\n",
            self.date,
            self.more,
            sha256(&index),
            index.len(),
        );
        self.server.put(&format!("/debian/dists/{suite}/{place}"), index);
        self.server.put(&format!("/debian/dists/{suite}/InRelease"), self.signed(&release));
    }

    pub fn signed(&self, text: &str) -> String {
        clear_signed(text, &[&self.key])
    }

    /// The index, and the packages on the server.
    fn index(&self) -> String {
        let file = "pool/main/busybox-static.deb";
        let mut index = format!(
            "Package: busybox-static\nVersion: 1:1.35.0-4+deb12u1+b1\nArchitecture: amd64\nFilename: {file}\nSize: {}\nSHA256: {}\n\n",
            self.busybox.len(),
            sha256(&self.busybox)
        );
        self.server.put(&format!("/debian/{file}"), self.busybox.clone());
        for package in &self.packages {
            let deb = package.deb();
            let file = format!("pool/main/{}_{}_amd64.deb", package.name, package.version.replace(':', "%3a"));
            index.push_str(&package.control());
            index.push_str(&format!("Filename: {file}\nSize: {}\nSHA256: {}\n\n", deb.len(), sha256(&deb)));
            self.server.put(&format!("/debian/{file}"), deb);
        }
        index
    }
}

/// A project whose base comes from the archive, with these packages.
pub fn project(team: &Team, packages: &str) {
    let text = format!(
        "spec = 1\n[workspace]\nname = \"pier\"\n[base]\ndebian = \"tide\"\nextra = []\npackages = [{packages}]\n"
    );
    fs::write(team.project().join("cavrith.toml"), text).unwrap();
}

/// The packages of each stage of a lock.
pub fn stages(team: &Team) -> Vec<Vec<String>> {
    let lock: toml::Table = fs::read_to_string(team.project().join("cavrith.lock")).unwrap().parse().unwrap();
    let stages = lock["debian"]["stages"].as_array().unwrap();
    stages.iter().map(|stage| stage["packages"].as_table().unwrap().keys().cloned().collect()).collect()
}

/// Versions by name.
pub fn versions(team: &Team) -> BTreeMap<String, String> {
    let lock: toml::Table = fs::read_to_string(team.project().join("cavrith.lock")).unwrap().parse().unwrap();
    let stages = lock["debian"]["stages"].as_array().unwrap().clone();
    let packages = stages.iter().flat_map(|stage| stage["packages"].as_table().unwrap().clone());
    packages.map(|(name, pin)| (name, pin.as_str().unwrap().split(' ').next().unwrap().to_owned())).collect()
}
