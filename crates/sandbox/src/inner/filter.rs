//! The system-call filter: what generated code never needs is refused by the kernel.
//!
//! A classic BPF program (seccomp(2)): the architecture first, then a binary search over the
//! numbers of refused calls, so that an ordinary call is settled in a few comparisons; then the
//! calls that are refused by an argument only. What is refused fails with `EPERM`, as it would for
//! want of rights, so honest programs that probe go on. The 32-bit entry, through which a 64-bit
//! filter could be passed by, ends the process.

use std::io;

/// `struct sock_filter`, one instruction.
type Instruction = libc::sock_filter;

#[cfg(target_arch = "x86_64")]
const ARCH: u32 = 0xc000_003e;
#[cfg(target_arch = "aarch64")]
const ARCH: u32 = 0xc000_00b7;

/// Numbers with this bit are the x32 entry of an x86-64 kernel.
const X32_BIT: u32 = 0x4000_0000;

/// Calls that are refused whatever their arguments.
const REFUSED: &[libc::c_long] = &[
    // Mounts, in the old way and the new.
    libc::SYS_mount,
    libc::SYS_umount2,
    libc::SYS_pivot_root,
    libc::SYS_chroot,
    libc::SYS_open_tree,
    libc::SYS_move_mount,
    libc::SYS_fsopen,
    libc::SYS_fsconfig,
    libc::SYS_fsmount,
    libc::SYS_fspick,
    libc::SYS_mount_setattr,
    libc::SYS_name_to_handle_at,
    libc::SYS_open_by_handle_at,
    libc::SYS_quotactl,
    libc::SYS_quotactl_fd,
    // Namespaces again.
    libc::SYS_unshare,
    libc::SYS_setns,
    // Other processes.
    libc::SYS_ptrace,
    libc::SYS_process_vm_readv,
    libc::SYS_process_vm_writev,
    libc::SYS_process_madvise,
    libc::SYS_pidfd_getfd,
    libc::SYS_kcmp,
    // Keys.
    libc::SYS_add_key,
    libc::SYS_request_key,
    libc::SYS_keyctl,
    // Parts of the kernel that are attacked more than they are used.
    libc::SYS_bpf,
    libc::SYS_perf_event_open,
    libc::SYS_userfaultfd,
    libc::SYS_io_uring_setup,
    libc::SYS_io_uring_enter,
    libc::SYS_io_uring_register,
    libc::SYS_fanotify_init,
    libc::SYS_lookup_dcookie,
    libc::SYS_nfsservctl,
    // The machine.
    libc::SYS_init_module,
    libc::SYS_finit_module,
    libc::SYS_delete_module,
    libc::SYS_kexec_load,
    libc::SYS_kexec_file_load,
    libc::SYS_reboot,
    libc::SYS_swapon,
    libc::SYS_swapoff,
    libc::SYS_settimeofday,
    libc::SYS_clock_settime,
    libc::SYS_clock_adjtime,
    libc::SYS_adjtimex,
    libc::SYS_sethostname,
    libc::SYS_setdomainname,
    libc::SYS_acct,
    libc::SYS_syslog,
    libc::SYS_vhangup,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_iopl,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_ioperm,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_modify_ldt,
    #[cfg(target_arch = "x86_64")]
    libc::SYS_uselib,
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

fn refuse(error: i32) -> Instruction {
    step(RETURN, libc::SECCOMP_RET_ERRNO | error as u32)
}

const fn step(code: u16, k: u32) -> Instruction {
    Instruction { code, jt: 0, jf: 0, k }
}

const fn jump(code: u16, k: u32, jt: u8, jf: u8) -> Instruction {
    Instruction { code, jt, jf, k }
}

/// Puts the filter on the calling process and all that it starts.
pub fn install() -> io::Result<()> {
    let program = program();
    let handed =
        libc::sock_fprog { len: program.len() as u16, filter: program.as_ptr().cast_mut() };
    // SAFETY: `handed` describes `program`, which outlives the call; the kernel copies and checks it.
    let done = unsafe {
        libc::syscall(libc::SYS_seccomp, libc::SECCOMP_SET_MODE_FILTER, 0_u32, &raw const handed)
    };
    if done == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// The whole program.
fn program() -> Vec<Instruction> {
    let mut out = vec![
        step(LOAD, ARCH_AT),
        jump(EQUAL, ARCH, 1, 0),
        step(RETURN, libc::SECCOMP_RET_KILL_PROCESS),
        step(LOAD, NUMBER_AT),
        jump(AT_LEAST, X32_BIT, 0, 1),
        refuse(libc::ENOSYS),
    ];
    by_argument(&mut out);
    let mut numbers: Vec<u32> = REFUSED.iter().map(|&number| number as u32).collect();
    numbers.sort_unstable();
    search(&numbers, &mut out);
    out
}

/// Calls that are refused by an argument. Each piece ends with the number loaded again, or returns.
fn by_argument(out: &mut Vec<Instruction>) {
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
fn search(numbers: &[u32], out: &mut Vec<Instruction>) {
    if numbers.len() <= 3 {
        for &number in numbers {
            out.push(jump(EQUAL, number, 0, 1));
            out.push(refuse(libc::EPERM));
        }
        out.push(step(RETURN, libc::SECCOMP_RET_ALLOW));
        return;
    }
    let (low, high) = numbers.split_at(numbers.len() / 2);
    let mut low_part = Vec::new();
    search(low, &mut low_part);
    // A jump reaches 255 instructions; half of the list is far shorter.
    out.push(jump(AT_LEAST, high[0], low_part.len() as u8, 0));
    out.extend(low_part);
    search(high, out);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What the program says to a call, by running it as the kernel would.
    fn says(arch: u32, number: u32, args: [u32; 2]) -> u32 {
        let program = program();
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
        ];
        for number in (0..600).filter(|number| !by_argument.contains(number)) {
            let refused = REFUSED.contains(&number);
            let expected = if refused { error(libc::EPERM) } else { ALLOW };
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
    }

    #[test]
    fn other_entries_of_the_kernel_are_shut() {
        let kill = libc::SECCOMP_RET_KILL_PROCESS;
        assert_eq!(says(0x4000_0003, libc::SYS_mount as u32, [0, 0]), kill);
        assert_eq!(says(ARCH, X32_BIT | libc::SYS_read as u32, [0, 0]), error(libc::ENOSYS));
    }
}
