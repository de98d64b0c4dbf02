//! What would really run: shared libraries of an executable, and the Java runtime that a service picks up.
pub mod elf;
pub mod java;
pub mod shell;
