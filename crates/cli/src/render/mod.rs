//! Answers as pages of blocks, and the renderers that turn a page into text, Markdown or HTML.
pub(crate) mod ascii;
mod clean;
mod html;
mod markdown;
mod text;

pub(crate) use text::under;

pub(crate) use clean::{clean, is_visible};

use jolly_core::not_seen::NotSeen;
use std::fmt::Write as _;

/// What a line means; words and a sign say the same without colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum Tone {
    /// Neither.
    #[default]
    Plain,
    /// Something is wrong.
    Problem,
    /// All is well.
    Well,
}

/// What came of a check.
fn outcome(tone: Tone) -> &'static str {
    match tone {
        Tone::Well => "ok",
        Tone::Problem => "failed",
        Tone::Plain => "not checked",
    }
}

/// An answer as one sentence, and where in it the state is told, which alone has the accent: behind the lead,
/// or up to the colon.
fn told(lead: &str, text: &str) -> (String, std::ops::Range<usize>) {
    let (lead, text) = (clean(lead), clean(text));
    let whole = format!("{lead}{text}");
    let end = if lead.is_empty() { text.find(": ").unwrap_or(text.len()) } else { text.len() };
    let state = lead.len()..lead.len() + end;
    (whole, state)
}

/// The column of a table that tells the state: its cell has the accent, and not the whole row.
fn accented(head: &[String]) -> usize {
    let tells = |title: &String| matches!(title.as_str(), "state" | "outcome" | "holder");
    head.iter().position(tells).unwrap_or(0)
}

/// A piece of an answer.
#[derive(Clone, Debug)]
pub(crate) enum Block {
    /// The answer in one sentence; the lead says only of what it speaks.
    Answer { tone: Tone, lead: String, text: String },
    /// One line of circumstances.
    Circumstances(String),
    /// A heading.
    Heading(String),
    /// Sentences.
    Text(String),
    /// Claims with their origins in a column of their own.
    Evidence(Vec<(String, String)>),
    /// A table; the tone belongs to the row.
    Table(Vec<String>, Vec<(Tone, Vec<String>)>),
    /// Commands to type, each with its price.
    Commands(Vec<(String, String)>),
    /// A source line with the place marked below.
    Source {
        /// File and line.
        place: String,
        /// Number and text of the lines shown; the last one is the marked one.
        lines: Vec<(u32, String)>,
        /// First column and width of the mark; 0 for the whole line.
        mark: (usize, usize),
        /// The sentence beside the mark.
        message: String,
    },
    /// A unified diff.
    Diff(String),
    /// Outcome, name and detail of checks.
    Checks(Vec<(Tone, String, String)>),
    /// A figure for pages; text output has its own form of it.
    Figure {
        /// SVG.
        svg: String,
        /// The same for terminals.
        text: String,
    },
}

/// An answer.
#[derive(Clone, Debug, Default)]
pub(crate) struct Page {
    pub(crate) title: String,
    /// Of what it tells, and when it was made; for pages that are kept.
    pub(crate) origin: Option<String>,
    /// Something could not be seen for want of rights.
    pub(crate) rights_missing: bool,
    pub(crate) blocks: Vec<Block>,
}

impl Page {
    pub(crate) fn new(title: impl Into<String>) -> Self {
        Self { title: title.into(), ..Self::default() }
    }
    pub(crate) fn push(&mut self, block: Block) {
        self.blocks.push(block);
    }
    pub(crate) fn answer(&mut self, tone: Tone, text: impl Into<String>) {
        self.answer_of(tone, "", text);
    }
    /// An answer whose first words say only of what it speaks.
    pub(crate) fn answer_of(&mut self, tone: Tone, lead: impl Into<String>, text: impl Into<String>) {
        self.push(Block::Answer { tone, lead: lead.into(), text: text.into() });
    }
    pub(crate) fn heading(&mut self, text: impl Into<String>) {
        self.push(Block::Heading(text.into()));
    }
    pub(crate) fn text(&mut self, text: impl Into<String>) {
        self.push(Block::Text(text.into()));
    }
    /// What could not be seen, as a last block.
    pub(crate) fn not_seen(&mut self, list: &[NotSeen]) {
        self.rights_missing |= list.iter().any(NotSeen::is_denied);
        if list.is_empty() {
            return;
        }
        self.heading("Not seen");
        let most = 8;
        let mut rows: Vec<(String, String)> =
            list.iter().take(most).map(|l| (l.text().to_owned(), String::new())).collect();
        if list.len() > most {
            rows.push((
                format!("and {} more; --format json names them all", list.len() - most),
                String::new(),
            ));
        }
        self.push(Block::Evidence(rows));
    }

    pub(crate) fn to_text(&self, width: usize, colour: bool) -> String {
        text::render(self, width, colour)
    }
    pub(crate) fn to_markdown(&self) -> String {
        markdown::render(self)
    }
    pub(crate) fn to_html(&self) -> String {
        html::render(self)
    }
}

/// Appends formatted text; writing to a string cannot fail.
pub(crate) fn put(out: &mut String, arguments: std::fmt::Arguments<'_>) {
    if out.write_fmt(arguments).is_err() {
        out.push('?');
    }
}
