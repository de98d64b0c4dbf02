//! `cargo xtask corpus`: asks the real daemons, on a booted host, what they think of every configuration of
//! the corpus, and writes their verdicts, lines and words beside it. `lint` is then held to them by an
//! ordinary test.
use crate::host::Host;
use std::fmt::Write as _;
use std::fs;
use std::path::Path;

/// Where the corpus stands.
pub(crate) const FOLDER: &str = "crates/cli/tests/corpus";

/// Asks for the kinds' verdicts and rewrites the files.
pub(crate) fn run(program: &Path, only: &[&str]) -> Result<(), String> {
    let host = Host::boot("jolly-corpus", program)?;
    host.run("systemctl stop nginx apache2; mkdir -p /srv/www /corpus")?;
    let wanted = |kind: &&str| only.is_empty() || only.contains(kind);
    for kind in ["nginx", "httpd", "haproxy"].into_iter().filter(wanted) {
        let file = Path::new(FOLDER).join(format!("{kind}.tsv"));
        let template = fs::read_to_string(Path::new(FOLDER).join(format!("{kind}.template")))
            .map_err(|e| e.to_string())?;
        let text = fs::read_to_string(&file).map_err(|e| format!("{}: {e}", file.display()))?;
        let mut out = String::new();
        for line in text.lines() {
            let mut columns = line.split('\t');
            let (Some(place), Some(snippet), false) = (columns.next(), columns.next(), line.starts_with('#'))
            else {
                out.push_str(line);
                out.push('\n');
                continue;
            };
            let config = fill(&template, place, snippet);
            let (verdict, at, said) = ask(&host, kind, &config)?;
            let _ = writeln!(
                out,
                "{place}\t{snippet}\t{verdict}\t{}\t{said}",
                at.map_or("-".into(), |n| n.to_string())
            );
        }
        fs::write(&file, out).map_err(|e| e.to_string())?;
    }
    Ok(())
}

/// Puts a snippet into its place of the template; `\n` in a snippet is a line end.
pub(crate) fn fill(template: &str, place: &str, snippet: &str) -> String {
    let snippet = snippet.replace("\\n", "\n").replace("\\t", "\t").replace("\\r", "\r");
    let mut out = String::new();
    for line in template.lines() {
        match line.strip_prefix('@') {
            Some(name) if name == place => {
                out.push_str(&snippet);
                out.push('\n');
            }
            Some(_) => {}
            None => {
                out.push_str(line);
                out.push('\n');
            }
        }
    }
    if place == "end" {
        out.push_str(&snippet);
    }
    out
}

/// What a daemon said, as one column: lines joined by `\n`, without the time and the numbers that differ from
/// run to run.
fn one_column(text: &str) -> String {
    let lines = text
        .lines()
        .map(str::trim_end)
        .filter(|l| !l.is_empty() && !l.starts_with("Action '") && !l.starts_with("The Apache error log"));
    lines.map(|l| l.replace('\t', " ")).collect::<Vec<_>>().join("\\n")
}

/// The daemon's own check, then a real start where the check is content.
fn ask(host: &Host, kind: &str, config: &str) -> Result<(&'static str, Option<u32>, String), String> {
    let path = &format!("/corpus/{kind}.conf");
    fs::write(host.root().join(path.trim_start_matches('/')), config).map_err(|e| e.to_string())?;
    let (check, start, stop) = match kind {
        "nginx" => (
            format!("nginx -t -c {path}"),
            format!("nginx -c {path}"),
            format!("nginx -c {path} -s stop; sleep 0.05; pkill -9 nginx"),
        ),
        // Its check says all that it has to say of a file.
        "haproxy" => (format!("haproxy -c -f {path}"), String::new(), "true".to_owned()),
        _ => {
            let run = "mkdir -p /var/run/apache2 /var/lock/apache2;";
            (
                format!("{run} apache2 -t -f {path}"),
                format!("{run} apache2 -f {path} -k start"),
                "pkill -9 apache2; rm -f /var/run/apache2/corpus.pid".to_owned(),
            )
        }
    };
    let said = host.run(&format!("{check} 2>&1"))?;
    let mut text = String::from_utf8_lossy(&said.stdout).into_owned();
    let mut accepted = said.status.success();
    if accepted && !start.is_empty() {
        // A parent that ends with 0 is no proof: the daemon must still be there a moment later.
        let alive = if kind == "nginx" { "pgrep -x nginx" } else { "pgrep -x apache2" };
        let started = host.run(&format!(
            "timeout 10 {start} > /corpus/said 2>&1; r=$?; cat /corpus/said; \
            sleep 0.15; [ $r = 0 ] && {alive} >/dev/null"
        ))?;
        accepted = started.status.success();
        text = String::from_utf8_lossy(&started.stdout).into_owned();
    }
    host.run(&stop)?;
    if accepted {
        return Ok(("accepted", None, "-".into()));
    }
    // It reads on behind an error: the first one counts.
    let alerts: Vec<&str> = text.lines().filter(|l| l.starts_with("[ALERT]")).take(1).collect();
    if kind == "haproxy" {
        let line = alerts.first().and_then(|l| line_of(l, path));
        return Ok(("rejected", line, one_column(&alerts.concat())));
    }
    let line = text.lines().rev().find_map(|l| line_of(l, path));
    Ok(("rejected", line, one_column(&text)))
}

/// The line of the corpus file that a message names.
pub(crate) fn line_of(message: &str, path: &str) -> Option<u32> {
    if let Some((_, rest)) = message.split_once(&format!("{path}:")) {
        // Behind the file's name stands its line, or the sentence goes on.
        if let Ok(line) = rest.chars().take_while(char::is_ascii_digit).collect::<String>().parse() {
            return Some(line);
        }
    }
    let (before, _) = message.split_once(&format!(" of {path}"))?;
    before.rsplit(' ').next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEMPLATE: &str = "head\n@main\nhttp {\n@http\n}\n";

    #[test]
    fn a_snippet_goes_into_its_place_and_the_other_places_vanish() {
        assert_eq!(fill(TEMPLATE, "main", "user x;"), "head\nuser x;\nhttp {\n}\n");
        assert_eq!(fill(TEMPLATE, "http", "a\\nb\\tc"), "head\nhttp {\na\nb\tc\n}\n");
        assert_eq!(fill(TEMPLATE, "end", "tail"), "head\nhttp {\n}\ntail");
        assert_eq!(fill(TEMPLATE, "nowhere", "x"), "head\nhttp {\n}\n");
    }

    #[test]
    fn the_line_of_the_corpus_file_is_read_from_each_daemons_words() {
        let path = "/corpus/nginx.conf";
        for (message, expected) in [
            ("[emerg] unknown directive \"x\" in /corpus/nginx.conf:12", Some(12)),
            ("AH00526: Syntax error on line 7 of /corpus/nginx.conf:", Some(7)),
            ("apache2: Syntax error on line 3 of /corpus/nginx.conf: Expected", Some(3)),
            ("nginx: configuration file /corpus/nginx.conf test failed", None),
            ("[emerg] open() \"/srv/x\" failed", None),
        ] {
            assert_eq!(line_of(message, path), expected, "{message}");
        }
    }

    #[test]
    fn words_become_one_column_without_the_daemons_chatter() {
        let said = "AH00526: Syntax error on line 3:\nInvalid command\there\n\nAction '-t' failed.\n\
            The Apache error log may have more information.\n";
        assert_eq!(one_column(said), "AH00526: Syntax error on line 3:\\nInvalid command here");
    }
}
