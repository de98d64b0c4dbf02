//! Journals made by hand in every form that the reader knows, and what it makes of them.
use super::*;

/// How a made-up journal is written.
#[derive(Clone, Copy, Default)]
struct Form {
    keyed: bool,
    compact: bool,
    /// 0 plain, 1 xz, 2 lz4, 4 zstd.
    compression: u8,
    /// Entries that fit into one array.
    array: usize,
    /// Slots of the hash table.
    slots: u64,
}

const PLAIN: Form = Form { keyed: false, compact: false, compression: 0, array: 4, slots: 16 };
const ID: [u8; 16] = *b"tide-gauge-quay1";

/// Writes objects one after another and remembers the chains.
struct Maker {
    file: Vec<u8>,
    form: Form,
    known: HashMap<Vec<u8>, u64>,
}

impl Maker {
    fn new(form: Form) -> Self {
        let mut file = vec![0u8; 208];
        file[..8].copy_from_slice(b"LPKSHHRH");
        let flags = if form.keyed { KEYED } else { 0 } | if form.compact { COMPACT } else { 0 };
        file[12..16].copy_from_slice(&flags.to_le_bytes());
        file[24..40].copy_from_slice(&ID);
        let mut maker = Self { file, form, known: HashMap::new() };
        maker.put(104, 208);
        maker.put(112, form.slots * 16);
        maker.file.resize(208 + usize::try_from(form.slots).unwrap() * 16, 0);
        maker
    }

    fn put(&mut self, at: u64, n: u64) {
        let at = usize::try_from(at).unwrap();
        self.file[at..at + 8].copy_from_slice(&n.to_le_bytes());
    }

    fn number(&self, at: u64) -> u64 {
        u64_at(&self.file, usize::try_from(at).unwrap()).unwrap()
    }

    fn object(&mut self, kind: u8, flags: u8, body: &[u8]) -> u64 {
        while !self.file.len().is_multiple_of(8) {
            self.file.push(0);
        }
        let at = self.file.len() as u64;
        self.file.extend([kind, flags, 0, 0, 0, 0, 0, 0]);
        self.file.extend((16 + body.len() as u64).to_le_bytes());
        self.file.extend(body);
        at
    }

    fn hash(&self, data: &[u8]) -> u64 {
        if self.form.keyed {
            let key = |at: usize| u64::from_le_bytes(ID[at..at + 8].try_into().unwrap());
            let mut hasher = siphasher::sip::SipHasher24::new_with_keys(key(0), key(8));
            hasher.write(data);
            hasher.finish()
        } else {
            jenkins(data)
        }
    }

    fn packed(&self, data: &[u8]) -> (u8, Vec<u8>) {
        match self.form.compression {
            1 => {
                let mut out = Vec::new();
                lzma_rs::xz_compress(&mut &data[..], &mut out).unwrap();
                (1, out)
            }
            2 => {
                let mut out = (data.len() as u64).to_le_bytes().to_vec();
                out.extend(lz4_flex::block::compress(data));
                (2, out)
            }
            4 => (4, zstd::bulk::compress(data, 3).unwrap()),
            _ => (0, data.to_vec()),
        }
    }

    /// The data object of a field, made once, chained into its slot of the hash table.
    fn data(&mut self, field: &str) -> u64 {
        let data = field.as_bytes();
        if let Some(at) = self.known.get(data) {
            return *at;
        }
        let hash = self.hash(data);
        let slot = 208 + hash % self.form.slots * 16;
        let (flags, packed) = self.packed(data);
        let mut body = Vec::new();
        for n in [hash, self.number(slot), 0, 0, 0, 0] {
            body.extend(n.to_le_bytes());
        }
        if self.form.compact {
            body.extend([0; 8]);
        }
        body.extend(packed);
        let at = self.object(1, flags, &body);
        self.put(slot, at);
        self.known.insert(data.to_vec(), at);
        at
    }

    fn entry(&mut self, time: u64, fields: &[&str]) {
        self.entry_at(time, time, fields);
    }

    /// The same with the clock that nobody sets.
    fn entry_at(&mut self, time: u64, steady: u64, fields: &[&str]) {
        let objects: Vec<u64> = fields.iter().map(|f| self.data(f)).collect();
        let mut body = Vec::new();
        body.extend(1u64.to_le_bytes());
        body.extend(time.to_le_bytes());
        body.extend(steady.to_le_bytes());
        body.extend([0xb0; 16]);
        body.extend([0; 8]);
        for at in &objects {
            if self.form.compact {
                body.extend(u32::try_from(*at).unwrap().to_le_bytes());
            } else {
                body.extend(at.to_le_bytes());
                body.extend([0; 8]);
            }
        }
        let entry = self.object(3, 0, &body);
        for object in objects {
            self.append(object, entry);
        }
    }

    /// Adds an entry to a data object: the first one by itself, the rest in a chain of arrays.
    fn append(&mut self, object: u64, entry: u64) {
        let count = self.number(object + 56);
        if count == 0 {
            self.put(object + 40, entry);
        } else {
            let at = (count - 1) % self.form.array as u64;
            let mut array = self.number(object + 48);
            let mut link = object + 48;
            while array != 0 {
                link = array + 16;
                if self.number(link) == 0 {
                    break;
                }
                array = self.number(link);
            }
            if at == 0 {
                let width = if self.form.compact { 4 } else { 8 };
                array = self.object(6, 0, &vec![0; 8 + self.form.array * width]);
                self.put(link, array);
            }
            let width = if self.form.compact { 4 } else { 8 };
            let place = usize::try_from(array + 24 + at * width).unwrap();
            let bytes = entry.to_le_bytes();
            self.file[place..place + usize::try_from(width).unwrap()]
                .copy_from_slice(&bytes[..usize::try_from(width).unwrap()]);
        }
        self.put(object + 56, count + 1);
    }
}

fn reader(file: Vec<u8>) -> ReadAt<'static> {
    Box::new(move |offset, length| {
        let from = usize::try_from(offset).ok()?.min(file.len());
        let to = (from + length as usize).min(file.len());
        Some(file[from..to].to_vec())
    })
}

/// A journal of `count` lines of the relay, each followed by one of somebody else.
fn relay(form: Form, count: u64) -> Vec<u8> {
    let mut maker = Maker::new(form);
    for n in 0..count {
        maker.entry(
            1000 + n,
            &[
                "_SYSTEMD_UNIT=relay.service",
                &format!("MESSAGE=tide {n} {}", "~".repeat(120)),
                "_PID=71",
                "PRIORITY=4",
            ],
        );
        maker.entry(1000 + n, &["_SYSTEMD_UNIT=gauge.service", &format!("MESSAGE=gauge {n}")]);
    }
    maker.file
}

fn messages(found: &[JournalEntry]) -> Vec<&str> {
    found.iter().map(|e| e.message.split(" ~").next().unwrap_or_default()).collect()
}

#[test]
fn every_form_of_the_file_gives_the_same_entries() {
    for keyed in [false, true] {
        for compact in [false, true] {
            for compression in [0, 1, 2, 4] {
                let file = relay(Form { keyed, compact, compression, ..PLAIN }, 11);
                let found = newest(vec![reader(file)], "relay.service", 3);
                assert_eq!(
                    messages(&found),
                    ["tide 10", "tide 9", "tide 8"],
                    "keyed {keyed}, compact {compact}, compression {compression}"
                );
                assert_eq!((found[0].pid, found[0].priority, found[0].time), (71, 4, 1010));
                assert_eq!(found[0].boot, "b0".repeat(16));
            }
        }
    }
}

#[test]
fn any_number_of_entries_is_found_over_any_number_of_arrays() {
    for count in [1, 2, 4, 5, 6, 9, 10, 23] {
        let file = relay(PLAIN, count);
        for most in [1, 2, 3, 7, 50] {
            let found = newest(vec![reader(file.clone())], "relay.service", most);
            let expected: Vec<u64> = (0..count).rev().take(most).map(|n| 1000 + n).collect();
            assert_eq!(
                found.iter().map(|e| e.time).collect::<Vec<_>>(),
                expected,
                "{count} entries, {most} wanted"
            );
        }
    }
}

#[test]
fn a_clock_that_was_set_does_not_change_the_order() {
    let mut maker = Maker::new(PLAIN);
    for (time, steady, text) in [
        (20_000_000, 1_000_000, "first"),
        (21_000_000, 2_000_000, "second"),
        // The clock was put back by ten seconds.
        (12_000_000, 3_000_000, "third"),
        (22_000_000, 13_000_000, "fourth"),
    ] {
        maker.entry_at(time, steady, &["_SYSTEMD_UNIT=relay.service", &format!("MESSAGE={text}")]);
    }
    let found = newest(vec![reader(maker.file)], "relay.service", 9);
    assert_eq!(messages(&found), ["fourth", "third", "second", "first"]);
}

#[test]
fn a_crowded_hash_table_keeps_fields_apart() {
    let found = newest(vec![reader(relay(Form { slots: 1, ..PLAIN }, 6))], "gauge.service", 2);
    assert_eq!(messages(&found), ["gauge 5", "gauge 4"]);
}

#[test]
fn the_last_words_of_a_child_that_could_not_become_the_program_are_found() {
    let words = "MESSAGE=relay.service: Failed at step EXEC spawning /opt/relay: Exec format error";
    let invocation = "INVOCATION_ID=0123456789abcdef0123456789abcdef";
    for (who, expected) in [
        (&["_UID=0", "_PID=71"][..], 1),
        // Of these the journal knows whose they are, or that they are not root's.
        (&["_UID=0", "_PID=71", "_SYSTEMD_UNIT=gauge.service"], 0),
        (&["_UID=71", "_PID=71"], 0),
        (&["_PID=71"], 0),
    ] {
        let mut maker = Maker::new(PLAIN);
        let mut fields = vec!["UNIT=relay.service", words, invocation];
        fields.extend(who);
        maker.entry(10, &fields);
        let found = newest(vec![reader(maker.file)], "relay.service", 10);
        assert_eq!(found.len(), expected, "{who:?}");
        assert!(found.iter().all(|e| !e.from_manager && e.invocation.starts_with("0123")), "{who:?}");
    }
}

#[test]
fn what_the_manager_says_about_a_unit_belongs_to_it_and_is_known_as_its_word() {
    let mut maker = Maker::new(PLAIN);
    maker.entry(
        10,
        &[
            "UNIT=relay.service",
            "MESSAGE=Starting relay",
            "_PID=1",
            "MESSAGE_ID=7d4958e842da4a758f6c1cdc7b36dcc5",
            "SYSLOG_IDENTIFIER=systemd",
        ],
    );
    maker.entry(
        20,
        &[
            "_SYSTEMD_UNIT=relay.service",
            "MESSAGE=it is wet",
            "_PID=71",
            "_COMM=relay",
            "_SYSTEMD_INVOCATION_ID=0123456789abcdef0123456789abcdef",
        ],
    );
    maker.entry(
        30,
        &[
            "UNIT=relay.service",
            "MESSAGE=Main process exited",
            "_PID=1",
            "EXIT_CODE=exited",
            "EXIT_STATUS=3",
            "UNIT_RESULT=exit-code",
        ],
    );
    maker.entry(
        40,
        &[
            "OBJECT_SYSTEMD_UNIT=relay.service",
            "MESSAGE=dumped core",
            "_PID=900",
            "_UID=0",
            "_SOURCE_REALTIME_TIMESTAMP=35",
        ],
    );
    let found = newest(vec![reader(maker.file)], "relay.service", 10);
    assert_eq!(messages(&found), ["dumped core", "Main process exited", "it is wet", "Starting relay"]);
    assert_eq!((found[3].from_manager, found[2].from_manager), (true, false));
    assert_eq!((found[1].exit.as_str(), found[1].result.as_str()), ("exited/3", "exit-code"));
    assert_eq!((found[2].identifier.as_str(), found[2].invocation.len()), ("relay", 32));
    assert_eq!(found[0].time, 35, "the time at which it was said, not at which it was stored");
}

#[test]
fn what_others_write_about_a_unit_is_not_its_history() {
    let mut maker = Maker::new(PLAIN);
    let began = "MESSAGE_ID=7d4958e842da4a758f6c1cdc7b36dcc5";
    maker.entry(
        10,
        &[
            "UNIT=relay.service",
            "MESSAGE=Starting relay",
            "_PID=666",
            "_UID=71",
            "_SYSTEMD_UNIT=gauge.service",
            began,
        ],
    );
    maker.entry(20, &["OBJECT_SYSTEMD_UNIT=relay.service", "MESSAGE=dumped core", "_PID=666", "_UID=71"]);
    maker.entry(
        30,
        &[
            "_SYSTEMD_UNIT=relay.service",
            "UNIT=relay.service",
            "MESSAGE=its own",
            "_PID=71",
            "_UID=71",
            "INVOCATION_ID=0123456789abcdef0123456789abcdef",
            began,
        ],
    );
    let found = newest(vec![reader(maker.file)], "relay.service", 10);
    assert_eq!(messages(&found), ["its own"]);
    assert_eq!(
        (found[0].from_manager, found[0].invocation.as_str()),
        (false, ""),
        "only the manager tells whose run it speaks of"
    );
}

#[test]
fn several_files_are_one_history_and_a_copy_counts_once() {
    let mut old = Maker::new(PLAIN);
    old.entry(5, &["_SYSTEMD_UNIT=relay.service", "MESSAGE=yesterday"]);
    let mut new = Maker::new(Form { keyed: true, compact: true, compression: 4, ..PLAIN });
    new.entry(5, &["_SYSTEMD_UNIT=relay.service", "MESSAGE=yesterday"]);
    new.entry(6, &["_SYSTEMD_UNIT=relay.service", "MESSAGE=today"]);
    let junk = vec![b'x'; 4096];
    let found = newest(
        vec![reader(old.file), reader(junk), reader(Vec::new()), reader(new.file)],
        "relay.service",
        10,
    );
    assert_eq!(messages(&found), ["today", "yesterday"]);
}

#[test]
fn lines_of_one_moment_keep_their_order() {
    let mut maker = Maker::new(PLAIN);
    for word in ["ebb", "slack", "flood"] {
        maker.entry(10, &["_SYSTEMD_UNIT=relay.service", &format!("MESSAGE={word}")]);
    }
    assert_eq!(messages(&newest(vec![reader(maker.file)], "relay.service", 10)), ["flood", "slack", "ebb"]);
}

#[test]
fn a_layout_of_the_future_is_left_alone() {
    let mut file = relay(PLAIN, 2);
    file[12] |= 64;
    assert!(newest(vec![reader(file)], "relay.service", 10).is_empty());
}

#[test]
fn a_file_cut_at_any_length_or_with_any_byte_changed_does_no_harm() {
    for form in [PLAIN, Form { keyed: true, compact: true, compression: 4, ..PLAIN }] {
        let whole = relay(form, 3);
        for length in 0..whole.len() {
            let found = newest(vec![reader(whole[..length].to_vec())], "relay.service", 10);
            assert!(found.len() <= 3);
        }
        for at in 0..whole.len() {
            for flip in [0xff, 0x01] {
                let mut damaged = whole.clone();
                damaged[at] ^= flip;
                let _ = newest(vec![reader(damaged)], "relay.service", 10).len();
            }
        }
    }
}

#[test]
fn a_chain_that_bites_its_tail_ends() {
    let mut maker = Maker::new(Form { slots: 1, ..PLAIN });
    maker.entry(1, &["_SYSTEMD_UNIT=relay.service", "MESSAGE=a"]);
    let object = maker.data("_SYSTEMD_UNIT=relay.service");
    maker.put(object + 24, object);
    assert!(newest(vec![reader(maker.file)], "other.service", 10).is_empty());
}

#[test]
fn the_hash_is_that_of_its_author() {
    // Self-test values of lookup3.c: hashlittle2 of "" and of "Four score and seven years ago".
    assert_eq!(jenkins(b""), 0xdead_beef_dead_beef);
    assert_eq!(jenkins(b"Four score and seven years ago"), 0x1777_0551_ce72_26e6);
}

#[test]
fn entries_can_be_asked_for_by_any_field() {
    let mut maker = Maker::new(PLAIN);
    for n in 0..6u64 {
        maker.entry(
            1000 + n,
            &[
                "_COMM=sudo",
                &format!("MESSAGE=   marta : TTY=pts/0 ; COMMAND=/usr/bin/systemctl stop edge {n}"),
            ],
        );
        maker.entry(
            1000 + n,
            &["_TRANSPORT=kernel", &format!("MESSAGE=Out of memory: Killed process {n} (nginx)")],
        );
        maker.entry(1000 + n, &["_SYSTEMD_UNIT=edge.service", &format!("MESSAGE=tide {n}")]);
    }
    let ask = |fields: &[&str], most| {
        let fields: Vec<String> = fields.iter().map(|f| (*f).to_owned()).collect();
        newest_with(vec![reader(maker.file.clone())], &fields, most)
            .into_iter()
            .map(|e| e.message)
            .collect::<Vec<_>>()
    };
    assert_eq!(
        ask(&["_TRANSPORT=kernel"], 2),
        ["Out of memory: Killed process 5 (nginx)", "Out of memory: Killed process 4 (nginx)"]
    );
    assert_eq!(ask(&["_COMM=sudo"], 100).len(), 6);
    assert_eq!(ask(&["_COMM=nobody"], 100), Vec::<String>::new());
    assert_eq!(ask(&["_COMM=sudo", "_TRANSPORT=kernel"], 100).len(), 12);
    let lines = newest(vec![reader(maker.file.clone())], "edge.service", 100);
    assert!(
        lines.len() == 6 && lines.iter().all(|e| e.message.starts_with("tide")),
        "a unit's own entries alone"
    );
}
