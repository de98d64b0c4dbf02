//! Nothing but a start.
use super::{Fix, Needs};
use crate::fix::Step;
use crate::fix::plan::{Plan, Risk};
use crate::fix::steps::{Job, ResetFailed};

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

pub(super) static BEHIND: Fix = Fix {
    price: |subject| match &subject.unit {
        Some(unit) => format!("starts {unit}, to which it passes on"),
        None => "starts the service to which it passes on".into(),
    },
    ..Fix::plain("start-behind", |ask, plan| {
        let unit = ask.cause.subject.unit.clone().ok_or("the service behind has no unit")?;
        let state = ask.snapshot.unit(&unit).seen().ok_or("how it stands could not be seen")?;
        if state.load_state == "masked" {
            return Err(format!("{unit} is masked"));
        }
        let mut steps = Vec::new();
        if state.active_state == "failed" {
            steps.push(Step::ResetFailed(ResetFailed { unit: unit.clone() }));
        }
        let title = format!("start {unit}, to which {} passes on", ask.case.service.name);
        steps.push(Step::Job(Job { verb: "start".into(), unit }));
        Ok(Plan { title, steps, ..plan })
    })
};
