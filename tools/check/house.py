#!/usr/bin/env python3
"""Whether the house stands as ARCHITECTURE.md says. Prints every fault with its place; exits with 1 on any.

- No circle of files in a crate. A file may use what its own folder's mod.rs says, and a mod.rs what its
  folder holds: that is containment, not a circle. A name that a mod.rs only passes on (`pub use`) counts as
  an import of the file that it comes from.
- Rooms look down only, in core and in web; no chapter knows another; tests may look anywhere.
- A file has at most 600 lines; a function at most 60, or the reason stands in a comment `// Long: ...` above it.
- A line of a template has at most 140 columns and at most one element that begins a block, of a
  drawing one shape.
- A path that ARCHITECTURE.md names is there.
- A crate uses every dependency that it names, and some crate every one of the workspace.

Usage: python3 tools/check/house.py [ROOT]
"""
import re
import sys
import tomllib
from pathlib import Path

LONGEST_FILE, LONGEST_FUNCTION, WIDEST_LINE = 600, 60, 140
# Rooms from the top floor down; rooms of one tuple stand on one floor and may not use each other.
FLOORS = {
    "core": [("explain", "codes"), ("tuning",), ("trial",), ("sound",), ("advice",), ("account",), ("installation",), ("sensors",), ("site",),
             ("controller",), ("weather", "ground"), ("quantity",)],
    "web": [("worker",), ("api", "chapters"), ("page",), ("site",), ("server",)],
}
# Folders whose rooms do not know each other.
APART = {"web": "chapters", "core": "advice"}
BLOCKS = ("address article aside blockquote dd details dialog div dl dt fieldset figure footer form h1 h2 h3 h4 "
          "header hr li main nav ol p section table tbody tfoot thead tr ul").split()
# Of a drawing every shape begins a line.
SHAPES = "circle defs ellipse g line path pattern polygon polyline rect svg text".split()


def module_of(source, path):
    """The path of a file's module, as a tuple."""
    parts = list(path.relative_to(source).with_suffix("").parts)
    if parts[-1] in ("mod", "lib", "main"):
        parts.pop()
    return tuple(parts)


def without_tests(text):
    """A file up to its unit tests, comments and strings taken out."""
    text = text.split("#[cfg(test)]\nmod tests", 1)[0]
    text = re.sub(r'"(?:\\.|[^"\\])*"', '""', text, flags=re.S)
    return re.sub(r"//[^\n]*", "", text)


def paths_of(tree):
    """Every path of a `use` tree, as lists of names, with the name that it is known by."""
    found = []

    def walk(before, text):
        text = text.strip()
        grouped = re.fullmatch(r"([\w:]*?)(?:::)?\{(.*)\}", text, re.S)
        if not grouped:
            path, _, alias = text.partition(" as ")
            names = before + [n for n in path.strip().split("::") if n]
            if names and names[-1] == "self":
                names.pop()
            found.append((names, alias.strip() or (names[-1] if names else "")))
            return
        before = before + [n for n in grouped.group(1).split("::") if n]
        depth, part = 0, ""
        for sign in grouped.group(2) + ",":
            depth += (sign == "{") - (sign == "}")
            if sign == "," and depth == 0:
                if part.strip():
                    walk(before, part)
                part = ""
            else:
                part += sign

    walk([], tree)
    return found


class Crate:
    """The modules of a crate and what each imports."""

    def __init__(self, source):
        self.source = source
        self.files = {module_of(source, p): p for p in sorted(source.rglob("*.rs"))}
        self.texts = {m: without_tests(p.read_text()) for m, p in self.files.items()}
        tests = {m for m, p in self.files.items() if re.search(r"#!?\[cfg\(test\)\]", p.read_text()[:200])}
        declared = re.compile(r"#\[cfg\(test\)\]\s*(?:pub(?:\([a-z]+\))? )?mod (\w+);")
        for module, path in self.files.items():
            tests |= {module + (name,) for name in declared.findall(path.read_text())}
        self.tests = tests
        self.passed_on = {m: self._passed_on(m) for m in self.files}

    def _absolute(self, module, names):
        if not names:
            return None
        first, base = names[0], list(module)
        if first == "crate":
            return names[1:]
        if first in ("self", "super"):
            while names and names[0] in ("self", "super"):
                base = base[:-1] if names[0] == "super" else base
                names = names[1:]
            return base + names
        return base + names if module + (first,) in self.files else None

    def _passed_on(self, module):
        out = {}
        for tree in re.findall(r"\bpub(?:\([a-z]+\))? use\s+([^;]+);", self.texts[module]):
            for names, known_as in paths_of(tree):
                full = self._absolute(module, names)
                if full:
                    out[known_as] = full
        return out

    def _file_of(self, full, seen=()):
        """The module whose file a path ends in, through names that are only passed on."""
        for length in range(len(full), -1, -1):
            module = tuple(full[:length])
            if module in self.files:
                rest = full[length:]
                on = self.passed_on.get(module, {}).get(rest[0]) if rest else None
                if on and (module, rest[0]) not in seen:
                    return self._file_of(on + rest[1:], seen + ((module, rest[0]),))
                return module
        return ()

    def imports(self):
        """Module to the modules that it uses."""
        arrows = {}
        for module, text in self.texts.items():
            if module in self.tests:
                continue
            passed = re.compile(r"\bpub(?:\([a-z]+\))? use\s+[^;]+;")
            text = passed.sub("", text)
            used = [names for tree in re.findall(r"\buse\s+([^;]+);", text) for names, _ in paths_of(tree)]
            used += [p.split("::") for p in re.findall(r"\b(?:crate|super)(?:::\w+)+", re.sub(r"\buse\s+[^;]+;", "", text))]
            for names in used:
                full = self._absolute(module, names)
                target = self._file_of(full) if full else module
                if target != module and target not in self.tests:
                    arrows.setdefault(module, set()).add(target)
        return arrows


def family(a, b):
    """Whether one of two modules is the folder of the other."""
    return a[: len(b)] == b or b[: len(a)] == a


def circles(arrows):
    """Groups of modules that reach each other."""
    index, low, stack, found = {}, {}, [], []
    sys.setrecursionlimit(10_000)

    def visit(node):
        index[node] = low[node] = len(index)
        stack.append(node)
        for other in sorted(arrows.get(node, ())):
            if other not in index:
                visit(other)
                low[node] = min(low[node], low[other])
            elif other in stack:
                low[node] = min(low[node], index[other])
        if low[node] == index[node]:
            group = []
            while True:
                group.append(stack.pop())
                if group[-1] == node:
                    break
            if len(group) > 1:
                found.append(sorted(group))

    for node in sorted(arrows):
        if node not in index:
            visit(node)
    return found


def check_crate(name, source):
    faults = []
    crate = Crate(source)
    arrows = crate.imports()
    say = lambda m: "/".join(m) or "lib"
    apart = {m: {t for t in targets if not family(m, t)} for m, targets in arrows.items()}
    for group in circles(apart):
        faults.append(f"{name}: a circle of files: {', '.join(say(m) for m in group)}")
    floors = FLOORS.get(name, [])
    floor = {room: i for i, rooms in enumerate(floors) for room in rooms}
    for module, targets in sorted(arrows.items()):
        for target in sorted(targets):
            if not module or not target:
                continue
            a, b = module[0], target[0]
            if a != b and a in floor and b in floor and floor[b] <= floor[a]:
                faults.append(f"{name}: {say(module)} looks up to {say(target)}")
            folder = APART.get(name)
            if a == b == folder and len(module) > 1 and len(target) > 1 and module[1] != target[1]:
                faults.append(f"{name}: {say(module)} knows {say(target)}")
    for module in crate.files:
        if floors and module and module[0] not in floor and module not in crate.tests:
            faults.append(f"{name}: {say(module)} stands in no room")
    return faults


def check_lengths(root, path):
    faults, lines = [], path.read_text().split("\n")
    where = path.relative_to(root)
    if len(lines) - 1 > LONGEST_FILE:
        faults.append(f"{where}: {len(lines) - 1} lines; a file has at most {LONGEST_FILE}")
    start = re.compile(r"^(\s*)(?:pub(?:\([a-z]+\))? )?(?:const )?(?:async )?fn (\w+)")
    for number, line in enumerate(lines):
        begins = start.match(line)
        if not begins or line.rstrip().endswith(";"):
            continue
        end = next((n for n in range(number, len(lines)) if lines[n] == begins.group(1) + "}"), number)
        above = number
        while above > 0 and re.match(r"\s*(#\[|//)", lines[above - 1]):
            above -= 1
        excused = any("// Long: " in text for text in lines[above:number])
        if end - number + 1 > LONGEST_FUNCTION and not excused:
            faults.append(f"{where}:{number + 1}: {begins.group(2)} has {end - number + 1} lines without a reason")
    return faults


def check_parameters(root, path):
    """A parameter that is taken apart where it is declared has no name: two parameters say more, or a struct."""
    faults, text = [], path.read_text()
    for begins in re.finditer(r"\bfn (\w+)\s*(?:<[^>(]*>)?\s*\(", text):
        depth, end = 1, begins.end()
        while depth and end < len(text):
            depth += (text[end] == "(") - (text[end] == ")")
            end += 1
        parameters = text[begins.end() : end - 1]
        if re.search(r"(?:^|,)\s*\((?:[^()]|\([^()]*\))*\)\s*:\s*&?\(", parameters):
            number = text[: begins.start()].count("\n") + 1
            faults.append(f"{path.relative_to(root)}:{number}: {begins.group(1)} takes a tuple apart; name its parts")
    return faults


def check_template(root, path):
    faults = []
    blocks = SHAPES if path.suffix == ".svg" else BLOCKS
    block = re.compile(rf"<(?:{'|'.join(blocks)})[\s/>]")
    for number, line in enumerate(path.read_text().split("\n"), 1):
        where = f"{path.relative_to(root)}:{number}"
        if len(line) > WIDEST_LINE:
            faults.append(f"{where}: {len(line)} columns; a line has at most {WIDEST_LINE}")
        if len(block.findall(line)) > 1:
            faults.append(f"{where}: more than one element begins here")
    return faults


def check_page(root):
    """The paths of ARCHITECTURE.md: from the root, or from crates/ with src/ left out."""
    page = root / "ARCHITECTURE.md"
    if not page.exists():
        return []
    faults, seen = [], set()
    for line in page.read_text().split("\n"):
        folder = None
        for path in re.findall(r"`([\w./-]+)`", line):
            first, _, rest = path.partition("/")
            if not rest and not (folder and path.endswith(".rs")):
                continue
            places = [root / path, root / "crates" / first / "src" / rest, root / "crates" / path]
            if not rest:
                places = [folder / path]
            found = next((place for place in places if place.exists()), None)
            if found is None and path not in seen:
                faults.append(f"ARCHITECTURE.md: {path} is not there")
                seen.add(path)
            if found is not None and found.is_dir():
                folder = found
    return faults


def check_claims(root):
    """Each claim of docs/asvs.md that is met names tests that exist, or says why there is none."""
    page = root / "docs" / "asvs.md"
    if not page.exists():
        return []
    tests = set()
    for path in root.glob("crates/**/*.rs"):
        tests.update(re.findall(r"#\[(?:actix_web::)?test\][^{]*?fn (\w+)\(", path.read_text()))
        # Property tests are declared by a macro.
        tests.update(re.findall(r"fn (\w+)\([^)]* in ", path.read_text()))
    faults = []
    for number, line in enumerate(page.read_text().split("\n"), 1):
        cells = [cell.strip() for cell in line.strip("|").split("|")]
        if not line.startswith("| ") or len(cells) != 4 or cells[0] == "requirement":
            continue
        held = cells[3]
        named = [name for name in re.findall(r"`([a-z0-9_]+)`", held) if name.count("_") > 0 or name in tests]
        faults += [f"docs/asvs.md:{number}: there is no test {name}" for name in named if name not in tests and name != "unsafe_code"]
        if cells[1] == "met" and not named and not held.startswith("no test: "):
            faults.append(f"docs/asvs.md:{number}: no test holds this, and no reason is given")
    return faults


def check_dependencies(root):
    """A dependency that no file of its crate names is built for nothing."""
    faults, named = [], set()
    for manifest in sorted(root.glob("crates/*/Cargo.toml")):
        text = "".join(path.read_text() for path in manifest.parent.rglob("*.rs"))
        known = tomllib.loads(manifest.read_text())
        for section in ("dependencies", "dev-dependencies", "build-dependencies"):
            for name in known.get(section, {}):
                named.add(name)
                if not re.search(rf"\b{name.replace('-', '_')}\b", text):
                    faults.append(f"{manifest.relative_to(root)}: nothing uses {name}")
    whole = tomllib.loads((root / "Cargo.toml").read_text()) if (root / "Cargo.toml").exists() else {}
    unused = set(whole.get("workspace", {}).get("dependencies", {})) - named
    return faults + [f"Cargo.toml: no crate uses {name}" for name in sorted(unused)]


def check(root):
    faults = check_page(root) + check_claims(root) + check_dependencies(root)
    for source in sorted(root.glob("crates/*/src")):
        faults += check_crate(source.parent.name, source)
    for path in sorted(root.glob("crates/**/*.rs")):
        faults += check_lengths(root, path) + check_parameters(root, path)
    for path in sorted([*root.glob("crates/**/*.html"), *root.glob("crates/*/src/**/*.svg")]):
        faults += check_template(root, path)
    return faults


def main():
    root = Path(sys.argv[1] if len(sys.argv) > 1 else ".").resolve()
    faults = check(root)
    for fault in faults:
        print(fault)
    print(f"{len(faults)} faults of the house" if faults else "The house stands.", file=sys.stderr)
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
