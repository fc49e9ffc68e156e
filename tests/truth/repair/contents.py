"""What the volumes of a disk hold, as the command under test reads them."""
import json
import os
import subprocess


def run(program, *arguments, ok=(0, 1)):
    done = subprocess.run([program, *arguments], capture_output=True)
    if done.returncode not in ok:
        raise RuntimeError(f"lantern {' '.join(arguments)}: {done.returncode}: {done.stderr.decode()}")
    return done


def contents(program, path, folder):
    """Every file of every volume, by hash: what each volume holds, whatever its number is now."""
    held = {}
    report = json.loads(run(program, "survey", path, "--json").stdout)
    for volume in report["volumes"]:
        if not volume["file_system"]:
            continue
        out = os.path.join(folder, "OUT")
        subprocess.run(["rm", "-rf", out, out + ".json", out + ".json.part"])
        run(program, "extract", volume["address"], out, "--manifest", out + ".json")
        rows = []
        # Of a volume without files nothing is written.
        if os.path.exists(out + ".json"):
            with open(out + ".json") as f:
                rows = json.load(f)["files"]
        held[volume["start_bytes"]] = sorted((row["path"], row["sha256"]) for row in rows if row["kind"] == "file")
    return held


def all_together(plan):
    """The fixes of a plan that can be applied together, as --apply takes them: of alternatives the first."""
    return ",".join(str(fix["number"]) for fix in plan["fixes"] if all(other > fix["number"] for other in fix["alternatives"]))
