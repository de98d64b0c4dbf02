use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::render::{Block, Page, Tone};
use clap::Args;
use jolly_core::code::{Code, PAGES};
use serde_json::json;

/// What does this finding mean, how is it recognised, what puts it right?
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  jolly-sentinel explain port-taken\n  jolly-sentinel explain\n\n\
        Exit status: 0 explained, 2 no such code.")]
pub(crate) struct Arguments {
    /// A code such as port-taken; the list of all when none is given
    #[arg(value_name = "CODE")]
    code: Option<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let Some(name) = &arguments.code else {
        let mut page = Page::new("Codes");
        page.answer(Tone::Plain, format!("{} codes; one code, one meaning.", PAGES.len()));
        let row =
            |p: &&jolly_core::code::CodeFacts| (Tone::Plain, vec![p.name.to_owned(), p.title.to_owned()]);
        page.heading("It does not start or answer because");
        page.push(Block::Table(
            vec!["code".into(), "meaning".into()],
            PAGES.iter().filter(|p| p.is_cause).map(|p| row(&p)).collect(),
        ));
        page.heading("Notes");
        page.push(Block::Table(
            vec!["code".into(), "meaning".into()],
            PAGES.iter().filter(|p| !p.is_cause).map(|p| row(&p)).collect(),
        ));
        let all: Vec<_> =
            PAGES.iter().map(|p| json!({"code": p.name, "cause": p.is_cause, "title": p.title})).collect();
        context.emit_general(&page, &json!({"schema": "jolly-sentinel/explain/1", "codes": all}))?;
        return Ok(Status::Well);
    };
    let code = Code::parse(name).ok_or_else(|| {
        let error = CliError::usage(format!("code {name} does not exist"));
        match jolly_core::config::nearest(name, PAGES.iter().map(|p| p.name)) {
            Some(near) => error.hint(format!("did you mean {near}?")),
            None => error.hint(format!("{} explain lists them all", context.program())),
        }
    })?;
    let p = code.facts();
    let mut page = Page::new(p.name);
    page.answer(Tone::Plain, format!("{}: {}.", p.name, p.title));
    for (heading, text) in [
        ("What it means", p.meaning),
        ("How it is recognised", p.recognised),
        ("What puts it right", p.remedy),
    ] {
        page.heading(heading);
        page.text(text);
    }
    let report = json!({
        "schema": "jolly-sentinel/explain/1",
        "code": p.name,
        "cause": p.is_cause,
        "title": p.title,
        "meaning": p.meaning,
        "recognised": p.recognised,
        "remedy": p.remedy,
    });
    context.emit_general(&page, &report)?;
    Ok(Status::Well)
}
