//! Maps and sets that are filled while a configuration is read, by the hundred thousand in a large one.
use foldhash::fast::RandomState;
use std::collections::{HashMap, HashSet};

/// A map by a name, a listener or the like. Its hasher is several times as fast as the standard one on short
/// keys, and seeded anew in each run: whoever writes a configuration cannot choose names that collide.
pub(crate) type NameMap<K, V> = HashMap<K, V, RandomState>;

/// A set of the same.
pub(crate) type NameSet<K> = HashSet<K, RandomState>;
