#!/usr/bin/env python3
"""The house rules that a script can check: who may include whom, how long files are, ASCII, the public headers.

Prints a line for each breach; exit 1 when there is one."""
import os
import re
import subprocess
import sys

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
# From the ground up: a room includes only itself and rooms before it.
ROOMS = ["base", "source", "host", "format", "container", "volume", "filesystem", "catalog", "contents", "nest", "recover", "repair", "survey", "physical",
         "serve", "report"]
# The room each public header belongs to.
PUBLIC = {
    "range.h": "base", "error.h": "base", "finding.h": "base", "context.h": "base", "text.h": "base", "json.h": "base",
    "timestamp.h": "base", "byte_source.h": "source", "sources.h": "source", "scratch.h": "source",
    "host.h": "host", "container.h": "container", "volume_table.h": "volume", "file_system.h": "filesystem",
    "address.h": "nest", "survey.h": "survey", "extraction.h": "recover", "serving.h": "serve", "imaging.h": "recover", "machines.h": "recover", "search.h": "recover", "structure.h": "repair", "repair.h": "repair", "sweep.h": "recover", "mount.h": "serve", "lantern.h": None,
}
MOST_LINES, MOST_TEST_LINES, MOST_IN_FOLDER, MOST_MAIN = 600, 600, 25, 30
# What prints, exits or reads the environment has no place in the core.
NOT_IN_CORE = re.compile(r"std::(cout|cerr|exit|getenv|signal)\b|\bprintf\s*\(|\bgetenv\s*\(")
# The write side of each layer, and what uses it.
WRITERS = ("src/source/", "src/volume/array/", "src/volume/luks/decrypted.cpp", "src/container/write/", "src/container/mapped_disk", "src/repair/", "src/serve/")
WRITING = re.compile(r"\b(WritableSource|translate)\b")
breaches = []


def lines(path):
    with open(os.path.join(ROOT, path), encoding="utf-8") as f:
        return f.read().split("\n")


def includes(path):
    for line in lines(path):
        found = re.match(r'#include "([^"]+)"', line)
        if found:
            yield found[1]


def room_of(include):
    if include.startswith("lantern/"):
        name = include[len("lantern/"):]
        # A folder of headers is a room's own.
        return name.split("/")[0] if "/" in name else PUBLIC.get(name, "?")
    return include.split("/")[0]


def check_rooms(path, room):
    for include in includes(path):
        other = room_of(include)
        if other not in ROOMS:
            breaches.append(f"{path}: includes {include}, which is in no room")
        elif ROOMS.index(other) > ROOMS.index(room):
            breaches.append(f"{path}: {room} must not know {other} ({include})")


def main():
    listed = subprocess.run(["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True,
                            check=True).stdout.split("\n")
    files = [f for f in listed if f.endswith((".cpp", ".h")) and os.path.exists(os.path.join(ROOT, f))]
    # lantern.h only includes the others.
    for path in files:
        text = lines(path)
        most = MOST_TEST_LINES if path.startswith("tests/") else MOST_LINES
        if len(text) > most:
            breaches.append(f"{path}: {len(text)} lines, {most} is the most")
        for number, line in enumerate(text, 1):
            if not line.isascii():
                breaches.append(f"{path}:{number}: not ASCII")
            if len(line) > 100:
                breaches.append(f"{path}:{number}: longer than 100 characters")
        if path.startswith("include/lantern/"):
            name = path[len("include/lantern/"):]
            room = room_of("lantern/" + name)
            if room and room not in ROOMS:
                breaches.append(f"{path}: not in the table of rooms")
            elif room:
                check_rooms(path, room)
            if not text[0].startswith("//"):
                breaches.append(f"{path}: does not begin by saying what it is for")
        elif path.startswith("src/"):
            check_rooms(path, path.split("/")[1])
            for number, line in enumerate(text, 1):
                if NOT_IN_CORE.search(line) and not path.startswith("src/serve/"):
                    breaches.append(f"{path}:{number}: the core does not print, exit or read the environment")
                if WRITING.search(line) and not path.startswith(WRITERS):
                    breaches.append(f"{path}:{number}: writing belongs to source, repair and serve")
        elif path.startswith(("cli/", "examples/")):
            for include in includes(path):
                if not include.startswith(("lantern/", "cli/")):
                    breaches.append(f"{path}: includes {include}; only public headers are for the command")
    if len(lines("cli/main.cpp")) > MOST_MAIN + 1:
        breaches.append(f"cli/main.cpp: longer than {MOST_MAIN} lines")
    folders = {}
    for path in files:
        if path != "include/lantern/lantern.h":
            folders.setdefault(os.path.dirname(path), []).append(path)
    breaches.extend(f"{folder}: {len(found)} files, {MOST_IN_FOLDER} is the most"
                    for folder, found in folders.items() if len(found) > MOST_IN_FOLDER)
    for breach in breaches:
        print(breach)
    print(f"{len(files)} files, {len(breaches)} breaches")
    return 1 if breaches else 0


sys.exit(main())
