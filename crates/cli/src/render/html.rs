//! A page as HTML: one file, no script, no network, light and dark, narrow and wide, in print.
use super::{Block, Page, Tone, accented, clean, outcome, put, told};

const STYLE: &str = "\
:root{color-scheme:light dark;--ink:#1d2733;--paper:#fbfaf7;--dim:#5d6975;--line:#d5d3cb;--bad:#8e2a6b;\
--good:#0d6a73;--soft:#f0eee7}\
@media(prefers-color-scheme:dark){:root{--ink:#e3e6ea;--paper:#171b21;--dim:#98a4b0;--line:#343b45;\
--bad:#e29ac6;--good:#7fd0d8;--soft:#1f252d}}\
body{font:16px/1.5 system-ui,sans-serif;color:var(--ink);background:var(--paper);margin:0 auto;\
padding:2rem 1rem 4rem;max-width:62rem}\
h1{font-size:1.1rem;font-weight:600;color:var(--dim);margin:0}.origin{margin:.1rem 0 0}h2{font-size:1.05rem;\
margin:1.8rem 0 .5rem}\
.answer{font-size:1.35rem;font-weight:600;margin:1.4rem 0 .2rem}.problem{color:var(--bad)}\
.well{color:var(--good)}\
.dim{color:var(--dim)}code,pre{font-family:ui-monospace,monospace;font-size:.88em}\
pre{background:var(--soft);padding:.7rem .9rem;overflow-x:auto;border-radius:4px;margin:.5rem 0}\
.claim{display:flex;flex-wrap:wrap;justify-content:space-between;gap:.2rem 1.5rem;\
border-bottom:1px solid var(--line);padding:.3rem 0}\
.checks{list-style:none;margin:.8rem 0 1.4rem;padding:0}\
.checks li{display:grid;grid-template-columns:6.5rem minmax(7rem,14rem) 1fr;gap:.1rem 1rem;\
border-left:3px solid var(--line);padding:.2rem 0 .2rem .9rem;overflow-wrap:anywhere}\
.checks li:has(.problem){border-left-color:var(--bad)}.checks li:has(.well){border-left-color:var(--good)}\
.claim code{color:var(--dim);overflow-wrap:anywhere}.wide{overflow-x:auto}\
table{border-collapse:collapse;width:100%}th{text-align:left;color:var(--dim);font-weight:600}\
th,td{padding:.3rem .9rem .3rem 0;border-bottom:1px solid var(--line);vertical-align:top}\
ins{text-decoration:none;color:var(--good)}del{text-decoration:none;color:var(--bad)}mark{background:none;\
color:var(--bad);font-weight:700;text-decoration:underline}\
svg{max-width:100%;height:auto}\
@media(max-width:44rem){.checks li{grid-template-columns:6rem 1fr}.checks li span:last-child{grid-column:2}\
thead{display:none}table,tbody,tr,td{display:block}tr{padding:.4rem 0;\
border-bottom:1px solid var(--line)}td{border:0;padding:.1rem 0;overflow-wrap:anywhere}td:empty{display:none}\
td[data-of]::before{content:attr(data-of) \": \";color:var(--dim)}pre{white-space:pre-wrap;\
overflow-wrap:anywhere}}\
@media print{body{max-width:none;padding:0}pre{white-space:pre-wrap}}";

fn escape(text: &str) -> String {
    let mut out = String::new();
    for c in clean(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c => out.push(c),
        }
    }
    out
}

fn class(tone: Tone) -> &'static str {
    match tone {
        Tone::Plain => "plain",
        Tone::Problem => "problem",
        Tone::Well => "well",
    }
}

pub(super) fn render(page: &Page) -> String {
    let title = escape(&page.title);
    let mut out = format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
            <meta name=\"viewport\" content=\"width=device-width,initial-scale=1\">\n\
            <title>{title}</title>\n<style>{STYLE}</style>\n</head>\n<body>\n<h1>{title}</h1>\n"
    );
    if let Some(origin) = &page.origin {
        put(&mut out, format_args!("<p class=\"dim origin\">{}</p>\n", escape(origin)));
    }
    for block in &page.blocks {
        render_block(&mut out, block);
    }
    out.push_str("</body>\n</html>\n");
    out
}

/// A place in a file, with the lines before it and what is wrong underlined.
fn source(out: &mut String, place: &str, lines: &[(u32, String)], mark: (usize, usize), message: &str) {
    put(out, format_args!("<p><code class=\"dim\">{}</code> {}</p>\n<pre>", escape(place), escape(message)));
    for (at, (number, text)) in lines.iter().enumerate() {
        let shown = if at + 1 == lines.len() && mark.0 > 0 {
            let before: String = text.chars().take(mark.0 - 1).collect();
            let inside: String = text.chars().skip(mark.0 - 1).take(mark.1).collect();
            let after: String = text.chars().skip(mark.0 - 1 + mark.1).collect();
            format!("{}<mark>{}</mark>{}", escape(&before), escape(&inside), escape(&after))
        } else {
            escape(text)
        };
        put(out, format_args!("{number:>4}  {shown}\n"));
    }
    out.push_str("</pre>\n");
}

fn table(out: &mut String, head: &[String], rows: &[(Tone, Vec<String>)]) {
    put(
        out,
        format_args!(
            "<div class=\"wide\"><table><thead><tr>{}</tr></thead><tbody>\n",
            head.iter().map(|h| format!("<th>{}</th>", escape(h))).collect::<String>()
        ),
    );
    let accent = accented(head);
    for (tone, row) in rows {
        // On a narrow screen each cell stands on a line of its own, with what it is.
        let cell = |(at, text): (usize, &String)| {
            let of = head.get(at).filter(|h| at > 0 && !h.is_empty());
            let of = of.map(|h| format!(" data-of=\"{}\"", escape(h))).unwrap_or_default();
            let tone = if at == accent { format!(" class=\"{}\"", class(*tone)) } else { String::new() };
            format!("<td{of}{tone}>{}</td>", escape(text))
        };
        let cells: String = row.iter().enumerate().map(cell).collect();
        put(out, format_args!("<tr>{cells}</tr>\n"));
    }
    out.push_str("</tbody></table></div>\n");
}

fn render_block(out: &mut String, block: &Block) {
    match block {
        Block::Answer { tone, lead, text } => {
            let (text, state) = told(lead, text);
            put(
                out,
                format_args!(
                    "<p class=\"answer\">{}<span class=\"{}\">{}</span>{}</p>\n",
                    escape(&text[..state.start]),
                    class(*tone),
                    escape(&text[state.clone()]),
                    escape(&text[state.end..])
                ),
            );
        }
        Block::Circumstances(text) => put(out, format_args!("<p class=\"dim\">{}</p>\n", escape(text))),
        Block::Heading(text) => put(out, format_args!("<h2>{}</h2>\n", escape(text))),
        Block::Text(text) => put(
            out,
            format_args!("<p>{}</p>\n", text.split('\n').map(escape).collect::<Vec<_>>().join("<br>")),
        ),
        Block::Evidence(rows) => {
            for (claim, origin) in rows {
                let origin = if origin.is_empty() {
                    String::new()
                } else {
                    format!("<code>{}</code>", escape(origin))
                };
                put(out, format_args!("<div class=\"claim\"><span>{}</span>{origin}</div>\n", escape(claim)));
            }
        }
        Block::Table(head, rows) => table(out, head, rows),
        Block::Commands(all) => {
            for (command, price) in all {
                put(out, format_args!("<pre>{}</pre>\n", escape(command)));
                if !price.is_empty() {
                    put(out, format_args!("<p class=\"dim\">{}</p>\n", escape(price)));
                }
            }
        }
        Block::Source { place, lines, mark, message } => source(out, place, lines, *mark, message),
        Block::Diff(diff) => {
            out.push_str("<pre>");
            for line in diff.lines() {
                let text = escape(line);
                match line.as_bytes().first() {
                    Some(b'+') => put(out, format_args!("<ins>{text}</ins>\n")),
                    Some(b'-') => put(out, format_args!("<del>{text}</del>\n")),
                    _ => put(out, format_args!("{text}\n")),
                }
            }
            out.push_str("</pre>\n");
        }
        Block::Checks(all) => {
            out.push_str("<ol class=\"checks\">\n");
            for (tone, name, detail) in all {
                let word = outcome(*tone);
                put(
                    out,
                    format_args!(
                        "<li><strong class=\"{}\">{word}</strong> <span>{}</span> <span>{}</span></li>\n",
                        class(*tone),
                        escape(name),
                        escape(detail)
                    ),
                );
            }
            out.push_str("</ol>\n");
        }
        Block::Figure { svg, .. } => put(out, format_args!("<figure>{svg}</figure>\n")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_from_outside_becomes_markup() {
        let mut page = Page::new("<x>");
        page.answer(Tone::Problem, "a <script>&\"");
        let text = page.to_html();
        assert!(!text.contains("<script>") && text.contains("a &lt;script&gt;&amp;&quot;"), "{text}");
    }
}
