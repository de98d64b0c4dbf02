//! What a start command runs in the end: behind shells, programs that only start another one, and scripts
//! that end by running something.
use super::init_script::{assign, names_in, value_of};
use super::split_words;
use crate::bounds;
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// The most bytes of a script that are looked at.
const SCRIPT: u32 = 64 << 10;
/// Shells.
pub const SHELLS: &[&str] = &["sh", "bash", "dash", "ksh", "ash"];
/// Programs that only start another one.
pub const STARTERS: &[&str] = &[
    "env",
    "nice",
    "ionice",
    "chrt",
    "taskset",
    "numactl",
    "setpriv",
    "runuser",
    "su",
    "sudo",
    "exec",
    "nohup",
    "setsid",
    "prlimit",
    "chpst",
    "stdbuf",
    "tini",
    "dumb-init",
];
/// Programs besides shells that run the script that they are given.
const INTERPRETERS: &[&str] =
    &["gunicorn", "lua*", "node", "nodejs", "perl*", "php", "php[0-9]*", "python*", "ruby*", "uvicorn"];
/// Where programs are looked for by a service that sets nothing else (systemd.exec(5)).
const SEARCHED: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// Words behind which a command is run on a condition only.
const CONDITIONS: &[&str] = &["if", "elif", "then", "else", "while", "until", "for", "do", "case"];
/// Programs that prepare something, and are not what a script is for.
const HELPERS: &[&str] = &[
    "chmod", "chown", "echo", "false", "install", "kill", "ln", "mkdir", "printf", "rm", "sleep", "test",
    "touch", "true",
];

/// Whether a program runs scripts.
pub fn is_interpreter(program: &str) -> bool {
    let name = path::name(program);
    SHELLS.contains(&name) || INTERPRETERS.iter().any(|pattern| path::matches(pattern, name, false))
}

/// What an interpreter is given to run: a file, or a module with its option.
pub fn script_of(words: &[String]) -> Option<String> {
    let mut rest = words.iter().skip(1);
    while let Some(word) = rest.next() {
        match word.as_str() {
            "-m" => return rest.next().map(|module| format!("-m {module}")),
            "-c" | "-e" => return rest.next().cloned(),
            option if option.starts_with('-') => {}
            _ => return Some(word.clone()),
        }
    }
    None
}

/// A text of a shell's without what leads one output into another (`2>&1`), whose sign would part commands.
pub fn one_output(text: &str) -> String {
    if !text.contains('>') {
        return text.to_owned();
    }
    ["2>&1", "1>&2", ">&2", "&>>", "&>"]
        .into_iter()
        .zip(["", "", "", ">>", ">"])
        .fold(text.to_owned(), |text, (sign, instead)| text.replace(sign, instead))
}

/// The words of a command without its redirections.
pub fn without_redirections(words: Vec<String>) -> Vec<String> {
    let mut out = Vec::new();
    let mut rest = words.into_iter();
    while let Some(word) = rest.next() {
        match target(&word) {
            None => out.push(word),
            // The file is the next word.
            Some("") => drop(rest.next()),
            Some(_) => {}
        }
    }
    out
}

/// What a word of a redirection leads to or takes from; empty where that is the next word.
fn target(word: &str) -> Option<&str> {
    let sign = word.trim_start_matches(|c: char| c.is_ascii_digit());
    sign.starts_with(['>', '<']).then(|| sign.trim_start_matches(['>', '<', '|', '&']))
}

/// Files that the outputs of a text of a shell's go to: behind `>`, `>>` and `tee`.
pub fn outputs(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for line in one_output(text).lines().filter(|l| !l.trim_start().starts_with('#')) {
        let line = line.split(" #").next().unwrap_or_default();
        if !line.contains('>') && !line.contains("tee ") {
            continue;
        }
        let spaced = line.replace([';', '|', '(', ')', '{', '}'], " ").replace('>', " >");
        let words = split_words(&spaced.replace("> >", ">>"));
        let mut before = "";
        let mut taken = "";
        for word in &words {
            let file = match target(word) {
                Some(file) if word.contains('>') => file,
                Some(_) => "",
                None if before.ends_with('>') || taken == "tee" => word,
                None => "",
            };
            if file.starts_with('/') && !file.starts_with("/dev/") && !file.contains(['$', '*']) {
                found.push(file.to_owned());
            }
            // Options stand between `tee` and its file.
            taken = if word == "tee" || (taken == "tee" && word.starts_with('-')) { "tee" } else { "" };
            before = word;
        }
    }
    found
}

/// A command of a script.
struct Run {
    words: Vec<String>,
    /// Whether the script becomes it.
    by_exec: bool,
    /// Whether it is reached whatever the script finds.
    always: bool,
}

/// Commands that run a program of their own, in order. What holds a variable that nobody knows is left out:
/// what it runs, or with what, cannot be told.
fn runs_of(text: &str, variables: &BTreeMap<String, String>) -> Vec<Run> {
    let joined = one_output(&text.replace("\\\n", " "));
    let mut all = Vec::new();
    let mut left = bounds::ENVIRONMENT;
    for line in joined.lines().filter(|l| !l.trim_start().starts_with('#')) {
        let parts = line.split("||").enumerate().flat_map(|(at, p)| p.split("&&").map(move |p| (at, p)));
        for (at, part) in parts.flat_map(|(at, p)| p.split([';', '|', '&']).map(move |p| (at, p))) {
            let Some(words) = expanded(part, variables, &mut left) else { continue };
            let condition = words.first().is_some_and(|w| CONDITIONS.contains(&w.as_str()));
            let assigns = |w: &&String| w.contains('=') && !w.starts_with(['/', '-']);
            // `start)`: a case's label.
            let label = |w: &&String| w.ends_with(')') && !w.contains(['(', '/']);
            let skipped = |w: &&String| CONDITIONS.contains(&w.as_str()) || assigns(w) || label(w);
            let mut words: Vec<String> = words.iter().skip_while(skipped).cloned().collect();
            words = without_redirections(words);
            let by_exec = words.first().is_some_and(|w| w == "exec");
            if by_exec {
                words.remove(0);
            }
            // `nohup java …`: what only starts another one is not what runs.
            if words.first().is_some_and(|w| !w.contains('/') && STARTERS.contains(&w.as_str())) {
                let program = |w: &String| w.starts_with('/') || w == "java" || is_interpreter(w);
                if let Some(at) = words.iter().skip(1).position(program) {
                    words.drain(..=at);
                }
            }
            let Some(first) = words.first() else { continue };
            // A name alone is looked for in the path where the script becomes it, or where it runs a script.
            let by_name = !first.contains('/') && (by_exec || first == "java" || is_interpreter(first));
            if (first.starts_with('/') || by_name) && !HELPERS.contains(&path::name(first)) {
                let always = at == 0 && !condition && !line.starts_with([' ', '\t']);
                all.push(Run { words, by_exec, always });
            }
        }
    }
    all
}

/// Where a program that is named alone lies: in a directory of the search path.
fn in_path(snapshot: &Snapshot, name: &str, variables: &BTreeMap<String, String>) -> Option<String> {
    if name.contains('/') || name.starts_with('-') {
        return None;
    }
    let path = variables.get("PATH").filter(|p| !p.contains('$')).map_or(SEARCHED, String::as_str);
    let places = path.split(':').filter(|dir| dir.starts_with('/')).map(|dir| path::join(dir, name));
    places.take(16).find(|file| snapshot.exists(file) == Some(true))
}

/// What a script runs in the end: the last command that it becomes, else the last one. Where several could be
/// that, or it depends on a condition, one whose program exists is believed, and no other.
fn last_command(
    snapshot: &Snapshot,
    text: &str,
    variables: &BTreeMap<String, String>,
) -> Option<Vec<String>> {
    let mut all = runs_of(text, variables);
    for run in &mut all {
        let found = run.words.first().and_then(|name| in_path(snapshot, name, variables));
        if let (Some(found), Some(first)) = (found, run.words.first_mut()) {
            *first = found;
        }
    }
    all.retain(|run| run.words.first().is_some_and(|first| first.starts_with('/')));
    if all.iter().any(|run| run.by_exec) {
        all.retain(|run| run.by_exec);
    }
    let there = |run: &&Run| run.words.first().is_some_and(|program| snapshot.exists(program) == Some(true));
    let sure = match all.as_slice() {
        [only] => only.always,
        _ => false,
    };
    let chosen = if sure { all.last() } else { all.iter().rev().find(there) };
    chosen.map(|run| run.words.clone())
}

/// The words of a command, with the variables that are known put in; `None` where one is not known, or what
/// they make is more than what is `left` of what a program can be given.
fn expanded(part: &str, variables: &BTreeMap<String, String>, left: &mut usize) -> Option<Vec<String>> {
    let mut all = Vec::new();
    for word in split_words(part).into_iter().filter(|w| !matches!(w.as_str(), "$@" | "$*")) {
        if !word.contains('$') {
            all.push(word);
            continue;
        }
        if names_in(&word).any(|name| !variables.contains_key(name)) {
            // Options of the administrator's, as a word of their own: mostly there are none.
            let own = word.starts_with('$')
                && names_in(&word).count() == 1
                && (word.contains("OPT") || word.contains("ARGS"));
            if own {
                continue;
            }
            return None;
        }
        let value = value_of(&format!("\"{word}\""), variables)?;
        *left = left.checked_sub(value.len())?;
        all.extend(split_words(&value));
    }
    Some(all)
}

/// What a script's own lines, and the files that it takes in, say of its variables; what a condition may
/// change is not known. The files are added to `read`; `None` where it takes in what cannot be read.
fn variables_of(
    snapshot: &Snapshot,
    text: &str,
    mut variables: BTreeMap<String, String>,
    read: &mut Vec<String>,
) -> Option<BTreeMap<String, String>> {
    assign(text, &mut variables);
    for line in text.lines() {
        let inner = line.trim_start();
        let taken = inner.strip_prefix(". ").or_else(|| inner.strip_prefix("source "));
        if let Some(file) = taken {
            let file =
                split_words(file).into_iter().next().filter(|f| f.starts_with('/') && !f.contains('$'))?;
            if !snapshot.exists(&file)? {
                continue;
            }
            assign(&snapshot.text(&file).seen()?, &mut variables);
            read.push(file);
        } else if inner.len() < line.len()
            && let Some((name, _)) = inner.strip_prefix("export ").unwrap_or(inner).split_once('=')
        {
            variables.remove(name);
        }
    }
    Some(variables)
}

/// What a shell's script that a command runs, and the files that it takes in, say of variables, and these
/// files; nothing where it is no such script, or takes in what cannot be read.
pub fn taken_in(
    snapshot: &Snapshot,
    words: &[String],
    environment: &BTreeMap<String, String>,
) -> Option<(BTreeMap<String, String>, Vec<String>)> {
    let first = words.first()?;
    let shell = SHELLS.contains(&path::name(first));
    let script = if shell { script_of(words)? } else { first.clone() };
    let head = snapshot.read_at(&script, 0, SCRIPT).seen().filter(|_| script.starts_with('/'))?;
    let text = String::from_utf8_lossy(&head).into_owned();
    let by_shell = |line: &str| line.split([' ', '/']).any(|word| SHELLS.contains(&word));
    if !text.starts_with("#!") || !text.lines().next().is_some_and(by_shell) {
        return None;
    }
    let mut read = Vec::new();
    let variables = variables_of(snapshot, &text, environment.clone(), &mut read)?;
    (!read.is_empty()).then_some((variables, read))
}

/// What a command runs in the end, and the files that say so.
pub fn launched(
    snapshot: &Snapshot,
    words: &[String],
    environment: &BTreeMap<String, String>,
) -> (Vec<String>, Vec<String>) {
    let mut words = words.to_vec();
    let mut read = Vec::new();
    let mut variables = environment.clone();
    for _ in 0..6 {
        let name = words.first().map_or("", |w| path::name(w)).to_owned();
        let shell = SHELLS.contains(&name.as_str());
        let starter = STARTERS.contains(&name.as_str());
        let told = words.iter().position(|w| {
            (starter && (w == "-c" || w == "--command")) || (shell && w.starts_with('-') && w.ends_with('c'))
        });
        let inner = match told.and_then(|at| words.get(at + 1)) {
            Some(text) => last_command(snapshot, text, &variables),
            None if starter => {
                let at = words.iter().skip(1).position(|w| w.starts_with('/') && !is_directory(snapshot, w));
                at.map(|at| words[at + 1..].to_vec())
            }
            None if let Some((file, inner)) = wrapped(snapshot, &words, &variables) => {
                read.push(file);
                Some(inner)
            }
            // A script by its own name, or as what its shell is given.
            None => {
                let script = if shell { script_of(&words) } else { words.first().cloned() };
                let script = script.filter(|s| s.starts_with('/') && !read.contains(s));
                script.and_then(|script| {
                    let head = snapshot.read_at(&script, 0, SCRIPT).seen()?;
                    let text = String::from_utf8_lossy(&head).into_owned();
                    let by_shell = text
                        .strip_prefix("#!")?
                        .lines()
                        .next()?
                        .split([' ', '/'])
                        .any(|w| SHELLS.contains(&w));
                    read.push(script);
                    let known =
                        by_shell.then(|| variables_of(snapshot, &text, variables.clone(), &mut read))??;
                    variables = known;
                    last_command(snapshot, &text, &variables)
                })
            }
        };
        match inner.filter(|inner| !inner.is_empty()) {
            Some(inner) => words = inner,
            None => break,
        }
    }
    (words, read)
}

/// What a wrapper of Java services starts, by the file of settings that it is given: `wrapper.java.command`
/// and what belongs to it. The file, and the command.
fn wrapped(
    snapshot: &Snapshot,
    words: &[String],
    variables: &BTreeMap<String, String>,
) -> Option<(String, Vec<String>)> {
    let file = words.iter().skip(1).find(|w| w.starts_with('/') && w.ends_with(".conf"))?;
    let head = snapshot.read_at(file, 0, SCRIPT).seen()?;
    let text = String::from_utf8_lossy(&head);
    if !text.contains("wrapper.java.") {
        return None;
    }
    // `%NAME%` is a variable of the environment.
    let expand = |value: &str| {
        let mut out = String::new();
        for (at, part) in value.split('%').enumerate() {
            out.push_str(if at % 2 == 0 { part } else { variables.get(part)? });
        }
        (out.len() <= bounds::VALUE).then_some(out)
    };
    let mut settings: BTreeMap<String, String> = BTreeMap::new();
    for line in text.lines().map(str::trim).filter(|l| !l.starts_with('#')) {
        if let Some((name, value)) = line.split_once('=')
            && let Some(value) = expand(value.trim())
        {
            settings.insert(name.trim().to_owned(), value);
        }
    }
    let get = |name: &str| settings.get(&format!("wrapper.{name}")).filter(|v| !v.is_empty());
    // Numbered ones count in the order of their numbers.
    let numbered = |stem: &str| {
        let stem = format!("wrapper.{stem}.");
        let mut all: Vec<(u32, &String)> = settings
            .iter()
            .filter_map(|(name, value)| Some((name.strip_prefix(&stem)?.parse().ok()?, value)))
            .collect();
        all.sort();
        all.into_iter().map(|(_, value)| value.clone()).collect::<Vec<_>>()
    };
    let mut command = vec![get("java.command").map_or("java", String::as_str).to_owned()];
    if let Some(found) = in_path(snapshot, &command[0], variables) {
        command[0] = found;
    }
    command.extend(numbered("java.additional"));
    for (name, option) in [("java.initmemory", "-Xms"), ("java.maxmemory", "-Xmx")] {
        command.extend(get(name).map(|size| format!("{option}{size}m")));
    }
    let path = numbered("java.classpath");
    if !path.is_empty() {
        command.extend(["-cp".to_owned(), path.join(":")]);
    }
    command.extend(get("java.mainclass").cloned());
    command.extend(numbered("app.parameter"));
    Some((file.clone(), command))
}

/// Options of starters take directories, too.
fn is_directory(snapshot: &Snapshot, word: &str) -> bool {
    snapshot.is_directory(word) == Some(true)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    #[test]
    fn what_a_wrapper_or_a_starter_in_a_script_starts_is_what_runs() {
        let conf = "# wrapper.java.command=/no\nwrapper.java.command=%JAVA_HOME%/bin/java\n\
            wrapper.java.mainclass=ferries.Main\nwrapper.java.classpath.2=/opt/b.jar\n\
            wrapper.java.classpath.1=/opt/a.jar\nwrapper.java.additional.1=-Dx=y\n\
            wrapper.java.maxmemory=512\nwrapper.app.parameter.1=7400\n";
        let host = TextHost::new()
            .file("/opt/app/wrapper.conf", conf)
            .file("/opt/app/plain.conf", "port = 7400\n")
            .program("/usr/bin/java")
            .program("/opt/run.sh")
            .text(
                "/opt/run.sh",
                "#!/bin/bash\nstart)\n  nohup java -jar /opt/a.jar >> /var/log/a.out 2>&1 &\n",
            );
        let snapshot = Snapshot::new(&host);
        let environment = BTreeMap::from([("JAVA_HOME".to_owned(), "/opt/jdk".to_owned())]);
        let of = |command: &str| launched(&snapshot, &split_words(command), &environment).0.join(" ");
        assert_eq!(
            of("/opt/app/wrapper -c /opt/app/wrapper.conf"),
            "/opt/jdk/bin/java -Dx=y -Xmx512m -cp /opt/a.jar:/opt/b.jar ferries.Main 7400"
        );
        assert_eq!(of("/opt/app/relay -c /opt/app/plain.conf"), "/opt/app/relay -c /opt/app/plain.conf");
        assert_eq!(of("/opt/run.sh start"), "/usr/bin/java -jar /opt/a.jar");
    }

    #[test]
    fn outputs_of_a_shell_are_files_and_no_arguments() {
        for (text, files) in [
            ("exec /opt/relay -v >> /var/log/relay.log 2>&1", "/var/log/relay.log"),
            ("/opt/relay >/var/log/a.out 2>>/var/log/a.err &", "/var/log/a.out /var/log/a.err"),
            ("/opt/relay &> '/var/log/my relay.log'", "/var/log/my relay.log"),
            ("/opt/relay | tee -a /var/log/relay.log", "/var/log/relay.log"),
            ("/opt/relay < /etc/in > /dev/null; # >/var/log/x", ""),
            ("# /opt/relay > /var/log/x\n/opt/relay > $LOG", ""),
        ] {
            assert_eq!(outputs(text).join(" "), files, "{text}");
        }
        let words = |text: &str| without_redirections(split_words(&one_output(text))).join(" ");
        assert_eq!(words("/opt/relay -a > /var/log/x 2>&1 -b"), "/opt/relay -a -b");
        assert_eq!(words("/opt/relay 2>/var/log/x -p 5 >> /y"), "/opt/relay -p 5");
    }

    fn runs(command: &str, script: &str) -> String {
        let host = TextHost::new()
            .file("/opt/tide/run.sh", script)
            .file("/etc/default/tide", "JAVA=/opt/jdk/bin/java\n")
            .program("/opt/tide/relay")
            .program("/usr/bin/gauge")
            .program("/usr/bin/java")
            .dir("/srv/tide", 0o755, 0);
        let words: Vec<String> = split_words(command);
        launched(&Snapshot::new(&host), &words, &BTreeMap::new()).0.join(" ")
    }

    #[test]
    fn what_is_started_is_found_behind_shells_starters_and_scripts() {
        for (command, expected) in [
            ("/bin/sh -c 'cd /srv && exec /opt/tide/relay --port 7400'", "/opt/tide/relay --port 7400"),
            ("/bin/bash -lc \"/opt/tide/relay; true\"", "/opt/tide/relay"),
            ("/usr/bin/env LANG=C /opt/tide/relay -v", "/opt/tide/relay -v"),
            ("/usr/bin/env -C /srv/tide /opt/tide/relay", "/opt/tide/relay"),
            ("/usr/bin/nice -n 5 /usr/bin/setpriv --reuid=tide /opt/tide/relay", "/opt/tide/relay"),
            ("/usr/sbin/runuser -u tide -c '/opt/tide/relay --x'", "/opt/tide/relay --x"),
            ("/opt/tide/relay --port 1", "/opt/tide/relay --port 1"),
        ] {
            assert_eq!(runs(command, "no script"), expected, "{command}");
        }
        let script = "#!/bin/sh\n# exec /opt/old\nset -e\nHOME_DIR=/opt/tide\nJAVA=/usr/bin/java\n\
            mkdir -p /run/tide\nexec $JAVA $JAVA_OPTS -jar $HOME_DIR/relay.jar \"$@\"\n";
        for command in ["/opt/tide/run.sh start", "/bin/sh /opt/tide/run.sh", "/usr/bin/env /opt/tide/run.sh"]
        {
            assert_eq!(runs(command, script), "/usr/bin/java -jar /opt/tide/relay.jar", "{command}");
        }
        let taken = script.replace("mkdir -p /run/tide", ". /etc/default/tide");
        assert_eq!(runs("/opt/tide/run.sh", &taken), "/opt/jdk/bin/java -jar /opt/tide/relay.jar");
        assert_eq!(runs("/opt/tide/run.sh", "#!/usr/bin/python3\nprint()\n"), "/opt/tide/run.sh");
        let circle = "#!/bin/sh\nexec /opt/tide/run.sh\n";
        assert_eq!(runs("/opt/tide/run.sh", circle), "/opt/tide/run.sh", "no circle");
    }

    #[test]
    fn what_a_script_decides_itself_is_not_guessed() {
        for (script, expected) in [
            ("if [ -f x ]; then\n  exec /opt/none\nfi\n", "/opt/tide/run.sh"),
            ("[ -f x ] || exec /opt/none\n", "/opt/tide/run.sh"),
            ("if [ -f x ]; then\n  exec /opt/none\nelse\n  exec /opt/tide/relay\nfi\n", "/opt/tide/relay"),
            ("exec $JAVA_HOME/bin/java -jar /opt/tide/relay.jar\n", "/opt/tide/run.sh"),
            ("exec /usr/sbin/haproxy -f $CONFIG\n", "/opt/tide/run.sh"),
            ("P=/opt/a\nif true; then\n  P=/opt/b\nfi\nexec $P\n", "/opt/tide/run.sh"),
            (". $HOME/env\nP=/opt/a\nexec $P\n", "/opt/tide/run.sh"),
            ("exec ${P:-/opt/tide/relay}\n", "/opt/tide/relay"),
            ("exec gauge --port 7400\n", "/usr/bin/gauge --port 7400"),
            ("cd /opt/tide\njava -jar relay.jar\n", "/usr/bin/java -jar relay.jar"),
            ("gauge --port 7400\n", "/opt/tide/run.sh"),
            ("exec none --port 7400\n", "/opt/tide/run.sh"),
            ("PATH=/opt/tide\nexec relay\n", "/opt/tide/relay"),
        ] {
            assert_eq!(runs("/opt/tide/run.sh", &format!("#!/bin/sh\n{script}")), expected, "{script}");
        }
    }

    #[test]
    fn an_interpreter_is_told_by_what_it_runs() {
        let of = |text: &str| script_of(&split_words(text));
        assert_eq!(of("python3 -u /opt/relay.py --x"), Some("/opt/relay.py".into()));
        assert_eq!(of("python3 -m http.server 80"), Some("-m http.server".into()));
        assert_eq!(of("node"), None);
        assert!(is_interpreter("/usr/bin/python3.11") && !is_interpreter("/opt/relay"));
    }
}
