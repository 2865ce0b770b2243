//! One file a command.

pub mod demo;
pub mod run;
pub mod show;
pub mod standin;
pub mod standings;
