//! `attempts --follow`.
use crate::context::{Context, Origin};
use crate::error::CliError;
use crate::exit::Status;
use crate::options::Format;
use crate::render::{clean, under};
use jolly_core::report::{FollowEnd, FollowedLine, Follower};
use jolly_core::service::Service;
use std::io::Write;
use std::time::Duration;

/// How often is looked.
const PACE: Duration = Duration::from_millis(200);

/// Shows the start that is under way, or the next one, until it is ready, failed or stuck.
pub(crate) fn run(context: &Context, service: Service) -> Result<Status, CliError> {
    if context.origin != Origin::Live {
        return Err(CliError::usage("--follow watches a start as it happens; that needs the host itself"));
    }
    if !matches!(context.global.format, Format::Text | Format::Json) {
        return Err(CliError::usage("--follow writes text, or with --format json one object for each line"));
    }
    if context.global.output.is_some() {
        return Err(CliError::usage("--follow writes line by line to the standard output, not to a file"));
    }
    let name = service.name.clone();
    let mut follower = Follower::new(&context.snapshot(), service);
    if !follower.is_under_way() {
        context.say(&format!("waiting for a start of {name} (interrupt with Ctrl-C)"));
    }
    loop {
        let (lines, end) = follower.look(&context.snapshot());
        for line in &lines {
            let text = if context.global.format == Format::Json {
                one_line(line)?
            } else {
                spelled(line, context.width())
            };
            if !write(&text)? {
                return Ok(Status::Well);
            }
        }
        if let Some(end) = end {
            let (words, status) = match end {
                FollowEnd::Ready => (format!("{name} is ready."), Status::Well),
                FollowEnd::Failed(Some(code)) => {
                    (format!("{name} did not come up: {}.", code.facts().title), Status::Problem)
                }
                FollowEnd::Failed(None) => (format!("{name} did not come up."), Status::Problem),
                FollowEnd::Stuck(seconds) => {
                    (format!("{name} seems to be stuck: nothing was said for {seconds} s."), Status::Problem)
                }
            };
            if context.global.format == Format::Text {
                write(&format!("{words}\n"))?;
            }
            return Ok(status);
        }
        std::thread::sleep(PACE);
    }
}

/// Whether somebody still reads it.
fn write(text: &str) -> Result<bool, CliError> {
    let mut out = std::io::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Ok(()) => Ok(true),
        Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => Ok(false),
        Err(error) => Err(error.into()),
    }
}

fn one_line(line: &FollowedLine) -> Result<String, CliError> {
    serde_json::to_string(line).map(|t| t + "\n").map_err(|e| CliError::not_seen(e.to_string()))
}

/// The line, and below it what it means.
fn spelled(line: &FollowedLine, width: usize) -> String {
    let clock = line.time.as_deref().and_then(|t| t.get(11..23)).unwrap_or("            ");
    let source = line.file.rsplit('/').next().unwrap_or(&line.file);
    // Names are as long as they are; what was said begins at the next column that all of them can keep.
    let begin = format!("{clock}  {source:<12}  ");
    let column = begin.chars().count();
    let mut text = format!("{begin}{}\n", under(column, &clean(&line.text), width));
    if let Some(meaning) = &line.meaning {
        let code = line.code.map(|c| format!("{c}: ")).unwrap_or_default();
        let meant = under(column + 2, &format!("{code}{meaning}"), width);
        text += &format!("{:column$}= {meant}\n", "");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_go_on_under_their_column() {
        let line = FollowedLine {
            schema: String::new(),
            time: Some("2031-04-02T06:10:11.123+01:00".into()),
            file: "/var/log/front-error.log".into(),
            text: "the tide is in and the gauge has not moved for an hour".into(),
            code: None,
            meaning: Some("it is ready, says its log, and it has been so for a while".into()),
        };
        let shown = spelled(&line, 60);
        let lines: Vec<&str> = shown.lines().collect();
        assert!(lines.iter().all(|l| l.chars().count() <= 60), "{shown}");
        assert!(lines[0].starts_with("06:10:11.123  front-error.log  the tide"), "{shown}");
        assert!(lines[1].starts_with(&" ".repeat(31)) && !lines[1][31..].starts_with(' '), "{shown}");
        assert!(lines.iter().any(|l| l.starts_with(&format!("{}= it is ready", " ".repeat(31)))), "{shown}");
    }
}
