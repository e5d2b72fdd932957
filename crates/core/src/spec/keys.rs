//! Every key of the spec: its type, its meaning, its values, and whether this version carries it out.
//!
//! The reader, the refusal of unknown keys, `docs/spec.md`, `cavrith explain KEY` and the JSON Schema are all made from
//! this one list. In a key's path `*` stands for a name of the writer's choice and `[]` for the entries of a list.

/// What a key's value is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// A text.
    Text,
    /// A whole number.
    Number,
    /// `true` or `false`.
    Flag,
    /// A table with keys of its own.
    Table,
    /// A list of tables.
    Tables,
    /// A list of texts.
    Texts,
    /// A text or a list of texts.
    TextOrTexts,
    /// A text or a table.
    TextOrTable,
    /// A list of texts, or a table of such lists.
    TextsOrLists,
    /// Anything.
    Any,
}

impl Shape {
    /// In words, with its article.
    pub fn words(self) -> &'static str {
        match self {
            Self::Text => "a text",
            Self::Number => "a whole number",
            Self::Flag => "true or false",
            Self::Table => "a table",
            Self::Tables => "a list of tables",
            Self::Texts => "a list of texts",
            Self::TextOrTexts => "a text or a list of texts",
            Self::TextOrTable => "a text or a table",
            Self::TextsOrLists => "a list of texts or a table of them",
            Self::Any => "any value",
        }
    }
}

/// Whether a key has to be there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// It has to be there (when the table it belongs to is).
    Needed,
    /// It may be left out.
    Optional,
}

/// One key.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Its path.
    pub path: &'static str,
    /// What its value is.
    pub shape: Shape,
    /// Whether it has to be there.
    pub state: State,
    /// What it does, in one sentence.
    pub meaning: &'static str,
    /// The only texts that it may be; empty when there is no such list.
    pub values: &'static [&'static str],
    /// What holds when it is left out, in words; empty when nothing does.
    pub default: &'static str,
    /// Lines of a spec that have it; empty when the table it is in shows it.
    pub example: &'static str,
    /// Stands for one thing: an including file's entry replaces an included one, instead of being joined with it.
    pub whole: bool,
}

impl Key {
    const fn values(self, values: &'static [&'static str]) -> Self {
        Self { values, ..self }
    }

    const fn default(self, default: &'static str) -> Self {
        Self { default, ..self }
    }

    const fn example(self, example: &'static str) -> Self {
        Self { example, ..self }
    }

    const fn whole(self) -> Self {
        Self { whole: true, ..self }
    }
}

const fn key(path: &'static str, shape: Shape, state: State, meaning: &'static str) -> Key {
    Key { path, shape, state, meaning, values: &[], default: "", example: "", whole: false }
}

use Shape::{Any, Flag, Number, Table, Tables, Text, TextOrTable, TextOrTexts, Texts, TextsOrLists};
use State::{Needed, Optional};

/// All keys, a table before what is in it.
pub const KEYS: &[Key] = &[
    key("spec", Number, Needed, "the version of this format; 1").example("spec = 1"),
    key("include", Texts, Optional, "other files whose entries this spec takes over; what stands here wins over what stands there")
        .example("include = [\"../team/common.toml\"]"),
    key("workspace", Table, Needed, "what the workspace is called and who works in it")
        .example("[workspace]\nname    = \"timetable\"\nabout   = \"Sailing times for Brindle Ferry\"\naccount = \"crew\"\nproject = \"/code\""),
    key("workspace.name", Text, Needed, "its name, and its host name inside"),
    key("workspace.about", Text, Optional, "one line for people"),
    key("workspace.account", Text, Optional, "the ordinary user inside").default("crew"),
    key("workspace.project", Text, Optional, "where the project's folder appears inside; empty for nowhere").default("/code"),
    key("workspace.network", Text, Optional, "whether the workspace reaches other machines: out or none").values(&["out", "none"]).default("out"),
    key("workspace.target", Text, Optional, "what the workspace runs in: namespaces of the member's kernel, or a virtual machine as [machine] says")
        .values(&["namespaces", "machine"])
        .default("namespaces")
        .example("[workspace]\nname   = \"timetable\"\ntarget = \"machine\"\n\n[base]\ndebian   = \"trixie\"\npackages = [\"python3\"]\n\n[machine]\nmemory = \"2 GiB\""),
    key("workspace.home", Text, Optional, "whether the account's home goes along to the next image: kept, or fresh for the image's own each time").values(&["kept", "fresh"]).default("kept"),
    key("workspace.path", Texts, Optional, "directories in which programs are looked for before those of toolchains and of the system")
        .example("[workspace]\nname = \"timetable\"\npath = [\"/opt/harbour/bin\"]"),
    key("workspace.variant", Text, Optional, "the variant that commands mean when none is named; the main part alone is then only what all have in common")
        .default("main, the main part"),
    key("workspace.host", Table, Optional, "what a member's machine must offer: start says what is missing before anything is built")
        .example("[workspace.host]\nmemory     = \"4 GiB\"\nprocessors = 2\ndisk       = \"10 GiB\"\nkernel     = \"5.15\""),
    key("workspace.host.memory", Text, Optional, "a whole number and MiB or GiB").default("any"),
    key("workspace.host.processors", Number, Optional, "how many processors").default("any"),
    key("workspace.host.disk", Text, Optional, "what has to be free before the image is built: a whole number and MiB or GiB").default("any"),
    key("workspace.host.kernel", Text, Optional, "the oldest kernel, as two numbers: \"5.15\"").default("any that sandboxes work on"),
    key("workspace.host.architectures", Texts, Optional, "architectures, as uname -m has them: x86_64, aarch64 …").default("any"),
    key("depots", Table, Optional, "depots that packages, toolchains and extensions come from, by name")
        .example("[depots]\nharbour = { path = \"../depot\" }\nwharf   = { url = \"https://depot.brindle.example/\" }"),
    key("depots.*", Table, Optional, "one depot: a path or a url").whole(),
    key("depots.*.path", Text, Optional, "the depot's folder, relative to the spec"),
    key("depots.*.url", Text, Optional, "the depot's address on the web (http or https); its depot.toml lies right beneath"),
    key("base", Table, Needed, "the root that everything else lies on; exactly one origin")
        .whole()
        .example("[base]\ndepot    = \"harbour\"\npackages = [\"busybox-static\"]"),
    key("base.debian", Text, Optional, "origin: a suite of the Debian archive, by its name").example(
        "[base]\ndebian   = \"bookworm\"\npackages = [\"git\", \"postgresql (>= 15)\"]",
    ),
    key("base.extra", Texts, Optional, "with debian: suites beside it, by what is added to its name")
        .default("updates and security"),
    key("base.components", Texts, Optional, "with debian: components of the suites").default("main"),
    key("base.architecture", Text, Optional, "with debian: the architecture of the packages").default("amd64"),
    key("base.recommended", Flag, Optional, "with debian: true takes what packages recommend, too").default("false"),
    key("base.left-out", Texts, Optional, "with debian: what packages' scripts make at random, by absolute paths: it is not in the image; of a directory, what is in it")
        .example("[base]\ndebian   = \"bookworm\"\npackages = [\"slapd\"]\nleft-out = [\"/var/lib/ldap\"]\n\n[[steps]]\nname    = \"begin the directory\"\nat      = \"first-start\"\naccount = \"root\"\nrun     = \"dpkg-reconfigure -f noninteractive slapd\""),
    key("base.keep", Texts, Optional, "with debian: the image has only these packages and what they need, without documentation, and without shell and package manager unless they are named")
        .default("everything")
        .example("[base]\ndebian   = \"bookworm\"\npackages = [\"nodejs\", \"build-essential\"]\n\n[variants.release.base]\nkeep = [\"nodejs\"]"),
    key("base.depot", Text, Optional, "origin: packages of this depot"),
    key("base.packages", Texts, Optional, "with depot or debian: the names of the packages; with debian each may name versions, in brackets"),
    key("base.archive", Table, Optional, "origin: one archive of a whole root, by path or url")
        .whole()
        .example("[base]\narchive = { path = \"roots/small.tar.xz\" }"),
    key("base.archive.path", Text, Optional, "the archive (tar; plain or gz, xz, zst), relative to the spec"),
    key("base.archive.url", Text, Optional, "the archive's address on the web"),
    key("base.archive.sha256", Text, Optional, "its SHA-256; the lock fills it in when it is left out"),
    key("base.archive.strip", Number, Optional, "how many leading directories to drop from its paths").default("0"),
    key("base.oci", TextOrTable, Optional, "origin: an OCI image, by its reference in a registry or by the path of a layout")
        .whole()
        .example("[base]\noci = { path = \"images/pier\", tag = \"2.1\" }"),
    key("base.oci.reference", Text, Optional, "the image in a registry: registry.example/team/base:1.2, or with @sha256:… for ever the same"),
    key("base.oci.path", Text, Optional, "an OCI image layout, a folder or a tar archive of one, relative to the spec"),
    key("base.oci.tag", Text, Optional, "with path: which of the layout's images").default("the only one"),
    key("base.oci.platform", Text, Optional, "operating system and architecture").default("linux/amd64"),
    key("toolchains", Table, Optional, "toolchains by name, each with a version or a table").example(
        "[toolchains]\nquill = \"2.4\"                  # the newest 2.4.x\ngauge = { version = \"0.9.3\", also = [\"0.8\"], parts = [\"formatter\"] }",
    ),
    key("toolchains.*", TextOrTable, Optional, "a version, or its beginning: the newest that goes on from it is taken").whole(),
    key("toolchains.*.version", Text, Needed, "the version, or its beginning; its programs are found by name"),
    key("toolchains.*.also", Texts, Optional, "further versions that lie beside it; their programs are found by their path only"),
    key("toolchains.*.depot", Text, Optional, "the depot it has to come from").default("any"),
    key("toolchains.*.parts", TextsOrLists, Optional, "which of the depot's optional parts to take; with from = \"base\" a table: packages by the part that they make")
        .default("all of them"),
    key("toolchains.*.parts.*", Texts, Optional, "with from = \"base\": the packages that make this part"),
    key("toolchains.*.from", Text, Optional, "where it comes from: a depot, packages of the base, or one archive")
        .values(&["depot", "base", "archive"])
        .default("depot")
        .example(
            "[base]\ndebian = \"bookworm\"\n\n[toolchains.rust]\nfrom     = \"base\"\nversion  = \"1.63\"\npackages = [\"rustc\", \"cargo\"]\nparts    = { formatter = [\"rustfmt\"], linter = [\"rust-clippy\"] }",
        ),
    key("toolchains.*.packages", Texts, Optional, "with from = \"base\": the packages; the first one's version is the toolchain's"),
    key("toolchains.*.path", Text, Optional, "with from = \"archive\": the archive (tar or zip), relative to the spec"),
    key("toolchains.*.url", Text, Optional, "with from = \"archive\": the archive's address on the web").example(
        "[toolchains.sextant]\nfrom    = \"archive\"\nversion = \"1.2.0\"\nurl     = \"https://files.brindle.example/sextant-1.2.0.tar.gz\"\nstrip   = 1",
    ),
    key("toolchains.*.sha256", Text, Optional, "with from = \"archive\": its SHA-256; the lock fills it in when it is left out"),
    key("toolchains.*.strip", Number, Optional, "with from = \"archive\": how many leading directories to drop from its paths").default("0"),
    key("toolchains.*.place", Text, Optional, "with from = \"archive\": where it lies inside").default("/opt/NAME/VERSION"),
    key("toolchains.*.programs", Texts, Optional, "with from = \"archive\": directories in it whose programs are found by name").default("bin"),
    key("toolchains.*.probe", TextOrTexts, Optional, "with from = \"base\" or \"archive\": the command that tells its version")
        .default("--version of its first package's name, or of its own name"),
    key("toolchains.*.answer", Text, Optional, "with from = \"base\" or \"archive\": what the probe has to answer")
        .default("anything that has the version in it"),
    key("env", Table, Optional, "environment variables of the workspace and of the steps")
        .example("[env]\nSITE_PORT = \"8080\"\nSITE_URL  = \"http://localhost:${SITE_PORT}/\""),
    key("env.*", Text, Optional, "the value of one variable; ${NAME} stands for another entry, $${ for ${ itself"),
    key("folders", Tables, Optional, "folders of the member's disk that appear inside")
        .example("[[folders]]\noutside = \".\"\ninside  = \"/code\"\nexcept  = [\"out\"]"),
    key("folders[].outside", Text, Optional, "with mode live or synced: the folder on the member's disk, relative to the spec"),
    key("folders[].inside", Text, Needed, "where it appears"),
    key("folders[].mode", Text, Optional, "live: a folder of the member's disk; synced: a copy of one, kept like it in both directions; kept: one that Cavrith keeps beside the workspace, and that survives everything but its removal")
        .values(&["live", "synced", "kept"])
        .default("live")
        .example("[[folders]]\nmode   = \"kept\"\nname   = \"database\"\ninside = \"/var/lib/postgresql\""),
    key("folders[].name", Text, Optional, "with mode kept: its name, which cavrith folder takes"),
    key("folders[].owner", Text, Optional, "with mode kept: the account that it belongs to when it is new").default("who owns the place in the image"),
    key("folders[].except", Texts, Optional, "directories in it that never cross the wall: inside they are the workspace's own"),
    key("folders[].ignore", Texts, Optional, "with mode synced: patterns as in gitignore(5) of what each side has for itself")
        .example("[[folders]]\noutside = \".\"\ninside  = \"/code\"\nmode    = \"synced\"\nignore  = [\"*.o\", \"/out/\"]"),
    key("folders[].variants", Texts, Optional, "the variants that have it").default("all"),
    key("ports", Tables, Optional, "listening ports inside that are reachable outside")
        .example("[[ports]]\nname    = \"site\"\ninside  = 8080\noutside = 8080\nexact   = true"),
    key("ports[].name", Text, Needed, "a name for people"),
    key("ports[].inside", Number, Needed, "the port that a program inside listens on"),
    key("ports[].outside", Number, Optional, "the port outside").default("the same as inside"),
    key("ports[].count", Number, Optional, "how many ports in a row, from these numbers on").default("1"),
    key("ports[].exact", Flag, Optional, "true: refuse when the outside port is taken, instead of taking the next free one")
        .default("false"),
    key("ports[].protocol", Text, Optional, "tcp or udp").values(&["tcp", "udp"]).default("tcp"),
    key("ports[].bind", Text, Optional, "the address outside that it is reached at; one that is not the loopback lets other machines in")
        .default("127.0.0.1 and ::1"),
    key("ports[].open", Flag, Optional, "true: start tells its address on the web when it is ready, and opens it with the desktop's opener")
        .default("false"),
    key("ports[].variants", Texts, Optional, "the variants that have it").default("all"),
    key("downloads", Tables, Optional, "files to fetch, each into a place of its own in the image").example(
        "[[downloads]]\nname   = \"tide-tables\"\nurl    = \"https://files.brindle.example/tides-2026.tar.gz\"\ninside = \"/srv/tides\"\nunpack = true",
    ),
    key("downloads[].name", Text, Needed, "a name for people and for the lock"),
    key("downloads[].url", Text, Needed, "its address on the web (http or https)"),
    key("downloads[].inside", Text, Needed, "where it lies inside: the file, or with unpack the directory"),
    key("downloads[].sha256", Text, Optional, "its SHA-256; the lock fills it in when it is left out"),
    key("downloads[].unpack", Flag, Optional, "true: an archive (tar; plain or gz, xz, zst; or zip) that is unpacked").default("false"),
    key("downloads[].strip", Number, Optional, "how many leading directories to drop from the archive's paths").default("0"),
    key("downloads[].mode", Text, Optional, "the rights of the file, in octal").default("0644"),
    key("steps", Tables, Optional, "provisioning actions, carried out in their order; each runs, writes or copies; 4000 at most").example(
        "[[steps]]\nname  = \"frame the site\"\nat    = \"build\"\nrun   = \"quill frame /srv/site\"\nlimit = \"10 min\"",
    ),
    key("steps[].name", Text, Needed, "a name for people"),
    key("steps[].at", Text, Needed, "the moment: build makes it part of the image; first-start is once over an image; start is at every start")
        .values(&["build", "first-start", "start"]),
    key("steps[].run", TextOrTexts, Optional, "a text for /bin/sh, or a list: a program and its arguments"),
    key("steps[].write", Table, Optional, "a file to write").whole().example(
        "[[steps]]\nname  = \"greet\"\nat    = \"build\"\nwrite = { inside = \"/etc/motd\", content = \"Welcome aboard\\n\" }",
    ),
    key("steps[].write.inside", Text, Needed, "the file"),
    key("steps[].write.content", Text, Optional, "its whole text"),
    key("steps[].write.template", Text, Optional, "a file of the project that becomes its text; {{ env.NAME }} and the like are filled in"),
    key("steps[].write.mode", Text, Optional, "its rights, in octal").default("0644"),
    key("steps[].write.owner", Text, Optional, "the account that it belongs to").default("root"),
    key("steps[].copy", Table, Optional, "files of the project to copy in; the lock pins them").whole().example(
        "[[steps]]\nname = \"bring the pages\"\nat   = \"build\"\ncopy = { from = \"pages\", inside = \"/srv/pages\", except = [\"*.draft\"] }",
    ),
    key("steps[].copy.from", Text, Needed, "the file or folder of the project, relative to the spec; with variant: the file or directory of its image"),
    key("steps[].copy.variant", Text, Optional, "another variant that has the files, as its steps made them").example(
        "[[steps]]\nname = \"frame the site\"\nat   = \"build\"\nrun  = \"quill frame /build/site\"\nvariants = [\"main\"]\n\n[[steps]]\nname = \"bring the site\"\nat   = \"build\"\ncopy = { variant = \"main\", from = \"/build/site\", inside = \"/srv/site\" }\nvariants = [\"release\"]\n\n[variants.release.workspace]\nproject = \"\"",
    ),
    key("steps[].copy.ignored", Flag, Optional, "true takes what git ignores in the project, too").default("false"),
    key("steps[].copy.inside", Text, Needed, "the file or directory that it becomes"),
    key("steps[].copy.except", Texts, Optional, "what to leave out, in the patterns of git's ignore files; behind !, what to take all the same"),
    key("steps[].copy.owner", Text, Optional, "the account that all of it belongs to").default("root"),
    key("steps[].unless", TextOrTexts, Optional, "a command; when it succeeds, the step is left out"),
    key("steps[].creates", Text, Optional, "a path inside; when it is there, the step is left out"),
    key("steps[].after", Texts, Optional, "names of steps that come first; at first-start and start also services that have to be ready").default("the order of the file"),
    key("steps[].env", Table, Optional, "variables of this step only, over those of [env]").whole(),
    key("steps[].env.*", Text, Optional, "the value of one variable"),
    key("steps[].account", Text, Optional, "the account that carries it out").default("root at build, else workspace.account"),
    key("steps[].network", Text, Optional, "recorded: it may fetch by http and https while cavrith record runs it, and gets just that afterwards, without a network")
        .values(&["none", "recorded"])
        .default("none")
        .example("[[steps]]\nname    = \"bring the tide tables\"\nat      = \"build\"\nnetwork = \"recorded\"\nrun     = \"wget -O /srv/tides.csv https://files.brindle.example/tides.csv\""),
    key("steps[].files", Texts, Optional, "files of the project that a command needs: pinned, laid into the project's folder inside, where the command is then started")
        .example("[[steps]]\nname    = \"install the page tools\"\nat      = \"build\"\nfiles   = [\"tools.list\"]\nnetwork = \"recorded\"\nrun     = \"xargs -n 1 wget -P tools < tools.list\""),
    key("steps[].caches", Texts, Optional, "names of folders in /tmp/caches that last from one build to the next on a member's machine, and are in no layer; the usual package managers find those of their names")
        .example("[[steps]]\nname   = \"press the pages\"\nat     = \"build\"\ncaches = [\"press\"]\nrun    = \"quill press --pieces /tmp/caches/press /srv/pages\""),
    key("steps[].limit", Text, Optional, "how long it may take: a number and s, min or h").default("1 h"),
    key("steps[].variants", Texts, Optional, "the variants that have it").default("all"),
    key("secrets", Table, Optional, "what the workspace needs that is no one else's to read, by name; never the values, which each member's configuration has").example(
        "[secrets.tide-token]\nabout    = \"your token of the tide service; its page of accounts makes one\"\nvariable = \"TIDE_TOKEN\"\n\n[secrets.harbour-key]\nabout    = \"the key of the harbour's gauge\"\nfile     = true\noptional = true",
    ),
    key("secrets.*", Table, Optional, "one secret"),
    key("secrets.*.about", Text, Needed, "what it is, and where a member gets theirs"),
    key("secrets.*.variable", Text, Optional, "the variable that it appears as"),
    key("secrets.*.file", Flag, Optional, "true: it lies in /run/secrets under its name, in memory, for the account alone to read").default("false"),
    key("secrets.*.services", Texts, Optional, "services that have the variable, and nobody else but the steps that are named").default("all services, steps of the start and members' commands"),
    key("secrets.*.steps", Texts, Optional, "steps of the start that have the variable, and nobody else but the services that are named").default("all services, steps of the start and members' commands"),
    key("secrets.*.optional", Flag, Optional, "true: a workspace starts without it, too").default("false"),
    key("services", Table, Optional, "programs that run in the background as long as the workspace does, by name").example(
        "[services.site]\nrun   = \"httpd -f -p $SITE_PORT -h /srv/site\"\nready = { port = 8080 }\nafter = [\"store\"]\n\n[services.store]\nrun     = [\"storekeeper\", \"--data\", \"/srv/data\"]\nrestart = \"always\"\nstop    = { signal = \"INT\", grace = \"30 s\" }",
    ),
    key("services.*", Table, Optional, "one service; its name is a host name inside, too"),
    key("services.*.run", TextOrTexts, Needed, "a text for /bin/sh, or a list: a program and its arguments; it must stay in the foreground"),
    key("services.*.account", Text, Optional, "the account that it runs as").default("workspace.account"),
    key("services.*.directory", Text, Optional, "where it is started").default("workspace.project"),
    key("services.*.env", Table, Optional, "variables of this service only, over those of [env]").whole(),
    key("services.*.env.*", Text, Optional, "the value of one variable"),
    key("services.*.after", Texts, Optional, "services that have to be ready first, and steps that have to be done")
        .default("all steps that do not wait for it"),
    key("services.*.ready", Table, Optional, "how to tell that it is ready: port, file or command").whole(),
    key("services.*.ready.port", Number, Optional, "when the service itself, or something that it started, takes connections on this port inside"),
    key("services.*.ready.file", Text, Optional, "when this path is there inside, and was written since the service was begun"),
    key("services.*.ready.command", TextOrTexts, Optional, "when this command succeeds, run as the service's account"),
    key("services.*.ready.every", Text, Optional, "how long to wait between looking: a number and ms or s").default("200 ms"),
    key("services.*.ready.limit", Text, Optional, "how long it may take: a number and s, min or h").default("60 s"),
    key("services.*.restart", Text, Optional, "when it ended by itself: always, on-failure or never begin it again, later each time")
        .values(&["always", "on-failure", "never"])
        .default("on-failure"),
    key("services.*.stop", Table, Optional, "how it is ended").whole(),
    key("services.*.stop.signal", Text, Optional, "the signal that asks it to end")
        .values(&["TERM", "INT", "QUIT", "HUP", "USR1", "USR2", "WINCH"])
        .default("TERM"),
    key("services.*.stop.grace", Text, Optional, "how long it has until it is killed: a number and s, min or h").default("10 s"),
    key("services.*.variants", Texts, Optional, "the variants that have it").default("all"),
    key("names", Table, Optional, "host names that stand for the workspace: inside at once, outside with cavrith names")
        .example("[[ports]]\nname   = \"site\"\ninside = 8080\n\n[names]\n\"timetable.test\" = \"site\""),
    key("names.*", Text, Optional, "the port that is meant by this name"),
    key("limits", Table, Optional, "what a running workspace may use of the machine, all in all")
        .example("[limits]\nmemory    = \"2 GiB\"\ncpus      = 2\nprocesses = 512"),
    key("limits.memory", Text, Optional, "a whole number and MiB or GiB").default("no limit"),
    key("limits.cpus", Number, Optional, "how many processors' time").default("no limit"),
    key("limits.processes", Number, Optional, "how many processes and threads at once").default("no limit"),
    key("machine", Table, Optional, "how the image is run as a machine with a kernel of its own; the image stays what it is")
        .example("[base]\ndebian   = \"trixie\"\npackages = [\"python3\"]\n\n[machine]\nmemory = \"2 GiB\"\ncpus   = 2"),
    key("machine.kernel", Text, Optional, "the package of the kernel").default("linux-image-cloud- and the architecture"),
    key("machine.memory", Text, Optional, "a whole number and MiB or GiB").default("1 GiB"),
    key("machine.cpus", Number, Optional, "how many processors").default("1"),
    key("machine.disk", Text, Optional, "room for what is written: a whole number and MiB or GiB").default("8 GiB"),
    key("machine.verity", Flag, Optional, "true: the kernel proves each block of the root when it is read (dm-verity)").default("false"),
    key("cache", Table, Optional, "where finished layers of this workspace are shared; a member's configuration may name another place")
        .example("[cache]\nregistry = \"registry.example/brindle/timetable\""),
    key("cache.registry", Text, Needed, "the registry and the image's name there, without a tag"),
    key("team", Table, Optional, "who may seal, report and publish; a change counts once a lead has signed it with cavrith team sign")
        .example("[team.people.ida]\nroles = [\"lead\", \"member\"]\nkeys  = [\"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJu+ucs/19sCqEeNbzvRIb+xWV+CFKw9Ydv77LrY2GWO ida\"]"),
    key("team.signers", Text, Optional, "a file of allowed signers as OpenSSH reads it, relative to the spec, with people beside those in team.people")
        .example("[team]\nsigners = \"team/signers\""),
    key("team.reports", Text, Optional, "a folder of the project for members' signed reports: verify --report puts them there, roster reads them")
        .example("[team]\nreports = \"reports\""),
    key("team.registry", Text, Optional, "an image in a registry: verify --report attaches reports to it, roster reads them there")
        .example("[team]\nregistry = \"registry.example/brindle/timetable:1\""),
    key("team.automatic-reports", Flag, Optional, "true: every full verify reports by itself; a member's configuration may say otherwise")
        .default("false")
        .example("[team]\nreports           = \"reports\"\nautomatic-reports = true"),
    key("team.people", Table, Optional, "the people, by name"),
    key("team.people.*", Table, Optional, "one of them").whole(),
    key("team.people.*.roles", Texts, Optional, "lead seals and changes the team, member reports, publisher signs what goes out")
        .values(&["lead", "member", "publisher"])
        .default("member"),
    key("team.people.*.keys", Texts, Needed, "their public keys, each as the one line of a .pub file of SSH"),
    key("personal", Table, Optional, "where a member's own, from their configuration, counts before the team's")
        .example("[personal]\nenv      = [\"EDITOR\"]\nsettings = [\"colour-theme\", \"ruler\"]\nfiles    = [\"/etc/inputrc\"]"),
    key("personal.env", Texts, Optional, "variables").default("none: what [env] sets counts"),
    key("personal.settings", Texts, Optional, "settings of the editor").default("none: what [editor.settings] has counts"),
    key("personal.files", Texts, Optional, "files inside, and directories with all in them, that dotfiles and packages of a member's may bring in the place of the image's").default("none"),
    key("editor", Table, Optional, "what the team's editor is given").example(
        "[editor]\nprofile    = \"lantern\"\nextensions = { \"brindle.quill-syntax\" = \"1.2\" }\nsettings   = { \"format.on-save\" = true }",
    ),
    key("editor.profile", Text, Optional, "the editor profile: one of a depot, or vim, neovim or emacs")
        .default("the depots' one, when they offer one only"),
    key("editor.extensions", Table, Optional, "extensions by id, each with a version or its beginning"),
    key("editor.extensions.*", Text, Optional, "the version of one extension"),
    key("editor.settings", Table, Optional, "the editor's settings, as its settings file holds them"),
    key("editor.settings.*", Any, Optional, "one setting").whole(),
    key("editor.launch", Table, Optional, "how to start and debug the project's programs, by name").example(
        "[editor.launch.site]\nprogram   = \"quill\"\narguments = [\"serve\", \"--port\", \"8080\"]\nbuild     = \"quill draw pages\"",
    ),
    key("editor.launch.*", Table, Optional, "one program").whole(),
    key("editor.launch.*.program", Text, Needed, "the program to start"),
    key("editor.launch.*.arguments", Texts, Optional, "its arguments"),
    key("editor.launch.*.build", Text, Optional, "the command that builds it first"),
    key("editor.launch.*.directory", Text, Optional, "where it is started").default("the project's folder inside"),
    key("editor.launch.*.debugger", Text, Optional, "the debugger, as the editor calls it: what the Debug Adapter Protocol's clients name type"),
    key("editor.launch.*.attach", Flag, Optional, "true: it runs already, and the debugger attaches to it").default("false"),
    key("editor.launch.*.env", Table, Optional, "variables of this program only"),
    key("editor.launch.*.env.*", Text, Optional, "the value of one variable"),
    key("image", Table, Optional, "how the image is run where Cavrith does not run it; it goes into container images")
        .example("[image]\ncommand   = [\"httpd\", \"-f\"]\narguments = [\"-p\", \"8080\"]\nports     = [\"8080\"]\nsignal    = \"TERM\"\nlabels    = { \"example.brindle.team\" = \"timetable\" }"),
    key("image.command", TextOrTexts, Optional, "what is run: a text for /bin/sh, or a list: a program and its arguments"),
    key("image.arguments", Texts, Optional, "further arguments, which whoever runs it may replace").default("the account's shell when there is no command"),
    key("image.directory", Text, Optional, "where it is started").default("workspace.project"),
    key("image.account", Text, Optional, "the account that it runs as").default("workspace.account"),
    key("image.ports", Texts, Optional, "ports that it listens on: 8080, or 53/udp").default("those of [[ports]]"),
    key("image.labels", Table, Optional, "labels for programs that deal with images, by name"),
    key("image.labels.*", Text, Optional, "the text of one label"),
    key("image.signal", Text, Optional, "the signal that asks it to end")
        .values(&["TERM", "INT", "QUIT", "HUP", "USR1", "USR2", "WINCH"])
        .default("TERM"),
    key("variants", Table, Optional, "variants of this spec, by name: what differs from all that stands outside of [variants]")
        .example("[editor]\nprofile = \"vim\"\n\n[variants.release]\nwithout = [\"editor\"]\n\n[variants.release.env]\nSITE_PORT = \"80\""),
    key("variants.*", Table, Optional, "one variant: any table and entry of a spec once more, with what it has in this variant"),
    key("variants.*.without", Texts, Optional, "tables and entries that this variant does not have: editor, services.site, steps.frame the site"),
];

/// The key of this path, if there is one.
pub fn find(path: &str) -> Option<&'static Key> {
    KEYS.iter().find(|key| key.path == path)
}

/// The key whose example shows `key` in use: itself, or the nearest table that it is in.
pub fn example_of(key: &Key) -> &'static str {
    let mut path = key.path;
    loop {
        match find(path).map(|key| key.example) {
            Some(example) if !example.is_empty() => return example,
            _ => {}
        }
        match path.rsplit_once('.') {
            Some((above, _)) => path = above.trim_end_matches("[]"),
            None => return "",
        }
    }
}

/// The keys that a table may have, with their last names. `table` is the table's path, empty for the whole file.
pub fn children(table: &str) -> impl Iterator<Item = (&'static str, &'static Key)> {
    let prefix = if table.is_empty() { String::new() } else { format!("{table}.") };
    KEYS.iter().filter_map(move |key| {
        let name = key.path.strip_prefix(prefix.as_str())?;
        (!name.contains(['.', '['])).then_some((name, key))
    })
}

/// All keys as the tables of a Markdown page, for `docs/spec.md`.
pub fn reference() -> String {
    let mut page = String::from("| key | value | |\n|---|---|---|\n");
    for key in KEYS {
        let state = match key.state {
            Needed => "needed",
            Optional => "",
        };
        page.push_str(&format!("| `{}` | {} | {}", key.path, key.shape.words(), key.meaning));
        if !key.default.is_empty() {
            page.push_str(&format!("; {} when left out", key.default));
        }
        page.push_str(&if state.is_empty() { " |\n".to_owned() } else { format!("; **{state}** |\n") });
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_stands_once_and_after_the_table_it_is_in() {
        let mut seen = Vec::new();
        for key in KEYS {
            assert!(!seen.contains(&key.path), "{} stands twice", key.path);
            let parent = key.path.rsplit_once('.').map(|(parent, _)| parent.trim_end_matches("[]"));
            assert!(parent.is_none_or(|parent| seen.contains(&parent)), "{} stands before its table", key.path);
            seen.push(key.path);
        }
    }

    #[test]
    fn the_children_of_a_table_are_its_own_keys_only() {
        let names: Vec<_> = children("base").map(|(name, _)| name).collect();
        assert_eq!(
            names,
            [
                "debian",
                "extra",
                "components",
                "architecture",
                "recommended",
                "left-out",
                "keep",
                "depot",
                "packages",
                "archive",
                "oci"
            ]
        );
        assert!(children("").any(|(name, _)| name == "workspace"));
        assert!(children("folders[]").any(|(name, _)| name == "outside"));
    }

    #[test]
    fn the_reference_page_lists_every_key_as_it_is() {
        let page = include_str!("../../../../docs/spec.md");
        assert!(page.contains(&reference()), "docs/spec.md does not hold this table:\n{}", reference());
    }
}
