#!/usr/bin/env python3
"""Measures oddstack against what a person would run by hand, and prints ratios.

usage: benches/by_hand.py [--folder DIR] [--rounds N] [--only NAME]... [--small]

Builds its data in DIR (default: /dev/shm, a memory disk; give a folder on a real disk for the other
half of the truth), needs about 12 GB there, and leaves nothing behind. Runs the release build, which
must be there (cargo build --release). Every figure is the median of pairs run one after the other.
--small takes a tenth of the data. Tools compared with, where installed: unzip, zip, bsdtar, 7z, cp, find, b3sum;
zstd, xz and 7z make the archives.
"""

import argparse
import os
import random
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import zipfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
ODDSTACK = ROOT / "target" / "release" / ("oddstack.exe" if os.name == "nt" else "oddstack")


# Where packages go whose files the game does not know.
AS_IT_IS = ("--place", ".=game:")

# Kinds of archive, and how slow reading one may be against the best extractor.
READING = (("zip", 0.9), ("7z", 1.1), ("tar.zst", 1.1), ("tar", 1.0), ("tar.gz", 1.0), ("tar.xz", 1.0))


def content(generator, size):
    """Text of hexadecimal digits: packs to about half, as mixed game files do."""
    return generator.randbytes(size // 2 + 1).hex().encode()[:size]


def make_tree(folder, files, folders, total, seed):
    generator = random.Random(seed)
    sizes = [generator.lognormvariate(0, 1) for _ in range(files)]
    factor = total / sum(sizes)
    for number, size in enumerate(sizes):
        place = folder / f"data/part{number % folders:03}"
        place.mkdir(parents=True, exist_ok=True)
        (place / f"asset_{number:05}.dat").write_bytes(content(generator, max(16, int(size * factor))))


def make_zip(folder, archive):
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as packed:
        for path in sorted(folder.rglob("*")):
            if path.is_file():
                packed.write(path, path.relative_to(folder))


def watch_memory(process, found):
    """Follows the high-water mark of a process's memory in MB; it is only known while it runs."""
    try:
        while True:
            for line in Path(f"/proc/{process}/status").read_text().splitlines():
                if line.startswith("VmHWM:"):
                    found.append(int(line.split()[1]) / 1024)
            time.sleep(0.004)
    except OSError:
        return


def run(command, cwd=None):
    """Seconds and peak memory in MB of one command."""
    environment = {**os.environ, "NO_COLOR": "1"}
    environment.pop("ODDSTACK_GAME", None)
    memory = [0]
    if hasattr(os, "sync"):
        # What the run before left unwritten is not this one's to wait for.
        os.sync()
    begun = time.perf_counter()
    child = subprocess.Popen(
        [str(word) for word in command], cwd=cwd, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
    )
    threading.Thread(target=watch_memory, args=(child.pid, memory), daemon=True).start()
    complaint = child.communicate()[1].decode()
    seconds = time.perf_counter() - begun
    if child.returncode not in (0, 3):
        sys.exit(f"{' '.join(map(str, command))}\nended with {child.returncode}: {complaint}")
    return seconds, max(memory)


class Bench:
    def __init__(self, folder, rounds, small):
        self.folder = Path(tempfile.mkdtemp(prefix="oddstack-bench-", dir=folder))
        self.rounds = rounds
        self.scale = 10 if small else 1
        self.number = 0

    def fresh(self, name):
        self.number += 1
        path = self.folder / f"{name}-{self.number}"
        path.mkdir()
        return path

    def oddstack(self, home, *words):
        return run([ODDSTACK, "--home", home, "-q", "-y", *words])

    def game(self, fill=None):
        """A home and a game folder in care, filled by files of a tree with something else in each."""
        home, game = self.fresh("home"), self.fresh("game")
        if fill:
            shutil.copytree(fill, game, dirs_exist_ok=True)
            for path in game.rglob("*.dat"):
                with path.open("ab") as file:
                    file.write(b"!")
        (game / "readme.txt").write_text("a game")
        self.oddstack(home, "game", "add", "bench", game)
        return home, game

    def drop(self, *paths):
        for path in paths:
            shutil.rmtree(path)

    def data(self, name):
        """The loose tree and the archive of one set of data, made once."""
        tree, archive = self.folder / f"{name}-tree", self.folder / f"{name}.zip"
        if not tree.exists():
            if name == "small":
                make_tree(tree, 20_000 // self.scale, 789 // self.scale, 207_000_000 // self.scale, 1)
            else:
                make_tree(tree, 393 // self.scale, 20, 1_510_000_000 // self.scale, 2)
            make_zip(tree, archive)
        # Read once, so that every run finds it in memory.
        for path in [archive, *tree.rglob("*")]:
            if path.is_file():
                path.read_bytes()
        return tree, archive

    def pairs(self, title, ours, theirs, target, unit="x"):
        """Medians of both and of their ratios. `ours` and `theirs` give (seconds, memory)."""
        results = [(ours(), theirs()) for _ in range(self.rounds)]
        seconds = statistics.median(own[0] for own, _ in results)
        other = statistics.median(hand[0] for _, hand in results)
        ratio = statistics.median(own[0] / hand[0] for own, hand in results)
        memory = max(own[1] for own, _ in results)
        verdict = "" if target is None else ("  ok" if ratio <= target else f"  MISSED ({target} wanted)")
        print(f"{title:58} {seconds:7.3f} s  by hand {other:7.3f} s  {ratio:6.2f} {unit}  {memory:4.0f} MB{verdict}", flush=True)

    def alone(self, title, ours, target):
        results = [ours() for _ in range(self.rounds)]
        seconds = statistics.median(own[0] for own in results)
        memory = max(own[1] for own in results)
        verdict = "" if target is None else ("  ok" if seconds <= target else f"  MISSED ({target} s wanted)")
        print(f"{title:58} {seconds:7.3f} s {'':32} {memory:4.0f} MB{verdict}", flush=True)

    # The measurements.

    def add(self, name, extractor, target):
        _, archive = self.data(name)

        def ours():
            home, game = self.game()
            result = self.oddstack(home, "add", archive, *AS_IT_IS)
            self.drop(home, game)
            return result

        def theirs():
            game = self.fresh("hand")
            command = ["unzip", "-q", archive, "-d", game] if extractor == "unzip" else ["bsdtar", "-xf", archive, "-C", game]
            result = run(command)
            self.drop(game)
            return result

        self.pairs(f"add {name} zip, against {extractor}", ours, theirs, target)

    def growth(self):
        """Twice the files in twice the folders, one of them left out: no cost may grow with their product."""
        packages = {}
        for files in (30_000 // self.scale, 60_000 // self.scale):
            package = self.fresh("many")
            for number in range(files):
                place = package / f"data/part{number // 400:03}/set{number // 4:05}"
                place.mkdir(parents=True, exist_ok=True)
                (place / f"asset_{number:05}.dat").write_text(str(number))
            (package / "readme.txt").write_text("read me")
            packages[files] = package

        def add(package):
            home, game = self.game()
            result = self.oddstack(home, "add", package, "--name", "many", "-n", "--tidy", *AS_IT_IS)
            self.drop(home, game)
            return result

        def upgrade(package):
            home, game = self.game()
            self.oddstack(home, "add", package, "--name", "many", "--lifted", *AS_IT_IS)
            result = self.oddstack(home, "upgrade", "many", package, "-n")
            self.drop(home, game)
            return result

        def adopt(package):
            home, game = self.fresh("home"), self.fresh("game")
            shutil.copytree(package, game, dirs_exist_ok=True)
            self.oddstack(home, "game", "add", "bench", game)
            result = self.oddstack(home, "adopt", package, "--name", "many", "-n", *AS_IT_IS)
            self.drop(home, game)
            return result

        half, whole = packages
        for deed in (add, upgrade, adopt):
            title = f"{deed.__name__} of {whole} files, against one of half of them"
            self.pairs(title, lambda: deed(packages[whole]), lambda: deed(packages[half]), 2.3)

    def packed(self, name, ending):
        """The data in an archive of another kind, made once."""
        tree, _ = self.data(name)
        archive = self.folder / f"{name}.{ending}"
        if not archive.exists():
            make = {
                "7z": f"7z a -bd -mx={3 if name == 'small' else 1} '{archive}' . >/dev/null",
                "tar": f"tar cf '{archive}' .",
                "tar.zst": f"tar c . | zstd -q -T0 -o '{archive}'",
                "tar.gz": f"tar czf '{archive}' .",
                "tar.xz": f"tar c . | xz -T0 -2 > '{archive}'",
            }
            subprocess.run(make[ending], shell=True, check=True, cwd=tree)
        archive.read_bytes()
        return archive

    def read(self, name, ending, target):
        """Reading into a layer, against unpacking by the best extractor for the format."""
        archive = self.data(name)[1] if ending == "zip" else self.packed(name, ending)

        def ours():
            home, game = self.game()
            result = self.oddstack(home, "add", archive, "--lifted", *AS_IT_IS)
            self.drop(home, game)
            return result

        def theirs():
            game = self.fresh("hand")
            seven = ["7z", "x", "-bd", f"-o{game}", archive]
            result = run(seven if ending == "7z" else ["bsdtar", "-xf", archive, "-C", game])
            self.drop(game)
            return result

        tool = "7z x" if ending == "7z" else "bsdtar"
        self.pairs(f"read {name} {ending} into a layer, against {tool}", ours, theirs, target)

    def add_over(self, name):
        tree, archive = self.data(name)

        def ours():
            home, game = self.game(fill=tree)
            result = self.oddstack(home, "add", archive)
            self.drop(home, game)
            return result

        def theirs():
            game = self.fresh("hand")
            shutil.copytree(tree, game, dirs_exist_ok=True)
            result = run(["unzip", "-qo", archive, "-d", game])
            self.drop(game)
            return result

        self.pairs(f"add {name} zip over as many base files, against unzip -o", ours, theirs, 1.0)

    def lay(self, name, target):
        tree, archive = self.data(name)
        home, game = self.game()
        self.oddstack(home, "add", archive, "--lifted", *AS_IT_IS)

        def ours():
            result = self.oddstack(home, "lay", "--all")
            self.oddstack(home, "lift", "--all")
            return result

        def theirs():
            target = self.fresh("hand")
            result = run(["cp", "-r", tree, target])
            self.drop(target)
            return result

        self.pairs(f"lay {name}, against cp -r", ours, theirs, target)
        self.drop(home, game)

    def lift(self, name):
        tree, archive = self.data(name)
        home, game = self.game(fill=tree)
        self.oddstack(home, "add", archive)

        def ours():
            result = self.oddstack(home, "lift", "--all")
            self.oddstack(home, "lay", "--all")
            return result

        self.alone(f"lift {name} off as many covered base files", ours, 1.0)
        self.drop(home, game)

    def check(self):
        tree = self.fresh("many")
        count = 100_000 // self.scale
        make_tree(tree, count, 2_000 // self.scale, 400_000_000 // self.scale, 3)
        home, game = self.fresh("home"), self.fresh("game")
        (game / "readme.txt").write_text("a game")
        self.oddstack(home, "game", "add", "bench", game)
        self.oddstack(home, "add", tree, *AS_IT_IS)
        find = ["find", game, "-type", "f", "-printf", "%s %T@\\n"]
        self.pairs(f"check {count} files, against find", lambda: self.oddstack(home, "check"), lambda: run(find), 1.5)
        if shutil.which("b3sum"):
            files = [path for path in game.rglob("*") if path.is_file()]
            listed = self.folder / "files.txt"
            listed.write_text("\0".join(map(str, files)))
            hand = ["sh", "-c", f"xargs -0 -P 2 -n 5000 b3sum --num-threads 1 < '{listed}'"]
            deep = lambda: self.oddstack(home, "check", "--deep")
            self.pairs(f"check --deep {count} files, against b3sum on all cores", deep, lambda: run(hand), 1.11)
        self.drop(tree, home, game)
        if shutil.which("b3sum"):
            tree, _ = self.data("big")
            home, game = self.game()
            self.oddstack(home, "add", tree, *AS_IT_IS)
            hand = ["sh", "-c", f"find '{game}' -type f | xargs -P 2 -n 20 b3sum --num-threads 1"]
            deep = lambda: self.oddstack(home, "check", "--deep")
            self.pairs("check --deep big, against b3sum on all cores", deep, lambda: run(hand), 1.11)
            self.drop(home, game)

    def capture(self):
        """What a capture costs beyond the program's own time, on a game of 100,000 files, against quick checks."""
        tree = self.fresh("many")
        count = 100_000 // self.scale
        make_tree(tree, count, 2_000 // self.scale, 400_000_000 // self.scale, 3)
        home, game = self.fresh("home"), self.fresh("game")
        shutil.copytree(tree, game, dirs_exist_ok=True)
        self.oddstack(home, "game", "add", "bench", game)
        script = self.folder / "program.sh"
        script.write_text("for n in 0 1 2 3 4; do echo changed > data/part00$n/new.dat; done\n")
        number = 0

        def captured(*options):
            nonlocal number
            number += 1
            name = f"layer{number}"
            took = self.oddstack(home, "capture", name, *options, "--", "/bin/sh", script)
            self.oddstack(home, "remove", name)
            return took

        check = lambda: self.oddstack(home, "check")
        some = lambda: captured("--watch", "data/part000/**")
        self.pairs(f"capture, {count} files, a folder watched, against check", some, check, 2.0)
        self.pairs(f"capture, {count} files, all of it copied, against check", captured, check, None)
        self.drop(tree, home, game)

    def fit(self):
        """Finding out where a package goes: 20,000 files, a quarter known, in a game of 200,000."""
        home, game, package = self.fresh("home"), self.fresh("game"), self.fresh("package")
        count = 200_000 // self.scale
        for number in range(count):
            place = game / f"data/part{number % 4000:04}"
            place.mkdir(parents=True, exist_ok=True)
            (place / f"asset_{number:06}.dat").touch()
        for number in range(0, count, 10):
            place = package / f"Wrapper 1.2/data/part{number % 4000:04}"
            place.mkdir(parents=True, exist_ok=True)
            known = number % 40 == 0
            (place / (f"asset_{number:06}.dat" if known else f"new_{number:06}.dat")).touch()
        self.oddstack(home, "game", "add", "bench", game)
        title = f"with {count // 10} files onto a game of {count}"
        reading = lambda: self.oddstack(home, "fit", package, *AS_IT_IS)
        self.alone(f"fit, its place given, {title}", reading, 0.5)
        self.alone(f"fit, found out, {title}", lambda: self.oddstack(home, "fit", package), 0.8)
        self.drop(home, game, package)

    def upgrade(self):
        """A new version with 10 of 20,000 files changed, against reading that package and nothing else."""
        tree, archive = self.data("small")
        home, game = self.game()
        self.oddstack(home, "add", archive, "--name", "pack", "--version", "1", *AS_IT_IS)
        changed = self.folder / "small-changed.zip"
        new_tree = self.fresh("changed")
        shutil.copytree(tree, new_tree, dirs_exist_ok=True)
        for path in sorted(new_tree.rglob("*.dat"))[:10]:
            path.write_bytes(path.read_bytes()[::-1])
        make_zip(new_tree, changed)
        changed.read_bytes()
        self.drop(new_tree)
        there = [archive, changed]
        turn = 0

        def ours():
            nonlocal turn
            turn += 1
            return self.oddstack(home, "upgrade", "pack", there[turn % 2], "--version", str(turn + 1))

        def reading():
            return self.oddstack(home, "upgrade", "pack", there[(turn + 1) % 2], "--dry-run")

        self.pairs("upgrade of 10 files in 20,000, against its dry run", ours, reading, None)
        self.drop(home, game)

    def many_layers(self):
        home, game = self.fresh("home"), self.fresh("game")
        (game / "readme.txt").write_text("a game")
        self.oddstack(home, "game", "add", "bench", game)
        layers, files = 200 // self.scale, 1000
        generator = random.Random(4)
        for number in range(layers):
            package = self.fresh(f"layer{number:03}")
            for index in range(files):
                # A third of the addresses are shared with two other layers.
                owner = f"shared{number // 3:03}" if index % 3 == 0 else f"own{number:03}"
                place = package / f"data/{owner}/{index % 20:02}"
                place.mkdir(parents=True, exist_ok=True)
                (place / f"file_{index:04}.dat").write_bytes(content(generator, 64))
            self.oddstack(home, "add", package, "--name", f"layer{number:03}", *AS_IT_IS)
            self.drop(package)
        tiny = self.fresh("tiny")
        (tiny / "data" / "tiny").mkdir(parents=True)
        for index in range(5):
            (tiny / "data" / "tiny" / f"{index}.txt").write_text(f"{index}")
        (tiny / "readme_tiny.txt").write_text("tiny")
        self.oddstack(home, "add", tiny, "--name", "tiny", *AS_IT_IS)
        title = f"with {layers} layers and {layers * files} entries"
        self.alone(f"stack {title}", lambda: self.oddstack(home, "stack"), 0.05)

        def small_change():
            result = self.oddstack(home, "lift", "tiny")
            self.oddstack(home, "lay", "tiny")
            return result

        self.alone(f"lift a small layer {title}", small_change, 0.15)
        self.alone(f"conflicts {title}", lambda: self.oddstack(home, "conflicts"), 0.2)
        self.alone(f"check {title}", lambda: self.oddstack(home, "check"), 5.0)
        self.alone(f"lift --all {title}", lambda: self.oddstack(home, "lift", "--all"), 60.0)
        self.drop(home, game, tiny)

    def building(self, name):
        """A second folder of a game, against a copy of it; and brought up to date by ten files."""
        tree, _ = self.data(name)
        home, game = self.game(tree)
        self.oddstack(home, "lineup", "save", "season")
        copy, second = self.folder / "copy", self.folder / "second"

        def ours(*options):
            shutil.rmtree(second, ignore_errors=True)
            return self.oddstack(home, "lineup", "build", "season", second, *options)

        def theirs():
            shutil.rmtree(copy, ignore_errors=True)
            return run(["cp", "-r", game, copy])

        self.pairs(f"lineup build {name}, against cp -r", ours, theirs, 1.0)
        self.drop(copy)
        if name == "big":
            self.drop(second)
            self.oddstack(home, "lineup", "drop", "season")
            self.oddstack(home, "lineup", "save", "season")
            self.alone(f"lineup build {name} --links", lambda: ours("--links"), 1.0)
        few = self.fresh("few")
        for number in range(10):
            (few / f"new_{number}.dat").write_text(str(number))

        def update():
            turn = "lift" if update.laid else "lay"
            if update.laid is None:
                self.oddstack(home, "add", few, "--name", "few", "--place", ".=game:")
            else:
                self.oddstack(home, turn, "few")
            update.laid = not update.laid
            self.oddstack(home, "lineup", "save", "season")
            return self.oddstack(home, "lineup", "build", "season")

        update.laid = None
        self.alone(f"lineup build {name}, ten files differ", update, None)
        self.drop(home, game, second, few)

    def container(self):
        """One small member of a container of 20,000 members and 1.5 GB, against a copy of it and against `zip` in place."""
        home, game = self.fresh("home"), self.fresh("game")
        whole = self.folder / "core.qpk"
        generator = random.Random(5)
        members, blob = 20_000 // self.scale, generator.randbytes(1 << 20)
        with zipfile.ZipFile(whole, "w", zipfile.ZIP_STORED) as packed:
            for number in range(members):
                size = int(75_000 * (0.2 + 1.6 * generator.random()))
                start = generator.randrange(len(blob) - size)
                packed.writestr(f"part{number % 200:03}/asset_{number:05}.dat", blob[start : start + size])
        (game / "data").mkdir()
        shutil.copyfile(whole, game / "data" / "core.qpk")
        self.oddstack(home, "game", "add", "bench", game)
        for name, number in (("one", 3), ("two", 4)):
            member = self.fresh(name) / f"part{number:03}" / f"asset_{number:05}.dat"
            member.parent.mkdir()
            member.write_text(f"{name}, one small member")
            place = (member.parent.parent, "--name", name, "--place", ".=data/core.qpk!/")
            self.oddstack(home, "add", *place)

        def ours():
            result = self.oddstack(home, "lift", "one")
            self.oddstack(home, "lay", "one")
            return result

        def both():
            result = self.oddstack(home, "lift", "--all")
            return self.oddstack(home, "lay", "--all") if result else result

        def copied():
            target = self.folder / "copy.qpk"
            result = run(["cp", whole, target])
            target.unlink()
            return result

        def by_hand():
            target = self.folder / "copy.qpk"
            shutil.copyfile(whole, target)
            result = run(["zip", "-q", "-d", target, "part003/asset_00003.dat"])
            target.unlink()
            return result

        title = f"one member of {members} in a container"
        self.pairs(f"{title}, against cp", ours, copied, 1.2)
        self.pairs(f"{title}, against zip -d", ours, by_hand, None)
        self.pairs("two layers in it laid at once, against cp", both, copied, 1.2)
        address = "data/core.qpk!/part003/asset_00003.dat"
        self.alone("trace of a member in it", lambda: self.oddstack(home, "trace", address), 0.05)
        self.drop(home, game)
        whole.unlink()

    def containers(self):
        """A game of 2,000 containers of 1 MB, added; and counted, for which each directory is read."""
        game = self.fresh("game")
        content_of_one = random.Random(6).randbytes(1 << 20)
        for number in range(2_000 // self.scale):
            with zipfile.ZipFile(game / f"pack_{number:04}.qpk", "w", zipfile.ZIP_STORED) as packed:
                for index in range(20):
                    packed.writestr(f"part/{index:02}.dat", content_of_one[index * 50_000 : (index + 1) * 50_000])
        homes = []

        def ours():
            for home in homes[-1:]:
                self.oddstack(home, "game", "forget", "bench")
            homes.append(self.fresh("home"))
            return self.oddstack(homes[-1], "game", "add", "bench", game)

        self.pairs("game add with 2,000 containers, against find", ours, lambda: run(["find", game, "-printf", "%s"]), None)
        self.alone("counting them (game show)", lambda: self.oddstack(homes[-1], "game", "show"), None)
        address = "pack_0007.qpk!/part/03.dat"
        self.alone("trace of a member there", lambda: self.oddstack(homes[-1], "trace", address), 0.05)
        self.drop(game, *homes)

    def conflicts(self):
        """Contests among very many entries: each address is shared by two layers, a tenth of it with other content."""
        sizes = ((100, 2000, 0.2), (200, 2000, None), (500, 2000, 1.0))
        for layers, files, target in sizes:
            layers //= self.scale
            home, game = self.fresh("home"), self.fresh("game")
            (game / "readme.txt").write_text("a game")
            self.oddstack(home, "game", "add", "bench", game)
            for number in range(layers):
                package = self.fresh("package")
                for index in range(files):
                    # Two layers that lie beside each other have the same addresses.
                    place = package / f"data/pair{number // 2:03}/{index % 40:02}"
                    place.mkdir(parents=True, exist_ok=True)
                    same = f"{index % 100}" if index % 10 else f"{number} {index % 100}"
                    ending = "ini" if index % 500 == 0 else "dat"
                    (place / f"file_{index:04}.{ending}").write_text(f"value={same}\n")
                name = f"layer{number:03}"
                self.oddstack(home, "add", package, "--name", name, "--lifted", *AS_IT_IS)
                self.drop(package)
            lay_all(home)
            title = f"conflicts among {layers} layers and {layers * files} entries"
            self.alone(title, lambda: self.oddstack(home, "conflicts"), target)
            self.drop(home, game)


def lay_all(home):
    """Marks all layers of the one ledger as laid, without writing a game of a million files."""
    catalogue = next(Path(home).glob("ledgers/*/catalogue.sqlite"))
    with sqlite3.connect(catalogue) as database:
        database.execute("UPDATE layer SET laid = 1")


def main():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--folder", default="/dev/shm" if os.path.isdir("/dev/shm") else tempfile.gettempdir())
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--only", action="append", default=[])
    parser.add_argument("--small", action="store_true")
    given = parser.parse_args()
    if not ODDSTACK.exists():
        sys.exit("build first: cargo build --release")
    bench = Bench(given.folder, given.rounds, given.small)
    print(f"in {bench.folder}, medians of {given.rounds}; ratios below 1 are faster than by hand")
    every = {
        "add-small": lambda: [bench.add("small", tool, target) for tool, target in (("unzip", 0.45), ("bsdtar", 0.75))],
        "add-big": lambda: [bench.add("big", tool, target) for tool, target in (("unzip", 0.6), ("bsdtar", 0.65))],
        "read-small": lambda: [bench.read("small", ending, target) for ending, target in READING],
        "read-big": lambda: [bench.read("big", ending, target) for ending, target in READING],
        "growth": bench.growth,
        "add-over": lambda: bench.add_over("big"),
        "lay": lambda: [bench.lay("small", 0.8), bench.lay("big", 0.05)],
        "lift": lambda: [bench.lift("small"), bench.lift("big")],
        "building": lambda: [bench.building("small"), bench.building("big")],
        "fit": bench.fit,
        "upgrade": bench.upgrade,
        "check": bench.check,
        "capture": bench.capture,
        "layers": bench.many_layers,
        "conflicts": bench.conflicts,
        "container": bench.container,
        "containers": bench.containers,
    }
    try:
        for name, measure in every.items():
            if not given.only or name in given.only:
                measure()
    finally:
        shutil.rmtree(bench.folder, ignore_errors=True)


if __name__ == "__main__":
    main()
