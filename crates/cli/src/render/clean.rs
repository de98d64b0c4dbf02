//! Text from outside, made harmless for a terminal, a page and a ticket.
use std::borrow::Cow;

/// Whether a character can be shown as it is. Controls move the cursor, marks of direction turn text round,
/// and what is invisible hides in names and commands: zero-width and joining marks, the soft hyphen, fillers,
/// variation selectors, interlinear annotation, tags, and what has no meaning at all (Unicode categories Cc,
/// Cf, Zl, Zp, Co, Cn and the default ignorable code points).
pub(crate) fn is_visible(c: char) -> bool {
    !c.is_control()
        && !matches!(c,
            '\u{ad}' | '\u{34f}' | '\u{600}'..='\u{605}' | '\u{61c}' | '\u{6dd}' | '\u{70f}' | '\u{890}'
            | '\u{891}' | '\u{8e2}' | '\u{115f}' | '\u{1160}' | '\u{17b4}' | '\u{17b5}'
            | '\u{180b}'..='\u{180f}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{2800}' | '\u{3164}' | '\u{e000}'..='\u{f8ff}'
            | '\u{fe00}'..='\u{fe0f}' | '\u{feff}' | '\u{ffa0}' | '\u{fff0}'..='\u{fffb}' | '\u{fffe}'
            | '\u{ffff}' | '\u{110bd}' | '\u{110cd}' | '\u{13430}'..='\u{1343f}' | '\u{1bca0}'..='\u{1bca3}'
            | '\u{1d173}'..='\u{1d17a}' | '\u{e0000}'..='\u{e0fff}' | '\u{f0000}'..='\u{10ffff}')
}

/// The text with everything that is no visible character as an escape that a person can read.
pub(crate) fn clean(text: &str) -> Cow<'_, str> {
    if text.chars().all(is_visible) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            '\t' => out.push(' '),
            c if is_visible(c) => out.push(c),
            c if c.is_ascii() => out.push_str(&format!("\\x{:02x}", u32::from(c))),
            c => out.push_str(&format!("\\u{{{:x}}}", u32::from(c))),
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_and_invisible_marks_never_reach_a_terminal() {
        assert_eq!(clean("tide\u{1b}[2J is\u{7} up\u{202e}\tnow"), "tide\\x1b[2J is\\x07 up\\u{202e} now");
        for hidden in [
            '\u{ad}',
            '\u{e0041}',
            '\u{fff9}',
            '\u{2066}',
            '\u{200d}',
            '\u{fe0f}',
            '\u{2028}',
            '\u{9b}',
            '\u{115f}',
            '\u{e001}',
        ] {
            let shown = clean(&format!("a{hidden}b")).into_owned();
            assert!(
                !shown.contains(hidden) && shown.contains(&format!("{:x}", u32::from(hidden))),
                "{shown}"
            );
        }
        assert!(matches!(clean("plain: äöü – 潮汐"), Cow::Borrowed(_)));
    }
}
