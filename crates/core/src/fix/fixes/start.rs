//! Nothing but a start.
use super::{Fix, Needs};
use crate::fix::Step;
use crate::fix::plan::{Plan, Risk};
use crate::fix::steps::ResetFailed;

pub(super) static START: Fix = Fix {
    price: |_| "starts it once more".into(),
    ..Fix::plain("start", |ask, plan| {
        Ok(Plan { title: format!("start {} once more", ask.case.service.name), ..plan })
    })
};

pub(super) static RESTART: Fix = Fix {
    price: |_| "restarts it under the right account".into(),
    needs: Needs::Restart,
    ..Fix::plain("restart", |ask, plan| {
        Ok(Plan {
            title: format!("restart {} under the right account", ask.case.service.name),
            risk: Risk::Medium,
            ..plan
        })
    })
};

pub(super) static RESET: Fix = Fix {
    price: |_| "clears the record of failures and starts it once more".into(),
    ..Fix::plain("reset-and-start", |ask, plan| {
        let unit = ask.case.service.unit_name().ok_or("it has no unit")?.to_owned();
        let title = format!("clear the record of failures of {unit} and start it once more");
        Ok(Plan { title, steps: vec![Step::ResetFailed(ResetFailed { unit })], ..plan })
    })
};
