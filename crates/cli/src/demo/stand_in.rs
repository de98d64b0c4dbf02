//! Small stand-in daemons for the demo and the tests: real processes that read their configuration, bind
//! their ports, write logs in the real format and leave real pid and socket files. They know nothing of the
//! core.
use super::host::{NAMES, RELAY};
use jiff::{Timestamp, tz::TimeZone};
use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::os::unix::net::UnixListener;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

/// Names the process whose end ends the stand-ins, too; unset when they are to stay.
pub(crate) const LEASH: &str = "JOLLY_DEMO_LEASH";

pub(super) fn run() -> Option<ExitCode> {
    let mut arguments = std::env::args();
    let name = arguments.next()?;
    let name = Path::new(&name).file_name()?.to_str()?.to_owned();
    if !NAMES.contains(&name.as_str()) {
        return None;
    }
    let rest: Vec<String> = arguments.collect();
    let words: Vec<&str> = rest.iter().map(String::as_str).collect();
    let behind = super::behind::run(&name, &words);
    let outcome = match (name.as_str(), words.as_slice()) {
        _ if behind.is_some() => behind.unwrap_or(Ok(())),
        ("gauge-sim", [port, ..]) => gauge(port),
        ("quay-httpd", ["-f", config, "-k", "start"]) => detach(&["-f", config, "-D", "FOREGROUND"]),
        ("quay-httpd", ["-f", config, "-D", "FOREGROUND"]) => httpd(Path::new(config)),
        ("quay-httpd", ["-f", config, "-k", verb]) => Site::read(Path::new(config))
            .map_or_else(|e| Err(e.0), |site| if *verb == "stop" { stop_site(&site) } else { Ok(()) }),
        ("tide-relay", [dir, log, "start"]) => detach(&[dir, log, "run"]),
        ("tide-relay", [dir, log, "run"]) => relay(Path::new(dir), Path::new(log)),
        ("tide-relay", [dir, _, "stop"]) => stop(&Path::new(dir).join("relay.pid")).map(drop),
        _ => Err(format!("{name}: no such call")),
    };
    Some(match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            let _ = writeln!(std::io::stderr(), "{message}");
            ExitCode::FAILURE
        }
    })
}

/// Starts itself in the background and waits for its word that it is ready.
pub(super) fn detach(arguments: &[&str]) -> Result<(), String> {
    let own = std::env::args().next().unwrap_or_default();
    let mut child = Command::new(own)
        .args(arguments)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::inherit())
        .process_group(0)
        .spawn()
        .map_err(|e| e.to_string())?;
    let mut word = [0; 5];
    let ready = child.stdout.as_mut().is_some_and(|out| out.read_exact(&mut word).is_ok());
    if ready {
        return Ok(());
    }
    let _ = child.wait();
    Err("it did not become ready".into())
}

pub(super) fn ready() {
    let mut out = std::io::stdout();
    let _ = out.write_all(b"ready").and_then(|()| out.flush());
}

/// Ends with the demo, unless it is kept. Nobody waits for a stand-in, so it looks for itself.
pub(super) fn leash() {
    let Some(pid) = std::env::var(LEASH).ok().filter(|p| !p.is_empty()) else { return };
    std::thread::spawn(move || {
        while Path::new(&format!("/proc/{pid}")).exists() {
            std::thread::sleep(Duration::from_millis(200));
        }
        end_now();
    });
}

#[expect(clippy::exit, reason = "a stand-in ends as a whole")]
fn end_now() {
    std::process::exit(0);
}

/// The stand-in's stop says in its log what the daemon says there.
fn stop_site(site: &Site) -> Result<(), String> {
    let pid = stop(&site.pid_file)?;
    log_as(pid, &site.error_log, "mpm_event:notice", "AH00491: caught SIGTERM, shutting down");
    Ok(())
}

/// Ends the process of a pid file, and gives its number.
pub(super) fn stop(pid_file: &Path) -> Result<u32, String> {
    let text = fs::read_to_string(pid_file).map_err(|e| format!("{}: {e}", pid_file.display()))?;
    let number = text
        .trim()
        .parse()
        .ok()
        .and_then(rustix::process::Pid::from_raw)
        .ok_or("the pid file holds no number")?;
    let _ = rustix::process::kill_process(number, rustix::process::Signal::TERM);
    let began = Instant::now();
    while Path::new(&format!("/proc/{}", text.trim())).exists() && began.elapsed() < Duration::from_secs(5) {
        std::thread::sleep(Duration::from_millis(20));
    }
    let _ = fs::remove_file(pid_file);
    Ok(number.as_raw_nonzero().get().unsigned_abs())
}

/// The tide-gauge simulation that somebody left running.
fn gauge(port: &str) -> Result<(), String> {
    let port: u16 = port.parse().map_err(|_| "gauge-sim: no port")?;
    let listener = TcpListener::bind(("0.0.0.0", port)).map_err(|e| format!("gauge-sim: {e}"))?;
    leash();
    ready();
    for stream in listener.incoming().flatten() {
        let mut stream = stream;
        let _ = stream.write_all(b"GAUGE 2.41 m\n");
    }
    Ok(())
}

/// What the stand-in web server takes from its configuration.
struct Site {
    listens: Vec<(String, u16)>,
    error_log: PathBuf,
    pid_file: PathBuf,
    root: PathBuf,
}

/// A refusal in the daemon's words, with its log if that was known by then.
struct Refusal(String, Option<PathBuf>);

impl Site {
    fn read(config: &Path) -> Result<Self, Refusal> {
        let base = config.parent().unwrap_or(Path::new("/")).to_path_buf();
        let mut site = Self {
            listens: vec![],
            error_log: base.join("error.log"),
            pid_file: base.join("httpd.pid"),
            root: base.clone(),
        };
        site.file(config, &base)?;
        Ok(site)
    }

    fn file(&mut self, file: &Path, base: &Path) -> Result<(), Refusal> {
        let log = Some(self.error_log.clone());
        let text = fs::read_to_string(file).map_err(|_| {
            Refusal(
                format!(
                    "quay-httpd: Could not open configuration file {}: No such file or directory",
                    file.display()
                ),
                log.clone(),
            )
        })?;
        for (number, line) in (1..).zip(text.lines()) {
            let words: Vec<&str> = line.split_whitespace().collect();
            let refuse = |reason: String, log: &Path| {
                Err(Refusal(
                    format!("AH00526: Syntax error on line {number} of {}:\n{reason}", file.display()),
                    Some(log.to_path_buf()),
                ))
            };
            match words.as_slice() {
                [] => {}
                [first, ..] if first.starts_with('#') || first.starts_with('<') => {}
                ["Listen", address] => {
                    let Some((host, Ok(port))) =
                        address.rsplit_once(':').map(|(h, p)| (h.to_owned(), p.parse::<u16>()))
                    else {
                        return refuse("Invalid address or port".into(), &self.error_log);
                    };
                    if self.listens.contains(&(host.clone(), port)) {
                        return refuse(
                            "Cannot define multiple Listeners on the same IP:port".into(),
                            &self.error_log,
                        );
                    }
                    self.listens.push((host, port));
                }
                ["ErrorLog", path] => self.error_log = base.join(path),
                ["PidFile", path] => self.pid_file = base.join(path),
                ["DocumentRoot", path] => self.root = base.join(path),
                ["Include", pattern] => self.include(&base.join(pattern), base)?,
                [name, ..]
                    if [
                        "ServerRoot",
                        "LoadModule",
                        "ServerName",
                        "ServerAlias",
                        "Timeout",
                        "KeepAlive",
                        "Require",
                        "AllowOverride",
                        "Options",
                    ]
                    .contains(name) => {}
                [name, ..] => {
                    return refuse(
                        format!(
                            "Invalid command '{name}', perhaps misspelled or defined by a module not \
                                included in the server configuration"
                        ),
                        &self.error_log,
                    );
                }
            }
        }
        Ok(())
    }

    fn include(&mut self, target: &Path, base: &Path) -> Result<(), Refusal> {
        if target.file_name().is_none_or(|n| n != "*.conf") {
            return self.file(target, base);
        }
        let folder = target.parent().unwrap_or(base);
        let mut names: Vec<PathBuf> = fs::read_dir(folder)
            .into_iter()
            .flatten()
            .flatten()
            .map(|e| e.path())
            .filter(|p| p.extension().is_some_and(|e| e == "conf"))
            .collect();
        names.sort();
        names.iter().try_for_each(|n| self.file(n, base))
    }
}

/// A line of the error log, in the daemon's format and local time.
fn log(file: &Path, level: &str, text: &str) {
    log_as(std::process::id(), file, level, text);
}

fn log_as(pid: u32, file: &Path, level: &str, text: &str) {
    let now = Timestamp::now().to_zoned(zone());
    let stamp = now.strftime("%a %b %d %H:%M:%S%.6f %Y");
    let line = format!("[{stamp}] [{level}] [pid {pid}:tid {pid}] {text}\n");
    append(file, &line);
}

pub(super) fn append(file: &Path, line: &str) {
    if let Ok(mut out) = fs::OpenOptions::new().create(true).append(true).open(file) {
        let _ = out.write_all(line.as_bytes());
    }
}

pub(super) fn zone() -> TimeZone {
    fs::read("/etc/localtime")
        .ok()
        .and_then(|bytes| TimeZone::tzif("local", &bytes).ok())
        .unwrap_or(TimeZone::UTC)
}

fn httpd(config: &Path) -> Result<(), String> {
    let site = match Site::read(config) {
        Ok(site) => site,
        Err(Refusal(message, file)) => {
            if let Some(file) = file {
                message.lines().for_each(|l| log(&file, "core:emerg", l));
            }
            return Err(message);
        }
    };
    let mut listeners = Vec::new();
    for (host, port) in &site.listens {
        match TcpListener::bind((host.as_str(), *port)) {
            Ok(listener) => listeners.push(listener),
            Err(_) => {
                let message = format!(
                    "(98)Address already in use: AH00072: make_sock: could not bind to address {host}:{port}"
                );
                log(&site.error_log, "core:emerg", &message);
                return Err(format!(
                    "{message}\nno listening sockets available, shutting down\nAH00015: Unable to open logs"
                ));
            }
        }
    }
    fs::write(&site.pid_file, format!("{}\n", std::process::id())).map_err(|e| e.to_string())?;
    log(
        &site.error_log,
        "mpm_event:notice",
        "AH00489: Apache/2.4.62 (Saltmarsh) configured -- resuming normal operations",
    );
    leash();
    ready();
    let (root, error_log) = (site.root.clone(), site.error_log.clone());
    let serve = move |listener: TcpListener| {
        for mut stream in listener.incoming().flatten() {
            page(&mut stream, &root, &error_log);
        }
    };
    let threads: Vec<_> = listeners
        .into_iter()
        .map(|l| {
            std::thread::spawn({
                let serve = serve.clone();
                move || serve(l)
            })
        })
        .collect();
    threads.into_iter().for_each(|t| drop(t.join()));
    Ok(())
}

/// Answers one request: the page of a folder, unless the file that overrides its settings is broken.
fn page(stream: &mut std::net::TcpStream, root: &Path, error_log: &Path) {
    let line = super::behind::request(stream);
    let folder = line.split(' ').nth(1).unwrap_or("/").trim_matches('/').to_owned();
    let folder = if folder.contains("..") { root.to_path_buf() } else { root.join(folder) };
    let file = folder.join(".htaccess");
    let known = ["DirectoryIndex", "ErrorDocument", "Options", "Require"];
    let words = fs::read_to_string(&file).unwrap_or_default();
    let broken = words
        .lines()
        .filter(|l| !l.trim().is_empty() && !l.trim().starts_with('#'))
        .find(|l| !known.contains(&l.split_whitespace().next().unwrap_or_default()));
    match (broken, fs::read_to_string(folder.join("index.html"))) {
        (Some(line), _) => {
            let name = line.split_whitespace().next().unwrap_or_default();
            let text = format!(
                "[client 127.0.0.1:40100] {}: Invalid command '{name}', perhaps misspelled or defined by a \
                 module not included in the server configuration",
                file.display()
            );
            log(error_log, "core:alert", &text);
            super::behind::answer(stream, "Apache", "500 Internal Server Error", "<h1>Internal error</h1>\n");
        }
        (None, Ok(text)) => super::behind::answer(stream, "Apache", "200 OK", &text),
        (None, Err(_)) => super::behind::answer(stream, "Apache", "404 Not Found", "<h1>Not Found</h1>\n"),
    }
}

fn relay_log(file: &Path, level: &str, text: &str) {
    let stamp = Timestamp::now().to_zoned(zone()).strftime("%Y-%m-%d %H:%M:%S%.3f").to_string();
    append(file, &format!("{stamp} {level} {text}\n"));
}

/// The relay refuses to begin over a socket file that is there: another relay could be running.
fn relay(dir: &Path, file: &Path) -> Result<(), String> {
    relay_log(file, "INFO", "starting tide-relay");
    let socket = dir.join("relay.sock");
    if socket.exists() {
        let message = format!("cannot begin: {} exists already, is another relay running?", socket.display());
        relay_log(file, "FATAL", &message);
        return Err(message);
    }
    let local = UnixListener::bind(&socket).map_err(|e| e.to_string())?;
    let listener = TcpListener::bind(("127.0.0.1", RELAY)).map_err(|e| {
        let message = format!("cannot listen on 127.0.0.1:{RELAY}: Address already in use");
        relay_log(file, "FATAL", &message);
        format!("{message} ({e})")
    })?;
    fs::write(dir.join("relay.pid"), format!("{}\n", std::process::id())).map_err(|e| e.to_string())?;
    relay_log(file, "INFO", &format!("ready, listening on 127.0.0.1:{RELAY}"));
    leash();
    ready();
    std::thread::spawn(move || local.incoming().flatten().for_each(drop));
    for mut stream in listener.incoming().flatten() {
        let _ = stream.write_all(b"TIDE-RELAY 1\n");
    }
    Ok(())
}
