//! What is changed behind the program's back, one thing at a time: each is found, and named for what it is, by the
//! three kinds of member. What nobody touched is never accused.

use std::fs::{self, File};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::{Duration, SystemTime};

use cavrith_core::lock::Lock;
use cavrith_core::seal::{Seal, SealedLayer};
use rustix::fs::XattrFlags;

use crate::owners::Member;
use crate::team::{Team, told};

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Kind {
    Root,
    Range,
    Single,
}

/// A member with a sealed project, built.
pub struct Desk {
    pub team: Team,
    member: Option<Member>,
    kind: Kind,
}

const FILE: &str = "opt/quill/2.4.1/bin/quill";
const DIR: &str = "opt/quill/2.4.1/bin";
const LINK: &str = "bin/ls";

/// What is done to the root of a layer, where a difference is reported, and a word of it.
type Mutation = (&'static str, &'static str, fn(&Path), &'static str, &'static str);

pub fn set(path: PathBuf, name: &str, value: &[u8]) {
    rustix::fs::lsetxattr(&path, name, value, XattrFlags::empty()).unwrap();
}

/// An access control list with one more user (linux/posix_acl_xattr.h).
fn list() -> Vec<u8> {
    let entries: [(u16, u16, u32); 5] =
        [(1, 7, u32::MAX), (2, 7, 1000), (4, 5, u32::MAX), (0x10, 7, u32::MAX), (0x20, 5, u32::MAX)];
    let mut bytes = 2u32.to_le_bytes().to_vec();
    for (tag, rights, id) in entries {
        bytes.extend([&tag.to_le_bytes()[..], &rights.to_le_bytes(), &id.to_le_bytes()].concat());
    }
    bytes
}

/// Changes a file without changing its time.
pub fn rewrite(path: PathBuf, change: impl FnOnce(Vec<u8>) -> Vec<u8>) {
    let time = fs::metadata(&path).unwrap().modified().unwrap();
    let bytes = change(fs::read(&path).unwrap());
    fs::write(&path, bytes).unwrap();
    File::options().write(true).open(&path).unwrap().set_modified(time).unwrap();
}

fn at(seconds: u64, nanoseconds: u32) -> SystemTime {
    SystemTime::UNIX_EPOCH + Duration::new(seconds, nanoseconds)
}

fn node(path: PathBuf, kind: rustix::fs::FileType, device: u64) {
    rustix::fs::mknodat(rustix::fs::CWD, &path, kind, rustix::fs::Mode::from_raw_mode(0o600), device).unwrap();
}

/// Gives a file another owner, as the member's store has it.
fn own(path: PathBuf, user: u32, group: u32) {
    let meta = fs::metadata(&path).unwrap();
    match meta.uid() {
        // A single id, or the first of a range; both keep it on the disk.
        crate::owners::USER => set(path, "user.cavrith.owner", format!("{user}:{group}").as_bytes()),
        first => std::os::unix::fs::lchown(&path, Some(first + user), Some(meta.gid() + group)).unwrap(),
    }
}

const MUTATIONS: &[Mutation] = &[
    (
        "one bit of content",
        FILE,
        |root| {
            rewrite(root.join(FILE), |mut bytes| {
                bytes[100] ^= 1;
                bytes
            })
        },
        FILE,
        "content",
    ),
    (
        "a byte more",
        FILE,
        |root| {
            rewrite(root.join(FILE), |mut bytes| {
                bytes.push(b'#');
                bytes
            })
        },
        FILE,
        "size",
    ),
    ("nothing in it", FILE, |root| rewrite(root.join(FILE), |_| Vec::new()), FILE, "size 0"),
    (
        "rights for all",
        FILE,
        |root| fs::set_permissions(root.join(FILE), fs::Permissions::from_mode(0o777)).unwrap(),
        FILE,
        "mode 0777",
    ),
    (
        "set-uid",
        FILE,
        |root| fs::set_permissions(root.join(FILE), fs::Permissions::from_mode(0o4755)).unwrap(),
        FILE,
        "mode 4755",
    ),
    (
        "rights of a directory",
        FILE,
        |root| fs::set_permissions(root.join(DIR), fs::Permissions::from_mode(0o1777)).unwrap(),
        DIR,
        "mode 1777",
    ),
    ("an owner", FILE, |root| own(root.join(FILE), 7, 0), FILE, "owner 7"),
    ("a group", FILE, |root| own(root.join(FILE), 0, 9), FILE, "group 9"),
    (
        "a later time",
        FILE,
        |root| File::open(root.join(FILE)).unwrap().set_modified(at(1_800_000_000, 0)).unwrap(),
        FILE,
        "time 2027",
    ),
    (
        "an earlier time",
        FILE,
        |root| File::open(root.join(FILE)).unwrap().set_modified(at(7, 0)).unwrap(),
        FILE,
        "time 1970",
    ),
    (
        "a fraction of a second",
        FILE,
        |root| {
            let file = File::open(root.join(FILE)).unwrap();
            let time = file.metadata().unwrap().modified().unwrap();
            file.set_modified(time + Duration::from_millis(1)).unwrap();
        },
        FILE,
        "fraction of a second",
    ),
    (
        "a directory's time",
        FILE,
        |root| File::open(root.join(DIR)).unwrap().set_modified(at(1_800_000_000, 0)).unwrap(),
        DIR,
        "time 2027",
    ),
    (
        "a link's time",
        LINK,
        |root| {
            let time = rustix::fs::Timespec { tv_sec: 7, tv_nsec: 0 };
            let times = rustix::fs::Timestamps { last_access: time, last_modification: time };
            rustix::fs::utimensat(rustix::fs::CWD, root.join(LINK), &times, rustix::fs::AtFlags::SYMLINK_NOFOLLOW)
                .unwrap();
        },
        LINK,
        "time 1970",
    ),
    (
        "an access list",
        FILE,
        |root| set(root.join(FILE), "system.posix_acl_access", &list()),
        FILE,
        "access list of 44 bytes",
    ),
    (
        "an access list of a directory",
        FILE,
        |root| set(root.join(DIR), "system.posix_acl_access", &list()),
        DIR,
        "access list of 44 bytes",
    ),
    (
        "a default access list",
        FILE,
        |root| set(root.join(DIR), "system.posix_acl_default", &list()),
        DIR,
        "default access list of 44 bytes",
    ),
    ("an attribute", FILE, |root| set(root.join(FILE), "user.note", b"x"), FILE, "user.note=x"),
    ("an attribute of a directory", FILE, |root| set(root.join(DIR), "user.note", b"x"), DIR, "user.note=x"),
    (
        "capabilities",
        FILE,
        |root| {
            set(root.join(FILE), "security.capability", &[1, 0, 0, 2, 0, 32, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0])
        },
        FILE,
        "security.capability",
    ),
    (
        "an overlay's mark of data elsewhere",
        FILE,
        |root| set(root.join(FILE), "user.overlay.metacopy", b""),
        FILE,
        "user.overlay.metacopy",
    ),
    (
        "an overlay's mark of another name",
        FILE,
        |root| set(root.join(DIR), "user.overlay.redirect", b"/etc"),
        DIR,
        "user.overlay.redirect=/etc",
    ),
    (
        "an overlay's mark of its origin",
        FILE,
        |root| set(root.join(FILE), "user.overlay.origin", b"x"),
        FILE,
        "user.overlay.origin",
    ),
    (
        "a directory that hides what is beneath",
        FILE,
        |root| set(root.join(DIR), "user.overlay.opaque", b"y"),
        DIR,
        "what lies beneath hidden",
    ),
    (
        "a directory of deletions",
        FILE,
        |root| set(root.join(DIR), "user.overlay.opaque", b"x"),
        DIR,
        "user.overlay.opaque=x",
    ),
    (
        "our mark of a deletion",
        FILE,
        |root| {
            fs::write(root.join("opt/gone"), "").unwrap();
            set(root.join("opt/gone"), "user.cavrith.gone", b"y");
        },
        "opt/gone",
        "nobody put there",
    ),
    (
        "another mark of ours",
        FILE,
        |root| set(root.join(FILE), "user.cavrith.other", b"x"),
        FILE,
        "user.cavrith.other=x",
    ),
    ("a file more", FILE, |root| fs::write(root.join("opt/more"), "x").unwrap(), "opt/more", "nobody put there"),
    (
        "a hidden file more",
        FILE,
        |root| fs::write(root.join("opt/.more"), "").unwrap(),
        "opt/.more",
        "nobody put there",
    ),
    ("a directory more", FILE, |root| fs::create_dir(root.join("opt/more")).unwrap(), "opt/more", "nobody put there"),
    (
        "a link more",
        FILE,
        |root| symlink("/etc/shadow", root.join("opt/more")).unwrap(),
        "opt/more",
        "nobody put there",
    ),
    (
        "a pipe more",
        FILE,
        |root| node(root.join("opt/more"), rustix::fs::FileType::Fifo, 0),
        "opt/more",
        "nobody put there",
    ),
    (
        "a socket more",
        FILE,
        |root| node(root.join("opt/more"), rustix::fs::FileType::Socket, 0),
        "opt/more",
        "a socket",
    ),
    (
        "a deletion more",
        FILE,
        |root| node(root.join("opt/more"), rustix::fs::FileType::CharacterDevice, 0),
        "opt/more",
        "nobody put there",
    ),
    (
        "a device more",
        FILE,
        |root| node(root.join("opt/more"), rustix::fs::FileType::CharacterDevice, rustix::fs::makedev(1, 3)),
        "opt/more",
        "nobody put there",
    ),
    ("a file less", FILE, |root| fs::remove_file(root.join(FILE)).unwrap(), FILE, "to be there"),
    ("a directory less", FILE, |root| fs::remove_dir_all(root.join(DIR)).unwrap(), DIR, "to be there"),
    ("a link less", LINK, |root| fs::remove_file(root.join(LINK)).unwrap(), LINK, "to be there"),
    (
        "a directory for a file",
        FILE,
        |root| {
            fs::remove_file(root.join(FILE)).unwrap();
            fs::create_dir(root.join(FILE)).unwrap();
        },
        FILE,
        "kind directory",
    ),
    (
        "a link for a file",
        FILE,
        |root| {
            fs::remove_file(root.join(FILE)).unwrap();
            symlink("/bin/busybox", root.join(FILE)).unwrap();
        },
        FILE,
        "kind link",
    ),
    (
        "a pipe for a file",
        FILE,
        |root| {
            fs::remove_file(root.join(FILE)).unwrap();
            node(root.join(FILE), rustix::fs::FileType::Fifo, 0);
        },
        FILE,
        "kind named pipe",
    ),
    (
        "a file for a directory",
        FILE,
        |root| {
            fs::remove_dir_all(root.join(DIR)).unwrap();
            fs::write(root.join(DIR), "").unwrap();
        },
        DIR,
        "kind file",
    ),
    (
        "a file for a link",
        LINK,
        |root| {
            fs::remove_file(root.join(LINK)).unwrap();
            fs::write(root.join(LINK), "").unwrap();
        },
        LINK,
        "kind file",
    ),
    (
        "another target",
        LINK,
        |root| {
            fs::remove_file(root.join(LINK)).unwrap();
            symlink("/bin/evil", root.join(LINK)).unwrap();
        },
        LINK,
        "target /bin/evil",
    ),
    (
        "another name",
        FILE,
        |root| fs::rename(root.join(FILE), root.join(DIR).join("quilt")).unwrap(),
        FILE,
        "to be there",
    ),
    (
        "two links exchanged",
        LINK,
        |root| {
            let other = root.join("bin/cat");
            let [one, two] = [root.join(LINK), other].map(|path| (path.clone(), fs::read_link(&path).unwrap()));
            for (path, target) in [(&one.0, two.1.as_path()), (&two.0, Path::new("/bin/sh"))] {
                fs::remove_file(path).unwrap();
                symlink(target, path).unwrap();
            }
        },
        "bin/cat",
        "target /bin/sh",
    ),
    (
        "a hard link more",
        FILE,
        |root| fs::hard_link(root.join(FILE), root.join(DIR).join("other")).unwrap(),
        FILE,
        "the same file as",
    ),
];

impl Desk {
    pub fn new(kind: Kind) -> Self {
        let team = Team::sealed();
        let member = match kind {
            Kind::Root => None,
            Kind::Range | Kind::Single => Some(Member::of(&team, kind == Kind::Range)),
        };
        let desk = Self { team, member, kind };
        assert!(desk.run(&["build", "-q"]).status.success());
        desk
    }

    pub fn home(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.home(), |member| member.dir.join("home"))
    }

    fn project(&self) -> PathBuf {
        self.member.as_ref().map_or_else(|| self.team.project(), |member| member.dir.join("timetable"))
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        let command = self.member.as_ref().map(|member| member.command(arguments));
        command.unwrap_or_else(|| self.team.command(arguments)).output().unwrap()
    }

    fn ok(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "{:?}: {}", self.kind, told(&output));
        String::from_utf8(output.stdout).unwrap()
    }

    /// What a verdict says, as text; how it ends has to fit.
    fn verdict(&self, different: bool) -> String {
        let output = self.run(&["verify"]);
        let said = told(&output);
        assert_eq!(output.status.code(), Some(i32::from(different)), "{:?}: {said}", self.kind);
        said
    }

    /// The root of the layer that has a path.
    fn layer(&self, path: &str) -> PathBuf {
        let layers = fs::read_dir(self.home().join("store/layers")).unwrap();
        let mut roots = layers.map(|layer| layer.unwrap().path().join("root"));
        roots.find(|root| root.join(path).symlink_metadata().is_ok()).unwrap()
    }

    /// Changes something, looks at what is reported, and puts a faithful copy of it back.
    fn mutate(&self, what: &Path, change: &dyn Fn(), expected: &[&str]) {
        let aside = self.team.dir.path().join("aside");
        copy(what, &aside);
        change();
        let said = self.verdict(true);
        for words in expected {
            assert!(said.contains(words), "{:?}, {expected:?}: {said}", self.kind);
        }
        remove(what);
        copy(&aside, what);
        remove(&aside);
    }

    fn all(&self) -> usize {
        for (name, of, change, path, words) in MUTATIONS {
            let root = self.layer(of);
            let what = root.parent().unwrap().to_owned();
            let place = format!("    /{path}");
            self.mutate(&what, &|| change(&root), &["different    image", &place, words]);
            assert!(!name.is_empty());
        }
        self.verdict(false);
        MUTATIONS.len() + self.store() + self.seal() + self.scratch()
    }

    /// The store's own files.
    fn store(&self) -> usize {
        let layer = self.layer(FILE).parent().unwrap().to_owned();
        self.mutate(
            &layer,
            &|| {
                rewrite(layer.join("tree"), |mut bytes| {
                    bytes[40] ^= 1;
                    bytes
                })
            },
            &["the layer's list"],
        );
        self.mutate(&layer, &|| fs::remove_file(layer.join("tree")).unwrap(), &["the layer's list"]);
        self.mutate(&layer, &|| fs::write(layer.join("tree"), "").unwrap(), &["the layer's list"]);
        self.mutate(&layer, &|| remove(&layer), &["not built here"]);
        let images = self.home().join("store/images");
        let record = fs::read_dir(&images).unwrap().next().unwrap().unwrap().path();
        self.mutate(
            &images,
            &|| {
                rewrite(record.clone(), |mut bytes| {
                    bytes[60] ^= 1;
                    bytes
                })
            },
            &["not built here"],
        );
        self.mutate(&images, &|| fs::remove_file(&record).unwrap(), &["not built here"]);
        6
    }

    /// A seal that was bent, with the sum of the lock repaired.
    fn seal(&self) -> usize {
        let path = self.project().join("cavrith.lock");
        let text = fs::read_to_string(&path).unwrap();
        let zeros = "0".repeat(64);
        let forge = |change: &dyn Fn(&mut Seal), expected: &[&str]| {
            let mut lock = Lock::parse(&text).unwrap();
            let seal = lock.seal.as_mut().unwrap();
            change(seal);
            (seal.words, seal.workspace) = (seal.image.spoken(), seal.setup.fingerprint(&seal.image));
            let change = || fs::write(&path, lock.to_text()).unwrap();
            self.mutate(&path, &change, expected);
        };
        forge(&|seal| seal.image = zeros.parse().unwrap(), &["different    image", "babab-babab"]);
        forge(&|seal| seal.layers[0].tree = zeros.parse().unwrap(), &["different    image", "    layer toolchain"]);
        forge(&|seal| drop(seal.layers.pop()), &["different    image", "expected  nothing"]);
        let more = || SealedLayer { name: "step \"evil\"".to_owned(), tree: zeros.parse().unwrap() };
        forge(&|seal| seal.layers.push(more()), &["different    image", "    layer step \"evil\""]);
        forge(
            &|seal| drop(seal.setup.env.insert("EVIL".to_owned(), "1".to_owned())),
            &["different    environment", "    EVIL"],
        );
        forge(&|seal| drop(seal.setup.env.remove("LANG")), &["different    environment", "    LANG"]);
        forge(&|seal| seal.setup.ports.clear(), &["different    ports", "    site"]);
        forge(&|seal| seal.setup.host_name = "evil".to_owned(), &["different    account", "    host name"]);
        forge(&|seal| seal.setup.settings.push(' '), &["different    settings"]);
        forge(&|seal| seal.setup.folders.clear(), &["different    folders", "    /code"]);
        forge(&|seal| seal.setup.extensions.clear(), &["different    extensions"]);
        forge(&|seal| seal.probes[0].answer = "evil 9".to_owned(), &["different    toolchain probes", "evil 9"]);
        forge(&|seal| seal.spec = zeros.parse().unwrap(), &["different    spec and lock", "the spec's meaning"]);
        forge(&|seal| seal.pins = zeros.parse().unwrap(), &["different    spec and lock", "the lock's pins"]);
        forge(&|seal| seal.rules = 1, &["different    spec and lock", "made by the rules of version 1"]);
        15
    }

    /// What was changed in the workspace in use; what it is used for is not a difference.
    fn scratch(&self) -> usize {
        self.ok(&[
            "run",
            "-q",
            "--",
            "sh",
            "-c",
            "echo tide > ~/notes; mkdir ~/.cache; echo x > ~/.cache/x; echo x > /tmp/x",
        ]);
        self.verdict(false);
        let as_root = |script: &str| self.ok(&["run", "-q", "--account", "root", "--", "sh", "-c", script]);
        as_root("mkdir -p /var/log /var/lib/tide; echo x > /var/log/x; echo x > /var/lib/tide/x; echo x > /srv/new");
        self.verdict(false);
        let changes: &[(&str, &str, &str)] = &[
            ("echo x:x:0:0::/:/bin/sh >> /etc/passwd", "account x", "new, number 0"),
            // A second line of a name that is there hides nothing.
            ("echo root:x:0:0::/root:/bin/evil >> /etc/passwd", "/etc/passwd", "size"),
            ("sed -i s,/bin/sh$,/bin/evil, /etc/passwd", "account crew", "shell /bin/sh → /bin/evil"),
            ("echo crew:evil:1:::::: > /etc/shadow", "account crew", "its password was set"),
            ("echo evil:x:0:crew >> /etc/group", "account evil", "new group 0"),
            ("echo 'export EVIL=1' > /etc/environment", "variable EVIL in /etc/environment", "here      1"),
            ("echo 'EVIL=$(date)' > /etc/profile", "/etc/profile", "nobody put there"),
            (
                "mkdir -p /opt/evil; echo x > /opt/evil/a; echo x > /opt/evil/b",
                "/opt/evil",
                "2 files that nobody put there",
            ),
            ("mkdir -p /opt/empty", "/opt/empty", "0 files"),
            ("ln -s /tmp /usr/evil", "/usr/evil", "nobody put there"),
            ("mkfifo /etc/evil.pipe", "/etc/evil.pipe", "nobody put there"),
            ("chown 1000:1000 /bin/busybox", "/bin/busybox", "owner 1000"),
            ("sed -i s/quill/quilt/ /opt/quill/2.4.1/bin/quill", "/opt/quill/2.4.1/bin/quill", "content"),
            ("chmod 4755 /bin/busybox", "/bin/busybox", "mode 4755"),
            ("rm /bin/vi", "/bin/vi", "to be there"),
            ("rm /bin/ls; ln -s /bin/evil /bin/ls", "/bin/ls", "target /bin/evil"),
            ("mkdir -p /usr/bin; echo x > /usr/bin/python3", "/usr/bin/python3", "nobody put there"),
            ("echo x > /etc/evil.conf", "/etc/evil.conf", "nobody put there"),
            ("rm /opt/gauge/0.9.3/bin/gauge", "/opt/gauge/0.9.3/bin/gauge", "to be there"),
            ("chmod 777 /etc", "/etc", "mode 0777"),
            ("echo evil > /var/lib/dpkg/status", "/var/lib/dpkg/status", "size"),
        ];
        for (number, (script, path, words)) in changes.iter().enumerate() {
            // Where there is one owner only, there is none to change.
            if script.starts_with("chown") && self.kind == Kind::Single {
                continue;
            }
            if number % 10 == 9 {
                // Only so many are shown at once.
                self.ok(&["stop", "-q"]);
                self.ok(&["drop", "--yes", "-q"]);
            }
            as_root(script);
            let said = self.verdict(true);
            assert!(said.contains("different    scratch") && said.contains(words), "{:?}, {script}: {said}", self.kind);
            assert!(said.contains(&format!("    {path}")), "{:?}, {script}: {said}", self.kind);
        }
        // It is found whether the workspace runs or not, and gone with the scratch.
        self.ok(&["stop", "-q"]);
        assert!(self.verdict(true).contains("changes by hand"));
        self.ok(&["drop", "--yes", "-q"]);
        assert!(self.verdict(false).contains("no workspace of this project is there yet"));
        changes.len()
    }
}

/// A copy with everything that a filesystem keeps of it.
pub fn copy(from: &Path, to: &Path) {
    let status = Command::new("cp").args(["-a", "--"]).args([from, to]).status().unwrap();
    assert!(status.success());
}

pub fn remove(path: &Path) {
    let Ok(meta) = path.symlink_metadata() else { return };
    if meta.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) }.unwrap();
}

#[test]
fn every_change_is_found_and_named_for_root() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    assert!(Desk::new(Kind::Root).all() >= 70);
}

#[test]
fn every_change_is_found_and_named_for_a_member_with_a_range() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    assert!(Desk::new(Kind::Range).all() >= 70);
}

#[test]
fn every_change_is_found_and_named_for_a_member_with_a_single_id() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    assert!(Desk::new(Kind::Single).all() >= 70);
}

#[test]
fn an_untouched_workspace_is_never_accused_while_it_works() {
    let team = Team::locked();
    team.add(
        "[[steps]]\nname = \"fill\"\nat = \"first-start\"\naccount = \"root\"\nrun = \"mkdir -p /etc/tide; echo x > /etc/tide/conf; echo x >> /etc/passwd-notes; sed -i s/crew:x/crew:y/ /etc/group\"\n[services.busy]\nrun = \"mkdir -p ~/log; while :; do date >> ~/log/busy; rm -rf ~/spool; mkdir ~/spool; touch ~/spool/a ~/spool/b; done\"\n",
    );
    team.ok(&["lock", "-q"]);
    team.ok(&["seal", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    for round in 0..8 {
        let output = team.run(&["verify"]);
        assert!(output.status.success(), "round {round}: {}", told(&output));
    }
    team.ok(&["stop", "-q"]);
    assert!(team.ok(&["verify"]).contains("same         scratch"));
}

#[test]
fn what_cannot_be_measured_is_said_to_be_so_and_accuses_nobody() {
    let team = Team::sealed();
    team.build();
    let mut command = Command::new("unshare");
    if !nix::unistd::Uid::effective().is_root() {
        command.args(["--user", "--map-root-user"]);
    }
    command.args(["--net", crate::team::PROGRAM, "verify"]).current_dir(team.project());
    let output = command.env("CAVRITH_HOME", team.home()).output().unwrap();
    let said = told(&output);
    assert_eq!(output.status.code(), Some(3), "{said}");
    assert!(
        said.contains("not measured ports") && said.contains("this machine's own loopback carries nothing"),
        "{said}"
    );
    assert!(said.contains("no difference from what was sealed") && !said.contains("different "), "{said}");
}
