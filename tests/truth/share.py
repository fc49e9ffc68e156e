"""How much of a long test family is run: all of it by scripts/test.sh --all, else a smoke case a kind."""
import os

ALL = bool(os.environ.get("LANTERN_TEST_ALL"))


def share(rows, count):
    """All, or `count` of them from first to last."""
    rows = list(rows)
    if ALL or len(rows) <= count:
        return rows
    return [rows[i * len(rows) // count] for i in range(count)]
