//! `cargo xtask live`: the program on a real booted host. Every incident of `xtask/live/incidents.toml` is
//! injected for real, diagnosed, fixed by the tool, verified from outside the tool, and undone to the byte.
use crate::host::Host;
use serde::Deserialize;
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

const INCIDENTS: &[&str] = &[
    "xtask/live/incidents.toml",
    "xtask/live/pages.toml",
    "xtask/live/data.toml",
    "xtask/live/stores.toml",
    "xtask/live/starters.toml",
    "xtask/live/units.toml",
    "xtask/live/meant.toml",
];
/// How many incidents may need a second look before the ring as a whole is not to be believed.
const SECOND_LOOKS: usize = 3;

#[derive(Deserialize)]
struct Ring {
    incident: Vec<Incident>,
    #[serde(default)]
    healthy: Vec<Healthy>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Incident {
    pub(crate) name: String,
    pub(crate) service: String,
    /// The page that fails, where that is what is complained about; the service is then the one that is to be
    /// found.
    url: Option<String>,
    #[serde(rename = "break")]
    pub(crate) inject: String,
    pub(crate) cause: String,
    #[serde(default = "certain")]
    certainty: String,
    /// What else is certainly in its way, as it was broken.
    #[serde(default)]
    also: Vec<String>,
    #[serde(default)]
    subject: BTreeMap<String, Value>,
    #[serde(default)]
    fixes: Vec<String>,
    pick: Option<String>,
    set: Option<String>,
    proof: Option<String>,
    keeps: Option<String>,
    #[serde(default)]
    no_fix: bool,
    /// Whether it counts what the kernel counts over all hosts of this machine: no other host runs beside it.
    #[serde(default)]
    alone: bool,
}

fn certain() -> String {
    "certain".into()
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Healthy {
    name: String,
    #[serde(default)]
    service: String,
    /// A page that comes, in place of a service that is well.
    url: Option<String>,
    setup: String,
}

/// Everything that a change could touch, with owner and mode.
const FILES: &str = "cd /; find etc/apache2 etc/nginx etc/postgresql etc/php etc/mysql etc/redis etc/systemd \
    var/log/edge var/run/apache2/ -printf '%p \
    %u:%g %m %y %l\\n' -type f ! -name '*.log' -exec sha256sum {} + 2>/dev/null | sort";
/// Back to how the packages left it. Runs before every incident.
pub(crate) const RESET: &str = "systemctl stop gauge.timer gauge tide-relay.socket tide-relay haproxy \
     edge nginx apache2 \
    mariadb redis-server \
    postgresql@15-main 2>/dev/null; pkill -9 nginx; pkill -9 apache2; pkill -9 python3; pkill -9 sleep; \
    pkill -u root redis-server; chown -R mysql:mysql /var/lib/mysql/mysql; chown redis:adm \
    /var/log/redis/*.log 2>/dev/null; systemctl unmask -q nginx apache2; \
     sed -i '/^\\(frontend\\|backend\\) tide$/,$d' /etc/haproxy/haproxy.cfg; sed -i 's#^dir \
     /home/.*#dir /var/lib/redis#' /etc/redis/redis.conf; sed -i '/^JAVA_OPTS=.*\\(900g\\|6m\\)/d' \
     /etc/default/tomcat10; pkill -CONT php-fpm; \
     systemctl unmask -q php8.2-fpm; systemctl stop tomcat10 php8.2-fpm; sed -i 's/^pm = .*/pm = dynamic/' \
     /etc/php/8.2/fpm/pool.d/www.conf; rm -rf /etc/systemd/system/tide-relay* \
     /etc/init.d/tide-relay /etc/default/tide-relay /usr/local/bin/podman /etc/tide* /var/log/tide* \
     /etc/systemd/system/*.wants/tide-relay.service /etc/edge /etc/systemd/system/edge.service \
     /etc/systemd/system/edge.service.d /etc/systemd/system/edge-data.service \
     /etc/systemd/system/gauge.* /etc/systemd/system/*.wants/gauge.* \
     /etc/mysql/mariadb.conf.d/99-edge.cnf /etc/systemd/system/php8.2-fpm.service.d \
     /etc/systemd/system/redis-server.service.d /etc/systemd/system/mariadb.service.d \
     /etc/systemd/system/apache2.service.d /home/marta /home/tide \
     /etc/systemd/system/tomcat10.service.d /etc/systemd/system/postgresql@15-main.service.d \
     /etc/mysql/conf.d/tide.cnf /etc/php/8.2/fpm/pool.d/zz.conf \
     /etc/postgresql/15/main/conf.d/huge.conf /etc/systemd/system/*.wants/edge.service /var/log/edge \
     /run/edge /var/lib/edge /var/lib/tomcat10/webapps/tides* /etc/tomcat10/Catalina/localhost/gulls.xml \
     /var/log/tomcat10/*.log /etc/systemd/system/nginx.service.d /var/run/apache2/*; \
     umount /opt/edge 2>/dev/null; find /srv -mindepth 1 -delete; \
     pkill -u edge; userdel edge 2>/dev/null; ip addr del 192.0.2.9/32 \
     dev lo 2>/dev/null; for d in apache2 nginx postgresql php mysql redis haproxy \
     tomcat10 default; do rm -rf /etc/$d; cp -a /pristine/$d /etc/$d; done; chmod 700 \
     /var/lib/postgresql/15/main; chmod 660 /var/lib/mysql/ibdata1; rm -rf /opt/relay; \
     find /var/log/nginx /var/log/apache2 -type f -delete; systemctl daemon-reload; systemctl enable -q \
     nginx apache2 2>/dev/null; systemctl reset-failed; true";

/// Every incident and every healthy set-up.
fn whole_ring() -> Result<Ring, String> {
    let mut ring = Ring { incident: Vec::new(), healthy: Vec::new() };
    for file in INCIDENTS {
        let text = std::fs::read_to_string(file).map_err(|e| format!("{file}: {e}"))?;
        let part: Ring = toml::from_str(&text).map_err(|e| format!("{file}: {e}"))?;
        ring.incident.extend(part.incident);
        ring.healthy.extend(part.healthy);
    }
    Ok(ring)
}

/// All incidents.
pub(crate) fn ring() -> Result<Vec<Incident>, String> {
    Ok(whole_ring()?.incident)
}

/// What the incidents need on their host.
pub(crate) fn prepare(host: &Host) -> Result<(), String> {
    let every = "mkdir -p /pristine; for d in apache2 nginx postgresql php mysql redis haproxy tomcat10 \
        default; do cp -a /etc/$d /pristine/$d; done";
    host.run(every).map(drop)
}

/// One thing that the ring looks at.
#[derive(Clone, Copy)]
enum Job<'a> {
    Broken(&'a Incident),
    Well(&'a Healthy),
}

impl Job<'_> {
    fn name(self) -> String {
        match self {
            Self::Broken(incident) => incident.name.clone(),
            Self::Well(healthy) => format!("healthy: {}", healthy.name),
        }
    }

    fn alone(self) -> bool {
        matches!(self, Self::Broken(incident) if incident.alone)
    }

    fn run(self, host: &Host) -> Result<(), String> {
        match self {
            Self::Broken(incident) => one(host, incident),
            Self::Well(healthy) => well(host, healthy),
        }
    }
}

/// What came of the ring so far.
#[derive(Default)]
struct Score<'a> {
    passed: usize,
    failed: usize,
    /// What did not hold while other work ran beside it.
    again: Vec<Job<'a>>,
}

impl<'a> Score<'a> {
    fn tell(&mut self, name: &str, outcome: Result<(), String>) {
        match outcome {
            Ok(()) => {
                self.passed += 1;
                say(&format!("ok    {name}"));
            }
            Err(why) => {
                self.failed += 1;
                say(&format!("FAIL  {name}\n      {}", why.replace('\n', "\n      ")));
            }
        }
    }

    /// A daemon that is broken on a busy machine is now and then not yet broken when it is looked at. What
    /// does not hold is told, and looked at a second time when nothing else runs; it fails when it fails
    /// again.
    fn tell_shared(&mut self, job: Job<'a>, outcome: Result<(), String>) {
        match outcome {
            Err(why) if self.again.len() < SECOND_LOOKS => {
                say(&format!("AGAIN {}\n      {}", job.name(), why.replace('\n', "\n      ")));
                self.again.push(job);
            }
            outcome => self.tell(&job.name(), outcome),
        }
    }
}

/// One incident of every class – cause, service, fix, and whether a page was complained about; which one
/// it is
/// goes on with the day, so that all have their turn.
fn one_of_each(incidents: Vec<Incident>, day: usize) -> Vec<Incident> {
    let class = |i: &Incident| (i.cause.clone(), i.service.clone(), i.pick.clone(), i.url.is_some());
    let mut sizes: BTreeMap<_, (usize, usize)> = BTreeMap::new();
    for incident in &incidents {
        sizes.entry(class(incident)).or_default().0 += 1;
    }
    let mut turn = |incident: &Incident| {
        let Some((size, seen)) = sizes.get_mut(&class(incident)) else { return true };
        *seen += 1;
        *seen - 1 == day % *size
    };
    incidents.into_iter().filter(|incident| turn(incident)).collect()
}

/// Runs one incident of each class, all of them with `all`, or only what is named. Two hosts share the work:
/// both mostly wait for daemons.
pub(crate) fn run(program: &Path, only: &[&str], all: bool) -> Result<(), String> {
    let mut ring = whole_ring()?;
    if only.is_empty() && !all {
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
        let day = since.map_or(0, |d| usize::try_from(d.as_secs() / 86_400).unwrap_or(0));
        ring.incident = one_of_each(ring.incident, day);
    }
    let host = Host::boot("jolly-live", program)?;
    prepare(&host)?;
    let broken = ring.incident.iter().map(Job::Broken);
    let chosen = |job: &Job| only.is_empty() || only.iter().any(|o| job.name().contains(o));
    let jobs: Vec<Job> = broken.chain(ring.healthy.iter().map(Job::Well)).filter(chosen).collect();
    let (alone, shared): (Vec<Job>, Vec<Job>) = jobs.into_iter().partition(|j| j.alone());
    let score = Mutex::new(Score::default());
    let lock = || score.lock().unwrap_or_else(PoisonError::into_inner);
    let tell = |name: &str, outcome| lock().tell(name, outcome);
    if only.is_empty() {
        tell("out of the box two web servers want port 80, and one gets it", out_of_the_box(&host));
    }
    let next = AtomicUsize::new(0);
    let work = |host: &Host| {
        while let Some(job) = shared.get(next.fetch_add(1, Ordering::Relaxed)) {
            let outcome = job.run(host);
            lock().tell_shared(*job, outcome);
        }
    };
    let second = || -> Result<(), String> {
        if shared.len() > 1 {
            let beside = Host::boot("jolly-live-beside", program)?;
            prepare(&beside)?;
            work(&beside);
        }
        Ok(())
    };
    std::thread::scope(|scope| {
        let second = scope.spawn(second);
        work(&host);
        second.join().unwrap_or_else(|_| Err("the second host's thread ended with a panic".into()))
    })?;
    let again = std::mem::take(&mut lock().again);
    let unsteady = again.len();
    for job in alone.into_iter().chain(again) {
        tell(&job.name(), job.run(&host));
    }
    host.run(RESET)?;
    host.run("systemctl stop nginx apache2")?;
    crate::samples::diagnosed(&host, only, &mut |name, outcome| tell(name, outcome))?;
    let Score { passed, failed, .. } = score.into_inner().unwrap_or_else(PoisonError::into_inner);
    say(&format!("{passed} passed, {failed} failed; {unsteady} looked at twice"));
    if failed > 0 { Err(format!("{failed} of the live ring failed")) } else { Ok(()) }
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}

fn tool(host: &Host, arguments: &str) -> Result<(i32, String, String), String> {
    let output = host.run(&format!("jolly-sentinel {arguments}"))?;
    Ok((
        output.status.code().unwrap_or(-1),
        String::from_utf8_lossy(&output.stdout).into_owned(),
        String::from_utf8_lossy(&output.stderr).into_owned(),
    ))
}

fn json(host: &Host, arguments: &str) -> Result<(i32, Value), String> {
    let (status, out, err) = tool(host, &format!("{arguments} --format json"))?;
    let value = serde_json::from_str(&out)
        .map_err(|e| format!("\"{arguments}\" gave no JSON (status {status}): {e}; {err}"))?;
    Ok((status, value))
}

fn files(host: &Host) -> Result<String, String> {
    Ok(String::from_utf8_lossy(&host.run(FILES)?.stdout).into_owned())
}

fn hold(condition: bool, what: impl Into<String>) -> Result<(), String> {
    if condition { Ok(()) } else { Err(what.into()) }
}

fn out_of_the_box(host: &Host) -> Result<(), String> {
    let (_, survey) = json(host, "survey")?;
    let failed: Vec<&str> = survey["services"]
        .as_array()
        .into_iter()
        .flatten()
        .filter(|s| s["state"] == "failed")
        .filter_map(|s| s["service"].as_str())
        .collect();
    hold(failed.len() == 1, format!("exactly one is down, but these are: {failed:?}"))?;
    let (status, diagnosis) = json(host, "diagnose")?;
    hold(
        status == 1 && diagnosis["services"][0]["causes"][0]["code"] == "port-taken",
        format!("diagnose: {diagnosis}"),
    )
}

fn first_cause(entry: &Value) -> String {
    let causes: Vec<String> = entry["causes"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|c| format!("{} ({}): {} {}", c["code"], c["certainty"], c["title"], c["subject"]))
        .collect();
    if causes.is_empty() {
        format!("no cause; state {}, notes {}", entry["state"], entry["notes"])
    } else {
        causes.join("\n")
    }
}

fn one(host: &Host, incident: &Incident) -> Result<(), String> {
    host.run(RESET)?;
    host.run(&incident.inject)?;
    let before = files(host)?;
    let service = incident.url.as_ref().unwrap_or(&incident.service);
    let (status, diagnosis) = json(host, &format!("diagnose {service}"))?;
    let entry = &diagnosis["services"][0];
    hold(
        incident.url.is_none() || entry["service"] == incident.service.as_str(),
        format!("{} is found, expected {}\n{}", entry["service"], incident.service, first_cause(entry)),
    )?;
    let cause = &entry["causes"][0];
    hold(
        cause["code"] == incident.cause.as_str(),
        format!("expected {} first, but got\n{}", incident.cause, first_cause(entry)),
    )?;
    let sure = &incident.certainty;
    hold(cause["certainty"] == sure.as_str(), format!("not {sure}:\n{}", first_cause(entry)))?;
    hold(status == 1, format!("diagnose ended with {status}"))?;
    let causes = entry["causes"].as_array().into_iter().flatten().skip(1);
    let wrong = causes.filter(|c| c["certainty"] == "certain" && c["relation"] != "consequence").find(|c| {
        let code = c["code"].as_str().unwrap_or_default();
        code != incident.cause && !incident.also.iter().any(|a| a == code)
    });
    hold(wrong.is_none(), format!("certain, and not what was broken:\n{}", first_cause(entry)))?;
    for (key, wanted) in &incident.subject {
        hold(
            cause["subject"][key] == *wanted,
            format!("subject {key} is {}, expected {wanted}", cause["subject"][key]),
        )?;
    }
    if !incident.fixes.is_empty() {
        hold(cause["fixes"] == Value::from(incident.fixes.clone()), format!("fixes are {}", cause["fixes"]))?;
    }
    if incident.url.is_none() {
        same_elsewhere(host, service, cause)?;
    }
    let (dry, _) = json(host, &format!("fix {service}"))?;
    hold(
        dry == 1 && files(host)? == before,
        format!("a dry run must change nothing and end with 1, not {dry}"),
    )?;
    if incident.no_fix {
        return Ok(());
    }
    mended(host, incident, service, &before)
}

/// Captured evidence gives the same cause.
fn same_elsewhere(host: &Host, service: &str, cause: &Value) -> Result<(), String> {
    let (_, elsewhere) = json(
        host,
        &format!(
            "capture {service} --output /tmp/evidence.json; jolly-sentinel --from /tmp/evidence.json \
                diagnose {service}"
        ),
    )?;
    let there = &elsewhere["services"][0]["causes"][0];
    hold(
        there["code"] == cause["code"] && there["subject"] == cause["subject"],
        format!("from captured evidence it is {there}"),
    )
}

/// The fix helps, is proved, and is taken back to the byte.
fn mended(host: &Host, incident: &Incident, service: &str, before: &str) -> Result<(), String> {
    let pick = incident.pick.as_deref().map(|p| format!(" --pick {p}")).unwrap_or_default();
    let set = incident.set.as_deref().map(|s| format!(" --set {s}")).unwrap_or_default();
    let (status, fixed) = json(host, &format!("fix {service}{pick}{set} --apply --settle 1s"))?;
    hold(
        status == 0,
        format!(
            "fix ended with {status}: verified {}, rolled back {}, next {}\n{}",
            fixed["verified"], fixed["rolled_back"], fixed["next_cause"], fixed["verification"]["checks"]
        ),
    )?;
    if let Some(proof) = &incident.proof {
        let outside = host.run(proof)?;
        hold(outside.status.success(), format!("from outside it has not recovered: {proof}"))?;
    }
    let (verified, _) = json(host, &format!("verify {service} --settle 0s"))?;
    hold(verified == 0, format!("verify ended with {verified}"))?;
    let id = fixed["undo_id"].as_str().unwrap_or_default().to_owned();
    let (status, out, err) = tool(host, &format!("undo {id}"))?;
    hold(status == 0, format!("undo ended with {status}: {out}{err}"))?;
    let kept = |line: &&str| incident.keeps.as_deref().is_none_or(|k| !line.contains(k));
    let after: String = files(host)?.lines().filter(kept).map(|l| format!("{l}\n")).collect();
    let before: String = before.lines().filter(kept).map(|l| format!("{l}\n")).collect();
    hold(after == before, format!("undo left a difference:\n{}", difference(&before, &after)))
}

fn difference(before: &str, after: &str) -> String {
    let gone = before.lines().filter(|l| !after.contains(l)).map(|l| format!("- {l}"));
    let new = after.lines().filter(|l| !before.contains(l)).map(|l| format!("+ {l}"));
    gone.chain(new).take(8).collect::<Vec<_>>().join("\n")
}

fn well(host: &Host, healthy: &Healthy) -> Result<(), String> {
    host.run(RESET)?;
    host.run(&healthy.setup)?;
    if let Some(url) = &healthy.url {
        let (status, diagnosis) = json(host, &format!("diagnose {url}"))?;
        let broken = diagnosis["chain"].as_array().into_iter().flatten().find(|l| l["ok"] == false);
        let silent = diagnosis["services"] == Value::Array(vec![]);
        return hold(
            status == 0 && silent && broken.is_none(),
            format!("status {status}, broken {broken:?}\n{}", first_cause(&diagnosis["services"][0])),
        );
    }
    let (status, diagnosis) = json(host, &format!("diagnose {}", healthy.service))?;
    let entry = &diagnosis["services"][0];
    let loud: Vec<&Value> =
        entry["notes"].as_array().into_iter().flatten().filter(|n| n["severity"] != "hint").collect();
    hold(
        status == 0 && entry["causes"] == Value::Array(vec![]),
        format!("status {status}\n{}", first_cause(entry)),
    )?;
    hold(
        entry["state"] == "running" && loud.is_empty(),
        format!("state {}, notes {loud:?}", entry["state"]),
    )?;
    hold(entry["restart_outlook"] == "would-start", format!("restart outlook {}", entry["restart_outlook"]))
}

#[cfg(test)]
mod tests {
    use super::*;

    const RING: &str = r#"
[[incident]]
name = "a"
service = "x"
break = ""
cause = "c"
[[incident]]
name = "b"
service = "x"
break = ""
cause = "c"
[[incident]]
name = "d"
service = "y"
break = ""
cause = "c"
"#;

    #[test]
    fn each_class_has_one_incident_a_day_and_all_have_their_turn() {
        let mut seen = Vec::new();
        for day in 0..2 {
            let ring: Ring = toml::from_str(RING).unwrap();
            let chosen: Vec<String> = one_of_each(ring.incident, day).into_iter().map(|i| i.name).collect();
            assert_eq!(chosen.len(), 2, "one of x and one of y");
            seen.extend(chosen);
        }
        seen.sort();
        assert_eq!(seen, ["a", "b", "d", "d"]);
    }
}
