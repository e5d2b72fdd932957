//! What a command that failed was probably missing, by what it wrote last.

/// What programs write that cannot reach another machine.
const NO_NETWORK: [&str; 16] = [
    "bad address",
    "could not resolve",
    "couldn't resolve",
    "name or service not known",
    "temporary failure in name resolution",
    "temporary failure resolving",
    "network is unreachable",
    "no route to host",
    "enotfound",
    "eai_again",
    "enetunreach",
    "getaddrinfo",
    "nodename nor servname",
    "dns error",
    "failed to lookup address",
    "dial tcp",
];

/// What programs write that look for a file which is not there.
const NO_FILE: [&str; 5] =
    ["no such file or directory", "not found", "enoent", "does not exist", "could not open requirements file"];

/// Files of projects by which package managers know them.
const PROJECT_FILES: [&str; 10] = [
    "package.json",
    "package-lock.json",
    "requirements.txt",
    "pyproject.toml",
    "cargo.toml",
    "go.mod",
    "gemfile",
    "composer.json",
    "pom.xml",
    "makefile",
];

/// What to do about a failed build step, when its last lines show what it lacks. `project` is where the project's
/// folder appears inside, `has_files` whether the step is given files of it.
pub fn of_build_step<T: AsRef<str>>(last_lines: &[T], project: &str, has_files: bool) -> Option<&'static str> {
    let lines: Vec<_> = last_lines.iter().map(|line| line.as_ref().to_lowercase()).collect();
    let any = |words: &[&str]| lines.iter().any(|line| words.iter().any(|word| line.contains(word)));
    if any(&NO_NETWORK) {
        return Some(
            "a build step has no network; network = \"recorded\" lets it fetch once, and cavrith record pins what came",
        );
    }
    let names_project = |line: &String| line.contains(project) || PROJECT_FILES.iter().any(|file| line.contains(file));
    let is_missing = lines.iter().any(|line| NO_FILE.iter().any(|word| line.contains(word)) && names_project(line));
    if is_missing {
        return Some(if has_files {
            "a build step sees only those files of the project that its key files names; add the one that is missing"
        } else {
            "a build step sees nothing of the project's folder; name what it needs: files = [\"…\"], or copy it with a step"
        });
    }
    if any(&["sudo: ", "are you root", "must be root", "permission denied", "operation not permitted"]) {
        return Some(
            "without account, a build step runs as root; some things of the kernel no build may do, whoever it is",
        );
    }
    None
}

#[cfg(test)]
mod tests {
    use super::of_build_step;

    #[test]
    fn what_a_step_lacks_is_told_by_what_it_wrote() {
        let hint = |line: &str, files| of_build_step(&[line], "/code", files).unwrap_or_default();
        for line in [
            "wget: bad address 'tides.example'",
            "curl: (6) Could not resolve host: tides.example",
            "npm error code EAI_AGAIN",
            "W: Failed to fetch …  Temporary failure resolving 'mirror.example'",
            "dial tcp: lookup proxy.example: no such host",
        ] {
            assert!(hint(line, false).contains("no network"), "{line}");
        }
        assert!(
            hint("ERROR: Could not open requirements file: No such file: 'requirements.txt'", false)
                .contains("files =")
        );
        assert!(hint("sh: /code/tools/press: not found", true).contains("key files names"));
        assert!(hint("touch: /x: Permission denied", false).contains("as root"));
        assert_eq!(hint("error: expected `;`", false), "");
        assert_eq!(hint("cc: not found", false), "");
    }
}
