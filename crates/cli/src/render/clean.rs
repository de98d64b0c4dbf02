//! Text from outside, made harmless for a terminal.
use std::borrow::Cow;

/// Without control characters, bidirectional overrides and invisible marks; each becomes a visible stand-in.
pub(crate) fn clean(text: &str) -> Cow<'_, str> {
    let harmless = |c: char| {
        !c.is_control()
            && !matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{61c}' | '\u{2028}' | '\u{2029}')
    };
    if text.chars().all(harmless) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(
        text.chars()
            .map(|c| {
                if c == '\t' {
                    ' '
                } else if harmless(c) {
                    c
                } else {
                    '·'
                }
            })
            .collect(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_never_reach_a_terminal() {
        assert_eq!(clean("tide\u{1b}[2J is\u{7} up\u{202e}\tnow"), "tide·[2J is· up· now");
        assert!(matches!(clean("plain: äöü –"), Cow::Borrowed(_)));
    }
}
