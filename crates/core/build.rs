//! Turns the data that people edit (TOML) into a form that is quicker to read at every start (JSON).
#![expect(clippy::disallowed_methods, reason = "a build has files and an environment, and no host to ask")]
use std::path::Path;
use std::{env, fs, io};

/// Names of the files that are turned.
const NAMES: [&str; 4] = ["failures.toml", "log.toml", "heads.toml", "general.toml"];

fn main() -> io::Result<()> {
    let out = env::var("OUT_DIR").map_err(io::Error::other)?;
    turn(Path::new("src"), Path::new(&out))
}

/// Every data file below a directory, at the same place below another one.
fn turn(from: &Path, to: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    println!("cargo::rerun-if-changed={}", from.display());
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let name = entry.file_name();
        let (source, target) = (entry.path(), to.join(&name));
        if entry.file_type()?.is_dir() {
            turn(&source, &target)?;
        } else if NAMES.iter().any(|n| name == *n) {
            let text = fs::read_to_string(&source)?;
            let data: toml::Table = toml::from_str(&text).map_err(|error| io::Error::other(format!("{}: {error}", source.display())))?;
            fs::write(target.with_extension("json"), serde_json::to_string(&data)?)?;
        }
    }
    Ok(())
}
