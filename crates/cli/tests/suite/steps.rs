use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use crate::team::Team;

fn inside(team: &Team, command: &str) -> String {
    team.ok(&["run", "-q", "--", "sh", "-c", command])
}

#[test]
fn a_step_writes_a_text_and_a_filled_in_template() {
    let team = Team::new();
    fs::write(
        team.project().join("motd.in"),
        "{{ workspace.name }} on {{ env.SITE_PORT }}, {{ env.TIDE }}, quill {{ toolchains.quill.version }}\n",
    )
    .unwrap();
    team.add(
        r#"
[[steps]]
name  = "greet"
at    = "build"
write = { inside = "/etc/motd", template = "motd.in", mode = "600", owner = "crew" }
env   = { TIDE = "${SITE_PORT} fathoms" }
[[steps]]
name  = "say nothing"
at    = "build"
write = { inside = "/bin/../srv/plain", content = "" }
"#,
    );
    let told = team.fails(&["check"], 1);
    assert!(told.contains("CV0109") && told.contains("/bin/../srv/plain"), "{told}");
    team.change("/bin/../srv/plain", "/srv/plain").ok(&["lock"]);
    assert_eq!(
        inside(&team, "cat /etc/motd; ls -ln /etc/motd /srv/plain | cut -c1-30"),
        "timetable on 8080, 8080 fathoms, quill 2.4.1\n-rw-------    1 1000     1000 \n-rw-r--r--    1 0        0    \n"
    );
    // The template is pinned: another one is no other workspace by accident.
    fs::write(team.project().join("motd.in"), "changed\n").unwrap();
    team.stop_all();
    for command in [&["build"][..], &["run", "--", "true"], &["seal"]] {
        let told = team.fails(command, 1);
        assert!(told.contains("the files of the step \"greet\" changed since they were locked (motd.in: "), "{told}");
    }
    assert!(team.ok(&["lock"]).contains("files of \"greet\""));
    assert_eq!(inside(&team, "cat /etc/motd"), "changed\n");
}

#[test]
fn a_step_copies_a_folder_but_for_what_is_left_out() {
    let team = Team::new();
    let site = team.project().join("site");
    fs::create_dir_all(site.join("deep/.git")).unwrap();
    fs::create_dir_all(site.join("drafts")).unwrap();
    for (name, mode) in
        [("index.html", 0o600), ("run.sh", 0o700), ("a.draft", 0o644), ("drafts/x", 0o644), ("deep/.git/HEAD", 0o644)]
    {
        fs::write(site.join(name), name).unwrap();
        fs::set_permissions(site.join(name), fs::Permissions::from_mode(mode)).unwrap();
    }
    std::os::unix::fs::symlink("index.html", site.join("home")).unwrap();
    team.add(
        r#"
[[steps]]
name = "bring"
at   = "build"
copy = { from = "site", inside = "/srv/www", except = ["*.draft", "/drafts/"] }
[[steps]]
name = "one"
at   = "build"
copy = { from = "site/run.sh", inside = "/usr/local/bin/go", owner = "crew" }
"#,
    );
    team.ok(&["lock"]);
    assert_eq!(
        inside(
            &team,
            "cd /srv/www; find . | sort; ls -l | sed 1d | cut -c1-24; ls -ln /usr/local/bin/go | cut -c1-32; cat home"
        ),
        "./deep\n./home\n./index.html\n./run.sh\n.\n"
            .replace("./deep\n./home\n./index.html\n./run.sh\n.\n", ".\n./deep\n./home\n./index.html\n./run.sh\n")
            + "drwxr-xr-x    2 root    \nlrwxrwxrwx    1 root    \n-rw-r--r--    1 root    \n-rwxr-xr-x    1 root    \n-rwxr-xr-x    1 1000     1000   \nindex.html"
    );
    // Rights beyond being a program, owners and times are no part of it.
    let sealed = team.build();
    fs::set_permissions(site.join("index.html"), fs::Permissions::from_mode(0o664)).unwrap();
    fs::write(site.join("b.draft"), "not taken").unwrap();
    assert_eq!(team.build(), sealed);
    team.ok(&["build", "--fresh"]);
    fs::write(site.join("index.html"), "new").unwrap();
    assert!(team.fails(&["build"], 1).contains("the step \"bring\" changed"));
    fs::remove_file(site.join("index.html")).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(site.join("index.html")).status().unwrap().success());
    assert!(team.fails(&["lock"], 1).contains("it is neither a file, a folder nor a link"));
}

#[test]
fn a_guard_leaves_a_step_out_and_says_so() {
    let team = Team::new();
    team.add(
        r#"
[[steps]]
name    = "once"
at      = "build"
run     = "echo one > /srv/once"
creates = "/bin/sh"
[[steps]]
name   = "twice"
at     = "build"
run    = "echo two > /srv/twice"
unless = "touch /srv/trace; test -e /srv/site"
[[steps]]
name   = "thrice"
at     = "build"
run    = "echo three > /srv/thrice"
unless = ["no-such-program"]
creates = "/srv/thrice"
"#,
    );
    team.ok(&["lock"]);
    let told = team.fails(&["build"], 0);
    assert!(told.contains("the step \"once\" is left out: /bin/sh is there"), "{told}");
    assert!(told.contains("the step \"twice\" is left out: `touch /srv/trace; test -e /srv/site` succeeds"), "{told}");
    assert_eq!(inside(&team, "ls /srv"), "site\nthrice\n");
    team.ok(&["seal"]);
}

#[test]
fn steps_have_an_order_variables_an_account_and_an_end() {
    let team = Team::new();
    team.add(
        r#"
[[steps]]
name  = "last"
at    = "build"
after = ["first"]
run   = "cp /srv/first /srv/last"
[[steps]]
name    = "first"
at      = "build"
account = "crew"
env     = { WHO = "me, ${SITE_PORT}" }
run     = "echo $WHO $HOME $(id -u):$(id -g) > /home/crew/first"
[[steps]]
name  = "lift"
at    = "build"
after = ["first"]
run   = "true"
"#,
    );
    team.ok(&["lock"]);
    let told = team.fails(&["build"], 5);
    assert!(told.contains("the step \"last\" failed") && told.contains("'/srv/first'"), "{told}");
    team.change("cp /srv/first /srv/last", "cp /home/crew/first /srv/last");
    assert_eq!(inside(&team, "cat /srv/last"), "me, 8080 /home/crew 1000:1000\n");
    team.change("run   = \"true\"", "run   = \"sleep 30\"\nlimit = \"1 s\"");
    let told = team.fails(&["build"], 5);
    assert!(told.contains("the step \"lift\" took longer than 1 s and was ended"), "{told}");
    team.change("account = \"crew\"\nenv", "account = \"pilot\"\nenv");
    let told = team.fails(&["build"], 1);
    assert!(
        told.contains("the image has no account \"pilot\" when the step \"first\" comes; its accounts are root, crew"),
        "{told}"
    );
    team.assert_clean();
}

#[test]
fn what_a_step_lays_follows_the_links_of_the_image_and_does_not_break_them() {
    let team = Team::new();
    team.step("mkdir -p /opt/real; ln -s ../opt/real /srv/link; ln -s nowhere /srv/file");
    fs::create_dir(team.project().join("bits")).unwrap();
    fs::write(team.project().join("bits/a"), "a").unwrap();
    team.add(
        r#"
[[steps]]
name  = "through"
at    = "build"
write = { inside = "/srv/link/note", content = "x" }
[[steps]]
name  = "instead"
at    = "build"
write = { inside = "/srv/file", content = "y" }
[[steps]]
name = "into"
at   = "build"
copy = { from = "bits", inside = "/srv/link" }
"#,
    );
    team.ok(&["lock"]);
    assert_eq!(inside(&team, "ls /opt/real; cat /srv/file; readlink /srv/link"), "a\nnote\ny../opt/real\n");
    team.add("[[steps]]\nname = \"over\"\nat = \"build\"\nwrite = { inside = \"/srv/site\", content = \"z\" }\n");
    team.ok(&["lock"]);
    let told = team.fails(&["build"], 1);
    assert!(told.contains("the step \"over\" cannot write to /srv/site: there is a directory"), "{told}");
}

#[test]
fn part_of_a_folder_stays_inside() {
    let team = Team::new();
    team.change("outside = \".\"", "outside = \".\"\nexcept  = [\"out\"]");
    team.ok(&["lock"]);
    inside(&team, "echo inner > /code/out/kept; echo both > /code/shared; touch /code/out/own");
    assert_eq!(fs::read_dir(team.project().join("out")).unwrap().count(), 0);
    assert_eq!(fs::read_to_string(team.project().join("shared")).unwrap(), "both\n");
    // It survives that the image is another one.
    team.step("true");
    assert_eq!(
        inside(&team, "cat /code/out/kept; ls -ln /code/out | sed 1d | cut -c15-30"),
        "inner\n1 1000     1000 \n1 1000     1000 \n"
    );
    team.ok(&["seal"]);
    team.ok(&["verify"]);
    team.change("except  = [\"out\"]", "except  = []");
    let told = team.fails(&["verify"], 1);
    assert!(told.contains("/code except out"), "{told}");
}

#[test]
fn a_hundred_and_fifty_steps_leave_what_each_of_them_left() {
    let team = Team::new();
    let (mut steps, mut there) = (String::new(), std::collections::BTreeMap::new());
    for number in 0..150 {
        let (file, directory) = (number % 9, number % 4);
        let run = match number % 5 {
            0 | 1 => {
                there.insert(format!("f{file}"), Some(number));
                format!("echo {number} > f{file}")
            }
            2 => {
                // A directory that replaces whatever has its name hides what was in it.
                there.retain(|name, _| !name.starts_with(&format!("d{directory}")));
                there.insert(format!("d{directory}"), None);
                there.insert(format!("d{directory}/{number}"), Some(number));
                format!("rm -rf d{directory}; mkdir d{directory}; echo {number} > d{directory}/{number}")
            }
            3 => {
                there.remove(&format!("f{file}"));
                format!("rm -f f{file}")
            }
            _ => {
                there.retain(|name, _| !name.starts_with(&format!("d{directory}")));
                there.insert(format!("d{directory}"), Some(number));
                format!("rm -rf d{directory}; echo {number} > d{directory}")
            }
        };
        steps += &format!("[[steps]]\nname = \"s{number}\"\nat = \"build\"\nrun = \"cd /srv; {run}\"\n");
    }
    team.add(&steps);
    team.ok(&["lock"]);
    let expected: String = there
        .iter()
        .map(|(name, number)| number.map_or(format!("{name}/\n"), |number| format!("{name} {number}\n")))
        .collect();
    let listing = "cd /srv; find . -name site -prune -o -name '[fd0-9]*' -print | sort | while read f; do test -d $f && echo ${f#./}/ || echo ${f#./} $(cat $f); done";
    assert_eq!(inside(&team, listing), expected);
    // What is merged for mounting goes with the one who mounted it.
    team.stop_all();
    team.assert_clean();
}

#[test]
fn threads_that_take_turns_at_reading_a_directory_read_that_one() {
    let team = Team::new();
    crate::crossing::helper(&team);
    let script = "cd /tmp; mkdir one two; for i in $(seq 300); do touch one/a$i two/b$i; done; helper turns one two | grep -v '^[.]' > /srv/names";
    team.add(&format!(
        r#"
[[steps]]
name = "helper"
at   = "build"
copy = {{ from = "helper", inside = "/bin/helper" }}
[[steps]]
name = "read in turns"
at   = "build"
run  = "{script}"
"#
    ));
    team.ok(&["lock"]);
    team.ok(&["build"]);
    assert_eq!(inside(&team, "wc -l < /srv/names; grep -c ^a /srv/names"), "300\n300\n");
    // The order is that of the names.
    inside(&team, "env LC_ALL=C sort -c /srv/names");
}
