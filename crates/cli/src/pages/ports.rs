//! The page of `ports`.
use super::when::When;
use crate::render::{Block, Page, Tone};
use jolly_core::case::Returns;
use jolly_core::host::Protocol;
use jolly_core::report::{PortEntry, PortsReport};

fn address(entry: &PortEntry) -> String {
    match (&entry.address, entry.port) {
        (Some(address), Some(port)) if address.contains(':') => format!("[{address}]:{port}"),
        (Some(address), Some(port)) => format!("{address}:{port}"),
        _ => entry.path.clone().unwrap_or_default(),
    }
}

fn returns(returns: Returns) -> &'static str {
    match returns {
        Returns::Boot => "starts again at boot",
        Returns::Itself => "will restart by itself",
        Returns::No => "will not restart by itself",
        Returns::Unknown => "may come back",
    }
}

pub(crate) fn page(report: &PortsReport, asked: &[u16], when: &When, program: &str) -> Page {
    let mut page = Page::new("Ports");
    let conflicts: Vec<&PortEntry> = report.ports.iter().filter(|p| p.conflict == Some(true)).collect();
    match (asked, conflicts.first()) {
        (_, Some(first)) => {
            let holder =
                first.holders.first().map_or("somebody".into(), |h| format!("{} (pid {})", h.name, h.pid));
            let wants = first.wanted_by.iter().map(|w| w.service.as_str()).collect::<Vec<_>>().join(" and ");
            let also = if conflicts.len() > 1 {
                if conflicts.len() == 2 {
                    " There is 1 more conflict.".to_owned()
                } else {
                    format!(" There are {} more conflicts.", conflicts.len() - 1)
                }
            } else {
                String::new()
            };
            page.answer(
                Tone::Problem,
                format!("{} is held by {holder}, and wanted by {wants}.{also}", address(first)),
            );
        }
        ([], None) => page.answer(
            Tone::Well,
            match report.ports.iter().filter(|p| p.held == Some(true)).count() {
                1 => "1 listener, no conflict.".to_owned(),
                count => format!("{count} listeners, no conflict."),
            },
        ),
        ([port], None) => {
            let holder = report.ports.iter().find_map(|p| p.holders.first());
            match holder {
                Some(h) => {
                    page.answer(Tone::Plain, format!("Port {port} is held by {} (pid {}).", h.name, h.pid))
                }
                None if report.ports.iter().any(|p| p.held == Some(true)) => {
                    page.answer(Tone::Plain, format!("Port {port} is held, but its holder cannot be seen."))
                }
                None if !report.ports.is_empty() => {
                    page.answer(Tone::Plain, format!("Nobody holds port {port}, but it is wanted."))
                }
                None => page.answer(Tone::Plain, format!("Nobody holds or wants port {port}.")),
            }
        }
        (_, None) => page.answer(
            Tone::Plain,
            format!(
                "{} of these ports are held.",
                report.ports.iter().filter(|p| p.held == Some(true)).count()
            ),
        ),
    }
    if asked.is_empty() {
        table(&mut page, report);
    } else {
        report.ports.iter().for_each(|p| details(&mut page, p, when));
    }
    if !report.free.is_empty() {
        page.heading("Free");
        page.text(format!(
            "{} – held by nobody, wanted by no configuration, not handed out by the kernel.",
            report.free.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        ));
    }
    if let Some(first) = conflicts.first() {
        page.heading("What to do");
        let commands = first.wanted_by.first().map(|w| {
            (
                format!("{program} diagnose {}", crate::context::quoted(&w.service)),
                "why it does not start, and what puts it right".to_owned(),
            )
        });
        page.push(Block::Commands(commands.into_iter().collect()));
    }
    page.not_seen(&report.not_seen);
    page
}

fn table(page: &mut Page, report: &PortsReport) {
    let head = ["address", "", "holder", "started by", "wanted by"].map(str::to_owned).to_vec();
    let rows = report
        .ports
        .iter()
        .filter(|p| p.protocol != Protocol::Udp || !p.wanted_by.is_empty())
        .map(|p| {
            let holder = p.holders.first();
            let row = [
                address(p),
                match p.protocol {
                    Protocol::Tcp => "tcp",
                    Protocol::Udp => "udp",
                    Protocol::Unix => "unix",
                }
                .into(),
                holder.map_or_else(
                    || if p.held == Some(false) { "–" } else { "not seen" }.to_owned(),
                    |h| format!("{} (pid {})", h.name, h.pid),
                ),
                holder.and_then(|h| h.chain.first()).map_or("–".into(), ToString::to_string),
                p.wanted_by.iter().map(|w| w.service.as_str()).collect::<Vec<_>>().join(", "),
            ];
            (if p.conflict == Some(true) { Tone::Problem } else { Tone::Plain }, row.to_vec())
        })
        .collect();
    page.push(Block::Table(head, rows));
}

fn details(page: &mut Page, entry: &PortEntry, when: &When) {
    page.heading(address(entry));
    let mut rows = Vec::new();
    for h in &entry.holders {
        rows.push((format!("held by {}, account {}", h.name, h.user), format!("pid {}", h.pid)));
        if !h.command.is_empty() {
            rows.push((h.command.clone(), String::new()));
        }
        let chain = h.chain.iter().take(3).map(ToString::to_string).collect::<Vec<_>>().join(", from ");
        let started = h.started_at.as_deref().map(|t| when.ago(t)).unwrap_or_default();
        let by = if chain.is_empty() { "a parent process that has ended".to_owned() } else { chain };
        rows.push((format!("started by {by}; it {}", returns(h.returns)), started));
        if let Some(clients) = h.clients.filter(|c| *c > 0) {
            rows.push((format!("{clients} clients are connected"), String::new()));
        }
    }
    if entry.holders.is_empty() {
        let words = match entry.held {
            Some(true) => "held, but its holder cannot be seen",
            Some(false) => "held by nobody",
            None => "a directory tree does not tell whether it is held",
        };
        rows.push((words.into(), String::new()));
    }
    for w in &entry.wanted_by {
        let origin = match (&w.file, w.line) {
            (Some(file), Some(line)) => format!("{file}:{line}"),
            _ => "services file".into(),
        };
        rows.push((format!("wanted by {}", w.service), origin));
    }
    page.push(Block::Evidence(rows));
}
