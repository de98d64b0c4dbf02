//! Expressions of `<If>` and its kin.
use super::super::state::report;
use super::super::state::{Directive, Reader, Rule};
use super::common::bad_word;
use crate::code::Code;

pub(super) static RULE: Rule = Rule { names: &["<If", "<ElseIf"], check: |r, d, _| expression(r, d) };
pub(super) static FOLLOWS: Rule = Rule {
    names: &["<Else", "<ElseIf"],
    check: |r, d, around| {
        if !matches!(around.previous, "<If" | "<ElseIf") {
            report(
                r,
                d,
                Code::ConfigMisplacedDirective,
                format!("{}> must follow an <If> of the same section", d.name),
            );
        }
    },
};

/// What is plainly no expression: an operator without its right side, brackets or quotes that do not close.
fn expression(r: &mut Reader, d: &Directive) {
    let text = d.values.join(" ");
    let text = text.trim();
    let operators = ["==", "!=", "<=", ">=", "=~", "!~", "&&", "||", "=", "<", ">"];
    let open = operators.iter().any(|o| text.ends_with(o) && !text.ends_with("'>")) || text.is_empty();
    let depth = text.chars().fold(0i32, |n, c| n + i32::from(c == '{') - i32::from(c == '}'));
    let quotes = text.matches('\'').count() % 2 == 1 && !text.contains("=~") && !text.contains("!~");
    if open || depth != 0 || quotes {
        bad_word(r, d, text, format!("\"{text}\" is not a complete expression"));
    }
}
