//! Processes that a change ends, lets go on, or starts.
use crate::state::failed;
use jolly_core::fix::{CommandLine, WriteError};
use process_wrap::std::{CommandWrap, ProcessSession};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use rustix::process::{Pid, PidfdFlags, Signal, geteuid, kill_process_group, pidfd_open, pidfd_send_signal};
use std::fs;
use std::os::fd::OwnedFd;
use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// How long a job of the manager, or a command of the services file, may take.
pub(crate) const JOB: Duration = Duration::from_secs(120);
/// How long a process may take to end after it was asked to.
const END: Duration = Duration::from_secs(10);
/// The same for what keeps data: it may have much to write.
const GENTLE_END: Duration = Duration::from_secs(120);

/// Where a command that runs as another account finds programs.
const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// Ends a process, and waits until it has ended; what is ended gently is never killed.
pub(crate) fn end(pid: u32, start_ticks: u64, gently: bool) -> Result<(), WriteError> {
    let what = format!("end pid {pid}");
    let Some(handle) = handle(pid, start_ticks, &what)? else { return Ok(()) };
    // What keeps data gets the time to write them, and is left running rather than killed.
    let signals: &[Signal] = if gently { &[Signal::TERM] } else { &[Signal::TERM, Signal::KILL] };
    let patience = if gently { GENTLE_END } else { END };
    for &signal in signals {
        match pidfd_send_signal(&handle, signal) {
            Ok(()) => {}
            Err(Errno::SRCH) => return Ok(()),
            Err(errno) => return Err(failed(what, errno)),
        }
        let began = Instant::now();
        while began.elapsed() < patience {
            let mut wait = [PollFd::new(&handle, PollFlags::IN)];
            let slice = Timespec { tv_sec: 0, tv_nsec: 100_000_000 };
            match poll(&mut wait, Some(&slice)) {
                Ok(n) if n > 0 => return Ok(()),
                _ => {}
            }
        }
    }
    Err(failed(what, "it does not end"))
}

/// Lets a halted process go on.
pub(crate) fn let_go_on(pid: u32, start_ticks: u64) -> Result<(), WriteError> {
    let what = format!("continue pid {pid}");
    let Some(handle) = handle(pid, start_ticks, &what)? else {
        return Err(WriteError::Refused(format!("process {pid} has ended")));
    };
    pidfd_send_signal(&handle, Signal::CONT).map_err(|e| failed(what, e))
}

/// Runs a command of the services file in a session of its own, and waits for its end.
pub(crate) fn run(line: &CommandLine) -> Result<(), WriteError> {
    let what = || format!("run {}", jolly_core::secrets::mask_command(&line.command));
    let words = jolly_core::manager::split_words(&line.command);
    let Some((program, arguments)) = words.split_first() else {
        return Err(WriteError::Refused("the command is empty".into()));
    };
    let mut command = Command::new(program);
    command.args(arguments);
    if let Some(name) = line.account.as_deref().filter(|_| geteuid().is_root()) {
        let account =
            account_of(name).ok_or_else(|| WriteError::Refused(format!("account {name} does not exist")))?;
        command.uid(account.uid);
        command.gid(account.gid);
        if account.uid != 0 {
            // What root's session holds in its environment is not for another account.
            let passed = |name: &str| matches!(name, "LANG" | "TZ") || name.starts_with("LC_");
            command.env_clear().envs(std::env::vars().filter(|(name, _)| passed(name)));
            command.env("PATH", PATH).env("HOME", &account.home).env("USER", name).env("LOGNAME", name);
        }
    }
    command.envs(line.environment.iter().map(|(k, v)| (k, v)));
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    // A session of its own: a command that does not end is ended with its group, and none that runs as
    // another account can reach this program's terminal.
    let mut command = CommandWrap::from(command);
    let mut child = command.wrap(ProcessSession).spawn().map_err(|e| failed(what(), e))?;
    let began = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait().map_err(|e| failed(what(), e))? {
            break status;
        }
        if began.elapsed() > JOB {
            if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
                let _ = kill_process_group(group, Signal::KILL);
            }
            let _ = child.wait();
            return Err(failed(
                what(),
                format!(
                    "it had not ended after {} s, and was ended with everything it had started",
                    JOB.as_secs()
                ),
            ));
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    if status.success() {
        return Ok(());
    }
    let words = status
        .code()
        .filter(|_| program.starts_with("/etc/init.d/"))
        .and_then(jolly_core::manager::script_words);
    Err(failed(what(), words.map_or_else(|| status.to_string(), |w| format!("{status}: {w}"))))
}

/// A handle of a process, known by its number and its start; `None` when it is gone. While the handle is held
/// the number cannot become somebody else's.
fn handle(pid: u32, start_ticks: u64, what: &str) -> Result<Option<OwnedFd>, WriteError> {
    let number = i32::try_from(pid)
        .ok()
        .and_then(Pid::from_raw)
        .ok_or_else(|| WriteError::Refused(format!("{pid} is not a process number")))?;
    let handle = match pidfd_open(number, PidfdFlags::empty()) {
        Ok(handle) => handle,
        Err(Errno::SRCH) => return Ok(None),
        Err(errno) => return Err(failed(what, errno)),
    };
    if start_of(pid) != Some(start_ticks) {
        return Err(WriteError::Refused(format!("pid {pid} is now another process; it was left alone")));
    }
    Ok(Some(handle))
}

/// When a process started, in clock ticks since boot; `None` where there is none of that number.
pub(crate) fn start_of(pid: u32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    stat.rsplit(')').next()?.split_whitespace().nth(19)?.parse().ok()
}

/// An account that a command runs as.
struct Account {
    uid: u32,
    gid: u32,
    home: String,
}

fn account_of(name: &str) -> Option<Account> {
    let text = fs::read_to_string("/etc/passwd").ok()?;
    text.lines().find_map(|line| {
        let mut fields = line.split(':');
        (fields.next() == Some(name)).then_some(())?;
        Some(Account {
            uid: fields.nth(1)?.parse().ok()?,
            gid: fields.next()?.parse().ok()?,
            home: fields.nth(1)?.to_owned(),
        })
    })
}
