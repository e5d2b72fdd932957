//! Disks of machines: what is refused, and, with an archive at hand, disks that start.

use std::fs;
use std::io::{Read as _, Write as _};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::owners::Someone;
use crate::team::{Team, told};

#[test]
fn a_disk_needs_a_kernel_and_a_kernel_needs_the_archive() {
    let team = Team::locked();
    let disk = team.dir.path().join("pier.img").display().to_string();
    assert!(team.fails(&["export", "disk", &disk], 2).contains("the spec has no [machine]"));
    let bytes = fs::read(team.project().join("cavrith.lock")).unwrap();
    assert!(!String::from_utf8_lossy(&bytes).contains("machine"), "a lock without one is as it was");
    team.add("[machine]\nmemory = \"2 GiB\"");
    let told = team.fails(&["check"], 1);
    assert!(told.contains("`machine` takes its kernel from the Debian archive"), "{told}");
    let text = "spec = 1\n[workspace]\nname = \"pier\"\n[base]\ndebian = \"trixie\"\npackages = []\n[machine]\nmemory = \"much\"\ncpus = 0\n";
    fs::write(team.project().join("cavrith.toml"), text).unwrap();
    let told = team.fails(&["check"], 1);
    for named in ["much", "cpus"] {
        assert!(told.contains(named), "{named}: {told}");
    }
}

/// A machine under software emulation, with its console.
struct Machine {
    process: std::process::Child,
    console: std::sync::mpsc::Receiver<Vec<u8>>,
    said: Vec<u8>,
}

impl Machine {
    fn new(disk: &Path, more: &[&str]) -> Self {
        let mut qemu = Command::new("qemu-system-x86_64");
        qemu.args(["-machine", "q35", "-accel", "tcg,thread=multi", "-m", "512", "-nodefaults", "-no-user-config"]);
        qemu.args(["-display", "none", "-no-reboot", "-serial", "stdio", "-device", "virtio-blk-pci,drive=d"]);
        qemu.arg("-drive").arg(format!("if=none,id=d,format=raw,file={}", disk.display())).args(more);
        let mut process = qemu.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let mut output = process.stdout.take().unwrap();
        let (to, console) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(count @ 1..) = output.read(&mut buffer) {
                if to.send(buffer[..count].to_vec()).is_err() {
                    break;
                }
            }
        });
        Self { process, console, said: Vec::new() }
    }

    /// Waits until the console says something.
    fn wait_for(&mut self, what: &str) -> String {
        let begun = Instant::now();
        loop {
            let text = String::from_utf8_lossy(&self.said).into_owned();
            if text.contains(what) {
                return text;
            }
            assert!(begun.elapsed() < Duration::from_secs(240), "no {what:?} within 240 s: {text}");
            match self.console.recv_timeout(Duration::from_secs(1)) {
                Ok(more) => self.said.extend(more),
                Err(std::sync::mpsc::RecvTimeoutError::Timeout) => {}
                Err(std::sync::mpsc::RecvTimeoutError::Disconnected) => panic!("it ended before {what:?}: {text}"),
            }
        }
    }

    fn type_in(&mut self, line: &str) {
        self.process.stdin.as_mut().unwrap().write_all(format!("{line}\n").as_bytes()).unwrap();
    }

    /// Runs a line in the shell at the console, and gives all that was said until it has ended.
    fn run(&mut self, line: &str) -> String {
        self.wait_for("pier:~$ ");
        self.said.clear();
        // What is typed is shown as well, and must not be taken for the answer.
        self.type_in(&format!("{line}; echo d''one"));
        self.wait_for("done\r\n")
    }

    /// Ends the shell, and with it the machine.
    fn end(mut self) {
        self.type_in("exit");
        self.wait_for("reboot: Power down");
        assert!(self.process.wait().unwrap().success());
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
#[ignore = "needs a mirror of the Debian archive, QEMU and its firmware (ovmf)"]
fn online_a_disk_is_the_same_for_every_kind_of_member_and_starts_by_itself_and_by_hand() {
    let make = || {
        let team = Team::new();
        let spec = "spec = 1\n\n[workspace]\nname = \"pier\"\n\n[base]\ndebian   = \"bookworm\"\npackages = [\"procps\"]\n\n[machine]\ndisk = \"1 GiB\"\n\n[[steps]]\nname = \"a note\"\nat   = \"build\"\nrun  = \"echo low > /srv/tide; ln /srv/tide /srv/again; chown 7:8 /srv/tide\"\n";
        fs::write(team.project().join("cavrith.toml"), spec).unwrap();
        team.ok(&["lock", "-q"]);
        team
    };
    assert!(told(&make().run(&["export", "disk", "-"])).contains("name a file"));
    // All from one lock, since the archive may have moved on.
    let lock = fs::read(make().project().join("cavrith.lock")).unwrap();
    let mut digests = Vec::new();
    let mut kept = None;
    for who in Someone::each(make) {
        fs::write(who.project().join("cavrith.lock"), &lock).unwrap();
        let disk = who.dir().join("pier.img");
        let kernel = who.dir().join("kernel");
        let [disk_text, kernel_text] = [&disk, &kernel].map(|path| path.display().to_string());
        who.ok(&["export", "disk", &disk_text, "--kernel-files", &kernel_text]);
        let again = who.run(&["export", "disk", &disk_text, "--json"]);
        assert!(again.status.success(), "{}: {}", who.kind, told(&again));
        digests.push(String::from_utf8(Command::new("sha256sum").arg(&disk).output().unwrap().stdout).unwrap());
        // Sparse: of a gibibyte for what is written almost nothing takes room.
        let meta = fs::metadata(&disk).unwrap();
        assert!(std::os::unix::fs::MetadataExt::blocks(&meta) * 512 < meta.len() / 2, "{}", who.kind);
        kept = Some((who, disk, kernel));
    }
    let words: Vec<_> = digests.iter().map(|digest| digest.split(' ').next().unwrap()).collect();
    assert!(words.iter().all(|word| word == &words[0]), "{digests:?}");
    let (_who, disk, kernel) = kept.unwrap();
    assert!(Command::new("sgdisk").arg("-v").arg(&disk).output().unwrap().status.success());
    // A kernel that is handed over; what is written stays.
    let command_line = fs::read_to_string(kernel.join("cmdline")).unwrap();
    let (vmlinuz, initrd) = (kernel.join("vmlinuz"), kernel.join("initrd"));
    let by_hand =
        ["-kernel", vmlinuz.to_str().unwrap(), "-initrd", initrd.to_str().unwrap(), "-append", command_line.trim()];
    let mut machine = Machine::new(&disk, &by_hand);
    let said = machine.run("id -u; hostname; cat /srv/tide; stat -c %h:%u:%g /srv/again; echo high > ~/kept; sync");
    for wanted in ["1000\r\n", "pier\r\n", "low\r\n", "2:7:8\r\n"] {
        assert!(said.contains(wanted), "{wanted:?}: {said}");
    }
    machine.end();
    // By itself; killed in the middle of writing.
    let code = "/usr/share/OVMF/OVMF_CODE_4M.fd";
    let vars = disk.with_file_name("vars.fd");
    fs::copy("/usr/share/OVMF/OVMF_VARS_4M.fd", &vars).unwrap();
    let (code, vars) = (
        format!("if=pflash,format=raw,readonly=on,file={code}"),
        format!("if=pflash,format=raw,file={}", vars.display()),
    );
    let by_itself = ["-drive", code.as_str(), "-drive", vars.as_str()];
    let mut machine = Machine::new(&disk, &by_itself);
    assert!(machine.run("cat ~/kept; uname -r").contains("high\r\n"));
    machine.type_in("while :; do echo more >> ~/kept; sync; done");
    std::thread::sleep(Duration::from_secs(2));
    drop(machine);
    let mut machine = Machine::new(&disk, &by_itself);
    assert!(machine.run("head -1 ~/kept; grep -c more ~/kept").contains("high\r\n"));
    machine.end();
}

#[test]
#[ignore = "needs a mirror of the Debian archive, and QEMU"]
fn online_a_root_that_somebody_changed_is_refused_by_the_kernel() {
    let team = Team::new();
    let spec = "spec = 1\n\n[workspace]\nname = \"pier\"\n\n[base]\ndebian   = \"bookworm\"\npackages = [\"procps\"]\n\n[machine]\ndisk   = \"256 MiB\"\nverity = true\n\n[[steps]]\nname = \"tides\"\nat   = \"build\"\nrun  = \"seq -f 'low water %g' 100000 > /srv/tides\"\n";
    fs::write(team.project().join("cavrith.toml"), spec).unwrap();
    team.ok(&["lock", "-q"]);
    let (disk, kernel) = (team.dir.path().join("pier.img"), team.dir.path().join("kernel"));
    team.ok(&["seal", "-q"]);
    team.ok(&["export", "disk", disk.to_str().unwrap(), "--kernel-files", kernel.to_str().unwrap()]);
    let command_line = fs::read_to_string(kernel.join("cmdline")).unwrap();
    // As it was sealed, and no other.
    let lock = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    let sealed = lock.lines().find_map(|line| line.strip_prefix("machine-root = \"")).unwrap().trim_end_matches('"');
    assert!(command_line.contains(&format!(" cavrith.verity={sealed}:")), "{command_line}");

    let (vmlinuz, initrd) = (kernel.join("vmlinuz"), kernel.join("initrd"));
    let by_hand =
        ["-kernel", vmlinuz.to_str().unwrap(), "-initrd", initrd.to_str().unwrap(), "-append", command_line.trim()];
    let mut machine = Machine::new(&disk, &by_hand);
    assert!(machine.run("tail -1 /srv/tides").contains("low water 100000"));
    machine.end();
    let bytes = fs::read(&disk).unwrap();
    let wanted = b"low water 50000\n";
    let at = bytes.windows(wanted.len()).position(|window| window == wanted).unwrap();
    drop(bytes);
    let file = fs::File::options().write(true).open(&disk).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"l0w", at as u64).unwrap();
    let mut machine = Machine::new(&disk, &by_hand);
    let said = machine.run("grep -c w /srv/tides; head -1 /srv/tides");
    assert!(said.contains("Input/output error") && said.contains("low water 1\r\n"), "{said}");
    machine.end();
    // The same disk in another form.
    let packed = team.dir.path().join("pier.qcow2");
    team.ok(&["export", "disk", packed.to_str().unwrap()]);
    assert!(Command::new("qemu-img").args(["check", "-q"]).arg(&packed).output().unwrap().status.success());
    team.ok(&["export", "disk", disk.to_str().unwrap()]);
    let same = Command::new("qemu-img").args(["compare", "-q"]).args([&disk, &packed]).output().unwrap();
    assert!(same.status.success(), "{}", told(&same));
}
