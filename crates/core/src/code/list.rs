//! Every code, with its page of `explain` and how it counts.
use super::{Ails, CodeFacts, Joins, Still, stage};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The codes and the table of what is known of them, from one list.
macro_rules! codes {
    ($($(#[$doc:meta])* $code:ident { $($facts:tt)* },)*) => {
        /// Why a service does not start or answer, or what else was noticed. The order is that of the
        /// contract.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[derive(Serialize, Deserialize, JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Code {
            $($(#[$doc])* $code,)*
        }

        /// Every code with what is known of it, in order.
        pub static PAGES: &[CodeFacts] = &[$(CodeFacts { code: Code::$code, $($facts)* },)*];
    };
}

codes! {
    /// Another program holds an address and port it wants.
    PortTaken {
        name: "port-taken",
        is_cause: true,
        title: "another program holds an address and port it wants",
        meaning: "Two programs cannot listen on the same address and port. The one that came first keeps it, \
            and the later one is refused by the kernel. Another installation of the same daemon counts as \
            another program.",
        recognised: "A listening socket on the host overlaps an address that the configuration wants, and \
            its holder is not this service. The log of the last start saying \"address already in use\" is \
            the second witness.",
        remedy: "Stop the holder where it was started, so that it does not come back, or move this service \
            to a free port.",
        stage: stage::BIND, joins: Joins::Binding, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Holder,
    },
    /// Another instance of this very service is running.
    AlreadyRunning {
        name: "already-running",
        is_cause: true,
        title: "another instance of this very service is running",
        meaning: "A copy of the same daemon with the same configuration runs outside the service manager, \
            usually started by hand, and holds its port, lock or data.",
        recognised: "The holder of the wanted port runs the same executable and belongs to no unit, or a pid \
            file names a living process of the same executable.",
        remedy: "Stop the stray copy, then start the service through its manager.",
        stage: stage::BIND, joins: Joins::Binding, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Holder,
    },
    /// It wants a port that its account may not bind.
    PortPrivileged {
        name: "port-privileged",
        is_cause: true,
        title: "it wants a port that its account may not bind",
        meaning: "Ports below the kernel's limit, 1024 by default, may be bound only by root or with the \
            capability for it.",
        recognised: "The account of the start is not root, has no capability to bind, and the wanted port is \
            below net.ipv4.ip_unprivileged_port_start; or the log says so.",
        remedy: "Move the service to a higher port, or grant the capability in its unit.",
        stage: stage::BIND, joins: Joins::Port, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: true, still: Still::Untold,
    },
    /// It binds an address that no interface of this host has.
    AddressNotHere {
        name: "address-not-here",
        is_cause: true,
        title: "it binds an address that no interface of this host has",
        meaning: "A daemon can listen only on an address that the host has at that moment.",
        recognised: "The configured address is on no interface, and the daemon insists on binding it.",
        remedy: "Correct the address, or bring the interface up before the service.",
        stage: stage::BIND, joins: Joins::Port, ails: Ails::WhileItRuns,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Address,
    },
    /// Its configuration does not parse.
    ConfigSyntax {
        name: "config-syntax",
        is_cause: true,
        title: "its configuration does not parse",
        meaning: "A bracket, a quote, a terminator or a section end is missing or too many.",
        recognised: "Our own reader of the configuration stops at that place, as the daemon's would.",
        remedy: "Correct the marked place; the daemon often notices the fault later than where it was made.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Reading,
    },
    /// A directive does not exist for this daemon and version.
    ConfigUnknownDirective {
        name: "config-unknown-directive",
        is_cause: true,
        title: "a directive does not exist for this daemon and version",
        meaning: "The name is misspelt, belongs to another version, or to a module that is not part of this \
            build.",
        recognised: "The name stands in no table of the installed version, and no loaded module defines it.",
        remedy: "Correct the name; where one known name is near, it is proposed.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Reading,
    },
    /// A directive stands where it is not allowed.
    ConfigMisplacedDirective {
        name: "config-misplaced-directive",
        is_cause: true,
        title: "a directive stands where it is not allowed",
        meaning: "Directives belong to certain sections. The same word can be right a few lines higher.",
        recognised: "The table of directives does not allow this name in the section where it stands.",
        remedy: "Move it to a section that allows it.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Reading,
    },
    /// A value has the wrong type, count or range.
    ConfigBadValue {
        name: "config-bad-value",
        is_cause: true,
        title: "a value has the wrong type, count or range",
        meaning: "A number, port, address, switch or count of values is not what the directive takes.",
        recognised: "The value does not fit the shape that the installed version expects.",
        remedy: "Correct the value; the help names what is expected.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Reading,
    },
    /// A directive belongs to a module that is not loaded.
    ConfigMissingModule {
        name: "config-missing-module",
        is_cause: true,
        title: "a directive belongs to a module that is not loaded",
        meaning: "The word is right, but the module that understands it is not loaded or not installed.",
        recognised: "The table knows the directive as part of a module that this configuration does not \
            load.",
        remedy: "Load the module, or remove the directive.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Reading,
    },
    /// The configuration names a file or directory that is not there.
    ConfigMissingFile {
        name: "config-missing-file",
        is_cause: true,
        title: "the configuration names a file or directory that does not exist",
        meaning: "An included file, a certificate, a log directory or a module is named and does not exist.",
        recognised: "The path does not exist on the host, and the daemon refuses to start without it.",
        remedy: "Create it, or correct the path.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: false, still: Still::Path,
    },
    /// Two directives or files contradict each other.
    ConfigConflict {
        name: "config-conflict",
        is_cause: true,
        title: "two directives or files contradict each other",
        meaning: "The same listener, name, section or switch is given twice, often after a merge of two \
            files.",
        recognised: "The same thing is declared in two places, both of which are shown.",
        remedy: "Remove one of the two places.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Reading,
    },
    /// Its account may not read, write or enter a path.
    PermissionDenied {
        name: "permission-denied",
        is_cause: true,
        title: "its account may not read, write or enter a path",
        meaning: "A file mode, an owner or an access list on the path, or on a directory above it, refuses \
            the account of the service.",
        recognised: "The walk from the root directory to the path finds the first step that refuses, as the \
            kernel would.",
        remedy: "Grant that one account the one missing permission on that one path.",
        stage: stage::FILES, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: true, still: Still::Untold,
    },
    /// An access policy or the sandbox of the unit refuses it.
    PolicyDenied {
        name: "policy-denied",
        is_cause: true,
        title: "an access policy or the sandbox of the unit refuses it",
        meaning: "File modes allow it, but a mandatory policy or a setting of the unit does not.",
        recognised: "The mode walk finds no obstacle and the log still speaks of a refusal.",
        remedy: "Adjust the policy or the unit's sandbox for that path.",
        stage: stage::FILES, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A runtime, data or log file belongs to the wrong account.
    WrongOwner {
        name: "wrong-owner",
        is_cause: true,
        title: "a runtime, data or log file belongs to the wrong account",
        meaning: "An earlier start under another account, usually by hand, left files that the service's \
            account may not use.",
        recognised: "The file exists, lies where the service writes, and its owner is neither the service's \
            account nor root.",
        remedy: "Give the file back to the account, or move it aside.",
        stage: stage::FILES, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: true, still: Still::Untold,
    },
    /// It runs under another account than it should.
    WrongAccount {
        name: "wrong-account",
        is_cause: true,
        title: "it runs under another account than it should",
        meaning: "The daemon is up, but not under the account that its unit or its configuration names.",
        recognised: "The account of the running process differs from the configured one.",
        remedy: "Stop it, give its files back, and start it through the manager.",
        stage: stage::RUN, joins: Joins::Subject, ails: Ails::Always,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: true, still: Still::Untold,
    },
    /// A pid, lock or socket file of a process that is gone stands in its way.
    StaleFile {
        name: "stale-file",
        is_cause: true,
        title: "a pid, lock or socket file of a process that has ended stands in its way",
        meaning: "A daemon that was killed or started by hand left a file that makes the next start believe \
            it is running.",
        recognised: "The file exists, and the process it names has ended or is now another program.",
        remedy: "Move the file aside.",
        stage: stage::FILES, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// Its data directory is empty or was never initialised.
    DataMissing {
        name: "data-missing",
        is_cause: true,
        title: "its data directory is empty or was never initialised",
        meaning: "A database needs a data directory that was initialised once.",
        recognised: "The marks of an initialised directory are missing.",
        remedy: "Restore the data, or initialise the directory.",
        stage: stage::FILES, joins: Joins::OnePerServer, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A control, log or table file is corrupt.
    DataDamaged {
        name: "data-damaged",
        is_cause: true,
        title: "a control, log or table file is corrupt",
        meaning: "A file that the database needs at start fails its own checksum.",
        recognised: "The check of the file's structure fails, or the log says so.",
        remedy: "Restore the file from a backup; keep the damaged one.",
        stage: stage::FILES, joins: Joins::OnePerServer, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The data was written by another version.
    DataVersion {
        name: "data-version",
        is_cause: true,
        title: "the data was written by another version",
        meaning: "The data directory belongs to another major version or flavour.",
        recognised: "The version mark in the directory differs from that of the server.",
        remedy: "Upgrade the data with the daemon's own procedure.",
        stage: stage::FILES, joins: Joins::OnePerServer, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// No space or no inodes are left where it writes.
    DiskFull {
        name: "disk-full",
        is_cause: true,
        title: "no space or no inodes are left where it writes",
        meaning: "The file system that holds its logs, data or runtime files is full.",
        recognised: "The file system has no free blocks or inodes, or the log says so.",
        remedy: "Make room on that file system.",
        stage: stage::FILES, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The file system it writes to is mounted read-only.
    ReadOnly {
        name: "read-only",
        is_cause: true,
        title: "the file system it writes to is mounted read-only",
        meaning: "The mount that contains the path cannot be written.",
        recognised: "The mount table says so for the mount that contains the path.",
        remedy: "Mount it writable, after finding out why it is not.",
        stage: stage::FILES, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: true, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// It asks for more memory than it can have.
    MemoryShort {
        name: "memory-short",
        is_cause: true,
        title: "it asks for more memory than it can have",
        meaning: "The daemon wants more than the host or its limits give, or was killed for it.",
        recognised: "The log or the kernel says so.",
        remedy: "Lower what the configuration asks for, or raise the limit.",
        stage: stage::FILES, joins: Joins::OnePerServer, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A limit on files, processes or shared memory stops it.
    LimitReached {
        name: "limit-reached",
        is_cause: true,
        title: "a limit on files, processes or shared memory stops it",
        meaning: "A resource limit of the unit or the kernel is lower than what the daemon needs.",
        recognised: "The log says so, and the limit is what the message names.",
        remedy: "Raise the limit in the unit.",
        stage: stage::FILES, joins: Joins::OnePerServer, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The executable, its interpreter or a library is missing.
    ProgramMissing {
        name: "program-missing",
        is_cause: true,
        title: "the executable, its interpreter or a library is missing",
        meaning: "What the unit starts does not exist or cannot be executed.",
        recognised: "The path in the unit does not exist or is not executable; the manager reports status \
            203 or 127.",
        remedy: "Install the program, or correct the path in the unit.",
        stage: stage::EXECUTE, joins: Joins::ToldOrEqual, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The wrong runtime is picked up.
    RuntimeWrong {
        name: "runtime-wrong",
        is_cause: true,
        title: "the wrong runtime is picked up",
        meaning: "The service finds another interpreter or virtual machine than it needs.",
        recognised: "The log names the version it found and the one it needs.",
        remedy: "Point the launcher at the right runtime.",
        stage: stage::EXECUTE, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The user or group it runs as does not exist.
    AccountMissing {
        name: "account-missing",
        is_cause: true,
        title: "the user or group it runs as does not exist",
        meaning: "The configuration or the unit names an account that the host does not know.",
        recognised: "The name is in none of the host's account files.",
        remedy: "Create the account, or correct the name.",
        stage: stage::EXECUTE, joins: Joins::ToldOrEqual, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Account,
    },
    /// A certificate and key do not match, are unusable, or have expired.
    CertificateBad {
        name: "certificate-bad",
        is_cause: true,
        title: "a certificate and key do not match, are unusable, or have expired",
        meaning: "The daemon cannot use the certificate or key that its configuration names.",
        recognised: "The file is not a certificate or key, or the log says so.",
        remedy: "Put the right pair in place.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A host name in its configuration does not resolve.
    NameUnresolved {
        name: "name-unresolved",
        is_cause: true,
        title: "a host name in its configuration does not resolve",
        meaning: "The daemon looks the name up at start and finds nothing.",
        recognised: "The name is in no hosts file and can never be found elsewhere, or the log says so.",
        remedy: "Correct the name, or add it to the hosts file.",
        stage: stage::CONFIG, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// Something that it needs does not run.
    DependencyDown {
        name: "dependency-down",
        is_cause: true,
        title: "something that it needs does not run",
        meaning: "An upstream, a socket or a database that it needs does not listen, or a unit that it \
            requires failed.",
        recognised: "The socket is absent or nobody listens on it; the manager reports the failed \
            dependency.",
        remedy: "Start what it needs first.",
        stage: stage::EXECUTE, joins: Joins::ToldWithoutSubject, ails: Ails::WhileItRuns,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// What it needs answers but refuses.
    DependencyRefuses {
        name: "dependency-refuses",
        is_cause: true,
        title: "what it needs answers but refuses",
        meaning: "The other side is up and turns it away; the reason says why: unknown-account, \
         wrong-password, \
            account-or-password (the server does not tell which), login-disabled, password-expired, \
            no-access-rule, no-database, too-many-connections, tls, warming-up.",
        recognised: "The log carries the other side's words, its rows show it to the administrator, or a \
         login \
            was tried (diagnose --try-logins).",
        remedy: "Correct the credentials or the grant.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A per-directory override file breaks requests.
    OverrideBroken {
        name: "override-broken",
        is_cause: true,
        title: "a per-directory override file breaks requests",
        meaning: "A file that the server reads with each request has an error.",
        recognised: "Requests below that directory fail, and the log names the file.",
        remedy: "Correct the file, or move it aside for a moment.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// An application's own configuration is broken.
    ApplicationConfig {
        name: "application-config",
        is_cause: true,
        title: "an application's own configuration is broken",
        meaning: "The application behind the daemon names something that does not exist.",
        recognised: "The log of the application says so.",
        remedy: "Correct the application's configuration.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The application behind it fails by itself.
    ApplicationError {
        name: "application-error",
        is_cause: true,
        title: "the application behind it fails by itself",
        meaning: "A script error, exhausted memory or time, a missing class.",
        recognised: "The log of the request says so.",
        remedy: "Correct the application.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// It is up, but cannot be reached from where it should.
    Unreachable {
        name: "unreachable",
        is_cause: true,
        title: "it is up, but cannot be reached from where it should",
        meaning: "It listens on the loopback address alone, or something between drops the requests.",
        recognised: "Its listeners are on loopback only, while it is meant to serve others.",
        remedy: "Listen on an address that others reach.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The service manager was told not to start it.
    ManagerDisabled {
        name: "manager-disabled",
        is_cause: true,
        title: "the service manager was told not to start it",
        meaning: "The unit is masked or disabled, a condition is not met, or its file is broken.",
        recognised: "The manager's own state of the unit says so.",
        remedy: "Unmask or enable it, if nobody stopped it on purpose.",
        stage: stage::MANAGER, joins: Joins::Remedy, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// It failed so often that the manager stopped trying.
    ManagerGaveUp {
        name: "manager-gave-up",
        is_cause: true,
        title: "it failed so often that the manager stopped trying",
        meaning: "The manager refuses further starts for a while, and the earlier reason does not hold \
            any more.",
        recognised: "The last attempt was refused for its rate, and nothing else stands in the way now.",
        remedy: "Clear the counter and start it once more.",
        stage: stage::OUTCOME, joins: Joins::Always, ails: Ails::Never,
        is_of_file: false, is_past: true, is_outcome: true, needs_account: false, still: Still::Outcome,
    },
    /// It did not become ready in the time it was given.
    StartTimeout {
        name: "start-timeout",
        is_cause: true,
        title: "it did not become ready in the time it was given",
        meaning: "The manager ended a start that took too long.",
        recognised: "The manager reports a timed-out start.",
        remedy: "Find what it was waiting for, or give it more time.",
        stage: stage::RUN, joins: Joins::Always, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: true, needs_account: false, still: Still::Unit,
    },
    /// It died of a signal.
    Crashed {
        name: "crashed",
        is_cause: true,
        title: "it died of a signal",
        meaning: "The daemon did not end by itself: a signal killed it.",
        recognised: "The manager or the log reports the signal.",
        remedy: "Look at what came before; a daemon that crashes again needs its maintainer.",
        stage: stage::RUN, joins: Joins::Always, ails: Ails::Never,
        is_of_file: false, is_past: true, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The log tells of a failure that no rule explains.
    Unknown {
        name: "unknown",
        is_cause: true,
        title: "the log tells of a failure that no rule explains",
        meaning: "There is a failure, and the lines that tell of it are shown as they are.",
        recognised: "The last attempt failed, and no rule matched its lines.",
        remedy: "Read the shown lines; they are the first ones that matter.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: true, is_outcome: true, needs_account: false, still: Still::Untold,
    },
    /// The server has no name of its own.
    NameUnset {
        name: "name-unset",
        is_cause: false,
        title: "the server has no name of its own",
        meaning: "The server guesses its name and warns about it at each start. It is harmless.",
        recognised: "The main server sets no name.",
        remedy: "Set the server's name if the warning disturbs.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// It runs, but would not come back after a restart.
    LatentFailure {
        name: "latent-failure",
        is_cause: false,
        title: "it runs, but would not come back after a restart",
        meaning: "The running daemon still has what it read at its start. The next start would fail.",
        recognised: "The configuration on disk would be refused, or a file it needs no longer exists.",
        remedy: "Put the named fault right before the next restart.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// Its configuration was changed after it started.
    NotReloaded {
        name: "not-reloaded",
        is_cause: false,
        title: "its configuration was changed after it started",
        meaning: "The daemon still runs with what it read at its last start or reload.",
        recognised: "A file that it reads is newer than its process.",
        remedy: "Reload it when the change is meant to take effect.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A file is left over from an earlier run.
    StrayFile {
        name: "stray-file",
        is_cause: false,
        title: "a file is left over from an earlier run",
        meaning: "It does not stand in the way now.",
        recognised: "The file exists and its process has ended.",
        remedy: "Move it aside.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// It runs, but is not started at boot.
    NotEnabled {
        name: "not-enabled",
        is_cause: false,
        title: "it runs, but is not started at boot",
        meaning: "After the next reboot it will be down.",
        recognised: "The manager does not start the unit at boot.",
        remedy: "Enable it, if it is meant to come back.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// The configuration is accepted, but not as meant.
    ConfigWarning {
        name: "config-warning",
        is_cause: false,
        title: "the configuration is accepted, but not as meant",
        meaning: "The daemon starts and ignores or adjusts something.",
        recognised: "The daemon's own rules say so for this directive.",
        remedy: "Read the place and decide.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A path may be changed by everybody.
    GrantTooWide {
        name: "grant-too-wide",
        is_cause: false,
        title: "a path may be changed by everybody",
        meaning: "More accounts than necessary may write where the service writes.",
        recognised: "The mode lets everybody write.",
        remedy: "Narrow the mode.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A line of the log looks bad and is not.
    HarmlessLog {
        name: "harmless-log",
        is_cause: false,
        title: "a line of the log looks bad and is not",
        meaning: "It stands in healthy starts, too.",
        recognised: "The rule for this line says so.",
        remedy: "Nothing.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// Its process is halted: there, and answering nothing.
    ProcessHalted {
        name: "process-halted",
        is_cause: true,
        title: "its process is halted: it is there and answers nothing",
        meaning: "A signal stopped the process or a debugger holds it. It keeps its sockets, so that clients \
            connect and then wait.",
        recognised: "The kernel's process table shows the state \"stopped\" for the main process.",
        remedy: "Let it go on, after finding out who halted it.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Always,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// Processes are not as the unit or the manager has them.
    NotAsPlanned {
        name: "not-as-planned",
        is_cause: false,
        title: "processes are not as the unit or the manager has them",
        meaning: "The manager takes another program for the main process, a dead process was not collected \
            by its parent, or one waits in the kernel for a disk or a network file system.",
        recognised: "The process table and the manager's state of the unit differ.",
        remedy: "Stop it, make sure that nothing of it is left, and start it through the manager.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A person or a cluster manager keeps it as it is.
    HandsOff {
        name: "hands-off",
        is_cause: false,
        title: "a person or a cluster manager keeps it as it is",
        meaning: "Somebody stopped it on purpose, a cluster manager decides where it runs, or a database \
            follows another one.",
        recognised: "The record of commands run for root, files that a cluster manager put there, or signal \
            files among the data say so.",
        remedy: "Ask whoever decided it before anything is changed.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// A certificate that it uses is not valid at this time.
    CertificateExpired {
        name: "certificate-expired",
        is_cause: false,
        title: "a certificate that it uses is not valid at this time",
        meaning: "The daemon starts, but clients refuse it.",
        recognised: "The period of validity in the certificate does not contain the present moment.",
        remedy: "Put a valid certificate in place and reload.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
    /// Its log is not where one would look, or holds nothing.
    LogElsewhere {
        name: "log-elsewhere",
        is_cause: false,
        title: "its log is not where one would look, or holds nothing",
        meaning: "The configuration sends the log somewhere else than to its usual place, or its account may \
            not write it, or it is \
                  empty. Whoever looks in the usual place reads old lines, or none.",
        recognised: "The places that the configuration names are compared with what stands there, with the \
            usual places of the \
                     daemon's log, and with what lines of its log look like.",
        remedy: "Read the log where it is; give the file back to the account where lines are lost.",
        stage: stage::OUTCOME, joins: Joins::Subject, ails: Ails::Never,
        is_of_file: false, is_past: false, is_outcome: false, needs_account: false, still: Still::Untold,
    },
}
