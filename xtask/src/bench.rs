//! `cargo xtask bench`: our commands against the operating system's utilities on a host under load, as ratios. The load is made
//! of real processes that hold listeners, connections and open files; nothing of it is a timed test.
use std::io::{BufRead, BufReader};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// How the load is spread: processes, listeners, connections of each process, further descriptors of each process.
const PROCESSES: usize = 660;
const LISTENERS: usize = 500;
const CONNECTIONS: usize = 30;
const DESCRIPTORS: usize = 26;
/// Runs of each program; the best one counts.
const RUNS: usize = 12;

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
    let files: Vec<std::fs::File> = (0..DESCRIPTORS).map(|_| std::fs::File::open("/dev/null")).collect::<Result<_, _>>().map_err(words)?;
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
            let child = Command::new(&own).args(["load-process", role]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(|e| e.to_string())?;
            load.children.push(child);
        }
        for (number, child) in load.children.iter_mut().enumerate() {
            let mut line = String::new();
            let out = child.stdout.take().ok_or("no output")?;
            BufReader::new(out).read_line(&mut line).map_err(|e| e.to_string())?;
            if number == LISTENERS / 2 {
                load.port = line.trim().parse().map_err(|_| format!("a process of the load did not come up: {line:?}"))?;
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

/// What one run cost: wall and processor time, and the most memory it had.
#[derive(Clone, Copy)]
struct Cost {
    wall: Duration,
    cpu: Duration,
    memory_kib: i64,
}

fn run(words: &[String]) -> Result<Cost, String> {
    let began = Instant::now();
    let child = Command::new(&words[0])
        .args(&words[1..])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|e| format!("{}: {e}", words[0]))?;
    let usage = wait4(&child)?;
    Ok(Cost { wall: began.elapsed(), ..usage })
}

/// Waits for a child and takes its resource usage, through the shell-free route of /proc: the child's own counters are read
/// after it ended and before it is reaped.
fn wait4(child: &Child) -> Result<Cost, String> {
    let pid = rustix::process::Pid::from_raw(i32::try_from(child.id()).map_err(|e| e.to_string())?).ok_or("no process")?;
    let ended = rustix::process::WaitIdOptions::EXITED | rustix::process::WaitIdOptions::NOWAIT;
    // While it runs, its peak of memory is looked at now and then; at its end the kernel has dropped it.
    let mut memory_kib = 0;
    loop {
        let status = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let peak = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).and_then(|l| l.split_whitespace().next()?.parse::<i64>().ok());
        memory_kib = memory_kib.max(peak.unwrap_or(0));
        let options = ended | rustix::process::WaitIdOptions::NOHANG;
        if rustix::process::waitid(rustix::process::WaitId::Pid(pid), options).map_err(|e| e.to_string())?.is_some() {
            break;
        }
        std::thread::sleep(Duration::from_micros(300));
    }
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", child.id())).map_err(|e| e.to_string())?;
    let fields: Vec<u64> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().map(|f| f.parse().unwrap_or(0)).collect();
    // utime and stime, in hundredths of a second (proc(5)): coarse, so sums over all runs are compared.
    let ticks = fields.get(11).copied().unwrap_or(0) + fields.get(12).copied().unwrap_or(0);
    rustix::process::waitpid(Some(pid), rustix::process::WaitOptions::empty()).map_err(|e| e.to_string())?;
    Ok(Cost { wall: Duration::ZERO, cpu: Duration::from_millis(ticks * 10), memory_kib })
}

/// Runs ours and theirs in turns on the same warm host and tells the ratios.
fn compare(name: &str, ours: &str, theirs: &str) -> Result<(), String> {
    let split = |line: &str| line.split(' ').map(str::to_owned).collect::<Vec<_>>();
    in_turns(name, &split(ours), &split(theirs), RUNS)
}

/// The same for command lines that are words already.
pub(crate) fn in_turns(name: &str, ours: &[String], theirs: &[String], runs: usize) -> Result<(), String> {
    let mut costs: [Vec<Cost>; 2] = [Vec::new(), Vec::new()];
    for _ in 0..runs {
        costs[0].push(run(ours)?);
        costs[1].push(run(theirs)?);
    }
    let wall = |side: usize| costs[side].iter().map(|c| c.wall.as_secs_f64()).fold(f64::INFINITY, f64::min);
    let cpu = |side: usize| costs[side].iter().map(|c| c.cpu.as_secs_f64()).sum::<f64>();
    let memory = costs[0].iter().map(|c| c.memory_kib).max().unwrap_or(0);
    say(&format!("{name}: wall {:.2}, cpu {:.2} of the yardstick, {:.1} MiB", wall(0) / wall(1), cpu(0) / cpu(1).max(0.001), memory as f64 / 1024.0));
    Ok(())
}

/// The release build, which must be there.
pub(crate) fn release() -> Result<String, String> {
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| std::path::PathBuf::from("target"), std::path::PathBuf::from);
    let ours = target.join("release/jolly-sentinel").to_string_lossy().into_owned();
    if !std::path::Path::new(&ours).exists() {
        return Err(format!("{ours} is not there: cargo build --release --package jolly-sentinel"));
    }
    Ok(ours)
}

/// Makes the load and compares the release build.
pub(crate) fn all() -> Result<(), String> {
    let ours = release()?;
    compare("--help, against ss -V", &format!("{ours} --help"), "ss -V")?;
    let load = Load::new()?;
    compare("ports, against ss -ltnp", &format!("{ours} ports"), "ss -ltnp")?;
    compare("ports N, against ss -ltnp sport = :N", &format!("{ours} ports {}", load.port), &format!("ss -ltnp sport = :{}", load.port))
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}
