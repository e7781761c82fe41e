"""Small faults put into the program one by one: do its tests notice?

``make mutants`` tries a sample of every layer; ``python -m tools.mutants store --faults 40`` one
of them. First the tests without browsers run once and tell which of them run which line, and how
long each takes; then each fault is tried in a forked process by the tests that run its line,
those first that tell most in least time. A fault is a comparison, an operator, a number, a
condition or a jump changed; sentences are left alone. They are drawn evenly over a layer's
modules, the same ones every time. Survivors are listed in ``var/survivors.txt``.
"""

from __future__ import annotations

import argparse
import ast
import contextlib
import copy
import hashlib
import importlib
import importlib.abc
import importlib.machinery
import json
import os
import pickle
import random
import signal
import subprocess
import sys
import tempfile
import unittest
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType

import coverage

ROOT = Path(__file__).parents[1]
#: Folders whose modules are looked at, by the name of their layer.
LAYERS = {
    "assessing": "core/assessing", "judging": "core/judging", "measuring": "core/measuring",
    "practising": "core/practising", "store": "store", "studio": "studio", "web": "web",
}  # fmt: skip
TESTS = ("tests.core", "tests.store", "tests.studio", "tests.web", "tests.interchange",
         "tests.drawing", "tests.photos")  # fmt: skip
KEPT = ROOT / "var" / "mutants"
#: So long a fault is looked for, s: what these tests leave counts as survived.
LONGEST_S = 120.0
#: A fault may make a loop endless; that counts as noticed.
ENDLESS_S = 400
#: So many of the faults that are tried must be noticed, of each layer.
LEAST = 0.85
SEED = 7
#: Smaller numbers keep divisions from zero and loops from running on: a quarter more is the same.
TOLERANCE = 2e-6

COMPARISONS: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
OPERATORS: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.Pow: ast.Mult,
    ast.FloorDiv: ast.Div, ast.Mod: ast.Mult, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip


@dataclass(frozen=True)
class Mutant:
    """One fault: the module, which node in the order of a walk, and what it does."""

    module: str
    path: Path
    index: int
    line: int
    words: str


def faulty(node: ast.AST) -> tuple[ast.AST, str] | None:
    """A changed copy of a node and what was changed; None where there is nothing to change."""
    new = copy.deepcopy(node)
    match new:
        case ast.Compare(ops=[op, *_]) if type(op) in COMPARISONS:
            other = COMPARISONS[type(op)]()
            new.ops[0] = other
            return new, f"{type(op).__name__} becomes {type(other).__name__}"
        case ast.BinOp(op=op) if type(op) in OPERATORS:
            new.op = OPERATORS[type(op)]()
            return new, f"{type(op).__name__} becomes {type(new.op).__name__}"
        case ast.BoolOp(op=op):
            new.op = ast.Or() if isinstance(op, ast.And) else ast.And()
            return new, f"{type(op).__name__} becomes {type(new.op).__name__}"
        case ast.UnaryOp(op=ast.Not() | ast.USub()):
            return new.operand, f"{type(new.op).__name__} is dropped"
        case ast.Constant(value=bool() as value):
            new.value = not value
            return new, f"{value} becomes {new.value}"
        case ast.Constant(value=int() as value):
            new.value = value + 1
            return new, f"{value} becomes {new.value}"
        case ast.Constant(value=float() as value) if 0.0 < abs(value) < TOLERANCE:
            return None
        case ast.Constant(value=float() as value):
            new.value = value * 1.25 if value else 0.5
            return new, f"{value} becomes {new.value}"
        case ast.Continue():
            return ast.copy_location(ast.Break(), new), "continue becomes break"
        case ast.Break():
            return ast.copy_location(ast.Continue(), new), "break becomes continue"
        case (
            ast.If(test=ast.Name() | ast.Attribute() | ast.Call())
            | ast.IfExp(test=ast.Name() | ast.Attribute() | ast.Call())
        ):
            new.test = ast.UnaryOp(ast.Not(), new.test)
            return new, "condition is turned round"
    return None


def touchable(tree: ast.Module) -> Iterator[ast.AST]:
    """Nodes that do something, in the order of a walk: no annotations, decorators, texts."""
    hidden: set[int] = set()
    for node in ast.walk(tree):
        parts: list[ast.AST | None] = []
        if isinstance(node, ast.FunctionDef):
            parts = [*node.decorator_list, node.returns]
        elif isinstance(node, ast.ClassDef):
            parts = [*node.decorator_list, *node.keywords]
        elif isinstance(node, ast.arg | ast.AnnAssign):
            parts = [node.annotation]
        elif isinstance(node, ast.keyword) and node.arg == "strict":
            # Says that lengths are equal; where they are it changes nothing.
            parts = [node.value]
        elif isinstance(node, ast.JoinedStr):
            parts = [v.format_spec for v in node.values if isinstance(v, ast.FormattedValue)]
        for part in parts:
            if part is not None:
                hidden |= {id(n) for n in ast.walk(part)}
    for node in ast.walk(tree):
        if id(node) not in hidden:
            yield node


def mutants_of(layer: str, draw: int = SEED) -> list[Mutant]:
    """Every fault there is for a layer, shuffled within modules and dealt out in turn."""
    by_module = []
    for path in sorted((ROOT / "dachi" / LAYERS[layer]).rglob("[!_]*.py")):
        module = ".".join(path.relative_to(ROOT).with_suffix("").parts)
        tree = ast.parse(path.read_text("utf-8"))
        own = []
        for index, node in enumerate(touchable(tree)):
            changed = faulty(node)
            if changed is not None:
                line = getattr(node, "lineno", 0)
                own.append(Mutant(module, path, index, line, changed[1]))
        seed = int(hashlib.sha256(f"{draw}{module}".encode()).hexdigest()[:8], 16)
        random.Random(seed).shuffle(own)
        by_module.append(own)
    total = sum(len(own) for own in by_module)
    dealt: list[tuple[float, Mutant]] = []
    for own in by_module:
        dealt += [((i + 0.5) / len(own) if own else 0.0, m) for i, m in enumerate(own)]
    found = [m for _, m in sorted(dealt, key=lambda d: d[0])]
    assert len(found) == total
    return found


def source_with(mutant: Mutant) -> ast.Module:
    """The module's tree with the fault in it."""
    tree = ast.parse(mutant.path.read_text("utf-8"))
    wanted = list(touchable(tree))[mutant.index]
    changed = faulty(wanted)
    assert changed is not None
    new = changed[0]

    class Swap(ast.NodeTransformer):
        def visit(self, node: ast.AST) -> ast.AST:
            return new if node is wanted else super().generic_visit(node)

    Swap().visit(tree)
    return ast.fix_missing_locations(tree)


class Faulty(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Hands out one module with its fault."""

    def __init__(self, mutant: Mutant) -> None:
        self.mutant = mutant
        self.code = compile(source_with(mutant), str(mutant.path), "exec")

    def find_spec(
        self, name: str, path: object = None, target: object = None
    ) -> importlib.machinery.ModuleSpec | None:
        """Answer for the one module only."""
        if name != self.mutant.module:
            return None
        return importlib.machinery.ModuleSpec(name, self, origin=str(self.mutant.path))

    def exec_module(self, module: ModuleType) -> None:
        """Run the faulty code."""
        exec(self.code, module.__dict__)


@dataclass(frozen=True)
class Known:
    """Which tests run which lines, and how long each takes, s."""

    lines: dict[str, dict[int, list[str]]]
    seconds: dict[str, float]

    def about(self, mutant: Mutant) -> list[str]:
        """The tests that run a fault's line, those first that tell most in least time.

        Classes take turns: tests of one class mostly look at the same thing. A line that is run
        as its module is loaded is any test's that enters the module.
        """
        own = self.lines.get(str(mutant.path), {})
        goes = Counter(t for tests in own.values() for t in tests)
        found = (set(own.get(mutant.line, ())) or set(goes)) & self.seconds.keys()
        # Who goes through more of the module is more likely to be about it.
        best = sorted(found, key=lambda t: (-goes[t] / (0.5 + self.seconds[t]), t))
        turns: Counter[str] = Counter()
        place = {}
        for test in best:
            owner = test.rpartition(".")[0]
            place[test] = turns[owner]
            turns[owner] += 1
        return sorted(best, key=lambda t: place[t])


def look(again: bool) -> Known:
    """Run the tests once, noticing who runs what; what was noticed before, if it is there."""
    file = KEPT / "known.pickle"
    if again or not file.exists():
        KEPT.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix="dachi-mutants-") as folder:
            done = subprocess.run(
                [sys.executable, "-m", "tests", "--coverage", *TESTS],
                cwd=ROOT, env=os.environ | {"DACHI_COVERAGE_KEPT": folder},
            )  # fmt: skip
            if done.returncode != 0:
                raise SystemExit("the tests fail without any fault")
            data = coverage.CoverageData(f"{folder}/coverage")
            data.read()
            lines = {
                path: {
                    line: [c for c in contexts if c]
                    for line, contexts in data.contexts_by_lineno(path).items()
                }
                for path in data.measured_files()
            }
            seconds = json.loads(Path(folder, "seconds.json").read_text("utf-8"))
        file.write_bytes(pickle.dumps(Known(lines, seconds)))
    found: Known = pickle.loads(file.read_bytes())
    return found


def survives(mutant: Mutant, tests: Sequence[str], seconds: Mapping[str, float]) -> bool:
    """Run tests on a fault in this process; True where all pass, as far as there was time."""
    sys.meta_path.insert(0, Faulty(mutant))
    quiet = os.open(os.devnull, os.O_WRONLY)
    for stream in (1, 2):
        os.dup2(quiet, stream)
    spent = 0.0
    for test in tests:
        spent += seconds[test]
        if spent > LONGEST_S and spent > seconds[test]:
            return True
        try:
            suite = unittest.defaultTestLoader.loadTestsFromName(test)
            result = unittest.TestResult()
            suite.run(result)
        except Exception:
            # A fault that keeps the tests from even loading is noticed.
            return False
        if not result.wasSuccessful():
            return False
    return True


def begin(mutant: Mutant, tests: Sequence[str], seconds: Mapping[str, float]) -> int:
    """Fork a process that tries one fault; its exit status is 0 where it survives."""
    child = os.fork()
    if child == 0:
        signal.alarm(ENDLESS_S)
        status = 1
        try:
            status = 0 if survives(mutant, tests, seconds) else 1
        finally:
            os._exit(status)
    return child


def preload() -> None:
    """Load what takes long to import, and nothing of ours."""
    for name in ("numpy", "scipy.optimize", "scipy.stats", "cv2", "PIL.Image", "hypothesis",
                 "msgspec", "flask", "flask_login", "flask_wtf", "flask_limiter", "waitress",
                 "argon2", "fpdf"):  # fmt: skip
        with contextlib.suppress(ImportError):
            importlib.import_module(name)


def examine(
    layer: str, known: Known, most: int, draw: int = SEED, workers: int = 2
) -> tuple[int, list[Mutant], int]:
    """Try faults: how many were tried, which survived, how many there are."""
    every = mutants_of(layer, draw)
    waiting = iter(every[:most])
    running: dict[int, Mutant] = {}
    tried = 0
    survivors: list[Mutant] = []
    while True:
        while len(running) < workers and (mutant := next(waiting, None)) is not None:
            running[begin(mutant, known.about(mutant), known.seconds)] = mutant
        if not running:
            return tried, survivors, len(every)
        pid, status = os.wait()
        mutant = running.pop(pid)
        tried += 1
        if status == 0:
            survivors.append(mutant)


def main(arguments: Sequence[str] | None = None) -> int:
    """Examine layers and print a table; 1 where too few faults are noticed in one of them."""
    parser = argparse.ArgumentParser(prog="mutants", description=__doc__)
    parser.add_argument("layer", nargs="*", choices=(*LAYERS, []), default=[])
    parser.add_argument("--faults", type=int, default=60, help="at most, of each layer")
    parser.add_argument(
        "--draw", type=int, default=SEED, help="another sample: what tests were not written for"
    )
    parser.add_argument("--known", action="store_true", help="who runs what is as last time")
    args = parser.parse_args(arguments)
    known = look(again=not args.known)
    preload()
    bad = False
    listed: list[str] = []
    print(f"{'layer':12} faults tried noticed")
    for layer in args.layer or LAYERS:
        tried, survivors, total = examine(layer, known, args.faults, args.draw)
        share = 1 - len(survivors) / max(tried, 1)
        bad |= share < LEAST
        print(f"{layer:12} {total:6} {tried:5} {share:7.1%}", flush=True)
        for m in sorted(survivors, key=lambda m: (m.module, m.line)):
            line = m.path.read_text("utf-8").splitlines()[m.line - 1].strip()
            listed.append(f"{m.path.relative_to(ROOT)}:{m.line}: {m.words}   | {line}")
        (ROOT / "var" / "survivors.txt").write_text("\n".join(listed) + "\n", "utf-8")
    return 1 if bad else 0


if __name__ == "__main__":
    raise SystemExit(main())
