//! A real booted host for the live ring: a Debian tree made once, an overlay for each run, systemd as init.
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

/// Names the directory where the tree is cached.
const CACHE: &str = "JOLLY_LIVE_DIR";

/// What the machine must have.
const TOOLS: &[&str] = &["debootstrap", "systemd-nspawn", "nsenter", "ip"];

/// Packages of the tree.
const PACKAGES: &[&str] = &[
    "apache2",
    "nginx",
    "haproxy",
    "mariadb-server",
    "postgresql",
    "redis-server",
    "php-fpm",
    "php-mysql",
    "php-pgsql",
    "tomcat10",
    "curl",
    "openssl",
    "acl",
    "python3-minimal",
    "strace",
    "rsyslog",
];

/// What incidents and drivers call inside: its name, and its text.
const HELPERS: &[(&str, &str)] = &[
    ("make-edge", include_str!("../live/make-edge.sh")),
    ("make-desk", include_str!("../live/make-desk.sh")),
    ("make-pages", include_str!("../live/make-pages.sh")),
    ("hold-port", include_str!("../live/hold-port.sh")),
    ("until-quiet", include_str!("../live/until-quiet.sh")),
];

/// A booted host. Powered off when dropped.
pub(crate) struct Host {
    name: String,
    base: PathBuf,
    init: u32,
}

fn run(program: &str, arguments: &[&str]) -> Result<(), String> {
    let output = Command::new(program)
        .args(arguments)
        .env("DEBIAN_FRONTEND", "noninteractive")
        .stdin(Stdio::null())
        .output()
        .map_err(|e| format!("{program}: {e}"))?;
    if output.status.success() {
        return Ok(());
    }
    let words = String::from_utf8_lossy(&output.stderr).lines().rev().take(4).collect::<Vec<_>>().join(" / ");
    Err(format!("{program} {}: {words}", arguments.join(" ")))
}

/// The directory that holds tree and runs.
fn cache() -> PathBuf {
    std::env::var_os(CACHE).map_or_else(|| PathBuf::from("/var/tmp/jolly-live"), PathBuf::from)
}

/// What is missing for the live ring, in words.
pub(crate) fn missing() -> Vec<String> {
    let mut missing: Vec<String> = TOOLS
        .iter()
        .filter(|t| !["/usr/sbin", "/usr/bin", "/sbin", "/bin"].iter().any(|d| Path::new(d).join(t).exists()))
        .map(|t| format!("{t} is not installed"))
        .collect();
    let root = fs::read_to_string("/proc/self/status")
        .unwrap_or_default()
        .lines()
        .any(|l| l.starts_with("Uid:\t0\t0"));
    if !root {
        missing.push("root is needed to boot a host".into());
    }
    missing
}

/// The tree, made when it is not there yet.
pub(crate) fn tree() -> Result<PathBuf, String> {
    let tree = cache().join("tree");
    let done = cache().join("tree.done");
    let wanted = PACKAGES.join(" ");
    if fs::read_to_string(&done).is_ok_and(|d| d == wanted) {
        return Ok(tree);
    }
    fs::create_dir_all(cache()).map_err(|e| e.to_string())?;
    let path = tree.to_string_lossy().into_owned();
    if !tree.join("etc/debian_version").exists() {
        run(
            "debootstrap",
            &[
                "--variant=minbase",
                "--include=systemd,systemd-sysv,dbus,iproute2,procps",
                "bookworm",
                &path,
                &mirror(),
            ],
        )?;
    }
    // The machine's own package sources and settings reach what this machine reaches.
    for part in ["etc/apt/apt.conf.d", "etc/apt/sources.list.d"] {
        for entry in fs::read_dir(Path::new("/").join(part)).into_iter().flatten().flatten() {
            let name = entry.file_name();
            let debian = part.ends_with("conf.d") || name.to_string_lossy().starts_with("debian");
            if debian && entry.path().is_file() {
                fs::copy(entry.path(), tree.join(part).join(&name)).map_err(|e| e.to_string())?;
            }
        }
    }
    if tree.join("etc/apt/sources.list.d/debian.sources").exists() {
        let _ = fs::remove_file(tree.join("etc/apt/sources.list"));
    }
    let _ = fs::copy("/etc/resolv.conf", tree.join("etc/resolv.conf"));
    let policy = tree.join("usr/sbin/policy-rc.d");
    fs::write(&policy, "#!/bin/sh\nexit 101\n").map_err(|e| e.to_string())?;
    run("chmod", &["755", &policy.to_string_lossy()])?;
    run("chroot", &[&path, "apt-get", "update"])?;
    let mut install = vec![path.as_str(), "apt-get", "install", "-y", "--no-install-recommends"];
    install.extend(PACKAGES);
    // The Java runtime asks /proc where it stands.
    let proc = tree.join("proc").to_string_lossy().into_owned();
    run("mount", &["-t", "proc", "proc", &proc])?;
    let installed = run("chroot", &install);
    run("umount", &["-l", &proc])?;
    installed?;
    fs::remove_file(&policy).map_err(|e| e.to_string())?;
    // Only where it is wanted.
    run("chroot", &[&path, "systemctl", "disable", "rsyslog"])?;
    fs::write(done, wanted).map_err(|e| e.to_string())?;
    Ok(tree)
}

/// The Debian mirror of this machine's own sources.
fn mirror() -> String {
    let mut text = fs::read_to_string("/etc/apt/sources.list").unwrap_or_default();
    for entry in fs::read_dir("/etc/apt/sources.list.d").into_iter().flatten().flatten() {
        text.push('\n');
        text.push_str(&fs::read_to_string(entry.path()).unwrap_or_default());
    }
    let mut words = text.lines().filter(|l| !l.trim_start().starts_with('#')).flat_map(str::split_whitespace);
    words
        .find(|w| w.starts_with("http") && w.trim_end_matches('/').ends_with("/debian"))
        .unwrap_or_default()
        .to_owned()
}

impl Host {
    /// Boots an overlay of the tree and copies the program into it.
    pub(crate) fn boot(name: &str, program: &Path) -> Result<Self, String> {
        let tree = tree()?;
        let base = cache().join("runs").join(name);
        // What an interrupted run left behind would be taken for the new host.
        while let Some(old) = find_init(&base) {
            run("kill", &["-KILL", &old.to_string()])?;
            std::thread::sleep(Duration::from_millis(300));
        }
        discard(&base);
        // What a broken daemon writes without end must not fill this machine's disk; and memory is faster.
        fs::create_dir_all(&base).map_err(|e| e.to_string())?;
        run("mount", &["-t", "tmpfs", "-o", "size=6g", "tmpfs", &base.to_string_lossy()])?;
        for part in ["up", "work", "root"] {
            fs::create_dir_all(base.join(part)).map_err(|e| e.to_string())?;
        }
        let text = |p: &Path| p.to_string_lossy().into_owned();
        let root = text(&base.join("root"));
        let options = format!(
            "lowerdir={},upperdir={},workdir={}",
            text(&tree),
            text(&base.join("up")),
            text(&base.join("work"))
        );
        run("mount", &["-t", "overlay", "overlay", "-o", &options, &root])?;
        fs::copy(program, base.join("root/usr/local/bin/jolly-sentinel"))
            .map_err(|e| format!("{}: {e}", program.display()))?;
        for (name, helper) in HELPERS {
            let path = base.join("root/usr/local/bin").join(name);
            fs::write(&path, helper)
                .and_then(|()| fs::set_permissions(&path, fs::Permissions::from_mode(0o755)))
                .map_err(|e| format!("{}: {e}", path.display()))?;
        }
        // Two hosts in one control group confuse each other's manager: the launcher gets one of its own.
        let script = format!(
            "for c in /sys/fs/cgroup/systemd /sys/fs/cgroup/unified /sys/fs/cgroup; do [ -e $c/cgroup.procs \
                ] && mkdir -p $c/{name} 2>/dev/null && echo $$ > $c/{name}/cgroup.procs 2>/dev/null; done; \
             exec systemd-nspawn -q -M {name} -D {root} -b --private-network --register=no --keep-unit \
             --console=read-only --link-journal=no --resolv-conf=off --timezone=off"
        );
        let console = fs::File::create(base.join("console")).map_err(|e| e.to_string())?;
        let mut launcher = Command::new("setsid")
            .args(["sh", "-c", &script])
            .stdin(Stdio::null())
            .stdout(console)
            .stderr(Stdio::null())
            .spawn()
            .map_err(|e| e.to_string())?;
        let began = Instant::now();
        let init = loop {
            if let Some(init) = find_init(&base) {
                break init;
            }
            if began.elapsed() > Duration::from_secs(60) {
                let _ = launcher.kill();
                return Err(format!(
                    "the host {name} does not come up: see {}",
                    base.join("console").display()
                ));
            }
            std::thread::sleep(Duration::from_millis(50));
        };
        let host = Self { name: name.to_owned(), base, init };
        let settled = |h: &Self| {
            h.run("systemctl is-system-running 2>/dev/null")
                .is_ok_and(|o| matches!(String::from_utf8_lossy(&o.stdout).trim(), "running" | "degraded"))
        };
        while !settled(&host) {
            if began.elapsed() > Duration::from_secs(90) {
                return Err(format!("the host {name} does not settle"));
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        host.run("ip link set lo up")?;
        Ok(host)
    }

    /// Runs a shell command inside.
    pub(crate) fn run(&self, command: &str) -> Result<Output, String> {
        Command::new("nsenter")
            .args([
                "-t",
                &self.init.to_string(),
                "-a",
                "--",
                "env",
                "-i",
                "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
                "HOME=/root",
                "COLUMNS=100",
                "sh",
                "-c",
                command,
            ])
            .stdin(Stdio::null())
            .output()
            .map_err(|e| e.to_string())
    }

    /// Its root as seen from outside.
    pub(crate) fn root(&self) -> PathBuf {
        self.base.join("root")
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        let alive = || Path::new(&format!("/proc/{}", self.init)).exists();
        // SIGRTMIN+4 is a clean power-off of the manager.
        let _ = run("kill", &["-s", "RTMIN+4", &self.init.to_string()]);
        let began = Instant::now();
        while alive() && began.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(50));
        }
        if alive() {
            let _ = run("kill", &["-KILL", &self.init.to_string()]);
        }
        discard(&self.base);
        for group in ["/sys/fs/cgroup/systemd", "/sys/fs/cgroup/unified", "/sys/fs/cgroup"] {
            let _ = fs::remove_dir(Path::new(group).join(&self.name));
        }
    }
}

fn discard(base: &Path) {
    let began = Instant::now();
    let root = base.join("root");
    for mounted in [root.as_path(), base] {
        while mounted.exists()
            && run("umount", &["-l", &mounted.to_string_lossy()]).is_ok()
            && began.elapsed() < Duration::from_secs(5)
        {}
    }
    let _ = fs::remove_dir_all(base);
}

/// The manager inside: systemd as pid 1 of a space of its own, on this run's overlay.
fn find_init(base: &Path) -> Option<u32> {
    let overlay = format!("upperdir={}", base.join("up").display());
    fs::read_dir("/proc").ok()?.flatten().filter_map(|e| e.file_name().to_str()?.parse::<u32>().ok()).find(
        |pid| {
            let read = |name: &str| fs::read_to_string(format!("/proc/{pid}/{name}")).unwrap_or_default();
            let spaces = read("status")
                .lines()
                .find_map(|l| l.strip_prefix("NSpid:").map(str::to_owned))
                .unwrap_or_default();
            let numbers: Vec<&str> = spaces.split_whitespace().collect();
            numbers.len() > 1
                && numbers.last() == Some(&"1")
                && read("comm").trim() == "systemd"
                && read("mountinfo").contains(&overlay)
        },
    )
}
