use super::when;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jolly_core::fix;
use jolly_core::report::UndoReport;

/// Put back exactly what an applied fix changed.
///
/// Without an id: list what can be undone. With one it acts at once, to the byte; a file that somebody changed since is
/// left alone, and then nothing is touched.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel undo\n  jolly-sentinel undo 20310402-061011-120-front\n\nExit status: 0 undone or listed, 2 wrong call, 4 refused."
)]
pub(crate) struct Arguments {
    /// Id of a change
    #[arg(value_name = "ID")]
    id: Option<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let mut writer = context.writer()?;
    let when = when(context, None)?;
    let Some(id) = &arguments.id else {
        let report = UndoReport::list(&fix::list(&writer));
        context.emit(&pages::fix::undo(&report, &when, &context.program()), &report)?;
        return Ok(Status::Well);
    };
    if fix::load(&writer, id).is_none() {
        return Err(CliError::usage(format!("there is no change {id} in {}", context.state_dir().display())).hint("jolly-sentinel undo lists what there is"));
    }
    writer.prepare().map_err(|e| CliError::refused(e.to_string()))?;
    let undone = fix::undo(&mut writer, id, "undone").map_err(|e| CliError::refused(e.to_string()))?;
    let report = UndoReport::undone(id, undone);
    context.emit(&pages::fix::undo(&report, &when, &context.program()), &report)?;
    Ok(Status::Well)
}
