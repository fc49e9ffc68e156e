#!/usr/bin/env python3
"""webdav.py LANTERN: a share against the files of the disk: by curl's and this script's own requests, by cadaver where it is here; ranges,
tags, zip, search, passwords, an end, hostile requests, a source that fails and one that changes, very many connections."""
import base64
import concurrent.futures
import hashlib
import http.client
import io
import json
import os
import re
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import tempfile
import time
import urllib.parse
import xml.etree.ElementTree as xml
import zipfile

from many_lab import make_disk
from share import ALL

LANTERN = os.path.abspath(sys.argv[1])
FIXTURES = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "fixtures")
bad = []


def check(ok, what):
    print(f"{'good ' if ok else 'BAD  '} {what}")
    if not ok:
        bad.append(what)


def run(*command):
    return subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=120)


class Sharing:
    def __init__(self, source, *options):
        self.child = subprocess.Popen([LANTERN, "serve", source, "--webdav", "127.0.0.1:0", "--foreground", "--json", *options],
                                      stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        text, self.told = "", None
        while self.told is None:
            line = self.child.stdout.readline()
            if not line:
                raise SystemExit(f"serve {source}: {self.child.stderr.read()}")
            text += line
            try:
                self.told = json.loads(text)
            except json.JSONDecodeError:
                continue
        self.port = int(self.told["place"].rsplit(":", 1)[1])
        self.tls = self.told["address"].startswith("https")

    def connect(self):
        if not self.tls:
            return http.client.HTTPConnection("127.0.0.1", self.port, timeout=60)
        return http.client.HTTPSConnection("127.0.0.1", self.port, timeout=60, context=ssl._create_unverified_context())

    def login(self, password=None):
        words = f"{self.told['user']}:{password or self.told['password']}"
        return {"Authorization": "Basic " + base64.b64encode(words.encode()).decode()}

    def ask(self, method, target, body=None, **headers):
        connection = self.connect()
        connection.request(method, target, body, {**self.login(), **{k.replace("_", "-"): v for k, v in headers.items()}})
        answer = connection.getresponse()
        content = answer.read()
        connection.close()
        return answer.status, answer, content

    def end(self):
        self.child.send_signal(signal.SIGTERM)
        self.child.communicate(timeout=30)
        return self.child.returncode

    def __enter__(self):
        return self

    def __exit__(self, *_):
        if self.child.poll() is None:
            self.end()


def listed(share, path="/"):
    status, _, body = share.ask("PROPFIND", path, Depth="1")
    if status != 207:
        return {}
    rows = {}
    for one in xml.fromstring(body).findall("{DAV:}response"):
        href = one.find("{DAV:}href").text
        if href == path:
            continue
        length = one.find(".//{DAV:}getcontentlength")
        rows[href] = None if length is None else int(length.text)
    return rows


def walked(share, path="/"):
    files = {}
    for href, length in listed(share, path).items():
        if length is None:
            files.update(walked(share, href))
        else:
            files[href] = length
    return files


def truth_of(address, *options):
    entries = json.loads(run(LANTERN, "list", address, "--json", *options).stdout)["entries"]
    return {e["path"]: e for e in entries if e["kind"] == "file"}


def sha_of(address):
    return hashlib.sha256(subprocess.run([LANTERN, "show", address, "--raw"], capture_output=True, check=True, timeout=60).stdout).hexdigest()


def check_files(disk):
    truth = truth_of(f"{disk}::2")
    with Sharing(f"{disk}::2", "--own-certificate") as share:
        certificate = ssl.get_server_certificate(("127.0.0.1", share.port))
        mark = hashlib.sha256(ssl.PEM_cert_to_DER_cert(certificate)).hexdigest().upper()
        check(share.told["fingerprint"].replace(":", "") == mark, "the fingerprint is the certificate's")
        files = walked(share)
        check({urllib.parse.unquote(href): size for href, size in files.items()} == {path: e["size_bytes"] for path, e in truth.items()},
              f"PROPFIND lists the volume's {len(files)} files with their sizes")
        contents = {urllib.parse.unquote(href): share.ask("GET", href) for href in files}
        check(all(hashlib.sha256(got[2]).hexdigest() == sha_of(truth[path]["address"]) for path, got in contents.items()), "GET gives each, byte for byte")
        href = next(h for h in files if h.endswith("2022%20from%20paper.csv"))
        status, answer, whole = share.ask("GET", href)
        check(share.ask("GET", href, Range="bytes=7-19")[2] == whole[7:20] and share.ask("GET", href, Range="bytes=-5")[2] == whole[-5:], "ranges")
        status, refused, _ = share.ask("GET", href, Range=f"bytes={len(whole)}-")
        check(status == 416 and refused.getheader("Content-Range") == f"bytes */{len(whole)}", "a range behind the end is refused")
        check(share.ask("GET", href, If_None_Match=answer.getheader("ETag"))[0] == 304, "what is known is not sent again")
        check(share.ask("GET", href, Range="bytes=0-3", If_Range='"other"')[0] == 200, "a range of another state is the whole")
        status, answer, body = share.ask("HEAD", href)
        check(status == 200 and int(answer.getheader("Content-Length")) == len(whole) and body == b"", "HEAD")
        with zipfile.ZipFile(io.BytesIO(share.ask("GET", "/?zip")[2])) as packed:
            same = all(hashlib.sha256(packed.read(path[1:])).hexdigest() == hashlib.sha256(contents[path][2]).hexdigest() for path in truth)
            check(packed.testzip() is None and same, "a folder as a zip")
        page = share.ask("GET", "/")[2].decode()
        check("Stores.txt" in page and "<script" not in page, "a page for browsers")
        found = share.ask("GET", "/?find=NEST")[2].decode()
        check(found.count("<tr>") - 1 == sum("nest" in name.lower() for name in
                                             {part for path in truth for part in ["/".join(path.split("/")[:2]), path]
                                              if "nest" in part.rsplit("/", 1)[1].lower()}), "a search finds names in any case")
        check("434" in share.ask("GET", "/Keeper/log-2026-03.txt?look")[2].decode() or
              share.ask("GET", "/Keeper/log-2026-03.txt?look")[0] == 200, "a text is looked at")
        check(b"<img" in share.ask("GET", "/Photographs/Lamp%20room.jpg?look")[2], "a picture is looked at")
        check(share.ask("GET", "/Keeper")[0] == 301, "a folder without its slash leads to the folder")
        if shutil.which("curl"):
            login = f"{share.told['user']}:{share.told['password']}"
            done = subprocess.run(["curl", "-sk", "-u", login, "-r", "0-9", f"https://127.0.0.1:{share.port}{href}"], capture_output=True, timeout=30)
            check(done.stdout == whole[:10], "curl reads a range over TLS")


def check_writes(share):
    for method in ("PUT", "DELETE", "MKCOL", "COPY", "MOVE", "PROPPATCH", "POST"):
        status = share.ask(method, "/new.txt", b"x" if method in ("PUT", "POST") else None, Destination="/other")[0]
        check(status == 403, f"{method} is refused: {status}")
    check(share.ask("TRACE", "/")[0] == 405, "an unknown method is refused")
    asked = "<D:lockinfo xmlns:D='DAV:'><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockinfo>"
    status, answer, _ = share.ask("LOCK", "/Stores.txt", asked, Timeout="Second-60")
    token = answer.getheader("Lock-Token") or ""
    check(status == 200 and token.startswith("<opaquelocktoken:"), f"a lock is granted: {status}")
    check(share.ask("LOCK", "/Stores.txt", asked)[0] == 423, "and not to a second one")
    check(share.ask("LOCK", "/Stores.txt", None, If=f"({token})")[0] == 200, "it is refreshed")
    check(share.ask("UNLOCK", "/Stores.txt", None, Lock_Token=token)[0] == 204, "it is given back")
    check("1, 2" in (share.ask("OPTIONS", "/")[1].getheader("DAV") or ""), "OPTIONS names classes 1 and 2")


def check_hostile(disk):
    with Sharing(f"{disk}::2") as share:
        check_writes(share)
        for target in ("/../../etc/passwd", "/%2e%2e/%2e%2e/etc/passwd", "/a/..%2f..", "/%00", "/%"):
            check(share.ask("GET", target)[0] == 400, f"{target} is refused")
        check(share.ask("GET", "/nothing.txt")[0] == 404, "what is not there is said")
        check(share.ask("PROPFIND", "/", None, Depth="infinity")[0] == 403, "a walk without end is refused")
        check(share.ask("PROPFIND", "/", b"<a", Depth="0")[0] == 400, "XML that is none")
        bomb = "<!DOCTYPE a [" + "".join(f"<!ENTITY a{i + 1} '{f'&a{i};' * 50}'>" for i in range(20)) + "]><a>&a20;</a>"
        check(share.ask("PROPFIND", "/", bomb.encode(), Depth="0")[0] == 400, "entities do not grow")
        check(share.ask("PUT", "/x", b"x" * (80 << 10))[0] in (403, 413), "a large body")
        noise = [b"\0" * 4096, b"GET / HTTP/9.9\r\n\r\n", b"GET /\r\n\r\n", b"A" * 100000, b"GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 99999999999999999999\r\n\r\n",
                 b"GET / HTTP/1.1\r\n" + b"".join(b"X-%d: y\r\n" % i for i in range(5000)) + b"\r\n",
                 b"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\nFFFFFFFFFFFFFFFFF\r\n"]
        for text in noise:
            with socket.create_connection(("127.0.0.1", share.port), timeout=30) as raw:
                try:
                    raw.sendall(text)
                    raw.shutdown(socket.SHUT_WR)
                    while raw.recv(65536):
                        pass
                except OSError:
                    pass
        connection = share.connect()
        began = time.monotonic()
        connection.request("GET", "/", headers=share.login("wrong"))
        check(connection.getresponse().status == 401 and time.monotonic() - began > 0.9, "a wrong password is refused, and waits")
        connection.close()
        connection = share.connect()
        connection.request("GET", "/")
        answer = connection.getresponse()
        check(answer.status == 401 and "Basic" in answer.getheader("WWW-Authenticate"), "without one it is asked for")
        connection.close()
        idle = [socket.create_connection(("127.0.0.1", share.port), timeout=30) for _ in range(60)]

        def one(_):
            try:
                return share.ask("GET", "/Stores.txt")[0]
            except OSError:
                return None
        with concurrent.futures.ThreadPoolExecutor(50) as pool:
            statuses = list(pool.map(one, range(200)))
        check(statuses == [200] * 200, f"200 requests of 50 clients beside 60 that say nothing: {[s for s in statuses if s != 200][:5]}")
        for each in idle:
            each.close()
        for _ in range(20):  # cut in the middle
            with socket.create_connection(("127.0.0.1", share.port), timeout=30) as raw:
                raw.sendall(b"GET /?zip HTTP/1.1\r\nHost: a\r\nAuthorization: " + share.login()["Authorization"].encode() + b"\r\n\r\n")
                raw.recv(10)
        check(share.ask("GET", "/Stores.txt")[0] == 200, "it answers still")
        check(share.end() == 0, "it ends when it is asked to, exit 0")


def check_deleted(disk):
    lost = truth_of(f"{disk}::2", "--deleted-only")
    with Sharing(f"{disk}::2") as share:
        check("deleted" not in share.ask("GET", "/")[2].decode(), "deleted files are shared only when they are asked for")
    with Sharing(f"{disk}::2", "--deleted") as share:
        files = {urllib.parse.unquote(h) for h in walked(share)}
        check({f"/deleted/2{path}" for path in lost} <= files, "deleted files, asked for")
        page = share.ask("GET", "/deleted/2/Keeper/")[2].decode()
        check("deleted, about 59 % is left" in page, "the page marks them")
    with Sharing(f"{disk}::2::/Keeper") as share:
        check(sorted(walked(share)) == ["/log-2026-01.txt", "/log-2026-03.txt"], "one folder, and no other")


def check_people(disk, folder):
    people = f"{folder}/people"
    for name in ("keeper", "boatman"):
        done = subprocess.run([LANTERN, "serve", "--add-user", name, "--password-file", people], input=f"{name} of Skerrow\n", capture_output=True, text=True,
                              timeout=60, start_new_session=True)
        check(done.returncode == 0, f"--add-user {name}: {done.stderr}")
    subprocess.run([LANTERN, "serve", "--add-user", "keeper", "--password-file", people], input="a new one\n", capture_output=True, text=True, timeout=60,
                   start_new_session=True)
    with open(people, encoding="ascii") as f:
        check("Skerrow" not in f.read() and os.stat(people).st_mode & 0o77 == 0, "the file holds hashes, for its owner alone")
    with Sharing(f"{disk}::2", "--password-file", people, "--case", f"{folder}/case") as share:
        share.told["user"], share.told["password"] = "boatman", "boatman of Skerrow"
        check(share.ask("GET", "/Stores.txt")[0] == 200, "one of the file may see it")
        share.told["user"], share.told["password"] = "keeper", "a new one"
        check(share.ask("GET", "/Stores.txt")[0] == 200, "a later line is a new password")
        check(share.ask("GET", "/Stores.txt", Authorization="Basic " + base64.b64encode(b"boatman:x").decode())[0] == 401, "with another password not")
        with open(f"/proc/{share.child.pid}/cmdline", encoding="utf-8") as f:
            check("of Skerrow" not in f.read(), "no password is in the list of processes")
    with open(f"{folder}/case/access.log", encoding="utf-8") as f:
        lines = f.read()
    check(re.search(r"boatman GET /Stores.txt 200 50", lines) and "of Skerrow" not in lines, "the case has who asked for what")
    with open(f"{folder}/none", "w", encoding="ascii") as f:
        f.write("keeper:plain words\n")
    refused = run(LANTERN, "serve", disk, "--webdav", "127.0.0.1:0", "--password-file", f"{folder}/none")
    check(refused.returncode == 3 and "NAME:HASH" in refused.stderr, f"a file of plain passwords is refused: {refused.stderr}")


def check_end(disk):
    refused = run(LANTERN, "serve", disk, "--webdav", "127.0.0.1:0", "--until", "2020-01-01")
    check(refused.returncode == 2 and "over already" in refused.stderr, f"an end in the past: {refused.stderr}")
    refused = run(LANTERN, "serve", disk, "--nbd", "127.0.0.1:0", "--deleted")
    check(refused.returncode == 2 and "add --webdav" in refused.stderr, f"what is for a share alone: {refused.stderr}")
    soon = time.gmtime(time.time() + 65)
    if ALL:
        with Sharing(disk, "--until", time.strftime("%Y-%m-%dT%H:%M", soon)) as share:
            check(share.child.wait(90) == 0, "it ends by itself when its time is over, exit 0")
    with Sharing(disk, "--until", "3d") as share:
        check(share.told["until"].endswith("Z"), "its end is told")


def check_damage(folder):
    """Contents past the end of a cut disk, and a disk that is changed below."""
    disk = f"{folder}/ext3.img"
    subprocess.run(["zstd", "-dqf", "--sparse", f"{FIXTURES}/ext3.img.zst", "-o", disk], check=True)
    listing = json.loads(run(LANTERN, "list", disk, "--json").stdout)["entries"]
    shown = [json.loads(run(LANTERN, "show", e["address"], "--json").stdout) for e in listing if e["kind"] == "file"]
    places = sorted(part["places"][-1]["offset_bytes"] for s in shown for part in s["extents"] if part["places"])
    with open(disk, "r+b") as f:
        f.truncate(places[len(places) // 2])
    with Sharing(disk) as share:
        told = []
        for href, size in walked(share).items():
            try:
                status, _, body = share.ask("GET", href)
                told.append((status, status == 200 and len(body) == size))
            except (http.client.IncompleteRead, OSError):
                told.append((500, False))
        check(any(s == 500 for s, _ in told) and any(ok for _, ok in told), f"what is lost is an error, what is left is whole: {[s for s, _ in told]}")
        check(all(ok for s, ok in told if s == 200), "nothing that is cut passes for whole")
        with zipfile.ZipFile(io.BytesIO(share.ask("GET", "/?zip")[2])) as packed:
            check("not read.txt" in packed.namelist(), "a zip names what it lacks")
        with open(disk, "r+b") as f:
            f.write(b"\0" * 512)
        check(share.child.wait(30) == 4, "a disk that is changed below ends the share")


def check_many(folder):
    disk, count = f"{folder}/many.img", 600_000 if ALL else 60_000
    make_disk(disk, count)
    with Sharing(disk, "--connections", "1100") as share:
        status, _, body = share.ask("PROPFIND", "/NIGHT000/", Depth="1")
        check(status == 207 and body.count(b"<D:response>") == 60_001, f"a folder of 60,000 files: {body.count(b'<D:response>')}")
        check(share.ask("GET", "/NIGHT000/")[2].count(b"<tr>") == 60_001, "its page")
        with open(f"/proc/{share.child.pid}/status", encoding="ascii") as f:
            peak = next(int(line.split()[1]) >> 10 for line in f if line.startswith("VmHWM"))
        check(peak < 64, f"in bounded memory: {peak} MiB")
        idle = [share.connect() for _ in range(1000)]
        for each in idle:
            each.request("HEAD", "/", headers=share.login())
            each.getresponse().read()
        with open(f"/proc/{share.child.pid}/status", encoding="ascii") as f:
            now = next(int(line.split()[1]) >> 10 for line in f if line.startswith("VmRSS"))
        check(now < 64, f"a thousand that were answered and say nothing more: {now} MiB")
        check(share.ask("HEAD", "/NIGHT000/")[0] == 200, "and one more is answered beside them")
        for each in idle:
            each.close()


def main():
    with tempfile.TemporaryDirectory() as folder:
        run(LANTERN, "demo", f"{folder}/demo")
        disk = f"{folder}/demo/station.vdi"
        check_files(disk)
        check_hostile(disk)
        check_deleted(disk)
        check_people(disk, folder)
        check_end(disk)
        if shutil.which("zstd"):
            check_damage(folder)
        if shutil.which("mkfs.fat"):
            check_many(folder)
    print(f"{len(bad)} bad")
    return 1 if bad else 0


os.environ["PATH"] += ":/usr/sbin:/sbin"
sys.exit(main())
