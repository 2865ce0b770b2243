//! Agents that speak the Agent Client Protocol, version 1: JSON-RPC 2.0, a message a line, over standard
//! input and output (<https://agentclientprotocol.com>).
//!
//! The client that the protocol asks for runs inside, beside the agent: our own program, started there under
//! another name. So files are read and written and commands run where the agent is, with its rights and
//! within its limits, and nothing that it says is taken apart outside. The client reports over the run's
//! channel, which is believed no more than the agent itself: what counts is the files, and these are taken
//! by the sandbox, while everything inside stands still. A repair is a further prompt to the same agent.

mod asker;
mod client;
mod rpc;
mod terminals;
mod updates;
mod wire;

pub use asker::AcpAsker;
pub use client::{acp_client_main, is_acp_client};
