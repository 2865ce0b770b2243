//! Programs that take all they can of what the kernel counts, and honest ones beside them, which must
//! notice nothing.

use std::time::Duration;

/// How long a hog keeps what it has.
pub const HOG_LIVES: Duration = Duration::from_secs(8);

/// Each takes all it can of one thing, says so, and keeps it. In C.
pub const HOGS: &[(&str, &str)] = &[
    (
        "descriptors in flight",
        "#include <sys/socket.h>\n\
         int main(void) {\n\
           for (int p = 0; p < 8; p++) if (fork() == 0) {\n\
             int s[2]; socketpair(AF_UNIX, SOCK_DGRAM, 0, s); int big = 1 << 20; setsockopt(s[0], SOL_SOCKET, SO_SNDBUF, &big, sizeof big);\n\
             int fds[250]; for (int i = 0; i < 250; i++) fds[i] = s[1];\n\
             char c[CMSG_SPACE(sizeof fds)] = {0}; char b = 0; struct iovec v = {&b, 1};\n\
             struct msghdr m = {.msg_iov = &v, .msg_iovlen = 1, .msg_control = c, .msg_controllen = sizeof c};\n\
             struct cmsghdr *h = CMSG_FIRSTHDR(&m); h->cmsg_level = SOL_SOCKET; h->cmsg_type = SCM_RIGHTS; h->cmsg_len = CMSG_LEN(sizeof fds); memcpy(CMSG_DATA(h), fds, sizeof fds);\n\
             while (sendmsg(s[0], &m, MSG_DONTWAIT) >= 0); puts(\"taken\"); fflush(stdout); pause(); }\n\
           pause(); }",
    ),
    (
        "pending signals",
        "int main(void) {\n\
           sigset_t all; sigfillset(&all); sigprocmask(SIG_BLOCK, &all, 0); union sigval v = {0};\n\
           for (int p = 0; p < 8; p++) if (fork() == 0) { while (sigqueue(getpid(), SIGRTMIN + 1, v) == 0); puts(\"taken\"); fflush(stdout); sleep(60); }\n\
           sleep(60); }",
    ),
    (
        "files that are watched",
        "#include <sys/inotify.h>\n\
         int main(void) {\n\
           while (inotify_init() >= 0); puts(\"taken\"); fflush(stdout); sleep(60); }",
    ),
    (
        "processes",
        "int main(void) {\n\
           for (int i = 0; i < 25; i++) if (fork() == 0) sleep(60);\n\
           puts(\"taken\"); fflush(stdout); sleep(60); }",
    ),
    (
        "files that are polled",
        "#include <sys/epoll.h>\n\
         int main(void) {\n\
           for (int p = 0; p < 6; p++) if (fork() == 0) { int fds[60]; for (int i = 0; i < 60; i++) fds[i] = epoll_create1(0);\n\
             int pipes[400]; for (int i = 0; i < 280; i += 2) pipe(pipes + i);\n\
             for (int e = 0; e < 60; e++) for (int i = 0; i < 280; i++) { struct epoll_event v = {.events = EPOLLIN}; epoll_ctl(fds[e], EPOLL_CTL_ADD, pipes[i], &v); }\n\
             puts(\"taken\"); fflush(stdout); sleep(60); }\n\
           sleep(60); }",
    ),
    (
        "pages of pipes",
        "int main(void) {\n\
           static char b[1 << 16];\n\
           for (int p = 0; p < 8; p++) if (fork() == 0) { int s[2]; for (int i = 0; i < 220 && pipe(s) == 0; i++) { fcntl(s[1], F_SETFL, O_NONBLOCK); write(s[1], b, sizeof b); }\n\
             puts(\"taken\"); fflush(stdout); sleep(60); }\n\
           sleep(60); }",
    ),
];

/// Does a little of everything, and says what it could not. In C. `PIPES` is 1 where a pipe must hold
/// as much as ever.
pub const HONEST: &str = "#include <sys/epoll.h>\n#include <sys/inotify.h>\n#include <sys/socket.h>\n#include <time.h>\n\
    #define MUST(what) do { if (!(what)) { printf(\"could not: %s (%s)\\n\", #what, strerror(errno)); exit(1); } } while (0)\n\
    int main(void) {\n\
      static char b[60000]; int p[2]; MUST(pipe(p) == 0); fcntl(p[1], F_SETFL, O_NONBLOCK);\n\
      long n = write(p[1], b, sizeof b); if (PIPES) MUST(n == sizeof b);\n\
      for (int i = 0; i < 10; i++) { pid_t c = fork(); MUST(c >= 0); if (c == 0) _exit(0); MUST(waitpid(c, 0, 0) == c); }\n\
      sigset_t s; sigemptyset(&s); sigaddset(&s, SIGRTMIN); sigprocmask(SIG_BLOCK, &s, 0);\n\
      union sigval v = {1}; for (int i = 0; i < 100; i++) MUST(sigqueue(getpid(), SIGRTMIN, v) == 0);\n\
      timer_t t; MUST(timer_create(CLOCK_MONOTONIC, 0, &t) == 0);\n\
      int e = epoll_create1(0); struct epoll_event w = {.events = EPOLLIN}; MUST(e >= 0 && epoll_ctl(e, EPOLL_CTL_ADD, p[0], &w) == 0);\n\
      int i = inotify_init(); MUST(i >= 0); MUST(inotify_add_watch(i, \"/tmp\", IN_CREATE) >= 0);\n\
      int k[2]; MUST(socketpair(AF_UNIX, SOCK_STREAM, 0, k) == 0); char c[CMSG_SPACE(4)] = {0}; struct iovec x = {b, 1};\n\
      struct msghdr m = {.msg_iov = &x, .msg_iovlen = 1, .msg_control = c, .msg_controllen = sizeof c};\n\
      struct cmsghdr *h = CMSG_FIRSTHDR(&m); h->cmsg_level = SOL_SOCKET; h->cmsg_type = SCM_RIGHTS; h->cmsg_len = CMSG_LEN(4); memcpy(CMSG_DATA(h), &e, 4);\n\
      if (FLIGHT) MUST(sendmsg(k[0], &m, 0) == 1);\n\
      puts(\"fine\"); return 0; }";
