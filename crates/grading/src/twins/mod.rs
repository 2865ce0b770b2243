//! Twins: the sealed tests of a run, each under a name of its own, and about half of them changed so that what they assert
//! must not hold.
//!
//! An answer that shares a process with its tests can do anything there but know what it cannot tell: which
//! assertions of a run are the sealed ones and which were changed. A suite is taken apart by its syntax, written
//! anew for each run, and what each assertion came to is noted under a number whose meaning stays here. Two
//! runs complement each other: what is changed in one is as it was in the other.
//!
//! Only sealed files are parsed here, never an answer's.

mod edit;
mod findings;
mod go;
mod go_values;
mod java;
mod java_values;
mod javascript;
mod javascript_values;
mod literal;
mod python;
mod python_values;
mod rust;
mod rust_asserts;
mod rust_tables;
mod rust_values;
mod suite;
mod syntax;
mod syntaxes;
mod trace;

pub use self::findings::Findings;
pub use self::suite::{Choice, Level, Suite, Written};
pub use self::syntax::words;
pub use self::trace::Trace;
