//! Subordinate users and groups of an ordinary user (subuid(5), newuidmap(1)): where there are some, each
//! run can be a user of its own without root.

use std::fs;
use std::io::{Read as _, Write as _};
use std::os::fd::OwnedFd;
use std::process::Command;

use nix::fcntl::OFlag;
use nix::unistd::{ForkResult, Pid, User, fork, getpid, pipe2};

use super::wait::{self, Waited};
use crate::job::Ending;

/// The first subordinate user in the zygote's user namespace.
pub const FIRST: u32 = 1 << 16;

/// The set-uid programs of the system that write the maps.
const MAPPERS: [&str; 2] = ["/usr/bin/newgidmap", "/usr/bin/newuidmap"];

/// Writes the maps of this process's user namespace, from outside of it.
pub struct Mapper {
    child: Pid,
    tell: OwnedFd,
    count: u32,
}

impl Mapper {
    /// Gets ready, before the namespace is made, to map this user and group to the user and group
    /// `inside`. `None` where the user has no subordinate users and groups, or the programs that map
    /// them are not there.
    pub fn ready(inside: u32, uid: u32, gid: u32) -> Option<Self> {
        let name = User::from_uid(uid.into()).ok()??.name;
        let of = |file: &str| range(&fs::read_to_string(file).ok()?, &name, uid);
        let (users, groups) = (of("/etc/subuid")?, of("/etc/subgid")?);
        if !MAPPERS.iter().all(|it| fs::exists(it).unwrap_or(false)) {
            return None;
        }
        let count = users.1.min(groups.1);
        let (hear, tell) = pipe2(OFlag::O_CLOEXEC).ok()?;
        let parent = getpid();
        // SAFETY: this process has one thread.
        match unsafe { fork() }.ok()? {
            ForkResult::Parent { child } => Some(Self { child, tell, count }),
            ForkResult::Child => {
                drop(tell);
                let failed_at = fs::File::from(hear).read(&mut [0]);
                // Groups first: without them the namespace can still be given its own user alone.
                let maps = [(MAPPERS[0], gid, groups.0), (MAPPERS[1], uid, users.0)];
                let done = failed_at.is_ok_and(|it| it == 1)
                    && maps.iter().all(|map| write_map(parent, inside, *map, count));
                // SAFETY: ends the process; nothing of the zygote's is to be run again here.
                unsafe { libc::_exit(i32::from(!done)) }
            }
        }
    }

    /// Writes the maps: this process's user and group, and the subordinate ones from [`FIRST`] on.
    /// Gives how many those are; `None` when it failed.
    pub fn map(self) -> Option<u32> {
        fs::File::from(self.tell).write_all(b"m").ok()?;
        let done = wait::for_child(self.child);
        matches!(done, Waited::Ended(_, Ending::Exited(0))).then_some(self.count)
    }
}

fn write_map(of: Pid, inside: u32, (program, own, first): (&str, u32, u32), count: u32) -> bool {
    let numbers = [inside, own, 1, FIRST, first, count].map(|it| it.to_string());
    Command::new(program)
        .arg(of.to_string())
        .args(numbers)
        .env_clear()
        .status()
        .is_ok_and(|it| it.success())
}

/// The first and the count of a user's range, by name or by number.
fn range(text: &str, name: &str, uid: u32) -> Option<(u32, u32)> {
    let number = uid.to_string();
    let of_user = |line: &str| {
        let mut parts = line.split(':');
        let who = parts.next()?;
        let range = (parts.next()?.trim().parse().ok()?, parts.next()?.trim().parse().ok()?);
        (who == name || who == number).then_some(range)
    };
    text.lines().find_map(of_user).filter(|it: &(u32, u32)| it.1 >= COUNT_MIN)
}

/// Fewer subordinate users than this are not worth it.
const COUNT_MIN: u32 = 1024;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_range_is_found_by_name_or_number() {
        let text = "clerk:100000:65536\n1001:200000:65536\npilot:7:12\nodd\n";
        assert_eq!(range(text, "clerk", 5), Some((100_000, 65_536)));
        assert_eq!(range(text, "nobody", 1001), Some((200_000, 65_536)));
        assert_eq!(range(text, "pilot", 5), None);
        assert_eq!(range(text, "", 5), None);
    }
}
