//! `cargo xtask bench`: our commands against the operating system's utilities on a host under load, as
//! ratios. The load is made of real processes that hold listeners, connections and open files; nothing of it
//! is a timed test.
use nix::sys::resource::{UsageWho, getrusage};
use nix::sys::time::{TimeVal, TimeValLike};
use std::io::{BufRead, BufReader};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// How the load is spread: processes, listeners, connections of each process, further descriptors of each
/// process.
const PROCESSES: usize = 660;
const LISTENERS: usize = 500;
const CONNECTIONS: usize = 30;
const DESCRIPTORS: usize = 26;
/// Runs of each program; the best one counts.
const RUNS: usize = 20;

/// One process of the load: holds what it is told until its standard input closes.
pub(crate) fn hold(listens: bool) -> Result<(), String> {
    let words = |e: std::io::Error| e.to_string();
    let server = TcpListener::bind("127.0.0.1:0").map_err(words)?;
    let address = server.local_addr().map_err(words)?;
    let mut ends = Vec::new();
    for _ in 0..CONNECTIONS {
        let near = TcpStream::connect(address).map_err(words)?;
        ends.push((near, server.accept().map_err(words)?.0));
    }
    let listener = listens.then_some(server);
    let files: Vec<std::fs::File> = (0..DESCRIPTORS)
        .map(|_| std::fs::File::open("/dev/null"))
        .collect::<Result<_, _>>()
        .map_err(words)?;
    say(&address.port().to_string());
    let _ = std::io::stdin().lines().next();
    drop((ends, listener, files));
    Ok(())
}

struct Load {
    children: Vec<Child>,
    port: u16,
}

impl Load {
    fn new() -> Result<Self, String> {
        let own = std::env::current_exe().map_err(|e| e.to_string())?;
        let mut load = Self { children: Vec::new(), port: 0 };
        for number in 0..PROCESSES {
            let role = if number < LISTENERS { "listening" } else { "silent" };
            let child = Command::new(&own)
                .args(["load-process", role])
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .spawn()
                .map_err(|e| e.to_string())?;
            load.children.push(child);
        }
        for (number, child) in load.children.iter_mut().enumerate() {
            let mut line = String::new();
            let out = child.stdout.take().ok_or("no output")?;
            BufReader::new(out).read_line(&mut line).map_err(|e| e.to_string())?;
            if number == LISTENERS / 2 {
                load.port = line
                    .trim()
                    .parse()
                    .map_err(|_| format!("a process of the load did not come up: {line:?}"))?;
            }
        }
        Ok(load)
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        for child in &mut self.children {
            drop(child.stdin.take());
        }
        for child in &mut self.children {
            let _ = child.wait();
        }
    }
}

/// What one run cost.
#[derive(Clone, Copy)]
struct Cost {
    wall: Duration,
    /// Processor time of it and of what it waited for.
    cpu: Duration,
}

fn start(words: &[String]) -> Result<Child, String> {
    let mut command = Command::new(&words[0]);
    command.args(&words[1..]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command.spawn().map_err(|e| format!("{}: {e}", words[0]))
}

/// Processor time of all children so far that were waited for.
fn of_children() -> Result<Duration, String> {
    let usage = getrusage(UsageWho::RUSAGE_CHILDREN).map_err(|e| e.to_string())?;
    let micros = [usage.user_time(), usage.system_time()].iter().map(TimeVal::num_microseconds).sum::<i64>();
    Ok(Duration::from_micros(micros.unsigned_abs()))
}

fn run(words: &[String]) -> Result<Cost, String> {
    let (before, began) = (of_children()?, Instant::now());
    start(words)?.wait().map_err(|e| e.to_string())?;
    let wall = began.elapsed();
    Ok(Cost { wall, cpu: of_children()?.saturating_sub(before) })
}

/// The most memory one run had, in KiB: looked at now and then while it runs; at its end the kernel has
/// dropped it.
fn memory(words: &[String]) -> Result<u64, String> {
    let mut child = start(words)?;
    let mut most = 0;
    while child.try_wait().map_err(|e| e.to_string())?.is_none() {
        let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak = status
            .lines()
            .find_map(|l| l.strip_prefix("VmHWM:"))
            .and_then(|l| l.split_whitespace().next()?.parse().ok());
        most = most.max(peak.unwrap_or(0));
        std::thread::sleep(Duration::from_micros(200));
    }
    Ok(most)
}

/// Runs ours and theirs in turns on the same warm host and tells the ratios.
fn compare(name: &str, ours: &str, theirs: &str) -> Result<(), String> {
    let split = |line: &str| line.split(' ').map(str::to_owned).collect::<Vec<_>>();
    in_turns(name, &split(ours), &split(theirs), RUNS)
}

/// The same for command lines that are words already. The best of the runs counts; the middle one tells how
/// quiet the host was.
pub(crate) fn in_turns(name: &str, ours: &[String], theirs: &[String], runs: usize) -> Result<(), String> {
    let mut costs: [Vec<Cost>; 2] = [Vec::new(), Vec::new()];
    for _ in 0..runs {
        costs[0].push(run(ours)?);
        costs[1].push(run(theirs)?);
    }
    let sorted = |side: usize, of: fn(&Cost) -> Duration| {
        let mut all: Vec<f64> = costs[side].iter().map(|c| of(c).as_secs_f64()).collect();
        all.sort_by(f64::total_cmp);
        all
    };
    // Of the best runs, and of the middle ones.
    let ratios = |of: fn(&Cost) -> Duration| {
        let (ours, theirs) = (sorted(0, of), sorted(1, of));
        let at = |at: usize| ours[at] / theirs[at].max(1e-6);
        (at(0), at(ours.len() / 2))
    };
    let (wall, cpu) = (ratios(|c| c.wall), ratios(|c| c.cpu));
    let most = |of: &[String]| -> Result<f64, String> {
        let all = (0..3).map(|_| memory(of)).collect::<Result<Vec<_>, _>>()?;
        Ok(all.into_iter().max().unwrap_or(0) as f64 / 1024.0)
    };
    let (mib, its) = (most(ours)?, most(theirs)?);
    say(&format!(
        "{name}: wall {:.2} ({:.2}), cpu {:.2} ({:.2}) of the yardstick, {mib:.1} MiB to its {its:.1}",
        wall.0, wall.1, cpu.0, cpu.1
    ));
    Ok(())
}

/// The release build, which must be there.
pub(crate) fn release() -> Result<String, String> {
    let target = std::env::var_os("CARGO_TARGET_DIR")
        .map_or_else(|| std::path::PathBuf::from("target"), std::path::PathBuf::from);
    let ours = target.join("release/jolly-sentinel").to_string_lossy().into_owned();
    if !std::path::Path::new(&ours).exists() {
        return Err(format!("{ours} does not exist: cargo build --release --package jolly-sentinel"));
    }
    Ok(ours)
}

/// Makes the load and compares the release build.
pub(crate) fn all() -> Result<(), String> {
    let ours = release()?;
    compare("--help, against ss -V", &format!("{ours} --help"), "ss -V")?;
    let load = Load::new()?;
    compare("ports, against ss -ltnp", &format!("{ours} ports"), "ss -ltnp")?;
    compare(
        "ports N, against ss -ltnp sport = :N",
        &format!("{ours} ports {}", load.port),
        &format!("ss -ltnp sport = :{}", load.port),
    )?;
    diagnose(&ours, load.port)
}

/// `diagnose` of a web server whose port the load holds, against what an administrator would type one after
/// another.
fn diagnose(ours: &str, port: u16) -> Result<(), String> {
    let words = |e: std::io::Error| e.to_string();
    let dir = std::env::temp_dir().join("jolly-bench-diagnose");
    std::fs::create_dir_all(&dir).map_err(words)?;
    let place = |name: &str| dir.join(name).to_string_lossy().into_owned();
    let (config, log, services) = (place("edge.conf"), place("edge.log"), place("services.toml"));
    let head =
        format!("error_log {log};\npid {};\nevents {{}}\nhttp {{\n    access_log off;\n", place("edge.pid"));
    let sites: String = (0..200)
        .map(|n| {
            format!(
                "    server {{\n        listen {port};\n        server_name \
            quay{n}.example;\n        root /srv/quay{n};\n    }}\n"
            )
        })
        .collect();
    std::fs::write(&config, format!("{head}{sites}}}\n")).map_err(words)?;
    let refused = format!(
        "2031/04/02 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:{port} failed (98: Address already in use)\n"
    );
    let client = "2031/04/01 06:10:11 [error] 8#8: *7 open() \"/srv/quay1/tide.html\" failed (2: No such \
        file or directory), client: 192.0.2.7\n";
    std::fs::write(&log, client.repeat(20_000) + &refused.repeat(5)).map_err(words)?;
    std::fs::write(
        &services,
        format!(
            "only_these = true\n[service.edge]\nkind = \"nginx\"\nconfig = \"{config}\"\nlog = \"{log}\"\n"
        ),
    )
    .map_err(words)?;
    if !["/usr/sbin/nginx", "/usr/bin/nginx"].iter().any(|p| std::path::Path::new(p).exists()) {
        say("diagnose: nginx is not installed, so there is nothing to compare with");
        return std::fs::remove_dir_all(&dir).map_err(words);
    }
    let mine = [ours, "--services", &services, "diagnose", "edge"].map(str::to_owned);
    let line =
        format!("ss -ltnp; nginx -t -c {config}; tail -n 500 {log} | grep -E 'emerg|alert|crit'; ps aux");
    in_turns(
        "diagnose, port held, against ss, nginx -t, tail | grep, ps",
        &mine,
        &["sh".into(), "-c".into(), line],
        RUNS,
    )?;
    std::fs::remove_dir_all(&dir).map_err(words)
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
pub(crate) fn say(text: &str) {
    println!("{text}");
}
