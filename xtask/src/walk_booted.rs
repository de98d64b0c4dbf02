//! `cargo xtask walk --booted`: the same walk over steps that the service manager takes, on a real booted
//! host: units enabled, unmasked, stopped, started, and a drop-in that the manager must read. After one
//! `undo` the states of the units, the links that enable them and the files must be as before.
use crate::host::Host;
use serde_json::Value;
use std::path::Path;
use std::time::{Duration, Instant};

/// Calls around which a change of the manager's happens: what is said to it, and what is written before and
/// after.
const CALLS: &[&str] = &["sendto", "sendmsg", "write", "fsync", "renameat2", "unlinkat", "mkdirat"];

struct Scene {
    name: &'static str,
    service: &'static str,
    pick: &'static str,
    inject: &'static str,
}

const SCENES: &[Scene] = &[
    Scene {
        name: "a masked unit is unmasked and started",
        service: "nginx",
        pick: "unmask",
        inject: "systemctl disable -q apache2; systemctl mask -q nginx",
    },
    Scene {
        name: "the holder of the port is stopped and disabled, and the service started",
        service: "nginx",
        pick: "stop-holder",
        inject: "systemctl start apache2; systemctl start nginx 2>/dev/null",
    },
    Scene {
        name: "a drop-in lets the unit write its log",
        service: "nginx",
        pick: "allow-in-sandbox",
        inject: "systemctl disable -q apache2; mkdir -p /etc/systemd/system/nginx.service.d; printf \
            '[Service]\\nReadOnlyPaths=/var/log/nginx\\n' > /etc/systemd/system/nginx.service.d/tides.conf; \
            systemctl daemon-reload; systemctl start nginx 2>/dev/null",
    },
    Scene {
        name: "a directive is corrected and the unit started",
        service: "nginx",
        pick: "correct-directive",
        inject: "systemctl disable -q apache2; sed -i 's/sendfile on/sendfyle on/' /etc/nginx/nginx.conf; \
            systemctl start nginx 2>/dev/null",
    },
];

/// States of the units, links and files. What failed and what is stopped are one: a start that was undone
/// leaves no failure.
const PICTURE: &str = "for u in nginx apache2; do printf '%s %s %s\\n' $u $(systemctl is-enabled $u) \
    $(systemctl is-active $u | sed s/failed/inactive/); done; \
     cd /; find etc/apache2 etc/nginx etc/systemd -printf '%p %u:%g %m %y %l\\n' -type f -exec \
     sha256sum {} + 2>/dev/null | sort; find / -xdev -name '*jolly*' ! -path '/usr/local/bin/*' ! -path \
     '/var/lib/jolly-sentinel*' ! -path '/proc/*' 2>/dev/null";
const REPORT: &str = "xtask/live/walk-booted.txt";
const FRESH: &str = "rm -rf /var/lib/jolly-sentinel";

#[derive(Clone, Copy, PartialEq)]
enum Walk {
    Kill,
    Fail,
}

struct Point<'h> {
    host: &'h Host,
    scene: &'h Scene,
}

impl Point<'_> {
    fn shell(&self, text: &str) -> Result<(i32, String), String> {
        let out = self.host.run(text)?;
        let told =
            format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
        Ok((out.status.code().unwrap_or(137), told))
    }

    fn picture(&self) -> Result<String, String> {
        Ok(self.shell(PICTURE)?.1)
    }

    /// A job that a killed run had asked for still goes on: the state counts once the manager has no jobs
    /// left.
    fn settle(&self) -> Result<(), String> {
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(20) {
            if self.shell("systemctl list-jobs --no-legend | grep -c service")?.1.trim() == "0" {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        Err("the manager's jobs do not end".into())
    }

    fn call(&self, how: Option<&str>, words: &str) -> Result<(i32, String), String> {
        let traced = how.map_or(String::new(), |how| {
            let call = how.split(':').next().unwrap_or_default();
            format!("strace -f -qq -o /dev/null -e trace={call} -e inject={how} ")
        });
        self.shell(&format!("timeout 60 {traced}jolly-sentinel {words}"))
    }

    fn fix(&self, how: Option<&str>) -> Result<(i32, String), String> {
        self.call(
            how,
            &format!(
                "fix {} --pick {} --apply --yes --settle 0s --wait 4s",
                self.scene.service, self.scene.pick
            ),
        )
    }

    fn open_change(&self) -> Result<Option<String>, String> {
        let (_, out) = self.call(None, "undo --format json")?;
        let list: Value =
            serde_json::from_str(&out).map_err(|e| format!("the list of changes: {e}: {out}"))?;
        let open = list["changes"]
            .as_array()
            .into_iter()
            .flatten()
            .find(|c| c["outcome"] == "begun" || c["outcome"] == "kept");
        Ok(open.and_then(|c| c["id"].as_str()).map(str::to_owned))
    }

    /// One point; whether the run was met there.
    fn walk(&self, walk: Walk, undoing: bool, how: &str) -> Result<bool, String> {
        self.shell(crate::live::RESET)?;
        self.shell(&format!("{FRESH}; {}", self.scene.inject))?;
        let before = self.picture()?;
        let mut first = self.fix((!undoing).then_some(how))?;
        if undoing {
            let id = self.open_change()?.ok_or_else(|| format!("the fix made no change: {}", first.1))?;
            first = self.call(Some(how), &format!("undo {id}"))?;
        }
        self.settle()?;
        if let Some(id) = self.open_change()? {
            let (status, told) = self.call(None, &format!("undo {id}"))?;
            self.settle()?;
            if status != 0 {
                return Err(format!("undo ended with {status}: {told} (before that: {})", first.1));
            }
            if self.open_change()?.is_some() {
                return Err("undo left the change open".into());
            }
        }
        let after = self.picture()?;
        if after != before {
            let lost: Vec<&str> = before.lines().filter(|l| !after.lines().any(|a| a == *l)).collect();
            let new: Vec<&str> = after.lines().filter(|l| !before.lines().any(|b| b == *l)).collect();
            return Err(format!(
                "after undo: - {} + {} ({})",
                lost.join(" | "),
                new.join(" | "),
                first.1.replace('\n', " ")
            ));
        }
        Ok(match walk {
            Walk::Kill => first.0 == 137,
            Walk::Fail => !matches!(first.0, 0 | 1),
        })
    }
}

/// Walks the points of every scene, `every` so many of them.
pub(crate) fn run(program: &Path, every: usize, only: &[&str]) -> Result<(), String> {
    let host = Host::boot("jolly-walk", program)?;
    crate::live::prepare(&host)?;
    let (mut all, mut failed) = (0, 0);
    let mut report = format!(
        "# Written by `cargo xtask walk --booted{}`: a fix and its undo on a booted host, killed or failing \
            at every {} call of those that change something.\n",
        if every == 1 { "-all" } else { "" },
        if every == 1 { "single".to_owned() } else { format!("{every}th") }
    );
    for scene in SCENES.iter().filter(|s| only.is_empty() || only.iter().any(|o| s.name.contains(o))) {
        let point = Point { host: &host, scene };
        let (mut tried, mut bad, mut met_once) = (0, 0, false);
        for walk in [Walk::Kill, Walk::Fail] {
            for undoing in [false, true] {
                for call in CALLS {
                    let (mut at, mut quiet) = (1, 0);
                    while quiet < 1 && at < 400 {
                        let injected = if walk == Walk::Kill { "signal=SIGKILL" } else { "error=EIO" };
                        let how = format!("{call}:{injected}:when={at}");
                        tried += 1;
                        match point.walk(walk, undoing, &how) {
                            Ok(met) => {
                                met_once |= met;
                                quiet = if met { 0 } else { quiet + 1 };
                            }
                            Err(why) => {
                                bad += 1;
                                say(&format!(
                                    "FAIL  {}, {}: {how}: {why}",
                                    scene.name,
                                    if undoing { "undo" } else { "fix" }
                                ));
                            }
                        }
                        at += every;
                    }
                }
            }
        }
        if !met_once {
            bad += 1;
            say(&format!("FAIL  {}: no point of the walk was met", scene.name));
        }
        let line = format!("{:5} of {tried:5}  {}", tried - bad, scene.name);
        say(&line);
        report.push_str(&format!("{line}\n"));
        all += tried;
        failed += bad;
    }
    if only.is_empty() {
        report.push_str(&format!("{} of {all} points hold\n{}\n", all - failed, crate::walk::stamp()));
        std::fs::write(REPORT, report).map_err(|e| e.to_string())?;
    }
    if failed > 0 { Err(format!("{failed} of {all} points of the walk failed")) } else { Ok(()) }
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}
