"""Files that both processes use: what one has written is there for the other when it comes to run.

Which files those are is noticed as they are opened, made, moved and removed; those that are open for
writing are looked at again each time.
"""
import stat

# Held here, since tests may patch them.
OS = types.SimpleNamespace(**{name: it for name, it in vars(os).items() if not name.startswith("__")})
PLAIN_OPEN, PLAIN_PATH = open, types.SimpleNamespace(**{name: it for name, it in vars(os.path).items() if not name.startswith("__")})


class Files:
    """What is written below `work` and `/tmp`. `may_write` says which paths the other side may write."""

    KEPT, OPEN, SIZE_MAX, SCAN_MAX = 4000, 16, 32 << 20, 5000

    def __init__(self, work, may_write):
        self.roots = tuple(sorted({PLAIN_PATH.realpath(work), PLAIN_PATH.realpath("/tmp")}))
        self.may_write, self.touched, self.seen, self.scan, self.busy = may_write, {}, {}, False, False
        # What is here from the start is the same for the other side, or none of its business.
        for root in self.roots:
            for path in self.below(root):
                self.seen[path] = self.state(path)
        sys.addaudithook(self.heard)

    def heard(self, event, args):
        if self.busy or not event.startswith(WATCHED_EVENTS):
            return
        try:
            if event == "open":
                path, mode, flags = args
                writes = isinstance(flags, int) and flags & (OS.O_WRONLY | OS.O_RDWR | OS.O_CREAT)
                if writes and not isinstance(path, int):
                    self.touch(path)
            elif event in ("os.rename", "os.link", "os.symlink"):
                self.touch(args[0])
                self.touch(args[1])
            elif event in ("os.mkdir", "os.remove", "os.rmdir", "os.truncate", "os.chmod", "os.utime", "sqlite3.connect"):
                self.touch(args[0])
            elif event in ("subprocess.Popen", "os.system", "os.fork", "os.posix_spawn"):
                self.scan = True
        except Exception:
            pass

    def touch(self, path):
        if isinstance(path, int):
            return
        path = PLAIN_PATH.abspath(OS.fsdecode(path))
        if self.is_ours(path):
            self.touched.pop(path, None)
            self.touched[path] = True
            while len(self.touched) > self.KEPT:
                del self.touched[next(iter(self.touched))]

    def show(self, path):
        """Lets the other side have what was here from the start."""
        self.seen.pop(path, None)
        self.touch(path)

    def is_ours(self, path):
        return any(path.startswith(root + "/") for root in self.roots) and not path.startswith("/tmp/home")

    def state(self, path):
        try:
            it = OS.lstat(path)
        except OSError:
            return None
        if stat.S_ISDIR(it.st_mode):
            return ("d", it.st_mode & 0o777)
        if stat.S_ISLNK(it.st_mode):
            return ("l", OS.readlink(path))
        if stat.S_ISREG(it.st_mode):
            return ("f", it.st_mode & 0o777, it.st_size, it.st_mtime_ns, it.st_ino)
        return None

    def below(self, path):
        found = []
        for folder, folders, names in OS.walk(path):
            found += [PLAIN_PATH.join(folder, name) for name in (*folders, *names)]
            if len(found) > self.SCAN_MAX:
                break
        return found

    def changed(self):
        """What changed here since the last time, for the other side."""
        if not self.touched and not self.scan:
            return []
        self.busy = True
        try:
            paths = list(self.touched)
            scanned = self.scan
            if self.scan:
                for root in self.roots:
                    paths += self.below(root)
                self.scan = False
            out = []
            self.left = self.SIZE_MAX
            for path in sorted({*paths, *([it for it in self.seen] if scanned else [])}):
                self.look(path, out)
            # Those written last may still be open.
            self.touched = dict.fromkeys(list(self.touched)[-self.OPEN:])
            return out
        except OSError:
            return []
        finally:
            self.busy = False

    def look(self, path, out):
        now = self.state(path)
        if now == self.seen.get(path):
            return
        before = self.seen.get(path)
        if now is None:
            for known in [it for it in self.seen if it.startswith(path + "/")]:
                del self.seen[known]
            self.seen.pop(path, None)
            if before is not None:
                out.append([path, "-"])
            return
        parent = PLAIN_PATH.dirname(path)
        if parent not in self.roots and self.is_ours(parent) and parent not in self.seen:
            self.look(parent, out)
        if now[0] == "f":
            self.left -= now[2]
            if self.left < 0:
                return
            try:
                with PLAIN_OPEN(path, "rb") as file:
                    data = file.read(self.SIZE_MAX)
            except OSError:
                return
            out.append([path, "f", now[1], base64.b64encode(data).decode()])
        else:
            out.append([path, *now])
        self.seen[path] = now
        if now[0] == "d" and before is None:
            for inner in self.below(path):
                self.look(inner, out)

    def apply(self, changes):
        """Writes what changed on the other side. No link is followed, and nothing outside is written."""
        self.busy = True
        try:
            for path, sort, *more in changes:
                if self.is_allowed(path):
                    try:
                        self.apply_one(path, sort, more)
                    except OSError:
                        pass
                    self.seen[path] = self.state(path)
                    if self.seen[path] is None:
                        del self.seen[path]
        finally:
            self.busy = False

    def is_allowed(self, path):
        if not isinstance(path, str) or PLAIN_PATH.normpath(path) != path or "\0" in path or not self.is_ours(path):
            return False
        folder = PLAIN_PATH.dirname(path)
        return PLAIN_PATH.realpath(folder) == folder and self.may_write(path)

    def apply_one(self, path, sort, more):
        now = self.state(path)
        if sort == "-":
            if now is not None and now[0] == "d":
                __import__("shutil").rmtree(path, ignore_errors=True)
            elif now is not None:
                OS.remove(path)
        elif sort == "d":
            if now is None:
                OS.mkdir(path)
            if now is None or now[0] == "d":
                OS.chmod(path, more[0] & 0o777)
        elif sort == "l":
            if now is not None and now[0] != "d":
                OS.remove(path)
            OS.symlink(more[0], path)
        elif sort == "f":
            if now is not None and now[0] == "l":
                OS.remove(path)
            flags = OS.O_WRONLY | OS.O_CREAT | OS.O_TRUNC | OS.O_NOFOLLOW
            file = OS.open(path, flags, 0o600)
            try:
                data = base64.b64decode(more[1])
                while data:
                    data = data[OS.write(file, data):]
                OS.fchmod(file, more[0] & 0o777)
            finally:
                OS.close(file)


WATCHED_EVENTS = ("open", "os.", "sqlite3.connect", "subprocess.Popen")
