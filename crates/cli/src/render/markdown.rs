//! A page as Markdown, for tickets.
use super::{Block, Page, clean, outcome, put};

/// Letters that mean something in Markdown, made plain.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in clean(text).chars() {
        if matches!(c, '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '|' | '#') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

/// Text between backquotes; a fence longer than any inside.
fn code(text: &str) -> String {
    let text = clean(text).replace('`', "'");
    format!("`{text}`")
}

fn fence(out: &mut String, kind: &str, text: &str) {
    let mut marks = "```".to_owned();
    while text.contains(&marks) {
        marks.push('`');
    }
    let lines: Vec<_> = text.lines().map(|l| clean(l).into_owned()).collect();
    put(out, format_args!("{marks}{kind}\n{}\n{marks}\n\n", lines.join("\n")));
}

pub(super) fn render(page: &Page) -> String {
    let mut out = format!("# {}\n\n", plain(&page.title));
    if let Some(origin) = &page.origin {
        put(&mut out, format_args!("{}\n\n", plain(origin)));
    }
    for block in &page.blocks {
        match block {
            Block::Answer { lead, text, .. } => {
                put(&mut out, format_args!("**{}{}**\n\n", plain(lead), plain(text)));
            }
            Block::Circumstances(text) => put(&mut out, format_args!("{}\n\n", plain(text))),
            Block::Heading(text) => put(&mut out, format_args!("## {}\n\n", plain(text))),
            Block::Text(text) => put(
                &mut out,
                format_args!("{}\n\n", text.split('\n').map(plain).collect::<Vec<_>>().join("  \n")),
            ),
            Block::Evidence(rows) => {
                for (claim, origin) in rows {
                    let origin =
                        if origin.is_empty() { String::new() } else { format!(" ({})", code(origin)) };
                    put(&mut out, format_args!("- {}{origin}\n", plain(claim)));
                }
                out.push('\n');
            }
            Block::Table(head, rows) => {
                put(
                    &mut out,
                    format_args!(
                        "| {} |\n|{}\n",
                        head.iter().map(|h| plain(h)).collect::<Vec<_>>().join(" | "),
                        " --- |".repeat(head.len())
                    ),
                );
                for (_, row) in rows {
                    put(
                        &mut out,
                        format_args!(
                            "| {} |\n",
                            row.iter().map(|c| plain(c)).collect::<Vec<_>>().join(" | ")
                        ),
                    );
                }
                out.push('\n');
            }
            Block::Commands(all) => {
                for (command, price) in all {
                    fence(&mut out, "sh", command);
                    if !price.is_empty() {
                        put(&mut out, format_args!("{}\n\n", plain(price)));
                    }
                }
            }
            Block::Source { place, lines, message, .. } => {
                put(&mut out, format_args!("{}: {}\n\n", code(place), plain(message)));
                fence(
                    &mut out,
                    "",
                    &lines.iter().map(|(n, t)| format!("{n}  {t}")).collect::<Vec<_>>().join("\n"),
                );
            }
            Block::Diff(diff) => fence(&mut out, "diff", diff),
            Block::Checks(all) => {
                for (tone, name, detail) in all {
                    let word = outcome(*tone);
                    put(&mut out, format_args!("- **{word}** – {}: {}\n", plain(name), plain(detail)));
                }
                out.push('\n');
            }
            Block::Figure { text, .. } => fence(&mut out, "", text),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_from_outside_stays_text() {
        let mut page = Page::new("x");
        page.push(Block::Evidence(vec![("a | b [c](d) <i>".into(), "f`g:1".into())]));
        page.push(Block::Diff("```\n+x".into()));
        let text = page.to_markdown();
        assert!(text.contains("- a \\| b \\[c\\](d) \\<i\\> (`f'g:1`)"), "{text}");
        assert!(text.contains("````diff\n```\n+x\n````"), "{text}");
    }
}
