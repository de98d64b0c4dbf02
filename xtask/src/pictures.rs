//! `cargo xtask pictures`: every picture of docs/screenshots again, from the demo's host. A terminal in a
//! window under Xvfb for commands, a headless browser for pages.
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const FOLDER: &str = "docs/screenshots";
const HOST: &str = "/tmp/quay1";
const OPTIONS: &str = "--services services.toml --state-dir state";

/// Pictures by name with the command typed for each; what is broken stands before.
const SHOTS: &[(&str, &str)] = &[
    ("survey", "survey"),
    ("chain", "diagnose http://127.0.0.1:18088/book"),
    ("login", "diagnose http://127.0.0.1:18082/boarding --try-logins"),
    ("diagnose", "diagnose front"),
    ("ports", "ports 18080"),
    ("fix", "fix front"),
    ("verify", "verify tide-relay --settle 1s"),
    ("attempts", "attempts front"),
    ("follow", "attempts front --follow"),
    ("survey-one", "survey tide-relay"),
    ("settings", "settings front"),
    ("lint", "lint front"),
];

/// Pages by name with the command that writes each.
const PAGES: &[(&str, &str)] =
    &[("attempts-page", "attempts front"), ("chain-page", "diagnose http://127.0.0.1:18088/book")];

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Makes all pictures.
pub(crate) fn run(program: &Path) -> Result<(), String> {
    for tool in ["Xvfb", "xterm", "import"] {
        if !Path::new("/usr/bin").join(tool).exists() {
            return Err(format!(
                "{tool} is not installed (packages xvfb xterm imagemagick fonts-dejavu-core)"
            ));
        }
    }
    let program = fs::canonicalize(program).map_err(|e| e.to_string())?;
    let bin = PathBuf::from("/tmp/jolly-pictures");
    fs::create_dir_all(&bin).map_err(|e| e.to_string())?;
    let _ = fs::remove_file(bin.join("jolly-sentinel"));
    std::os::unix::fs::symlink(&program, bin.join("jolly-sentinel")).map_err(|e| e.to_string())?;
    let outcome = all(&program, &bin);
    shell(&format!("pkill -f '[/]tmp/quay1/'; rm -rf {HOST} {}", bin.display()));
    outcome
}

fn shell(command: &str) -> bool {
    Command::new("sh")
        .args(["-c", command])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()
        .is_ok_and(|s| s.success())
}

fn all(program: &Path, bin: &Path) -> Result<(), String> {
    fs::create_dir_all(FOLDER).map_err(|e| e.to_string())?;
    shell(&format!("pkill -f '[/]tmp/quay1/'; rm -rf {HOST}"));
    let own = program.display();
    if !shell(&format!(
        "{own} demo --keep {HOST} && {HOST}/bin/tide-relay {HOST}/run/tide-relay {HOST}/log/tide-relay.log \
            start"
    )) {
        return Err("the demo's host cannot be laid out".into());
    }
    for (name, typed) in SHOTS {
        match *name {
            "attempts" => drop(shell(&format!(
                "cd {HOST} && {own} {OPTIONS} fix front --pick stop-holder --apply --settle 0s; {own} \
                    {OPTIONS} survey; {HOST}/bin/quay-httpd -f {HOST}/front/front.conf -k stop; sleep 1; \
                    {HOST}/bin/quay-httpd -f {HOST}/front/front.conf -k start"
            ))),
            "follow" => drop(shell(&format!(
                "cd {HOST} && {HOST}/bin/quay-httpd -f {HOST}/front/front.conf -k stop; (sleep 3; \
                    {HOST}/bin/quay-httpd -f {HOST}/front/front.conf -k start) >/dev/null 2>&1 &"
            ))),
            "settings" => drop(shell(&format!(
                "cd {HOST} && printf '# merged from the ticket shop\\nTimeout 30\\n' > \
                    front/sites/ticket-pages.conf"
            ))),
            "lint" => drop(shell(&format!(
                "cd {HOST} && printf '# merged from the ticket shop\\nListen 127.0.0.1:18080\\nDocumentRooot \
                    {HOST}/www\\n' > front/sites/ticket-pages.conf"
            ))),
            _ => {}
        }
        terminal(name, typed, bin)?;
    }
    if !Path::new("/usr/bin/chromium").exists() {
        return Ok(());
    }
    for (name, typed) in PAGES {
        let page = format!("{HOST}/{name}.html");
        shell(&format!("cd {HOST} && {own} {OPTIONS} {typed} --format html --output {page}"));
        let target = fs::canonicalize(FOLDER).map_err(|e| e.to_string())?.join(format!("{name}.png"));
        shell(&format!(
            "chromium --headless --no-sandbox --disable-gpu --disable-background-networking \
                --user-data-dir=/tmp/jolly-pictures/browser --window-size=1280,800 --screenshot={} \
                file://{page}",
            target.display()
        ));
    }
    Ok(())
}

/// One command in a terminal window of 1280 by 800.
fn terminal(name: &str, typed: &str, bin: &Path) -> Result<(), String> {
    let display = format!(":{}", 90 + std::process::id() % 400);
    let screen = Command::new("Xvfb")
        .args([&display, "-screen", "0", "1280x800x24"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .map_err(|e| e.to_string())?;
    let _screen = Ended(screen);
    std::thread::sleep(Duration::from_millis(700));
    let done = bin.join("done");
    let _ = fs::remove_file(&done);
    let script = format!(
        "cd {HOST}; export PATH={}:$PATH; printf '\\033[1m$ jolly-sentinel {OPTIONS} {typed}\\033[0m\\n'; \
            jolly-sentinel {OPTIONS} {typed}; touch {}; sleep 30",
        bin.display(),
        done.display()
    );
    let window = Command::new("xterm")
        .env("DISPLAY", &display)
        .args([
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "11",
            "-geometry",
            "140x44+0+0",
            "-bg",
            "#1b1d23",
            "-fg",
            "#d8dee9",
            "-e",
            "bash",
            "-c",
            &script,
        ])
        .stderr(Stdio::null())
        .spawn()
        .map_err(|e| e.to_string())?;
    let _window = Ended(window);
    let began = Instant::now();
    while !done.exists() && began.elapsed() < Duration::from_secs(30) {
        std::thread::sleep(Duration::from_millis(50));
    }
    std::thread::sleep(Duration::from_millis(700));
    let target = Path::new(FOLDER).join(format!("{name}.png"));
    let shot = Command::new("import")
        .env("DISPLAY", &display)
        .args(["-window", "root", &target.to_string_lossy()])
        .status()
        .map_err(|e| e.to_string())?;
    if shot.success() { Ok(()) } else { Err(format!("no picture of {name}")) }
}
