#!/usr/bin/env python3
"""Real kernels of Debian through Wexlo: unpack, change, repack, inspect. General tools judge what is
packed, and the changed kernels are started under emulation: their first line has the change in it.

    kernels.py BUILD_FOLDER WORK_FOLDER PROCESSOR=FILE...      (arm64, armhf, amd64; FILE.release beside it)
"""

import json
import pathlib
import shutil
import subprocess
import sys

# Of the banner: who built it.
BUILDER, CHANGED = b"(debian-kernel@", b"(wexlos-kernel@"
PACKINGS = {
    "plain": None,
    "gzip": (["gzip", "-9n"], ["gzip", "-dc"]),
    "lz4-legacy": (["lz4", "-l", "-9"], ["lz4", "-dc"]),
    "lz4-frame": (["lz4", "-9"], ["lz4", "-dc"]),
    "xz": (["xz", "--check=crc32"], ["xz", "-dc"]),
}
MACHINES = {
    "arm64": ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57"],
    "armhf": ["qemu-system-arm", "-M", "virt"],
}


def fail(text):
    sys.exit(f"kernel proof: {text}")


def pipe(words, data):
    return subprocess.run(words, input=data, stdout=subprocess.PIPE, check=True).stdout


class Proof:
    def __init__(self, build, work):
        self.build, self.work = build, work

    def wexlo(self, *words, code=0):
        done = subprocess.run([self.build / "wexlo", *words], cwd=self.work, capture_output=True, text=True)
        if done.returncode != code:
            fail(f"wexlo {' '.join(words)}: exit code {done.returncode}, not {code}\n{done.stdout}{done.stderr}")
        return done.stdout

    def image(self, kernel):
        (self.work / "k").write_bytes(kernel)
        subprocess.run([self.build / "tests/wexlo_make_image", "boot", "0", "k", "-", "k.img"],
                       cwd=self.work, check=True)

    def unpack(self, image, folder):
        shutil.rmtree(self.work / folder, ignore_errors=True)
        self.wexlo("unpack", image, "-o", folder)
        return self.work / folder

    def told(self, image, release, processor):
        """What inspect says of the kernel."""
        result = json.loads(self.wexlo("inspect", image, "--json"))["result"]
        text = json.dumps(result)
        for wanted in (release, processor):
            if f'"{wanted}"' not in text:
                fail(f"inspect does not say {wanted}: {text[:2000]}")

    def unchanged(self, name, kernel, release, processor):
        self.image(kernel)
        self.told("k.img", release, processor)
        parts = self.unpack("k.img", "parts")
        self.wexlo("repack", "parts", "-o", "again.img", "--force")
        if (self.work / "again.img").read_bytes() != (self.work / "k.img").read_bytes():
            fail(f"{name}: put together again it is not the same")
        return parts

    def changed(self, name, parts, release, grow):
        """Repacks with another builder in the banner; returns the plain kernel and its section."""
        place = parts / "kernel.image"
        plain = bytearray(place.read_bytes() if place.exists() else (parts / "kernel.bin").read_bytes())
        if BUILDER not in plain or b"Linux version " + release.encode() not in plain:
            fail(f"{name}: no banner in the plain kernel")
        plain = plain.replace(BUILDER, CHANGED) + bytes(grow)
        (place if place.exists() else parts / "kernel.bin").write_bytes(plain)
        self.wexlo("repack", "parts", "-o", "changed.img", "--force")
        again = self.unpack("changed.img", "parts-changed")
        made = again / ("kernel.image" if place.exists() else "kernel.bin")
        if made.read_bytes() != plain:
            fail(f"{name}: unpacked again it is not the changed kernel")
        return bytes(plain), (again / "kernel.bin").read_bytes()

    def starts(self, name, processor, kernel):
        """Without a ramdisk it ends in a panic, long after its first line."""
        (self.work / "started").write_bytes(kernel)
        words = [*MACHINES[processor], "-m", "512", "-display", "none", "-serial", "stdio", "-monitor",
                 "none", "-no-reboot", "-nic", "none", "-kernel", "started", "-append",
                 "console=ttyAMA0 panic=-1"]
        log = subprocess.run(words, cwd=self.work, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                             stderr=subprocess.STDOUT, timeout=200, check=False).stdout
        if CHANGED not in log:
            fail(f"{name}: started, it does not show the change:\n{log[-2000:].decode(errors='replace')}")
        print(f"kernel proof: {name}: the changed kernel starts")

    def arm64(self, plain, release):
        for packing, tools in PACKINGS.items():
            name = f"arm64 {packing}"
            parts = self.unchanged(name, pipe(tools[0], plain) if tools else plain, release, "arm64")
            fresh, section = self.changed(name, parts, release, 20_000)
            if tools and pipe(tools[1], section) != fresh:
                fail(f"{name}: the general tool unpacks something else")
            print(f"kernel proof: {name}: the same again; changed and larger, "
                  f"{'its general tool' if tools else 'Wexlo'} reads it")
            if packing == "gzip":
                self.starts(name, "arm64", section)

    def armhf(self, kernel, release):
        parts = self.unchanged("armhf", kernel, release, "arm")
        _, section = self.changed("armhf", parts, release, 0)
        print("kernel proof: armhf, a zImage: the same again; changed in its own room")
        self.starts("armhf zImage", "armhf", section)

    def amd64(self, kernel, release):
        self.unchanged("amd64", kernel, release, "x86_64")
        print("kernel proof: amd64, a bzImage: the same again")


def main():
    build, work = pathlib.Path(sys.argv[1]), pathlib.Path(sys.argv[2])
    proof = Proof(build, work)
    for one in sys.argv[3:]:
        processor, _, file = one.partition("=")
        kernel = pathlib.Path(file).read_bytes()
        release = pathlib.Path(file + ".release").read_text().strip()
        getattr(proof, processor)(kernel, release)
    print("kernel proof: passed")


main()
