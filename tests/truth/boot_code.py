#!/usr/bin/env python3
"""boot_code.py IMAGE: gives a FAT12 or FAT16 volume that fills a disk boot code that says BOOT-OK on the first serial line and stops."""
import sys

AT = 0x3E  # behind the figures of the volume
TEXT = b"BOOT-OK\r\n\0"
CODE = bytes.fromhex("31c0 8ed8"   # data segment 0
                     "baf803"      # dx: the serial line
                     "be0000"      # si: the text, filled in below
                     "ac 84c0 7403 ee ebf8"  # each byte to the line, up to the zero
                     "f4 ebfd")    # stop
TEXT_AT = 8  # of its place in the code


def write(image):
    code = bytearray(CODE)
    code[TEXT_AT:TEXT_AT + 2] = (0x7C00 + AT + len(CODE)).to_bytes(2, "little")
    with open(image, "r+b") as f:
        f.seek(AT)
        f.write(bytes(code) + TEXT)


if __name__ == "__main__":
    write(sys.argv[1])
