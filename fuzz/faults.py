#!/usr/bin/env python3
"""Makes single system calls of real commands fail, or kills the program there, and looks at what is left.

usage: fuzz/faults.py PROGRAM [--minutes M] [--seed N]

Needs strace (general-purpose, Linux). A small game with layers is prepared once; then, for each command, each kind of
system call that changes something, and each time it is made, the command runs on a copy of that state with just this
call failing (no room, an error of the disk) or with the program killed there. Afterwards the game must be as before or as
the command leaves it undisturbed, the next commands must mend it, and lifting all layers must give the untouched game back,
byte for byte. Prints counts, and every state that is neither.
"""

import argparse
import hashlib
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

CALLS = ["openat", "write", "pwrite64", "fsync", "fdatasync", "syncfs", "ftruncate", "renameat2", "renameat", "rename",
         "mkdirat", "mkdir", "unlinkat", "unlink", "utimensat", "fchmod", "linkat"]
FAULTS = ["error=ENOSPC", "error=EIO", "signal=KILL"]
# Of each kind of call so many are tried.
MOST_A_KIND = 8
COMMANDS = [
    ["add", "three.zip", "--place", ".=game:"],
    ["lift", "one"],
    ["lay", "lifted"],
    ["upgrade", "one", "one-2.zip"],
    ["remove", "two"],
    ["tweak", "config/fog.ini", "k=9"],
    ["mend", "--restore"],
    ["patchday", "begin"],
    ["mend", "--renew"],
    ["rescue"],
]


def zipped(path, members):
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in members.items():
            archive.writestr(zipfile.ZipInfo(name, (2020, 1, 1, 0, 0, 0)), content)


def tree(folder):
    found = {}
    for here, folders, files in os.walk(folder):
        folders[:] = [name for name in folders if name != ".oddstack"]
        for name in files:
            path = Path(here, name)
            found[str(path.relative_to(folder))] = hashlib.sha256(path.read_bytes()).hexdigest()
    return found


class World:
    def __init__(self, program, folder):
        self.program, self.folder = program, folder

    def run(self, words, prefix=()):
        environment = {"ODDSTACK_HOME": str(self.folder / "home"), "PATH": os.environ["PATH"], "HOME": str(self.folder)}
        return subprocess.run([*prefix, self.program, *words], cwd=self.folder, env=environment,
                              stdin=subprocess.DEVNULL, capture_output=True, timeout=120)

    def prepare(self):
        game = self.folder / "game"
        for name in ["data/a.txt", "data/b.txt", "config/fog.ini", "data/deep/c.txt"]:
            path = game / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text("k=1\n" if name.endswith("ini") else f"base {name}\n")
        zipped(self.folder / "one.zip", {"data/a.txt": "one", "data/new/x.txt": "x", "config/fog.ini": "k=2\n"})
        zipped(self.folder / "one-2.zip", {"data/a.txt": "one again", "data/new/y.txt": "y", "config/fog.ini": "k=3\n"})
        zipped(self.folder / "two.zip", {"data/a.txt": "two", "data/deep/c.txt": "two c"})
        zipped(self.folder / "lifted.zip", {"data/b.txt": "lifted", "data/other/z.txt": "z"})
        zipped(self.folder / "three.zip", {"data/b.txt": "three", "config/fog.ini": "k=1\nm=1\n", "t.txt": "t"})
        base = tree(game)
        for words in [["game", "add", "Quillhaven", "game"], ["add", "one.zip", "--place", ".=game:"],
                      ["add", "two.zip", "--place", ".=game:"],
                      ["add", "lifted.zip", "--place", ".=game:", "--lifted"]]:
            done = self.run(words)
            assert done.returncode == 0, done.stderr.decode()
        return base

    def ready(self, words):
        """What must be so for the command to have something to do."""
        if words == ["mend", "--restore"]:
            (self.folder / "game/data/a.txt").write_text("edited by hand")
        if words == ["mend", "--renew"]:
            blob = next(path for path in (self.folder / "home").glob("ledgers/*/blobs/*/*") if path.read_bytes() == b"two")
            blob.unlink()
        if words == ["rescue"]:
            next((self.folder / "home").glob("ledgers/*/catalogue.sqlite")).write_bytes(b"damaged")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("program")
    parser.add_argument("--minutes", type=float, default=2.0)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    program = str(Path(asked.program).resolve())
    place = Path(tempfile.mkdtemp(prefix="oddstack-faults-", dir="/dev/shm" if os.path.isdir("/dev/shm") else None))
    # Every copy lies at the same place, since the ledger knows where the game is.
    at, whole = place / "here", place / "whole"
    at.mkdir()
    world = World(program, at)
    base = world.prepare()
    shutil.copytree(at, whole, symlinks=True)

    def fresh(words):
        shutil.rmtree(at)
        shutil.copytree(whole, at, symlinks=True)
        world.ready(words)

    jobs = [(words, call, fault) for words in COMMANDS for call in CALLS for fault in FAULTS]
    dice = random.Random(asked.seed)
    dice.shuffle(jobs)
    until, counts, bad, exits = time.time() + asked.minutes * 60, {"runs": 0, "struck": 0, "jobs": 0}, [], {}
    afters = {}
    for words, call, fault in jobs:
        if time.time() > until:
            break
        counts["jobs"] += 1
        name = " ".join(words)
        if name not in afters:
            fresh(words)
            before = tree(at / "game")
            done = world.run(words)
            assert done.returncode == 0, (name, done.stderr.decode())
            afters[name] = (before, tree(at / "game"))
        log = place / "log"
        fresh(words)
        world.run(words, ["strace", "-f", "-qq", "-o", str(log), "-e", f"trace={call}"])
        made = sum(f" {call}(" in line for line in log.read_text(errors="replace").splitlines())
        for when in dice.sample(range(1, made + 1), min(made, MOST_A_KIND)):
            if time.time() > until:
                break
            fresh(words)
            done = world.run(words, ["strace", "-f", "-qq", "-o", str(log), "-e", f"trace={call}", "-e",
                                     f"inject={call}:{fault}:when={when}"])
            counts["runs"] += 1
            if not ("INJECTED" in log.read_text(errors="replace") or done.returncode < 0 or done.returncode == 137):
                continue
            counts["struck"] += 1
            exits[done.returncode] = exits.get(done.returncode, 0) + 1
            told = f"{name}, {call} number {when}, {fault}: exit {done.returncode}"
            now = tree(at / "game")
            # A killed one is mended by the next.
            looked = world.run(["check"])
            if words == ["rescue"] and looked.returncode == 5:
                looked = world.run(["rescue"])
            mended = tree(at / "game")
            if mended not in afters[name]:
                bad.append(f"{told}: neither before nor after ({sorted(set(mended.items()) ^ set(afters[name][0].items()))})")
            if done.returncode == 1 and now != afters[name][0]:
                bad.append(f"{told}: said that nothing was changed, and something was")
            if done.returncode == 0 and mended != afters[name][1]:
                bad.append(f"{told}: said that it was done, and it was not: {done.stderr.decode()}")
            if words == ["mend", "--renew"]:
                world.run(["mend", "--renew"])
            if words == ["patchday", "begin"]:
                world.run(["patchday", "finish"])
            lifted = world.run(["lift", "--all", "--keep-edits"])
            if lifted.returncode != 0 or tree(at / "game") != base:
                bad.append(f"{told}: the way back: exit {lifted.returncode} {lifted.stderr.decode()} {looked.stderr.decode()}")
    shutil.rmtree(place)
    print(f"{counts['struck']} faults in {counts['runs']} runs of {counts['jobs']} kinds; exit codes {dict(sorted(exits.items()))}")
    for line in bad[:40]:
        print("BAD", line)
    print(f"{len(bad)} bad" if bad else "none bad")
    sys.exit(1 if bad else 0)


main()
