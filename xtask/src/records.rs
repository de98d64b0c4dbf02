//! Records of real daemons, altered: what they would say had the host's clock been set meanwhile.
use regex::Regex;
use std::fs;
use std::path::Path;
use std::time::Duration;

/// Stamps of the daemons, each with its form (strftime(3)).
const STAMPS: &[(&str, &str)] = &[
    (r"\d{4}/\d\d/\d\d \d\d:\d\d:\d\d", "%Y/%m/%d %H:%M:%S"),
    (r"\d{4}-\d\d-\d\d [ \d]\d:\d\d:\d\d", "%Y-%m-%d %k:%M:%S"),
    (r"[A-Z][a-z]{2} [A-Z][a-z]{2} \d\d \d\d:\d\d:\d\d\.\d{6} \d{4}", "%a %b %d %H:%M:%S.%6f %Y"),
    (r"\d\d [A-Z][a-z]{2} \d{4} \d\d:\d\d:\d\d", "%d %b %Y %H:%M:%S"),
    (r"\d\d-[A-Z][a-z]{2}-\d{4} \d\d:\d\d:\d\d", "%d-%b-%Y %H:%M:%S"),
];

/// Sets the clock of all records below a directory, at a moment, by so many seconds.
///
/// # Errors
/// The system's words.
pub(crate) fn set(dir: &Path, from: f64, by: f64) -> Result<(), String> {
    for entry in fs::read_dir(dir).map_err(|e| format!("{}: {e}", dir.display()))?.flatten() {
        let path = entry.path();
        let kind = entry.file_type().map_err(|e| e.to_string())?;
        if kind.is_dir() && entry.file_name() != "journal" {
            set(&path, from, by)?;
        } else if kind.is_file() {
            one(&path, from, by).map_err(|e| format!("{}: {e}", path.display()))?;
        }
    }
    Ok(())
}

fn one(path: &Path, from: f64, by: f64) -> std::io::Result<()> {
    let Ok(text) = String::from_utf8(fs::read(path)?) else { return Ok(()) };
    let written = fs::metadata(path)?.modified()?;
    let stamps: Vec<(Regex, &str)> = STAMPS
        .iter()
        .filter_map(|(p, form)| Some((Regex::new(&format!("^.{{0,40}}?({p})")).ok()?, *form)))
        .collect();
    let blank = path.components().any(|part| matches!(part.as_os_str().to_str(), Some("mysql" | "mariadb")));
    let (mut out, mut begun) = (String::new(), false);
    for line in text.split_inclusive('\n') {
        let altered = stamps.iter().find_map(|(stamp, form)| {
            let found = stamp.captures(line)?.get(1)?;
            let civil = jiff::civil::DateTime::strptime(form, found.as_str()).ok()?;
            let zoned = civil.to_zoned(jiff::tz::TimeZone::UTC).ok()?;
            #[expect(clippy::cast_precision_loss, reason = "microseconds of this century")]
            let at = zoned.timestamp().as_microsecond() as f64 / 1e6;
            // A stamp of whole seconds was cut; whoever drives waits for the next one.
            begun |= at >= from.floor();
            #[expect(clippy::cast_possible_truncation, reason = "whole seconds of a few hours")]
            let span = jiff::Span::new().seconds(by as i64);
            begun.then(|| {
                // Only one family of servers leaves the ten of an hour blank.
                let form = if blank { form.to_string() } else { form.replace("%k", "%H") };
                let moved = (zoned + span).strftime(&form).to_string();
                format!("{}{moved}{}", &line[..found.start()], &line[found.end()..])
            })
        });
        out.push_str(altered.as_deref().unwrap_or(line));
    }
    if begun {
        fs::write(path, out)?;
        let change = Duration::from_secs_f64(by.abs());
        let now = if by < 0.0 { written - change } else { written + change };
        fs::File::options().write(true).open(path)?.set_times(fs::FileTimes::new().set_modified(now))?;
    }
    Ok(())
}
