//! Every fix, one file each: its id, its price in words, what it takes, what must be started anew, and its
//! plan.
mod align_unit;
mod capability;
mod change_setting;
mod continue_process;
mod correct_unit;
mod directive;
mod do_without;
mod drop_link;
mod give_back;
mod grant_access;
mod limit;
mod load_module;
mod make_directory;
mod make_executable;
mod move_aside;
mod move_port;
mod narrow_access;
mod point_to_socket;
mod put_back;
mod sandbox;
mod set_name;
mod start;
mod stop_holder;
mod timeout;
mod unit_file;

pub use change_setting::{Unplanned, plannable};

use super::Step;
use super::plan::{Plan, Risk};
use crate::case::Case;
use crate::finding::Subject;
use crate::rank::Cause;
use crate::service::Service;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// What a fix is planned for.
pub(super) struct Ask<'a> {
    pub(super) snapshot: &'a Snapshot<'a>,
    pub(super) case: &'a Case<'a>,
    /// All services of the host.
    pub(super) all: &'a [Service],
    pub(super) cause: &'a Cause,
    pub(super) wishes: &'a Wishes,
}

/// What a person wants of the fixes.
#[derive(Clone, Debug, Default)]
pub struct Wishes {
    /// Values of his own, by the names of what fixes take.
    pub values: BTreeMap<String, String>,
    /// Whether what points at a listener that moves goes with it.
    pub with_clients: bool,
    /// Settings of a service that is well, with the values that they shall have.
    pub settings: Vec<(String, String)>,
    /// The section that these stand in, as `settings` prints it.
    pub section: Option<String>,
}

/// How a service that runs takes up what was changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Needs {
    /// It reads its configuration anew.
    Reload,
    /// It must be started anew.
    Restart,
}

/// A fix.
pub struct Fix {
    /// Its id, as for `--pick`.
    pub id: &'static str,
    /// What it does to what a cause is about, in a few words.
    pub price: fn(&Subject) -> String,
    /// Names of the values that it takes.
    pub parameters: &'static [&'static str],
    /// What a running service needs afterwards.
    pub needs: Needs,
    /// Whether the service listens elsewhere afterwards.
    pub moves: bool,
    plan: Planner,
}

/// The list.
pub static FIXES: &[&Fix] = &[
    &align_unit::FIX,
    &capability::FIX,
    &change_setting::FIX,
    &continue_process::FIX,
    &correct_unit::FIX,
    &directive::COMMENT_OUT,
    &directive::CORRECT,
    &do_without::FIX,
    &drop_link::FIX,
    &give_back::FIX,
    &grant_access::FIX,
    &limit::FIX,
    &load_module::FIX,
    &make_directory::FIX,
    &make_executable::FIX,
    &move_aside::FIX,
    &move_port::FIX,
    &narrow_access::FIX,
    &point_to_socket::FIX,
    &put_back::FIX,
    &sandbox::FIX,
    &set_name::FIX,
    &start::BEHIND,
    &start::RESET,
    &start::RESTART,
    &start::START,
    &stop_holder::FIX,
    &timeout::FIX,
    &unit_file::ENABLE,
    &unit_file::UNMASK,
];

/// How a fix plans.
type Planner = fn(&Ask, Plan) -> Result<Plan, String>;

impl Fix {
    /// A fix that takes no values, after which a running service reads its configuration anew and listens
    /// where it did.
    const fn plain(id: &'static str, plan: Planner) -> Self {
        Self { id, price: |_| String::new(), parameters: &[], needs: Needs::Reload, moves: false, plan }
    }

    /// The fix of an id.
    pub fn of(id: &str) -> Option<&'static Self> {
        FIXES.iter().copied().find(|f| f.id == id)
    }

    fn plan(&self, ask: &Ask) -> Result<Plan, String> {
        let empty = Plan {
            id: self.id.to_owned(),
            title: String::new(),
            cause: ask.cause.code,
            risk: Risk::Low,
            reversible: true,
            parameters: vec![],
            steps: vec![],
            edits: vec![],
            diff: String::new(),
            remarks: vec![],
            by_choice: false,
            clients: vec![],
            needs: self.needs,
            moves: self.moves,
        };
        let mut plan = (self.plan)(ask, empty)?;
        let told: Vec<String> = plan.steps.iter().filter_map(Step::irreversible).collect();
        plan.reversible &= told.is_empty();
        plan.remarks.extend(told);
        Ok(plan)
    }
}

/// The plans for a cause, in the order of its fixes.
pub fn plans(
    snapshot: &Snapshot,
    case: &Case,
    all: &[Service],
    cause: &Cause,
    wishes: &Wishes,
) -> Vec<Result<Plan, String>> {
    let ask = Ask { snapshot, case, all, cause, wishes };
    cause
        .fixes
        .iter()
        .map(|id| Fix::of(id).ok_or_else(|| format!("fix {id} does not exist"))?.plan(&ask))
        .collect()
}

/// The service's account with its numbers, when it really exists: nothing is ever given to a number that
/// nobody has.
fn real_account(snapshot: &Snapshot, case: &Case) -> Result<(u32, u32), String> {
    let who = &case.starter;
    let known =
        crate::accounts::account(snapshot, &who.uid.to_string()).seen().is_some_and(|a| a.uid == who.uid);
    if who.uid == 0 || known {
        Ok((who.uid, who.gid))
    } else {
        Err(format!("account {} does not exist", who.name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_unique_and_every_fix_tells_its_price() {
        for (at, fix) in FIXES.iter().enumerate() {
            assert!(FIXES.iter().skip(at + 1).all(|other| other.id != fix.id), "{}", fix.id);
            let price = (fix.price)(&Subject::default());
            assert!(!price.is_empty() && !price.ends_with('.'), "{}: {price:?}", fix.id);
            assert!(Fix::of(fix.id).is_some_and(|found| found.id == fix.id));
        }
        assert!(Fix::of("none").is_none());
    }
}
