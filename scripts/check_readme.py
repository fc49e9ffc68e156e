#!/usr/bin/env python3
"""check_readme.py LANTERN [--update]: runs the commands of README.md on the demo disks.

Every line "$ lantern ..." of a console block is run in one fresh folder, in order; what it prints must be what
the README says. --update writes what it prints into the README instead."""
import difflib
import os
import re
import subprocess
import sys
import tempfile

README = os.path.join(os.path.dirname(os.path.dirname(os.path.abspath(__file__))), "README.md")


def output_of(lantern, command, folder):
    # Both streams in the order of the README: what happened on the way first, then the result.
    env = {**os.environ, "TZ": "UTC", "PATH": os.path.dirname(lantern) + ":" + os.environ["PATH"]}
    done = subprocess.run(["bash", "-c", command], cwd=folder, env=env, stdin=subprocess.DEVNULL, capture_output=True,
                          text=True)
    return done.stderr + done.stdout


def main():
    lantern = os.path.abspath(sys.argv[1])
    update = "--update" in sys.argv
    with open(README, encoding="utf-8") as f:
        text = f.read()
    failed = False
    with tempfile.TemporaryDirectory() as folder:
        def run_block(match):
            nonlocal failed
            made = []
            for part in re.split(r"^(?=\$ )", match[1], flags=re.M):
                if not part.strip():
                    continue
                command, _, said = part.partition("\n")
                printed = output_of(lantern, command[2:], folder)
                if not update and printed.rstrip() != said.rstrip():
                    failed = True
                    print(f"README.md: {command}")
                    sys.stdout.writelines(difflib.unified_diff(said.splitlines(True), printed.splitlines(True),
                                                               "said", "printed"))
                made.append(command + "\n" + printed.rstrip() + ("\n" if printed.strip() else ""))
            return "```console\n" + "\n".join(made) + "```"
        text = re.sub(r"```console\n(.*?)```", run_block, text, flags=re.S)
    if update:
        with open(README, "w", encoding="utf-8") as f:
            f.write(text)
    return 1 if failed else 0


sys.exit(main())
