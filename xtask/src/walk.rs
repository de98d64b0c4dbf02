//! `cargo xtask walk`: a fix and its way back, ended by SIGKILL, or given an error, at the N-th of every call
//! that changes something, N from 1 until a run ends by itself. After one `undo` the files must be as they
//! were before (or, where the change stands and nothing was to be undone, as after it), nothing of ours may
//! remain beside them, and what was printed must be true.
use serde_json::Value;
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Calls that change something, or belong to one that does.
const CALLS: &[&str] = &[
    "write",
    "fsync",
    "renameat",
    "renameat2",
    "unlinkat",
    "mkdirat",
    "symlinkat",
    "fchmod",
    "fchmodat",
    "chmod",
    "fchown",
    "fchownat",
    "fsetxattr",
    "ftruncate",
    "flock",
    "openat2",
];
/// Errors that a call may come back with.
const ERRORS: &[&str] = &["ENOSPC", "EIO", "EROFS", "EPERM", "EINTR"];
/// What the report covers: it is as old as these.
const COVERED: &[&str] = &[
    "crates/core/src/fix",
    "crates/core/src/trust.rs",
    "crates/linux/src/writer.rs",
    "crates/linux/src/processes.rs",
    "crates/linux/src/state.rs",
    "crates/linux/src/descent.rs",
];
const REPORT: &str = "xtask/live/walk.txt";
/// An account that exists in the made-up trees, and its number.
const TIDE: u32 = 71;

/// One made-up host with a fault, and the fix that is walked.
struct Scene {
    name: &'static str,
    /// Kinds of steps that it takes.
    steps: &'static str,
    service: &'static str,
    pick: &'static str,
    lay_out: fn(&Path),
    /// Whether the file system exchanges two names in one call; where not, every such call is answered as one
    /// that cannot does.
    exchange: bool,
}

impl Scene {
    /// A scene on a file system that exchanges names.
    fn of(
        name: &'static str,
        steps: &'static str,
        service: &'static str,
        pick: &'static str,
        lay_out: fn(&Path),
    ) -> Self {
        Self { name, steps, service, pick, lay_out, exchange: true }
    }
}

fn write(root: &Path, name: &str, text: &str) {
    let path = root.join(name);
    if let Some(parent) = path.parent() {
        let _ = fs::create_dir_all(parent);
    }
    let _ = fs::write(path, text);
}

fn unit(root: &Path, extra: &str) {
    write(
        root,
        "etc/passwd",
        "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/:/bin/false\ntide:x:71:71::/:/bin/false\n",
    );
    write(root, "etc/group", "root:x:0:\nwww-data:x:33:\ntide:x:71:\n");
    write(root, "usr/sbin/nginx", "\u{7f}ELF");
    let _ = fs::set_permissions(root.join("usr/sbin/nginx"), fs::Permissions::from_mode(0o755));
    let text = format!(
        "[Service]\n{extra}ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n[Install]\n\
            WantedBy=multi-user.target\n"
    );
    write(root, "etc/systemd/system/edge.service", &text);
    let _ = fs::create_dir_all(root.join("etc/systemd/system/multi-user.target.wants"));
    let _ = symlink("../edge.service", root.join("etc/systemd/system/multi-user.target.wants/edge.service"));
    for dir in ["var/log/nginx", "run", "var/lib/nginx"] {
        let _ = fs::create_dir_all(root.join(dir));
    }
    write(
        root,
        "etc/nginx/nginx.conf",
        "error_log /var/log/nginx/error.log;\npid /run/nginx.pid;\nevents { }\n\
            http {\n    access_log off;\n    server {\n        listen 8088;\n    }\n}\n",
    );
}

fn replace(root: &Path, name: &str, from: &str, to: &str) {
    let text = fs::read_to_string(root.join(name)).unwrap_or_default();
    write(root, name, &text.replace(from, to));
}

fn httpd(root: &Path) {
    unit(root, "");
    let modules = ["mpm_event", "authz_core", "headers"];
    for module in modules {
        write(root, &format!("usr/lib/apache2/modules/mod_{module}.so"), &format!("\0{module}_module\0"));
        write(
            root,
            &format!("etc/apache2/mods-available/{module}.load"),
            &format!("LoadModule {module}_module /usr/lib/apache2/modules/mod_{module}.so\n"),
        );
    }
    write(root, "etc/apache2/mods-available/headers.conf", "# none\n");
    write(root, "usr/sbin/apache2", "\u{7f}ELF");
    let _ = fs::set_permissions(root.join("usr/sbin/apache2"), fs::Permissions::from_mode(0o755));
    write(
        root,
        "lib/systemd/system/apache2.service",
        "[Service]\nExecStart=/usr/sbin/apache2 -k start -f /etc/apache2/apache2.conf\n",
    );
    for dir in ["etc/apache2/mods-enabled", "var/log/apache2", "var/run/apache2", "etc/apache2/conf.d"] {
        let _ = fs::create_dir_all(root.join(dir));
    }
    for module in ["mpm_event", "authz_core"] {
        let _ = symlink(
            format!("../mods-available/{module}.load"),
            root.join(format!("etc/apache2/mods-enabled/{module}.load")),
        );
    }
    write(
        root,
        "etc/apache2/apache2.conf",
        "DefaultRuntimeDir /var/run/apache2\nPidFile /var/run/apache2/apache2.pid\nServerName quay1\n\
            ErrorLog /var/log/apache2/error.log\nListen 80\nIncludeOptional mods-enabled/*.load\n\
            Include conf.d\n",
    );
    // A directory that is included whole: what is left beside its files would be read.
    write(root, "etc/apache2/conf.d/site.conf", "Header set X-Quay one\n");
}

/// A directive that no daemon knows, in a file with an owner and a mode of its own.
fn misspelt(root: &Path) {
    unit(root, "");
    replace(root, "etc/nginx/nginx.conf", "listen", "lisen");
    let _ = fs::set_permissions(root.join("etc/nginx/nginx.conf"), fs::Permissions::from_mode(0o640));
    let _ = chown(root.join("etc/nginx/nginx.conf"), Some(0), Some(33));
}

fn scenes() -> Vec<Scene> {
    vec![
        Scene::of(
            "a misspelt directive is written anew, owner and mode kept",
            "edit",
            "edge",
            "correct-directive",
            misspelt,
        ),
        Scene {
            exchange: false,
            ..Scene::of(
                "the same on a file system that exchanges no names",
                "edit",
                "edge",
                "correct-directive",
                misspelt,
            )
        },
        Scene::of(
            "a directive in a directory that is included whole",
            "edit",
            "apache2",
            "comment-out",
            |root| {
                httpd(root);
                write(root, "etc/apache2/conf.d/site.conf", "ServerTide high\n");
            },
        ),
        Scene::of(
            "a module with its settings is linked",
            "symbolic-link, symbolic-link",
            "apache2",
            "load-module",
            httpd,
        ),
        Scene::of(
            "a log directory and its parents are made",
            "directory, directory",
            "edge",
            "make-directory",
            |root| {
                unit(root, "User=tide\n");
                replace(root, "etc/nginx/nginx.conf", "/var/log/nginx/", "/var/log/edge/deep/");
            },
        ),
        Scene::of("a file left by root goes back to its account", "owner", "edge", "give-back", |root| {
            unit(root, "User=tide\n");
            write(root, "var/log/nginx/error.log", "x\n");
            let _ =
                fs::set_permissions(root.join("var/log/nginx/error.log"), fs::Permissions::from_mode(0o600));
            let _ = chown(root.join("var/log/nginx"), Some(TIDE), Some(TIDE));
            let _ = fs::set_permissions(root.join("run"), fs::Permissions::from_mode(0o1777));
        }),
        Scene::of("the one missing right is granted", "owner, mode", "edge", "grant-access", |root| {
            unit(root, "User=tide\n");
            let _ = fs::set_permissions(root.join("var/log/nginx"), fs::Permissions::from_mode(0o700));
            let _ = fs::set_permissions(root.join("run"), fs::Permissions::from_mode(0o1777));
        }),
        Scene::of(
            "a directory in the place of the log is moved aside",
            "rename",
            "edge",
            "move-aside",
            |root| {
                unit(root, "");
                let _ = fs::create_dir_all(root.join("var/log/nginx/error.log/inner"));
            },
        ),
        Scene::of(
            "a drop-in is put beside the unit",
            "directory, create, reload-manager",
            "edge",
            "allow-in-sandbox",
            |root| unit(root, "ReadOnlyPaths=/var/log/nginx\n"),
        ),
    ]
}

/// Every name below a directory with all that a change could touch.
fn picture(root: &Path) -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    let mut open = vec![root.to_path_buf()];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            let path = entry.path();
            let Ok(meta) = fs::symlink_metadata(&path) else { continue };
            let content = if meta.is_file() {
                Sha256::digest(fs::read(&path).unwrap_or_default())
                    .iter()
                    .map(|b| format!("{b:02x}"))
                    .collect()
            } else {
                fs::read_link(&path).map(|l| l.to_string_lossy().into_owned()).unwrap_or_default()
            };
            if meta.is_dir() {
                open.push(path.clone());
            }
            let name = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().into_owned();
            all.insert(name, format!("{:o} {}:{} {content}", meta.mode(), meta.uid(), meta.gid()));
        }
    }
    all
}

struct Stage<'p> {
    program: &'p Path,
    dir: PathBuf,
    scene: &'p Scene,
}

impl Stage<'_> {
    fn root(&self) -> PathBuf {
        self.dir.join("tree")
    }

    /// The made-up host as it was, its journal empty.
    fn fresh(&self) -> BTreeMap<String, String> {
        let _ = fs::remove_dir_all(&self.dir);
        let _ = fs::create_dir_all(self.root());
        (self.scene.lay_out)(&self.root());
        picture(&self.root())
    }

    fn call(&self, injected: Option<&str>, words: &[&str]) -> std::io::Result<Output> {
        let always = (!self.scene.exchange).then_some("renameat2:error=EINVAL");
        let all: Vec<&str> = always.into_iter().chain(injected).collect();
        let mut command = if all.is_empty() {
            Command::new(self.program)
        } else {
            let calls: Vec<&str> = all.iter().filter_map(|how| how.split(':').next()).collect();
            let mut strace = Command::new("strace");
            // A filter in the kernel is quicker, but lets no signal through.
            if all.iter().all(|how| how.contains("error=")) {
                strace.arg("--seccomp-bpf");
            }
            strace.args(["-f", "-qq", "-o", "/dev/null", "-e", &format!("trace={}", calls.join(","))]);
            strace
                .args(all.iter().flat_map(|how| ["-e".to_owned(), format!("inject={how}")]))
                .arg(self.program);
            strace
        };
        command
            .arg("--root")
            .arg(self.root())
            .arg("--state-dir")
            .arg(self.dir.join("state"))
            .args(words)
            .env("HOME", &self.dir)
            .output()
    }

    fn fix(&self, injected: Option<&str>) -> std::io::Result<Output> {
        self.call(injected, &["fix", self.scene.service, "--pick", self.scene.pick, "--apply"])
    }

    /// The change that is not put back yet, if there is one.
    fn open_change(&self) -> Result<Option<String>, String> {
        let out = self.call(None, &["undo", "--format", "json"]).map_err(|e| e.to_string())?;
        let list: Value = serde_json::from_slice(&out.stdout)
            .map_err(|e| format!("the list of changes: {e}: {}", String::from_utf8_lossy(&out.stderr)))?;
        let open = list["changes"]
            .as_array()
            .into_iter()
            .flatten()
            .find(|c| c["outcome"] == "begun" || c["outcome"] == "kept");
        Ok(open.and_then(|c| c["id"].as_str()).map(str::to_owned))
    }

    fn undo(&self, id: &str, injected: Option<&str>) -> std::io::Result<Output> {
        self.call(injected, &["undo", id])
    }
}

fn difference(a: &BTreeMap<String, String>, b: &BTreeMap<String, String>) -> String {
    let changed = a.iter().filter(|(k, v)| b.get(*k) != Some(v)).map(|(k, v)| format!("- {k} {v}"));
    let new = b.iter().filter(|(k, v)| a.get(*k) != Some(v)).map(|(k, v)| format!("+ {k} {v}"));
    changed.chain(new).take(6).collect::<Vec<_>>().join(" | ")
}

fn hold(condition: bool, what: impl FnOnce() -> String) -> Result<(), String> {
    if condition { Ok(()) } else { Err(what()) }
}

fn told(out: &Output) -> String {
    format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr))
        .replace('\n', " ")
}

/// What is walked: a fix that is cut short, its undo that is, or a fix whose call fails.
#[derive(Clone, Copy, PartialEq)]
enum Walk {
    KillFix,
    KillUndo,
    FailFix,
    FailUndo,
}

/// One point: whether the run was met at all, so that the walk goes on.
fn point(stage: &Stage, walk: Walk, how: &str) -> Result<bool, String> {
    let before = stage.fresh();
    let fixing = matches!(walk, Walk::KillFix | Walk::FailFix);
    let mut first = stage.fix(fixing.then_some(how)).map_err(|e| e.to_string())?;
    if !fixing {
        let id = stage.open_change()?.ok_or_else(|| format!("the fix made no change: {}", told(&first)))?;
        first = stage.undo(&id, Some(how)).map_err(|e| e.to_string())?;
    }
    // strace ends as what it traced does.
    let cut = std::os::unix::process::ExitStatusExt::signal(&first.status) == Some(9)
        || first.status.code() == Some(137);
    let after = picture(&stage.root());
    let words = told(&first);
    let claims_back =
        first.status.code() == Some(4) && words.contains("was put back") && !words.contains("not everything");
    hold(!claims_back || after == before, || {
        format!("it says that everything was put back, but: {} ({words})", difference(&before, &after))
    })?;
    let refused = first.status.code() == Some(4) && words.contains("nothing had been changed");
    hold(!refused || after == before, || {
        format!("it says that nothing was changed, but: {} ({words})", difference(&before, &after))
    })?;
    if let Some(id) = stage.open_change()? {
        let undone = stage.undo(&id, None).map_err(|e| e.to_string())?;
        hold(undone.status.success(), || {
            format!("undo ended with {:?}: {}", undone.status.code(), told(&undone))
        })?;
        hold(stage.open_change()?.is_none(), || "undo left the change open".into())?;
    }
    let end = picture(&stage.root());
    hold(end == before, || format!("after undo: {} ({words})", difference(&before, &end)))?;
    hold(!end.keys().any(|name| name.contains("jolly")), || "something of ours is left".into())?;
    // A run that was not met ends as it does without an injection.
    let met = cut
        || (matches!(walk, Walk::FailFix | Walk::FailUndo)
            && !first.status.success()
            && first.status.code() != Some(1));
    Ok(met)
}

/// Walks one scene. `every` leaves points out; how many were tried comes back with what failed.
fn scene(program: &Path, dir: &Path, scene: &Scene, walk: Walk, every: usize) -> (usize, Vec<String>) {
    let stage = Stage { program, dir: dir.to_path_buf(), scene };
    let (mut tried, mut failed) = (0, Vec::new());
    let mut ever = false;
    let errors: &[&str] = if matches!(walk, Walk::KillFix | Walk::KillUndo) {
        &[""]
    } else if every > 1 {
        &ERRORS[..1]
    } else {
        ERRORS
    };
    for call in CALLS.iter().filter(|call| scene.exchange || **call != "renameat2") {
        for error in errors {
            let (mut at, mut quiet) = (1, 0);
            // Some calls' errors are taken for what they are and the run goes on: so a few quiet ones do not
            // end the walk.
            while quiet < if every > 1 { 1 } else { 3 } && at < 400 {
                let how = if error.is_empty() {
                    format!("{call}:signal=SIGKILL:when={at}")
                } else {
                    format!("{call}:error={error}:when={at}")
                };
                match point(&stage, walk, &how) {
                    Ok(met) => {
                        ever |= met;
                        quiet = if met { 0 } else { quiet + 1 };
                    }
                    Err(why) => failed.push(format!("{} · {how}: {why}", scene.name)),
                }
                tried += 1;
                at += if quiet > 0 { 1 } else { every };
            }
        }
    }
    // A walk that never met its run walked nothing.
    if !ever {
        failed.push(format!("{}: no point of the walk was met", scene.name));
    }
    (tried, failed)
}

fn covered() -> String {
    let mut hasher = Sha256::new();
    let mut files: Vec<PathBuf> = Vec::new();
    let mut open: Vec<PathBuf> = COVERED.iter().map(PathBuf::from).collect();
    while let Some(path) = open.pop() {
        if path.is_dir() {
            open.extend(
                fs::read_dir(&path)
                    .into_iter()
                    .flatten()
                    .flatten()
                    .map(|e| e.path())
                    .filter(|p| !p.to_string_lossy().contains("tests")),
            );
        } else {
            files.push(path);
        }
    }
    files.sort();
    for file in files {
        hasher.update(fs::read(&file).unwrap_or_default());
    }
    hasher.finalize().iter().take(8).map(|b| format!("{b:02x}")).collect()
}

/// When a report was made, and what of the code it is about.
pub(crate) fn stamp() -> String {
    let word = |program: &str, arguments: &[&str]| {
        Command::new(program)
            .args(arguments)
            .output()
            .map(|o| String::from_utf8_lossy(&o.stdout).trim().to_owned())
            .unwrap_or_default()
    };
    format!(
        "date {}, on top of commit {}\ncovers {}",
        word("date", &["+%F"]),
        word("git", &["rev-parse", "--short", "HEAD"]),
        covered()
    )
}

/// Walks every scene, or a part of the points; the whole walk writes the report.
pub(crate) fn run(program: &Path, whole: bool) -> Result<(), String> {
    if Command::new("strace").arg("-V").output().is_err() {
        return Err("the walk cannot be done here: strace is not installed".into());
    }
    let program = fs::canonicalize(program).map_err(|e| e.to_string())?;
    let scenes = scenes();
    let every = if whole { 1 } else { 6 };
    let walks = [
        (Walk::KillFix, "fix killed"),
        (Walk::KillUndo, "undo killed"),
        (Walk::FailFix, "fix failing"),
        (Walk::FailUndo, "undo failing"),
    ];
    let work: Vec<(usize, usize)> =
        (0..scenes.len()).flat_map(|s| (0..walks.len()).map(move |w| (s, w))).collect();
    let (next, results) = (AtomicUsize::new(0), Mutex::new(BTreeMap::new()));
    let base = std::env::temp_dir().join(format!("walk-{}", std::process::id()));
    std::thread::scope(|scope| {
        for worker in 0..std::thread::available_parallelism().map_or(1, std::num::NonZero::get) {
            let (next, results, scenes, work, program, base) =
                (&next, &results, &scenes, &work, &program, &base);
            scope.spawn(move || {
                while let Some((s, w)) = work.get(next.fetch_add(1, Ordering::Relaxed)).copied() {
                    let outcome =
                        scene(program, &base.join(worker.to_string()), &scenes[s], walks[w].0, every);
                    if let Ok(mut all) = results.lock() {
                        all.insert((s, w), outcome);
                    }
                }
            });
        }
    });
    let _ = fs::remove_dir_all(&base);
    let results = results.into_inner().map_err(|e| e.to_string())?;
    let mut report = String::from(
        "# Written by `cargo xtask walk --all`: a fix and its undo, killed or failing at the N-th of every \
            call that changes something.\n",
    );
    let (mut all, mut bad) = (0, Vec::new());
    for ((s, w), (tried, failed)) in &results {
        all += tried;
        report.push_str(&format!(
            "{:5} of {tried:5}  {}: {} ({})\n",
            tried - failed.len(),
            walks[*w].1,
            scenes[*s].name,
            scenes[*s].steps
        ));
        bad.extend(failed.iter().cloned());
    }
    report.push_str(&format!("{} of {all} points hold\n{}\n", all - bad.len(), stamp()));
    say(&report);
    bad.iter().take(40).for_each(|b| say(&format!("FAIL {b}")));
    if whole {
        fs::write(REPORT, &report).map_err(|e| e.to_string())?;
    }
    if bad.is_empty() { Ok(()) } else { Err(format!("{} of {all} points of the walk failed", bad.len())) }
}

/// Whether the committed report is about the code as it is.
pub(crate) fn check() -> Result<(), String> {
    let report = fs::read_to_string(REPORT).unwrap_or_default();
    if report.contains(&format!("covers {}", covered())) {
        Ok(())
    } else {
        Err(format!("{REPORT} is older than the code it covers: run cargo xtask walk --all"))
    }
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}
