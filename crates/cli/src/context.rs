//! What every command starts from: the host to ask, the services file, and the one writer of answers.
use crate::error::CliError;
use crate::exit::Status;
use crate::options::{self, Colour, Format, Global};
use crate::pages::when::When;
use crate::render::Page;
use crate::render::ascii;
use jolly_core::bounds::OUTPUT;
use jolly_core::bundle::{Bundle, Recorder, Replayer};
use jolly_core::host::{Host, Look, Unseen};
use jolly_core::not_seen::NotSeen;
pub(crate) use jolly_core::paste::quoted;
use jolly_core::service::Service;
use jolly_core::services_file::{self, ServicesFile};
use jolly_core::serving::Extent;
use jolly_core::snapshot::Snapshot;
use jolly_linux::{LinuxWriter, LiveHost, Reach, TreeHost};
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};

/// Where root keeps its change journal.
const ROOTS_JOURNAL: &str = "/var/lib/jolly-sentinel";

/// The host's own services file, below its root.
const OWN_FILE: &str = "/etc/jolly-sentinel/services.toml";

/// Where the answers come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Origin {
    Live,
    Tree,
    Bundle,
}

/// A call's surroundings.
pub(crate) struct Context {
    pub(crate) host: Box<dyn Host>,
    pub(crate) origin: Origin,
    pub(crate) services: ServicesFile,
    pub(crate) global: Global,
    /// Services files that were not read, with the reason.
    unread: Vec<String>,
}

impl Context {
    pub(crate) fn new(global: &Global) -> Result<Self, CliError> {
        let mut recorded = None;
        let mut unread = Vec::new();
        let (host, origin): (Box<dyn Host>, Origin) = match (&global.root, &global.from) {
            (Some(root), _) => (Box::new(TreeHost::new(root).map_err(CliError::usage)?), Origin::Tree),
            (_, Some(bundle)) => {
                let text = read_bundle(bundle)?;
                let replayer = Replayer::from_json(&text)
                    .map_err(|e| CliError::usage(format!("{}: {e}", bundle.display())))?;
                // What that host's services files said went along; this host's say nothing of it.
                recorded = replayer.services().cloned();
                unread.extend(replayer.not_seen().iter().cloned());
                (Box::new(replayer), Origin::Bundle)
            }
            _ => (Box::new(LiveHost::new(global.timeout)), Origin::Live),
        };
        let services = services(host.as_ref(), global, origin, recorded, &mut unread)?;
        Ok(Self { host, origin, services, global: global.clone(), unread })
    }

    pub(crate) fn snapshot(&self) -> Snapshot<'_> {
        let snapshot = Snapshot::new(self.host.as_ref()).under(self.services.host_name.clone());
        self.unread.iter().for_each(|line| snapshot.unseen(line.clone()));
        snapshot
    }

    /// A service by its name, with the nearest known one in the hint when there is none.
    pub(crate) fn service(&self, snapshot: &Snapshot, name: &str) -> Result<Service, CliError> {
        if let Some(found) = jolly_core::service::named(snapshot, &self.services, name) {
            return Ok(found);
        }
        let all = jolly_core::service::find(snapshot, &self.services);
        // The name of a daemon stands for its only service here.
        let of_kind: Vec<&Service> =
            all.iter().filter(|s| jolly_core::service::is_of_kind(s, name)).collect();
        if let [only] = of_kind.as_slice() {
            return Ok((*only).clone());
        }
        if !of_kind.is_empty() {
            let names: Vec<&str> = of_kind.iter().map(|s| s.name.as_str()).collect();
            return Err(CliError::usage(format!("{name} stands for {} services here", names.len()))
                .hint(format!("name one of {}", names.join(", "))));
        }
        let unit = format!("{}.service", name.trim_end_matches(".service"));
        if !name.contains('/')
            && let Look::NotSeen(why) = jolly_core::manager::unit(snapshot, &unit)
        {
            return Err(CliError::not_seen(format!("whether service {name} exists was not seen: {why}")));
        }
        if let Some(instances) = jolly_core::service::instances_of(snapshot, name) {
            let stem = name.trim_end_matches(".service").trim_end_matches('@');
            let hint = match instances.as_slice() {
                [] => format!("name one of its instances: {stem}@NAME"),
                some => format!("name one of its instances: {}", some.join(", ")),
            };
            return Err(CliError::usage(format!("{stem}@ is a template of services")).hint(hint));
        }
        let names: Vec<&str> = all.iter().map(|s| s.name.as_str()).collect();
        let error = CliError::usage(format!("service {name} does not exist on this host"));
        Err(match jolly_core::config::nearest(name, names.iter().copied()) {
            Some(near) => error.hint(format!("did you mean {near}?")),
            None if names.is_empty() => {
                error.hint("no server daemon was found; describe it in a services file")
            }
            None => error.hint(format!("known here: {}", names.join(", "))),
        })
    }

    /// What serves on this host, or everything that runs for good.
    pub(crate) fn serving(&self, snapshot: &Snapshot, everything: bool) -> Vec<Service> {
        let extent = if everything { Extent::Everything } else { Extent::Serving };
        jolly_core::serving::serving(snapshot, &self.services, extent)
    }

    pub(crate) fn all_services(&self, snapshot: &Snapshot) -> Vec<Service> {
        jolly_core::service::find(snapshot, &self.services)
    }

    /// The exit status of an answer: what lies behind a bound is not known, so nothing is called well because
    /// of it.
    pub(crate) fn bounded(&self, snapshot: &Snapshot, status: Status) -> Status {
        if snapshot.is_bounded() && status == Status::Well { Status::NotSeen } else { status }
    }

    /// The start of a command to type next, with the options that led here.
    pub(crate) fn program(&self) -> String {
        let mut words = vec![crate::called::called()];
        // What the environment says already need not be typed.
        let said = |variable: &str, value: &Path| std::env::var_os(variable).is_some_and(|v| *v == *value);
        let mut option = |name: &str, variable: &str, value: &Option<PathBuf>| {
            if let Some(value) = value.as_ref().filter(|v| !said(variable, v)) {
                words.push(format!("{name} {}", quoted(&value.to_string_lossy())));
            }
        };
        option("--root", options::ROOT, &self.global.root);
        option("--from", options::FROM, &self.global.from);
        option("--services", options::SERVICES, &self.global.services);
        option("--state-dir", options::STATE_DIR, &self.global.state_dir);
        words.join(" ")
    }

    /// Directory of the change journal.
    ///
    /// # Errors
    /// What to set, where nothing tells: a directory that everybody can write is no place for it.
    pub(crate) fn state_dir(&self) -> Result<PathBuf, CliError> {
        if let Some(dir) = &self.global.state_dir {
            return Ok(dir.clone());
        }
        if rustix::process::geteuid().is_root() {
            return Ok(PathBuf::from(ROOTS_JOURNAL));
        }
        let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
        let base =
            absolute("XDG_STATE_HOME").or_else(|| absolute("HOME").map(|home| home.join(".local/state")));
        let missing = || {
            CliError::usage("the change journal has no directory: neither HOME nor XDG_STATE_HOME is set")
                .hint("name one with --state-dir DIR")
        };
        Ok(base.ok_or_else(missing)?.join("jolly-sentinel"))
    }

    /// What an ordinary account cannot see of root's changes to this host.
    pub(crate) fn hidden_changes(&self) -> Option<NotSeen> {
        let elsewhere = self.global.state_dir.is_some()
            || self.origin != Origin::Live
            || rustix::process::geteuid().is_root();
        match std::fs::read_dir(ROOTS_JOURNAL) {
            Err(error) if !elsewhere && error.kind() == std::io::ErrorKind::PermissionDenied => {
                Some(NotSeen::part(&format!("changes that root made, in {ROOTS_JOURNAL}"), &Unseen::Denied))
            }
            _ => None,
        }
    }

    /// The writer that belongs to the host.
    pub(crate) fn writer(&self) -> Result<LinuxWriter, CliError> {
        let root = self.global.root.clone().unwrap_or_else(|| PathBuf::from("/"));
        let reach = match self.origin {
            Origin::Live => Reach::Machine,
            Origin::Tree => Reach::Tree,
            Origin::Bundle => {
                return Err(CliError::usage(
                    "captured evidence cannot be changed: --apply needs the host itself",
                ));
            }
        };
        Ok(LinuxWriter::new(&root, &self.state_dir()?, reach))
    }

    /// Whether the answer is a page that is kept, such as with a ticket.
    pub(crate) fn is_kept(&self) -> bool {
        matches!(self.global.format, Format::Markdown | Format::Html)
    }

    /// Of which host a page tells, as it was when; and when it was made, where that is another moment.
    fn origin_of_page(&self) -> Option<String> {
        let snapshot = self.snapshot();
        let host = match (&self.global.root, snapshot.clock().seen()) {
            (Some(root), _) => format!("The directory tree {}", root.display()),
            (None, clock) => format!("Host {}", clock.filter(|c| !c.host.is_empty())?.host),
        };
        let zone = jolly_core::log::host_zone(&snapshot);
        let at = |micros: i64| {
            let stamp = jolly_core::log::format_time(micros, &zone);
            let when = When::new(self.global.time_zone.as_deref(), Some(&stamp)).ok()?;
            when.in_zone(zone.clone()).looked_at()
        };
        // A host that is here was looked at just now, by its own clock.
        let (looked, made) = match self.origin {
            Origin::Live => (None, snapshot.now()),
            Origin::Bundle => (snapshot.now(), Some(jiff::Timestamp::now().as_microsecond())),
            Origin::Tree => (None, Some(jiff::Timestamp::now().as_microsecond())),
        };
        let (looked, made) = (looked.and_then(at), made.and_then(at));
        Some(match (looked, made) {
            (Some(looked), Some(made)) => format!("{host}, captured {looked}. This page was made {made}."),
            (_, Some(made)) => format!("{host}, {made}"),
            _ => host,
        })
    }

    /// Writes an answer about a host.
    pub(crate) fn emit(&self, page: &Page, report: &impl serde::Serialize) -> Result<(), CliError> {
        let mut page = page.clone();
        if self.is_kept() {
            page.origin = self.origin_of_page();
        }
        self.write_page(page, report)
    }

    /// Writes an answer that is true of every host.
    pub(crate) fn emit_general(&self, page: &Page, report: &impl serde::Serialize) -> Result<(), CliError> {
        self.write_page(page.clone(), report)
    }

    /// Writes an answer in the form that was asked for. JSON comes from the report itself.
    fn write_page(&self, mut page: Page, report: &impl serde::Serialize) -> Result<(), CliError> {
        let document = json(report)?;
        // What this account may not see, another one may: the answer ends with the command for it.
        if self.origin != Origin::Bundle && !rustix::process::geteuid().is_root() && page.rights_missing {
            let words: Vec<String> = std::env::args().skip(1).map(|word| quoted(&word)).collect();
            page.heading("To see the rest");
            page.push(crate::render::Block::Commands(vec![(
                format!("sudo {} {}", crate::called::called(), words.join(" ")),
                "as root, who may see it".into(),
            )]));
        }
        let text = match self.global.format {
            Format::Text => {
                let text = page.to_text(self.width(), self.colour());
                if ascii::is_asked(|name| std::env::var(name).ok()) { ascii::ascii(&text) } else { text }
            }
            Format::Json => document,
            Format::Markdown => page.to_markdown(),
            Format::Html => page.to_html(),
            Format::Sarif => return Err(CliError::usage("--format sarif is for lint")),
        };
        self.write(&text)
    }

    /// Writes evidence, which is nobody else's to read even where its secrets are masked.
    pub(crate) fn write_private(&self, text: &str) -> Result<(), CliError> {
        match &self.global.output {
            Some(path) => jolly_linux::write_output(path, text.as_bytes(), 0o600).map_err(CliError::not_seen),
            None => self.write(text),
        }
    }

    pub(crate) fn write(&self, text: &str) -> Result<(), CliError> {
        if text.len() > OUTPUT {
            return Err(CliError::not_seen(format!(
                "the answer has more than {} MiB and was not written",
                OUTPUT >> 20
            ))
            .hint("name a service, or ask for less"));
        }
        if let Some(path) = &self.global.output {
            return jolly_linux::write_output(path, text.as_bytes(), 0o666).map_err(CliError::not_seen);
        }
        let mut out = std::io::stdout().lock();
        match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
            Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(error.into()),
            _ => Ok(()),
        }
    }

    /// A word on standard error, unless silence was asked for.
    pub(crate) fn say(&self, text: &str) {
        if !self.global.quiet {
            let line = format!("{}\n", crate::render::clean(text));
            let _ = std::io::stderr().write_all(line.as_bytes());
        }
    }

    fn colour(&self) -> bool {
        match self.global.color {
            Colour::Always => true,
            Colour::Never => false,
            Colour::Auto => {
                self.global.output.is_none()
                    && std::io::stdout().is_terminal()
                    && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty())
                    && std::env::var_os("TERM").is_none_or(|t| t != "dumb")
            }
        }
    }

    pub(crate) fn width(&self) -> usize {
        let asked = std::env::var("COLUMNS").ok().and_then(|c| c.parse().ok());
        let terminal = || {
            rustix::termios::tcgetwinsize(std::io::stdout())
                .ok()
                .map(|w| usize::from(w.ws_col))
                .filter(|w| *w > 0)
        };
        asked.or_else(terminal).unwrap_or(80)
    }
}

pub(crate) fn json(report: &impl serde::Serialize) -> Result<String, CliError> {
    let text = serde_json::to_string_pretty(report).map_err(|e| CliError::not_seen(e.to_string()))?;
    // What cannot be seen is written as JSON's own escapes: the same document, and nothing hides in it.
    let mut out = String::with_capacity(text.len() + 1);
    for c in text.chars() {
        if c.is_ascii() || crate::render::is_visible(c) {
            out.push(c);
        } else {
            let mut units = [0u16; 2];
            c.encode_utf16(&mut units).iter().for_each(|u| out.push_str(&format!("\\u{u:04x}")));
        }
    }
    out.push('\n');
    Ok(out)
}

/// Evidence that was captured.
pub(crate) fn bundle(path: &Path) -> Result<Bundle, CliError> {
    Bundle::from_json(&read_bundle(path)?).map_err(|e| CliError::usage(format!("{}: {e}", path.display())))
}

fn read_bundle(path: &Path) -> Result<Vec<u8>, CliError> {
    std::fs::read(path).map_err(|e| CliError::usage(format!("{}: {e}", path.display())))
}

/// The host's file, then the user's, then the one that was named: later ones win. They name commands that
/// this program runs and paths that it changes, so a file that another account could have written is not
/// read.
fn services(
    host: &dyn Host,
    global: &Global,
    origin: Origin,
    recorded: Option<ServicesFile>,
    unread: &mut Vec<String>,
) -> Result<ServicesFile, CliError> {
    let had = recorded.is_some();
    let mut all = recorded.unwrap_or_default();
    let mut add = |name: &str, text: &str| -> Result<(), CliError> {
        let file = services_file::parse(text).map_err(|e| CliError::usage(format!("{name}: {e}")))?;
        all.add(file);
        Ok(())
    };
    if origin == Origin::Live {
        let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
        let own = absolute("XDG_CONFIG_HOME").or_else(|| absolute("HOME").map(|home| home.join(".config")));
        for file in [Some(PathBuf::from(OWN_FILE)), own.map(|dir| dir.join("jolly-sentinel/services.toml"))]
            .into_iter()
            .flatten()
        {
            match jolly_linux::read_trusted(&file) {
                Ok(Some(text)) => add(&file.to_string_lossy(), &text)?,
                Ok(None) => {}
                Err(why) => unread.push(format!("the services file {} was not read: {why}", file.display())),
            }
        }
    } else if let Some(text) = Snapshot::new(host).text(OWN_FILE).seen().filter(|_| !had) {
        add(OWN_FILE, &text)?;
    }
    if let Some(file) = &global.services {
        match jolly_linux::read_trusted(file) {
            Ok(Some(text)) => add(&file.to_string_lossy(), &text)?,
            Ok(None) => return Err(CliError::usage(format!("{} does not exist", file.display()))),
            Err(why) => {
                return Err(CliError::usage(format!(
                    "the services file {} is not used: {why}",
                    file.display()
                )));
            }
        }
    }
    Ok(all)
}

/// A recorder around the call's host, for `capture`.
pub(crate) fn recorder(context: &Context) -> Recorder<'_> {
    Recorder::new(context.host.as_ref())
}
