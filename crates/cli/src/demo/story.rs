//! The story: each incident broken, diagnosed, fixed and verified with the commands that an administrator
//! would type.
use super::host::{BOARDING, BOOKINGS, EDGE, FRONT, QuayHost, RELAY};
use super::stand_in::LEASH;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::{Colour, Global, SERVICES, STATE_DIR};
use jolly_core::paste::quoted;
use std::fs;
use std::io::{IsTerminal, Read, Write};
use std::net::TcpListener;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// The demo's directory, unless somebody else uses it: fixed, so that texts and pictures stay the same.
const HOME: &str = "/tmp/quay1";

struct Story {
    host: QuayHost,
    interrupted: Arc<AtomicBool>,
    colour: bool,
    kept: bool,
    children: Vec<Child>,
    went_wrong: Vec<String>,
}

fn fault(error: std::io::Error) -> CliError {
    CliError::not_seen(format!("the demo cannot be laid out: {error}"))
}

fn ports_free() -> Result<(), CliError> {
    for port in [FRONT, RELAY, EDGE, BOARDING, BOOKINGS] {
        TcpListener::bind(("127.0.0.1", port)).map_err(|e| {
            CliError::not_seen(format!("the demo needs port {port}: {e}")).hint("is another demo running?")
        })?;
    }
    Ok(())
}

/// Lays the host out with its first incident and leaves it.
pub(super) fn keep(dir: &Path, global: &Global) -> Result<Status, CliError> {
    if fs::read_dir(dir).is_ok_and(|mut d| d.next().is_some()) {
        return Err(CliError::usage(format!("{} is not empty", dir.display())).hint("choose a new directory"));
    }
    ports_free()?;
    let dir = std::path::absolute(dir).map_err(fault)?;
    jolly_linux::make_private_directory(&dir)
        .map_err(|why| CliError::usage(why).hint("choose a new directory"))?;
    let mut story = Story::new(QuayHost::lay_out(&dir).map_err(fault)?, global, true)?;
    story.stranger()?;
    let text = format!(
        "{dir} holds the host quay1 with a stranger on the port of front. To play with it:\n\n  cd {dir}\n  \
            export {SERVICES}=services.toml {STATE_DIR}=state\n  jolly-sentinel survey\n  jolly-sentinel \
            diagnose front\n  jolly-sentinel fix front\n\nWhen you are done:\n\n  jolly-sentinel demo \
            --clean {dir}\n",
        dir = quoted(&dir.to_string_lossy()),
    );
    story.print(&text);
    Ok(Status::Well)
}

/// Ends the daemons of a host that was laid out and left, and removes its directory.
pub(super) fn clean(dir: &Path) -> Result<Status, CliError> {
    let refuse = |why: &str| CliError::usage(format!("{} {why}", dir.display()));
    let status = fs::symlink_metadata(dir).map_err(|e| refuse(&format!("cannot be looked at: {e}")))?;
    // Whose it is decides: what somebody else laid out is not ours to remove.
    if !status.is_dir() || status.uid() != rustix::process::geteuid().as_raw() || status.mode() & 0o077 != 0 {
        return Err(refuse("is not a directory of your own that nobody else can enter"));
    }
    let dir = std::path::absolute(dir).map_err(fault)?;
    // Nobody else may be able to put another directory in its place meanwhile.
    let services = jolly_linux::read_trusted(&dir.join("services.toml")).map_err(CliError::usage)?;
    let laid_out = ["bin/quay-httpd", "bin/gauge-sim", "front/front.conf"];
    if services.is_none() || !laid_out.iter().all(|name| fs::symlink_metadata(dir.join(name)).is_ok()) {
        return Err(refuse("does not hold a host of the demo"));
    }
    let ended = end_processes(&dir);
    fs::remove_dir_all(&dir).map_err(fault)?;
    let text = format!("{ended} processes were ended, and {} is removed.\n", dir.display());
    let _ = std::io::stdout().write_all(text.as_bytes());
    Ok(Status::Well)
}

/// Ends every process whose program lies in the demo's directory, and says how many there were.
fn end_processes(dir: &Path) -> usize {
    let bin = format!("{}/", dir.join("bin").display());
    let mut ended = 0;
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let pid = entry.file_name().to_str().and_then(|n| n.parse::<i32>().ok());
        let Some(pid) = pid.and_then(rustix::process::Pid::from_raw) else { continue };
        // Held before it is looked at: what gets the signal is what was looked at, whoever has the number
        // then.
        let Ok(held) = rustix::process::pidfd_open(pid, rustix::process::PidfdFlags::empty()) else {
            continue;
        };
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let ours = line.starts_with(bin.as_bytes());
        if ours && rustix::process::pidfd_send_signal(&held, rustix::process::Signal::KILL).is_ok() {
            ended += 1;
        }
    }
    ended
}

/// A directory that this call made, and that nobody else can enter.
fn fresh_directory() -> Result<PathBuf, CliError> {
    let names = std::iter::once(PathBuf::from(HOME))
        .chain((0..100).map(|n| std::env::temp_dir().join(format!("quay1-{}-{n}", std::process::id()))));
    let mut last = None;
    for name in names {
        match fs::DirBuilder::new().mode(0o700).create(&name) {
            Ok(()) => return Ok(name),
            Err(error) => last = Some(error),
        }
    }
    Err(fault(last.unwrap_or_else(|| std::io::ErrorKind::AlreadyExists.into())))
}

/// Tells the whole story in a temporary directory and cleans up.
pub(super) fn tell(global: &Global) -> Result<Status, CliError> {
    ports_free()?;
    let dir = fresh_directory()?;
    let outcome = QuayHost::lay_out(&dir).map_err(fault).and_then(|host| {
        let mut story = Story::new(host, global, false)?;
        let told = story.whole();
        story.clean_up();
        told.map(|()| story)
    });
    let removed = fs::remove_dir_all(&dir);
    let story = outcome?;
    removed.map_err(fault)?;
    if story.interrupted.load(Ordering::Relaxed) {
        story.print("\nInterrupted; everything was cleaned up.\n");
        return Ok(Status::Problem);
    }
    if story.went_wrong.is_empty() {
        story.print("\nThe story is told; its processes and its directory are gone.\n");
        return Ok(Status::Well);
    }
    story.print(&format!("\nNot as it should be:\n  {}\n", story.went_wrong.join("\n  ")));
    Ok(Status::Problem)
}

impl Story {
    fn new(host: QuayHost, global: &Global, kept: bool) -> Result<Self, CliError> {
        let interrupted = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP]
        {
            signal_hook::flag::register(signal, interrupted.clone()).map_err(fault)?;
        }
        let colour = match global.color {
            Colour::Always => true,
            Colour::Never => false,
            Colour::Auto => std::io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none(),
        };
        Ok(Self { host, interrupted, colour, kept, children: vec![], went_wrong: vec![] })
    }

    fn print(&self, text: &str) {
        let mut out = std::io::stdout().lock();
        let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
    }

    fn chapter(&self, title: &str, text: &str) {
        let (on, off) = if self.colour { ("\u{1b}[1m", "\u{1b}[0m") } else { ("", "") };
        self.print(&format!("\n{on}=== {title}{off}\n{text}\n"));
    }

    fn stopped(&self) -> bool {
        self.interrupted.load(Ordering::Relaxed)
    }

    /// Runs one command as it is shown; its exit status must be the expected one.
    fn type_in(&mut self, arguments: &str, expected: i32) -> Result<(), CliError> {
        if self.stopped() {
            return Ok(());
        }
        let (on, off) = if self.colour { ("\u{1b}[1m", "\u{1b}[0m") } else { ("", "") };
        self.print(&format!("\n{on}$ jolly-sentinel {arguments}{off}\n"));
        let program = std::env::current_exe().map_err(fault)?;
        let mut command = Command::new(program);
        command
            .current_dir(&self.host.dir)
            .env(SERVICES, "services.toml")
            .env(STATE_DIR, "state")
            .args(["--color", if self.colour { "always" } else { "never" }]);
        command.args(arguments.split(' ')).stdin(Stdio::null());
        self.leash(&mut command);
        let status = command.status().map_err(fault)?;
        if status.code() != Some(expected) && !self.stopped() {
            self.went_wrong
                .push(format!("\"{arguments}\" ended with {status}, expected exit status {expected}"));
        }
        Ok(())
    }

    fn leash(&self, command: &mut Command) {
        command.env(LEASH, if self.kept { String::new() } else { std::process::id().to_string() });
    }

    /// Starts a daemon by its own command, as somebody did by hand.
    fn daemon(&mut self, name: &str, arguments: &[&str], wait: bool) -> Result<(), CliError> {
        let mut command = Command::new(self.host.dir.join("bin").join(name));
        command
            .args(arguments)
            .stdin(Stdio::null())
            .stdout(if wait { Stdio::null() } else { Stdio::piped() })
            .stderr(Stdio::null())
            .process_group(0);
        self.leash(&mut command);
        let mut child = command.spawn().map_err(fault)?;
        if wait {
            child.wait().map_err(fault)?;
            return Ok(());
        }
        let mut word = [0; 5];
        if let Some(out) = child.stdout.as_mut() {
            let _ = out.read_exact(&mut word);
        }
        self.children.push(child);
        Ok(())
    }

    fn start_front(&mut self) -> Result<(), CliError> {
        let config = self.host.path("front/front.conf");
        self.daemon("quay-httpd", &["-f", &config, "-k", "start"], true)
    }

    fn stop_front(&mut self) -> Result<(), CliError> {
        let config = self.host.path("front/front.conf");
        self.daemon("quay-httpd", &["-f", &config, "-k", "stop"], true)
    }

    fn stranger(&mut self) -> Result<(), CliError> {
        self.behind()?;
        self.daemon("gauge-sim", &[&FRONT.to_string(), "--station", "gullholm"], false)?;
        self.start_front()
    }

    /// Starts what runs all the time: the front of the ticket shop, its pool, an application, its database.
    fn behind(&mut self) -> Result<(), CliError> {
        let socket = self.host.path("run/ticket-pages-2.sock");
        self.daemon("quay-pool", &[&socket, "run"], false)?;
        let config = self.host.path("edge/edge.conf");
        self.daemon("quay-edge", &["-c", &config], true)?;
        let roles = self.host.path("boarding/roles");
        self.daemon("quay-bookings", &[&roles, "run"], false)?;
        let config = self.host.path("boarding/boarding.properties");
        self.daemon("quay-boarding", &[&config, "start"], true)
    }

    fn whole(&mut self) -> Result<(), CliError> {
        self.print(&format!(
            "Saltmarsh Ferries, host quay1. Everything here is made up; it lives in {} and uses the\n\
             loopback ports {FRONT} (for 80), {RELAY} (for 7400), {EDGE} (for 8088), {BOARDING} (for 8080) \
             and\n{BOOKINGS} (for 5432). Nothing else of this machine is touched.\n\n\
             Its services file and its journal are named by variables:\n\n\
             $ export {SERVICES}=services.toml {STATE_DIR}=state\n",
            self.host.dir.display()
        ));
        self.chapter(
            "1. A stranger on the port",
            "A tide-gauge simulation was left running; it holds the port of front, the public site.",
        );
        self.stranger()?;
        self.type_in("survey", 1)?;
        self.type_in("diagnose front", 1)?;
        self.type_in(&format!("ports {FRONT}"), 1)?;
        self.type_in("fix front", 1)?;
        self.type_in("fix front --pick stop-holder --apply --settle 1s", 0)?;
        self.type_in(
            &format!("verify front --url http://127.0.0.1:{FRONT}/ --expect Timetable --settle 1s"),
            0,
        )?;
        if self.stopped() {
            return Ok(());
        }

        self.chapter(
            "2. Two files after a merge",
            "A merge brought a second file that listens on the same port, and a misspelt word beside it.",
        );
        self.stop_front()?;
        self.host
            .write(
                "front/sites/ticket-pages.conf",
                &format!(
                    "# merged from the ticket shop\nListen 127.0.0.1:{FRONT}\nDocumentRooot {}\n",
                    self.host.path("www")
                ),
            )
            .map_err(fault)?;
        self.start_front()?;
        self.type_in("lint front", 1)?;
        self.type_in("fix front --pick comment-out,correct-directive --apply --settle 1s", 0)?;
        self.type_in("attempts front --last 3", 0)?;
        self.type_in("undo", 0)?;
        if self.stopped() {
            return Ok(());
        }

        self.chapter(
            "3. Left behind last night",
            "marta tried tide-relay by hand last night and closed the \
            terminal; its socket file now stops the service.",
        );
        self.leave_socket()?;
        self.type_in("diagnose tide-relay", 1)?;
        self.type_in("fix tide-relay --apply --settle 1s", 0)?;
        self.type_in("verify tide-relay --settle 1s", 0)?;
        if self.stopped() {
            return Ok(());
        }

        self.chapter(
            "4. It runs, but would not come back",
            "front serves its pages; somebody edited its configuration yesterday and did not reload.",
        );
        let sound = fs::read_to_string(self.host.dir.join("front/front.conf")).map_err(fault)?;
        self.host
            .write("front/front.conf", &format!("{sound}Include sites/winter-timetable.inc\n"))
            .map_err(fault)?;
        self.type_in("survey", 0)?;
        self.type_in("diagnose front", 0)?;
        self.type_in("fix front --pick comment-out --apply --settle 1s", 0)?;
        self.pages()
    }

    /// Pages that fail, and what is behind them.
    fn pages(&mut self) -> Result<(), CliError> {
        if self.stopped() {
            return Ok(());
        }
        self.chapter(
            "5. A page answers 502",
            "edge passes the ticket shop on to the socket of a release of ticket-pages that is gone.",
        );
        let url = format!("http://127.0.0.1:{EDGE}/book");
        self.type_in(&format!("diagnose {url}"), 1)?;
        self.type_in(&format!("fix {url} --apply --settle 1s"), 0)?;
        self.type_in(&format!("verify {url} --expect Tickets --settle 1s"), 0)?;
        if self.stopped() {
            return Ok(());
        }

        self.chapter(
            "6. The database lets nobody in",
            "boarding answers 404: its data source uses an account that may not log in to bookings.",
        );
        let url = format!("http://127.0.0.1:{BOARDING}/boarding");
        self.type_in(&format!("diagnose {url} --try-logins"), 1)?;
        self.type_in(&format!("fix {url} --try-logins"), 1)?;
        self.print("\nmarta allows the login at the database.\n");
        self.host.write("boarding/roles", "postgres\nboarding\n").map_err(fault)?;
        self.type_in(&format!("verify {url} --expect Boarding --settle 1s"), 0)?;
        if self.stopped() {
            return Ok(());
        }

        self.chapter(
            "7. An override file that was edited yesterday",
            "The ticket pages of front answer 500: a word in their folder's override file is misspelt.",
        );
        self.host
            .write("www/tickets/.htaccess", "# The pages of the ticket shop\nDirectorIndex index.html\n")
            .map_err(fault)?;
        let url = format!("http://127.0.0.1:{FRONT}/tickets/");
        self.type_in(&format!("diagnose {url}"), 1)?;
        self.type_in(&format!("fix {url} --apply --settle 1s"), 0)?;
        self.type_in(&format!("verify {url} --expect Tickets --settle 1s"), 0)?;
        self.type_in("survey", 0)
    }

    /// A real socket file whose process is gone.
    fn leave_socket(&mut self) -> Result<(), CliError> {
        let dir = self.host.path("run/tide-relay");
        let file = self.host.path("log/tide-relay.log");
        self.daemon("tide-relay", &[&dir, &file, "run"], false)?;
        if let Some(mut child) = self.children.pop() {
            child.kill().and_then(|()| child.wait()).map_err(fault)?;
        }
        self.daemon("tide-relay", &[&dir, &file, "start"], true)
    }

    /// Ends every process of the demo's directory.
    fn clean_up(&mut self) {
        for child in &mut self.children {
            let _ = child.kill();
            let _ = child.wait();
        }
        end_processes(&self.host.dir);
    }
}
