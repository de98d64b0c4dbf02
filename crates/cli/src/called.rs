//! The name of this program, and the one that it was called by.
use std::ffi::OsString;

/// The name of the program.
pub(crate) const NAME: &str = "jolly-sentinel";

/// The name that the program was called by, as far as it can be printed and typed again.
pub(crate) fn called() -> String {
    name_in(std::env::args_os().next())
}

fn name_in(first: Option<OsString>) -> String {
    let path = first.map(std::path::PathBuf::from);
    let name = path.as_deref().and_then(|p| p.file_name()).and_then(|n| n.to_str());
    let plain = |n: &&str| {
        !n.starts_with('-') && n.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'))
    };
    name.filter(plain).unwrap_or(NAME).to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_name_is_what_was_typed_where_it_can_be_typed_again() {
        for (first, name) in [
            ("jolly-sentinel", NAME),
            ("/opt/quay/bin/js", "js"),
            ("./js-2.0", "js-2.0"),
            ("/opt/a b", NAME),
            ("/opt/\u{1b}[31m", NAME),
            ("-x", NAME),
            ("/", NAME),
            ("", NAME),
        ] {
            assert_eq!(name_in(Some(first.into())), name, "{first:?}");
        }
        assert_eq!(name_in(None), NAME);
    }
}
