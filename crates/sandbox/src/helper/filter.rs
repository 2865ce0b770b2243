//! The system-call filter: what generated code never needs is refused by the kernel.
//!
//! A classic BPF program (seccomp(2)): the architecture first, then a binary search over the
//! numbers of refused calls, so that an ordinary call is decided in a few comparisons; then the
//! calls that are refused by an argument only. What is refused fails with `EPERM`, as it would for
//! want of rights, so honest programs that probe go on. Where the kernel can, it asks the supervisor
//! for that answer, who so knows what was tried. The 32-bit entry, through which a 64-bit filter
//! could be passed by, ends the process.
//!
//! Without namespaces the filter also stands for those: no sockets but pairs, and, while the
//! program is the user's own user, no changing of modes, owners, times and attributes by path.

use std::io;
use std::os::fd::{FromRawFd as _, OwnedFd};

use super::identity::Identity;
use crate::tier::{Layer, LayerState, Tier};

/// `struct sock_filter`, one instruction.
type Instruction = libc::sock_filter;

#[cfg(target_arch = "x86_64")]
const ARCH: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
const ARCH: u32 = 0xc000_00b7;

/// The first number that was not looked at when these lists were made. What a newer kernel has is
/// reported to be missing, and so is the x32 entry of an x86-64 kernel, whose numbers are far higher.
const UNKNOWN_FROM: u32 = 463;

/// Calls that are refused whatever their arguments.
const REFUSED: &[(libc::c_long, &str)] = &[
    // Mounts, in the old way and the new.
    (libc::SYS_mount, "mount"),
    (libc::SYS_umount2, "umount2"),
    (libc::SYS_pivot_root, "pivot_root"),
    (libc::SYS_chroot, "chroot"),
    (libc::SYS_open_tree, "open_tree"),
    (libc::SYS_move_mount, "move_mount"),
    (libc::SYS_fsopen, "fsopen"),
    (libc::SYS_fsconfig, "fsconfig"),
    (libc::SYS_fsmount, "fsmount"),
    (libc::SYS_fspick, "fspick"),
    (libc::SYS_mount_setattr, "mount_setattr"),
    (libc::SYS_name_to_handle_at, "name_to_handle_at"),
    (libc::SYS_open_by_handle_at, "open_by_handle_at"),
    (libc::SYS_quotactl, "quotactl"),
    (libc::SYS_quotactl_fd, "quotactl_fd"),
    // Namespaces again.
    (libc::SYS_unshare, "unshare"),
    (libc::SYS_setns, "setns"),
    // Other processes.
    (libc::SYS_ptrace, "ptrace"),
    (libc::SYS_process_vm_readv, "process_vm_readv"),
    (libc::SYS_process_vm_writev, "process_vm_writev"),
    (libc::SYS_process_madvise, "process_madvise"),
    (libc::SYS_pidfd_getfd, "pidfd_getfd"),
    (libc::SYS_kcmp, "kcmp"),
    (libc::SYS_ioprio_set, "ioprio_set"),
    // Keys.
    (libc::SYS_add_key, "add_key"),
    (libc::SYS_request_key, "request_key"),
    (libc::SYS_keyctl, "keyctl"),
    // Parts of the kernel that are attacked more than they are used.
    (libc::SYS_bpf, "bpf"),
    (libc::SYS_perf_event_open, "perf_event_open"),
    (libc::SYS_userfaultfd, "userfaultfd"),
    (libc::SYS_io_uring_setup, "io_uring_setup"),
    (libc::SYS_io_uring_enter, "io_uring_enter"),
    (libc::SYS_io_uring_register, "io_uring_register"),
    (libc::SYS_fanotify_init, "fanotify_init"),
    // How many of these there are is counted for the whole machine.
    (libc::SYS_io_setup, "io_setup"),
    (libc::SYS_lookup_dcookie, "lookup_dcookie"),
    (libc::SYS_nfsservctl, "nfsservctl"),
    // The machine.
    (libc::SYS_init_module, "init_module"),
    (libc::SYS_finit_module, "finit_module"),
    (libc::SYS_delete_module, "delete_module"),
    (libc::SYS_kexec_load, "kexec_load"),
    (libc::SYS_kexec_file_load, "kexec_file_load"),
    (libc::SYS_reboot, "reboot"),
    (libc::SYS_swapon, "swapon"),
    (libc::SYS_swapoff, "swapoff"),
    (libc::SYS_settimeofday, "settimeofday"),
    (libc::SYS_clock_settime, "clock_settime"),
    (libc::SYS_clock_adjtime, "clock_adjtime"),
    (libc::SYS_adjtimex, "adjtimex"),
    (libc::SYS_sethostname, "sethostname"),
    (libc::SYS_setdomainname, "setdomainname"),
    (libc::SYS_acct, "acct"),
    (libc::SYS_syslog, "syslog"),
    (libc::SYS_vhangup, "vhangup"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_iopl, "iopl"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_ioperm, "ioperm"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_modify_ldt, "modify_ldt"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_uselib, "uselib"),
];

/// Calls that are refused as well where a program is the user's own user and sees the user's files.
const REFUSED_TO_OWNER: &[(libc::c_long, &str)] = &[
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_chmod, "chmod"),
    (libc::SYS_fchmod, "fchmod"),
    (libc::SYS_fchmodat, "fchmodat"),
    (FCHMODAT2, "fchmodat2"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_chown, "chown"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_lchown, "lchown"),
    (libc::SYS_fchown, "fchown"),
    (libc::SYS_fchownat, "fchownat"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_utime, "utime"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_utimes, "utimes"),
    #[cfg(target_arch = "x86_64")]
    (libc::SYS_futimesat, "futimesat"),
    (libc::SYS_utimensat, "utimensat"),
    (libc::SYS_setxattr, "setxattr"),
    (libc::SYS_lsetxattr, "lsetxattr"),
    (libc::SYS_fsetxattr, "fsetxattr"),
    (libc::SYS_removexattr, "removexattr"),
    (libc::SYS_lremovexattr, "lremovexattr"),
    (libc::SYS_fremovexattr, "fremovexattr"),
    // What is the user's, and not in any file: memory, semaphores and queues by key.
    (libc::SYS_shmget, "shmget"),
    (libc::SYS_shmat, "shmat"),
    (libc::SYS_shmctl, "shmctl"),
    (libc::SYS_semget, "semget"),
    (libc::SYS_semop, "semop"),
    (libc::SYS_semtimedop, "semtimedop"),
    (libc::SYS_semctl, "semctl"),
    (libc::SYS_msgget, "msgget"),
    (libc::SYS_msgsnd, "msgsnd"),
    (libc::SYS_msgrcv, "msgrcv"),
    (libc::SYS_msgctl, "msgctl"),
    (libc::SYS_mq_open, "mq_open"),
    (libc::SYS_mq_unlink, "mq_unlink"),
];

/// Calls that are refused as well where no control group counts memory: what they hold need not be
/// in any process's memory, so looking at processes does not see it.
const REFUSED_UNCOUNTED: &[(libc::c_long, &str)] = &[
    (libc::SYS_memfd_create, "memfd_create"),
    (libc::SYS_memfd_secret, "memfd_secret"),
    (libc::SYS_shmget, "shmget"),
    (libc::SYS_msgget, "msgget"),
];

/// `fchmodat2`, which the C library's bindings do not have yet.
const FCHMODAT2: libc::c_long = 452;

/// Calls whose first argument is a process: its limits, its place among others.
const OF_PROCESSES: &[libc::c_long] = &[
    libc::SYS_prlimit64,
    libc::SYS_sched_setscheduler,
    libc::SYS_sched_setparam,
    libc::SYS_sched_setattr,
    libc::SYS_sched_setaffinity,
];

/// `clone` flags that make namespaces: all but `CLONE_NEWTIME`, which `clone` cannot take.
const NAMESPACE_FLAGS: u32 = 0x7e02_0000;

/// Socket families that are left: Unix, IPv4, IPv6. The network namespace holds none of the
/// machine's interfaces, but other families, such as `AF_VSOCK`, pass it by.
const FAMILIES: &[u32] = &[1, 2, 10];

/// `SOCK_RAW` and `SOCK_PACKET`; the upper bits of the type are flags.
const RAW_TYPES: &[u32] = &[3, 10];
const TYPE_MASK: u32 = 0xf;

/// Terminal requests that put input into somebody else's shell: `TIOCSTI`, `TIOCLINUX`.
const TERMINAL_TRICKS: &[u32] = &[0x5412, 0x541c];

const LOAD: u16 = (libc::BPF_LD | libc::BPF_W | libc::BPF_ABS) as u16;
const EQUAL: u16 = (libc::BPF_JMP | libc::BPF_JEQ | libc::BPF_K) as u16;
const AT_LEAST: u16 = (libc::BPF_JMP | libc::BPF_JGE | libc::BPF_K) as u16;
const ANY_BIT: u16 = (libc::BPF_JMP | libc::BPF_JSET | libc::BPF_K) as u16;
const AND: u16 = (libc::BPF_ALU | libc::BPF_AND | libc::BPF_K) as u16;
const RETURN: u16 = (libc::BPF_RET | libc::BPF_K) as u16;

/// Offsets in `struct seccomp_data`; arguments are 64 bits wide, their low halves come first.
const NUMBER_AT: u32 = 0;
const ARCH_AT: u32 = 4;
const FIRST_ARGUMENT_AT: u32 = 16;
const SECOND_ARGUMENT_AT: u32 = 24;

/// What the filter is to do beyond its list.
#[derive(Debug, Clone, Copy)]
pub struct FilterRules {
    /// No sockets but pairs.
    sockets: bool,
    /// The list for a program that is the user's own user, too.
    owner: bool,
    /// Whether the supervisor answers for the kernel.
    listened: bool,
    /// Memory that is in no process is not counted, so there is to be none.
    uncounted: bool,
}

impl FilterRules {
    /// What a tier asks of the filter.
    pub fn of(tier: Tier, identity: Identity, has_group: bool) -> Self {
        Self {
            sockets: tier == Tier::Full,
            owner: tier == Tier::Plain && !identity.changes,
            listened: can_listen(),
            uncounted: !has_group,
        }
    }

    fn refused(self) -> impl Iterator<Item = &'static (libc::c_long, &'static str)> {
        let owner = REFUSED_TO_OWNER.iter().filter(move |_| self.owner);
        let uncounted = REFUSED_UNCOUNTED.iter().filter(move |_| self.uncounted);
        REFUSED.iter().chain(owner).chain(uncounted)
    }

    /// What answers a call of the list.
    fn answer(self) -> Instruction {
        if self.listened { step(RETURN, libc::SECCOMP_RET_USER_NOTIF) } else { refuse(libc::EPERM) }
    }
}

/// The name of a call that is refused.
pub fn name_of(number: libc::c_long) -> Option<&'static str> {
    let mut all = REFUSED.iter().chain(REFUSED_TO_OWNER).chain(REFUSED_UNCOUNTED);
    all.find(|it| it.0 == number).map(|it| it.1)
}

/// `SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV` (Linux 5.19): whoever asks waits for the answer, whatever
/// signals come in between.
const WAIT_FOR_ANSWER: libc::c_ulong = 1 << 5;

/// Whether the kernel knows an action of filters.
fn knows(action: u32) -> bool {
    // SAFETY: a plain call; the kernel reads the number.
    let done = unsafe {
        libc::syscall(libc::SYS_seccomp, libc::SECCOMP_GET_ACTION_AVAIL, 0_u32, &raw const action)
    };
    done == 0
}

fn can_listen() -> bool {
    knows(libc::SECCOMP_RET_USER_NOTIF)
}

/// The layer, as it was found.
pub fn layer() -> Layer {
    let name = "system-call filter";
    let count = REFUSED.len();
    if !knows(libc::SECCOMP_RET_ERRNO) {
        let advice = "use a kernel with CONFIG_SECCOMP_FILTER";
        return Layer::new(name, LayerState::Missing, "the kernel has none", advice);
    }
    if can_listen() {
        let found = format!("{count} calls refused, and by argument; what was refused is reported");
        return Layer::new(name, LayerState::Active, found, "");
    }
    let found = format!("{count} calls refused, and by argument; the kernel does not report which");
    Layer::new(name, LayerState::Partly, found, "use Linux 5.0 or newer to see what was refused")
}

fn refuse(error: i32) -> Instruction {
    step(RETURN, libc::SECCOMP_RET_ERRNO | error as u32)
}

const fn step(code: u16, k: u32) -> Instruction {
    Instruction { code, jt: 0, jf: 0, k }
}

const fn jump(code: u16, k: u32, jt: u8, jf: u8) -> Instruction {
    Instruction { code, jt, jf, k }
}

/// Puts the filter on the calling process and all that it starts. Gives the supervisor's end, where
/// the kernel has one.
pub fn install(rules: FilterRules) -> io::Result<Option<OwnedFd>> {
    let program = program(rules);
    let fds = libc::sock_fprog { len: program.len() as u16, filter: program.as_ptr().cast_mut() };
    let put = |flags: libc::c_ulong| {
        // SAFETY: `handed` describes `program`, which outlives the call; the kernel copies and
        // checks it.
        unsafe {
            libc::syscall(libc::SYS_seccomp, libc::SECCOMP_SET_MODE_FILTER, flags, &raw const fds)
        }
    };
    let listened = libc::SECCOMP_FILTER_FLAG_NEW_LISTENER;
    let done = match rules.listened {
        true => match put(listened | WAIT_FOR_ANSWER) {
            fd if fd >= 0 => fd,
            _ => put(listened),
        },
        false => put(0),
    };
    match done {
        0 if !rules.listened => Ok(None),
        // SAFETY: the kernel has just made this descriptor for us alone.
        fd if fd >= 0 => Ok(Some(unsafe { OwnedFd::from_raw_fd(fd as i32) })),
        // A filter that is listened to may stand above this one already: one is all there may be.
        _ if rules.listened => install(FilterRules { listened: false, ..rules }),
        _ => Err(io::Error::last_os_error()),
    }
}

/// The whole program.
fn program(rules: FilterRules) -> Vec<Instruction> {
    let mut out = vec![
        step(LOAD, ARCH_AT),
        jump(EQUAL, ARCH, 1, 0),
        step(RETURN, libc::SECCOMP_RET_KILL_PROCESS),
        step(LOAD, NUMBER_AT),
        jump(AT_LEAST, UNKNOWN_FROM, 0, 1),
        refuse(libc::ENOSYS),
    ];
    by_argument(rules, &mut out);
    let mut numbers: Vec<u32> = rules.refused().map(|it| it.0 as u32).collect();
    numbers.sort_unstable();
    numbers.dedup();
    search(&numbers, rules.answer(), &mut out);
    out
}

/// Calls that are refused by an argument. Each piece ends with the number loaded again, or returns.
fn by_argument(rules: FilterRules, out: &mut Vec<Instruction>) {
    // A library that finds no `clone3` uses `clone`, whose flags can be looked at.
    only(out, libc::SYS_clone3, &[refuse(libc::ENOSYS)]);
    only(
        out,
        libc::SYS_clone,
        &[
            step(LOAD, FIRST_ARGUMENT_AT),
            jump(ANY_BIT, NAMESPACE_FLAGS, 0, 1),
            refuse(libc::EPERM),
            step(RETURN, libc::SECCOMP_RET_ALLOW),
        ],
    );
    // How other processes are treated, the supervisor among them: 0 is the caller itself.
    for call in OF_PROCESSES {
        let of_others = [
            step(LOAD, FIRST_ARGUMENT_AT),
            jump(EQUAL, 0, 1, 0),
            refuse(libc::EPERM),
            step(RETURN, libc::SECCOMP_RET_ALLOW),
        ];
        only(out, *call, &of_others);
    }
    let priority = [
        step(LOAD, FIRST_ARGUMENT_AT),
        jump(EQUAL, libc::PRIO_PROCESS, 0, 2),
        step(LOAD, SECOND_ARGUMENT_AT),
        jump(EQUAL, 0, 1, 0),
        refuse(libc::EPERM),
        step(RETURN, libc::SECCOMP_RET_ALLOW),
    ];
    only(out, libc::SYS_setpriority, &priority);
    if !rules.sockets {
        only(out, libc::SYS_socket, &[refuse(libc::EAFNOSUPPORT)]);
    }
    for call in [libc::SYS_socket, libc::SYS_socketpair] {
        let mut body = vec![step(LOAD, FIRST_ARGUMENT_AT)];
        for (index, &family) in FAMILIES.iter().enumerate() {
            // Over the families that follow, and over the refusal.
            body.push(jump(EQUAL, family, (FAMILIES.len() - index) as u8, 0));
        }
        body.push(refuse(libc::EAFNOSUPPORT));
        body.push(step(LOAD, SECOND_ARGUMENT_AT));
        body.push(step(AND, TYPE_MASK));
        for &kind in RAW_TYPES {
            body.push(jump(EQUAL, kind, 0, 1));
            body.push(refuse(libc::EPERM));
        }
        body.push(step(RETURN, libc::SECCOMP_RET_ALLOW));
        only(out, call, &body);
    }
    let mut body = vec![step(LOAD, SECOND_ARGUMENT_AT)];
    for &request in TERMINAL_TRICKS {
        body.push(jump(EQUAL, request, 0, 1));
        body.push(refuse(libc::EPERM));
    }
    body.push(step(RETURN, libc::SECCOMP_RET_ALLOW));
    only(out, libc::SYS_ioctl, &body);
}

/// A piece for one call, jumped over for any other. It must return.
fn only(out: &mut Vec<Instruction>, call: libc::c_long, body: &[Instruction]) {
    out.push(jump(EQUAL, call as u32, 0, body.len() as u8));
    out.extend_from_slice(body);
}

/// A binary search over sorted numbers: found is refused, not found is allowed.
fn search(numbers: &[u32], answer: Instruction, out: &mut Vec<Instruction>) {
    if numbers.len() <= 3 {
        for &number in numbers {
            out.push(jump(EQUAL, number, 0, 1));
            out.push(answer);
        }
        out.push(step(RETURN, libc::SECCOMP_RET_ALLOW));
        return;
    }
    let (low, high) = numbers.split_at(numbers.len() / 2);
    let mut low_part = Vec::new();
    search(low, answer, &mut low_part);
    // A jump reaches 255 instructions; half of the list is far shorter.
    out.push(jump(AT_LEAST, high[0], low_part.len() as u8, 0));
    out.extend(low_part);
    search(high, answer, out);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What the program says to a call, by running it as the kernel would.
    fn says(arch: u32, number: u32, args: [u32; 2]) -> u32 {
        says_by(FULL, arch, number, args)
    }

    const FULL: FilterRules =
        FilterRules { sockets: true, owner: false, listened: false, uncounted: false };

    fn says_by(rules: FilterRules, arch: u32, number: u32, args: [u32; 2]) -> u32 {
        let program = program(rules);
        let (mut at, mut loaded) = (0, 0);
        loop {
            let it = program[at];
            let holds = match it.code {
                LOAD => {
                    loaded = match it.k {
                        NUMBER_AT => number,
                        ARCH_AT => arch,
                        FIRST_ARGUMENT_AT => args[0],
                        _ => args[1],
                    };
                    true
                }
                AND => {
                    loaded &= it.k;
                    true
                }
                RETURN => return it.k,
                EQUAL => loaded == it.k,
                AT_LEAST => loaded >= it.k,
                _ => loaded & it.k != 0,
            };
            at += 1 + usize::from(if holds { it.jt } else { it.jf });
        }
    }

    const ALLOW: u32 = libc::SECCOMP_RET_ALLOW;

    fn error(number: i32) -> u32 {
        libc::SECCOMP_RET_ERRNO | number as u32
    }

    #[test]
    fn every_refused_call_is_refused_and_every_other_goes_through() {
        let by_argument = [
            libc::SYS_clone,
            libc::SYS_clone3,
            libc::SYS_socket,
            libc::SYS_socketpair,
            libc::SYS_ioctl,
            libc::SYS_setpriority,
        ];
        for number in (0..600).filter(|number| !by_argument.contains(number)) {
            let refused = REFUSED.iter().any(|it| it.0 == number);
            let expected = match refused {
                true => error(libc::EPERM),
                false if number >= UNKNOWN_FROM.into() => error(libc::ENOSYS),
                false => ALLOW,
            };
            assert_eq!(says(ARCH, number as u32, [0, 0]), expected, "{number}");
        }
    }

    #[test]
    fn arguments_decide_where_they_must() {
        let call = |number: libc::c_long, first, second| says(ARCH, number as u32, [first, second]);
        assert_eq!(call(libc::SYS_clone, 0x0100_0000 | 17, 0), ALLOW);
        assert_eq!(call(libc::SYS_clone, 0x1000_0000 | 17, 0), error(libc::EPERM));
        assert_eq!(call(libc::SYS_clone3, 0, 0), error(libc::ENOSYS));
        assert_eq!(call(libc::SYS_socket, 1, 1 | 0o2_000_000), ALLOW);
        assert_eq!(call(libc::SYS_socket, 2, 2), ALLOW);
        assert_eq!(call(libc::SYS_socket, 10, 1), ALLOW);
        assert_eq!(call(libc::SYS_socket, 2, 3 | 0o2_000_000), error(libc::EPERM));
        for family in [0, 16, 17, 38, 40] {
            assert_eq!(call(libc::SYS_socket, family, 1), error(libc::EAFNOSUPPORT), "{family}");
        }
        assert_eq!(call(libc::SYS_ioctl, 0, 0x5412), error(libc::EPERM));
        assert_eq!(call(libc::SYS_ioctl, 0, 0x5401), ALLOW);
        for number in OF_PROCESSES {
            assert_eq!(call(*number, 0, 7), ALLOW);
            assert_eq!(call(*number, 1, 0), error(libc::EPERM));
        }
        assert_eq!(call(libc::SYS_setpriority, 0, 0), ALLOW);
        for (which, who) in [(0, 1), (1, 0), (2, 0)] {
            assert_eq!(call(libc::SYS_setpriority, which, who), error(libc::EPERM));
        }
    }

    #[test]
    fn without_namespaces_there_are_no_sockets_and_no_changed_modes() {
        let plain = FilterRules { sockets: false, owner: true, listened: true, uncounted: true };
        let call = |number: libc::c_long, first| says_by(plain, ARCH, number as u32, [first, 1]);
        for family in [1, 2, 10, 16] {
            assert_eq!(call(libc::SYS_socket, family), error(libc::EAFNOSUPPORT));
        }
        assert_eq!(call(libc::SYS_socketpair, 1), ALLOW);
        let failed_at = libc::SECCOMP_RET_USER_NOTIF;
        let refused = [libc::SYS_fchmodat, libc::SYS_utimensat, libc::SYS_ptrace, FCHMODAT2];
        for number in refused.into_iter().chain([libc::SYS_memfd_create, libc::SYS_shmget]) {
            assert_eq!(call(number, 0), failed_at);
            assert!(name_of(number).is_some());
        }
        assert_eq!(call(libc::SYS_openat, 0), ALLOW);
        assert_eq!(call(libc::SYS_clone, 0x1000_0000), error(libc::EPERM));
    }

    #[test]
    fn other_entries_of_the_kernel_are_shut() {
        let kill = libc::SECCOMP_RET_KILL_PROCESS;
        assert_eq!(says(0x4000_0003, libc::SYS_mount as u32, [0, 0]), kill);
        assert_eq!(says(ARCH, 0x4000_0000 | libc::SYS_read as u32, [0, 0]), error(libc::ENOSYS));
    }
}
