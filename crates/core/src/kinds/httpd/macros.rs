//! Macros of httpd: text until they are used.
use super::lines::{LogicalLine, words};
use super::state::{Macro, Reader, Source};
use crate::bounds;
use crate::code::Code;
use std::borrow::Cow;

impl Reader<'_, '_> {
    pub(super) fn define_macro<'a>(
        &mut self,
        rest: &str,
        line: &LogicalLine,
        lines: &mut dyn Iterator<Item = LogicalLine<'a>>,
    ) {
        let all: Vec<String> = words(rest.trim_end_matches('>')).into_iter().map(Cow::into_owned).collect();
        let Some((name, parameters)) = all.split_first() else {
            self.stop(line, Code::ConfigSyntax, "<Macro> has no name");
            return;
        };
        let mut body = Vec::new();
        let mut closed = false;
        for inner in lines {
            if inner.text.to_ascii_lowercase().starts_with("</macro>") {
                closed = true;
                break;
            }
            body.push((inner.text.into_owned(), inner.number));
        }
        if !closed {
            self.stop(line, Code::ConfigSyntax, "<Macro> is not closed");
            return;
        }
        let entry = Macro { parameters: parameters.to_vec(), lines: body, source: self.source.clone() };
        self.macros.insert(name.to_ascii_lowercase(), entry);
    }

    pub(super) fn use_macro(&mut self, rest: &str, line: &LogicalLine) {
        let mut all = words(rest).into_iter();
        let name = all.next().unwrap_or_default();
        let Some(entry) = self.macros.get(&name.to_ascii_lowercase()).cloned() else { return };
        let values: Vec<String> = all.map(Cow::into_owned).collect();
        if values.len() != entry.parameters.len() {
            let message =
                format!("macro {name} has {} values, expected {}", values.len(), entry.parameters.len());
            self.stop(line, Code::ConfigBadValue, message);
            return;
        }
        if !self.cost.expansion(0) {
            return self.bounded();
        }
        let mut body = Vec::new();
        for (text, number) in &entry.lines {
            // Each value can hold others: what it would make is counted before it is made.
            let filled =
                entry.parameters.iter().zip(&values).try_fold(text.clone(), |text, (name, value)| {
                    bounds::replaced(&text, name, value, bounds::LINE)
                });
            let Some(filled) = filled else {
                let file = self.source.name.clone();
                self.cost.line(&file, usize::MAX);
                return self.bounded();
            };
            if !self.cost.made(filled.len()) {
                return self.bounded();
            }
            body.push(LogicalLine { text: filled.into(), number: *number, start: 0, column: 0 });
        }
        let outer = std::mem::replace(&mut self.source, Source::bare(entry.source.name.clone()));
        self.sections(&mut body.into_iter(), None);
        self.source = outer;
    }
}
