#!/usr/bin/env python3
"""Puts small faults into the code, one at a time, and tells which of them the tests notice.

run.py BUILD [FILE|NAME ...] [--change [REVISION]] [--all] [--most N] [--table]

A fault is compiled by itself and linked before the libraries, so the tree and its build stay as they
are. The tests that the list names run first; a fault that they pass over gets all tests.
BUILD is a finished build with tests (build/release). Results are kept in build/mutants.
"""

import argparse
import concurrent.futures
import hashlib
import json
import os
import pathlib
import re
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import tomllib

import changed_lines

HERE = pathlib.Path(__file__).resolve().parent
ROOT = HERE.parent.parent
KEPT = ROOT / "build" / "mutants"
WANTED = 92  # Of a hundred, at least.


class Mistake(Exception):
    """In the list, not in the code: told by itself."""


def listed():
    """All faults of the lists, with the room (the folder under core, or cli) they are in."""
    out = []
    for page in sorted(HERE.glob("*.toml")):
        for one in tomllib.loads(page.read_text())["mutant"]:
            one["room"] = page.stem
            out.append(one)
    names = [one["name"] for one in out]
    for name in names:
        if names.count(name) > 1:
            raise Mistake(f"{name}: two faults have this name")
    return out


def mutated(one):
    text = (ROOT / one["file"]).read_text()
    if "at" in one:  # Made for a changed line: its place is known.
        return text[:one["at"]] + one["now"] + text[one["at"] + len(one["was"]):]
    found = text.count(one["was"])
    if found != 1:
        raise Mistake(f"{one['name']}: {one['file']} has {found} places like {one['was']!r}, not one")
    at = text.index(one["was"])
    one["line"] = text.count("\n", 0, at) + 1
    return text.replace(one["was"], one["now"])


class Build:
    """How the build compiles and links, asked from CMake and Ninja."""

    def __init__(self, folder):
        self.folder = folder
        self.compile = {entry["file"]: entry for entry in
                        json.loads((folder / "compile_commands.json").read_text())}
        self.link = {}
        for target in ("wexlo", "wexlo_tests"):
            said = subprocess.run(["ninja", "-C", folder, "-t", "commands", target],
                                  capture_output=True, text=True, check=True).stdout
            self.link[target] = said.rstrip("\n").split("\n")[-1]
        said = subprocess.run(["ctest", "--test-dir", folder, "--show-only=json-v1"],
                              capture_output=True, text=True, check=True).stdout
        self.tests = {}
        for test in json.loads(said)["tests"]:
            if test["name"].split("/")[0] in ("core", "program"):
                # By its own folder, so that a copy of a build serves, too.
                exe = folder / "tests" / pathlib.Path(test["command"][0]).name
                self.tests[test["name"]] = [str(exe), *test["command"][1:]]

    def object(self, source, text, into):
        entry = self.compile[str(ROOT / source)]
        copy = into / ("changed_" + pathlib.Path(source).name)
        copy.write_text(text)
        made = into / "changed.o"
        words = entry["command"].replace(str(ROOT / source), str(copy))
        words = re.sub(r" -o \S+", f" -o {made}", words).replace(" -Werror ", " ")
        words += f" -iquote {(ROOT / source).parent}"
        done = subprocess.run(words, shell=True, cwd=entry["directory"], capture_output=True, text=True)
        if done.returncode != 0:
            raise Mistake(f"does not compile: {done.stderr.strip().splitlines()[0][:200]}")
        return made

    def program(self, target, source, made, into):
        words = self.link[target]
        own = f"CMakeFiles/{target}.dir/"
        name = re.search(r" -o (\S+)", words).group(1)
        there = re.search(rf"\S*{re.escape(own + '/'.join(pathlib.Path(source).parts[1:]))}\.o", words)
        if there:
            words = words.replace(there.group(0), str(made), 1)
        else:
            # Before the libraries, whose own member of this name is then not asked for.
            first = re.search(r" \S+\.a ", words)
            words = words[:first.start()] + f" {made}" + words[first.start():]
        out = into / target
        words = words.replace(f" -o {name}", f" -o {out}", 1)
        done = subprocess.run(words, shell=True, cwd=self.folder, capture_output=True, text=True)
        if done.returncode != 0:
            raise Mistake(f"does not link: {done.stderr.strip().splitlines()[-2][:200]}")
        return out


def bounded():
    # A fault may ask for all there is: that is noticed, too.
    resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30))
    os.setsid()


def passes(command, environment, seconds):
    with tempfile.TemporaryFile() as out:
        child = subprocess.Popen(command, stdout=out, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL,
                                 env=environment, preexec_fn=bounded)
        try:
            code = child.wait(timeout=seconds)
        except subprocess.TimeoutExpired:
            code = None
        # Whatever it left running ends with it.
        try:
            os.killpg(child.pid, signal.SIGKILL)
        except ProcessLookupError:
            pass
        child.wait()
        return code == 0


def time_of(build):
    """Seconds of each test on the unchanged code: what is quick is asked first."""
    log = build.folder / "Testing" / "Temporary" / "CTestCostData.txt"
    times = {}
    if log.exists():
        for line in log.read_text().splitlines():
            words = line.split()
            if len(words) == 3:
                times[words[0]] = float(words[2])
    return times


def order(one, build, times, only_named):
    named = one.get("tests", "").split()
    for name in named:
        if name not in build.tests:
            raise Mistake(f"{one['name']}: no test is called {name}")
    rest = [name for name in build.tests if name not in named]
    rest.sort(key=lambda name: times.get(name, 10) * (3 if name.startswith("program") else 1))
    return named if only_named else named + rest


class Unchanged:
    """Whether a test passes without any fault: one that does not notices nothing."""

    def __init__(self, build, times):
        self.build, self.times, self.known, self.lock = build, times, {}, threading.Lock()

    def passes(self, name):
        with self.lock:
            if name not in self.known:
                with tempfile.TemporaryDirectory(prefix="unchanged-") as folder:
                    environment = dict(os.environ, TMPDIR=folder, TESTED_WEXLO=str(self.build.folder / "wexlo"))
                    self.known[name] = passes(self.build.tests[name], environment, limit(self.times, name))
            return self.known[name]


def limit(times, name):
    """Seconds after which a test does not end: many times what it takes alone."""
    return 30 + 8 * times.get(name, 20)


def tried(one, build, times, only_named, unchanged):
    """What the tests say of one fault: (state, what noticed it, seconds)."""
    began = time.time()
    with tempfile.TemporaryDirectory(prefix="mutant-") as folder:
        folder = pathlib.Path(folder)
        try:
            made = build.object(one["file"], mutated(one), folder)
            names = order(one, build, times, only_named)
            programs = {}

            def ready(target):
                if target not in programs:
                    programs[target] = build.program(target, one["file"], made, folder)
                return programs[target]

            environment = dict(os.environ, TMPDIR=str(folder / "tmp"))
            (folder / "tmp").mkdir()
            for name in names:
                command = list(build.tests[name]) + ["--abort-after=1"]
                if name.startswith("core"):
                    if one["file"].startswith("cli/"):
                        continue
                    command[0] = str(ready("wexlo_tests"))
                else:
                    environment["TESTED_WEXLO"] = str(ready("wexlo"))
                if not passes(command, environment, limit(times, name)):
                    if not unchanged.passes(name):
                        raise Mistake(f"{name} fails without the fault, too")
                    return "killed", name, time.time() - began
        except Mistake as told:
            return "mistake", str(told), time.time() - began
    return "survived", "", time.time() - began


def digest(one):
    told = hashlib.sha256()
    for part in (one["was"], one["now"], (ROOT / one["file"]).read_text()):
        told.update(part.encode() + b"\0")
    return told.hexdigest()


def table(faults, kept):
    rooms = {}
    for one in faults:
        row = rooms.setdefault(one["room"], [0, 0, 0, 0])
        row[0] += 1
        state = "same" if "same" in one else kept.get(one["name"], {}).get("state", "not tried")
        row[{"killed": 1, "same": 2}.get(state, 3)] += 1
    print("| room | faults | noticed | change nothing | passed over | % |\n|---|---|---|---|---|---|")
    rows = list(sorted(rooms.items()))
    rows.append(("all", [sum(row[i] for _, row in rows) for i in range(4)]))
    for room, (count, killed, same, left) in rows:
        share = 100 * killed // max(1, count - same)  # 99 and a half are not 100
        print(f"| {room} | {count} | {killed} | {same} | {left} | {share:.0f} |")
    equal = [one for one in faults if "same" in one]
    if equal:
        print("\nThese change nothing that could be seen:\n")
        for one in equal:
            print(f"- `{one['name']}` ({one['file']}): {one['same']}")
    return rows[-1][1]


def asked():
    reader = argparse.ArgumentParser(description="Puts small faults into the code: do the tests notice?")
    reader.add_argument("build", type=pathlib.Path)
    reader.add_argument("what", nargs="*", help="a source file, a folder of sources, or a fault's name")
    reader.add_argument("--change", nargs="?", const="HEAD~1", metavar="REVISION",
                        help="only lines that changed since (HEAD~1); faults are made for lines without one")
    reader.add_argument("--all", action="store_true", help="try those again that were noticed before")
    reader.add_argument("--named", action="store_true",
                        help="ask only the tests that the list names: quick, but survivors are not sure")
    reader.add_argument("--most", type=int, default=60, help="made faults at most (60)")
    reader.add_argument("--jobs", type=int, default=2)
    reader.add_argument("--table", action="store_true", help="only the table of what is known")
    return reader.parse_args()


def chosen(ask):
    faults = listed()
    for one in faults:
        mutated(one)
    if ask.change:
        faults = changed_lines.faults(ROOT, ask.change, faults, ask.most)
    if ask.what:
        faults = [one for one in faults if one["name"] in ask.what
                  or any(one["file"] == what or one["file"].startswith(what.rstrip("/") + "/")
                         for what in ask.what)]
    if not faults:
        raise Mistake("no fault fits what was asked for")
    return faults


def main():
    ask = asked()
    KEPT.mkdir(parents=True, exist_ok=True)
    page = KEPT / "results.json"
    kept = json.loads(page.read_text()) if page.exists() else {}
    faults = chosen(ask)
    if not ask.table:
        build = Build(ask.build.resolve())
        times = time_of(build)
        unchanged, lock = Unchanged(build, times), threading.Lock()

        def work(one):
            before = kept.get(one["name"], {})
            mark = digest(one)
            if not ask.all and before.get("state") == "killed" and before.get("digest") == mark:
                return
            state, by, seconds = tried(one, build, times, ask.named, unchanged)
            with lock:
                kept[one["name"]] = {"state": state, "by": by, "digest": mark}
                print(f"{state:9} {one['name']:44} {one['file']}:{one.get('line', 0)} {by} {seconds:.0f} s",
                      flush=True)
                page.write_text(json.dumps(kept, indent=1, sort_keys=True))

        todo = [one for one in faults if "same" not in one]
        with concurrent.futures.ThreadPoolExecutor(ask.jobs) as pool:
            for done in [pool.submit(work, one) for one in todo]:
                done.result()
    count, killed, same, left = table(faults, kept)
    for one in faults:
        told = kept.get(one["name"], {})
        if "same" not in one and told.get("state") != "killed":
            print(f"{told.get('state', 'not tried')}: {one['name']} {one['file']}:{one.get('line', 0)}\n"
                  f"    was {one['was'].strip()}\n    now {one['now'].strip()}\n    {told.get('by', '')}")
    return 0 if 100 * killed >= WANTED * (count - same) else 1


if __name__ == "__main__":
    try:
        sys.exit(main())
    except Mistake as told:
        print(told, file=sys.stderr)
        sys.exit(2)
