//! What the logs say of the very request, and what the answer makes of the hops.
use super::front::fault;
use super::{Hop, Walker};
use crate::bounds::{REQUEST_LOG, REQUEST_LOGS};
use crate::case;
use crate::code::Code;
use crate::finding::{Evidence, Proof, Source, Subject};
use crate::host::{Look, ProbeAnswer};
use crate::kinds::{KINDS, PageFault, ScriptError};
use crate::route::Url;

/// Lines of logs that are shown.
const SHOWN: usize = 4;

impl Walker<'_, '_> {
    /// What the answer makes of the hops: where the page came, nothing is wrong; where it did not, the first
    /// that is broken is the cause, and lines of logs tell what no hop does.
    pub(super) fn judge(&mut self, url: &Url, answer: Option<&ProbeAnswer>, logs: &[(String, u64)]) {
        let Some(answer) = answer else { return };
        let said = match (answer.status, &answer.error) {
            (Some(status), _) => format!("{} answers {status}", url.shown),
            (None, Some(why)) => format!("{} does not answer: {why}", url.shown),
            (None, None) => format!("{} does not answer", url.shown),
        };
        let took = Evidence::new(Source::Probe, format!("{said}, after {} ms", answer.took_ms));
        // A stranger's page is not the one that was asked for.
        let stranger = self.links.iter().any(|l| l.hop == Hop::Listener && l.ok == Some(false));
        let well = answer.status.is_some_and(|s| s < 400) && !stranger;
        if let Some(listener) = self.links.iter_mut().find(|l| l.hop == Hop::Listener) {
            listener.evidence.push(took.clone());
        }
        if well {
            self.faults.clear();
            // What seemed broken was not: the page came.
            for link in self.links.iter_mut().filter(|l| l.ok == Some(false) && l.hop != Hop::Name) {
                link.ok = None;
            }
            return;
        }
        let lines = self.lines(url, answer, logs);
        for (_, finding) in &mut self.faults {
            finding.evidence.push(took.clone());
            finding.evidence.extend(lines.iter().cloned());
        }
        // What is only possible does not keep the daemons from telling more.
        if self.faults.iter().all(|(_, finding)| finding.proof.is_weak())
            && let Some(at) = self.through.last().copied()
        {
            match self.page_fault(at, url, answer) {
                Some(found) => self.not_served(at, found, took, lines),
                None => self.told(at, answer, took, lines),
            }
        }
        // The one furthest behind first: what is in front of it only passes it on.
        self.faults.reverse();
        self.faults.sort_by_key(|(_, finding)| finding.proof.is_weak());
    }

    /// What the server behind the last hop itself knows of this address.
    fn page_fault(&self, at: usize, url: &Url, answer: &ProbeAnswer) -> Option<PageFault> {
        let service = &self.services[at];
        let status = answer.status?;
        service.kind.page_fault(self.snapshot, &service.instance, self.target_of(at, url), status)
    }

    /// What a service on the way is asked for: the last front before it may have changed the address.
    pub(super) fn target_of<'u>(&'u self, at: usize, url: &'u Url) -> &'u str {
        let asked = self.asked.iter().rev().find(|(behind, _)| *behind == at);
        asked.map_or(url.target.as_str(), |(_, target)| target)
    }

    /// The last server has no page for this address, and says why.
    fn not_served(&mut self, at: usize, found: PageFault, took: Evidence, lines: Vec<Evidence>) {
        self.link(Hop::Handler, "the application", Some(false), found.evidence.clone());
        let mut evidence = found.evidence;
        evidence.push(took);
        evidence.extend(lines);
        let mut finding = fault(found.code, found.subject, found.title, evidence);
        if !found.proven {
            finding.proof = Proof::Said;
        }
        self.faults.push((at, finding));
    }

    /// No hop is broken, and the page fails: what the daemons themselves say of it.
    fn told(&mut self, at: usize, answer: &ProbeAnswer, took: Evidence, lines: Vec<Evidence>) {
        let name = self.services[at].name.clone();
        let script = lines.iter().find_map(|line| script_error(&line.detail));
        let mut evidence = vec![took];
        evidence.extend(lines);
        if let Some((what, place)) = script {
            let subject = match &place {
                Some((file, line)) => Subject { line: Some(*line), ..Subject::path(file) },
                None => Subject::default(),
            };
            let title = match &place {
                Some((file, line)) => format!("a script fails: {what} ({file}:{line})"),
                None => format!("a script fails: {what}"),
            };
            self.link(
                Hop::Handler,
                "the application",
                Some(false),
                evidence.iter().skip(1).cloned().collect(),
            );
            self.faults.push((at, fault(Code::ApplicationError, subject, title, evidence)));
            return;
        }
        let Some(status) = answer.status.filter(|s| *s >= 500) else { return };
        if evidence.len() > 1 {
            let title = format!("{name} answers {status}, and its log says why");
            let mut finding = fault(Code::Unknown, Subject::default(), title, evidence);
            finding.proof = Proof::Said;
            self.faults.push((at, finding));
        }
    }

    /// Logs of the daemons on the way, with where each ends now.
    pub(super) fn log_ends(&self) -> Vec<(String, u64)> {
        let mut logs = self.logs.clone();
        for at in &self.through {
            let config = self.services[*at].configuration(self.snapshot);
            let named = config.model.error_logs.iter().chain(&config.model.access_logs);
            logs.extend(named.map(|log| (*at, log.path.clone())));
        }
        // Whoever owns a configuration may name any file as a log of it.
        logs.retain(|(at, log)| {
            let service = &self.services[*at];
            case::is_own_word(self.snapshot, service, &service.configuration(self.snapshot), log)
        });
        let mut logs: Vec<String> = logs.into_iter().map(|(_, log)| log).collect();
        logs.sort();
        logs.dedup();
        logs.truncate(REQUEST_LOGS);
        let end = |log: String| {
            let size = self.snapshot.stat(&log).seen()?.size;
            Some((log, size))
        };
        logs.into_iter().filter_map(end).collect()
    }

    /// Lines about the request, among those that were written since it was made: those that carry its word,
    /// its path, or the failure of a script.
    fn lines(&self, url: &Url, answer: &ProbeAnswer, logs: &[(String, u64)]) -> Vec<Evidence> {
        let path = url.target.split('?').next().unwrap_or_default();
        let mark = answer.mark.as_deref().unwrap_or("\0");
        let request = format!("GET {path}");
        let mut found = Vec::new();
        for (log, from) in logs {
            let Look::Seen(bytes) = self.snapshot.read_at(log, *from, REQUEST_LOG) else { continue };
            let text = String::from_utf8_lossy(&bytes);
            let of_it =
                |line: &&str| line.contains(mark) || line.contains(&request) || script_error(line).is_some();
            for line in text.lines().filter(of_it).take(2) {
                found.push(Evidence::new(Source::Log, crate::secrets::mask_text(line)).file(log));
            }
        }
        // Why it failed says more than that it did.
        found.sort_by_key(|line| line.detail.contains(mark));
        found.truncate(SHOWN);
        found
    }
}

/// What a line says of a script that failed, whichever daemon runs it: a front quotes what its gateway said.
fn script_error(line: &str) -> Option<ScriptError> {
    KINDS.iter().find_map(|kind| kind.script_error(line))
}
