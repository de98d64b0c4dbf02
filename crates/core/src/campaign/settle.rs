//! Waiting for a service: until it is well or the patience is used up, and then once more after it had time
//! to fall over.
use super::Ground;
use crate::case::State;
use crate::report::{self, Complaint, Recovery, VerifyReport};
use crate::service::Service;
use std::time::Duration;

/// How long is waited.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Patience {
    /// How long a slow start may take.
    pub wait: Duration,
    /// It must still be up after this long.
    pub settle: Duration,
}

/// Between two looks.
const STEP: Duration = Duration::from_millis(150);
/// A service that is stopped may be on its way up for so long.
const ON_ITS_WAY: Duration = Duration::from_secs(2);
/// After so long whoever waits is told why.
const SILENT: Duration = Duration::from_secs(1);

/// Looks until it is well or the patience is used up, then once more after it had time to fall over.
pub fn settled(ground: &dyn Ground, service: &Service, page: &Complaint, patience: Patience) -> VerifyReport {
    let began = ground.elapsed();
    let waited = || ground.elapsed().saturating_sub(began);
    let mut told = false;
    let (first, parts) = loop {
        let snapshot = ground.look();
        let look = report::verify(&snapshot, service, page, None);
        let hopeless = look.state == State::Failed || (look.state == State::Stopped && waited() > ON_ITS_WAY);
        let up = look.verdict != Recovery::NotRecovered
            && !(look.verdict == Recovery::Partly && waited() < patience.wait);
        if up || hopeless || waited() >= patience.wait {
            break (look, snapshot.host().parts());
        }
        if !told && waited() > SILENT {
            told = true;
            ground.say(&format!(
                "waiting up to {} s for {} (interrupt with Ctrl-C)",
                patience.wait.as_secs(),
                service.name
            ));
        }
        ground.sleep(STEP);
    };
    let lasts = first.verdict != Recovery::NotRecovered
        && !patience.settle.is_zero()
        && ground.is_live()
        && parts.clock
        && parts.processes;
    let Some(pid) = first.main_pid.filter(|_| lasts) else { return first };
    ground.sleep(patience.settle);
    report::verify(&ground.look(), service, page, Some(pid))
}
