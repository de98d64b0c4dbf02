//! What the runtime writes of a script that failed, by itself or as a front quotes it.
use crate::kinds::ScriptError;

pub(super) fn error(line: &str) -> Option<ScriptError> {
    const SIGNS: &[&str] = &["PHP Fatal error: ", "PHP Parse error: ", "PHP message: PHP Fatal error: "];
    let at = SIGNS.iter().find_map(|sign| line.find(sign).map(|at| at + sign.len()))?;
    let words = line.get(at..)?.trim();
    let (what, place) = match words.rsplit_once(" in /") {
        Some((what, place)) => {
            let (file, rest) = place.split_once(" on line ").or_else(|| place.split_once(':'))?;
            let number: String = rest.chars().take_while(char::is_ascii_digit).collect();
            (what, number.parse().ok().map(|n| (format!("/{file}"), n)))
        }
        None => (words, None),
    };
    Some((crate::bounds::clip(what.trim()), place))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_error_is_told_with_its_place() {
        let line = "2031/04/02 06:10:11 [error] 7#7: *1 FastCGI sent in stderr: \"PHP message: \
            PHP Fatal error:  Uncaught Error: Call to undefined function tide() in \
            /srv/tickets/index.php:12\" while reading";
        assert_eq!(
            error(line),
            Some((
                "Uncaught Error: Call to undefined function tide()".to_owned(),
                Some(("/srv/tickets/index.php".to_owned(), 12))
            ))
        );
        let line = "[02-Apr-2031 06:10:11 UTC] PHP Parse error:  syntax error, unexpected token \"}\" in \
            /srv/tickets/a.php on line 3";
        assert_eq!(error(line).unwrap().1, Some(("/srv/tickets/a.php".to_owned(), 3)));
        assert_eq!(error("PHP Warning:  x in /srv/a.php on line 1"), None);
    }
}
