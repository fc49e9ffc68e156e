#!/usr/bin/env python3
"""What each command prints, whole, against what is kept. outputs.py LANTERN [--update] [NAME...]

A file of outputs/ is a list of commands, run in order in a fresh folder with the demo disks: "$ COMMAND", then its output
as two blanks and a line of standard output, "! " and a line of standard error, and "= CODE" where it is not 0. --update
writes what is printed now; read the difference before it is kept."""
import difflib
import os
import subprocess
import sys
import tempfile

HERE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "outputs")


def commands_of(text):
    return [line[2:] for line in text.split("\n") if line.startswith("$ ")]


def lines_of(mark, text):
    return [f"{mark} {line}".rstrip() for line in text.rstrip("\n").split("\n")] if text.strip() else []


def run(command, lantern, folder):
    environment = {**os.environ, "TZ": "UTC", "PATH": os.path.dirname(lantern) + ":" + os.environ["PATH"], "TERM": "dumb"}
    environment.pop("COLUMNS", None)
    done = subprocess.run(["bash", "-c", command], cwd=folder, env=environment, stdin=subprocess.DEVNULL,
                          capture_output=True)
    lines = [f"$ {command}"]
    lines += lines_of(" ", done.stdout.decode(errors="backslashreplace"))
    lines += lines_of("!", done.stderr.decode(errors="backslashreplace"))
    if done.returncode != 0:
        lines.append(f"= {done.returncode}")
    return lines


def main():
    lantern = os.path.abspath(sys.argv[1])
    update = "--update" in sys.argv
    wanted = [word for word in sys.argv[2:] if word != "--update"]
    wrong = 0
    for name in sorted(os.listdir(HERE)):
        if wanted and os.path.splitext(name)[0] not in wanted:
            continue
        path = os.path.join(HERE, name)
        with open(path, encoding="utf-8") as f:
            kept = f.read()
        # Always in one place: lines are broken by the length of its name.
        with tempfile.TemporaryDirectory(prefix="lantern_outputs", dir="/tmp") as folder:
            subprocess.run([lantern, "demo", "skerrow"], cwd=folder, check=True, capture_output=True)
            printed = []
            for command in commands_of(kept):
                printed += [line.replace(folder, "HERE") for line in run(command, lantern, folder)] + [""]
        text = "\n".join(printed)
        if update:
            with open(path, "w", encoding="utf-8") as f:
                f.write(text)
        elif text != kept:
            wrong += 1
            sys.stdout.writelines(difflib.unified_diff(kept.splitlines(True), text.splitlines(True), f"{name}, kept",
                                                       f"{name}, printed"))
    print(f"{wrong} wrong")
    return 1 if wrong else 0


sys.exit(main())
