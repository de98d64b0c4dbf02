//! Other services of this host that pass on to a listener: where a port moves, their lines must follow.
use super::steps::Job;
use super::{Purpose, Step};
use crate::case::Case;
use crate::config::{Place, Span, Upstream};
use crate::net::Listen;
use crate::service::Service;
use crate::snapshot::Snapshot;

/// Another service, and what changes in its configuration.
#[derive(Clone, Debug)]
pub struct Client {
    /// The service.
    pub service: Service,
    /// The bytes that are replaced, and what by.
    pub edits: Vec<(Span, String)>,
}

/// One line of another service's that points at a listener.
pub(super) struct Pointer<'s> {
    pub(super) service: &'s Service,
    pub(super) place: Place,
    /// The bytes of the port; `None` where the line does not write it.
    pub(super) span: Option<Span>,
}

/// The lines of other services that pass on to a listener of this one.
pub(super) fn pointers<'s>(
    snapshot: &Snapshot,
    own: &Service,
    all: &'s [Service],
    listens: &[&Listen],
) -> Vec<Pointer<'s>> {
    let mut found = Vec::new();
    let addresses = snapshot.addresses().seen().unwrap_or_default();
    let is_here = |u: &Upstream| u.listen.address.is_some_and(|a| a.is_loopback() || addresses.contains(&a));
    for service in all.iter().filter(|s| s.name != own.name) {
        let config = service.configuration(snapshot);
        let model = &config.model;
        // Configuration that both read is the service's own.
        let read_here = &own.configuration(snapshot).model.files;
        let shared = |file: &str| read_here.iter().any(|f| f == file);
        for upstream in
            model.upstreams.iter().filter(|u| is_here(u)).filter(|u| listens.iter().any(|l| u.leads_to(l)))
        {
            if shared(&upstream.place.file) {
                continue;
            }
            let span = port_in(snapshot, upstream);
            found.push(Pointer { service, place: upstream.place.clone(), span });
        }
    }
    found.sort_by(|a, b| (&a.place.file, a.place.line).cmp(&(&b.place.file, b.place.line)));
    found.dedup_by(|a, b| a.place == b.place && a.span == b.span);
    found
}

/// The bytes of the port in the line of an upstream: the digits behind a host that means its address.
fn port_in(snapshot: &Snapshot, upstream: &Upstream) -> Option<Span> {
    let text = snapshot.text(&upstream.place.file).seen()?;
    let line = usize::try_from(upstream.place.line).ok()?.checked_sub(1)?;
    let start = std::iter::once(0).chain(text.match_indices('\n').map(|(n, _)| n + 1)).nth(line)?;
    let whole = text[start..].lines().next()?;
    let digits = format!(":{}", upstream.listen.port);
    let of_host = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | ':' | '-' | '_' | '[' | ']');
    whole.match_indices(&digits).find_map(|(at, _)| {
        let end = at + digits.len();
        if whole[end..].starts_with(|c: char| c.is_ascii_digit()) {
            return None;
        }
        let begin = whole[..at].rfind(|c| !of_host(c)).map_or(0, |n| n + 1);
        let meant = Upstream::of(snapshot, &whole[begin..end], None, &upstream.place)?;
        let same = meant.listen.address == upstream.listen.address;
        same.then(|| Span { file: upstream.place.file.clone(), start: start + at + 1, end: start + end })
    })
}

/// What makes a client that runs read its configuration anew.
pub(crate) fn client_reload(case: &Case) -> Option<Step> {
    if !case.state.is_up() {
        return None;
    }
    if let Some(unit) = &case.service.unit {
        let can = unit.value("Service", "ExecReload").is_some() || unit.start_type() == "notify-reload";
        let verb = if can { "reload" } else { "restart" };
        return Some(Step::Job(Job { verb: verb.into(), unit: unit.name.clone() }));
    }
    Step::described(case.service, Purpose::Reload)
}
