//! `cargo xtask routes KIND [SEED [REQUESTS]]`: makes configurations and requests by chance, asks the real
//! daemon which place of its configuration answered each, and compares that with our own choice. The score is
//! written to
//! `xtask/live/routes.txt`.
mod haproxy;
mod httpd;
mod nginx;

use crate::chance::Chance;
use crate::host::Host;
use jolly_core::accounts;
use jolly_core::host::Look;
use jolly_core::kinds::{self, Instance};
use jolly_core::route::{End, Files, Request, Route};
use jolly_core::snapshot::Snapshot;
use jolly_linux::TreeHost;
use std::fmt::Write as _;
use std::path::Path;

/// Requests of one configuration.
const EACH: usize = 50;
const SCORE: &str = "xtask/live/routes.txt";
/// Asks what stands in a file, and prints what came back, a line each.
const ASKER: &str = include_str!("../../live/ask-all.py");

/// One request of the driver.
struct Ask {
    port: u16,
    host: String,
    target: String,
}

/// What the real daemon answered.
#[derive(Debug)]
struct Said {
    /// 0 where it did not answer.
    status: u16,
    /// The line of the block that answered.
    place: Option<u32>,
    /// `Location`.
    location: Option<String>,
    /// What the server behind it was asked for: its host and path.
    echo: Option<String>,
}

/// Paths that are asked for, whichever daemon answers.
const PATHS: &[&str] = &[
    "/",
    "/a",
    "/a/",
    "/a/b",
    "/a/b/",
    "/a/b/x.txt",
    "/a/x.txt",
    "/b",
    "/b/",
    "/b/c/d",
    "/c",
    "/c/",
    "/img/a.png",
    "/y.php",
    "/index.html",
    "/closed/",
    "/closed/x.txt",
    "/secret.txt",
    "/none",
    "/none/",
    "/A",
    "/a%20b",
    "/a//b",
    "/a/./b",
    "/a/../b",
    "/b/index.html",
    "/longer/path/x",
    "/../x",
    "/r1",
    "/r2",
    "/r3/z",
    "/d/",
    "/d",
    "/api/v1/x",
    "/api",
    "/api/",
];
/// Hosts that are asked for, whichever daemon answers.
const HOSTS: &[&str] = &[
    "front.example",
    "WWW.front.example",
    "a.front.example:8101",
    "gull.example",
    "tern.example",
    "reed.example",
    "nobody.example",
    "127.0.0.1",
];

fn pick<'a>(chance: &mut Chance, of: &[&'a str]) -> &'a str {
    of[chance.below(of.len())]
}

/// One of what all share and of what a daemon has beside it.
fn pick_of<'a>(chance: &mut Chance, shared: &[&'a str], own: &[&'a str]) -> &'a str {
    let at = chance.below(shared.len() + own.len());
    shared.get(at).or_else(|| own.get(at - shared.len())).copied().unwrap_or_default()
}

/// Text with a count of its lines.
struct Out {
    text: String,
    line: u32,
}

impl Out {
    fn add(&mut self, text: &str) {
        self.text.push_str(text);
        self.text.push('\n');
        self.line += u32::try_from(text.matches('\n').count() + 1).unwrap_or(1);
    }
    /// Opens a block of nginx that tells its own line.
    fn open(&mut self, head: &str) {
        let line = self.line;
        self.add(&format!("{head} {{"));
        self.add(&format!("add_header X-Place {line} always;"));
    }
    /// Opens a section whose own line is told by a directive.
    fn open_with(&mut self, head: &str, tells: &str) {
        let line = self.line;
        self.add(head);
        self.add(&format!("{tells} {line}"));
    }
}

/// One daemon to drive.
trait Driven {
    fn kind(&self) -> &'static str;
    /// Makes files, and whatever else every configuration needs.
    fn prepare(&self) -> &'static str;
    /// A configuration, and where it goes.
    fn configuration(&self, chance: &mut Chance) -> String;
    fn config(&self) -> &'static str;
    fn ask(&self, chance: &mut Chance) -> Ask;
    /// Checks the configuration and takes it into use.
    fn use_it(&self) -> &'static str;
    fn account(&self) -> &'static str;
}

pub(crate) fn run(program: &Path, kind: &str, seed: u64, requests: usize) -> Result<(), String> {
    let driven: &dyn Driven = match kind {
        "nginx" => &nginx::Nginx,
        "httpd" => &httpd::Httpd,
        "haproxy" => &haproxy::Haproxy,
        _ => return Err(format!("{kind}: no such driver")),
    };
    let host = Host::boot("jolly-routes", program)?;
    host.run("systemctl stop nginx apache2 haproxy; mkdir -p /route")?;
    write(&host, "route/ask-all.py", ASKER)?;
    host.run(driven.prepare())?;
    let mut chance = Chance::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let (mut asked, mut right, mut open, mut refused) = (0, 0, 0, 0);
    while asked < requests {
        let text = driven.configuration(&mut chance);
        let asks: Vec<Ask> = (0..EACH).map(|_| driven.ask(&mut chance)).collect();
        write(&host, driven.config().trim_start_matches('/'), &text)?;
        let used = host.run(driven.use_it())?;
        if !used.status.success() {
            refused += 1;
            if std::env::var_os("JOLLY_KEEP").is_some() {
                say(&format!("refused: {}", String::from_utf8_lossy(&used.stderr)));
            }
            continue;
        }
        let list: Vec<String> =
            asks.iter().map(|a| format!("{}\t{}\t{}\n", a.port, a.host, a.target)).collect();
        write(&host, "route/asks", &list.concat())?;
        let output = host.run("python3 /route/ask-all.py < /route/asks")?;
        let said: Vec<Said> = String::from_utf8_lossy(&output.stdout).lines().filter_map(said).collect();
        if said.len() != asks.len() {
            return Err(format!("the asker failed: {}", String::from_utf8_lossy(&output.stderr)));
        }
        let tree = TreeHost::new(&host.root())?;
        let snapshot = Snapshot::new(&tree);
        for (ask, said) in asks.iter().zip(&said) {
            asked += 1;
            let route = route(&snapshot, driven, ask);
            match differs(route.as_ref(), said) {
                None => right += 1,
                Some(why) if why == "undecided" => open += 1,
                Some(why) => {
                    say(&format!(
                        "{}:{} {}: {why}\n  said {said:?}\n  ours {route:?}",
                        ask.host, ask.port, ask.target
                    ));
                    if let Some(dir) = std::env::var_os("JOLLY_KEEP") {
                        let file = Path::new(&dir).join(format!("{kind}-{asked}.conf"));
                        std::fs::write(file, &text).map_err(|e| e.to_string())?;
                    }
                }
            }
        }
    }
    if std::env::var_os("JOLLY_KEEP").is_some() {
        let log = host.run("grep 'over/.htaccess\\|secret' /route/error.log | tail -5")?;
        say(&String::from_utf8_lossy(&log.stdout));
    }
    let mut line = String::new();
    let _ = write!(
        line,
        "{kind}: {right} of {} requests as the daemon answered them, {open} not decided (seed {seed}; \
            {refused} configurations refused)",
        asked - open
    );
    say(&line);
    keep(kind, &line)
}

/// One line of the asker.
fn said(line: &str) -> Option<Said> {
    let mut fields = line.split('\t').map(|f| if f == "-" { None } else { Some(f) });
    let mut text = || fields.next().flatten().map(str::to_owned);
    let status = text()?.parse().ok()?;
    Some(Said { status, place: text().and_then(|p| p.parse().ok()), location: text(), echo: text() })
}

/// Replaces a kind's line of the score.
fn keep(kind: &str, line: &str) -> Result<(), String> {
    let old = std::fs::read_to_string(SCORE).unwrap_or_default();
    let mut lines: Vec<&str> = old.lines().filter(|l| !l.starts_with(&format!("{kind}:"))).collect();
    lines.push(line);
    lines.sort_unstable();
    std::fs::write(SCORE, format!("{}\n", lines.join("\n"))).map_err(|e| format!("{SCORE}: {e}"))
}

fn write(host: &Host, path: &str, text: &str) -> Result<(), String> {
    let path = host.root().join(path);
    std::fs::write(&path, text).map_err(|e| format!("{}: {e}", path.display()))
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}

/// Our own choice.
fn route(snapshot: &Snapshot, driven: &dyn Driven, ask: &Ask) -> Option<Route> {
    let kind = kinds::kind(driven.kind())?;
    let account = match accounts::account(snapshot, driven.account()) {
        Look::Seen(account) => Some(account),
        _ => None,
    };
    let mut instance = Instance { config: driven.config().to_owned(), ..Instance::default() };
    kind.locate(snapshot, &mut instance);
    let files = Files::new(snapshot, account.as_ref());
    let loopback = std::net::Ipv4Addr::LOCALHOST.into();
    let request = Request {
        address: loopback,
        port: ask.port,
        client: loopback,
        tls: false,
        host: ask.host.clone(),
        target: ask.target.clone(),
        agent: "driver".to_owned(),
    };
    kind.route(&instance, &files, &request)
}

/// What is not as it was said, if anything.
fn differs(route: Option<&Route>, said: &Said) -> Option<String> {
    let Some(route) = route else {
        return (said.status != 0).then(|| "we say that nothing listens".to_owned());
    };
    if let End::Undecided { .. } = route.end {
        return if route.status.is_some_and(|s| s == said.status) {
            None
        } else {
            Some("undecided".to_owned())
        };
    }
    if said.status == 0 && route.status == Some(444) {
        return None;
    }
    let place = route.place.as_ref().map(|p| p.line);
    if place != said.place {
        return Some(format!("place {place:?}"));
    }
    let after_host = |url: &str| match url.split_once("://") {
        Some((_, rest)) => rest.find('/').map_or(String::new(), |at| rest[at..].to_owned()),
        None => url.to_owned(),
    };
    match &route.end {
        End::Pass(pass) => {
            let ours =
                format!("{} {}", pass.host.as_deref().unwrap_or(""), pass.target.as_deref().unwrap_or(""));
            if said.echo.as_ref().is_some_and(|echo| *echo != ours) {
                return Some(format!("passed on as {ours:?}"));
            }
        }
        End::Answer { location, .. } => {
            let (ours, theirs) =
                (location.as_deref().map(after_host), said.location.as_deref().map(after_host));
            if ours != theirs {
                return Some(format!("sent to {ours:?}"));
            }
        }
        _ => {}
    }
    match route.status {
        Some(status) if status != said.status => Some(format!("status {status}")),
        _ => None,
    }
}
