"""What a power cut can leave of the writes that a journal keeps."""
import itertools
import struct


class Journal:
    """The writes a journal keeps (docs/formats/writes.md)."""

    def __init__(self, path):
        with open(path, "rb") as f:
            data = f.read()
        assert data[:8] == b"LTWRITES"
        self.files, self.writes, at = [], [], 32
        while at < len(data):
            kind, _, length = struct.unpack_from("<IIQ", data, at)
            body = data[at + 16:at + 16 + length]
            if kind == 1:
                self.files.append((body[76:76 + struct.unpack_from("<I", body, 72)[0]].decode(), struct.unpack_from("<Q", body)[0]))
            if kind == 3:
                number, flags, offset, size, before = struct.unpack_from("<IIQQQ", body)
                self.writes.append((number, flags & 1, offset, body[32:32 + size]))
            at += 16 + length

    def stretches(self):
        """Lists of writes with no flush between them."""
        groups = [[]]
        for write in self.writes:
            if write[1] and groups[-1]:
                groups.append([])
            groups[-1].append(write)
        return groups


def states(journal):
    """Lists of writes that may be on the medium after a power cut."""
    done = []
    for group in journal.stretches():
        subsets = list(itertools.chain.from_iterable(
            itertools.combinations(range(len(group)), n) for n in range(len(group) + 1))) if len(group) <= 4 else (
            [()] + [(i,) for i in range(len(group))] +
            [tuple(j for j in range(len(group)) if j != i) for i in range(len(group))])
        for subset in subsets:
            yield done + [group[i] for i in subset]
        done = done + group
