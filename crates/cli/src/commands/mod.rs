//! One file a command.

pub mod compare;
pub mod demo;
pub mod doctor;
pub mod files;
pub mod forecast;
pub mod gate;
pub mod note;
pub mod read;
pub mod regrade;
pub mod report;
pub mod run;
pub mod show;
pub mod standin;
pub mod standings;
pub mod vet;
pub mod watch;
