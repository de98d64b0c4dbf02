//! systemd over D-Bus: states of named units, and the few verbs that a fix needs.
use jolly_core::host::{Answer, Look, UnitState, Unseen};
use std::collections::{BTreeMap, HashMap};
use std::sync::{OnceLock, mpsc};
use std::time::{Duration, Instant};
use zbus::blocking::{Connection, MessageIterator, connection::Builder};
use zbus::zvariant::{OwnedObjectPath, OwnedValue};

const DESTINATION: &str = "org.freedesktop.systemd1";
const PATH: &str = "/org/freedesktop/systemd1";
const MANAGER: &str = "org.freedesktop.systemd1.Manager";

/// The connection, made once when it is first needed.
#[derive(Debug, Default)]
pub(crate) struct Manager {
    connection: OnceLock<Result<(Connection, bool), Unseen>>,
}

impl Manager {
    /// The system bus; as root the manager's private socket when the bus is dead.
    fn connect(&self) -> Result<&(Connection, bool), Unseen> {
        let made = self.connection.get_or_init(|| {
            if !std::path::Path::new("/run/systemd/system").is_dir() {
                return Err(Unseen::PartMissing);
            }
            let patience = Duration::from_secs(10);
            let bus = Builder::address("unix:path=/run/dbus/system_bus_socket")
                .and_then(|b| b.method_timeout(patience).build());
            match bus {
                Ok(connection) => Ok((connection, true)),
                Err(first) => Builder::address("unix:path=/run/systemd/private")
                    .and_then(|b| b.p2p().method_timeout(patience).build())
                    .map(|connection| (connection, false))
                    .map_err(|_| Unseen::Failed(format!("the system bus does not answer: {first}"))),
            }
        });
        made.as_ref().map_err(Clone::clone)
    }

    fn call<B: serde::Serialize + zbus::zvariant::DynamicType>(
        &self,
        path: &str,
        interface: &str,
        method: &str,
        body: &B,
    ) -> Result<zbus::Message, zbus::Error> {
        let (connection, on_bus) = self.connect().map_err(|why| zbus::Error::Failure(why.to_string()))?;
        connection.call_method(on_bus.then_some(DESTINATION), path, Some(interface), method, body)
    }

    pub(crate) fn available(&self) -> bool {
        std::path::Path::new("/run/systemd/system").is_dir()
    }

    pub(crate) fn unit(&self, name: &str) -> Look<Answer> {
        if let Err(why) = self.connect() {
            return Look::NotSeen(why);
        }
        let path: OwnedObjectPath =
            match self.call(PATH, MANAGER, "LoadUnit", &(name,)).and_then(|m| m.body().deserialize()) {
                Ok(path) => path,
                Err(error) => return Look::NotSeen(Unseen::Failed(error.to_string())),
            };
        let properties: HashMap<String, OwnedValue> = match self
            .call(path.as_str(), "org.freedesktop.DBus.Properties", "GetAll", &("",))
            .and_then(|m| m.body().deserialize())
        {
            Ok(all) => all,
            Err(error) => return Look::NotSeen(Unseen::Failed(error.to_string())),
        };
        let state = unit_state(&properties);
        if state.load_state == "not-found" && state.active_state == "inactive" {
            Look::Absent
        } else {
            Look::Seen(Answer::Unit(Box::new(state)))
        }
    }

    /// Ends of jobs, as the manager announces them: path of the job and its result.
    fn ended_jobs(&self) -> Result<mpsc::Receiver<(OwnedObjectPath, String)>, zbus::Error> {
        let (connection, _) = self.connect().map_err(|why| zbus::Error::Failure(why.to_string()))?;
        let rule = zbus::MatchRule::builder()
            .msg_type(zbus::message::Type::Signal)
            .interface(MANAGER)?
            .member("JobRemoved")?
            .build();
        let signals = MessageIterator::for_match_rule(rule, connection, Some(256))?;
        // One connection asks for signals once; a second job of the same fix need not ask again.
        match self.call(PATH, MANAGER, "Subscribe", &()) {
            Err(zbus::Error::MethodError(name, ..)) if name.as_str().ends_with("AlreadySubscribed") => {}
            other => drop(other?),
        }
        let (tell, ended) = mpsc::channel();
        std::thread::spawn(move || {
            for message in signals.flatten() {
                let Ok((_, job, _, result)) =
                    message.body().deserialize::<(u32, OwnedObjectPath, String, String)>()
                else {
                    continue;
                };
                if tell.send((job, result)).is_err() {
                    break;
                }
            }
        });
        Ok(ended)
    }

    /// Starts, stops, restarts or reloads a unit, waits for the manager's word that its job ended, and gives
    /// back how: `done`, `failed`, `timeout`, `canceled`, `dependency` or `skipped`.
    pub(crate) fn job(&self, verb: &str, unit: &str, patience: Duration) -> Result<String, String> {
        let method = match verb {
            "start" => "StartUnit",
            "stop" => "StopUnit",
            "restart" => "RestartUnit",
            "reload" => "ReloadOrRestartUnit",
            other => return Err(format!("{other} is not a job")),
        };
        // Subscribed before the job is made: its end cannot be missed.
        let ended = self.ended_jobs().map_err(|e| words(&e))?;
        let job: OwnedObjectPath = self
            .call(PATH, MANAGER, method, &(unit, "replace"))
            .and_then(|m| m.body().deserialize())
            .map_err(|e| words(&e))?;
        let deadline = Instant::now() + patience;
        loop {
            match ended.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
                Ok((path, result)) if path == job => return Ok(result),
                Ok(_) => {}
                Err(mpsc::RecvTimeoutError::Timeout) => {
                    return Err(format!("{verb} of {unit} is still going on after {} s", patience.as_secs()));
                }
                Err(mpsc::RecvTimeoutError::Disconnected) => {
                    return Err(format!("the service manager hung up during {verb} of {unit}"));
                }
            }
        }
    }

    /// `enable`, `disable`, `mask`, `unmask` of a unit file.
    pub(crate) fn unit_file(&self, verb: &str, unit: &str) -> Result<(), String> {
        let names = vec![unit];
        let done = match verb {
            "enable" => self.call(PATH, MANAGER, "EnableUnitFiles", &(names, false, true)),
            "disable" => self.call(PATH, MANAGER, "DisableUnitFiles", &(names, false)),
            "mask" => self.call(PATH, MANAGER, "MaskUnitFiles", &(names, false, true)),
            "unmask" => self.call(PATH, MANAGER, "UnmaskUnitFiles", &(names, false)),
            other => return Err(format!("{other} is not a verb for unit files")),
        };
        done.map(drop).map_err(|e| words(&e))
    }

    pub(crate) fn reload_manager(&self) -> Result<(), String> {
        self.call(PATH, MANAGER, "Reload", &()).map(drop).map_err(|e| words(&e))
    }

    pub(crate) fn reset_failed(&self, unit: &str) -> Result<(), String> {
        self.call(PATH, MANAGER, "ResetFailedUnit", &(unit,)).map(drop).map_err(|e| words(&e))
    }
}

fn words(error: &zbus::Error) -> String {
    match error {
        zbus::Error::MethodError(name, Some(text), _) => format!("{text} ({name})"),
        other => other.to_string(),
    }
}

fn unit_state(all: &HashMap<String, OwnedValue>) -> UnitState {
    let text =
        |name: &str| all.get(name).and_then(|v| <&str>::try_from(&**v).ok()).unwrap_or_default().to_owned();
    let number = |name: &str| all.get(name).and_then(|v| u64::try_from(&**v).ok()).unwrap_or(0);
    let small = |name: &str| all.get(name).and_then(|v| u32::try_from(&**v).ok()).unwrap_or(0);
    let signed = |name: &str| all.get(name).and_then(|v| i32::try_from(&**v).ok()).unwrap_or(0);
    let flag = |name: &str| all.get(name).and_then(|v| bool::try_from(&**v).ok()).unwrap_or(false);
    let list =
        |name: &str| all.get(name).and_then(|v| Vec::<String>::try_from(v.clone()).ok()).unwrap_or_default();
    let invocation =
        all.get("InvocationID").and_then(|v| Vec::<u8>::try_from(v.clone()).ok()).unwrap_or_default();
    let mut more = BTreeMap::new();
    for name in [
        "Type",
        "Restart",
        "User",
        "Group",
        "PIDFile",
        "SourcePath",
        "Description",
        "StatusText",
        "FreezerState",
    ] {
        let value = text(name);
        if !value.is_empty() {
            more.insert(name.to_owned(), value);
        }
    }
    for name in ["TriggeredBy", "WantedBy", "RequiredBy", "Requires", "DropInPaths"] {
        let value = list(name);
        if !value.is_empty() {
            more.insert(name.to_owned(), value.join(" "));
        }
    }
    UnitState {
        id: text("Id"),
        names: list("Names"),
        load_state: text("LoadState"),
        active_state: text("ActiveState"),
        sub_state: text("SubState"),
        unit_file_state: text("UnitFileState"),
        result: text("Result"),
        main_pid: small("MainPID"),
        control_pid: small("ControlPID"),
        exec_main_code: signed("ExecMainCode"),
        exec_main_status: signed("ExecMainStatus"),
        restarts: small("NRestarts"),
        invocation: invocation.iter().map(|b| format!("{b:02x}")).collect(),
        state_changed: number("StateChangeTimestamp"),
        active_entered: number("ActiveEnterTimestamp"),
        left_inactive: number("InactiveExitTimestamp"),
        main_exited: number("ExecMainExitTimestamp"),
        needs_reload: flag("NeedDaemonReload"),
        condition_met: flag("ConditionResult"),
        condition_checked: number("ConditionTimestamp"),
        control_group: text("ControlGroup"),
        fragment: text("FragmentPath"),
        more,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zbus::zvariant::Value;

    fn properties(all: &[(&str, Value<'_>)]) -> HashMap<String, OwnedValue> {
        all.iter().map(|(name, value)| ((*name).to_owned(), value.try_to_owned().unwrap())).collect()
    }

    #[test]
    fn properties_of_the_bus_become_the_state_of_a_unit() {
        let state = unit_state(&properties(&[
            ("Id", Value::from("edge.service")),
            ("Names", Value::from(vec!["edge.service", "pier.service"])),
            ("LoadState", Value::from("loaded")),
            ("ActiveState", Value::from("failed")),
            ("UnitFileState", Value::from("enabled")),
            ("Result", Value::from("exit-code")),
            ("MainPID", Value::from(812u32)),
            ("NRestarts", Value::from(3u32)),
            ("ExecMainStatus", Value::from(203i32)),
            ("StateChangeTimestamp", Value::from(1_932_876_611_000_000u64)),
            ("NeedDaemonReload", Value::from(true)),
            ("ConditionResult", Value::from(false)),
            ("InvocationID", Value::from(vec![0x0au8, 0xff])),
            ("Type", Value::from("forking")),
            ("Requires", Value::from(vec!["sysinit.target", "srv-quay.mount"])),
            ("Description", Value::from("")),
        ]));
        assert_eq!(
            (state.id.as_str(), state.names.len(), state.active_state.as_str()),
            ("edge.service", 2, "failed")
        );
        assert_eq!((state.main_pid, state.restarts, state.exec_main_status), (812, 3, 203));
        assert_eq!(
            (state.state_changed, state.needs_reload, state.condition_met),
            (1_932_876_611_000_000, true, false)
        );
        assert_eq!(state.invocation, "0aff");
        assert_eq!(state.more.get("Requires").map(String::as_str), Some("sysinit.target srv-quay.mount"));
        assert_eq!(
            (state.more.get("Type").map(String::as_str), state.more.get("Description")),
            (Some("forking"), None),
            "what is empty is left out"
        );
    }

    #[test]
    fn a_property_that_is_missing_or_of_another_type_is_nothing_and_no_harm() {
        let state = unit_state(&properties(&[
            ("MainPID", Value::from("812")),
            ("Names", Value::from(7u32)),
            ("NeedDaemonReload", Value::from("yes")),
        ]));
        assert_eq!((state.main_pid, state.names.len(), state.needs_reload), (0, 0, false));
        assert!(state.id.is_empty() && state.more.is_empty());
    }

    #[test]
    fn what_is_no_job_and_no_verb_is_refused_before_anything_is_asked() {
        let manager = Manager::default();
        assert!(
            manager
                .job("paint", "edge.service", Duration::from_millis(1))
                .is_err_and(|e| e.contains("paint"))
        );
        assert!(manager.unit_file("paint", "edge.service").is_err_and(|e| e.contains("paint")));
    }
}
