use super::ground::Here;
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
/// Without an id: list what can be undone. With one it acts at once, to the byte; a file that somebody
/// changed since is left alone, and then nothing is touched.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel undo\n  jolly-sentinel undo 20310402-061011-120-front\n\n\
        Exit status: 0 undone or listed, 2 wrong call, 3 not every change could be seen, 4 refused."
)]
pub(crate) struct Arguments {
    /// Id of a change
    #[arg(value_name = "ID")]
    id: Option<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let mut writer = context.writer()?;
    let when = when(context, None)?;
    // A journal that cannot be looked at is never "no change on record".
    writer.check_journal().map_err(|e| CliError::refused(e.to_string()))?;
    let Some(id) = &arguments.id else {
        let (records, unreadable) = fix::list(&writer);
        let report = UndoReport::list(&records, &unreadable, context.hidden_changes());
        context.emit(&pages::fix::undo(&report, &when, &context.program()), &report)?;
        return Ok(if report.not_seen.is_empty() { Status::Well } else { Status::NotSeen });
    };
    if fix::load(&writer, id).is_none() {
        return Err(CliError::usage(format!(
            "change {id} does not exist in {}",
            context.state_dir()?.display()
        ))
        .hint(format!("{} undo lists what there is", context.program())));
    }
    writer.prepare().map_err(|e| CliError::refused(e.to_string()))?;
    let commands = Here::new(context);
    let undone = fix::undo(&mut writer, id, fix::Way::Undo, &commands)
        .map_err(|e| CliError::refused(e.to_string()))?;
    let complete = undone.failed.is_empty();
    let report = UndoReport::undone(id, undone);
    context.emit(&pages::fix::undo(&report, &when, &context.program()), &report)?;
    Ok(if complete { Status::Well } else { Status::Refused })
}
