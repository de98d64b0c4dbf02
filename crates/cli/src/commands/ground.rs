//! Where `fix`, `undo` and `verify` take place: this call's host, its services file, its clock.
use crate::context::{Context, Origin};
use jolly_core::campaign::{Clock, Ground};
use jolly_core::case::{Depth, gather};
use jolly_core::chain;
use jolly_core::finding::Finding;
use jolly_core::fix;
use jolly_core::report::Complaint;
use jolly_core::route::Url;
use jolly_core::service::Service;
use jolly_core::snapshot::Snapshot;
use std::time::{Duration, Instant};

/// The host of this call.
pub(super) struct Here<'c> {
    context: &'c Context,
    /// The page that was complained about.
    url: Option<Url>,
    began: Instant,
}

impl<'c> Here<'c> {
    pub(super) fn new(context: &'c Context) -> Self {
        Self::about(context, None)
    }
    /// The same, about a page that fails.
    pub(super) fn about(context: &'c Context, url: Option<Url>) -> Self {
        Self { context, url, began: Instant::now() }
    }
}

impl Clock for Here<'_> {
    fn elapsed(&self) -> Duration {
        self.began.elapsed()
    }
    fn sleep(&self, time: Duration) {
        std::thread::sleep(time);
    }
}

impl Ground for Here<'_> {
    fn look(&self) -> Snapshot<'_> {
        self.context.snapshot()
    }
    fn service(&self, snapshot: &Snapshot, name: &str) -> Result<Service, String> {
        self.context.service(snapshot, name).map_err(|e| e.to_string())
    }
    fn is_live(&self) -> bool {
        self.context.origin == Origin::Live
    }
    fn complaint(&self) -> Complaint {
        Complaint { url: self.url.as_ref().map(Url::to_string), ..Complaint::default() }
    }
    fn met(&self, snapshot: &Snapshot, service: &str) -> Vec<Finding> {
        let Some(url) = &self.url else { return Vec::new() };
        let services = self.context.serving(snapshot, false);
        let faults = chain::follow(snapshot, &services, url).faults;
        faults
            .into_iter()
            .filter(|(at, _)| services[*at].name == service)
            .map(|(_, finding)| finding)
            .collect()
    }
    fn say(&self, text: &str) {
        self.context.say(text);
    }
}

impl fix::Commands for Here<'_> {
    fn running(&self, service: &str) -> Option<Option<fix::RunMark>> {
        if self.context.origin != Origin::Live {
            return None;
        }
        let snapshot = self.context.snapshot();
        let service = self.context.service(&snapshot, service).ok()?;
        let case = gather(&snapshot, &service, Depth::State);
        // Without the process table nothing tells.
        snapshot.processes().seen()?;
        Some(
            case.processes
                .first()
                .map(|p| fix::RunMark { pid: p.brief.pid, start_ticks: p.brief.start_ticks }),
        )
    }
    fn line(&self, service: &str, purpose: fix::Purpose) -> Option<fix::CommandLine> {
        fix::CommandLine::of(self.context.services.service.get(service)?, purpose)
    }
}
