#!/usr/bin/env python3
"""header_examples.py OUT.cpp: the example at the head of each public header, each in a function of its own, to be compiled. An
example is a run of comment lines that begin three blanks in; "..." stands for what its reader writes. A header without one is
a fault, but for those that only declare small helpers."""
import glob
import os
import sys

ROOT = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
WITHOUT = {"range.h", "host.h", "text.h", "timestamp.h", "lantern.h", "address.h", "contents/structure_state.h"}
# What the examples speak of without making it.
GIVEN = """const Address& address, const Session& session, const Context& context, const Target& target,
    const SourcePtr& file, const DiskPtr& disk, const FileSystem& fs, const Entry& entry,
    const std::shared_ptr<const Neighbours>& folder, const ExtractOptions& wanted"""


def example(path):
    lines, inside = [], False
    for line in open(path, encoding="utf-8"):
        if line.startswith("#pragma once"):
            break
        text = line.rstrip("\n")
        inside = text.startswith("//   ") and (inside or text[5:6] not in ("", " "))
        if inside:
            lines.append(text[5:])
    return lines


def main():
    blocks, faults = [], []
    for path in sorted(glob.glob(f"{ROOT}/include/lantern/**/*.h", recursive=True)):
        name = os.path.relpath(path, f"{ROOT}/include/lantern")
        lines = example(path)
        if name in WITHOUT or (not lines and name == "mount.h"):
            continue
        if not lines:
            faults.append(f"{path}: has no example")
        body = "\n".join("  " + line.replace("...", "{}") for line in lines)
        mount = name == "mount.h"
        block = f"// {name}\nvoid example_{len(blocks)}({GIVEN}) {{\n{body}\n}}\n"
        blocks.append(f"#ifdef LANTERN_MOUNT\n{block}#endif\n" if mount else block)
    if faults:
        sys.exit("\n".join(faults))
    text = "// Made by scripts/header_examples.py.\n#include <iostream>\n\n#include \"lantern/lantern.h\"\n\nnamespace lantern {\n\n"
    text += "void use(const Entry&);\nvoid use(const Finding&);\n\n" + "\n".join(blocks) + "\n}  // namespace lantern\n"
    with open(sys.argv[1], "w", encoding="utf-8") as out:
        out.write(text)


main()
