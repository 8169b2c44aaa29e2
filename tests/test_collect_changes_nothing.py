"""Collecting changes nothing on the machine: every byte, mode, owner and time of ordinary layouts is the same before and after, and
the system calls write to the archive and a scratch folder only."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import textwrap
import time
import unittest
from pathlib import Path

from rupex.host import TreeError, open_tree
from tests.support import RUPEX, rupex

# What a layout is made of: shell commands in the root of a host tree that has a plain nginx. Some mount, in a namespace of their own.
LAYOUTS = {
    "links in a document root": """
        mkdir -p srv/site data other; echo data >data/file; echo mine >other/secret; ln -s /data srv/site/absolute
        ln -s ../../other/secret srv/site/relative; ln -s missing srv/site/dangling; ln -s loop srv/site/loop; ln -s . srv/site/self
        ln -s /etc/passwd srv/site/passwd""",
    "a release that is current": """
        mkdir -p srv/app/releases/5/public srv/app/releases/5/conf; echo page >srv/app/releases/5/public/index.html
        echo 'server_tokens off;' >srv/app/releases/5/conf/site.conf; ln -s releases/5 srv/app/current
        printf 'http { include /srv/app/current/conf/*.conf; server { root /srv/app/current/public; } }' >etc/nginx/nginx.conf""",
    "a versioned server folder": """
        mkdir -p opt/tomcat-10.1.3/webapps/ROOT/WEB-INF opt/tomcat-10.1.3/conf; ln -s /opt/tomcat-10.1.3 opt/tomcat
        echo '<Server><Service><Engine><Host appBase="webapps"/></Engine></Service></Server>' >opt/tomcat-10.1.3/conf/server.xml
        echo '<web-app/>' >opt/tomcat-10.1.3/webapps/ROOT/WEB-INF/web.xml; echo page >opt/tomcat-10.1.3/webapps/ROOT/index.html
        printf 'http { server { root /opt/tomcat/webapps/ROOT; } }' >etc/nginx/nginx.conf""",
    "links that lead to links": """
        mkdir -p real/a/b; echo page >real/a/b/index.html; ln -s /real one; ln -s /one/a two; ln -s ../two/b srv/site
        printf 'http { server { root /srv/site; } server { root /two/b/../b; } }' >etc/nginx/nginx.conf""",
    "bind mounts": """
        mkdir -p data/site srv/site data/nginx; echo page >data/site/index.html; cp etc/nginx/nginx.conf data/nginx/
        mount --bind data/site srv/site; mount --bind data/nginx etc/nginx""",
    "a read-only file system": """
        mkdir -p srv/site; mount -t tmpfs tmpfs srv/site; echo page >srv/site/index.html; ln -s index.html srv/site/link
        mount -o remount,ro srv/site; mount --bind etc etc; mount -o remount,bind,ro etc""",
    "names of every kind": r"""
        mkdir -p srv/site; cd srv/site
        for name in "two words" 'quote"s' "quote's" 'back\slash' '\101' '$(touch evil)' '`touch evil`' ';touch evil' '-n' '--' \
            '*' '?' '[a]' '~' '#x' '%41' '&amp' '|x' '>x' 'a=b' '\n' '$HOME' '..x' '...' "$(printf 'line\nend')" "$(printf 'tab\tbed')" \
            "$(printf 'x mode=0777\nkey.pem\tfine')" 'x\012.\057etc\057ssl\057k\040mode=0600' "$(printf '\377\376')" "$(printf '\033[31mred')" "$(printf 'cr\rx')"; do
            echo "$name" >"./$name"; mkdir "./$name.d"; ln -s "$name" "./$name.l"
        done; cd ../..; cp -r srv/site 'etc/nginx/odd names'
        printf 'http { include "odd names/*"; server { root /srv/site; } }' >etc/nginx/nginx.conf""",
    "an override that is a link": """
        mkdir -p root home/anna var/www/html/deep; echo 'sea-gull history' >root/.bash_history; ln -s /root/.bash_history var/www/html/.htaccess
        ln -s ../../../../root/.bash_history var/www/html/deep/.htaccess; ln -s /etc/shadow home/anna/docker-compose.yml
        echo 'anna:sea-gull' >etc/shadow; ln -s own var/www/.htaccess; echo 'SetEnv A 1' >var/www/own""",
    "what is no file": """
        mkdir -p srv/site etc/ssl/private; mkfifo srv/site/pipe etc/nginx/conf.d/pipe.conf etc/ssl/private/pipe.key srv/site/.htaccess
        mknod srv/site/null c 1 3; mknod etc/nginx/conf.d/zero.conf c 1 5""",
    "folders that nobody may look into": """
        mkdir -p srv/site/closed etc/nginx/closed; echo x >srv/site/closed/x; chmod 000 srv/site/closed etc/nginx/closed
        chown 12345:54321 srv/site; chmod 2750 srv/site; touch -d 2001-01-01 etc/nginx/nginx.conf srv/site""",
    "files with several names": """
        mkdir -p srv/site; echo page >srv/site/a; ln srv/site/a srv/site/b; ln etc/nginx/nginx.conf srv/site/conf""",
    "a large folder": """
        mkdir -p srv/site; i=0; while [ $i -lt 600 ]; do : >srv/site/$i; i=$((i+1)); done""",
}  # fmt: skip
PLAIN = """
mkdir -p etc/nginx/conf.d etc/ssl/private etc/alternatives srv var/www tmp
printf 'user www-data;\\nhttp { include conf.d/*.conf; server { listen 80; root /srv/site; } }\\n' >etc/nginx/nginx.conf
echo 'root:x:0:0::/root:/bin/sh' >etc/passwd; echo 'root:x:0:' >etc/group
"""

WAYS = ("command", "script")
SOURCE = Path(__file__).parent.parent
FORGED = r"""
mkdir -p srv/site; echo key >etc/ssl/private/site.key; chmod 644 etc/ssl/private/site.key; echo x >srv/site/index.html
for row in './etc/ssl/private/site.key type=file mode=0600 uname=root' 'srv/site/planted	fine'; do
    escaped=$(printf '%s' "$row" | sed 's|/|\\057|g; s| |\\040|g')
    : >"srv/site/$(printf 'x\\012%s' "$escaped")"; : >"srv/site/$(printf 'x\n%s' "$(printf '%s' "$row" | tr / _)")"
    : >"srv/site/$(printf 'x\342\200\250%s' "$(printf '%s' "$row" | tr / _)")"
done
"""

# Prints all there is to know of a tree, but for the times of reading.
STATE = """
import hashlib, os, stat, sys
def show(path):
    status = os.lstat(path)
    row = [path, status.st_mode, status.st_uid, status.st_gid, status.st_nlink, status.st_size, status.st_ino, status.st_mtime_ns, status.st_ctime_ns]
    if stat.S_ISLNK(status.st_mode): row.append(os.readlink(path))
    if stat.S_ISREG(status.st_mode): row.append(hashlib.sha256(open(path, "rb").read()).hexdigest())
    print(ascii(row))
    if stat.S_ISDIR(status.st_mode):
        for name in sorted(os.listdir(path)):
            if os.path.join(path, name) not in sys.argv[2:]: show(os.path.join(path, name))
show(sys.argv[1])
"""

# A line of strace that writes: the call, and the path (or two) that it is asked to write.
_CALL = re.compile(r"^(\d+) +(\w+)\((.*)\) += +(?:\d+|0x)", re.MULTILINE)
_PATH = re.compile(r'(?:(?:AT_FDCWD|\d+)<([^>]*)>(?:\(deleted\))?, )?"((?:[^"\\]|\\.)*)"')
_WRITES = frozenset(
    "creat mkdir mkdirat mknod mknodat rename renameat renameat2 link linkat symlink symlinkat unlink unlinkat rmdir chmod fchmodat chown"
    " lchown fchownat truncate utime utimes utimensat futimesat setxattr lsetxattr removexattr mount umount2".split()
)


class ChangesNothingTest(unittest.TestCase):
    def setUp(self) -> None:
        if os.geteuid() != 0:
            self.skipTest("only root may mount, and give files away")
        holder = tempfile.TemporaryDirectory(prefix="rupex-test-")
        self.addCleanup(holder.cleanup)
        self.holder = Path(holder.name)
        self.script = self.holder / "collect.sh"
        self.script.write_text(rupex("collect", "--script").stdout)

    def fresh(self) -> Path:
        """A new folder for one collection: the host tree in ``host``, the script's scratch folder in ``scratch``, the archive
        beside them."""
        folder = Path(tempfile.mkdtemp(dir=self.holder))
        (folder / "host").mkdir()
        (folder / "scratch").mkdir()
        return folder

    def command(self, way: str, folder: Path, archive: str = "") -> str:
        archive = archive or f"{folder}/out.tar.gz"
        if way == "command":
            return f'"{RUPEX}" collect --root "{folder}/host" --output "{archive}" --quiet'
        return f'env ROOT="{folder}/host" TMPDIR="{folder}/scratch" sh "{self.script}" "{archive}"'

    def test_every_layout_as_a_machine_of_its_own_is_the_same_before_and_after(self) -> None:
        """As on the machine itself: an absolute link leads where it leads, and not into a copy of the host."""
        system = [
            "/usr",
            "/dev",
            "/proc",
            "/etc/alternatives",
            sys.base_prefix,
            sys.prefix,
            str(SOURCE),
            str(self.holder),
        ]
        links = [name for name in ("bin", "sbin", "lib", "lib64") if os.path.islink(f"/{name}")]
        for name, layout in LAYOUTS.items():
            for way in WAYS:
                with self.subTest(name, way=way):
                    folder = self.fresh()
                    (folder / "state.py").write_text(STATE)
                    host = folder / "host"
                    tops = sorted({f"{host}{path}" for path in system} | {f"{host}/{link}" for link in links})
                    state = f'"{sys.executable}" "{folder}/state.py" "{host}" {" ".join(f"{chr(34)}{top}{chr(34)}" for top in tops)}'
                    binds = "\n".join(
                        f'[ -d "{host}{path}" ] || mkdir -p "{host}{path}"; mount --bind "{path}" "{host}{path}"'
                        for path in system
                    ) + "".join(f'\nln -s "{os.readlink(f"/{link}")}" "{host}/{link}"' for link in links)
                    done = self.in_namespace(
                        f"""set -e; cd "{host}"; {PLAIN} {textwrap.dedent(layout)}
                        {binds}
                        cd "{folder}"; {state} >before; set +e
                        chroot "{host}" {self.command(way, folder).replace(f"{host}", "/")}; status=$?; {state} >after; exit $status"""
                    )
                    self.assertIn(done.returncode, (0, 3), done)
                    before, after = ((folder / file).read_text().splitlines() for file in ("before", "after"))
                    self.assertGreater(len(before), 8)
                    self.assertEqual(after, before)
                    self.assertGreater((folder / "out.tar.gz").stat().st_size, 200)

    def in_namespace(self, program: str) -> subprocess.CompletedProcess[bytes]:
        """Run shell commands that may mount."""
        command = ["unshare", "--mount", "--propagation", "private", "bash", "-c", program]
        return subprocess.run(command, capture_output=True, timeout=120, check=False)

    def test_every_layout_is_the_same_before_and_after(self) -> None:
        for name, layout in LAYOUTS.items():
            for way in WAYS:
                with self.subTest(name, way=way):
                    folder = self.fresh()
                    (folder / "state.py").write_text(STATE)
                    state = f'"{sys.executable}" "{folder}/state.py" "{folder}/host"'
                    done = self.in_namespace(
                        f"""set -e; cd "{folder}/host"; {PLAIN} {textwrap.dedent(layout)}
                        cd "{folder}"; {state} >before; set +e; {self.command(way, folder)}; status=$?; {state} >after; exit $status"""
                    )
                    self.assertIn(done.returncode, (0, 3), done)
                    before, after = ((folder / file).read_text().splitlines() for file in ("before", "after"))
                    self.assertGreater(len(before), 8)
                    self.assertEqual(after, before)
                    archive = folder / "out.tar.gz"
                    self.assertEqual(archive.stat().st_mode & 0o777, 0o600)
                    content = subprocess.run(["tar", "xzOf", archive], capture_output=True, check=True).stdout
                    self.assertNotIn(b"sea-gull", content)
                    self.assertEqual(list((folder / "scratch").iterdir()), [], "the scratch folder is empty again")
                    made = {"state.py", "host", "before", "after", "out.tar.gz", "scratch"}
                    self.assertEqual({file.name for file in folder.iterdir()}, made)

    def test_the_system_calls_write_nowhere_else(self) -> None:
        if shutil.which("strace") is None:
            self.fail("strace is needed for this test; 'make servers' as root installs it")
        for way in WAYS:
            with self.subTest(way):
                folder = self.fresh()
                subprocess.run(
                    ["bash", "-c", PLAIN + LAYOUTS["a versioned server folder"]], cwd=folder / "host", check=True
                )
                calls = ",".join(sorted(_WRITES | {"open", "openat", "openat2", "chdir"}))
                traced = f'strace -f -y -qq -s 400 -e trace={calls} -o "{folder}/log" {self.command(way, folder)}'
                subprocess.run(["bash", "-c", traced], check=True, capture_output=True)
                written = _written((folder / "log").read_text())
                self.assertIn(f"{folder}/out.tar.gz", written)
                allowed = (f"{folder}/out.tar.gz", f"{folder}/scratch/rupex.", "/dev/null", "/dev/tty")
                self.assertEqual({path for path in written if not path.startswith(allowed)}, set())

    def test_an_archive_that_cannot_be_finished_is_gone(self) -> None:
        large = (
            PLAIN
            + "mkdir srv/site; head -c 3000000 /dev/urandom | base64 -w 60 | sed 's/$/;/' >etc/nginx/conf.d/x.conf"
        )
        for way in WAYS:
            with self.subTest(way, case="a full disk"):
                folder = self.fresh()
                subprocess.run(["bash", "-c", large], cwd=folder / "host", check=True)
                full = folder / "full"
                full.mkdir()
                program = f"""mount -t tmpfs -o size=64k tmpfs "{full}"
                {self.command(way, folder, f"{full}/out.tar.gz")}; status=$?; ls -A "{full}"; exit $status"""
                done = self.in_namespace(program)
                self.assertEqual((done.returncode, done.stdout), (2 if way == "command" else 4, b""), done.stderr)
                self.assertNotIn(b"Traceback", done.stderr)
            with self.subTest(way, case="it is ended at the very call that makes the archive"):
                archive = folder / "out.tar.gz"
                ending = f'strace -f -o /dev/null -P "{archive}" -e inject=openat:signal=SIGTERM:when=1 {self.command(way, folder)}'
                ended = subprocess.run(["bash", "-c", ending], capture_output=True, timeout=60, check=False)
                self.assertNotEqual(ended.returncode, 0)
                self.assertFalse(archive.exists())
            with self.subTest(way, case="it is ended"):
                with subprocess.Popen(
                    ["bash", "-c", f"exec {self.command(way, folder)}"],
                    stderr=subprocess.DEVNULL,
                    start_new_session=True,
                ) as running:
                    until = time.monotonic() + 30
                    while not (folder / "out.tar.gz").exists() and time.monotonic() < until:
                        time.sleep(0.01)
                    os.killpg(running.pid, signal.SIGTERM)
                    running.wait(30)
                self.assertNotEqual(running.returncode, 0)
                self.assertFalse((folder / "out.tar.gz").exists())
                self.assertEqual(list((folder / "scratch").iterdir()), [])

    def test_no_link_and_no_file_is_written_over(self) -> None:
        for way in WAYS:
            for case in ("a link", "a file"):
                with self.subTest(case, way=way):
                    folder = self.fresh()
                    subprocess.run(["bash", "-c", PLAIN], cwd=folder / "host", check=True)
                    archive = folder / "out.tar.gz"
                    archive.symlink_to("victim") if case == "a link" else archive.write_text("mine")
                    done = subprocess.run(["bash", "-c", self.command(way, folder)], capture_output=True, check=False)
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(b"exists already", done.stderr)
                    self.assertFalse((folder / "victim").exists())
                    self.assertTrue(archive.is_symlink() or archive.read_text() == "mine")

    def test_a_forged_name_changes_no_verdict(self) -> None:
        for way in WAYS:
            with self.subTest(way):
                folder = self.fresh()
                subprocess.run(["bash", "-c", PLAIN + FORGED], cwd=folder / "host", check=True)
                subprocess.run(["bash", "-c", self.command(way, folder)], check=True, capture_output=True)
                tree = open_tree(folder / "out.tar.gz").tree
                self.assertEqual(tree.file_facts("etc/ssl/private/site.key", "key").mode.value, 0o644)
                with self.assertRaisesRegex(TreeError, "no such file"):
                    tree.read("srv/site/planted")


def _written(log: str) -> set[str]:
    """The paths that system calls were asked to write, as strace -f -y shows them: a name behind the folder that it starts
    from."""
    found: set[str] = set()
    working: dict[str, str] = {}
    for process, call, rest in _CALL.findall(log):
        paths = [os.path.join(folder or working.get(process, ""), name) for folder, name in _PATH.findall(rest)]
        if call == "chdir":
            working[process] = paths[0]
        elif not call.startswith("open"):
            found.update(paths)
        elif re.search(r"O_WRONLY|O_RDWR|O_CREAT|O_TRUNC|O_APPEND|O_TMPFILE", rest):
            found.update(paths[:1])
    return found


if __name__ == "__main__":
    unittest.main()
