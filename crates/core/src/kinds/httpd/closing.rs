//! Sections that nothing closes, or another one's end does.
use super::DIRECTIVES;
use super::lines::LogicalLine;
use super::state::Reader;
use crate::code::Code;
use crate::config::Span;

impl Reader<'_, '_> {
    /// Where a section that nothing closes was likely meant to end: before the next one of its kind, which
    /// could not stand in it, or with the file.
    pub(super) fn closing(&self, name: &str, since: u32) -> Option<(Span, String)> {
        let text = &self.source.text;
        let behind = usize::try_from(since).ok()?;
        let begin = text.match_indices('\n').nth(behind.checked_sub(1)?).map_or(text.len(), |(at, _)| at + 1);
        let mut at = begin;
        let opens = |line: &str| {
            let head = line.trim_start().strip_prefix('<').and_then(|rest| rest.get(..name.len()));
            head.is_some_and(|head| head.eq_ignore_ascii_case(name))
        };
        for line in text[begin..].split_inclusive('\n') {
            if opens(line) {
                break;
            }
            at += line.len();
        }
        let gap = if at > 0 && !text[..at].ends_with('\n') { "\n" } else { "" };
        let span = Span { file: self.source.name.as_ref().into(), start: at, end: at };
        Some((span, format!("{gap}</{name}>\n")))
    }

    /// The end of another section than the one that is open since a line.
    pub(super) fn other_end(&mut self, line: &LogicalLine, (open, since): (&str, u32), name: &str) {
        let message = format!("expected </{open}>, which is open since line {since}, but found </{name}>");
        let file = self.source.name.clone();
        let near = crate::config::nearest(name, std::iter::once(open)).is_some();
        let section = |name: &str| !DIRECTIVES.any_case(&format!("<{name}")).is_empty();
        let head = (near && section(name) && !section(open)).then(|| {
            let (wrong, right) = (format!("<{open}"), format!("<{name}"));
            crate::config::edit_at(self.snapshot, &file, since, &wrong, &right)
        });
        let found = self.stop(line, Code::ConfigSyntax, message);
        if let Some(edit) = head {
            found.help = Some(format!("did you mean <{name}> where it opens?"));
            found.edit = edit;
        } else if near {
            found.instead = Some((format!("</{name}"), format!("</{open}")));
        } else {
            found.edit = Some((Span { file, start: line.start, end: line.start }, format!("</{open}>\n")));
            found.help = Some(format!("did you mean to close <{open}> before this line?"));
        }
    }

    /// The end of a section that nothing began.
    pub(super) fn no_begin(&mut self, line: &LogicalLine, name: &str) {
        let span = Span { file: self.source.name.clone(), start: line.start, end: line.start };
        let why = format!("</{name}> closes a section that was never opened");
        let found = self.stop(line, Code::ConfigSyntax, why);
        found.edit = Some((span, "# ".into()));
        found.help = Some("did you mean to take this line out?".into());
    }
}
