//! What is tried in turn, and the code at its end (`ngx_http_try_files`: a number up to 999 behind the sign).
use super::super::state::{Directive, Reader, Rule};
use crate::code::Code;

pub(super) static RULE: Rule = Rule { names: &["try_files"], check: |r, d, _| code(r, d) };

fn code(r: &mut Reader, d: &Directive) {
    let last = d.words.len().saturating_sub(1);
    let Some(code) = d.words.get(last).and_then(|w| w.value.strip_prefix('=')).map(str::to_owned) else {
        return;
    };
    let digits = !code.is_empty() && code.bytes().all(|b| b.is_ascii_digit());
    let holds = |code: &str| digits && code.parse::<u64>().is_ok_and(|number| number < 1000);
    if last < 2 || holds(&code) {
        return;
    }
    let digits: String = code.chars().filter(char::is_ascii_digit).collect();
    let found = r.find_word(
        d,
        last - 1,
        Code::ConfigBadValue,
        format!("\"{code}\" is not a code of an answer, expected up to three digits"),
    );
    if digits.len() == 3 {
        found.instead = Some((format!("={code}"), format!("={digits}")));
    }
}
