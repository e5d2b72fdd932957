//! Control groups: limits for everything inside together, its use, and freezing it at once.
//!
//! Version 2 is the normal case (the kernel's documentation, cgroup-v2): a group of our own beneath one that was
//! delegated to us, or, for root, beneath the hierarchy's root. Where controllers are still in the hierarchies of
//! version 1, a group in each of those is used. Where neither may be written, there is none, and anyone who limits
//! something has to do it by process.

use std::fs;
use std::io;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

/// What everything inside may use, all together; what is left out is not limited.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct GroupLimits {
    /// Bytes of memory.
    pub memory: Option<u64>,
    /// Processors.
    pub cpus: Option<u32>,
    /// Processes.
    pub processes: Option<u32>,
}

/// What of the limits is kept by groups.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Kept {
    /// Memory is.
    pub memory: bool,
    /// Processors are.
    pub cpus: bool,
    /// Processes are.
    pub processes: bool,
    /// All of it can be frozen at once.
    pub freezing: bool,
}

/// The groups of one workspace. They are removed when this value is dropped, if nothing is in them any more.
#[derive(Debug, Default)]
pub struct Groups {
    /// In the unified hierarchy.
    unified: Option<PathBuf>,
    /// In a hierarchy of version 1, by controller.
    single: Vec<(&'static str, PathBuf)>,
    /// What they keep.
    pub kept: Kept,
}

const CONTROLLERS: [&str; 4] = ["memory", "cpu", "pids", "freezer"];
/// Microseconds in which processor time is shared out.
const PERIOD: u64 = 100_000;

/// Makes a group and those above it. Nobody else may make any in them, whatever this process's umask lets them.
fn directories(path: &Path) -> io::Result<()> {
    fs::DirBuilder::new().recursive(true).mode(0o755).create(path)
}

impl Groups {
    /// Makes groups for `name` where this machine lets us. `root` is `/sys/fs/cgroup`, and `own` the text of
    /// `/proc/self/cgroup`. `announce` hears of each directory before it is made, so that anyone who is killed in
    /// between leaves none that nobody knows of.
    pub fn make(root: &Path, own: &str, name: &str, announce: &dyn Fn(&Path)) -> Self {
        let mut groups = Self::default();
        groups.make_unified(root, own, name, announce);
        for controller in CONTROLLERS {
            let dir = root.join(controller);
            // A hierarchy of version 1 that has the controller; version 2 has no file of this name.
            if dir.join("tasks").exists() && !groups.keeps(controller) {
                let own = dir.join("cavrith").join(name);
                announce(&own);
                if directories(&own).is_ok() {
                    groups.single.push((controller, own));
                }
            }
        }
        let has = |controller: &str| groups.single.iter().any(|(known, _)| *known == controller);
        groups.kept.memory |= has("memory");
        groups.kept.cpus |= has("cpu");
        groups.kept.processes |= has("pids");
        groups.kept.freezing |= has("freezer");
        groups
    }

    /// As [`Self::make`], on this machine.
    pub fn make_here(name: &str, announce: &dyn Fn(&Path)) -> Self {
        let own = fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
        Self::make(Path::new("/sys/fs/cgroup"), &own, name, announce)
    }

    fn keeps(&self, controller: &str) -> bool {
        match controller {
            "memory" => self.kept.memory,
            "cpu" => self.kept.cpus,
            "pids" => self.kept.processes,
            _ => self.kept.freezing,
        }
    }

    fn make_unified(&mut self, root: &Path, own: &str, name: &str, announce: &dyn Fn(&Path)) {
        let hierarchy = [root.to_owned(), root.join("unified")];
        let Some(hierarchy) = hierarchy.into_iter().find(|dir| dir.join("cgroup.subtree_control").exists()) else {
            return;
        };
        let ours = own.lines().find_map(|line| line.strip_prefix("0::/")).unwrap_or_default();
        // A group that has processes cannot hand out controllers, so ours lies beside our own process's, beneath the
        // nearest group that we may write to (cgroup-v2, "No Internal Process Constraint").
        let mut above = hierarchy.join(ours);
        // Our own process's group can hand out nothing, unless it is the hierarchy's root, for which that does not
        // hold.
        if above != hierarchy {
            above.pop();
        }
        loop {
            let beneath = if above == hierarchy { above.join("cavrith") } else { above.clone() };
            // A process is moved only by who may write to the nearest group above both places (cgroup-v2, "Delegation
            // Containment"), whoever made the one that it is to go to.
            let may_move = fs::OpenOptions::new().write(true).open(above.join("cgroup.procs")).is_ok();
            if may_move && directories(&beneath).is_ok() {
                for dir in [&above, &beneath] {
                    for controller in ["memory", "cpu", "pids"] {
                        // One that cannot be handed out is not kept, which is seen below.
                        let _ = fs::write(dir.join("cgroup.subtree_control"), format!("+{controller}"));
                    }
                }
                let group = beneath.join(format!("cavrith-{name}"));
                announce(&group);
                let made = group.is_dir() || directories(&group).is_ok();
                if made && fs::OpenOptions::new().write(true).open(group.join("cgroup.procs")).is_ok() {
                    let has = |file: &str| group.join(file).exists();
                    self.kept = Kept {
                        memory: has("memory.max"),
                        cpus: has("cpu.max"),
                        processes: has("pids.max"),
                        freezing: has("cgroup.freeze"),
                    };
                    self.unified = Some(group);
                    return;
                }
                let _ = fs::remove_dir(&group);
            }
            if above == hierarchy || !above.pop() {
                return;
            }
        }
    }

    /// Directories that the first process has to be written into.
    pub fn dirs(&self) -> Vec<PathBuf> {
        self.unified.iter().cloned().chain(self.single.iter().map(|(_, dir)| dir.clone())).collect()
    }

    fn single(&self, controller: &str) -> Option<&PathBuf> {
        self.single.iter().find(|(known, _)| *known == controller).map(|(_, dir)| dir)
    }

    /// Sets limits, or takes them away where there is none.
    ///
    /// # Errors
    /// When a group that should keep one refuses it.
    pub fn limit(&self, limits: GroupLimits) -> io::Result<()> {
        let or_max = |value: Option<String>| value.unwrap_or_else(|| "max".to_owned());
        let quota = limits.cpus.map(|cpus| u64::from(cpus) * PERIOD);
        if let Some(group) = &self.unified {
            if self.single("memory").is_none() && self.kept.memory {
                put(group, "memory.max", &or_max(limits.memory.map(|bytes| bytes.to_string())))?;
            }
            if self.single("cpu").is_none() && self.kept.cpus {
                put(group, "cpu.max", &format!("{} {PERIOD}", or_max(quota.map(|quota| quota.to_string()))))?;
            }
            if self.single("pids").is_none() && self.kept.processes {
                put(group, "pids.max", &or_max(limits.processes.map(|count| count.to_string())))?;
            }
        }
        if let Some(dir) = self.single("memory") {
            put(dir, "memory.limit_in_bytes", &limits.memory.map_or("-1".to_owned(), |bytes| bytes.to_string()))?;
        }
        if let Some(dir) = self.single("cpu") {
            put(dir, "cpu.cfs_period_us", &PERIOD.to_string())?;
            put(dir, "cpu.cfs_quota_us", &quota.map_or("-1".to_owned(), |quota| quota.to_string()))?;
        }
        if let Some(dir) = self.single("pids") {
            put(dir, "pids.max", &or_max(limits.processes.map(|count| count.to_string())))?;
        }
        Ok(())
    }

    /// Freezes everything in the groups, or lets it go on. Returns when it is so.
    ///
    /// # Errors
    /// When the group refuses, or does not come to rest within some seconds.
    pub fn freeze(&self, frozen: bool) -> io::Result<()> {
        if let Some(dir) = self.single("freezer") {
            let word = if frozen { "FROZEN" } else { "THAWED" };
            put(dir, "freezer.state", word)?;
            return until(|| {
                let state = fs::read_to_string(dir.join("freezer.state")).unwrap_or_default();
                if state.trim() == "FREEZING" && frozen {
                    // Version 1 does not go on by itself when something was in the way (freezer-subsystem, the kernel's
                    // documentation).
                    let _ = put(dir, "freezer.state", word);
                }
                state.trim() == word
            });
        }
        let group = self.unified.as_ref().ok_or(io::ErrorKind::Unsupported)?;
        put(group, "cgroup.freeze", if frozen { "1" } else { "0" })?;
        let wanted = if frozen { "frozen 1" } else { "frozen 0" };
        until(|| fs::read_to_string(group.join("cgroup.events")).is_ok_and(|text| text.contains(wanted)))
    }

    /// Bytes of memory that are used, as far as a group knows.
    pub fn memory(&self) -> Option<u64> {
        self.number("memory.current", "memory", "memory.usage_in_bytes")
    }

    /// Milliseconds of processor time that were used since the groups were made.
    pub fn cpu_millis(&self) -> Option<u64> {
        if let Some(group) = &self.unified
            && let Ok(text) = fs::read_to_string(group.join("cpu.stat"))
            && let Some(line) = text.lines().find_map(|line| line.strip_prefix("usage_usec "))
            && self.kept.cpus
            && self.single("cpu").is_none()
        {
            return Some(line.trim().parse::<u64>().ok()? / 1000);
        }
        // Of version 1 only the accounting controller knows, which is often mounted together with that of the limits.
        let text = fs::read_to_string(self.single("cpu")?.join("cpuacct.usage")).ok()?;
        Some(text.trim().parse::<u64>().ok()? / 1_000_000)
    }

    /// The limits that hold at this moment, read back; what is not kept by a group, or not limited, is left out.
    pub fn held(&self) -> GroupLimits {
        let memory = self.number("memory.max", "memory", "memory.limit_in_bytes");
        let processes = self.number("pids.max", "pids", "pids.max").and_then(|count| u32::try_from(count).ok());
        let text = |dir: &Path, file: &str| fs::read_to_string(dir.join(file)).unwrap_or_default();
        let share = match (self.single("cpu"), &self.unified) {
            (Some(dir), _) => format!("{} {}", text(dir, "cpu.cfs_quota_us").trim(), text(dir, "cpu.cfs_period_us")),
            (None, Some(group)) => text(group, "cpu.max"),
            (None, None) => String::new(),
        };
        let mut numbers = share.split_whitespace().map(str::parse::<u64>);
        let cpus = match (numbers.next(), numbers.next()) {
            (Some(Ok(quota)), Some(Ok(period))) if period > 0 => u32::try_from(quota / period).ok(),
            _ => None,
        };
        // Version 1 says "no limit" by the largest number that fits a page.
        GroupLimits { memory: memory.filter(|bytes| *bytes < 1 << 60), cpus, processes }
    }

    fn number(&self, file: &str, controller: &str, single: &str) -> Option<u64> {
        let path = match self.single(controller) {
            Some(dir) => dir.join(single),
            None => self.unified.as_ref()?.join(file),
        };
        fs::read_to_string(path).ok()?.trim().parse().ok()
    }
}

impl Drop for Groups {
    fn drop(&mut self) {
        remove(&self.dirs());
    }
}

/// Removes groups whose workspace has ended. What is frozen in them is let go, so that it can end. True when all are
/// gone.
pub fn remove(dirs: &[PathBuf]) -> bool {
    for dir in dirs {
        // One of them is right, the other is not there.
        let _ = put(dir, "freezer.state", "THAWED");
        let _ = put(dir, "cgroup.freeze", "0");
        // What has just ended is in its group for some moments more.
        for _ in 0..40 {
            match fs::remove_dir(dir) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => {
                    std::thread::sleep(std::time::Duration::from_millis(25));
                }
                _ => break,
            }
        }
        // The one above is made for all workspaces of this machine, and goes with the last of them.
        if let Some(above) = dir.parent().filter(|above| above.file_name().is_some_and(|name| name == "cavrith")) {
            let _ = fs::remove_dir(above);
        }
    }
    dirs.iter().all(|dir| !dir.exists())
}

fn put(dir: &Path, file: &str, text: &str) -> io::Result<()> {
    let path = dir.join(file);
    if !path.exists() {
        return Err(io::ErrorKind::NotFound.into());
    }
    fs::write(&path, text).map_err(|error| io::Error::new(error.kind(), format!("{}: {error}", path.display())))
}

fn until(is_so: impl Fn() -> bool) -> io::Result<()> {
    for _ in 0..500 {
        if is_so() {
            return Ok(());
        }
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    Err(io::ErrorKind::TimedOut.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A folder that looks like a unified hierarchy; the kernel makes a group's files, here the test does.
    fn unified() -> (tempfile::TempDir, PathBuf) {
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("cgroup.subtree_control"), "").unwrap();
        let group = dir.path().join("user/app/cavrith-timetable-1");
        fs::create_dir_all(&group).unwrap();
        for above in ["", "user", "user/app"] {
            fs::write(dir.path().join(above).join("cgroup.subtree_control"), "").unwrap();
            fs::write(dir.path().join(above).join("cgroup.procs"), "").unwrap();
        }
        for file in ["cgroup.procs", "cgroup.freeze", "memory.max", "cpu.max", "pids.max", "memory.current"] {
            fs::write(group.join(file), "0").unwrap();
        }
        (dir, group)
    }

    #[test]
    fn limits_are_written_into_a_delegated_group_of_the_unified_hierarchy() {
        let (dir, group) = unified();
        let groups = Groups::make(dir.path(), "1:name=x:/\n0::/user/app/terminal.scope\n", "timetable-1", &|_| ());
        assert_eq!(groups.kept, Kept { memory: true, cpus: true, processes: true, freezing: true });
        assert_eq!(groups.dirs(), std::slice::from_ref(&group));
        groups.limit(GroupLimits { memory: Some(1 << 30), cpus: Some(2), processes: None }).unwrap();
        let read = |file: &str| fs::read_to_string(group.join(file)).unwrap();
        assert_eq!(
            (read("memory.max"), read("cpu.max"), read("pids.max")),
            ("1073741824".to_owned(), "200000 100000".to_owned(), "max".to_owned())
        );
        assert_eq!(groups.held(), GroupLimits { memory: Some(1 << 30), cpus: Some(2), processes: None });
        fs::write(group.join("memory.current"), "4096\n").unwrap();
        assert_eq!(groups.memory(), Some(4096));
        assert_eq!(fs::read_to_string(dir.path().join("user/app/cgroup.subtree_control")).unwrap(), "+pids");
    }

    #[test]
    fn a_group_of_the_real_unified_hierarchy_lies_beside_our_own_and_is_frozen() {
        let root = Path::new("/sys/fs/cgroup");
        let hierarchy = [root.to_owned(), root.join("unified")];
        let hierarchy = hierarchy.into_iter().find(|dir| dir.join("cgroup.subtree_control").exists());
        let scope = format!("cavrith-test-{}", std::process::id());
        // Only an administrator may make a group at the top.
        let Some(top) = hierarchy.map(|dir| dir.join(&scope)).filter(|top| fs::create_dir(top).is_ok()) else { return };
        let own = top.join("app/terminal.scope");
        fs::create_dir_all(&own).unwrap();
        let sleep = || std::process::Command::new("sleep").arg("3600").spawn().unwrap();
        // As with a login of systemd: our own group has processes, and can hand out nothing.
        let (mut ours, mut inside) = (sleep(), sleep());
        fs::write(own.join("cgroup.procs"), ours.id().to_string()).unwrap();
        let groups = Groups::make(root, &format!("0::/{scope}/app/terminal.scope\n"), "timetable-1", &|_| ());
        let group = top.join("app/cavrith-timetable-1");
        assert!(groups.dirs().contains(&group) && groups.kept.freezing);
        fs::write(group.join("cgroup.procs"), inside.id().to_string()).unwrap();
        let is = |what: &str| fs::read_to_string(group.join("cgroup.events")).unwrap().contains(what);
        groups.freeze(true).unwrap();
        assert!(is("frozen 1") && is("populated 1"));
        groups.freeze(false).unwrap();
        assert!(is("frozen 0"));
        for child in [&mut ours, &mut inside] {
            child.kill().unwrap();
            child.wait().unwrap();
        }
        drop(groups);
        assert!(!group.exists());
        for dir in [own, top.join("app"), top] {
            fs::remove_dir(dir).unwrap();
        }
    }

    /// Folders that look like hierarchies of version 1, with the files of a group in them.
    fn single(controllers: &[&str]) -> tempfile::TempDir {
        let dir = tempfile::tempdir().unwrap();
        for controller in controllers {
            let group = dir.path().join(controller).join("cavrith/timetable-1");
            fs::create_dir_all(&group).unwrap();
            fs::write(dir.path().join(controller).join("tasks"), "").unwrap();
            for file in [
                "memory.limit_in_bytes",
                "memory.usage_in_bytes",
                "cpu.cfs_period_us",
                "cpu.cfs_quota_us",
                "cpuacct.usage",
                "pids.max",
                "freezer.state",
            ] {
                fs::write(group.join(file), "0\n").unwrap();
            }
        }
        dir
    }

    #[test]
    fn limits_are_written_into_hierarchies_of_version_1_as_far_as_there_are_some() {
        let dir = single(&["memory", "cpu", "freezer"]);
        let announced = std::cell::RefCell::new(Vec::new());
        let groups = Groups::make(dir.path(), "4:memory:/x\n", "timetable-1", &|dir| {
            announced.borrow_mut().push(dir.to_owned())
        });
        assert_eq!(groups.kept, Kept { memory: true, cpus: true, processes: false, freezing: true });
        assert_eq!(groups.dirs(), *announced.borrow());
        groups.limit(GroupLimits { memory: Some(1 << 20), cpus: Some(3), processes: Some(7) }).unwrap();
        let path = |controller: &str, file: &str| dir.path().join(controller).join("cavrith/timetable-1").join(file);
        let read = |controller: &str, file: &str| fs::read_to_string(path(controller, file)).unwrap();
        assert_eq!(read("memory", "memory.limit_in_bytes"), "1048576");
        assert_eq!(
            (read("cpu", "cpu.cfs_period_us").as_str(), read("cpu", "cpu.cfs_quota_us").as_str()),
            ("100000", "300000")
        );
        groups.limit(GroupLimits::default()).unwrap();
        assert_eq!(
            (read("memory", "memory.limit_in_bytes").as_str(), read("cpu", "cpu.cfs_quota_us").as_str()),
            ("-1", "-1")
        );
        fs::write(path("memory", "memory.usage_in_bytes"), "8192\n").unwrap();
        fs::write(path("cpu", "cpuacct.usage"), "2500000\n").unwrap();
        assert_eq!((groups.memory(), groups.cpu_millis()), (Some(8192), Some(2)));
        for (frozen, word) in [(true, "FROZEN"), (false, "THAWED")] {
            groups.freeze(frozen).unwrap();
            assert_eq!(read("freezer", "freezer.state"), word);
        }
        fs::write(path("memory", "memory.usage_in_bytes"), "many").unwrap();
        assert_eq!(groups.memory(), None);
        // A value that the kernel refuses is reported, with the file.
        fs::remove_file(path("cpu", "cpu.cfs_quota_us")).unwrap();
        fs::create_dir(path("cpu", "cpu.cfs_quota_us")).unwrap();
        let error = groups.limit(GroupLimits { cpus: Some(1), ..GroupLimits::default() }).unwrap_err().to_string();
        assert!(error.contains("cpu.cfs_quota_us"), "{error}");
    }

    #[test]
    fn groups_are_removed_and_the_one_above_with_the_last() {
        let dir = tempfile::tempdir().unwrap();
        let above = dir.path().join("memory/cavrith");
        let both = [above.join("one-1"), above.join("two-1")];
        both.iter().for_each(|group| fs::create_dir_all(group).unwrap());
        assert!(remove(&both[..1]));
        assert!(above.is_dir());
        assert!(remove(&both));
        assert!(!above.exists() && dir.path().join("memory").is_dir());
        assert!(remove(&[]));
    }

    #[test]
    fn without_a_hierarchy_that_may_be_written_nothing_is_kept() {
        let dir = tempfile::tempdir().unwrap();
        let groups = Groups::make(&dir.path().join("none"), "0::/\n", "timetable-1", &|_| ());
        assert_eq!((groups.kept, groups.dirs().len()), (Kept::default(), 0));
        assert!(groups.freeze(true).is_err());
        groups.limit(GroupLimits { memory: Some(1 << 30), ..GroupLimits::default() }).unwrap();
    }
}
