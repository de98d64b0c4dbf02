//! A page for a terminal or a pipe: aligned, calm, readable in 80 columns and without colour.
use super::{Block, Page, Tone, accented, clean, outcome, put, told};
use anstyle::{AnsiColor, Color, Effects, Style};

/// Narrowest and widest lines.
const WIDTHS: (usize, usize) = (40, 110);

struct Writer {
    out: String,
    width: usize,
    colour: bool,
}

fn style(tone: Tone) -> Style {
    match tone {
        Tone::Problem => Style::new().fg_color(Some(Color::Ansi(AnsiColor::Magenta))).effects(Effects::BOLD),
        Tone::Well => Style::new().fg_color(Some(Color::Ansi(AnsiColor::Cyan))).effects(Effects::BOLD),
        Tone::Plain => Style::new().effects(Effects::BOLD),
    }
}

const DIM: Style = Style::new().effects(Effects::DIMMED);
const STRONG: Style = Style::new().effects(Effects::BOLD);

pub(super) fn render(page: &Page, width: usize, colour: bool) -> String {
    let mut w = Writer { out: String::new(), width: width.clamp(WIDTHS.0, WIDTHS.1), colour };
    for (at, block) in page.blocks.iter().enumerate() {
        let follows = at > 0
            && !matches!(block, Block::Circumstances(_))
            && !matches!(
                (page.blocks.get(at - 1), block),
                (Some(Block::Heading(_)), _) | (Some(Block::Text(_)), Block::Text(_))
            );
        if follows {
            w.out.push('\n');
        }
        w.block(block);
    }
    w.out
}

/// Columns that a text takes. Wide letters are rare in what daemons write; they count as one.
fn columns(text: &str) -> usize {
    text.chars().count()
}

/// A line of text under its column: it breaks at blanks and goes on below where it began.
pub(crate) fn under(column: usize, text: &str, width: usize) -> String {
    let lines = wrap(text, width.saturating_sub(column).max(LEAST));
    lines.join(&format!("\n{}", " ".repeat(column)))
}

/// Breaks at blanks; a word longer than the line stays whole.
fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let Some(last) = lines.last_mut() else { break };
        if last.is_empty() {
            last.push_str(word);
        } else if columns(last) + 1 + columns(word) <= width {
            last.push(' ');
            last.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// The least room for the last column of a table.
const LEAST: usize = 20;

impl Writer {
    fn styled(&mut self, style: Style, text: &str) {
        if self.colour {
            put(&mut self.out, format_args!("{style}{text}{style:#}"));
        } else {
            self.out.push_str(text);
        }
    }

    fn line(&mut self, style: Option<Style>, indent: usize, text: &str) {
        self.out.push_str(&" ".repeat(indent));
        match style {
            Some(style) => self.styled(style, text),
            None => self.out.push_str(text),
        }
        self.out.push('\n');
    }

    fn wrapped(&mut self, style: Option<Style>, indent: usize, text: &str) {
        for line in wrap(&clean(text), self.width.saturating_sub(indent)) {
            self.line(style, indent, &line);
        }
    }

    /// The state in the accent, why in strong letters.
    fn answer(&mut self, tone: Tone, text: &str, state: &std::ops::Range<usize>) {
        let mut begin = 0;
        for line in wrap(text, self.width) {
            // Blanks at a break may be fewer than there were: never in the midst of a letter.
            let within = |at: usize| line.floor_char_boundary(at.saturating_sub(begin));
            let (from, to) = (within(state.start), within(state.end));
            for (part, style) in
                [(&line[..from], STRONG), (&line[from..to], style(tone)), (&line[to..], STRONG)]
            {
                if !part.is_empty() {
                    self.styled(style, part);
                }
            }
            self.out.push('\n');
            // The blank at which the line was broken counts.
            begin += line.len() + 1;
        }
    }

    fn block(&mut self, block: &Block) {
        match block {
            Block::Answer { tone, lead, text } => {
                let (text, state) = told(lead, text);
                self.answer(*tone, &text, &state);
            }
            Block::Circumstances(text) => self.wrapped(Some(DIM), 2, text),
            Block::Heading(text) => self.wrapped(Some(STRONG), 0, text),
            Block::Text(text) => text.split('\n').for_each(|t| self.wrapped(None, 2, t)),
            Block::Evidence(rows) => rows.iter().for_each(|(claim, origin)| self.evidence(claim, origin)),
            Block::Table(head, rows) => self.table(head, rows),
            Block::Commands(all) => {
                for (command, price) in all {
                    self.line(Some(STRONG), 2, &clean(command));
                    if !price.is_empty() {
                        self.wrapped(Some(DIM), 6, price);
                    }
                }
            }
            Block::Source { place, lines, mark, message } => self.source(place, lines, *mark, message),
            Block::Diff(diff) => self.diff(diff),
            Block::Checks(all) => self.checks(all),
            Block::Figure { text, .. } => text.lines().for_each(|l| self.line(None, 2, &clean(l))),
        }
    }

    /// The claim, and its origin right-aligned; on a line of its own where both do not fit.
    fn evidence(&mut self, claim: &str, origin: &str) {
        let (claim, origin) = (clean(claim).into_owned(), clean(origin).into_owned());
        let room = self.width.saturating_sub(2);
        if origin.is_empty() {
            return self.wrapped(None, 2, &claim);
        }
        let used = columns(&origin) + 2;
        let lines = wrap(&claim, room);
        let fits = lines.last().is_some_and(|l| columns(l) + used <= room);
        for (at, line) in lines.iter().enumerate() {
            let last = at + 1 == lines.len();
            self.out.push_str("  ");
            self.out.push_str(line);
            if last && fits {
                self.out.push_str(&" ".repeat(room - columns(line) - columns(&origin)));
                self.styled(DIM, &origin);
            }
            self.out.push('\n');
        }
        if !fits {
            let indent = 2 + room.saturating_sub(columns(&origin));
            self.line(Some(DIM), indent, &origin);
        }
    }

    fn table(&mut self, head: &[String], rows: &[(Tone, Vec<String>)]) {
        let count = head.len();
        let mut widths: Vec<usize> = head.iter().map(|h| columns(h)).collect();
        for (_, row) in rows {
            for (at, cell) in row.iter().enumerate().take(count) {
                if let Some(width) = widths.get_mut(at) {
                    *width = (*width).max(columns(cell));
                }
            }
        }
        // The last column takes what is left and wraps below itself.
        let fixed: usize = widths.iter().take(count.saturating_sub(1)).map(|w| w + 2).sum();
        let last = widths.last().copied().unwrap_or(0);
        if count > 1 && 2 + fixed + last.min(LEAST) > self.width {
            return self.stacked(head, rows);
        }
        let rest = self.width.saturating_sub(2 + fixed).max(LEAST);
        let accent = accented(head);
        let print = |w: &mut Self, cells: &[String], all: Option<Style>, one: Option<Style>| {
            let style = |at: usize| if at == accent { one.or(all) } else { all };
            let last = cells.get(count.saturating_sub(1)).map(|c| clean(c).into_owned()).unwrap_or_default();
            for (nth, part) in wrap(&last, rest).iter().enumerate() {
                // Blanks are written where something follows.
                let mut gap = 2;
                for (at, width) in widths.iter().enumerate().take(count.saturating_sub(1)) {
                    let cell = cells.get(at).filter(|_| nth == 0).map(|c| clean(c)).unwrap_or_default();
                    w.cell(&mut gap, &cell, style(at));
                    gap += (width + 2).saturating_sub(columns(&cell));
                }
                w.cell(&mut gap, part, style(count.saturating_sub(1)));
                w.out.push('\n');
            }
        };
        print(self, head, Some(DIM), None);
        for (tone, row) in rows {
            print(self, row, None, (*tone == Tone::Problem).then(|| style(*tone)));
        }
    }

    /// One cell of a table, behind so many blanks; nothing where it is empty.
    fn cell(&mut self, gap: &mut usize, text: &str, style: Option<Style>) {
        if text.is_empty() {
            return;
        }
        self.out.push_str(&" ".repeat(std::mem::take(gap)));
        match style {
            Some(style) => self.styled(style, text),
            None => self.out.push_str(text),
        }
    }

    /// A table that is wider than the terminal: each row by itself, a line for each cell that says something.
    fn stacked(&mut self, head: &[String], rows: &[(Tone, Vec<String>)]) {
        let name = head.iter().skip(1).map(|h| columns(h)).max().unwrap_or(0);
        let room = self.width.saturating_sub(name + 6).max(8);
        for (tone, row) in rows {
            let accent = (*tone == Tone::Problem).then(|| (accented(head), style(*tone)));
            let style = accent.filter(|(at, _)| *at == 0).map_or(STRONG, |(_, style)| style);
            for part in wrap(&clean(row.first().map_or("", String::as_str)), self.width.saturating_sub(2)) {
                self.line(Some(style), 2, &part);
            }
            let told = head.iter().zip(row).enumerate().skip(1);
            for (nth, (title, cell)) in told.filter(|(_, (_, c))| !c.is_empty() && c.as_str() != "–") {
                for (at, part) in wrap(&clean(cell), room).iter().enumerate() {
                    let title = if at == 0 { title.as_str() } else { "" };
                    let gap = " ".repeat((name + 2).saturating_sub(columns(title)));
                    self.out.push_str(&format!("    {title}{gap}"));
                    self.line(accent.filter(|(at, _)| *at == nth).map(|(_, style)| style), 0, part);
                }
            }
        }
    }

    fn source(&mut self, place: &str, lines: &[(u32, String)], mark: (usize, usize), message: &str) {
        // Where a place and its code do not fit side by side, the code goes below.
        let fits = columns(place) + 2 <= self.width;
        for part in if fits { vec![place] } else { place.split("  ").collect() } {
            self.line(Some(DIM), 2, &clean(part));
        }
        let digits = lines.iter().map(|(n, _)| n.to_string().len()).max().unwrap_or(1);
        let room = self.width.saturating_sub(digits + 7);
        for (at, (number, text)) in lines.iter().enumerate() {
            let last = at + 1 == lines.len();
            let before: usize =
                text.chars().take(mark.0.saturating_sub(1)).map(|c| if c == '\t' { 4 } else { 1 }).sum();
            // Of a long line the part around the mark is shown.
            let over = (before + mark.1.min(room / 2) + 8).saturating_sub(room).min(before);
            let left = if last && mark.0 > 0 && over > 8 { over } else { 0 };
            let whole = clean(&text.replace('\t', "    ")).into_owned();
            let part = whole.chars().skip(left);
            let shown: String = if left > 0 {
                "...".chars().chain(part.skip(3)).take(room).collect()
            } else {
                part.take(room).collect()
            };
            let gutter = format!("{number:>digits$}  ");
            self.out.push_str("    ");
            self.styled(DIM, &gutter);
            self.out.push_str(&shown);
            self.out.push('\n');
            if last {
                let blank = text
                    .chars()
                    .take_while(|c| c.is_whitespace())
                    .map(|c| if c == '\t' { 4 } else { 1 })
                    .sum::<usize>();
                let (from, width) = if mark.0 > 0 {
                    (before, mark.1.max(1))
                } else {
                    (blank, columns(&shown).saturating_sub(blank).max(1))
                };
                let from = from.saturating_sub(left).min(room);
                self.out.push_str(&" ".repeat(4 + digits + 2 + from));
                self.styled(style(Tone::Problem), &"~".repeat(width.min(room.saturating_sub(from)).max(1)));
                self.out.push('\n');
            }
        }
        self.wrapped(None, 6 + digits, message);
    }

    fn diff(&mut self, diff: &str) {
        for line in diff.lines() {
            let shown = clean(line);
            let style = match line.as_bytes().first() {
                Some(b'+') => Some(style(Tone::Well)),
                Some(b'-') => Some(style(Tone::Problem)),
                Some(b'@') => Some(DIM),
                _ => None,
            };
            self.line(style, 2, &shown);
        }
    }

    fn checks(&mut self, all: &[(Tone, String, String)]) {
        let width = all.iter().map(|(_, n, _)| columns(n)).max().unwrap_or(0);
        let words = all.iter().map(|(tone, ..)| columns(outcome(*tone))).max().unwrap_or(0);
        for (tone, name, detail) in all {
            self.out.push_str("  ");
            self.styled(style(*tone), &format!("{:words$}", outcome(*tone)));
            let used = words + width + 6;
            // On a narrow screen what was seen stands below what was asked.
            if self.width < used + 24 {
                put(&mut self.out, format_args!("  {name}\n"));
                self.wrapped(None, words + 4, &clean(detail));
                continue;
            }
            self.out.push_str("  ");
            let lines = wrap(&clean(detail), self.width.saturating_sub(used));
            for (at, line) in lines.iter().enumerate() {
                if at == 0 {
                    put(&mut self.out, format_args!("{name:width$}  {line}\n"));
                } else {
                    put(&mut self.out, format_args!("{}{line}\n", " ".repeat(used)));
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_state_has_the_accent_wherever_lines_break() {
        let plain = |text: &str, colour| {
            let mut page = Page::new("t");
            page.answer(Tone::Problem, text);
            page.to_text(40, colour)
        };
        for text in [
            "front is down and would not start, nor could it: port 80 is held",
            "  ünd   dänn  ist ëine Flut über das Länd gekommen, dïe: so",
            "äöü",
            "",
        ] {
            let shown = plain(text, true);
            let bare: String = without_escapes(&shown);
            assert_eq!(bare, plain(text, false), "{text}");
        }
        let shown = plain("front is down: port 80 is held", true);
        assert!(shown.contains("front is down\u{1b}[0m") && shown.contains(": port 80 is held"), "{shown:?}");
        let mut page = Page::new("t");
        page.answer_of(Tone::Well, "The last start of front, 06:10:11: ", "ready: so");
        let shown = page.to_text(60, true);
        assert!(shown.contains("06:10:11: \u{1b}[0m") && shown.contains("ready: so\u{1b}[0m"), "{shown:?}");
    }

    /// Without escape sequences.
    fn without_escapes(text: &str) -> String {
        let mut out = String::new();
        let mut inside = false;
        for c in text.chars() {
            match c {
                '\u{1b}' => inside = true,
                'm' if inside => inside = false,
                c if !inside => out.push(c),
                _ => {}
            }
        }
        out
    }

    #[test]
    fn origins_align_and_long_ones_get_their_own_line() {
        let mut page = Page::new("t");
        page.push(Block::Evidence(vec![
            ("port 80 is held".into(), "pid 812".into()),
            ("x".repeat(50), "/etc/apache2/ports.conf:5".into()),
        ]));
        let text = page.to_text(60, false);
        let lines: Vec<_> = text.lines().collect();
        assert_eq!(lines[0].len(), 60);
        assert!(lines[0].ends_with("pid 812"));
        assert!(lines[2].trim_start() == "/etc/apache2/ports.conf:5" && lines[2].len() == 60);
    }

    #[test]
    fn the_mark_stands_below_its_word_whatever_the_tabs() {
        let mut page = Page::new("t");
        page.push(Block::Source {
            place: "f:2".into(),
            lines: vec![(1, "a".into()), (2, "\tlisen 80;".into())],
            mark: (2, 5),
            message: "no".into(),
        });
        let text = page.to_text(60, false);
        let lines: Vec<_> = text.lines().collect();
        assert_eq!(lines[2].find("lisen"), lines[3].find("~~~~~"));
    }
}
