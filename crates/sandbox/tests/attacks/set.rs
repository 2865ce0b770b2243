//! The attacks. Each prints `ESCAPED` when it got what it wanted; some are judged by what is left
//! behind. `{…}` stands for what the environment has set up outside of the sandbox.

/// What an attack is written in.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum With {
    Shell,
    Python,
    JavaScript,
    C,
}

/// One hostile program.
pub struct Attack {
    pub name: &'static str,
    pub with: With,
    pub code: &'static str,
}

const fn shell(name: &'static str, code: &'static str) -> Attack {
    Attack { name, with: With::Shell, code }
}

const fn python(name: &'static str, code: &'static str) -> Attack {
    Attack { name, with: With::Python, code }
}

const fn node(name: &'static str, code: &'static str) -> Attack {
    Attack { name, with: With::JavaScript, code }
}

const fn c(name: &'static str, code: &'static str) -> Attack {
    Attack { name, with: With::C, code }
}

/// What every attack in Python may use: calls by number, through the C library.
pub const PYTHON_HEAD: &str = "import ctypes, os, socket, struct, sys, time\n\
    libc = ctypes.CDLL(None, use_errno=True)\n\
    def call(*a):\n    return libc.syscall(*[ctypes.c_long(x) if isinstance(x, int) else x for x in a])\n\
    def won(*what):\n    print('ESCAPED', *what, flush=True)\n";

/// What every attack in C may use.
pub const C_HEAD: &str = "#define _GNU_SOURCE\n#include <errno.h>\n#include <fcntl.h>\n\
    #include <linux/capability.h>\n#include <sched.h>\n#include <signal.h>\n#include <stdio.h>\n\
    #include <stdlib.h>\n#include <string.h>\n#include <sys/mman.h>\n#include <sys/mount.h>\n\
    #include <sys/prctl.h>\n#include <sys/ptrace.h>\n#include <sys/resource.h>\n\
    #include <sys/stat.h>\n#include <sys/syscall.h>\n#include <sys/uio.h>\n#include <sys/wait.h>\n\
    #include <unistd.h>\n#define WON(what) do { puts(\"ESCAPED \" what); fflush(stdout); } while (0)\n";

/// All of them.
pub const ATTACKS: &[Attack] = &[
    // Files of the machine.
    shell("read a file outside", "cat {SECRET_FILE} && echo ESCAPED"),
    shell(
        "read it by way of the root of another process",
        "for p in /proc/[0-9]*; do cat $p/root{SECRET_FILE} $p/cwd{SECRET_FILE} 2>/dev/null && echo ESCAPED; done",
    ),
    shell("list the folder outside", "ls {OUTSIDE}/* && echo ESCAPED"),
    shell("write outside", "echo x > {OUTSIDE}/new && echo ESCAPED"),
    shell(
        "change what is outside",
        "echo x >> {SECRET_FILE} && echo ESCAPED; rm -f {SECRET_FILE} && test ! -e {SECRET_FILE} && echo x",
    ),
    shell(
        "link to what is outside",
        "ln -s {SECRET_FILE} a; ln {SECRET_FILE} b; cat a b && echo ESCAPED",
    ),
    shell("passwords", "cat /etc/shadow && echo ESCAPED"),
    shell(
        "homes",
        "for d in /root /home/*; do ls -A $d/* 2>/dev/null | grep . && echo ESCAPED; done",
    ),
    shell(
        "write to system folders",
        "for d in /usr /usr/bin /etc /opt /lib; do echo x > $d/x && echo ESCAPED; done",
    ),
    shell("overwrite the shell", "cp /bin/ls /bin/sh; echo x > /usr/bin/env && echo ESCAPED"),
    shell(
        "kernel settings",
        "for f in /proc/sys/kernel/core_pattern /proc/sys/kernel/hostname /proc/sys/vm/overcommit_memory /proc/sysrq-trigger /proc/sys/fs/file-max /proc/sys/kernel/modprobe; do (echo x > $f) 2>/dev/null && echo ESCAPED $f; done",
    ),
    shell(
        "devices",
        "for f in /dev/mem /dev/kmem /dev/port /dev/sda /dev/vda /dev/kvm /dev/fuse /dev/tty /dev/console /dev/ptmx; do (: < $f) 2>/dev/null && echo ESCAPED $f; done; mknod d c 1 1 && echo ESCAPED",
    ),
    shell(
        "control groups",
        "for f in /sys/fs/cgroup/*/cgroup.procs /sys/fs/cgroup/cgroup.procs; do (echo $$ > $f) 2>/dev/null && echo ESCAPED $f; done; mount -t cgroup x /tmp && echo ESCAPED",
    ),
    // Other processes.
    shell(
        "the starter's secrets",
        "for p in /proc/[0-9]*; do tr '\\0' '\\n' < $p/environ 2>/dev/null | grep {SECRET} && echo ESCAPED; done",
    ),
    shell(
        "memory of the first process",
        "for p in 1 {VICTIM} $PPID; do (: >> /proc/$p/mem) 2>/dev/null && echo ESCAPED; (head -c 1 /proc/$p/maps) 2>/dev/null | grep . && echo ESCAPED; done",
    ),
    shell("end a process outside", "kill -9 {VICTIM} && echo ESCAPED"),
    shell("end all there are", "trap '' TERM; kill -STOP 1; kill -9 -1"),
    python(
        "stop the supervisor",
        "import signal\nfor p in (1, os.getppid()):\n    for s in (signal.SIGKILL, signal.SIGSTOP):\n        try: os.kill(p, s)\n        except OSError: pass\ntime.sleep(60)",
    ),
    python(
        "trace the others",
        "for p in (1, os.getppid(), {VICTIM}):\n    if call(101, 16, p, 0, 0) == 0 or call(101, 0x4206, p, 0, 0) == 0: won()",
    ),
    python(
        "read the others' memory",
        "b = ctypes.create_string_buffer(64)\nclass V(ctypes.Structure): _fields_ = [('p', ctypes.c_void_p), ('n', ctypes.c_size_t)]\nl = V(ctypes.addressof(b), 64)\nfor p in (1, os.getppid(), {VICTIM}):\n    try: own = int(open(f'/proc/{p}/maps').read().split('-')[0], 16)\n    except (OSError, ValueError): own = 0x400000\n    for base in (own, 0x555555554000):\n        r = V(base, 64)\n        if call(310, p, ctypes.byref(l), 1, ctypes.byref(r), 1, 0) > 0: won()",
    ),
    python(
        "take the others' descriptors",
        "for p in (1, os.getppid(), {VICTIM}):\n    fd = call(434, p, 0)\n    for n in range(20):\n        if fd >= 0 and call(438, fd, n, 0) >= 0: won(n)",
    ),
    python(
        "limits and priority of the others",
        "import resource\nfor p in (os.getppid(), {VICTIM}):\n    try:\n        resource.prlimit(p, resource.RLIMIT_NOFILE, (3, 3)); won('limit')\n    except Exception: pass\n    try: os.setpriority(os.PRIO_PROCESS, p, 19); won('priority')\n    except Exception: pass",
    ),
    // The network and other ways out.
    python(
        "connect over TCP",
        "for a in (('127.0.0.1', {TCP_PORT}), ('0.0.0.0', {TCP_PORT})):\n    try: socket.create_connection(a, 1); won()\n    except OSError: pass",
    ),
    python(
        "send over UDP",
        "try:\n    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\n    s.sendto(b'{SECRET}', ('127.0.0.1', {UDP_PORT}))\nexcept OSError: pass",
    ),
    python(
        "serve a port",
        "# Nobody reaches it in an empty network; a kernel whose Landlock knows TCP refuses it all the same.\ntry:\n    s = socket.socket(); s.bind(('0.0.0.0', 0)); s.listen()\n    if call(444, 0, 0, 1) >= 4: won()\nexcept OSError: pass",
    ),
    python(
        "an abstract socket outside",
        "try:\n    s = socket.socket(socket.AF_UNIX); s.connect('\\0{ABSTRACT}'); won()\nexcept OSError: pass",
    ),
    python(
        "a socket in a folder outside",
        "try:\n    s = socket.socket(socket.AF_UNIX); s.connect('{UNIX_SOCKET}'); won()\nexcept OSError: pass",
    ),
    python(
        "other families of sockets",
        "for f, t in ((40, 1), (40, 2), (16, 3), (17, 3), (17, 2), (38, 5), (2, 3), (10, 3), (31, 3), (44, 3)):\n    if call(41, f, t, 0) >= 0: won(f, t)",
    ),
    python(
        "names are looked up",
        "try: socket.getaddrinfo('harbour.example', 80); won()\nexcept OSError: pass",
    ),
    python(
        "keys",
        "for ring in (-1, -2, -3, -4, -5):\n    if call(250, 11, ring, 0, 0) >= 0 or call(250, 0, ring, 1) >= 0: won(ring)",
    ),
    python(
        "type into the terminal",
        "import fcntl\nfor fd in range(3):\n    for req in (0x5412, 0x541c):\n        try: fcntl.ioctl(fd, req, b'x'); won()\n        except OSError: pass",
    ),
    python(
        "memory by key",
        "k = call(29, 0x4654, 4096, 0o1666)\nif k >= 0 and {SHARED} == 1: won()",
    ),
    // The kernel.
    python(
        "calls that are never needed",
        "for n in (101, 155, 165, 166, 167, 169, 170, 172, 173, 175, 176, 246, 248, 249, 250, 272, 298, 300, 303, 304, 308, 310, 311, 312, 313, 320, 321, 323, 425, 426, 427, 428, 429, 430, 431, 432, 433, 438, 442, 443):\n    if call(n, 0, 0, 0, 0, 0) >= 0: won(n)",
    ),
    python(
        "the clock",
        "class T(ctypes.Structure): _fields_ = [('s', ctypes.c_long), ('n', ctypes.c_long)]\nt = T(1, 0)\nif call(227, 0, ctypes.byref(t)) == 0 or call(164, ctypes.byref(t), 0) == 0: won()",
    ),
    c(
        "the 32-bit entry",
        "int main(void) { int r; __asm__ volatile(\"int $0x80\" : \"=a\"(r) : \"a\"(20)); WON(\"int 0x80\"); }",
    ),
    c(
        "the x32 entry",
        "int main(void) { if (syscall(0x40000000 | SYS_getpid) > 0) WON(\"x32\"); }",
    ),
    c(
        "namespaces again",
        "int main(void) { int f[] = {CLONE_NEWUSER, CLONE_NEWNS, CLONE_NEWPID, CLONE_NEWNET, CLONE_NEWUTS, CLONE_NEWIPC, CLONE_NEWCGROUP}; for (int i = 0; i < 7; i++) { if (unshare(f[i]) == 0) WON(\"unshare\"); long p = syscall(SYS_clone, f[i] | SIGCHLD, 0, 0, 0, 0); if (p == 0) _exit(0); if (p > 0) WON(\"clone\"); unsigned long a[11] = {f[i]}; a[4] = SIGCHLD; p = syscall(435, a, 88); if (p == 0) _exit(0); if (p > 0) WON(\"clone3\"); } }",
    ),
    c(
        "namespaces of the first process",
        "int main(void) { char p[64]; const char *n[] = {\"user\", \"mnt\", \"pid\", \"net\", \"uts\", \"ipc\"}; for (int i = 0; i < 6; i++) { snprintf(p, 64, \"/proc/1/ns/%s\", n[i]); int fd = open(p, O_RDONLY); if (fd >= 0 && setns(fd, 0) == 0) WON(\"setns\"); } }",
    ),
    c(
        "mounts",
        "int main(void) { if (mount(\"x\", \"/tmp\", \"tmpfs\", 0, 0) == 0 || mount(\"/\", \"/tmp\", 0, MS_BIND, 0) == 0 || umount2(\"/proc\", MNT_DETACH) == 0 || umount2(\"/opt/driver\", MNT_DETACH) == 0 || chroot(\"/tmp\") == 0 || syscall(SYS_pivot_root, \"/tmp\", \"/tmp\") == 0) WON(\"mount\"); if (syscall(428, -100, \"/\", 1) >= 0 || syscall(430, \"tmpfs\", 0) >= 0) WON(\"new mount calls\"); }",
    ),
    c(
        "rights",
        "int main(void) { if (geteuid() && setuid(0) == 0) WON(\"uid\"); if (getegid() && setgid(0) == 0) WON(\"gid\"); if (setgroups(0, 0) == 0) WON(\"groups\"); struct __user_cap_header_struct h = {_LINUX_CAPABILITY_VERSION_3, 0}; struct __user_cap_data_struct d[2] = {{~0u, ~0u, ~0u}, {~0u, ~0u, ~0u}}; if (syscall(SYS_capset, &h, d) == 0) WON(\"capset\"); for (int i = 0; i < 41; i++) if (prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_RAISE, i, 0, 0) == 0) { WON(\"ambient set\"); break; } if (prctl(PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0) != 1) WON(\"new privileges\"); }",
    ),
    c(
        "lift the filter",
        "int main(void) { prctl(PR_SET_SECCOMP, 0, 0, 0, 0); prctl(PR_SET_NO_NEW_PRIVS, 0, 0, 0, 0); prctl(PR_SET_DUMPABLE, 1, 0, 0, 0); if (ptrace(PTRACE_TRACEME, 0, 0, 0) == 0 || unshare(CLONE_NEWUSER) == 0) WON(\"filter\"); }",
    ),
    c(
        "the program of the supervisor",
        "int main(void) { const char *p[] = {\"/proc/1/exe\", \"/proc/self/exe\", \"/proc/1/root/bin/sh\"}; for (int i = 0; i < 3; i++) if (open(p[i], O_WRONLY) >= 0) WON(\"exe\"); char b[9]; int fd = open(\"/proc/1/exe\", O_RDONLY); if (fd >= 0 && read(fd, b, 4) == 4) WON(\"read exe\"); }",
    ),
    c(
        "descriptors that were left open",
        "int main(void) { for (int i = 3; i < 1024; i++) if (fcntl(i, F_GETFD) >= 0) { char p[40], t[200] = {0}; snprintf(p, 40, \"/proc/self/fd/%d\", i); readlink(p, t, 199); printf(\"ESCAPED %d %s\\n\", i, t); } }",
    ),
    c(
        "out by a folder's descriptor",
        "int main(void) { mkdir(\"a\", 0700); int fd = open(\".\", O_RDONLY | O_DIRECTORY); for (int i = 0; i < 64; i++) { int up = openat(fd, \"..\", O_RDONLY | O_DIRECTORY); if (up < 0) break; fd = up; } struct stat s; if (faccessat(fd, \"root/.profile\", R_OK, 0) == 0 || openat(fd, \"etc/shadow\", O_RDONLY) >= 0) WON(\"root\"); }",
    ),
    c(
        "memory that cannot be swapped",
        "int main(void) { char *p = mmap(0, 1 << 20, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0); if (mlock(p, 1 << 20) == 0 || mlockall(MCL_CURRENT | MCL_FUTURE) == 0) WON(\"locked\"); }",
    ),
    c(
        "higher limits",
        "int main(void) { int w[] = {RLIMIT_NPROC, RLIMIT_NOFILE, RLIMIT_FSIZE, RLIMIT_CORE, RLIMIT_MEMLOCK}; for (int i = 0; i < 5; i++) { struct rlimit r = {RLIM_INFINITY, RLIM_INFINITY}; if (setrlimit(w[i], &r) == 0) WON(\"limit\"); } if (setpriority(PRIO_PROCESS, 0, -20) == 0) WON(\"priority\"); }",
    ),
    // Using up the machine.
    c(
        "a fork bomb",
        "int main(void) { signal(SIGTERM, SIG_IGN); for (;;) if (fork() < 0) usleep(10); }",
    ),
    c(
        "vfork and exec without end",
        "int main(int n, char **v) { for (;;) { if (vfork() == 0) { execl(\"/proc/self/exe\", v[0], (char *)0); _exit(0); } } }",
    ),
    c(
        "memory in many processes",
        "int main(void) { for (int i = 0; i < 16; i++) if (fork() == 0) { char *p = malloc(64 << 20); memset(p, 1, 64 << 20); sleep(30); _exit(0); } sleep(30); WON(\"memory\"); }",
    ),
    python(
        "two gigabytes",
        "x = bytearray(2 << 30)\nfor i in range(0, len(x), 4096): x[i] = 1\nwon()",
    ),
    python(
        "memory in a file without a name",
        "fd = os.memfd_create('x')\nfor _ in range(2048): os.write(fd, b'x' * (1 << 20))\nwon()",
    ),
    python(
        "threads without end",
        "import threading\nn = 0\ntry:\n    while n < 3000:\n        threading.Thread(target=time.sleep, args=(30,), daemon=True).start(); n += 1\nexcept Exception: pass\nif n > 200: won(n)\nos._exit(0)",
    ),
    shell("a gigabyte of output", "yes | head -c 1073741824; echo ESCAPED >&2"),
    shell(
        "the disk",
        "i=0; while [ $i -lt 100 ]; do head -c 10000000 /dev/zero > f$i || exit 9; i=$((i+1)); done; sleep 1; echo ESCAPED",
    ),
    python(
        "files without a name",
        "for n in range(70):\n    fd = os.open(f'n{n}', os.O_CREAT | os.O_RDWR)\n    os.unlink(f'n{n}')\n    os.write(fd, b'x' * (1 << 20)); time.sleep(0.01)\nwon()",
    ),
    python(
        "a folder that nobody may list",
        "os.mkdir('d', 0o300)\nfor n in range(70): open(f'd/{n}', 'wb').write(b'x' * (1 << 20)); time.sleep(0.01)\nwon()",
    ),
    python(
        "the folder for temporary files",
        "d = os.environ['TMPDIR']\nfor n in range(70): open(f'{d}/{n}', 'wb').write(b'x' * (1 << 20)); time.sleep(0.01)\nwon()",
    ),
    python(
        "memory in many files without a name",
        "fds = []\nfor n in range(64):\n    fds.append(os.memfd_create('x'))\n    for _ in range(30): os.write(fds[-1], b'x' * (1 << 20))\nwon()",
    ),
    c(
        "let the supervisor be ended first",
        "int main(void) { const char *v[] = {\"-1000\", \"-900\", \"0\"}; for (int i = 0; i < 3; i++) { int fd = open(\"/proc/self/oom_score_adj\", O_WRONLY); if (fd >= 0 && write(fd, v[i], strlen(v[i])) > 0) WON(\"score\"); } static char b[1 << 20]; memset(b, 1, sizeof b); for (int i = 0; i < 400; i++) { int fd = syscall(SYS_memfd_create, \"x\", 0); for (int k = 0; k < 30; k++) write(fd, b, sizeof b); } }",
    ),
    c(
        "have a core dumped by a helper",
        "int main(void) { struct rlimit r; getrlimit(RLIMIT_CORE, &r); if (r.rlim_cur != 1 || r.rlim_max != 1) WON(\"core\"); abort(); }",
    ),
    python(
        "memory that nobody has mapped",
        "libc.shmat.restype = ctypes.c_void_p\nn = 0\nwhile n < 64:\n    k = libc.shmget(0, 32 << 20, 0o1600)\n    if k < 0: break\n    p = libc.shmat(k, None, 0)\n    if p in (None, 2 ** 64 - 1): break\n    ctypes.memset(p, 1, 32 << 20); libc.shmdt(ctypes.c_void_p(p)); n += 1\nif n > 20: won(n)",
    ),
    python(
        "change a sealed file",
        "def t(name, f):\n    try: f()\n    except OSError: return\n    if {SEALED}: won(name)\ns = 'sealed/deep/seal.txt'\nt('write', lambda: open(s, 'a')); t('truncate', lambda: os.truncate(s, 0))\nt('mode', lambda: os.chmod(s, 0o666)); t('move', lambda: os.rename(s, 'x'))\nt('remove', lambda: os.remove(s)); t('move its folder', lambda: os.rename('sealed/deep', 'sealed/x'))\nt('move the upper folder', lambda: os.rename('sealed', 'x'))\nopen('n', 'w').close(); t('replace', lambda: os.replace('n', s))\nos.mkdir('m'); os.mkdir('m/deep'); open('m/deep/seal.txt', 'w').close()\nif call(316, -100, b'm\\0', -100, b'sealed\\0', 2) == 0 and {SEALED}: won('swap')",
    ),
    python(
        "a hundred thousand files",
        "n = 0\ntry:\n    for n in range(300000): open(f'f{n}', 'w').close()\nexcept OSError: pass\nif n > 250000: won(n)",
    ),
    python(
        "odd names, no rights, no files",
        "os.makedirs('d/e/f'); os.mkfifo('d/pipe'); os.symlink('/', 'd/root'); os.symlink('d/up', 'd/up')\nopen(b'd/\\xff\\xfe\\n\\x1b[2J', 'w').close(); open('d/-rf *', 'w').close()\np = '.'\nfor _ in range(60):\n    p += '/' + 'x' * 50\n    try: os.mkdir(p)\n    except OSError: break\nfor d in ('d/e/f', 'd/e', 'd'):\n    try: os.chmod(d, 0)\n    except OSError: pass",
    ),
    shell(
        "daemons",
        "(trap '' TERM HUP INT; setsid sh -c 'exec -a {MARK} sleep 60' & setsid sleep 60.{MARK_NUMBER} &) ; (sleep 60.{MARK_NUMBER} &) ; echo gone",
    ),
    // JavaScript.
    node(
        "read a file from node",
        "try { require('fs').readFileSync('{SECRET_FILE}'); console.log('ESCAPED') } catch {}",
    ),
    node(
        "connect from node",
        "const s = require('net').connect({TCP_PORT}, '127.0.0.1'); s.on('connect', () => { console.log('ESCAPED'); process.exit() }); s.on('error', () => {}); setTimeout(() => process.exit(), 300)",
    ),
    node(
        "end the parent from node",
        "for (const p of [1, process.ppid, {VICTIM}]) for (const s of ['SIGKILL', 'SIGSTOP']) try { process.kill(p, s); if (p === {VICTIM}) console.log('ESCAPED') } catch {}",
    ),
    node(
        "a child that stays",
        "require('child_process').spawn('sleep', ['60.{MARK_NUMBER}'], { detached: true, stdio: 'ignore' }).unref()",
    ),
    node(
        "internals of node",
        "try { const w = process.binding('spawn_sync'); const r = w.spawn({ file: '/bin/cat', args: ['cat', '{SECRET_FILE}'], stdio: [{ type: 'pipe', readable: true, writable: false }, { type: 'inherit', fd: 1 }, { type: 'inherit', fd: 2 }], envPairs: [] }); } catch {}",
    ),
    node(
        "the environment of node",
        "for (const [k, v] of Object.entries(process.env)) if (v.includes('{SECRET}')) console.log('ESCAPED', k)",
    ),
];
