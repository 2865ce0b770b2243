//! Agents: programs that change the files of a task themselves.
//!
//! One runs in the sandbox, in a view of the prepared repository (or in a folder of the given files), with a
//! home of its own, and reaches nothing but the relay. What it changed is its answer, whatever it says.

mod acp;
mod installation;
mod program;
mod work;

pub use acp::{AcpAsker, acp_client_main, is_acp_client};
pub use program::AgentAsker;
pub(crate) use work::{STUCK, chain, ended, so_far, submission, taken, view_word};
