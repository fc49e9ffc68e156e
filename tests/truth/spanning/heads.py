#!/usr/bin/env python3
"""heads.py LANTERN: superblocks, labels and metadata areas that members have lost, made anew from what the others record.

What real mdadm and LVM wrote is the measure: of a superblock all but the member's own id and the checksum must come back, of a label and
the header of an area every byte. Undo brings the damage back bit for bit. Healthy sets, members whose data do not fit, other disks of the
same size and sets whose state is in between get no proposal."""
import json
import os
import random
import shlex
import shutil
import subprocess
import sys
import tempfile
from contextlib import contextmanager

sys.path.insert(0, os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
from lab import bad, check
from share import ALL
from spanning.sets import Sets, unpacked

LANTERN = os.path.abspath(sys.argv[1])
MARKS = (b"\xfc\x4e\x2b\xa9", b"\xa9\x2b\x4e\xfc")
ID, SUM = range(168, 184), range(216, 220)
OLD_SUM = range(152, 156)


def run(*words):
    return subprocess.run([LANTERN, *words], capture_output=True, text=True)


def content(path):
    with open(path, "rb") as f:
        return f.read()


def store(path, data):
    with open(path, "wb") as f:
        f.write(data)


@contextmanager
def copy_of(folder):
    with tempfile.TemporaryDirectory(prefix="lantern_heads") as work:
        place = f"{work}/pulled"
        shutil.copytree(folder, place)
        yield place, [f"{place}/{name}" for name in sorted(os.listdir(place))], f"{work}/repair.undo"


def plan_of(name, address):
    done = run("repair", address, "--json")
    check(name, done.returncode in (0, 1), f"exit {done.returncode}: {done.stderr}")
    return json.loads(done.stdout) if done.returncode in (0, 1) else {"fixes": [], "steps": [], "notes": []}


def repaired(name, address, member, code, certainty, may_differ=range(0)):
    """Plans, applies, looks at what was written, takes it back. `may_differ`: bytes that need not be those that were."""
    damaged = content(member[0])
    plan = plan_of(name, address)
    check(name, code in [step["code"] for step in plan["steps"]], f"{code} is not proposed: {plan['notes']}")
    if not plan["fixes"]:
        return
    check(name, [fix["certainty"] for fix in plan["fixes"]] == [certainty], f"certainty: {[fix['certainty'] for fix in plan['fixes']]}")
    journal = os.path.dirname(os.path.dirname(member[0])) + "/repair.undo"
    applied = run("repair", address, "--apply", "1", "--journal", journal)
    check(name, applied.returncode in (0, 1) and "Applied" in applied.stdout, f"exit {applied.returncode}: {applied.stderr}")
    now = content(member[0])
    other = [i for i in range(len(now)) if now[i] != member[1][i] and i not in may_differ] if now != member[1] else []
    check(name, not other, f"{len(other)} bytes are not what they were, from byte {other[:1]}")
    check(name, not plan_of(name, address)["fixes"], "there is still something to repair")
    undone = run("undo", journal)
    check(name, undone.returncode == 0 and content(member[0]) == damaged, f"undo: exit {undone.returncode}: {undone.stderr}")
    os.remove(journal)


def survey_names(name, sources, address):
    """The next command that the survey prints is the repair of this address, and finds what to repair."""
    told = json.loads(run("survey", *sources, "--json").stdout)["next"]
    command = next((line for line in told if line.startswith("lantern repair ")), None)
    check(name, command and shlex.split(command)[2].endswith(address), f"next: {told}")
    if command:
        done = run(*shlex.split(command)[1:], "--json")
        check(name, done.returncode in (0, 1) and json.loads(done.stdout)["fixes"], f"{command}: exit {done.returncode}: {done.stderr}")


def not_proposed(name, address, because=None):
    plan = plan_of(name, address)
    own = [step["code"] for step in plan["steps"] if step["code"].startswith(("md.", "lvm."))]
    check(name, not own, f"proposed: {own}")
    if because:
        check(name, any(because in str(note) for note in plan["notes"]), f"it does not say \"{because}\": {plan['notes']}")


def superblock(data):
    size = len(data)
    for at in (4096, 0, size // 4096 * 4096 - 8192, size // 65536 * 65536 - 65536):
        if data[at:at + 4] in MARKS:
            return at
    raise ValueError("no superblock")


def own_bytes(data, at):
    old = int.from_bytes(data[at + 4:at + 8], "little") != 1
    return frozenset(at + i for i in (OLD_SUM if old else [*ID, *SUM]))


def array_case(sets, name, dice):
    step = f"md:{sets.array_name(sets.folder(name))}"
    with copy_of(sets.folder(name)) as (place, members, _):
        address = f"{place}::{step}"
        not_proposed(f"{name}, healthy", address)
        for member in members if ALL else [dice.choice(members)]:
            data = content(member)
            at = superblock(data)
            may_differ = own_bytes(data, at)
            label = f"{name} {os.path.basename(member)}"
            store(member, data[:at] + bytes(4096) + data[at + 4096:])
            if member == members[0] or not ALL:
                survey_names(f"{label}, survey of the folder", [place], step)
                survey_names(f"{label}, survey of the disks", members, step)
            repaired(f"{label} lost", address, (member, data), "md.superblock", "certain", may_differ)
            # A byte of what it says; what is behind the list of devices says nothing.
            place_of_byte = at + dice.choice((4, 16, 17, 20, 72, 80, 88, 93, 129, 145, 161, 201, 256))
            store(member, data[:place_of_byte] + bytes([data[place_of_byte] ^ 1 << dice.randrange(8)]) + data[place_of_byte + 1:])
            repaired(f"{label} byte {place_of_byte}", address, (member, data), "md.superblock", "certain", may_differ)
            store(member, data)


def wrong_members(sets, name, dice):
    """The superblock of one is lost, and what is there is not that member as it was."""
    step = f"md:{sets.array_name(sets.folder(name))}"
    with copy_of(sets.folder(name)) as (place, members, _):
        address = f"{place}::{step}"
        data = content(members[1])
        at = superblock(data)
        lost = data[:at] + bytes(4096) + data[at + 4096:]
        # Behind the superblock: data of another time.
        changed = bytearray(lost)
        used = next(i for i in range(1 << 20, len(data)) if data[i])
        changed[used:used + 64] = dice.randbytes(64)
        store(members[1], changed)
        not_proposed(f"{name}, data changed", address, "not what the others say")
        store(members[1], dice.randbytes(len(data)))
        not_proposed(f"{name}, another disk", address)
        store(members[1], lost)
        store(f"{place}/copy of it", lost)
        not_proposed(f"{name}, there twice", address, "name only the one")


def in_between(states):
    for name, because in (("grow5", "reshape"), ("journal5", "log"), ("stale5", "prove")):
        step = f"md:{states.array_name(states.folder(name))}"
        with copy_of(states.folder(name)) as (place, members, _):
            data = content(members[0])
            at = superblock(data)
            store(members[0], data[:at] + bytes(4096) + data[at + 4096:])
            not_proposed(f"{name}, superblock lost", f"{place}::{step}", because)


LABEL, HEADER, AREA = slice(512, 1024), slice(4096, 4608), slice(4096, 0x50000)


def group_case(groups, name, group, volume, dice):
    with copy_of(f"{groups}/{name}") as (place, members, _):
        address = f"{place}::lv:{group}/{volume}"
        not_proposed(f"{name}, healthy", address)

        def damaged(member, what, *parts):
            data = content(member)
            noise = bytearray(data)
            for part in parts:
                noise[part] = what(part.stop - part.start)
            store(member, noise)
            return data

        def byte(member, at):
            data = content(member)
            store(member, data[:at] + bytes([data[at] ^ 4]) + data[at + 1:])
            return data

        member = dice.choice(members[1:])
        cases = [("label", "lvm.label", "certain", lambda: damaged(member, bytes, LABEL)),
                 ("id in the label", "lvm.label", "certain", lambda: byte(member, 0x225)),
                 ("size in the label", "lvm.label", "certain", lambda: byte(member, 0x243)),
                 ("header", "lvm.metadata", "certain", lambda: damaged(member, dice.randbytes, HEADER)),
                 ("a byte of the header", "lvm.metadata", "certain", lambda: byte(member, 4096 + 42)),
                 ("label and header", "lvm.label", "certain", lambda: damaged(member, bytes, LABEL, HEADER))]
        for what, code, certainty, damage in cases if ALL else dice.sample(cases, 2):
            data = damage()
            repaired(f"{name} {os.path.basename(member)} {what}", address, (member, data), code, certainty)
            store(member, data)
        # All texts are lost with the area: it gets the newest, and the older ones are gone.
        data = damaged(member, bytes, AREA)
        repaired(f"{name} area", address, (member, data), "lvm.metadata", "certain", range(AREA.start, AREA.stop))
        store(member, data)
        # A disk of the right size that bears no mark of the group.
        data = content(member)
        store(member, dice.randbytes(len(data)))
        not_proposed(f"{name}, another disk", address)
        store(member, data)
        # No header leads to a description any more: the newest in the ring counts, and nothing says that it was finished.
        kept = [damaged(one, bytes, HEADER) for one in members]
        plan = plan_of(f"{name} all headers", address)
        codes = [step["code"] for step in plan["steps"]]
        check(f"{name} all headers", codes and set(codes) == {"lvm.metadata"}, f"proposed: {codes}")
        check(f"{name} all headers", all(step["certainty"] == "likely" for step in plan["steps"]), "it is called certain")
        numbers = ",".join(str(fix["number"]) for fix in plan["fixes"])
        journal = f"{os.path.dirname(place)}/all.undo"
        run("repair", address, "--apply", numbers, "--journal", journal)
        check(f"{name} all headers", [content(one) for one in members] == kept, "what was written is not what was there")


def main():
    dice = random.Random(19)
    with unpacked("arrays") as place, unpacked("array_states") as states, unpacked("groups") as groups:
        sets = Sets(place)
        redundant = [name for name in sets.names() if not name.startswith(("r0", "linear"))]
        for name in redundant if ALL else ("r1-three", "r5-big-endian-none"):
            array_case(sets, name, dice)
        for name in ("r1-three", "r5-left-symmetric", "r10-n2-4") if ALL else ("r5-left-symmetric",):
            wrong_members(sets, name, dice)
        in_between(Sets(states))
        for name, group, volume in (("plain", "skerrow", "linear"), ("raid", "ledge", "raid5_ls")) if ALL else (("plain", "skerrow", "linear"),):
            group_case(groups, name, group, volume, dice)
    print(f"heads: {len(bad)} bad")
    sys.exit(1 if bad else 0)


main()
