//! What the number means that a process ended with.

/// Steps of the manager itself that end a start before the program runs (systemd.exec(5)).
const STEPS: &[(u32, &str)] = &[
    (200, "its working directory cannot be entered"),
    (203, "its program cannot be executed"),
    (204, "memory for its start ran out"),
    (205, "a resource limit of its unit cannot be set"),
    (206, "its environment file cannot be read or its out-of-memory score not set"),
    (208, "its standard input cannot be opened"),
    (209, "its standard output cannot be opened"),
    (210, "its root directory cannot be entered"),
    (213, "its control group cannot be entered"),
    (216, "its group does not exist"),
    (217, "its account does not exist"),
    (218, "its capabilities cannot be set"),
    (225, "its network cannot be set up"),
    (226, "the file system of its sandbox cannot be put together"),
    (228, "its filter of system calls cannot be set"),
    (233, "its runtime directory cannot be made"),
    (238, "its state directory cannot be made"),
    (239, "its cache directory cannot be made"),
    (240, "its log directory cannot be made"),
    (243, "its credentials cannot be set up"),
];

/// Words for an exit as the manager tells it, `exited/203` or `killed/9`: what happened, with the number.
pub fn exit_words(exit: &str) -> String {
    let Some((how, what)) = exit.split_once('/') else { return exit.to_owned() };
    let number: Option<u32> = what.parse().ok();
    match (how, number) {
        ("exited", Some(0)) => "it ended without an error".into(),
        ("exited", Some(n)) => {
            let step = STEPS.iter().find(|(code, _)| *code == n).map(|(_, words)| *words);
            let shell = match n {
                126 => Some("a command was found and may not be executed"),
                127 => Some("a command or a shared library was not found"),
                143 => Some("it ended after a signal to terminate"),
                _ => None,
            };
            step.or(shell)
                .map_or_else(|| format!("it ended with status {n}"), |words| format!("status {n}: {words}"))
        }
        ("killed" | "dumped", _) => {
            let name = number.map_or_else(|| what.to_owned(), signal_name);
            format!("signal {name}{}", if how == "dumped" { ", with a memory image written" } else { "" })
        }
        _ => format!("{how} {what}"),
    }
}

/// The name of a signal by its number on Linux (signal(7)).
fn signal_name(number: u32) -> String {
    let name = match number {
        1 => "HUP",
        2 => "INT",
        3 => "QUIT",
        4 => "ILL",
        6 => "ABRT",
        7 => "BUS",
        8 => "FPE",
        9 => "KILL",
        11 => "SEGV",
        13 => "PIPE",
        15 => "TERM",
        31 => "SYS",
        _ => return number.to_string(),
    };
    name.to_owned()
}

/// What an init script's exit status means for start, stop and their like (Linux Standard Base, init script
/// actions).
pub fn script_words(status: i32) -> Option<&'static str> {
    Some(match status {
        2 => "wrong arguments",
        3 => "it does not know this action",
        4 => "not enough privilege",
        5 => "the program is not installed",
        6 => "the program is not configured",
        7 => "the program is not running",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_words_where_they_mean_something() {
        for (exit, expected) in [
            ("exited/203", "status 203: its program cannot be executed"),
            ("exited/127", "status 127: a command or a shared library was not found"),
            ("exited/2", "it ended with status 2"),
            ("exited/0", "it ended without an error"),
            ("killed/9", "signal KILL"),
            ("killed/TERM", "signal TERM"),
            ("dumped/11", "signal SEGV, with a memory image written"),
            ("exit-code", "exit-code"),
        ] {
            assert_eq!(exit_words(exit), expected);
        }
        assert_eq!(script_words(5), Some("the program is not installed"));
        assert_eq!(script_words(1), None);
    }
}
