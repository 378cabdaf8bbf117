"""Faults for the lines that a change touches: those of the lists, and made ones where there is none."""

import re
import subprocess

# What is looked for in a line of code, and what stands there instead.
SWAPS = [
    (r" <= ", " < "), (r" < ", " <= "), (r" >= ", " > "), (r" > ", " >= "),
    (r" == ", " != "), (r" != ", " == "), (r" && ", " || "), (r" \|\| ", " && "),
    (r" \+ ", " - "), (r" - ", " + "), (r"\btrue\b", "false"), (r"\bfalse\b", "true"),
    (r"\bif \((?!auto|const|!?WEXLO)", "if (!"), (r"\b([1-9][0-9]*)\b", None),
]


def touched(root, revision):
    """File to line numbers: what stands there now and did not before."""
    said = subprocess.run(["git", "-C", root, "diff", "-U0", revision, "--", "core", "cli"],
                          capture_output=True, text=True, check=True).stdout
    lines, name = {}, None
    for line in said.splitlines():
        if line.startswith("+++ "):
            name = line[6:] if line.startswith("+++ b/") and line.endswith(".cpp") else None
        elif line.startswith("@@") and name:
            at, count = re.search(r"\+(\d+)(?:,(\d+))?", line).groups()
            lines.setdefault(name, set()).update(range(int(at), int(at) + int(count or 1)))
    return lines


def is_code(line):
    text = line.strip()
    return bool(text) and not text.startswith(("//", "#", "namespace", "using", "template", "/*", "*"))


def outside_strings(line):
    """The line with its texts and comments blanked, so that places in it stay where they are."""
    blank = re.sub(r'"(\\.|[^"\\])*"', lambda found: '"' + "_" * (len(found.group(0)) - 2) + '"', line)
    return re.sub(r"//.*", lambda found: " " * len(found.group(0)), blank)


def made(root, name, numbers):
    text = (root / name).read_text()
    lines = text.splitlines(keepends=True)
    start = 0
    for number, line in enumerate(lines, 1):
        if number in numbers and is_code(line):
            plain = outside_strings(line)
            for pattern, instead in SWAPS:
                found = re.search(pattern, plain)
                if not found or ("<" in pattern and "template" in line):
                    continue
                now = str(int(found.group(1)) + 1) if instead is None else instead
                changed = line[:found.start()] + now + line[found.end():]
                yield {"name": f"{name}:{number}:{found.start()}", "room": name.split("/")[-2], "file": name,
                       "line": number, "at": start, "was": line, "now": changed}
        start += len(line)


def faults(root, revision, lists, most):
    lines = touched(root, revision)
    out = [one for one in lists if one["line"] in lines.get(one["file"], ())]
    more = []
    for name, numbers in sorted(lines.items()):
        covered = {one["line"] for one in out if one["file"] == name}
        more += made(root, name, numbers - covered)
    # Evenly over the change, not only its beginning.
    step = max(1, -(-len(more) // most))
    return out + more[::step]
