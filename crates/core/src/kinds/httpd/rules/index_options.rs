//! How lists of directories look.
use super::super::state::{Directive, Reader, Rule};
use super::common::bad_word;

pub(super) static RULE: Rule = Rule { names: &["IndexOptions"], check: |r, d, _| index_options(r, d) };

fn index_options(r: &mut Reader, d: &Directive) {
    const WORDS: &[&str] = &[
        "none",
        "addaltclass",
        "charset",
        "descriptionwidth",
        "fancyindexing",
        "foldersfirst",
        "htmltable",
        "iconsarelinks",
        "iconheight",
        "iconwidth",
        "ignorecase",
        "ignoreclient",
        "namewidth",
        "scanhtmltitles",
        "showforbidden",
        "suppresscolumnsorting",
        "suppressdescription",
        "suppresshtmlpreamble",
        "suppressicon",
        "suppresslastmodified",
        "suppressrules",
        "suppresssize",
        "trackmodified",
        "type",
        "useolddateformat",
        "versionsort",
        "xhtml",
    ];
    let wrong = d.values.iter().find(|v| {
        let bare =
            v.trim_start_matches(['+', '-']).split('=').next().unwrap_or_default().to_ascii_lowercase();
        !WORDS.contains(&bare.as_str())
    });
    if let Some(wrong) = wrong.cloned() {
        bad_word(r, d, &wrong, format!("\"{wrong}\" is not an option of IndexOptions"));
    }
}
