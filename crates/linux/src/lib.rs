//! Linux as a host: the live machine, a directory in its place, and the one writer that changes a machine.
#![forbid(unsafe_code)]

mod cage;
mod descent;
mod descriptors;
mod files;
mod journal_files;
mod live;
mod manager;
mod netlink;
mod patience;
mod processes;
mod procfs;
mod state;
mod tree;
mod writer;

pub use live::LiveHost;
pub use state::{make_private_directory, read_trusted, write_output};
pub use tree::TreeHost;
pub use writer::{LinuxWriter, Reach};
