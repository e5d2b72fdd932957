//! Services, their order, their accounts, and the amounts that a spec names.

use std::collections::{BTreeMap, BTreeSet};

use cavrith_core::account;
use cavrith_core::mistake::Code;
use cavrith_core::spec::{Check, Limits, Moment, Network, Protocol, Restart, measure, parse};
use proptest::prelude::*;

const HEAD: &str = "spec = 1\n[workspace]\nname = \"timetable\"\n[depots]\nharbour = { path = \"depot\" }\n[base]\ndepot = \"harbour\"\npackages = [\"busybox-static\"]\n";

#[test]
fn what_is_left_out_has_a_value() {
    let text = format!("{HEAD}[services.site]\nrun = \"serve\"\n[[ports]]\nname = \"site\"\ninside = 8080\n");
    let spec = parse(&text).sound().unwrap();
    let site = &spec.services["site"].value;
    assert_eq!((site.restart, site.signal.as_str(), site.grace), (Restart::OnFailure, "TERM", 10));
    assert!(site.ready.is_none() && site.account.is_none() && site.directory.is_none() && site.after.is_empty());
    assert_eq!(spec.limits, Limits::default());
    assert!(spec.limits.is_empty());
    assert_eq!(spec.workspace.network, Network::Out);
    let port = &spec.ports[0];
    assert_eq!((port.protocol, port.count), (Protocol::Tcp, 1));
    assert_eq!(Protocol::Udp.to_string(), "udp");
}

#[test]
fn everything_that_can_be_said_of_a_service_arrives() {
    let text = format!(
        r#"{HEAD}
[env]
PLACE = "harbour"
[services.store]
run       = ["store", "--quiet"]
account   = "keeper"
directory = "/srv"
env       = {{ WHERE = "${{PLACE}}/north" }}
after     = ["fill"]
restart   = "always"
ready     = {{ command = "ask", every = "1 s", limit = "2 min" }}
stop      = {{ signal = "QUIT", grace = "1 min" }}
[[steps]]
name = "fill"
at   = "first-start"
run  = "fill"
[[steps]]
name = "greet"
at   = "start"
run  = "greet"
after = ["store"]
[limits]
memory    = "3 GiB"
cpus      = 2
processes = 512
"#
    );
    let spec = parse(&text).sound().unwrap();
    let store = &spec.services["store"].value;
    assert_eq!((store.restart, store.signal.as_str(), store.grace), (Restart::Always, "QUIT", 60));
    let ready = store.ready.as_ref().unwrap();
    assert!(matches!(&ready.check, Check::Command(argv) if argv.last().is_some_and(|last| last == "ask")));
    assert_eq!((ready.every, ready.limit), (1000, 120));
    assert_eq!(store.env["WHERE"].value, "harbour/north");
    assert_eq!(spec.limits, Limits { memory: Some(3 << 30), cpus: Some(2), processes: Some(512) });
    let moments: Vec<_> = spec.start_steps.iter().map(|step| step.moment).collect();
    assert_eq!(moments, [Moment::FirstStart, Moment::Start]);
}

/// Whether there is a way from each number back to itself, found in another way than the spec's: by following every
/// way.
fn has_circle(edges: &BTreeSet<(usize, usize)>) -> bool {
    let mut reach = edges.clone();
    loop {
        let more: BTreeSet<_> = reach
            .iter()
            .flat_map(|(from, by)| reach.iter().filter(move |(start, _)| start == by).map(|(_, to)| (*from, *to)))
            .collect();
        let before = reach.len();
        reach.extend(more);
        if reach.len() == before {
            return reach.iter().any(|(from, to)| from == to);
        }
    }
}

proptest! {
    /// No matter who waits for whom: a circle is reported exactly when there is one, and what is reported is one.
    #[test]
    fn a_circle_of_services_is_told_exactly_when_there_is_one(
        edges in proptest::collection::btree_set((0usize..7, 0usize..7), 0..12),
    ) {
        let mut text = HEAD.to_owned();
        for number in 0..7 {
            let after: Vec<_> = edges.iter().filter(|(from, _)| *from == number).map(|(_, to)| format!("\"s{to}\"")).collect();
            text.push_str(&format!("[services.s{number}]\nrun = \"x\"\nafter = [{}]\n", after.join(", ")));
        }
        let parsed = parse(&text);
        let told: Vec<_> = parsed.mistakes.iter().filter(|mistake| mistake.code == Code::SERVICE_CYCLE).collect();
        prop_assert_eq!(!told.is_empty(), has_circle(&edges), "{}", text);
        prop_assert_eq!(parsed.mistakes.len(), told.len());
        for mistake in told {
            let Some(names) = mistake.message.strip_suffix(" wait for each other") else { continue };
            let way: Vec<usize> = names.split(", ").map(|name| name[1..].parse().unwrap()).collect();
            for (position, from) in way.iter().enumerate() {
                let to = way[(position + 1) % way.len()];
                prop_assert!(edges.contains(&(*from, to)), "{names} is not a circle");
            }
        }
    }

    /// A number and its unit are what they say, and nothing else is one.
    #[test]
    fn an_amount_is_a_whole_number_and_a_unit(number in any::<u64>(), unit in 0usize..3, blank in " ?", odd in "[a-zA-Z.,+-]{1,4}") {
        let units = [("B", 1), ("KiB", 1 << 10), ("MiB", 1 << 20)];
        let (name, factor) = units[unit];
        prop_assert_eq!(measure(&format!(" {number}{blank}{name} "), &units), number.checked_mul(factor));
        prop_assert_eq!(measure(&number.to_string(), &units), None);
        prop_assert_eq!(measure(&format!("{odd}{number} B"), &units), None);
        prop_assert_eq!(measure(&format!("-{number} B"), &units), None);
        prop_assert_eq!(measure(name, &units), None);
        if !units.iter().any(|(known, _)| *known == odd) {
            prop_assert_eq!(measure(&format!("{number} {odd}"), &units), None);
        }
    }

    /// Whatever a list of accounts says, an account that is found is one of its lines, and never the number that stands
    /// for nobody.
    #[test]
    fn an_account_is_found_as_its_line_says(
        lines in proptest::collection::vec("[a-z]{1,3}:x:(0|100|65534|4294967295|4294967296|-1|x):(0|50):[a-z]{0,3}:/[a-z]{0,3}(:/bin/sh)?", 0..8),
        name in "[a-z]{1,3}",
        noise in proptest::collection::vec(any::<u8>(), 0..40),
    ) {
        let mut text = lines.join("\n").into_bytes();
        text.push(b'\n');
        text.extend(&noise);
        let first = lines.iter().find(|line| line.split(':').next() == Some(&name));
        let found = account::find(&text, &name);
        if let Some(line) = first {
            let fields: Vec<_> = line.split(':').collect();
            let number = fields[2].parse::<u32>().ok().filter(|number| *number != u32::MAX);
            prop_assert_eq!(found.as_ref().map(|found| found.user), number);
            prop_assert!(account::names(&text).contains(&name));
        }
        prop_assert!(found.is_none_or(|found| found.user != u32::MAX && found.group != u32::MAX));
    }

    /// The groups of an account are its own first, then those that list it, each once.
    #[test]
    fn groups_come_once_each(
        members in proptest::collection::vec((0u32..6, proptest::collection::vec("[ab]", 0..3)), 0..8),
        own in 0u32..6,
    ) {
        let lines: Vec<_> = members.iter().enumerate().map(|(line, (number, names))| format!("g{line}:x:{number}:{}", names.join(","))).collect();
        let groups = account::groups(lines.join("\n").as_bytes(), "a", own);
        prop_assert_eq!(groups[0], own);
        let mut wanted: BTreeMap<u32, ()> = members.iter().filter(|(_, names)| names.iter().any(|name| name == "a")).map(|(number, _)| (*number, ())).collect();
        wanted.insert(own, ());
        let once: BTreeSet<_> = groups.iter().copied().collect();
        prop_assert_eq!(once.len(), groups.len());
        prop_assert_eq!(once, wanted.into_keys().collect::<BTreeSet<_>>());
    }
}
