//! One file for each command: its arguments, whose comment is the help text, and what it does.
pub(crate) mod attempts;
pub(crate) mod capture;
pub(crate) mod demo;
pub(crate) mod diagnose;
pub(crate) mod explain;
pub(crate) mod fix;
mod follow;
mod ground;
pub(crate) mod lint;
pub(crate) mod ports;
pub(crate) mod settings;
pub(crate) mod shell;
pub(crate) mod survey;
pub(crate) mod undo;
pub(crate) mod verify;

use crate::context::Context;
use crate::error::CliError;
use crate::pages::when::When;

/// How times are printed in this call.
fn when(context: &Context, now: Option<&str>) -> Result<When, CliError> {
    let own = jolly_core::log::format_time;
    let snapshot = context.snapshot();
    let zone = jolly_core::log::host_zone(&snapshot);
    let now = now.map(str::to_owned).or_else(|| snapshot.now().map(|n| own(n, &zone)));
    let when = When::new(context.global.time_zone.as_deref(), now.as_deref()).map_err(CliError::usage)?;
    Ok(when.lasting(context.is_kept()))
}

/// An address that somebody typed.
fn address(typed: &str) -> Result<jolly_core::route::Url, crate::error::CliError> {
    jolly_core::route::Url::parse(typed)
        .map_err(|why| crate::error::CliError::usage(format!("this address cannot be asked: {why}")))
}
