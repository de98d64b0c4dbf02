//! Nothing but a start.
use super::{Fix, Needs};
use crate::fix::Step;
use crate::fix::plan::{Plan, Risk};

pub(super) static START: Fix = Fix {
    id: "start",
    price: |_| "starts it once more".into(),
    parameters: &[],
    needs: Needs::Reload,
    moves: false,
    plan: |ask, plan| Ok(Plan { title: format!("start {} once more", ask.case.service.name), ..plan }),
};

pub(super) static RESTART: Fix = Fix {
    id: "restart",
    price: |_| "restarts it under the right account".into(),
    parameters: &[],
    needs: Needs::Restart,
    moves: false,
    plan: |ask, plan| Ok(Plan { title: format!("restart {} under the right account", ask.case.service.name), risk: Risk::Medium, ..plan }),
};

pub(super) static RESET: Fix = Fix {
    id: "reset-and-start",
    price: |_| "clears the record of failures and starts it once more".into(),
    parameters: &[],
    needs: Needs::Reload,
    moves: false,
    plan: |ask, plan| {
        let unit = ask.case.service.unit_name().ok_or("it has no unit")?.to_owned();
        Ok(Plan { title: format!("clear the record of failures of {unit} and start it once more"), steps: vec![Step::ResetFailed { unit }], ..plan })
    },
};
